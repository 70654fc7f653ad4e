// Package blocktcp is the driver of block access over ISO-on-TCP.
package blocktcp

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"sync/atomic"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/blocktcp"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/field"
	wire "ferry/internal/wire/blocktcp"
)

func init() { field.Register(family.Def.Name, driver{}) }

type driver struct{}

func (driver) Dissect(frames []exchange.Frame, points []exchange.Labelled) [][]exchange.Field {
	request, answer := exchange.Sides(frames)
	var asked, answered []exchange.Field
	if len(request) > 0 {
		asked = wire.DissectRequest(request)
	}
	if len(answer) > 0 {
		answered = wire.DissectAnswer(request, answer, points)
	}
	return exchange.Spread(frames, asked, answered)
}

// Dial connects and sets the session up. A connection that stands and a session
// that does not is a fault of the stop Session.
func (driver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	def := family.Def
	limit := time.Duration(def.Int(t.Settings, protocol.KeyWithin)) * time.Millisecond
	dialer := net.Dialer{Timeout: max(limit, 1500*time.Millisecond), Control: t.Control}
	sock, err := dialer.DialContext(ctx, "tcp", t.Dial)
	if err != nil {
		return nil, field.Failure(err, true)
	}
	c := &conn{ctx: ctx, sock: sock, session: sessionOf(t.Settings), limit: max(limit, 1500*time.Millisecond)}
	c.stop = context.AfterFunc(ctx, func() { _ = sock.SetDeadline(time.Unix(1, 0)) })
	if reply := c.setUp(def.Int(t.Settings, family.KeySize)); !reply.OK() {
		if ctx.Err() == nil {
			reply.Stop = route.Session
		}
		_ = c.Close() // why there is no session says more
		return nil, reply
	}
	c.Toward(t.Settings)
	return c, field.Reply{Outcome: exchange.Answered}
}

// session is what a connection was made for.
type session struct {
	kind       string
	rack, slot int
}

func sessionOf(s protocol.Settings) session {
	return session{family.Def.Value(s, family.KeyKind).Text(), family.Def.Int(s, family.KeyRack),
		family.Def.Int(s, family.KeySlot)}
}

// conn is one connection with its session. It has one job under way.
type conn struct {
	ctx     context.Context
	sock    net.Conn
	stop    func() bool
	session session
	limit   time.Duration
	// size is how long a message may be, as was agreed.
	size int
	ref  uint16

	in        []byte // what came and is not taken yet, at its beginning the frame last read
	taken     int    // octets of it that are
	message   []byte // put together of its parts
	request   []byte
	requests  []byte // all of a question that takes several messages
	answers   []byte
	items     []wire.Item
	data      []byte
	refused   []int
	sent      [recent]time.Time // when each of the last questions went out
	late      float64           // how long a late answer took that came meanwhile, in milliseconds
	sentFn    func()            // told when a request has left; nil for nobody
	broken    bool
	calledOff atomic.Bool
}

// Toward takes over the settings of a link; a link to another processor needs a
// connection of its own.
func (c *conn) Toward(s protocol.Settings) {
	c.limit = time.Duration(family.Def.Int(s, protocol.KeyWithin)) * time.Millisecond
	if sessionOf(s) != c.session {
		c.broken = true
	}
}

// OnSent has fn called whenever a request has left, while its answer is on its
// way. What a reply holds is written over by what comes behind that alone.
func (c *conn) OnSent(fn func()) { c.sentFn = fn }

func (c *conn) Usable() bool { return !c.broken && c.ctx.Err() == nil }

// Break ends the wait for an answer.
func (c *conn) Break() {
	c.calledOff.Store(true)
	_ = c.sock.SetReadDeadline(time.Unix(1, 0)) // a connection that has gone needs no end
}

// Last returns what was on the wire last, for a report of a defect.
func (c *conn) Last() (request, answer []byte) { return c.request, c.in[c.taken:] }

func (c *conn) Close() error {
	c.stop()
	return c.sock.Close()
}

// calling is the selector of this end.
const calling = 0x0100

