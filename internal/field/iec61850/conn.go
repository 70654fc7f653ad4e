// Package iec61850 talks to servers of IEC 61850 over MMS, and answers as one.
package iec61850

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/iec61850"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/field"
	wire "ferry/internal/wire/iec61850"
	"ferry/internal/wire/isotcp"
)

func init() { field.Register(family.MMS.Name, driver{}) }

type driver struct{}

func (driver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	within := time.Duration(family.MMS.Int(t.Settings, protocol.KeyWithin)) * time.Millisecond
	dialer := net.Dialer{Timeout: max(within, 1500*time.Millisecond), Control: t.Control}
	over, err := dialer.DialContext(ctx, "tcp", t.Dial)
	if err != nil {
		return nil, field.Failure(err, true)
	}
	c := &conn{over: over, trial: t.Trial, within: within, settings: t.Settings, remains: t.Remains,
		size: isotcp.Size8192, asked: map[uint32]chan wire.Message{},
		outbox: field.NewOutbox(mostQueued), turn: field.NewTurn(),
		types: map[wire.Name]*wire.Type{}, ended: make(chan struct{}), terminated: make(chan termination, 8)}
	c.life, c.cancel = context.WithCancel(ctx)
	stop := context.AfterFunc(ctx, func() { _ = over.SetDeadline(time.Unix(1, 0)) })
	reply := c.begin()
	if !stop() && reply.OK() {
		reply = field.Reply{Outcome: exchange.CalledOff, Sentence: "it was called off"}
	}
	if c.turn.Told(&reply); !reply.OK() {
		_ = over.Close()
		c.cancel()
		return nil, reply
	}
	c.stop = context.AfterFunc(ctx, func() {
		c.finish(field.Reply{Outcome: exchange.Closed, Sentence: "the connection was ended here"})
	})
	go c.read()
	go c.outbox.Run(c.life)
	go c.polls()
	return c, reply
}

// conn is a conversation with a server.
type conn struct {
	over     net.Conn
	trial    bool // no report is enabled
	within   time.Duration
	settings protocol.Settings
	remains  *sync.Map
	size     isotcp.Size
	agreed   wire.Initiation
	life     context.Context
	cancel   context.CancelFunc
	stop     func() bool
	gone     atomic.Bool
	ended    chan struct{}
	turn     *field.Turn
	writing  sync.Mutex
	held     []byte

	mu      sync.Mutex
	asked   map[uint32]chan wire.Message
	invoke  uint32
	said    field.Reply
	follows *following
	types   map[wire.Name]*wire.Type
	domains []string
	// terminated are the reports of how commands ended.
	terminated chan termination
	number     uint8 // of the last command

	outbox *field.Outbox
}

// begin connects the transport and begins the conversation.
func (c *conn) begin() field.Reply {
	fail := func(err error, what string) field.Reply {
		reply := field.Failure(err, false)
		reply.Stop = route.Session
		switch {
		case reply.Outcome == exchange.NoAnswer:
			reply.Sentence = fmt.Sprintf("nothing came back to %s within %d ms", what, c.within.Milliseconds())
		case errors.Is(err, io.EOF):
			reply.Sentence = "the server hung up at " + what +
				": it has no room for another client, or does not take its selectors"
		case reply.Outcome == exchange.Closed:
			reply.Outcome, reply.Sentence = exchange.Garbled, "what came back to "+what+" cannot be read: "+err.Error()
		}
		return reply
	}
	if err := c.over.SetDeadline(time.Now().Add(c.within)); err != nil {
		return fail(err, "the connection")
	}
	const selector = 1
	octets := isotcp.AppendConnect(nil, selector, selector, isotcp.Size8192)
	c.turn.Out(time.Now(), octets)
	if _, err := c.over.Write(octets); err != nil {
		return fail(err, "the connection of the transport")
	}
	t, err := c.frame()
	if err != nil {
		return fail(err, "the connection of the transport")
	}
	if t.Kind != isotcp.ConnectConfirm {
		return field.Reply{Outcome: exchange.Refused, Stop: route.Session,
			Sentence: fmt.Sprintf("the server refuses the connection of the transport, reason %d", t.Reason)}
	}
	if t.Size >= 7 && t.Size < c.size {
		c.size = t.Size
	}
	if err := c.send(wire.Associate(wire.DefaultInitiation(), wire.Selectors{}), true); err != nil {
		return fail(err, "the association")
	}
	message, _, err := c.message()
	if err != nil {
		return fail(err, "the association")
	}
	h, err := wire.Hear(message)
	switch {
	case err != nil:
		return fail(err, "the association")
	case !h.Accepts || h.Why != "":
		why := h.Why
		if why == "" {
			why = "the association was ended"
		}
		return field.Reply{Outcome: exchange.Refused, Stop: route.Session, Sentence: "the server does not begin: " + why}
	}
	c.agreed = h.Initiation
	if err := c.over.SetDeadline(time.Time{}); err != nil {
		return fail(err, "the association")
	}
	return field.Reply{Outcome: exchange.Answered}
}

