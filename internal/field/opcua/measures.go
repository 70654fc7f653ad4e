package opcua

import (
	"context"
	"math"

	"github.com/gopcua/opcua/ua"

	family "ferry/internal/core/family/opcua"
)

// measure is what a variable says of its value: the unit, empty for none, the range, and the
// names of its values; nil for none.
type measure struct {
	kind      ua.TypeID // that of a value which is not there now, 0 for not known
	unit      string
	low, high *float64
	names     map[int]string
}

// mostStates is how many values have names at most.
const mostStates = 1000

// described are the names of the properties that say it (OPC 10000-8, clause 5.3).
var described = []string{family.PropertyUnit, family.PropertyRange, family.PropertyStates, family.PropertyValues,
	family.PropertyFalse, family.PropertyTrue}

// measures asks variables, whose values are given, for what they say of them. Where they are of an
// enumeration, its type knows the names (OPC 10000-3, clause 8.41); where there is no value now,
// the type of what there would be is asked for.
func (c *conn) measures(ctx context.Context, variables []listed, values func(i int) *ua.DataValue) ([]measure, error) {
	list := make([]measure, len(variables))
	found, err := c.properties(ctx, idsOf(variables), described...)
	if err != nil {
		return nil, err
	}
	var more []int
	for i := range list {
		list[i].take(found[len(described)*i : len(described)*(i+1)])
		if v := values(i).Value; v.Value() == nil || v.Type() == ua.TypeIDInt32 && list[i].names == nil ||
			v.Type() == ua.TypeIDExtensionObject {
			more = append(more, i)
		}
	}
	return list, c.kinds(ctx, variables, more, list)
}

// kinds asks some of the variables for the types of their values.
func (c *conn) kinds(ctx context.Context, variables []listed, which []int, into []measure) error {
	var reads []*ua.ReadValueID
	for _, i := range which {
		reads = append(reads, &ua.ReadValueID{NodeID: variables[i].id, AttributeID: ua.AttributeIDDataType})
	}
	kinds, err := c.read(ctx, reads)
	if err != nil {
		return err
	}
	for k, v := range kinds {
		id, ok := v.Value.Value().(*ua.NodeID)
		if !ok || id == nil {
			continue
		}
		is, err := c.slot(ctx, id, 0)
		if err != nil {
			return err
		}
		m := &into[which[k]]
		if m.kind = is.slot.Type; m.names == nil {
			m.names = is.slot.Names
		}
	}
	return nil
}

// take adds what the properties say, in the order of their names. A range that bounds nothing is
// none.
func (m *measure) take(said []any) {
	name := func(is int64, of *ua.LocalizedText) {
		if of == nil || of.Text == "" || len(m.names) >= mostStates {
			return
		}
		if m.names == nil {
			m.names = map[int]string{}
		}
		m.names[int(is)] = short(of.Text, mostName)
	}
	object := func(of any) any {
		if o, ok := of.(*ua.ExtensionObject); ok && o != nil {
			return o.Value
		}
		return nil
	}
	if unit, ok := object(said[0]).(*ua.EUInformation); ok && unit.DisplayName != nil {
		m.unit = short(unit.DisplayName.Text, mostUnit)
	}
	if r, ok := object(said[1]).(*ua.Range); ok {
		if low, high := r.Low, r.High; low < high && !math.IsInf(low, 0) && !math.IsInf(high, 0) {
			m.low, m.high = &low, &high
		}
	}
	texts, _ := said[2].([]*ua.LocalizedText)
	for is, of := range texts {
		name(int64(is), of)
	}
	values, _ := said[3].([]*ua.ExtensionObject)
	for _, each := range values {
		if of, ok := object(each).(*ua.EnumValueType); ok && of != nil {
			name(of.Value, of.DisplayName)
		}
	}
	for is, of := range said[4:] {
		text, _ := of.(*ua.LocalizedText)
		name(int64(is), text)
	}
}
