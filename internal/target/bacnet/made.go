package bacnet

import (
	"fmt"
	"math"
	"strings"

	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	wire "ferry/internal/wire/bacnet"
)

// Made makes objects of places: those that name the present value of one, each with a name of its own. By is
// which object each place has become.
func Made(held []protocol.Held) (objects []*Object, by map[string]wire.ObjectID) {
	by = map[string]wire.ObjectID{}
	named, has := map[string]int{}, map[wire.ObjectID]bool{}
	for i := range held {
		h := &held[i]
		p, ok := family.PlaceOf(h.Address)
		id := wire.ID(uint16(p.Type), p.Instance)
		if !ok || p.Property != family.PresentValue || p.Type.Holds() == "" || has[id] {
			continue
		}
		o := &Object{ID: id, Name: h.Name, Description: h.Remark, Unit: family.NoUnits, Low: bound(h.Low),
			High: bound(h.High), Step: h.Band, Commanded: h.Writable && p.Type.Commanded(), States: states(p.Type, h)}
		if u, known := family.UnitCalled(h.Unit); known && h.Unit != "" {
			o.Unit = u
		}
		if o.Name == "" {
			o.Name = p.Type.Name() + " " + fmt.Sprint(p.Instance)
		}
		if named[o.Name]++; named[o.Name] > 1 { // a name is unique in its device (clause 12.1.1.2)
			o.Name = fmt.Sprintf("%s (%s %d)", o.Name, p.Type.Short(), p.Instance)
		}
		has[id], by[h.Address.String()] = true, id
		objects = append(objects, o)
	}
	return objects, by
}

func bound(b *float64) float64 {
	if b == nil {
		return math.NaN()
	}
	return *b
}

// mostStates bounds those of a multi-state object.
const mostStates = 254

// states are the names of values: of a multi-state object from 1 to the greatest, of a binary one both.
func states(t family.Type, h *protocol.Held) (list []string) {
	from, to := 0, 1
	switch t {
	case family.BinaryInput, family.BinaryOutput, family.BinaryValue:
		if h.Names[0] == "" && h.Names[1] == "" {
			return nil
		}
	case family.MultiInput, family.MultiOutput, family.MultiValue:
		from, to = 1, 1
		for n := range h.Names {
			to = max(to, min(n, mostStates))
		}
		if h.High != nil && *h.High >= 1 {
			to = max(to, int(min(*h.High, mostStates)))
		}
	default:
		return nil
	}
	for n := from; n <= to; n++ {
		name := strings.TrimSpace(h.Names[n])
		if name == "" {
			name = fmt.Sprintf("state %d", n)
		}
		list = append(list, name)
	}
	return list
}

// Status is the status flags and the reliability for a quality: a source that is silent is a failure of
// communication, and a value that is doubted is out of no service, but unreliable.
func Status(q value.Quality, silent bool) (flags uint8, reliability uint32) {
	switch {
	case q == value.Good:
		return 0, NoFault
	case silent:
		return Fault, CommunicationFailure
	}
	return Fault, UnreliableOther
}
