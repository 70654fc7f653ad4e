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
	unit      string
	low, high *float64
	names     map[int]string
}

// mostStates is how many values have names at most.
const mostStates = 1000

// measures asks variables for their units, ranges and states (OPC 10000-8, clause 5.3), whose
// values are given: where they are of an enumeration, its type knows the names (OPC 10000-3,
// clause 8.41).
func (c *conn) measures(ctx context.Context, variables []listed, values func(i int) *ua.DataValue) ([]measure, error) {
	list := make([]measure, len(variables))
	names := []string{family.PropertyUnit, family.PropertyRange, family.PropertyStates, family.PropertyValues}
	found, err := c.properties(ctx, idsOf(variables), names...)
	if err != nil {
		return nil, err
	}
	var unnamed []int
	for i := range list {
		for _, said := range found[len(names)*i : len(names)*(i+1)] {
			list[i].take(said)
		}
		if values(i).Value.Type() == ua.TypeIDInt32 && list[i].names == nil {
			unnamed = append(unnamed, i)
		}
	}
	return list, c.enumerated(ctx, variables, unnamed, list)
}

// enumerated names the values of those variables that are of an enumeration.
func (c *conn) enumerated(ctx context.Context, variables []listed, which []int, into []measure) error {
	var reads []*ua.ReadValueID
	for _, i := range which {
		reads = append(reads, &ua.ReadValueID{NodeID: variables[i].id, AttributeID: ua.AttributeIDDataType})
	}
	kinds, err := c.read(ctx, reads)
	if err != nil {
		return err
	}
	var new []*ua.NodeID
	of := make([]string, len(which))
	for k, v := range kinds {
		id, ok := v.Value.Value().(*ua.NodeID)
		if !ok || id == nil || id.Namespace() == 0 && id.IntID() <= uint32(ua.TypeIDDiagnosticInfo) {
			continue
		}
		of[k] = id.String()
		if _, known := c.states[of[k]]; !known {
			c.states[of[k]] = nil
			new = append(new, id)
		}
	}
	names := []string{family.PropertyStates, family.PropertyValues}
	found, err := c.properties(ctx, new, names...)
	if err != nil {
		return err
	}
	for k, id := range new {
		var m measure
		m.take(found[len(names)*k])
		m.take(found[len(names)*k+1])
		c.states[id.String()] = m.names
	}
	for k, i := range which {
		into[i].names = c.states[of[k]]
	}
	return nil
}

// take adds what a property says. A range that bounds nothing is none.
func (m *measure) take(said any) {
	name := func(is int64, of *ua.LocalizedText) {
		if of == nil || of.Text == "" || len(m.names) >= mostStates {
			return
		}
		if m.names == nil {
			m.names = map[int]string{}
		}
		m.names[int(is)] = of.Text
	}
	switch said := said.(type) {
	case []*ua.LocalizedText:
		for is, of := range said {
			name(int64(is), of)
		}
	case []*ua.ExtensionObject:
		for _, each := range said {
			if each == nil {
				continue
			}
			if of, ok := each.Value.(*ua.EnumValueType); ok && of != nil {
				name(of.Value, of.DisplayName)
			}
		}
	case *ua.ExtensionObject:
		if said != nil {
			m.take(said.Value)
		}
	case *ua.EUInformation:
		if said.DisplayName != nil {
			m.unit = said.DisplayName.Text
		}
	case *ua.Range:
		if low, high := said.Low, said.High; low < high && !math.IsInf(low, 0) && !math.IsInf(high, 0) {
			m.low, m.high = &low, &high
		}
	}
}
