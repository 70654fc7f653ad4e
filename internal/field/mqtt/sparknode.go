package mqtt

import (
	"slices"
	"sync"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/mqtt"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	wire "ferry/internal/wire/mqtt"
)

// births counts the sessions of each edge node that Ferry has been, from 0 to 255: a
// death tells by it of which birth it is (Sparkplug 3.0, clause 6.4.17).
var births = struct {
	sync.Mutex
	next map[string]uint64
}{next: map[string]uint64{}}

func nextBirth(node string) uint64 {
	births.Lock()
	defer births.Unlock()
	n := births.next[node]
	births.next[node] = (n + 1) % 256
	return n
}

// metric is one of Ferry's own.
type metric struct {
	alias uint64
	kind  wire.Type
	is    wire.Metric // as it was sent last
}

func (c *spark) death() *wire.Payload {
	return &wire.Payload{Time: millis(time.Now()), Metrics: []wire.Metric{{Name: "bdSeq", Type: wire.Int64,
		Value: value.OfInt(int64(c.bdSeq)), Quality: -1}}}
}

// isOwn reports whether a metric is of the edge node that Ferry is.
func (c *spark) isOwn(m family.Metric) bool {
	return c.group != "" && m.Group == c.group && m.Node == c.node
}

// sendNext publishes a payload of Ferry's own with the next sequence number. The state
// is held.
func (c *spark) sendNext(topic string, p *wire.Payload) (int, error) {
	p.Time, p.Seq, p.HasSeq = millis(time.Now()), c.seq, true
	c.seq = (c.seq + 1) % 256
	return c.send(topic, p, 0)
}

// bear publishes the births of the node and of its devices: all metrics with their
// names, types and aliases (clause 6.4.19 and 6.4.21). The state is held.
func (c *spark) bear() (int, error) {
	if len(c.own) == 0 || c.waits() != nil {
		return 0, nil
	}
	c.seq = 0
	now := millis(time.Now())
	first := &wire.Payload{Metrics: []wire.Metric{
		{Name: "bdSeq", Type: wire.Int64, Value: value.OfInt(int64(c.bdSeq)), Time: now, Quality: -1},
		{Name: "Node Control/Rebirth", Type: wire.Boolean, Value: value.OfBool(false), Time: now, Quality: -1}}}
	devices := map[string]*wire.Payload{"": first}
	var names []string
	for _, at := range c.order {
		m := c.own[at]
		p := devices[at.Device]
		if p == nil {
			p = &wire.Payload{}
			devices[at.Device] = p
			names = append(names, at.Device)
		}
		whole := m.is
		whole.Name, whole.Alias, whole.HasAlias, whole.Type = at.Name, m.alias, true, m.kind
		if whole.Value.IsNone() {
			whole.Null, whole.Time = true, now
		}
		p.Metrics = append(p.Metrics, whole)
	}
	code, err := c.sendNext(c.me("NBIRTH"), first)
	for _, device := range names {
		if err != nil || code >= 0x80 {
			break
		}
		code, err = c.sendNext(family.Metric{Group: c.group, Node: c.node, Device: device}.Topic("DBIRTH"), devices[device])
	}
	c.born.Store(err == nil && code < 0x80)
	return code, err
}

// owns makes a metric one of Ferry's own. The state is held.
func (c *spark) owns(m family.Metric, shape value.Shape) *metric {
	if has := c.own[m]; has != nil {
		has.kind = sparkType(shape.Type)
		return has
	}
	made := &metric{alias: uint64(len(c.order) + 1), kind: sparkType(shape.Type), is: wire.Metric{Quality: -1}}
	c.own[m], c.order = made, append(c.order, m)
	return made
}

// sparkType is the data type that holds a type of Ferry's.
func sparkType(t value.Type) wire.Type {
	switch t {
	case value.TypeBool:
		return wire.Boolean
	case value.TypeInt8:
		return wire.Int8
	case value.TypeInt16:
		return wire.Int16
	case value.TypeInt32:
		return wire.Int32
	case value.TypeInt64:
		return wire.Int64
	case value.TypeUint8:
		return wire.UInt8
	case value.TypeUint16, value.TypeEnum, value.TypeFlags:
		return wire.UInt16
	case value.TypeUint32, value.TypeEnum32, value.TypeFlags32:
		return wire.UInt32
	case value.TypeUint64:
		return wire.UInt64
	case value.TypeFloat32:
		return wire.Float
	}
	switch {
	case t.IsText():
		return wire.String
	case t.IsTime():
		return wire.DateTime
	case t.IsWhole():
		return wire.Int64
	}
	return wire.Double
}