// frame reads a frame of the transport, with its octets on the tape.
func (c *conn) frame() (isotcp.TPDU, error) {
	octets, err := c.octets()
	if err != nil {
		return isotcp.TPDU{}, err
	}
	c.turn.In(time.Now(), octets, false)
	return isotcp.ParseTPDU(octets)
}

// octets are those of the next frame.
func (c *conn) octets() ([]byte, error) {
	buf := make([]byte, 8192)
	for {
		n, err := isotcp.Frame(c.held, 1<<16)
		if err != nil {
			return nil, err
		}
		if n > 0 {
			frame := slices.Clone(c.held[:n])
			c.held = append(c.held[:0], c.held[n:]...)
			return frame, nil
		}
		got, err := c.over.Read(buf)
		if err != nil {
			return nil, err
		}
		c.held = append(c.held, buf[:got]...)
	}
}

// message reads a whole message, with the octets of its frames.
func (c *conn) message() (message, frames []byte, err error) {
	for {
		octets, err := c.octets()
		if err != nil {
			return nil, nil, err
		}
		t, err := isotcp.ParseTPDU(octets)
		if err != nil {
			return nil, nil, err
		}
		if t.Kind != isotcp.Data {
			return nil, nil, io.EOF
		}
		frames = append(frames, octets...)
		if message = append(message, t.Rest...); len(message) > wire.MostMessage {
			return nil, nil, errors.New("a message without end")
		}
		if t.Last {
			return message, frames, nil
		}
	}
}

// send sends a message; taped is whether it belongs to the question under way.
func (c *conn) send(message []byte, taped bool) error {
	octets := isotcp.AppendData(nil, message, c.size)
	c.writing.Lock()
	defer c.writing.Unlock()
	if taped {
		c.turn.Out(time.Now(), octets)
	}
	if err := c.over.SetWriteDeadline(time.Now().Add(c.within)); err != nil {
		return err
	}
	_, err := c.over.Write(octets)
	return err
}

// read takes in messages until the connection ends.
func (c *conn) read() {
	for {
		message, frames, err := c.message()
		at := time.Now()
		if err != nil {
			reply := field.Failure(err, false)
			if errors.Is(err, io.EOF) {
				reply.Outcome, reply.Sentence = exchange.Closed, "the server ended the connection"
			}
			c.finish(reply)
			return
		}
		h, err := wire.Hear(message)
		if err == nil && h.Ends {
			c.finish(field.Reply{Outcome: exchange.Closed, Sentence: "the server ended the conversation" + after(h.Why)})
			return
		}
		var m wire.Message
		if err == nil {
			m, err = wire.ParseMessage(h.MMS)
		}
		switch {
		case err != nil:
			c.hand(field.Report{At: at, Operation: "message", Octets: frames, Wrong: err.Error()})
		case m.Kind == wire.Unconfirmed:
			c.reported(&m, at, frames)
		case m.Kind == wire.ConcludeResponse || m.Kind == wire.ConcludeError:
		default:
			c.mu.Lock()
			waits := c.asked[m.Invoke]
			delete(c.asked, m.Invoke)
			c.mu.Unlock()
			c.turn.In(at, frames, waits == nil)
			if waits != nil {
				waits <- m
			}
		}
	}
}

func after(why string) string {
	if why == "" {
		return ""
	}
	return ": " + why
}