// setUp connects to the processor and agrees on a session.
func (c *conn) setUp(size int) field.Reply {
	called := family.Selector(c.session.kind, c.session.rack, c.session.slot)
	c.request = wire.AppendConnect(c.request[:0], calling, called)
	if lost := c.send(nil); lost != nil {
		return *lost
	}
	deadline := time.Now().Add(c.limit)
	frame, err := c.frame(deadline)
	if err != nil {
		return c.noSession(err, "to the request to connect")
	}
	t, err := wire.ParseTPDU(frame)
	switch {
	case err != nil:
		return c.garbled(err, frame)
	case t.Kind == wire.Disconnect || t.Kind == wire.Error:
		why := family.Def.Decline(family.Disconnected(t.Reason))
		return field.Reply{Outcome: exchange.Declined, Code: family.Disconnected(t.Reason), Request: c.request,
			Answer: frame, Left: true,
			Sentence: fmt.Sprintf("%s, to rack %d and slot %d", why.Title, c.session.rack, c.session.slot)}
	case t.Kind != wire.ConnectConfirm:
		return c.garbled(errors.New("it answers the request to connect with something else"), frame)
	}
	c.ref++
	c.request = wire.AppendSetup(c.request[:0], c.ref, 1, size)
	if lost := c.send(nil); lost != nil {
		return *lost
	}
	m, frames, err := c.answer(time.Now().Add(c.limit))
	if err != nil {
		return c.noSession(err, "to setting the session up")
	}
	if refusal := c.refusal(&m, frames); refusal != nil {
		return *refusal
	}
	if _, c.size, err = wire.ParseSetup(&m); err == nil && c.size > size {
		err = fmt.Errorf("it agrees to messages of %d octets, and %d were asked for", c.size, size)
	}
	if err != nil {
		return c.garbled(err, frames)
	}
	return field.Reply{Outcome: exchange.Answered}
}

// noSession says what came of a session that was not set up. Silence and a
// connection that ends look the same from here: the way to the processor is
// another.
func (c *conn) noSession(err error, to string) field.Reply {
	reply := c.failed(err)
	silent := reply.Outcome == exchange.NoAnswer || reply.Outcome == exchange.Closed || reply.Outcome == exchange.Reset
	if silent && c.ctx.Err() == nil {
		how := "no answer came " + to
		if reply.Outcome != exchange.NoAnswer {
			how = "the far end hung up in place of an answer " + to
		}
		reply.Outcome, reply.Code = exchange.Declined, family.NoSession
		reply.Sentence = fmt.Sprintf("%s, with rack %d and slot %d", how, c.session.rack, c.session.slot)
	}
	return reply
}

// send writes the request, once it may go.
func (c *conn) send(pass field.Pass) *field.Reply {
	c.calledOff.Store(false)
	err := c.sock.SetWriteDeadline(time.Now().Add(field.Sending))
	if err != nil || c.ctx.Err() != nil {
		return c.lost(field.Reply{Outcome: exchange.Closed, Sentence: "the run was stopped"})
	}
	left, refused := field.Let(pass)
	if refused != nil {
		refused.Request = c.request
		return refused
	}
	n, err := c.sock.Write(c.request)
	left()
	c.sent[c.ref%recent] = time.Now()
	if err != nil {
		reply := field.Failure(err, false)
		if errors.Is(err, os.ErrDeadlineExceeded) {
			reply = field.Reply{Outcome: exchange.Closed, Sentence: "the far end takes no octets any more"}
		}
		reply.Left = n > 0
		return c.lost(reply)
	}
	return nil
}

// mostParts bounds the parts of one message.
const mostParts = 64

// answer waits for the message that answers the request: one with another
// reference answers a question before, and is left aside. frames are the octets
// of all its parts.
func (c *conn) answer(deadline time.Time) (m wire.Message, frames []byte, err error) {
	for {
		c.message = c.message[:0]
		whole := false
		from := len(c.answers)
		for parts := 0; !whole; parts++ {
			frame, err := c.frame(deadline)
			if err != nil {
				return m, nil, err
			}
			c.answers = append(c.answers, frame...)
			t, err := wire.ParseTPDU(frame)
			switch {
			case err != nil:
				return m, frame, &garbled{err, frame}
			case t.Kind == wire.Disconnect || t.Kind == wire.Error:
				return m, frame, &garbled{fmt.Errorf("the far end ends the connection, reason %d", t.Reason), frame}
			case t.Kind != wire.Data:
				return m, frame, &garbled{errors.New("it answers with no data"), frame}
			case parts >= mostParts || len(c.message)+len(t.Rest) > wire.MostFrame:
				return m, frame, &garbled{errors.New("the message does not end"), frame}
			}
			c.message = append(c.message, t.Rest...)
			whole = t.Last
		}
		if m, err = wire.ParseMessage(c.message); err != nil {
			return m, nil, &garbled{err, c.answers[from:]}
		}
		if m.Ref == c.ref {
			return m, c.answers[from:], nil
		}
		if m.Kind == wire.Job || m.Ref-c.ref < 1<<15 {
			return m, nil, &garbled{fmt.Errorf("it answers question %d, which was not asked", m.Ref), c.answers[from:]}
		}
		c.answers = c.answers[:from]
		if at := c.sent[m.Ref%recent]; c.ref-m.Ref < recent && !at.IsZero() {
			c.late = max(c.late, float64(time.Since(at))/1e6)
		}
	}
}

