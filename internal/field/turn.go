package field

import (
	"context"
	"sync"
	"time"

	"ferry/internal/core/exchange"
)

// Turn has one question at a time asked over a connection, by who owns it or by who polls, and keeps what goes
// over the connection meanwhile.
type Turn struct {
	taken chan struct{}

	mu     sync.Mutex
	tape   Tape
	asks   context.Context    // of who has the turn
	breaks context.CancelFunc // ends the question of who owns the connection
}

// NewTurn is one that nobody has; what goes over the connection until somebody does is that of its beginning.
func NewTurn() *Turn {
	t := &Turn{taken: make(chan struct{}, 1), asks: context.Background()}
	t.tape.Begin()
	return t
}

// Hold waits for the turn until a context or the connection ends, and reports whether it has it now.
func (t *Turn) Hold(ctx context.Context, ended <-chan struct{}) bool {
	select {
	case t.taken <- struct{}{}:
	case <-ctx.Done():
		return false
	case <-ended:
		return false
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.asks = ctx
	t.tape.Begin()
	return true
}

// Told gives a reply what went over the connection since the turn began, and when that was.
func (t *Turn) Told(reply *Reply) {
	t.mu.Lock()
	defer t.mu.Unlock()
	reply.Frames, reply.SentAt = t.tape.Frames(), t.tape.Began()
}

// Release is as Told, and lets others have the turn.
func (t *Turn) Release(reply *Reply) {
	t.Told(reply)
	<-t.taken
}

// Own runs a question of who owns the connection, until Break ends it. over says how the connection ended, where it
// has.
func (t *Turn) Own(life context.Context, ended <-chan struct{}, over func() Reply,
	question func(ctx context.Context) Reply) (reply Reply) {
	ctx, cancel := context.WithCancel(life)
	defer cancel()
	t.mu.Lock()
	t.breaks = cancel
	t.mu.Unlock()
	if !t.Hold(ctx, ended) {
		select {
		case <-ended:
			return over()
		default:
			return Failure(ErrCalledOff, false)
		}
	}
	defer t.Release(&reply)
	return question(ctx)
}

// Break ends the question of who owns the connection.
func (t *Turn) Break() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.breaks != nil {
		t.breaks()
	}
}

// Broken is closed once the question under way is to end.
func (t *Turn) Broken() <-chan struct{} {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.asks.Done()
}

// Out notes octets that went out, In some that came; late are those that answer an earlier question.
func (t *Turn) Out(at time.Time, octets []byte) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.tape.Out(at, octets)
}

// In is as Out.
func (t *Turn) In(at time.Time, octets []byte, late bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.tape.In(at, octets, late)
}

// Frames are what went over the connection since the turn began.
func (t *Turn) Frames() []exchange.Frame {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.tape.Frames()
}
