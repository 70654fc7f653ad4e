package field

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"sync/atomic"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/route"
)

// Asking is a TCP connection over which one question is under way at a time: what drivers
// share whose questions and answers are frames of a known length. It keeps what went over
// the connection, opens it anew where the far end has ended it in the quiet, and tells
// silence from an end and from nonsense.
type Asking struct {
	ctx  context.Context
	sock *Socket
	now  net.Conn // over which it asks
	// Limit is how long an answer may take.
	Limit time.Duration
	// Length returns the length of the frame that begins with b, 0 if not enough has come
	// to tell, and an error where none begins there.
	Length func(b []byte) (int, error)
	// Tape is what went over the connection for the question.
	Tape Tape
	// Request is what is sent next, or was sent last.
	Request []byte
	// Came is when octets came last, Sent when the request went.
	Came, Sent time.Time
	// Late is how long a late answer took that came meanwhile, in milliseconds; the driver
	// finds it out.
	Late float64
	// Slow is set where the first answer over the connection was slower than the time
	// limit, and Manner is what else was seen of how the device answers while it was opened.
	Slow   bool
	Manner exchange.Manner

	in        []byte // what came and is not taken yet, at its beginning the frame last read
	taken     int
	answered  bool  // a frame came to the question
	gone      error // why the connection failed before any octet of an answer came
	broken    bool
	calledOff atomic.Bool
}

// FirstExtra is how much more time the first answer over a connection is given: some
// devices begin a task for it.
const FirstExtra = 1500 * time.Millisecond

// Connecting is the least time that setting a session up may take.
const Connecting = 1500 * time.Millisecond

// Open opens the connection within a time limit. greet does over it what comes before the
// first question, each time that it is opened; meanwhile there is at least the time that
// Connecting says. What the reply refuses is a fault of the stop Session.
func (a *Asking) Open(ctx context.Context, t Target, limit time.Duration, greet func() Reply) Reply {
	a.ctx, a.Limit = ctx, limit
	a.Tape.Begin()
	sock, err := NewSocket(ctx, t, limit, func(c net.Conn) error {
		if a.now != nil {
			a.Tape.Anew()
		}
		a.now, a.in, a.taken, a.broken = c, a.in[:0], 0, false
		limit := a.Limit
		a.Limit = max(limit, Connecting)
		reply := greet()
		if a.Limit = limit; !reply.OK() {
			return &noSession{reply}
		}
		return nil
	})
	a.sock = sock
	reply := a.failure(err)
	a.seen(&reply)
	return reply
}

// noSession is why a connection that came about cannot be used.
type noSession struct{ reply Reply }

func (n *noSession) Error() string { return n.reply.Sentence }

// failure is what came of connecting.
func (a *Asking) failure(err error) Reply {
	var no *noSession
	switch {
	case err == nil:
		return Reply{Outcome: exchange.Answered}
	case !errors.As(err, &no):
		return Failure(err, true)
	}
	if a.ctx.Err() == nil {
		no.reply.Stop = route.Session
	}
	return no.reply
}

// Usable reports whether the connection can take another question.
func (a *Asking) Usable() bool { return !a.broken && a.ctx.Err() == nil }

// Over reports whether the connection is to end: nothing more is asked over it.
func (a *Asking) Over() bool { return a.ctx.Err() != nil }

// GiveUp has the connection take no further question.
func (a *Asking) GiveUp() { a.broken = true }

// Break ends the wait for an answer.
func (a *Asking) Break() {
	a.calledOff.Store(true)
	_ = a.sock.Conn().SetReadDeadline(time.Unix(1, 0)) // a connection that has gone needs no end
}

// Last returns what was on the wire last, for a report of a defect.
func (a *Asking) Last() (request, answer []byte) { return a.Request, a.in[a.taken:] }

// LocalAddr and PeerAddr are the ends of the connection, each with its port.
func (a *Asking) LocalAddr() string { return a.now.LocalAddr().String() }

// PeerAddr is the far one.
func (a *Asking) PeerAddr() string { return a.now.RemoteAddr().String() }

// Close ends the connection.
func (a *Asking) Close() error { return a.sock.Close() }

// Bye writes octets that say goodbye, as far as the far end still listens. until tells the
// frame by which the far end says that it has understood; it is waited for a moment, so
// that who comes next finds the far end free. Nil is not to wait.
func (a *Asking) Bye(octets []byte, until func(frame []byte) bool) {
	const within, answered = 100 * time.Millisecond, 300 * time.Millisecond
	if a.sock != nil {
		a.sock.Settle() // a run that has been stopped says goodbye as well
	}
	if a.now.SetWriteDeadline(time.Now().Add(within)) != nil {
		return
	}
	_, err := a.now.Write(octets)
	end := time.Now().Add(answered)
	if err != nil || until == nil || a.broken && a.ctx.Err() == nil || a.now.SetReadDeadline(end) != nil {
		return // a courtesy: it is closed anyway
	}
	came := append(make([]byte, 0, 2048), a.in[a.taken:]...)
	for {
		n, err := a.Length(came)
		switch {
		case err != nil || n > cap(came):
			return
		case n > 0 && n <= len(came):
			if until(came[:n]) {
				return
			}
			came = append(came[:0], came[n:]...)
		default:
			got, err := a.now.Read(came[len(came):cap(came)])
			came = came[:len(came)+got]
			early := errors.Is(err, os.ErrDeadlineExceeded) && time.Now().Before(end) // who waited before was interrupted
			if err != nil && (!early || a.now.SetReadDeadline(end) != nil) {
				return
			}
		}
	}
}

