package mqtt

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ferry/internal/core/address"
	family "ferry/internal/core/family/mqtt"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	wire "ferry/internal/wire/mqtt"
)

// node is an edge node that is heard.
type node struct {
	born    bool
	last    uint64                       // sequence number
	names   map[string]map[uint64]string // by device and alias
	types   map[family.Metric]wire.Type
	bdSeq   uint64
	asked   time.Time // to be born again
	trouble string    // why its values are doubted until it is
}

// mostNodes bounds the nodes that a listing hears, mostTold the metrics of one that are
// remembered.
const (
	mostNodes = 2000
	mostTold  = 50_000
)

// askBirth tells a node to be born again, but not again and again. The state is held.
func (c *spark) askBirth(key string) {
	n := c.hears(key)
	if !family.Sparkplug.Value(c.settings, family.KeyRebirth).On() || time.Since(n.asked) < askAgain {
		return
	}
	n.asked = time.Now()
	group, name, _ := strings.Cut(key, "/")
	p := &wire.Payload{Time: millis(time.Now()), Metrics: []wire.Metric{{Name: "Node Control/Rebirth", Type: wire.Boolean,
		Value: value.OfBool(true), Quality: -1}}}
	go func() { // what comes may be what it is asked from
		_, _ = c.send(family.Metric{Group: group, Node: name}.Topic("NCMD"), p, 0) // it is asked again
	}()
}

// askAgain is how long a node is given to be born again.
const askAgain = 5 * time.Second

func (c *spark) hears(key string) *node {
	n := c.others[key]
	if n == nil {
		n = &node{names: map[string]map[uint64]string{}, types: map[family.Metric]wire.Type{}}
		c.others[key] = n
	}
	return n
}

// take takes in a payload. The state is held.
func (c *spark) take(kind string, at family.Metric, p *wire.Payload, report *field.Report) {
	key := at.Group + "/" + at.Node
	if kind == "NCMD" || kind == "DCMD" {
		if c.isOwn(at) {
			c.commanded(at, p, report)
		}
		return
	}
	if !c.nodes[key] && (!c.listing || len(c.others) >= mostNodes) {
		return // nobody wants it
	}
	n := c.hears(key)
	own := c.isOwn(at)
	if (kind == "NDEATH" || kind == "DDEATH") && !own {
		if kind == "NDEATH" && n.born && len(p.Metrics) > 0 && p.Metrics[0].Name == "bdSeq" &&
			uint64(p.Metrics[0].Value.Float()) != n.bdSeq {
			return // of an earlier birth
		}
		if kind == "NDEATH" {
			n.born = false
		}
		c.spoil(report, at, kind == "DDEATH", "the "+map[string]string{"NDEATH": "node",
			"DDEATH": "device"}[kind]+" has died")
		return
	}
	missing := uint64(0)
	switch {
	case kind == "NBIRTH":
		n.born, n.trouble, n.names, n.types = true, "", map[string]map[uint64]string{}, map[family.Metric]wire.Type{}
	case !n.born && !own:
		n.trouble = "its birth was missed: what its numbers mean is not known for certain"
		c.askBirth(key)
	case p.HasSeq && p.Seq != (n.last+1)%256 && !own:
		missing = (p.Seq - n.last - 1 + 256) % 256
		n.trouble = fmt.Sprintf("%d messages of the node are missing", missing)
		c.askBirth(key)
	case n.trouble != "" && !own:
		c.askBirth(key) // until it is
	}
	if p.HasSeq {
		n.last = p.Seq
	}
	born := kind == "NBIRTH" || kind == "DBIRTH"
	for i := range p.Metrics {
		m := &p.Metrics[i]
		if len(n.types) >= mostTold {
			break
		}
		if born && m.HasAlias {
			if n.names[at.Device] == nil {
				n.names[at.Device] = map[uint64]string{}
			}
			n.names[at.Device][m.Alias] = m.Name
		}
		of := at
		if of.Name = m.Name; of.Name == "" {
			of.Name = n.names[at.Device][m.Alias]
		}
		if born {
			n.types[of] = m.Type
		} else {
			m.Means(n.types[of])
		}
		if kind == "NBIRTH" && of.Name == "bdSeq" {
			n.bdSeq = uint64(m.Value.Float())
		}
		if own && m.Null || m.Historical {
			continue
		}
		for _, w := range c.points[of] {
			report.Samples = append(report.Samples, n.sampled(w, m, p))
		}
	}
}

