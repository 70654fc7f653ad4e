package regmap

import (
	"cmp"
	"slices"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/site"
)

// Strip is a stretch of an area's ribbon for paper: a fixed number of units
// side by side, with the points that lie in it.
type Strip struct {
	Area   block.Area
	From   uint32
	Units  int
	Blocks []Block
}

// Block is a point on a strip, cut at its ends.
type Block struct {
	Point *site.Point
	From  int // units from the start of the strip
	Units int
	// Lane is 0, or more for a point that overlaps others.
	Lane    int
	Overlap bool
}

// Strips draws the ribbon of a map in stretches of so many units, and leaves
// out the stretches that no point touches.
func Strips(scheme address.Scheme, points []site.Point, units int) []Strip {
	var strips []Strip
	byPlace := map[address.Address]int{} // start of a strip -> index
	ordered := make([]*site.Point, 0, len(points))
	for i := range points {
		if points[i].Place().Area != "" {
			ordered = append(ordered, &points[i])
		}
	}
	slices.SortStableFunc(ordered, func(a, b *site.Point) int {
		// Parts of a word come behind the word itself, and lie over it.
		return cmp.Or(cmp.Compare(a.Place().Area, b.Place().Area), cmp.Compare(a.Place().Offset, b.Place().Offset),
			cmp.Compare(a.Place().Bit, b.Place().Bit))
	})
	for _, p := range ordered {
		area, ok := block.AreaOf(scheme, p.Place().Area)
		if !ok {
			continue
		}
		for from, end := int(p.Place().Offset), int(p.Place().Offset)+p.Units(area.UnitBits); from < end; {
			start := from - from%units
			to := min(end, start+units)
			key := block.At(area.Key, uint32(start))
			at, ok := byPlace[key]
			if !ok {
				at = len(strips)
				byPlace[key] = at
				strips = append(strips, Strip{Area: area, From: uint32(start), Units: units})
			}
			s := &strips[at]
			b := Block{Point: p, From: from - start, Units: to - from}
			_, _, part := p.Bits(area.UnitBits)
			for i := range s.Blocks {
				other := &s.Blocks[i]
				if _, _, otherPart := other.Point.Bits(area.UnitBits); part || otherPart {
					continue
				}
				if b.From < other.From+other.Units && other.From < b.From+b.Units {
					b.Overlap, b.Lane = true, (other.Lane+1)%2
				}
			}
			s.Blocks = append(s.Blocks, b)
			from = to
		}
	}
	slices.SortStableFunc(strips, func(a, b Strip) int {
		return scheme.Compare(block.At(a.Area.Key, a.From), block.At(b.Area.Key, b.From))
	})
	return strips
}