// WriteItem sends the value of a metric of Ferry's own node as data, and of others as a
// command.
func (c *spark) WriteItem(to protocol.Wanted, v value.Value, pass field.Pass) field.Reply {
	return c.WriteNoted(to, v, &protocol.Note{Time: time.Now(), Quality: value.Good}, pass)
}

// WriteNoted is WriteItem with the time and quality of the value.
func (c *spark) WriteNoted(to protocol.Wanted, v value.Value, n *protocol.Note, pass field.Pass) field.Reply {
	at := family.MetricOf(to.Address)
	m := wire.Metric{Type: sparkType(to.Shape.Type), Value: v, Time: millis(n.Time), Quality: -1}
	switch n.Quality {
	case value.Bad:
		m.Quality = wire.QualityBad
	case value.Doubtful:
		m.Quality = wire.QualityStale
	}
	left, err := pass()
	if err != nil {
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: err.Error()}
	}
	defer left()
	c.state.Lock()
	defer c.state.Unlock()
	c.socket.tell()
	var code int
	p := &wire.Payload{Metrics: []wire.Metric{m}}
	switch {
	case !c.isOwn(at):
		p.Metrics[0].Name, p.Time = at.Name, millis(time.Now())
		code, err = c.send(at.Topic(kindOf(at, "CMD")), p, 0)
	case c.waits() != nil:
		c.owns(at, to.Shape).is = m // it is born with it
		return *c.waits()
	case c.own[at] == nil || !c.born.Load(): // nobody knows its alias yet
		c.owns(at, to.Shape).is = m
		code, err = c.bear()
	default:
		own := c.own[at]
		if own.is.Quality >= 0 && m.Quality < 0 {
			p.Metrics[0].Quality = wire.QualityGood // it was told that it is not
		}
		own.is = m
		p.Metrics[0].Alias, p.Metrics[0].HasAlias = own.alias, true
		code, err = c.sendNext(at.Topic(kindOf(at, "DATA")), p)
	}
	reply := c.published(code, err)
	c.socket.witnessed(&reply)
	return reply
}

// kindOf is the kind of a message about a metric: of its node, or of its device.
func kindOf(m family.Metric, kind string) string {
	if m.Device == "" {
		return "N" + kind
	}
	return "D" + kind
}

// commanded takes in what a host asks of Ferry's own node: to be born again, or a value
// for one of its metrics, which it then has if something carries it on. The state is
// held.
func (c *spark) commanded(at family.Metric, p *wire.Payload, report *field.Report) {
	for i := range p.Metrics {
		m := &p.Metrics[i]
		if at.Device == "" && m.Name == "Node Control/Rebirth" {
			if m.Value.Bool() {
				go func() { // the library waits for this to end
					c.state.Lock()
					defer c.state.Unlock()
					_, _ = c.bear() // the host asks again
				}()
			}
			continue
		}
		of := at
		if of.Name = m.Name; of.Name == "" && m.HasAlias && m.Alias >= 1 && m.Alias <= uint64(len(c.order)) {
			of = c.order[m.Alias-1]
		}
		own := c.own[of]
		if own != nil {
			m.Means(own.kind)
		}
		if own == nil || m.Type.Several() || m.Null || m.Value.IsNone() || !slices.ContainsFunc(c.points[of],
			func(w protocol.Wanted) bool { return c.takes != nil && c.takes(w.ID) }) {
			continue // nothing would come of it, and the metric is to say what is
		}
		own.is = wire.Metric{Type: own.kind, Value: m.Value, Time: millis(time.Now()), Quality: -1}
		for _, w := range c.points[of] {
			report.Samples = append(report.Samples, field.Sampled{ID: w.ID, Value: m.Value, Quality: value.Good})
		}
		data := own.is
		data.Alias, data.HasAlias = own.alias, true
		go func() {
			c.state.Lock()
			defer c.state.Unlock()
			_, _ = c.sendNext(of.Topic(kindOf(of, "DATA")),
				&wire.Payload{Metrics: []wire.Metric{data}}) // told again with the next
		}()
	}
}