// sampled is a metric as a sample.
func (n *node) sampled(w protocol.Wanted, m *wire.Metric, p *wire.Payload) field.Sampled {
	m.Means(sparkType(w.Shape.Type)) // where no birth told
	s := field.Sampled{ID: w.ID, Value: m.Value, Quality: value.Good}
	if ms := max(m.Time, p.Time*uint64(1-min(1, m.Time))); ms > 0 {
		s.Time = time.UnixMilli(int64(ms))
	}
	switch {
	case m.Type.Several() && !m.Null:
		s.Value, s.Quality = value.Value{}, value.Bad
		s.Reason = "it is a data set, a template, an array or octets, and no single value"
	case m.Null || m.Value.IsNone():
		s.Quality, s.Reason = value.Bad, "the node says that it has no value"
	case m.Quality == wire.QualityBad:
		s.Quality, s.Reason = value.Bad, "the node says that it is bad"
	case m.Quality == wire.QualityStale:
		s.Quality, s.Reason = value.Doubtful, "the node says that it is old"
	case n.trouble != "":
		s.Quality, s.Reason = value.Doubtful, n.trouble
	}
	return s
}

// spoil makes all points of a node, or of one device of it, bad. The state is held.
func (c *spark) spoil(report *field.Report, at family.Metric, device bool, why string) {
	for m, list := range c.points {
		if m.Group != at.Group || m.Node != at.Node || device && m.Device != at.Device {
			continue
		}
		for _, w := range list {
			report.Samples = append(report.Samples, field.Sampled{ID: w.ID, Quality: value.Bad, Reason: why})
		}
	}
}

// List tells which metrics nodes are born with, within two seconds in which all that
// are heard are asked for their births.
func (c *spark) List(string) (held []protocol.Held, next string, reply field.Reply) {
	c.state.Lock()
	c.listing = true
	c.state.Unlock()
	reply, ok := c.hearAll("spBv1.0/#")
	c.state.Lock()
	defer c.state.Unlock()
	c.listing = false
	defer maps.DeleteFunc(c.others, func(key string, _ *node) bool { return !c.nodes[key] })
	if !ok {
		return nil, "", reply
	}
	for _, n := range c.others {
		for m, kind := range n.types {
			if t := typeOf(kind); t != "" && m.Name != "bdSeq" && !c.isOwn(m) {
				held = append(held, protocol.Held{Address: address.Named(family.MetricSpace, m.String()), Name: m.Name,
					Shape: value.Shape{Type: t, Length: lengthOf(t)}, Writable: true})
			}
		}
	}
	slices.SortFunc(held, func(a, b protocol.Held) int { return address.Compare(a.Address, b.Address) })
	return held, "", reply
}

// typeOf is the type of Ferry's for a data type, empty for none.
func typeOf(t wire.Type) value.Type {
	return map[wire.Type]value.Type{wire.Boolean: value.TypeBool, wire.Int8: value.TypeInt8, wire.Int16: value.TypeInt16,
		wire.Int32: value.TypeInt32, wire.Int64: value.TypeInt64, wire.UInt8: value.TypeUint8, wire.UInt16: value.TypeUint16,
		wire.UInt32: value.TypeUint32, wire.UInt64: value.TypeUint64, wire.Float: value.TypeFloat32,
		wire.Double: value.TypeFloat64, wire.String: value.TypeText, wire.Text: value.TypeText}[t]
}

// lengthOf is the length of a text of which a birth tells none.
func lengthOf(t value.Type) int {
	if t.IsText() {
		return 64
	}
	return 0
}
