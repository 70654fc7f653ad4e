package exchange

import (
	"cmp"
	"slices"

	"ferry/internal/core/block"
)

// Labelled is a point with what it reads in an exchange, for labelling bytes.
type Labelled struct {
	ID    string
	Name  string
	Shown string // value and unit
	Place block.Place
	Units int // units covered
	// From and To are its octets in a report, To exclusive.
	From, To int
}

// SpreadUnits labels the octets of a run of units, each of so many octets, with
// the points that lie in them, from octet at on. Where points overlap the first
// is shown; the bits of a unit share its field.
func SpreadUnits(at, octets int, r block.Range, points []Labelled) []Field {
	inside := within(r.Area, r.Start, r.Count, points)
	end := r.Start + uint32(r.Count)
	place := func(unit uint32) int { return at + octets*int(unit-r.Start) }
	var fields []Field
	next := r.Start
	for _, p := range inside {
		from, to := p.Place.Offset, min(p.Place.Offset+uint32(p.Units), end)
		if from < next {
			if n := len(fields); n > 0 && p.Place.Bit >= 0 && fields[n-1].Role == "point" {
				fields[n-1].Label += ", " + p.Name
				fields[n-1].Meaning += ", " + p.Shown
			}
			continue
		}
		if from > next {
			fields = append(fields, gap(place(next), place(from)))
		}
		fields = append(fields,
			Field{From: place(from), To: place(to), Label: p.Name, Role: "point", Meaning: p.Shown, Point: p.ID})
		next = to
	}
	if next < end {
		fields = append(fields, gap(place(next), place(end)))
	}
	return fields
}

// SpreadBits labels the octets of a run of single bits, eight to the octet,
// the first in the lowest bit.
func SpreadBits(at int, r block.Range, points []Labelled) []Field {
	octets := (r.Count + 7) / 8
	fields := make([]Field, 0, octets)
	inside := within(r.Area, r.Start, r.Count, points)
	for i := range octets {
		f := gap(at+i, at+i+1)
		for _, p := range inside {
			if int(p.Place.Offset-r.Start)/8 != i {
				continue
			}
			if f.Role == "gap" {
				f = Field{From: f.From, To: f.To, Role: "point", Label: p.Name, Meaning: p.Shown, Point: p.ID}
				continue
			}
			f.Label += ", " + p.Name
			f.Meaning += ", " + p.Shown
		}
		fields = append(fields, f)
	}
	return fields
}

func within(area string, start uint32, count int, points []Labelled) []Labelled {
	inside := make([]Labelled, 0, len(points))
	for _, p := range points {
		if p.Place.Area == area && p.Place.Offset >= start && p.Place.Offset < start+uint32(count) {
			inside = append(inside, p)
		}
	}
	slices.SortStableFunc(inside, func(a, b Labelled) int {
		return cmp.Or(cmp.Compare(a.Place.Offset, b.Place.Offset), cmp.Compare(b.Units, a.Units),
			cmp.Compare(a.Place.Bit, b.Place.Bit))
	})
	return inside
}

func gap(from, to int) Field {
	return Field{From: from, To: to, Label: "unused", Role: "gap"}
}
