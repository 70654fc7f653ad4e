package field

import (
	"context"
	"errors"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"ferry/internal/core/exchange"
)

// Socket is a TCP connection that is opened anew where the far end has ended it
// between two questions, as many devices do after each answer, or after a while
// in which nothing was asked.
type Socket struct {
	ctx  context.Context
	open func() (net.Conn, error)
	now  atomic.Pointer[net.Conn]
	stop func() bool
	// Manner is how the far end is known to answer.
	Manner exchange.Manner
	// Answers counts those since it was opened, last is when the last came, and
	// curt how often in a row it was ended behind a single one.
	Answers int
	last    time.Time
	curt    int
	// atOnce is set where the last connection that was looked at in the quiet behind its
	// first answer had been ended already.
	atOnce atomic.Bool
	// turn counts the quiet times, gone is when the connection was seen ended in the one
	// that is now, in nanoseconds since 1970, and hungUpAt in the one before.
	turn     atomic.Int64
	gone     atomic.Int64
	hungUpAt time.Time
	redone   int
}

// soonAfter is how long after an answer a far end has ended the connection that ends it
// after each.
const soonAfter = 150 * time.Millisecond

// idle is after how long without an answer it is worth a look whether the far
// end is still there.
const idle = 40 * time.Millisecond

// dozing is the shortest quiet time after which a connection is ended because
// of it.
const dozing = time.Second

// NewSocket opens a TCP connection. Connecting may take longer than answering: a
// lost first segment is sent again only after a second. greet, if set, does over it
// what comes before the first question, each time that it is opened.
func NewSocket(ctx context.Context, t Target, limit time.Duration, greet func(net.Conn) error) (*Socket, error) {
	dialer := net.Dialer{Timeout: max(limit, 1500*time.Millisecond), Control: t.Control}
	s := &Socket{ctx: ctx, Manner: t.Manner, stop: func() bool { return true }}
	s.open = func() (net.Conn, error) {
		c, err := dialer.DialContext(ctx, "tcp", t.Dial)
		if err == nil && greet != nil {
			stop := context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Unix(1, 0)) })
			err = greet(c)
			if stop(); err != nil {
				_ = c.Close() // why it cannot be used says more
			}
		}
		return c, err
	}
	return s, s.Reopen()
}

// Reopen ends the connection and opens it anew.
func (s *Socket) Reopen() error {
	s.turn.Add(1)
	if s.now.Load() != nil {
		s.stop()
		_ = s.Conn().Close() // the far end has ended it already
	}
	c, err := s.open()
	if errors.Is(err, syscall.ECONNREFUSED) && s.now.Load() != nil {
		// A device of one connection may need a moment to have it free again.
		select {
		case <-time.After(150 * time.Millisecond):
			c, err = s.open()
		case <-s.ctx.Done():
		}
	}
	if err != nil {
		return err
	}
	s.now.Store(&c)
	s.Answers, s.last = 0, time.Now()
	struck := make(chan struct{})
	stop := context.AfterFunc(s.ctx, func() {
		_ = c.SetDeadline(time.Unix(1, 0))
		close(struck)
	})
	s.stop = sync.OnceValue(func() bool {
		if stop() {
			return true
		}
		<-struck
		return false
	})
	return nil
}

// Settle has the end of the run interrupt the connection no more: what is set on it from
// then on holds.
func (s *Socket) Settle() { s.stop() }

// Conn is the connection as it is now.
func (s *Socket) Conn() net.Conn { return *s.now.Load() }

// Close ends it.
func (s *Socket) Close() error {
	s.turn.Add(1)
	s.stop()
	return s.Conn().Close()
}

// Answered notes that an answer came.
func (s *Socket) Answered(at time.Time) {
	s.Answers++
	s.last = at
	if s.curt > 0 || s.Manner&exchange.Dozes != 0 {
		s.watch(s.Conn(), at)
	}
	if s.Answers > 1 {
		s.curt = 0
		s.Manner &^= exchange.HangsUp
	} else if s.curt > 0 {
		c := s.Conn()
		time.AfterFunc(soonAfter, func() { s.atOnce.Store(hungUp(c)) })
	}
}

// Ready makes sure that the far end is there, as far as can be told without
// asking: a connection that it has ended is opened anew. anew is set where it
// was.
func (s *Socket) Ready() (anew bool, err error) {
	if s.Answers == 0 || s.Manner&exchange.HangsUp == 0 && time.Since(s.last) < idle || !hungUp(s.Conn()) {
		return false, nil
	}
	s.ended()
	if at := s.gone.Load(); at != 0 {
		s.hungUpAt = time.Unix(0, at)
	}
	return true, s.Reopen()
}

// HungUpAt is when the far end had ended the connection in the quiet before the last
// question, as far as that was seen; zero for not. It is told once.
func (s *Socket) HungUpAt() time.Time {
	at := s.hungUpAt
	s.hungUpAt = time.Time{}
	return at
}

// watchEvery is how often it is looked at first whether a far end that ends quiet
// connections has done so; after a while a twentieth of the quiet time.
const watchEvery = 20 * time.Millisecond

// watch looks when the far end ends a connection on which nothing is said since a time.
func (s *Socket) watch(c net.Conn, since time.Time) {
	turn := s.turn.Add(1)
	s.gone.Store(0)
	var look func()
	look = func() {
		switch {
		case s.turn.Load() != turn || s.ctx.Err() != nil:
		case hungUp(c):
			s.gone.Store(time.Now().UnixNano())
		default:
			time.AfterFunc(max(watchEvery, time.Since(since)/20), look)
		}
	}
	time.AfterFunc(watchEvery, look)
}

// ended notes that the far end has ended the connection between two questions.
func (s *Socket) ended() {
	switch quiet := time.Since(s.last); {
	case s.Answers == 1:
		if s.curt++; s.curt <= 1 {
			return
		}
		if quiet < soonAfter || s.atOnce.Load() {
			s.Manner = s.Manner&^exchange.Dozes | exchange.HangsUp
		} else {
			s.Manner = s.Manner&^exchange.HangsUp | exchange.Dozes
		}
	case s.Answers > 1 && quiet >= dozing:
		s.Manner |= exchange.Dozes
	}
}

// Again reports whether a question that failed may be asked once more over a
// new connection: the far end had ended this one behind its last answer, or in
// the quiet since, and the question went to nobody.
func (s *Socket) Again(err error) bool {
	if s.Answers != 1 && (s.Answers == 0 || time.Since(s.last) < dozing) || s.ctx.Err() != nil ||
		!(errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE)) {
		return false
	}
	if time.Since(s.last) < idle { // it was not looked at before the question
		s.ended()
	}
	return s.Reopen() == nil
}

// redoneLeast is how often a question must have been put once more until that is told: how
// a far end ends connections is known by then, where it is its way.
const redoneLeast = 3

// Redone is the cause of an answer to a question that was put once more: none where the
// far end is known to end connections so.
func (s *Socket) Redone() exchange.Cause {
	if s.redone++; s.redone < redoneLeast || s.Manner&(exchange.HangsUp|exchange.Dozes) != 0 {
		return ""
	}
	return exchange.Redone
}
