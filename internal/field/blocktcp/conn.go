// Package blocktcp is the driver of block access over ISO-on-TCP.
package blocktcp

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/blocktcp"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
	wire "ferry/internal/wire/blocktcp"
	"ferry/internal/wire/isotcp"
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
	c := &conn{session: sessionOf(t.Settings)}
	c.Length = wire.Frame
	reply := c.Open(ctx, t, limit, func() field.Reply {
		c.sent = [recent]time.Time{}
		return c.setUp(def.Int(t.Settings, family.KeySize), limit)
	})
	if !reply.OK() {
		return nil, reply
	}
	return c, reply
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
	field.Asking
	session session
	// size is how long a message may be, as was agreed.
	size int
	ref  uint16

	message []byte // put together of its parts
	items   []wire.Item
	data    []byte
	refused []int
	sent    [recent]time.Time // when each of the last questions went out
	sentFn  func()            // told when a request has left; nil for nobody
}

// Toward takes over the settings of a link; a link to another processor needs a
// connection of its own.
func (c *conn) Toward(s protocol.Settings) {
	c.Limit = time.Duration(family.Def.Int(s, protocol.KeyWithin)) * time.Millisecond
	if sessionOf(s) != c.session {
		c.GiveUp()
	}
}

// OnSent has fn called whenever a request has left, while its answer is on its
// way. What a reply holds is written over by what comes behind that alone.
func (c *conn) OnSent(fn func()) { c.sentFn = fn }

// calling is the selector of this end.
const calling = 0x0100

// setUp connects to the processor and agrees on a session. One that is slower than within
// for its first answer is given more time.
func (c *conn) setUp(size int, within time.Duration) field.Reply {
	called := family.Selector(c.session.kind, c.session.rack, c.session.slot)
	c.Request = isotcp.AppendConnect(c.Request[:0], calling, called, isotcp.Size1024)
	if lost := c.send(nil); lost != nil {
		return *lost
	}
	deadline := time.Now().Add(c.Limit + field.FirstExtra)
	frame, err := c.Frame(deadline)
	if err != nil {
		return c.noSession(err, "to the request to connect")
	}
	slow := c.Came.Sub(c.sent[c.ref%recent]) > within
	t, err := isotcp.ParseTPDU(frame)
	switch {
	case err != nil:
		return c.Garbled(err)
	case t.Kind == isotcp.Disconnect || t.Kind == isotcp.Error:
		why := family.Def.Decline(family.Disconnected(t.Reason))
		return field.Reply{Outcome: exchange.Declined, Code: family.Disconnected(t.Reason), Left: true,
			Sentence: fmt.Sprintf("%s, to rack %d and slot %d", why.Title, c.session.rack, c.session.slot)}
	case t.Kind != isotcp.ConnectConfirm:
		return c.Garbled(errors.New("it answers the request to connect with something else"))
	}
	c.ref++
	c.Request = wire.AppendSetup(c.Request[:0], c.ref, 1, size)
	if lost := c.send(nil); lost != nil {
		return *lost
	}
	m, err := c.answer(time.Now().Add(c.Limit))
	if err != nil {
		return c.noSession(err, "to setting the session up")
	}
	if refusal := c.refusal(&m); refusal != nil {
		return *refusal
	}
	if _, c.size, err = wire.ParseSetup(&m); err == nil && c.size > size {
		err = fmt.Errorf("it agrees to messages of %d octets, and %d were asked for", c.size, size)
	}
	if err != nil {
		return c.Garbled(err)
	}
	c.Slow = slow
	if c.size < min(size, family.UsualSize) {
		c.Manner = exchange.Small
	}
	return field.Reply{Outcome: exchange.Answered}
}

// noSession says what came of a session that was not set up. Silence and a
// connection that ends look the same from here: the way to the processor is
// another.
func (c *conn) noSession(err error, to string) field.Reply {
	reply := c.Failed(err)
	silent := reply.Outcome == exchange.NoAnswer || reply.Outcome == exchange.Closed || reply.Outcome == exchange.Reset
	if silent && !c.Over() {
		how := "no answer came " + to
		if reply.Outcome != exchange.NoAnswer {
			how = "the far end hung up in place of an answer " + to
		}
		code := family.NoSession
		if reply.Outcome != exchange.NoAnswer {
			code, reply.Cause = family.HungUp, exchange.HungUp
		}
		reply.Outcome, reply.Code = exchange.Declined, code
		reply.Sentence = fmt.Sprintf("%s, with rack %d and slot %d", how, c.session.rack, c.session.slot)
	}
	return reply
}

// send writes the request, once it may go.
func (c *conn) send(pass field.Pass) *field.Reply {
	lost := c.Send(pass)
	c.sent[c.ref%recent] = c.Sent
	return lost
}

// mostParts bounds the parts of one message.
const mostParts = 64

// answer waits for the message that answers the request: one with another
// reference answers a question before, and is left aside.
func (c *conn) answer(deadline time.Time) (m wire.Message, err error) {
	for {
		c.message = c.message[:0]
		whole := false
		seen := c.Tape.Len()
		for parts := 0; !whole; parts++ {
			frame, err := c.Frame(deadline)
			if err != nil {
				return m, err
			}
			t, err := isotcp.ParseTPDU(frame)
			switch {
			case err != nil:
				return m, field.Odd(err)
			case t.Kind == isotcp.Disconnect || t.Kind == isotcp.Error:
				return m, field.Odd(fmt.Errorf("the far end ends the connection, reason %d", t.Reason))
			case t.Kind != isotcp.Data:
				return m, field.Odd(errors.New("it answers with no data"))
			case parts >= mostParts || len(c.message)+len(t.Rest) > wire.MostFrame:
				return m, field.Odd(errors.New("the message does not end"))
			}
			c.message = append(c.message, t.Rest...)
			whole = t.Last
		}
		if m, err = wire.ParseMessage(c.message); err != nil {
			return m, field.Odd(err)
		}
		if m.Ref == c.ref {
			return m, nil
		}
		if m.Kind == wire.Job || m.Ref-c.ref < 1<<15 {
			return m, field.Odd(fmt.Errorf("it answers question %d, which was not asked", m.Ref))
		}
		c.Tape.Late(seen)
		if at := c.sent[m.Ref%recent]; c.ref-m.Ref < recent && !at.IsZero() {
			c.Late = max(c.Late, float64(time.Since(at))/1e6)
		}
	}
}

// recent is how many questions back an answer is known as late.
const recent = 64

// refusal is the reply to a message that refuses a job as a whole; nil for none.
func (c *conn) refusal(m *wire.Message) *field.Reply {
	if m.Class == 0 && m.Code == 0 {
		return nil
	}
	reply := c.declined(family.CodeOf(m.Class, m.Code))
	return &reply
}

func (c *conn) declined(code int) field.Reply {
	why := family.Def.Decline(code)
	return field.Reply{Outcome: exchange.Declined, Code: code, Sentence: why.Title, Left: true}
}

// ask sends the request and waits for the message that answers it.
func (c *conn) ask(pass field.Pass) (m wire.Message, failed *field.Reply) {
	lost := c.send(pass)
	if c.sentFn != nil { // sent or not, what the reply before holds is written over next
		c.sentFn()
	}
	if lost != nil {
		return m, lost
	}
	m, err := c.answer(time.Now().Add(c.Limit))
	if err != nil {
		reply := c.Failed(err)
		return m, &reply
	}
	c.Answered()
	return m, c.refusal(&m)
}
