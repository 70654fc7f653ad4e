package opcua

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/gopcua/opcua/ua"

	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	wire "ferry/internal/wire/opcua"
)

// typed is what values of a type are, or why that is not known.
type typed struct {
	slot wire.Slot
	err  error
}

// Kinds of types whose values may be anything (OPC 10000-6, annex A.3).
const (
	idStructure   = 22
	idEnumeration = 29
	mostTyped     = 8 // types inside of types
	mostTypes     = 2000
)

// slot learns what values of a type are: by its definition (OPC 10000-3, clause 8.47), by the
// names of its values, or by the type that it is a subtype of. What the server refuses to say is
// remembered; err is of the connection.
func (c *conn) slot(ctx context.Context, id *ua.NodeID, depth int) (typed, error) {
	if id.Namespace() == 0 {
		switch n := id.IntID(); {
		case n == idEnumeration:
			return typed{slot: wire.Slot{Type: ua.TypeIDInt32}}, nil
		case n == idStructure:
			return typed{err: errors.New("it may be any structure")}, nil
		case n > 0 && n <= uint32(ua.TypeIDDiagnosticInfo):
			return typed{slot: wire.Slot{Type: ua.TypeID(n)}}, nil
		}
	}
	key := id.String()
	if known, ok := c.slots[key]; ok {
		return known, nil
	}
	if depth > mostTyped || len(c.slots) >= mostTypes {
		return typed{err: fmt.Errorf("its types are nested more than %d deep, or are more than %d", mostTyped,
			mostTypes)}, nil
	}
	is, err := c.asked(ctx, id, depth)
	if err == nil {
		c.slots[key] = is
	}
	return is, err
}

// asked asks a server for what slot learns.
func (c *conn) asked(ctx context.Context, id *ua.NodeID, depth int) (is typed, err error) {
	values, err := c.read(ctx, []*ua.ReadValueID{{NodeID: id, AttributeID: ua.AttributeIDDataTypeDefinition}})
	if err != nil {
		return is, err
	}
	var broken error
	if object, ok := values[0].Value.Value().(*ua.ExtensionObject); ok && object != nil {
		switch def := object.Value.(type) {
		case *ua.StructureDefinition:
			layout, err := wire.LayoutOf(def, func(of *ua.NodeID) (wire.Slot, error) {
				inner, lost := c.slot(ctx, of, depth+1)
				broken = cmp.Or(broken, lost)
				return inner.slot, cmp.Or(inner.err, lost)
			})
			if broken == nil && err == nil && def.DefaultEncodingID != nil {
				c.mu.Lock()
				c.layouts[def.DefaultEncodingID.String()] = layout
				c.mu.Unlock()
			}
			return typed{wire.Slot{Of: layout}, err}, broken
		case *ua.EnumDefinition:
			names := map[int]string{}
			for _, f := range def.Fields {
				if f != nil && len(names) < mostStates {
					names[int(f.Value)] = f.Name
					if f.DisplayName != nil && f.DisplayName.Text != "" {
						names[int(f.Value)] = f.DisplayName.Text
					}
					names[int(f.Value)] = short(names[int(f.Value)], mostName)
				}
			}
			return typed{slot: wire.Slot{Type: ua.TypeIDInt32, Names: names}}, nil
		}
	}
	found, err := c.properties(ctx, []*ua.NodeID{id}, described...)
	if err != nil {
		return is, err
	}
	var m measure
	if m.take(found); m.names != nil {
		return typed{slot: wire.Slot{Type: ua.TypeIDInt32, Names: m.names}}, nil
	}
	answer, err := send[*ua.BrowseResponse](ctx, c.session, &ua.BrowseRequest{
		View: &ua.ViewDescription{ViewID: ua.NewTwoByteNodeID(0)}, NodesToBrowse: []*ua.BrowseDescription{{NodeID: id,
			BrowseDirection: ua.BrowseDirectionInverse, ReferenceTypeID: ua.NewNumericNodeID(0, idHasSubtype),
			ResultMask: uint32(ua.BrowseResultMaskAll)}}})
	if _, refused := status(err); err != nil && !refused {
		return is, err
	}
	if err == nil && len(answer.Results) == 1 && answer.Results[0] != nil {
		for _, r := range answer.Results[0].References {
			if r != nil && r.NodeID != nil && r.NodeID.NodeID != nil {
				return c.slot(ctx, r.NodeID.NodeID, depth+1)
			}
		}
	}
	return typed{err: errors.New("the server does not say what its type holds")}, nil
}

