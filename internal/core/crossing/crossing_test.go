package crossing

import (
	_ "ferry/internal/core/family/blocktcp"
	_ "ferry/internal/core/family/modbus"
	"math"
	"testing"

	"ferry/internal/core/block"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

func TestDue(t *testing.T) {
	c := &site.Crossing{Deadband: 0.5}
	for _, s := range []struct {
		last, next value.Value
		want       bool
	}{
		{value.Value{}, value.OfFloat(1), true},
		{value.OfFloat(1), value.OfFloat(1.4), false},
		{value.OfFloat(1), value.OfFloat(1.5), true},
		{value.OfFloat(1), value.OfFloat(0.5), true},
		{value.OfFloat(1), value.OfFloat(math.NaN()), true},
		{value.OfFloat(math.NaN()), value.OfFloat(math.NaN()), false},
		{value.OfBool(true), value.OfBool(false), true},
		{value.OfText("a"), value.OfText("a"), false},
	} {
		if got := Due(c, s.last, s.next); got != s.want {
			t.Errorf("from %v to %v: due %v", s.last, s.next, got)
		}
	}
	if Due(&site.Crossing{}, value.OfInt(3), value.OfInt(3)) {
		t.Error("without a deadband, no change is written")
	}
}

func TestCarry(t *testing.T) {
	fahrenheit := &site.Crossing{Factor: 1.8, Offset: 32}
	if v, err := Carry(fahrenheit, &site.Point{Type: value.TypeInt16}, value.OfFloat(12.5)); err != nil ||
		math.Abs(v.Float()-54.5) > 1e-12 {
		t.Errorf("12.5 °C becomes %v, %v", v, err)
	}
	for _, bad := range []struct {
		to site.Point
		v  value.Value
	}{{site.Point{Type: value.TypeText}, value.OfInt(1)}, {site.Point{Type: value.TypeInt16}, value.OfText("x")},
		{site.Point{Type: value.TypeInt16}, value.OfFloat(math.NaN())}} {
		if v, err := Carry(fahrenheit, &bad.to, bad.v); err == nil {
			t.Errorf("%v becomes %v in a %s", bad.v, v, bad.to.Type)
		}
	}
	for words, c := range map[string]site.Crossing{"as it is": {}, "÷ 100, moves by 5": {Factor: 0.01, Deadband: 5},
		"× 1.8 + 32": {Factor: 1.8, Offset: 32}} {
		if got := Words(&c); got != words {
			t.Errorf("said as %q, want %q", got, words)
		}
	}
}

func TestCheck(t *testing.T) {
	point := func(id, area string, at uint32, typ value.Type, access site.Access) site.Point {
		return site.Point{ID: id, Name: id, Address: block.At(area, at), Type: typ, Access: access}
	}
	s := &site.Site{
		Devices: []site.Device{
			{ID: "p", Name: "Probe", Map: "modbus-tcp",
				Points: []site.Point{point("o", "hr", 0, "float32", "r"), point("total", "hr", 2, "uint32", "rw"),
					point("label", "hr", 9, "text", "r")}},
			{ID: "g", Name: "Gateway", Map: "modbus-tcp",
				Points: []site.Point{point("g1", "hr", 0, "int16", "rw"), point("g2", "hr", 1, "int16", "r"),
					point("g3", "ir", 1, "int16", "rw")}},
			{ID: "lone", Name: "Lone", Map: "modbus-tcp", Points: []site.Point{point("l", "hr", 0, "float32", "rw")}},
		},
		Links: []site.Link{{ID: "k1", Protocol: "modbus-tcp", Answering: "p"}, {ID: "k2", Protocol: "modbus-tcp", Answering: "g"}},
	}
	for _, c := range []struct {
		name      string
		crossings []site.Crossing
		want      []string
	}{
		{"right", []site.Crossing{{ID: "1", From: "o", To: "g1"}}, nil},
		{"read-only", []site.Crossing{{ID: "1", From: "o", To: "g2"}}, []string{"target-read-only"}},
		{"an area nobody writes", []site.Crossing{{ID: "1", From: "o", To: "g3"}}, []string{"target-area"}},
		{"two writers", []site.Crossing{{ID: "1", From: "o", To: "g1"}, {ID: "2", From: "l", To: "g1"}},
			[]string{"no-link", "two-writers"}},
		{"a circle", []site.Crossing{{ID: "1", From: "total", To: "l"}, {ID: "2", From: "l", To: "total"}},
			[]string{"loop", "no-link", "no-link"}},
		{"too wide", []site.Crossing{{ID: "1", From: "total", To: "g1"}}, []string{"range"}},
		{"text to number", []site.Crossing{{ID: "1", From: "label", To: "g1"}}, []string{"kind"}},
		{"switched off", []site.Crossing{{ID: "1", From: "label", To: "g2", Off: true}}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			s.Crossings = c.crossings
			found := Check(s)
			if len(found) != len(c.want) {
				t.Fatalf("finds %+v, want %v", found, c.want)
			}
			for i, f := range found {
				if f.Code != c.want[i] {
					t.Errorf("finds %s, want %s", f.Code, c.want[i])
				}
			}
		})
	}
}
