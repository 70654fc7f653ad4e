// Package enip is the driver of EtherNet/IP.
package enip

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"sync/atomic"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/enip"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
	wire "ferry/internal/wire/enip"
)

func init() { field.Register(family.Explicit.Name, driver{}) }

type driver struct{}

func (driver) Dissect(frames []exchange.Frame, points []exchange.Labelled) [][]exchange.Field {
	request, answer := exchange.Sides(frames)
	return exchange.Spread(frames, wire.Labels(request, nil), wire.Labels(answer, points))
}

// Dial connects and asks for a session.
func (driver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	def := family.Explicit
	limit := time.Duration(def.Int(t.Settings, protocol.KeyWithin)) * time.Millisecond
	route, err := family.ParseRoute(def.Value(t.Settings, family.KeyRoute).Text())
	if err != nil {
		return nil, field.Reply{Outcome: exchange.NotAllowed, Sentence: "the route cannot be read: " + err.Error()}
	}
	c := &conn{route: route, single: def.Value(t.Settings, family.KeyTogether).Text() == "one",
		connected: def.Value(t.Settings, family.KeyOver).Text() == "connected", kinds: map[string]family.Kind{}}
	c.Length = wire.FrameLen
	reply := c.Open(ctx, t, limit, c.begin)
	if !reply.OK() {
		return nil, reply
	}
	return c, reply
}

// conn is one session. It has one question under way.
type conn struct {
	field.Asking
	route   [][2]int
	session uint32
	context uint64            // of the last question
	sent    [recent]time.Time // when each of the last questions went out, by its context
	single  bool              // one question in a message
	// connected is set where messages go over a connection: out and back are its
	// identifiers, count that of the last message, and serial that of the connection.
	connected bool
	out, back uint32
	count     uint16
	serial    uint16
	// kinds are the types of tags, by their paths, as the device has told them.
	kinds map[string]family.Kind
}

// recent is how many questions back an answer is known as late.
const recent = 64

func (c *conn) Toward(s protocol.Settings) {
	c.Limit = time.Duration(family.Explicit.Int(s, protocol.KeyWithin)) * time.Millisecond
}

// begin asks for a session, and for a connection of messages where they go over one.
func (c *conn) begin() field.Reply {
	c.session, c.out = 0, 0
	reply := c.register()
	if reply.OK() && c.connected {
		reply = c.openMessages()
	}
	return reply
}

// Close ends the connection of messages and the session.
func (c *conn) Close() error {
	if c.session != 0 {
		if c.out != 0 {
			c.endOf(c.closing())
		}
		c.Bye((&wire.Frame{Command: wire.Unregister, Session: c.session}).Append(nil), nil)
	}
	return c.Asking.Close()
}

// endOf has a connection ended by its question, which is waited for: a device that still
// has it would refuse the next.
func (c *conn) endOf(closing *wire.Request) {
	asks := c.around(closing)
	c.context++
	for i := range asks.Context {
		asks.Context[i] = byte(c.context >> (8 * i))
	}
	c.Bye(asks.Append(nil), func(frame []byte) bool {
		f, err := wire.ParseFrame(frame)
		return err == nil && f.Command == wire.SendRRData && f.Context == asks.Context
	})
}

// Of the connection of messages: its interval, after 32 of which it is dropped, its size,
// and who asks for it.
const (
	messagesEvery  = 2 * time.Second
	messagesFactor = 3
	messagesSize   = 504
	originator     = 0xFE44
)

// serials number the connections of this program, and self is its serial number as an
// originator: another each time that it runs, so that a device which still has a
// connection of an earlier run does not take the new one for it.
var (
	serials atomic.Uint32
	self    = rand.Uint32()
)

// openMessages opens a connection for messages, of transport class 3.
func (c *conn) openMessages() field.Reply {
	c.serial = uint16(serials.Add(1))
	way := wire.Way{Interval: messagesEvery, Size: messagesSize, Casting: wire.ToOne, Variable: true}
	open := wire.Open{Out: way, In: way, Serial: c.serial, Vendor: originator, Originator: self,
		Multiplier: messagesFactor, Class: 3, Trigger: 2, Server: true, Ticks: [2]uint8{7, 16}, Path: c.toRouter()}
	open.In.ID = 0xFE000000 | uint32(c.serial)
	r := wire.Request{Service: open.Service(), Path: wire.PathTo(wire.ClassConnection, 1, -1), Data: open.Append(nil)}
	f, failed := c.exchange(c.around(&r), nil)
	if failed != nil {
		return *failed
	}
	carried, err := wire.ParseCarried(f.Data)
	var a wire.Answer
	if err == nil {
		a, err = wire.ParseAnswer(carried.Message)
	}
	switch {
	case err != nil:
		return c.Garbled(err)
	case a.Status != 0:
		reply := declined(&a)
		return *c.Lost(reply)
	}
	opened, err := wire.ParseOpened(a.Data)
	if err != nil {
		return c.Garbled(err)
	}
	c.out, c.back, c.count = opened.Out, opened.In, 0
	return field.Reply{Outcome: exchange.Answered}
}