// recent is how many questions back an answer is known as late.
const recent = 64

// garbled is an error of what came.
type garbled struct {
	error
	octets []byte
}

// frame reads one frame.
func (c *conn) frame(deadline time.Time) ([]byte, error) {
	c.in = append(c.in[:0], c.in[c.taken:]...)
	c.taken = 0
	for {
		length, err := wire.Frame(c.in)
		if err != nil {
			return nil, &garbled{err, c.in}
		}
		if length > 0 {
			c.taken = length
			return c.in[:length:length], nil
		}
		if c.calledOff.Load() || c.ctx.Err() != nil {
			return nil, field.ErrCalledOff
		}
		if err := c.sock.SetReadDeadline(deadline); err != nil {
			return nil, err
		}
		if c.calledOff.Load() { // in the moment before
			return nil, field.ErrCalledOff
		}
		if len(c.in)+512 > cap(c.in) {
			c.in = append(make([]byte, 0, 2*cap(c.in)+2048), c.in...)
		}
		n, err := c.sock.Read(c.in[len(c.in):cap(c.in)])
		c.in = c.in[:len(c.in)+n]
		if err != nil && n == 0 {
			if errors.Is(err, os.ErrDeadlineExceeded) && (c.calledOff.Load() || c.ctx.Err() != nil) {
				err = field.ErrCalledOff
			}
			return nil, err
		}
	}
}

// failed turns an error of waiting into a reply.
func (c *conn) failed(err error) field.Reply {
	var odd *garbled
	if errors.As(err, &odd) {
		return c.garbled(odd.error, odd.octets)
	}
	reply := field.Failure(err, false)
	reply.Request, reply.Left = c.request, true
	rest := c.in[c.taken:]
	switch {
	case reply.Outcome == exchange.CalledOff && len(rest) == 0, reply.Outcome == exchange.NoAnswer && len(rest) == 0:
		if reply.Outcome == exchange.NoAnswer {
			reply.Sentence = fmt.Sprintf("no answer came within %d ms", c.limit.Milliseconds())
		}
		return reply // a late answer is known by its reference
	case len(rest) > 0 && reply.Outcome != exchange.CalledOff:
		return c.garbled(fmt.Errorf("%d octets came and the rest of the frame did not", len(rest)), rest)
	}
	return *c.lost(reply)
}

func (c *conn) garbled(err error, octets []byte) field.Reply {
	return *c.lost(field.Reply{Outcome: exchange.Garbled, Sentence: err.Error(), Answer: octets})
}

// lost marks the connection as one that can carry no further request.
func (c *conn) lost(reply field.Reply) *field.Reply {
	c.broken = true
	if reply.Request == nil {
		reply.Request = c.request
	}
	return &reply
}

// refusal is the reply to a message that refuses a job as a whole; nil for none.
func (c *conn) refusal(m *wire.Message, frames []byte) *field.Reply {
	if m.Class == 0 && m.Code == 0 {
		return nil
	}
	reply := c.declined(family.CodeOf(m.Class, m.Code), frames)
	return &reply
}

func (c *conn) declined(code int, frames []byte) field.Reply {
	why := family.Def.Decline(code)
	return field.Reply{Outcome: exchange.Declined, Code: code, Sentence: why.Title, Request: c.request, Answer: frames,
		Left: true}
}

// ask sends the request and waits for the message that answers it.
func (c *conn) ask(pass field.Pass) (m wire.Message, frames []byte, failed *field.Reply) {
	c.late = 0
	lost := c.send(pass)
	if c.sentFn != nil { // sent or not, what the reply before holds is written over next
		c.sentFn()
	}
	if lost != nil {
		return m, nil, lost
	}
	m, frames, err := c.answer(time.Now().Add(c.limit))
	if err != nil {
		reply := c.failed(err)
		if reply.LateMs = c.late; c.late > 0 && reply.Outcome == exchange.NoAnswer {
			reply.Cause = exchange.Late
			reply.Sentence += fmt.Sprintf("; one to an earlier request came after %.0f ms", c.late)
		}
		return m, nil, &reply
	}
	if refused := c.refusal(&m, frames); refused != nil {
		return m, frames, refused
	}
	return m, frames, nil
}
