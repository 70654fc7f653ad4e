package exchange

import (
	"fmt"
	"strings"
	"testing"

	"ferry/internal/core/block"
)

func words(fields []Field) string {
	var parts []string
	for _, f := range fields {
		parts = append(parts, fmt.Sprintf("%d-%d %s:%s=%s", f.From, f.To, f.Role, f.Label, f.Meaning))
	}
	return strings.Join(parts, "; ")
}

func TestSpread(t *testing.T) {
	p := func(name, area string, at uint32, bit, units int) Labelled {
		return Labelled{ID: name, Name: name, Shown: "v" + name,
			Place: block.Of(block.WithBit(block.At(area, at), bit)), Units: units}
	}
	for _, c := range []struct {
		name   string
		fields []Field
		want   string
	}{
		{"nothing known", SpreadUnits(9, 2, block.Range{Area: "hr", Start: 0, Count: 2}, nil), "9-13 gap:unused="},
		{"a value cut off at the end",
			SpreadUnits(9, 2, block.Range{Area: "hr", Start: 0, Count: 2}, []Labelled{p("A", "hr", 1, -1, 4)}),
			"9-11 gap:unused=; 11-13 point:A=vA"},
		{"the longer of two at one place",
			SpreadUnits(0, 2, block.Range{Area: "hr", Start: 5, Count: 2},
				[]Labelled{p("A", "hr", 5, -1, 1), p("B", "hr", 5, -1, 2)}), "0-4 point:B=vB"},
		{"another area", SpreadUnits(0, 2, block.Range{Area: "hr", Start: 0, Count: 1},
			[]Labelled{p("A", "ir", 0, -1, 1)}), "0-2 gap:unused="},
		{"bits alone", SpreadUnits(0, 2, block.Range{Area: "hr", Start: 0, Count: 1},
			[]Labelled{p("A", "hr", 0, 3, 1), p("B", "hr", 0, 1, 1)}), "0-2 point:B, A=vB, vA"},
		{"coils, eight to the octet", SpreadBits(9, block.Range{Area: "co", Start: 0, Count: 10},
			[]Labelled{p("A", "co", 0, -1, 1), p("B", "co", 7, -1, 1), p("C", "co", 9, -1, 1)}),
			"9-10 point:A, B=vA, vB; 10-11 point:C=vC"},
		{"an octet of unused coils",
			SpreadBits(9, block.Range{Area: "co", Start: 16, Count: 9}, []Labelled{p("A", "co", 16, -1, 1)}),
			"9-10 point:A=vA; 10-11 gap:unused="},
	} {
		if got := words(c.fields); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}
