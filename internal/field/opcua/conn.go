// Package opcua talks to servers of OPC UA. The library does the wire; whom to trust, the
// session, the subscription and what is made of them are here.
package opcua

import (
	"context"
	"errors"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/value"
	"ferry/internal/field"
	wire "ferry/internal/wire/opcua"
)

func init() { field.Register(family.TCP.Name, driver{}) }

type driver struct{}

func (driver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	if err := family.CheckEndpoint(t.Settings); err != nil {
		return nil, field.Reply{Outcome: exchange.NotAllowed, Stop: route.Session, Sentence: err.Error()}
	}
	secured, reply := security(ctx, &t)
	if secured == nil {
		return nil, reply
	}
	s, reply := connect(ctx, &t, *secured)
	if s == nil {
		return nil, reply
	}
	reply = s.begin(ctx, &t, secured.Own)
	if reply.Frames, reply.SentAt = s.frames(); !reply.OK() {
		s.close()
		return nil, reply
	}
	c := &conn{session: s, settings: t.Settings, reports: make(chan field.Report, 256), types: map[string]holding{},
		layouts: map[string]*wire.Layout{}}
	c.life, c.cancel = context.WithCancel(ctx)
	c.stop = context.AfterFunc(ctx, func() {
		c.finish(field.Reply{Outcome: exchange.Closed,
			Sentence: "the session was ended here"})
	})
	go c.watch()
	return c, reply
}

// conn is a session that is in use.
type conn struct {
	*session
	settings protocol.Settings
	life     context.Context // of the session
	cancel   context.CancelFunc
	stop     func() bool
	over     atomic.Bool
	reports  chan field.Report
	layouts  map[string]*wire.Layout // of structures, by their encodings; held by mu
	types    map[string]holding      // of nodes that were written, by their numbers
	walk     *walk                   // of the model, while it is listed
	folder   *opened                 // that was looked into last; nil for none

	mu           sync.Mutex
	closed       bool
	said         field.Reply   // how it ended
	subscription *subscription // nil for none
	news         *news         // nil before the first
	question     context.CancelFunc
}

func (c *conn) Toward(protocol.Settings) {}

// Break ends the question under way.
func (c *conn) Break() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.question != nil {
		c.question()
	}
}

func (c *conn) Usable() bool { return !c.over.Load() }

func (c *conn) Close() error {
	c.stop()
	c.finish(field.Reply{Outcome: exchange.Closed, Sentence: "the session was ended here"})
	return nil
}

// finish ends the session, once, and says how it ended.
func (c *conn) finish(reply field.Reply) {
	if !c.over.CompareAndSwap(false, true) {
		return
	}
	c.cancel()
	c.close()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.closed, c.said = true, reply
	close(c.reports)
}

// watch ends the session when its channel has ended.
func (c *conn) watch() {
	select {
	case <-c.ended:
		c.finish(c.failed(c.why(), "the session"))
	case <-c.life.Done():
	}
}

func (c *conn) Reports() <-chan field.Report { return c.reports }

func (c *conn) Ended() field.Reply {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.said
}

// hand hands a report over. Who takes them may be behind: then what is oldest goes.
func (c *conn) hand(report field.Report) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		return
	}
	for {
		select {
		case c.reports <- report:
			return
		default:
		}
		select {
		case <-c.reports:
		default:
		}
	}
}

// severalMessages is how many messages in a row a question may take that has several. Each has its
// own time besides.
const severalMessages = 30

// asking gives a question of so many messages its time, and lets Break end it.
func (c *conn) asking(messages int) (ctx context.Context, done func()) {
	ctx, cancel := context.WithTimeout(c.life, time.Duration(messages)*c.within+time.Second)
	c.beginTape()
	c.mu.Lock()
	c.question = cancel
	c.mu.Unlock()
	return ctx, func() {
		c.mu.Lock()
		c.question = nil
		c.mu.Unlock()
		cancel()
	}
}

// came is what came of a question.
func (c *conn) came(err error, what string) field.Reply {
	if err == nil {
		reply := field.Reply{Outcome: exchange.Answered, Left: true}
		reply.Frames, reply.SentAt = c.frames()
		return reply
	}
	reply := c.failed(err, what)
	reply.Left = true
	reply.Frames, reply.SentAt = c.frames()
	switch code, coded := status(err); {
	case !coded && !errors.Is(err, context.DeadlineExceeded),
		code == family.BadSessionID, code == family.BadSessionClosed, code == family.BadShutdown,
		code == family.BadServerHalted:
		c.finish(reply)
	}
	return reply
}

// Greet asks the server how it is.
func (c *conn) Greet() field.Reply {
	ctx, done := c.asking(1)
	defer done()
	_, err := c.read(ctx, []*ua.ReadValueID{{NodeID: ua.NewNumericNodeID(0, idServerState),
		AttributeID: ua.AttributeIDValue}})
	return c.came(err, "the question how it is")
}

// Identify asks the server who made it, what it is and of which version.
func (c *conn) Identify() (text, by string, reply field.Reply) {
	ctx, done := c.asking(severalMessages)
	defer done()
	var list []*ua.ReadValueID
	for _, id := range []uint32{idManufacturer, idProductName, idSoftware} {
		list = append(list, &ua.ReadValueID{NodeID: ua.NewNumericNodeID(0, id), AttributeID: ua.AttributeIDValue})
	}
	values, err := c.read(ctx, list)
	if reply = c.came(err, "the question who it is"); err != nil {
		return "", "", reply
	}
	for _, v := range values {
		if said, ok := v.Value.Value().(string); ok && said != "" {
			if text != "" {
				text += ", "
			}
			text += said
		}
	}
	return text, "BuildInfo", reply
}

