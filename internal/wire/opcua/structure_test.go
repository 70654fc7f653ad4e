package opcua

import (
	"encoding/binary"
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/gopcua/opcua/ua"
)

// pumps is a layout with a structure in it, an array of them, and a name that no path holds.
func pumps(kind ua.StructureType) *Layout {
	motor := &Layout{Fields: []Slot{{Name: "Amps", Type: ua.TypeIDFloat}, {Name: "Hours", Type: ua.TypeIDUint32,
		Array: true}}}
	return &Layout{Kind: kind, Fields: []Slot{{Name: "On", Type: ua.TypeIDBoolean, Optional: true},
		{Name: "Label", Type: ua.TypeIDString, Optional: true}, {Name: "Main", Of: motor},
		{Name: "Spare", Of: motor, Array: true}, {Name: "a.b", Type: ua.TypeIDByte}}}
}

func le(words ...any) (b []byte) {
	for _, w := range words {
		switch w := w.(type) {
		case int:
			b = binary.LittleEndian.AppendUint32(b, uint32(w))
		case byte:
			b = append(b, w)
		case float32:
			b = binary.LittleEndian.AppendUint32(b, math.Float32bits(w))
		case string:
			b = append(binary.LittleEndian.AppendUint32(b, uint32(len(w))), w...)
		}
	}
	return b
}

// TestLeaves takes structures of each kind apart, whole and broken (OPC 10000-6, clauses 5.2.6 to
// 5.2.8).
func TestLeaves(t *testing.T) {
	motor := le(float32(1.5), 2, 7, 8)
	rest := append(append(append([]byte{}, motor...), le(1, float32(2.5), -1)...), 9)
	for name, c := range map[string]struct {
		kind ua.StructureType
		body []byte
		want string
	}{
		"plain": {ua.StructureTypeStructure, append(le(byte(1), "P1"), rest...),
			"On=true Label=P1 Main.Amps=1.5 Main.Hours.0=7 Main.Hours.1=8 Spare.0.Amps=2.5"},
		"optional fields, the second there": {ua.StructureTypeStructureWithOptionalFields, append(le(2, "P1"), rest...),
			"On=<nil> Label=P1 Main.Amps=1.5 Main.Hours.0=7 Main.Hours.1=8 Spare.0.Amps=2.5"},
		"a union, the first there": {ua.StructureTypeUnion, le(1, byte(1)), "On=true Label=<nil>"},
		"a union, none there":      {ua.StructureTypeUnion, le(0), "On=<nil> Label=<nil>"},
		"a union of another field": {ua.StructureTypeUnion, le(9), "field 9 of 5"},
		"of another kind":          {ua.StructureTypeStructureWithSubtypedValues, rest, "of kind 3 are not read"},
		"cut short":                {ua.StructureTypeStructure, le(byte(1), "P1"), "ends within a value"},
		"too long": {ua.StructureTypeStructure, append(append(le(byte(1), "P1"), rest...), 1),
			"1 octets are left"},
		"an array that lies": {ua.StructureTypeStructure, le(byte(1), "P1", float32(1), 1<<30),
			"elements stands in 0 octets"},
		"a text that lies":           {ua.StructureTypeStructure, le(byte(1), 1<<30), "octets stand in"},
		"an array below none at all": {ua.StructureTypeStructure, le(byte(1), "P1", float32(1), -7), "-7 elements"},
	} {
		leaves, err := pumps(c.kind).Leaves(c.body)
		var parts []string
		for _, l := range leaves {
			parts = append(parts, fmt.Sprintf("%s=%v", l.Path, l.Value))
		}
		if got := strings.Join(parts, " "); err == nil && got != c.want || err != nil && !strings.Contains(err.Error(),
			c.want) {
			t.Errorf("%s: %s, %v", name, got, err)
		}
	}
}

// TestHollow: structures in structures of which none holds anything have an end.
func TestHollow(t *testing.T) {
	l := &Layout{}
	for range 8 {
		outer := &Layout{}
		for range 100 {
			outer.Fields = append(outer.Fields, Slot{Name: "x", Of: l})
		}
		l = outer
	}
	if leaves, err := l.Leaves(nil); err == nil || len(leaves) > 0 {
		t.Errorf("%d values", len(leaves))
	}
}

func FuzzLeaves(f *testing.F) {
	f.Add(uint32(0), le(byte(1), "P1", float32(1.5), 2, 7, 8, 0, byte(9)))
	f.Add(uint32(1), le(3, byte(1), "P1"))
	f.Fuzz(func(t *testing.T, kind uint32, body []byte) {
		leaves, err := pumps(ua.StructureType(kind % 5)).Leaves(body)
		if err == nil && len(leaves) > mostLeaves {
			t.Errorf("%d values", len(leaves))
		}
	})
}
