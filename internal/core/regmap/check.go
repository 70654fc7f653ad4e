package regmap

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/finding"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Check reports what is wrong or doubtful with the map of a device: overlaps,
// duplicates, points past what the device or a request holds, writes to what
// cannot be written, names that differ only in case. maxUnits is the most
// units that one request of the protocol may carry.
func Check(scheme address.Scheme, d *site.Device, maxUnits func(area string) int) []finding.Finding {
	c := checker{scheme: scheme, device: d, found: []finding.Finding{}}
	c.names()
	c.limits(maxUnits)
	c.overlaps()
	finding.Sort(c.found)
	return c.found
}

type checker struct {
	scheme address.Scheme
	device *site.Device
	found  []finding.Finding
}

func (c *checker) add(p *site.Point, column Column, severity finding.Severity, code, title, sentence, remedy string, evidence ...string) {
	c.found = append(c.found, finding.Finding{
		Code: code, Severity: severity, Sure: 1, Count: 1, Where: "points",
		Subject: finding.Subject{Kind: "point", ID: p.ID, Device: c.device.ID, Column: string(column), Name: c.device.Name + " · " + p.Name},
		Title:   title, Sentence: sentence, Evidence: evidence, Remedy: remedy,
	})
}

func (c *checker) names() {
	exact := map[string]*site.Point{}
	folded := map[string]*site.Point{}
	for i := range c.device.Points {
		p := &c.device.Points[i]
		fold := strings.ToLower(p.Name)
		if other := exact[p.Name]; other != nil {
			c.add(p, Name, finding.Fault, "name-twice", "Two points of one name",
				fmt.Sprintf("%s is also the name of the point at %s.", p.Name, c.scheme.Short(other.Address)), "Rename one of them.")
		} else if other := folded[fold]; other != nil {
			c.add(p, Name, finding.Doubt, "name-case", "Names differ only in case",
				fmt.Sprintf("%s and %s differ only in capitals. Many devices take them for two names, some for one.", p.Name, other.Name), "Rename one of them.")
		}
		exact[p.Name] = p
		if folded[fold] == nil {
			folded[fold] = p
		}
	}
}

func (c *checker) limits(maxUnits func(string) int) {
	for i := range c.device.Points {
		p := &c.device.Points[i]
		if p.Address.IsZero() {
			c.add(p, Address, finding.Doubt, "no-address", "Point without an address",
				p.Name+" has no address, so it is not read.", "Enter its address.")
			continue
		}
		area, ok := address.AreaOf(c.scheme, p.Address.Area)
		if !ok {
			continue // a site with such a point is not kept
		}
		units := uint32(p.Units(area.UnitBits))
		most := Limit(c.device, area, maxUnits)
		if int(units) > most {
			c.add(p, Type, finding.Fault, "too-long", "Longer than one request",
				fmt.Sprintf("%s takes %d %s and one request carries %d, so it cannot be read in one piece.", p.Name, units, area.Title, most),
				"Shorten the text, or raise the device's limit.")
		}
		if size := c.device.Limits.Areas[area.Key]; size > 0 && p.Address.Offset+units > size {
			c.add(p, Address, finding.Fault, "past-device", "Past what the device has",
				fmt.Sprintf("%s ends at %s and the device declares only %d %s.", p.Name, c.scheme.Short(address.At(area.Key, p.Address.Offset+units-1)), size, area.Title),
				"Check the address against the manual, or the size declared for the device.")
		}
		if p.Access != site.ReadOnly && !area.Writable {
			c.add(p, Access, finding.Fault, "write-to-read-only", "Cannot be written",
				fmt.Sprintf("%s lies in the %s, which nobody can write.", p.Name, area.Title), "Set its access to r, or use its writable address.")
		}
		if least, greatest := p.Type.Range(); p.Type != value.TypeText && p.Type != value.TypeBool && p.Decimals != nil && *p.Decimals > 0 && p.Factor == 0 && least == least && p.Type.Bytes(0) > 0 && !strings.HasPrefix(string(p.Type), "float") {
			c.add(p, Decimals, finding.Note, "decimals-of-integer", "Decimals without a scale",
				fmt.Sprintf("%s is a whole number from %.0f to %.0f without a scale, yet shows %d decimals.", p.Name, least, greatest, *p.Decimals), "Enter the scale, or leave decimals empty.")
		}
	}
}

// Limit is the most units of an area that one request to d may carry.
func Limit(d *site.Device, area address.Area, maxUnits func(string) int) int {
	most := maxUnits(area.Key)
	own := d.Limits.MaxRegisters
	if area.UnitBits == 1 {
		own = d.Limits.MaxBits
	}
	if own > 0 {
		return min(most, own)
	}
	return most
}

type span struct {
	point *site.Point
	from  uint32
	to    uint32 // exclusive
}

// overlaps sweeps each area once. A bit and the word it lies in may share a
// register: the one is a view of the other.
func (c *checker) overlaps() {
	spans := make([]span, 0, len(c.device.Points))
	for i := range c.device.Points {
		p := &c.device.Points[i]
		area, ok := address.AreaOf(c.scheme, p.Address.Area)
		if !ok {
			continue
		}
		spans = append(spans, span{p, p.Address.Offset, p.Address.Offset + uint32(p.Units(area.UnitBits))})
	}
	slices.SortStableFunc(spans, func(a, b span) int { return address.Compare(a.point.Address, b.point.Address) })
	var wide span // the span that reaches furthest so far, bits left out
	bits := map[address.Address]*site.Point{}
	for _, s := range spans {
		if s.point.Address.Bit() >= 0 {
			if other := bits[s.point.Address]; other != nil {
				c.add(s.point, Address, finding.Doubt, "bit-twice", "Two points claim one bit",
					fmt.Sprintf("%s and %s are both bit %s.", other.Name, s.point.Name, c.scheme.Short(s.point.Address)), "Move or remove one of them.")
			}
			bits[s.point.Address] = s.point
			continue
		}
		if wide.point != nil && wide.point.Address.Area == s.point.Address.Area && s.from < wide.to {
			c.overlap(wide, s)
		}
		if wide.point == nil || wide.point.Address.Area != s.point.Address.Area || s.to > wide.to {
			wide = s
		}
	}
}

func (c *checker) overlap(a, b span) {
	if a.from == b.from && a.to == b.to && a.point.Type == b.point.Type {
		c.add(b.point, Address, finding.Doubt, "address-twice", "One address, two points",
			fmt.Sprintf("%s and %s are the same value at %s.", a.point.Name, b.point.Name, c.scheme.Short(b.point.Address)), "Remove one of them, unless both names are wanted.")
		return
	}
	shared := min(a.to, b.to) - b.from
	words := cmp.Or(map[uint32]string{1: "one unit"}[shared], fmt.Sprintf("%d units", shared))
	c.add(b.point, Address, finding.Fault, "overlap", "Points overlap",
		fmt.Sprintf("%s and %s share %s from %s on. One of the two addresses or types is wrong.", a.point.Name, b.point.Name, words, c.scheme.Short(b.point.Address)),
		"Compare both with the manual: the next free address is "+c.scheme.Short(address.At(a.point.Address.Area, a.to))+".",
		fmt.Sprintf("%s: %s at %s", a.point.Name, a.point.Type, c.scheme.Short(a.point.Address)),
		fmt.Sprintf("%s: %s at %s", b.point.Name, b.point.Type, c.scheme.Short(b.point.Address)))
}