// ask asks for a service; the turn is held.
func (c *conn) ask(service wire.Service, body []byte) (m wire.Message, reply field.Reply) {
	waits := make(chan wire.Message, 1)
	c.mu.Lock()
	c.invoke++
	invoke := c.invoke
	c.asked[invoke] = waits
	c.mu.Unlock()
	defer func() {
		c.mu.Lock()
		delete(c.asked, invoke)
		c.mu.Unlock()
	}()
	if err := c.send(wire.Speak(wire.Question(invoke, service, body)), true); err != nil {
		c.finish(field.Failure(err, false))
		return m, c.why()
	}
	timer := time.NewTimer(c.within)
	defer timer.Stop()
	select {
	case m = <-waits:
	case <-timer.C:
		return m, field.Reply{Outcome: exchange.NoAnswer, Left: true,
			Sentence: fmt.Sprintf("no answer came within %d ms", c.within.Milliseconds())}
	case <-c.turn.Broken():
		reply = field.Failure(field.ErrCalledOff, false)
		reply.Left = true
		return m, reply
	case <-c.ended:
		return m, c.why()
	}
	switch m.Kind {
	case wire.Response:
		return m, field.Reply{Outcome: exchange.Answered, Left: true}
	case wire.Error:
		code := family.ServiceCode(m.Class, m.Code)
		return m, field.Reply{Outcome: exchange.Declined, Left: true, Code: code, Sentence: "the server refuses: " +
			family.Words(code)}
	case wire.Reject:
		return m, field.Reply{Outcome: exchange.Declined, Left: true, Code: family.ServiceCode(4, 1),
			Sentence: "the server rejects the question"}
	}
	return m, field.Reply{Outcome: exchange.Garbled, Left: true, Sentence: "what came back is no answer"}
}

// owned runs a question of who owns the connection.
func (c *conn) owned(question func() field.Reply) field.Reply {
	return c.turn.Own(c.life, c.ended, c.why, func(context.Context) field.Reply { return question() })
}

// why is how the connection ended.
func (c *conn) why() field.Reply {
	c.mu.Lock()
	defer c.mu.Unlock()
	reply := c.said
	reply.Left = true
	return reply
}

func (c *conn) Toward(protocol.Settings) {}

// Break ends the question under way.
func (c *conn) Break() { c.turn.Break() }

func (c *conn) Usable() bool { return !c.gone.Load() }

// Close ends the conversation in order, as far as that can be done at once.
func (c *conn) Close() error {
	c.stop()
	if c.Usable() {
		c.within = min(c.within, 200*time.Millisecond)
		_ = c.send(wire.Speak(wire.Conclusion(wire.ConcludeRequest)), false) // a courtesy
	}
	c.finish(field.Reply{Outcome: exchange.Closed, Sentence: "the connection was ended here"})
	c.cancel()
	return nil
}

// finish ends the connection, once, and says how it ended. What has come is handed over still.
func (c *conn) finish(reply field.Reply) {
	c.mu.Lock()
	if !c.gone.CompareAndSwap(false, true) {
		c.mu.Unlock()
		return
	}
	c.said = reply
	c.mu.Unlock()
	_ = c.over.Close() // it has ended, or is being given up
	close(c.ended)
	c.outbox.Shut()
}

// Reports and Ended are as in field.Reporter.
func (c *conn) Reports() <-chan field.Report { return c.outbox.Reports() }

// Ended is as Reports.
func (c *conn) Ended() field.Reply {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.said
}

// mostQueued bounds the reports that wait.
const mostQueued = 20_000

// hand has a report handed over. Of a server that floods nothing is dropped unsaid: the connection
// ends, and what the server kept comes once it is enabled again.
func (c *conn) hand(report field.Report) {
	if !c.outbox.Put(report) {
		c.finish(field.Reply{Outcome: exchange.Closed,
			Sentence: fmt.Sprintf("reports come faster than they can be taken in: %d waited, and the connection was ended here", mostQueued)})
	}
}

// Greet asks the server who it is: any answer will do.
func (c *conn) Greet() field.Reply {
	return c.owned(func() field.Reply {
		_, reply := c.ask(wire.Identify, nil)
		return reply
	})
}

// Identify asks the server who it is.
func (c *conn) Identify() (text, by string, reply field.Reply) {
	reply = c.owned(func() field.Reply {
		m, reply := c.ask(wire.Identify, nil)
		if !reply.OK() {
			return reply
		}
		i, err := wire.ReadIdentity(m.Body)
		if err != nil {
			return garbled(reply, err)
		}
		text = strings.Join(slices.DeleteFunc([]string{i.Vendor, i.Model, i.Revision},
			func(part string) bool { return part == "" }), " ")
		return reply
	})
	return text, "identify", reply
}

// garbled is a reply whose answer cannot be read.
func garbled(reply field.Reply, err error) field.Reply {
	reply.Outcome, reply.Sentence = exchange.Garbled, "the answer cannot be read: "+err.Error()
	return reply
}

// Dissect labels the octets of frames.
func (driver) Dissect(frames []exchange.Frame, points []exchange.Labelled) [][]exchange.Field {
	out, in := exchange.Sides(frames)
	return exchange.Spread(frames, wire.Labels(out, nil), wire.Labels(in, points))
}