// toRouter is the path of the message router, through the ports there are.
func (c *conn) toRouter() wire.Path {
	p := wire.PathTo(wire.ClassRouter, 1, -1)
	p.Ports = c.route
	return p
}

func (c *conn) closing() *wire.Request {
	end := wire.Close{Ticks: [2]uint8{7, 16}, Serial: c.serial, Vendor: originator, Originator: self,
		Path: c.toRouter()}
	return &wire.Request{Service: wire.ForwardClose, Path: wire.PathTo(wire.ClassConnection, 1, -1), Data: end.Append(nil)}
}

// around is a message without a connection in its frame.
func (c *conn) around(r *wire.Request) *wire.Frame {
	return &wire.Frame{Command: wire.SendRRData, Session: c.session, Data: wire.AppendUnconnected(nil, r.Append(nil))}
}

// register asks for a session.
func (c *conn) register() field.Reply {
	f, failed := c.exchange(&wire.Frame{Command: wire.Register, Data: wire.RegisterData()}, nil)
	if failed != nil {
		if failed.Outcome == exchange.NoAnswer {
			failed.Sentence = "it takes the connection and does not answer to the question for a session"
		}
		return *failed
	}
	if f.Status != 0 || f.Session == 0 {
		return *c.Lost(field.Reply{Outcome: exchange.Declined, Code: family.OfSession(f.Status), Left: true,
			Sentence: "it grants no session: " + family.Explicit.Decline(family.OfSession(f.Status)).Title})
	}
	c.session = f.Session
	return field.Reply{Outcome: exchange.Answered}
}

// exchange sends a frame and waits for the one that answers it: that with its context. One
// with an earlier context is late, and left aside.
func (c *conn) exchange(f *wire.Frame, pass field.Pass) (answer wire.Frame, failed *field.Reply) {
	c.context++
	f.Session = c.session
	for i := range f.Context {
		f.Context[i] = byte(c.context >> (8 * i))
	}
	c.Request = f.Append(c.Request[:0])
	if lost := c.Send(pass); lost != nil {
		return answer, lost
	}
	c.sent[c.context%recent] = c.Sent
	deadline := time.Now().Add(c.Limit)
	for {
		octets, err := c.Frame(deadline)
		if err != nil {
			reply := c.Failed(err)
			return answer, &reply
		}
		answer, err = wire.ParseFrame(octets)
		of := c.answers(&answer)
		switch behind := c.context - of; {
		case err != nil:
			reply := c.Garbled(err)
			return answer, &reply
		case behind == 0 && answer.Command == f.Command:
			return answer, nil
		case behind > 0 && behind < recent && !c.sent[of%recent].IsZero():
			c.Tape.Late(c.Tape.Len() - 1)
			c.Late = max(c.Late, float64(time.Since(c.sent[of%recent]))/1e6)
		default:
			reply := c.Garbled(fmt.Errorf("it answers question %d, which was not asked", of))
			return answer, &reply
		}
	}
}

// answers is the question that a frame answers, by its context; over a connection, by the
// count that its message has.
func (c *conn) answers(f *wire.Frame) (of uint64) {
	if f.Command == wire.SendUnitData {
		carried, err := wire.ParseCarried(f.Data)
		if err != nil || carried.Connection != c.back {
			return 0
		}
		return c.context - uint64(c.count-carried.Count)
	}
	for i, o := range f.Context {
		of |= uint64(o) << (8 * i)
	}
	return of
}

// ask sends a message of the router, by the route there is, and returns the answer.
func (c *conn) ask(r *wire.Request, pass field.Pass) (a wire.Answer, failed *field.Reply) {
	message := r.Append(nil)
	asks := &wire.Frame{Command: wire.SendRRData}
	switch {
	case c.connected:
		c.count++
		asks.Command, asks.Data = wire.SendUnitData, wire.AppendConnected(nil, c.out, c.count, message)
	case len(c.route) > 0:
		asks.Data = wire.AppendUnconnected(nil, wire.Through(c.route, message))
	default:
		asks.Data = wire.AppendUnconnected(nil, message)
	}
	f, failed := c.exchange(asks, pass)
	if failed != nil {
		if c.connected && failed.Outcome == exchange.NoAnswer {
			c.GiveUp() // it may have been dropped there, of which nobody is told
		}
		return a, failed
	}
	c.Answered()
	if f.Status != 0 {
		return a, c.Lost(field.Reply{Outcome: exchange.Declined, Code: family.OfSession(f.Status), Left: true,
			Sentence: "it does not take the frame: " + family.Explicit.Decline(family.OfSession(f.Status)).Title})
	}
	carried, err := wire.ParseCarried(f.Data)
	if err == nil {
		a, err = wire.ParseAnswer(carried.Message)
	}
	if err == nil && a.Service != r.Service && !(len(c.route) > 0 && !c.connected && a.Service == wire.ReadPart) {
		err = fmt.Errorf("it answers service %02X, and %02X was asked", a.Service, r.Service)
	}
	if err != nil {
		reply := c.Garbled(err)
		return a, &reply
	}
	return a, nil
}

