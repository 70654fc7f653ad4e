package opcua

import (
	"slices"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/address"
	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
)

// Look asks for nodes by their names: what they hold, and whether they can be written. Nodes whose
// namespace the server has not got are not there.
func (c *conn) Look(list []address.Address) ([]protocol.Looked, field.Reply) {
	ctx, done := c.asking(severalMessages)
	defer done()
	looked := make([]protocol.Looked, len(list))
	var of []int
	var structured []*ua.NodeID // of which parts are wanted
	for i, at := range list {
		looked[i] = protocol.Looked{Address: at, Presence: protocol.Missing}
		n, ok := family.NodeOf(at)
		if !ok {
			looked[i].Reason = "it is no node"
			continue
		}
		id, why := c.nodeID(n)
		if looked[i].Reason = why; why != "" {
			continue
		}
		if kept, ok := c.node(id); ok { // by the address of its namespace
			kept.Element, kept.Field = n.Element, n.Field
			looked[i].Address = kept.Address()
		}
		if of = append(of, i); n.Field != "" && !slices.ContainsFunc(structured, id.Equal) {
			structured = append(structured, id)
		}
	}
	if err := c.learnTypes(ctx, structured); err != nil {
		return nil, c.came(err, "the question for the types of its nodes")
	}
	const each = 2
	atOnce := max(1, c.limits.reads/each)
	for some := range slices.Chunk(of, atOnce) {
		var reads []*ua.ReadValueID
		for _, i := range some {
			n, _ := family.NodeOf(list[i])
			id, _ := c.nodeID(n)
			for _, attribute := range []ua.AttributeID{ua.AttributeIDValue, ua.AttributeIDUserAccessLevel} {
				reads = append(reads, &ua.ReadValueID{NodeID: id, AttributeID: attribute})
			}
		}
		values, err := c.read(ctx, reads)
		if err != nil {
			return nil, c.came(err, "the question for its nodes")
		}
		for k, i := range some {
			n, _ := family.NodeOf(list[i])
			c.says(&looked[i], &n, values[each*k], values[each*k+1])
		}
	}
	return looked, c.came(nil, "")
}

// says is what the values of a node mean.
func (c *conn) says(l *protocol.Looked, n *family.Node, v, level *ua.DataValue) {
	code := uint32(v.Status)
	switch base := code &^ 0xFFFF; {
	case base == family.BadNodeIDUnknown, base == family.BadNodeIDInvalid:
		l.Reason = family.Words(code)
		return
	case base == family.BadUserDenied, base == family.BadNotReadable:
		l.Presence, l.Reason = protocol.Barred, family.Words(code)
		return
	case base == family.BadAttribute:
		l.Presence, l.Reason = protocol.Unclear, "it is a folder or an object, and has no value"
		return
	}
	l.Presence = protocol.Here
	if _, why := family.QualityOf(code); why != "" {
		l.Reason = why
	}
	if bits, ok := level.Value.Value().(byte); ok {
		l.Writable = bits&2 != 0
	}
	if shape, known := shapeOf(v.Value.Type()); known {
		l.Type = shape.Type
	}
	held, why := c.partOf(v.Value, n)
	if n.Field != "" {
		l.Writable, l.Type = false, c.partType(v.Value, n)
	}
	if l.Value = held; why != "" && l.Reason == "" {
		l.Reason = why
	}
}
