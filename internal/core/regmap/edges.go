package regmap

import (
	"fmt"
	"slices"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/finding"
	"ferry/internal/core/site"
)

// Edge is one unit that a device was asked for, and whether it has it.
type Edge struct {
	Area    string `json:"area"`
	Offset  uint32 `json:"offset"`
	Address string `json:"address"` // in the usual notation
	// Answered is false where the device refused the address itself; any
	// other failure says nothing about the map and leaves the edge out.
	Answered bool `json:"answered"`
}

// Edges lists the units to ask for to learn whether the map of d lies where the
// device has its own: in each area the first and the last that the map uses,
// and those just outside.
func Edges(scheme address.Scheme, d *site.Device) []Edge {
	var edges []Edge
	for _, area := range block.AreasIn(scheme, d.Places) {
		first, last, used := uint32(0), uint32(0), false
		for i := range d.Points {
			p := &d.Points[i]
			if p.Place().Area != area.Key || p.Access == site.WriteOnly {
				continue
			}
			end := p.Place().Offset + uint32(p.Units(area.UnitBits)) - 1
			if !used {
				first, last = p.Place().Offset, end
			}
			first, last, used = min(first, p.Place().Offset), max(last, end), true
		}
		if !used {
			continue
		}
		for _, offset := range slices.Compact([]int64{int64(first) - 1, int64(first), int64(last), int64(last) + 1}) {
			if offset >= 0 && offset < int64(area.Units) {
				edges = append(edges, Edge{Area: area.Key, Offset: uint32(offset),
					Address: scheme.Short(block.At(area.Key, uint32(offset)))})
			}
		}
	}
	return edges
}

// Shifted finds areas whose whole map lies one unit off: an edge is refused
// that would not be if every point moved by one. edges are the answers to
// Edges.
func Shifted(scheme address.Scheme, d *site.Device, edges []Edge) []finding.Finding {
	c := checker{scheme: scheme, device: d, found: []finding.Finding{}}
	for _, area := range block.AreasIn(scheme, d.Places) {
		var own []Edge
		for _, e := range edges {
			if e.Area == area.Key {
				own = append(own, e)
			}
		}
		if len(own) < 2 {
			continue
		}
		asked := map[uint32]bool{}
		for _, e := range own {
			asked[e.Offset] = e.Answered
		}
		var used []*site.Point
		first, last := uint32(1<<31), uint32(0)
		for i := range d.Points {
			p := &d.Points[i]
			if p.Place().Area == area.Key && p.Access != site.WriteOnly {
				used = append(used, p)
				first = min(first, p.Place().Offset)
				last = max(last, p.Place().Offset+uint32(p.Units(area.UnitBits))-1)
			}
		}
		for _, by := range []int{-1, 1} {
			outer, inner := first, last
			if by < 0 {
				outer, inner = last, first
			}
			refused, there := asked[outer]
			moved, known := asked[uint32(int(inner)+by)]
			if !there || refused || !known || !moved || !asked[inner] {
				continue
			}
			c.offByOne(area, used, by, outer, own)
		}
	}
	return c.found
}

func (c *checker) offByOne(area block.Area, points []*site.Point, by int, refused uint32, edges []Edge) {
	way := map[int]string{-1: "down", 1: "up"}[by]
	p := points[0]
	f := c.add(p, Address, finding.Fault, "off-by-one", "The map is off by one",
		fmt.Sprintf("%s refuses %s, an edge of the map, but has the unit one %s from the other edge: the whole map "+
			"of the %s lies one too %s.",
			c.device.Name, c.scheme.Short(block.At(area.Key, refused)), way, area.Title,
			map[int]string{-1: "high", 1: "low"}[by]),
		"The manual counts from 1 where the wire counts from 0, or the reverse. Move the map and compare one value "+
			"with the device's own display.")
	for _, e := range edges {
		f.Evidence = append(f.Evidence,
			fmt.Sprintf("%s (wire offset %d): %s", e.Address, e.Offset,
				map[bool]string{true: "answered", false: "refused"}[e.Answered]))
	}
	fix := finding.Fix{Title: fmt.Sprintf("Move all %d points %s by one", len(points), way)}
	for _, p := range points {
		fix.Cells = append(fix.Cells, c.cell(p, Address, c.scheme.Short(moved(p.Address, by))))
	}
	f.Fixes = []finding.Fix{fix}
}