// declined is the reply to a refusal.
func declined(a *wire.Answer) field.Reply {
	code := family.CodeOf(a.Status, a.Extended)
	why := family.Explicit.Decline(code)
	return field.Reply{Outcome: exchange.Declined, Code: code, Sentence: why.Title, Left: true}
}

// Greet asks for the least that any device has.
func (c *conn) Greet() field.Reply {
	return c.Question(true, func() field.Reply {
		a, failed := c.ask(&wire.Request{Service: wire.GetSingle, Path: wire.PathTo(wire.ClassIdentity, 1, 1)}, nil)
		if failed != nil {
			return *failed
		}
		if a.Status != 0 {
			return declined(&a)
		}
		return field.Reply{Outcome: exchange.Answered, Left: true}
	})
}

// Identify asks for the identity object.
func (c *conn) Identify() (text, by string, reply field.Reply) {
	by = "its identity object"
	reply = c.Question(true, func() field.Reply {
		a, failed := c.ask(&wire.Request{Service: wire.GetAll, Path: wire.PathTo(wire.ClassIdentity, 1, -1)}, nil)
		if failed != nil {
			return *failed
		}
		if a.Status != 0 {
			return declined(&a)
		}
		id, _, err := wire.ParseWho(a.Data)
		if err != nil {
			return c.Garbled(err)
		}
		text = family.Identity(id.Name, id.Vendor, id.Type, id.Product, id.Major, id.Minor, id.Serial, id.Status)
		return field.Reply{Outcome: exchange.Answered, Left: true}
	})
	return text, by, reply
}

// Call asks all devices of a network who they are, by List Identity: over UDP, and of a
// single one over TCP, where the standard has it too.
func (driver) Call(ctx context.Context, t field.Target, _ field.Stations, heard func(field.Found)) error {
	question := (&wire.Frame{Command: wire.ListIdentity}).Append(nil)
	var config net.ListenConfig
	socket, err := config.ListenPacket(ctx, "udp4", ":0")
	if err != nil {
		return err
	}
	defer socket.Close()
	defer context.AfterFunc(ctx, func() { _ = socket.SetDeadline(time.Unix(1, 0)) })()
	to, err := net.ResolveUDPAddr("udp4", t.Dial)
	if err != nil {
		return err
	}
	one := make(chan struct{})
	go func() {
		defer close(one)
		askOne(ctx, t, question, heard)
	}()
	defer func() { <-one }()
	if _, err := socket.WriteTo(question, to); err != nil {
		return nil // nobody listens there: over TCP it may
	}
	room := make([]byte, 2048)
	for {
		n, from, err := socket.ReadFrom(room)
		if err != nil {
			return nil // its time is up
		}
		if at, ok := from.(*net.UDPAddr); ok {
			told(room[:n], at.IP.String(), heard)
		}
	}
}

// askOne asks one device over TCP.
func askOne(ctx context.Context, t field.Target, question []byte, heard func(field.Found)) {
	dialer := net.Dialer{Control: t.Control}
	c, err := dialer.DialContext(ctx, "tcp", t.Dial)
	if err != nil {
		return // it is an address to all, or nobody listens
	}
	defer c.Close()
	defer context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Unix(1, 0)) })()
	if _, err := c.Write(question); err != nil {
		return
	}
	var came []byte
	room := make([]byte, 2048)
	for {
		n, err := c.Read(room)
		came = append(came, room[:n]...)
		if length, bad := wire.FrameLen(came); bad != nil || err != nil && length > len(came) {
			return
		} else if length > 0 && length <= len(came) {
			told(came[:length], "", heard)
			return
		}
		if err != nil {
			return
		}
	}
}

func told(octets []byte, host string, heard func(field.Found)) {
	f, err := wire.ParseFrame(octets)
	if err != nil || f.Command != wire.ListIdentity {
		return
	}
	id, err := wire.ParseIdentity(f.Data)
	if err != nil {
		return
	}
	found := field.Found{Host: host,
		Identity: family.Identity(id.Name, id.Vendor, id.Type, id.Product, id.Major, id.Minor, id.Serial, id.Status)}
	if at := id.At.Addr(); host != "" && at.IsValid() && !at.IsUnspecified() && at.String() != host {
		found.Odd = "it says that its address is " + at.String()
	}
	heard(found)
}
