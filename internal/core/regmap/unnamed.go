package regmap

import (
	"fmt"

	"ferry/internal/core/finding"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Unnamed reports points with named values that read a value without a name.
// latest gives the value that a point was last read with.
func Unnamed(d *site.Device, latest func(id string) value.Value) []finding.Finding {
	c := checker{device: d}
	for i := range d.Points {
		p := &d.Points[i]
		if len(p.Names) == 0 || !p.Type.IsWhole() {
			continue
		}
		v := latest(p.ID)
		if v.Kind() != value.Uint && v.Kind() != value.Int {
			continue
		}
		unknown, what := v.Int(), "value"
		if p.Type.IsFlags() {
			var ok bool
			if unknown, ok = unnamedBit(p, v.Uint()); !ok {
				continue
			}
			what = "bit"
		} else if _, ok := p.NameOf(unknown); ok {
			continue
		}
		f := c.add(p, Names, finding.Doubt, "value-without-name", "A value without a name",
			fmt.Sprintf("%s reads the %s %d, which has no name.", p.Name, what, unknown),
			"Look in the manual what it means, and add it to the names.")
		c.fix(f, fmt.Sprintf("Add %s %d", what, unknown), p, Names,
			printNames(append(append([]site.Naming{}, p.Names...),
				site.Naming{Value: unknown, Name: fmt.Sprintf("%s %d", what, unknown)})))
	}
	return c.found
}

func unnamedBit(p *site.Point, bits uint64) (int64, bool) {
	for bit := int64(0); bits != 0; bit, bits = bit+1, bits>>1 {
		if _, ok := p.NameOf(bit); !ok && bits&1 == 1 {
			return bit, true
		}
	}
	return 0, false
}
