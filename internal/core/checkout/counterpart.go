package checkout

import (
	"strings"

	"ferry/internal/core/site"
)

// Counterpart is the point of another device, or program, that should show the same as p: the
// one at the other end of a crossing that carries the value as it is, else the one of the same
// name, with or without the name of the device before it; nil for none.
func (g *Ground) Counterpart(d *site.Device, p *site.Point, other *site.Device) *site.Point {
	for _, x := range g.Crossings(p.ID) {
		end := x.To
		if end == p.ID {
			end = x.From
		}
		asIs := len(x.More) == 0 && len(x.Way) == 0 && (x.Factor == 0 || x.Factor == 1) && x.Offset == 0
		if at, far := g.Point(end); far != nil && at.ID == other.ID && asIs {
			return far
		}
	}
	plain := func(text string) string {
		return strings.Map(func(r rune) rune {
			if strings.ContainsRune(" _-./·", r) {
				return -1
			}
			return r
		}, strings.ToLower(text))
	}
	own, long := plain(p.Name), plain(d.Name+p.Name)
	for i := range other.Points {
		far := &other.Points[i]
		if name := plain(far.Name); (name == own || name == long) && far.Unit == p.Unit {
			return far
		}
	}
	return nil
}