// learnTypes learns the types of nodes, of which values in structures are wanted.
func (c *conn) learnTypes(ctx context.Context, nodes []*ua.NodeID) error {
	var reads []*ua.ReadValueID
	for _, id := range nodes {
		reads = append(reads, &ua.ReadValueID{NodeID: id, AttributeID: ua.AttributeIDDataType})
	}
	values, err := c.read(ctx, reads)
	if err != nil {
		return err
	}
	for _, v := range values {
		if id, ok := v.Value.Value().(*ua.NodeID); ok && id != nil {
			if _, err := c.slot(ctx, id, 0); err != nil {
				return err
			}
		}
	}
	return nil
}

// leaves takes a structure apart.
func (c *conn) leaves(of any) ([]wire.Leaf, error) {
	object, ok := of.(*ua.ExtensionObject)
	if !ok || object == nil || object.TypeID == nil || object.TypeID.NodeID == nil {
		return nil, errors.New("the node holds no structure")
	}
	body, ok := object.Value.(wire.Body)
	if !ok {
		return nil, errors.New("the node holds a structure of OPC UA itself")
	}
	c.mu.Lock()
	layout := c.layouts[object.TypeID.NodeID.String()]
	c.mu.Unlock()
	if layout == nil {
		return nil, errors.New("the server does not say how the structure is laid out")
	}
	return layout.Leaves(body)
}

// partOf is a value as the server has it, or a part of it.
func (c *conn) partOf(v *ua.Variant, n *family.Node) (out value.Value, why string) {
	if n.Field == "" || v == nil || v.Value() == nil {
		return valueOf(v, n.Element)
	}
	of := v.Value()
	if list, ok := of.([]*ua.ExtensionObject); ok || n.Element >= 0 {
		if n.Element < 0 || n.Element >= len(list) {
			return out, fmt.Sprintf("the array has %d elements, counted from 0", len(list))
		}
		of = list[n.Element]
	}
	leaves, err := c.leaves(of)
	if err != nil {
		return out, err.Error()
	}
	i := slices.IndexFunc(leaves, func(l wire.Leaf) bool { return l.Path == n.Field })
	if i < 0 {
		return out, "the structure has no field " + n.Field
	}
	if leaves[i].Value == nil {
		return out, "the structure holds nothing in that field now"
	}
	return scalar(leaves[i].Value)
}

// mostElements is how many elements of an array are places.
const mostElements = 1000

// partType is the type of a part of a structure, empty where it is none of Ferry's.
func (c *conn) partType(v *ua.Variant, n *family.Node) value.Type {
	whole := *n
	whole.Element, whole.Field = -1, ""
	list, _ := c.parts(listed{}, whole, v.Value())
	for _, h := range list {
		if of, ok := family.NodeOf(h.Address); ok && of == *n {
			return h.Shape.Type
		}
	}
	return ""
}

// parts are the values in a structure, or in the structures of an array, as places; ok is false
// for what is none that can be taken apart.
func (c *conn) parts(v listed, n family.Node, of any) (list []protocol.Held, ok bool) {
	switch of := of.(type) {
	case *ua.ExtensionObject:
		list = c.partsOf(v, n, of)
	case []*ua.ExtensionObject:
		for i, each := range of[:min(len(of), mostElements)] {
			n.Element = i
			one := v
			one.name += fmt.Sprintf("[%d]", i)
			list = append(list, c.partsOf(one, n, each)...)
		}
	}
	return list, len(list) > 0
}

func (c *conn) partsOf(v listed, n family.Node, of any) (list []protocol.Held) {
	leaves, err := c.leaves(of)
	if err != nil {
		return nil
	}
	for _, leaf := range leaves {
		held := protocol.Held{Name: v.name + "." + leaf.Path, Names: leaf.Names}
		if leaf.Value != nil {
			variant, err := ua.NewVariant(leaf.Value)
			if err != nil {
				continue
			}
			var known bool
			if held.Shape, known = shapeOf(variant.Type()); !known {
				continue
			}
		}
		n.Field = leaf.Path
		held.Address = n.Address()
		list = append(list, held)
	}
	return list
}