// Send writes the request, once it may go.
func (a *Asking) Send(pass Pass) *Reply {
	a.calledOff.Store(false)
	if err := a.now.SetWriteDeadline(time.Now().Add(Sending)); err != nil || a.ctx.Err() != nil {
		return a.Lost(Reply{Outcome: exchange.Closed, Sentence: "the run was stopped"})
	}
	left, refused := Let(pass)
	if refused != nil {
		refused.Request = a.Request
		return refused
	}
	n, err := a.now.Write(a.Request)
	left()
	a.Sent = time.Now()
	a.Tape.Out(a.Sent, a.Request[:n])
	if err != nil {
		reply := Failure(err, false)
		if errors.Is(err, os.ErrDeadlineExceeded) {
			reply = Reply{Outcome: exchange.Closed, Sentence: "the far end takes no octets any more"}
		}
		reply.Left = n > 0
		return a.Lost(reply)
	}
	return nil
}

// nonsense is an error of what came.
type nonsense struct{ error }

// Odd makes an error of waiting that says what is wrong with what came.
func Odd(err error) error { return &nonsense{err} }

// Frame reads one frame, which is on the tape then; it stays until the next is read.
func (a *Asking) Frame(deadline time.Time) ([]byte, error) {
	a.in = append(a.in[:0], a.in[a.taken:]...)
	a.taken = 0
	for {
		length, err := a.Length(a.in)
		if err != nil {
			return nil, &nonsense{err}
		}
		if length > 0 && length <= len(a.in) {
			a.taken, a.answered = length, true
			frame := a.in[:length:length]
			a.Tape.In(a.Came, frame, false)
			return frame, nil
		}
		if a.calledOff.Load() || a.ctx.Err() != nil {
			return nil, ErrCalledOff
		}
		if err := a.now.SetReadDeadline(deadline); err != nil {
			return nil, err
		}
		if a.calledOff.Load() { // in the moment before
			return nil, ErrCalledOff
		}
		if len(a.in)+512 > cap(a.in) {
			a.in = append(make([]byte, 0, 2*cap(a.in)+2048), a.in...)
		}
		n, err := a.now.Read(a.in[len(a.in):cap(a.in)])
		if now := time.Now(); n > 0 {
			a.Tape.Paused(len(a.in) > 0, now, a.Came)
			a.Came = now
		}
		a.in = a.in[:len(a.in)+n]
		if err != nil && n == 0 {
			if errors.Is(err, os.ErrDeadlineExceeded) && (a.calledOff.Load() || a.ctx.Err() != nil) {
				err = ErrCalledOff
			}
			return nil, err
		}
	}
}

// PlaceOf is where octets of the frame that was read last lie among all that came for the
// question. They are a part of it that was cut from it without bounding its capacity.
func (a *Asking) PlaceOf(part []byte) int { return a.Tape.Before() + a.taken - cap(part) }

// Answered notes that an answer came. What is asked while a connection is opened is a part of
// that.
func (a *Asking) Answered() {
	if a.sock != nil {
		a.sock.Answered(a.Came)
	}
}

// Failed turns an error of waiting into a reply. After silence the connection can take
// another question: a late answer has to be known by what it says.
func (a *Asking) Failed(err error) Reply {
	var wrong *nonsense
	if errors.As(err, &wrong) {
		return a.Garbled(wrong.error)
	}
	reply := Failure(err, false)
	reply.Left = true
	rest := a.in[a.taken:]
	switch {
	case len(rest) > 0 && reply.Outcome != exchange.CalledOff:
		return a.Garbled(fmt.Errorf("%d octets came and the rest of the frame did not", len(rest)))
	case reply.Outcome == exchange.NoAnswer && len(rest) == 0:
		reply.Sentence = fmt.Sprintf("no answer came within %d ms", a.Limit.Milliseconds())
		if reply.LateMs = a.Late; a.Late > 0 {
			reply.Cause = exchange.Late
			reply.Sentence += fmt.Sprintf("; one to an earlier request came after %.0f ms", a.Late)
		}
		return reply
	case reply.Outcome == exchange.CalledOff && len(rest) == 0:
		return reply
	}
	if !a.answered {
		a.gone = err
	}
	return *a.Lost(reply)
}

// Garbled is the reply to what is no answer.
func (a *Asking) Garbled(err error) Reply {
	if rest := a.in[a.taken:]; len(rest) > 0 {
		a.Tape.In(a.Came, rest, false)
		a.taken = len(a.in)
	}
	return *a.Lost(Reply{Outcome: exchange.Garbled, Sentence: err.Error(), Left: true})
}

// Lost marks the connection as one that can carry no further question.
func (a *Asking) Lost(reply Reply) *Reply {
	a.broken = true
	return &reply
}

// seen gives a reply what went over the connection for it, and how the device answered.
func (a *Asking) seen(reply *Reply) {
	reply.Frames = a.Tape.Frames()
	reply.Manner |= a.Tape.Manner() | a.Manner
	a.Manner = 0
	if a.Slow {
		reply.Manner |= exchange.SlowFirst
		a.Slow = false
	}
}

// Question puts a question, over a new connection where the far end has ended the one
// before. One that only reads is put once more where the far end had gone before it came:
// that does no harm.
func (a *Asking) Question(reads bool, put func() Reply) Reply {
	a.Tape.Begin()
	a.Late, a.gone, a.answered = 0, nil, false
	anew, err := a.sock.Ready()
	if err != nil {
		reply := a.failure(err)
		a.broken = true
		a.seen(&reply)
		return reply
	}
	reply := put()
	if reads && a.gone != nil && a.sock.Again(a.gone) {
		anew = true
		if reply = put(); reply.OK() {
			reply.Cause = a.sock.Redone()
		}
	}
	a.seen(&reply)
	if anew {
		reply.Manner |= a.sock.Manner & (exchange.HangsUp | exchange.Dozes)
		reply.HungUpAt = a.sock.HungUpAt()
	}
	return reply
}
