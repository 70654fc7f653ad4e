package crossing

import (
	"math"
	"strings"
	"testing"

	"ferry/internal/core/block"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// TestTurned: what is carried over and back is what it was, and what cannot be
// undone is said.
func TestTurned(t *testing.T) {
	point := func(id string, at uint32, unit string) *site.Point {
		return &site.Point{ID: id, Name: id, Address: block.At("hr", at), Type: "float64", Unit: unit}
	}
	a, b := point("a", 0, "°C"), point("b", 4, "°F")
	els := int64(7)
	for _, c := range []struct {
		name     string
		x        site.Crossing
		says     string
		deadband float64
	}{
		{"as it is", site.Crossing{Deadband: 1}, "", 1},
		{"scaled", site.Crossing{Factor: 10, Offset: 3, Deadband: 1}, "", 0.1},
		{"units", site.Crossing{Way: []site.Step{{Do: site.DoUnit}}}, "", 0},
		{"units by name, scaled before", site.Crossing{Factor: 2, Way: []site.Step{{Do: site.DoUnit, From: "°C", To: "°F"}}},
			"", 0},
		{"several steps", site.Crossing{Way: []site.Step{{Do: site.DoScale, Factor: 4, Offset: -2},
			{Do: site.DoScale, Offset: 5}, {Do: site.DoScale, Factor: 0.5}}, Deadband: 2}, "", 1},
		{"a table", site.Crossing{Way: []site.Step{{Do: site.DoTable, Table: []site.Becomes{{From: 3, To: 5}, {From: 1,
			To: 2}}}}}, "", 0},
		{"a formula with a way back", site.Crossing{Way: []site.Step{{Do: site.DoFormula, Formula: "a * 2",
			Back: "a / 2"}}}, "", 0},
		{"a formula", site.Crossing{Way: []site.Step{{Do: site.DoFormula, Formula: "a * 2"}}}, "no way back", 0},
		{"a table of two for one", site.Crossing{Way: []site.Step{{Do: site.DoTable, Table: []site.Becomes{{From: 1, To: 2},
			{From: 3, To: 2}}}}}, "for several numbers", 0},
		{"a table with a rest", site.Crossing{Way: []site.Step{{Do: site.DoTable, Else: &els}}}, "for all other numbers", 0},
		{"a bit", site.Crossing{Way: []site.Step{{Do: site.DoBit, Bit: 3}}}, "cannot be undone", 0},
		{"several sources", site.Crossing{More: []string{"c"}}, "2 sources", 0},
		{"a substitute", site.Crossing{Quiet: site.Substitute, Substitute: "5"}, "silent source", 0},
	} {
		x := c.x
		x.From, x.To = "a", "b"
		back, err := Turned(&x)
		if c.says != "" {
			if err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s: %v", c.name, err)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if back.From != "b" || back.To != "a" || math.Abs(back.Deadband-c.deadband) > 1e-9 {
			t.Errorf("%s: %+v", c.name, back)
		}
		there, err1 := NewWay(&x, []*site.Point{a}, b)
		here, err2 := NewWay(back, []*site.Point{b}, a)
		if err1 != nil || err2 != nil {
			t.Errorf("%s: %v, %v", c.name, err1, err2)
			continue
		}
		v, err := there.Carry([]value.Value{value.OfFloat(3)}, value.Value{})
		if err == nil {
			v, err = here.Carry([]value.Value{v}, value.Value{})
		}
		if err != nil || math.Abs(v.Float()-3) > 1e-9 {
			t.Errorf("%s: 3 comes back as %v, %v", c.name, v, err)
		}
	}
}