// WriteItem writes a value in the type that the node has.
func (c *conn) WriteItem(to protocol.Wanted, v value.Value, pass field.Pass) field.Reply {
	ctx, done := c.asking(severalMessages)
	defer done()
	not := c.not
	n, ok := family.NodeOf(to.Address)
	if !ok {
		return not("it is no node")
	}
	id, why := c.nodeID(n)
	if why != "" {
		return not(why)
	}
	holds, reply := c.typeOf(ctx, n, id)
	if !reply.OK() {
		return reply
	}
	switch {
	case holds.sides > 1:
		return not("the node holds a table of several dimensions: its elements are read, and not written one by one")
	case n.Field != "":
		return not("a value in a structure is read, and not written without the others")
	case holds.array && n.Element < 0:
		return not("the node holds an array: say which element, as in [0]")
	case !holds.array && n.Element >= 0:
		return not("the node holds no array: write it without an element")
	}
	plain, err := asType(v, holds.kind)
	if err != nil {
		return not(err.Error())
	}
	item := &ua.WriteValue{NodeID: id, AttributeID: ua.AttributeIDValue}
	if holds.array { // of an array the element alone (OPC 10000-4, clause 7.27)
		item.IndexRange, plain = strconv.Itoa(n.Element), listOf(plain)
	}
	item.Value = &ua.DataValue{EncodingMask: ua.DataValueValue, Value: ua.MustVariant(plain)}
	left, err := pass()
	if err != nil {
		return not(err.Error())
	}
	defer left()
	answer, err := send[*ua.WriteResponse](ctx, c.session, &ua.WriteRequest{NodesToWrite: []*ua.WriteValue{item}})
	if err != nil {
		return c.came(err, "the write")
	}
	reply = c.came(nil, "")
	if len(answer.Results) != 1 {
		reply.Outcome, reply.Sentence = exchange.Garbled, "the server does not say whether it was written"
	} else if code := uint32(answer.Results[0]); code>>30 != 0 {
		reply.Outcome, reply.Code, reply.Sentence = exchange.Declined, int(code), "the server refuses: "+family.Words(code)
	}
	return reply
}

// not is that nothing was sent, and why.
func (c *conn) not(why string) field.Reply {
	return field.Reply{Outcome: exchange.NotAllowed, Sentence: why}
}

// holding is what a node holds: a value of a type, or an array of them.
type holding struct {
	kind  ua.TypeID
	array bool
	sides int // how many dimensions an array has
}

// typeOf is what a node holds, asked for once.
func (c *conn) typeOf(ctx context.Context, n family.Node, id *ua.NodeID) (holding, field.Reply) {
	if known, ok := c.types[id.String()]; ok {
		return known, field.Reply{Outcome: exchange.Answered}
	}
	values, err := c.read(ctx, []*ua.ReadValueID{{NodeID: id, AttributeID: ua.AttributeIDValue},
		{NodeID: id, AttributeID: ua.AttributeIDValueRank}})
	if err != nil {
		reply := c.came(err, "the question for its type")
		reply.Left = false
		return holding{}, reply
	}
	v := values[0].Value
	if code := uint32(values[0].Status); code>>30 == 2 && v.Value() == nil {
		return holding{}, field.Reply{Outcome: exchange.Declined, Code: int(code),
			Sentence: "the server does not tell its type: " + family.Words(code)}
	}
	holds := holding{kind: v.Type(), array: v.Has(ua.VariantArrayValues)}
	if rank, ok := values[1].Value.Value().(int32); ok {
		holds.sides = int(rank)
	}
	c.types[id.String()] = holds
	return holds, field.Reply{Outcome: exchange.Answered}
}

// Follow subscribes to nodes, in the place of those before.
func (c *conn) Follow(wanted []protocol.Wanted) (field.Reply, []field.Refusal) {
	ctx, done := c.asking(severalMessages)
	defer done()
	c.mu.Lock()
	old := c.subscription
	c.subscription = nil
	c.mu.Unlock()
	if old != nil {
		c.turn(nil)
		_, _ = send[*ua.DeleteSubscriptionsResponse](ctx, c.session,
			&ua.DeleteSubscriptionsRequest{SubscriptionIDs: []uint32{old.id}}) // the server ends it for want of questions, too
	}
	if len(wanted) == 0 {
		return field.Reply{Outcome: exchange.Answered, Left: true}, nil
	}
	made, err := c.subscribe(ctx)
	if err != nil {
		return c.came(err, "the subscription"), nil
	}
	refused, err := made.monitor(ctx, wanted)
	if err != nil {
		return c.came(err, "the nodes of the subscription"), refused
	}
	c.mu.Lock()
	c.subscription = made
	c.mu.Unlock()
	c.turn(made)
	return c.came(nil, ""), refused
}

// Dissect labels chunks and what they hold: they are kept as they are without cipher.
func (driver) Dissect(frames []exchange.Frame, points []exchange.Labelled) [][]exchange.Field {
	out, in := exchange.Sides(frames)
	return exchange.Spread(frames, wire.Labels(out, nil), wire.Labels(in, points))
}
