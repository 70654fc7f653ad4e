package regmap

import (
	"cmp"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/unit"
	"ferry/internal/core/value"
)

// Check reports what is wrong or doubtful with the map of a device: overlaps,
// gaps, duplicates, points past what the device or a request holds, writes to
// what cannot be written, names that are taken for each other, units at odds,
// limits that no value can reach. maxUnits is the most units that one request
// of the protocol may carry.
func Check(scheme address.Scheme, d *site.Device, maxUnits func(area string) int) []finding.Finding {
	c := checker{scheme: scheme, device: d, found: []finding.Finding{}}
	c.names()
	for i := range d.Points {
		p := &d.Points[i]
		if c.place(p, maxUnits) {
			c.values(p)
		}
	}
	c.units()
	c.overlaps()
	finding.Sort(c.found)
	return c.found
}

// CheckMaps checks every map of a device, against what its protocol allows with
// the usual settings.
func CheckMaps(d *site.Device) []finding.Finding {
	found := []finding.Finding{}
	if d.Map == "" {
		return found
	}
	for _, name := range d.Maps() {
		if def, ok := protocol.Named(name); ok {
			found = append(found, Check(def.Scheme, d.In(name), def.Most(nil))...)
			found = append(found, untold(def, d.In(name))...)
		}
	}
	finding.Sort(found)
	return found
}

// untold finds deadbands that a protocol does not know.
func untold(def *protocol.Def, d *site.Device) []finding.Finding {
	c := checker{scheme: def.Scheme, device: d}
	for i := range d.Points {
		if p := &d.Points[i]; p.Band > 0 && !def.Deadbands() {
			f := c.add(p, Band, finding.Note, "deadband-unused", "A deadband that nobody keeps to",
				fmt.Sprintf("%s has a deadband of %s, and a device of %s is not asked for one: every change is told.", p.Name,
					printNumber(p.Band), def.Title), "Take it out, or give the crossing of the point a deadband.")
			c.fix(f, "Take the deadband out", p, Band, "")
		}
	}
	return c.found
}

type checker struct {
	scheme address.Scheme
	device *site.Device
	found  []finding.Finding
	taken  map[string]bool // names, once a free one is looked for
}

func (c *checker) add(p *site.Point, column Column, severity finding.Severity, code, title, sentence, remedy string,
	evidence ...string) *finding.Finding {
	c.found = append(c.found, finding.Finding{
		Code: code, Severity: severity, Sure: 1, Count: 1, Where: "points",
		Subject: finding.Subject{Kind: "point", ID: p.ID, Device: c.device.ID, Column: string(column),
			Name: c.device.Name + " · " + p.Name},
		Title: title, Sentence: sentence, Evidence: append([]string{}, evidence...), Remedy: remedy,
	})
	return &c.found[len(c.found)-1]
}

// fix offers to change one cell of p.
func (c *checker) fix(f *finding.Finding, title string, p *site.Point, column Column, will string) {
	f.Fixes = append(f.Fixes, finding.Fix{Title: title, Cells: []finding.CellFix{c.cell(p, column, will)}})
}

func (c *checker) cell(p *site.Point, column Column, will string) finding.CellFix {
	return finding.CellFix{Point: p.ID, Name: p.Name, Column: string(column), Was: Cell(c.scheme, p, column),
		Will: will}
}

// place checks where a point lies. It returns false for one that lies nowhere.
func (c *checker) place(p *site.Point, maxUnits func(string) int) bool {
	if p.Address.IsZero() {
		c.add(p, Address, finding.Doubt, "no-address", "Point without an address",
			p.Name+" has no address, so it is not read.", "Enter its address.")
		return false
	}
	area, ok := block.AreaOf(c.scheme, p.Place().Area)
	if !ok {
		return false // a site with such a point is not kept
	}
	units := uint32(p.Units(area.UnitBits))
	if most := Limit(c.device, area, maxUnits); most > 0 && int(units) > most {
		c.add(p, Type, finding.Fault, "too-long", "Longer than one request",
			fmt.Sprintf("%s takes %d %s and one request carries %d, so it cannot be read in one piece.", p.Name, units,
				area.Title, most),
			"Shorten the text, or raise the device's limit.")
	}
	if size := c.device.Limits.Areas[area.Key]; size > 0 && p.Place().Offset+units > size {
		f := c.add(p, Address, finding.Fault, "past-device", "Past what the device has",
			fmt.Sprintf("%s ends at %s and the device declares only %d %s.", p.Name,
				c.scheme.Short(block.At(area.Key, p.Place().Offset+units-1)), size, area.Title),
			"Check the address against the manual, or the size declared for the device.")
		if p.Place().Offset+units == size+1 && p.Place().Offset > 0 {
			c.fix(f, "Move it down by one", p, Address, c.scheme.Short(moved(p.Address, -1)))
		}
	}
	if c.device.Limits.EvenPairs && units > 1 && p.Place().Offset%2 == 1 {
		f := c.add(p, Address, finding.Fault, "odd-pair", "A pair at an odd address",
			fmt.Sprintf("%s takes %d registers from wire offset %d on, and the device serves such values only at "+
				"even offsets.", p.Name, units, p.Place().Offset),
			"Documents that count from 1 and wires that count from 0 differ by just that one.")
		c.fix(f, "Move it down by one", p, Address, c.scheme.Short(moved(p.Address, -1)))
		c.fix(f, "Move it up by one", p, Address, c.scheme.Short(moved(p.Address, 1)))
	}
	if p.Access != site.ReadOnly && !area.Writable {
		f := c.add(p, Access, finding.Fault, "write-to-read-only", "Cannot be written",
			fmt.Sprintf("%s lies in the %s, which nobody can write.", p.Name, area.Title),
			"Set its access to r, or use its writable address.")
		c.fix(f, "Only read it", p, Access, string(site.ReadOnly))
		for _, other := range block.AreasOf(c.scheme) {
			if other.Writable && other.UnitBits == area.UnitBits && p.Place().Offset < other.Units {
				to := p.Place()
				to.Area = other.Key
				c.fix(f, "Move it to the "+other.Title, p, Address, c.scheme.Short(to.Address()))
				break
			}
		}
	}
	return true
}

// moved returns an address by so many units further.
func moved(a address.Address, by int) address.Address {
	return block.Moved(a, uint32(int(block.Of(a).Offset)+by))
}

// values checks what a point can be worth against what is said of it.
func (c *checker) values(p *site.Point) {
	least, greatest := p.Type.Range(p.Length)
	bounded := !p.Type.IsFloat() && !math.IsNaN(least) && p.Type != value.TypeBool
	plain := p.Factor == 0 && p.Range == nil && p.PowerAt.IsZero()
	if p.Decimals != nil && *p.Decimals > 0 && bounded && plain && p.Offset == math.Trunc(p.Offset) {
		f := c.add(p, Decimals, finding.Note, "decimals-of-integer", "Decimals without a scale",
			fmt.Sprintf("%s is a whole number from %.0f to %.0f without a scale, yet shows %d decimals.", p.Name, least,
				greatest, *p.Decimals), "Enter the scale, or leave decimals empty.")
		c.fix(f, fmt.Sprintf("Scale it ÷ %.0f", math.Pow10(*p.Decimals)), p, Scale,
			fmt.Sprintf("÷ %.0f", math.Pow10(*p.Decimals)))
		c.fix(f, "Show no decimals", p, Decimals, "")
	}
	if bounded && p.PowerAt.IsZero() {
		low, high := p.Scale().Bounds(least, greatest)
		c.bound(p, Low, p.Low, low, high)
		c.bound(p, High, p.High, low, high)
	}
	if p.Low != nil && p.High != nil && *p.Low >= *p.High {
		f := c.add(p, Low, finding.Fault, "limits-crossed", "The limits are crossed",
			fmt.Sprintf("The lowest value of %s, %s, is not below its highest, %s.", p.Name, printNumber(*p.Low),
				printNumber(*p.High)), "Enter them the other way round.")
		f.Fixes = []finding.Fix{{Title: "Swap them",
			Cells: []finding.CellFix{c.cell(p, Low, printNumber(*p.High)), c.cell(p, High, printNumber(*p.Low))}}}
	}
	for _, code := range p.Missing {
		if bounded && (code.Float() < least || code.Float() > greatest) {
			c.add(p, Missing, finding.Fault, "code-out-of-range", "A code that never comes",
				fmt.Sprintf("%s means not available, but a %s holds %.0f to %.0f.", code, p.Type, least, greatest),
				"Write it as the raw value that the device sends, or in hexadecimal.")
		}
	}
	c.named(p, greatest)
}

func (c *checker) bound(p *site.Point, column Column, limit *float64, low, high float64) {
	if limit == nil || *limit >= low && *limit <= high {
		return
	}
	nearest := math.Min(math.Max(*limit, low), high)
	f := c.add(p, column, finding.Doubt, "limit-unreachable", "A limit that no value reaches",
		fmt.Sprintf("%s can be %s to %s in its type and scale, so the limit %s is never reached.", p.Name,
			printNumber(low), printNumber(high), printNumber(*limit)),
		"Either the limit or the scale is wrong.")
	c.fix(f, "Set the limit to "+printNumber(nearest), p, column, printNumber(nearest))
}

// named checks the names of values and bits.
func (c *checker) named(p *site.Point, greatest float64) {
	if p.Type.Named() && len(p.Names) == 0 {
		c.add(p, Names, finding.Note, "no-names", "Named values without names",
			fmt.Sprintf("%s lives by the names of its values, and has none: it shows a bare number.", p.Name),
			"Enter them as 0 off; 1 on.")
		return
	}
	if len(p.Names) == 0 || !p.Type.IsWhole() && p.Type != value.TypeBool {
		return
	}
	if p.Type.IsFlags() {
		greatest = float64(8*p.Type.Bytes(0) - 1)
	}
	values := make([]int64, len(p.Names))
	for i, n := range p.Names {
		values[i] = n.Value
		if float64(n.Value) > greatest {
			c.add(p, Names, finding.Fault, "name-out-of-range", "A name for a value that never comes",
				fmt.Sprintf("%s names %d as %s, but the last that it can be is %.0f.", p.Name, n.Value, n.Name,
					greatest), "Compare the names with the manual; bits count from 0 here.")
			return
		}
	}
	if p.Type.IsFlags() {
		return
	}
	slices.Sort(values)
	if first, last := values[0],
		values[len(values)-1]; last-first < 64 && len(values) > 1 && int(last-first)+1-len(values) <= 2 {
		var without []string
		will := printNames(p.Names)
		for v := first; v <= last; v++ {
			if !slices.Contains(values, v) {
				without = append(without, strconv.FormatInt(v, 10))
				will += fmt.Sprintf("; %d value %d", v, v)
			}
		}
		if len(without) > 0 {
			f := c.add(p, Names, finding.Note, "name-missing", "An enumeration value is missing",
				fmt.Sprintf("%s names the values %d to %d, but not %s.", p.Name, first, last,
					strings.Join(without, " and ")), "Look in the manual whether the device has it.")
			c.fix(f, "Add it without a meaning", p, Names, will)
		}
	}
}

// units finds units that nobody knows, and points that are called alike and
// have another unit than the rest.
func (c *checker) units() {
	alike := map[string][]*site.Point{}
	for i := range c.device.Points {
		p := &c.device.Points[i]
		if p.Unit != "" && !KnownUnit(p.Unit) {
			if near := unit.Near(p.Unit); near != "" {
				f := c.add(p, Unit, finding.Note, "unit-spelling", "An unusual spelling of a unit",
					fmt.Sprintf("%s is in %q, which is usually written %s.", p.Name, p.Unit, near), "")
				c.fix(f, "Write "+near, p, Unit, near)
			} else {
				c.add(p, Unit, finding.Note, "unit-unknown", "A unit that Ferry does not know",
					fmt.Sprintf("%s is in %q.", p.Name, p.Unit),
					"Nothing is wrong with that if it is what the device means.")
			}
		}
		if !unitSuits(p.Name, p.Unit) {
			c.add(p, Unit, finding.Doubt, "unit-against-name", "The unit is not one of what the name says",
				fmt.Sprintf("%s is in %s, which is a unit of %s.", p.Name, p.Unit, unit.Kind(p.Unit)),
				"Compare name and unit with the manual: a row may have slipped.")
		}
		if stem := strings.TrimRight(p.Name, "0123456789-_ ABCDEF"); p.Type.IsWhole() || p.Type.IsFloat() {
			if stem != "" && stem != p.Name {
				alike[stem] = append(alike[stem], p)
			}
		}
	}
	for _, points := range alike {
		c.oddUnit(points)
	}
}

func (c *checker) oddUnit(points []*site.Point) {
	counts := map[string]int{}
	for _, p := range points {
		counts[p.Unit]++
	}
	if len(points) < 3 || len(counts) != 2 {
		return
	}
	for unit, n := range counts {
		if n*4 < len(points)*3 {
			continue
		}
		for _, p := range points {
			if p.Unit != unit {
				has := p.Unit
				if has == "" {
					has = "no unit"
				}
				f := c.add(p, Unit, finding.Doubt, "unit-at-odds", "Another unit than its neighbours",
					fmt.Sprintf("%s is in %s, and the %d others called alike are in %s.", p.Name, has, n,
						cmp.Or(unit, "no unit")), "")
				c.fix(f, "Use "+cmp.Or(unit, "no unit"), p, Unit, unit)
			}
		}
	}
}

// Limit is the most units of an area that one request to d may carry.
func Limit(d *site.Device, area block.Area, maxUnits func(string) int) int {
	most := maxUnits(area.Key)
	own := d.Limits.MaxRegisters
	if area.UnitBits == 1 {
		own = d.Limits.MaxBits
	}
	if own > 0 {
		most = min(most, own)
	}
	if own := d.Limits.Most[area.Key]; own > 0 {
		most = min(most, own)
	}
	return most
}

type extent struct {
	point *site.Point
	area  block.Area
	from  uint32
	to    uint32 // exclusive
}

// overlaps sweeps each area once. A part of a word and the word it lies in may
// share a register: the one is a view of the other.
func (c *checker) overlaps() {
	extents := make([]extent, 0, len(c.device.Points))
	for i := range c.device.Points {
		p := &c.device.Points[i]
		area, ok := block.AreaOf(c.scheme, p.Place().Area)
		if !ok {
			continue
		}
		extents = append(extents, extent{p, area, p.Place().Offset, p.Place().Offset + uint32(p.Units(area.UnitBits))})
	}
	slices.SortStableFunc(extents, func(a, b extent) int { return address.Compare(a.point.Address, b.point.Address) })
	var wide extent     // the one that reaches furthest so far, parts of words left out
	var parts []extent  // the parts of the word in view
	var covered extent  // what reaches furthest, parts of words included
	var gaps []gapFound // runs of unused units
	for _, e := range extents {
		if covered.point == nil || covered.area.Key != e.area.Key {
			covered = e
		} else {
			if e.from > covered.to && e.from-covered.to <= widestGap {
				if e.area.UnitBits != 8 || e.from-covered.to > 1 { // a byte alone is left out to reach an even one
					gaps = append(gaps, gapFound{covered, e})
				}
			}
			if e.to > covered.to {
				covered = e
			}
		}
		if _, _, part := e.point.Bits(e.area.UnitBits); part {
			if len(parts) > 0 && (parts[0].area.Key != e.area.Key || parts[0].from != e.from) {
				parts = parts[:0]
			}
			for _, other := range parts {
				c.sameBits(other, e)
			}
			parts = append(parts, e)
			continue
		}
		if wide.point != nil && wide.area.Key == e.area.Key && e.from < wide.to {
			c.overlap(wide, e)
		}
		if wide.point == nil || wide.area.Key != e.area.Key || e.to > wide.to {
			wide = e
		}
	}
	c.gaps(gaps)
	for i := 1; i < len(extents); i++ {
		c.halves(extents[i-1], extents[i])
	}
}

// halfName parts the name of one half of a wide value into what both have in
// common and which it is.
var halfName = regexp.MustCompile(`(?i)^(.*?)[\s_.,:-]*[(\[]?\s*(?:(high|upper|most significant|msw|hi|hsw|hw|low|lower|least significant|lsw|lo|lw)(?:[\s_-]*(?:order )?(?:word|register|reg|16 ?bits?|part|half))?|(?:word|register|reg)[\s_-]*(high|hi|low|lo))\s*[)\]]?$`)

// halves finds two registers behind each other whose names say that they are the
// halves of one value.
func (c *checker) halves(a, b extent) {
	if a.area.Key != b.area.Key || b.from != a.from+1 || a.to-a.from > 1 || a.area.UnitBits != 16 {
		return
	}
	// They part where one says high, upper or most, and the other low or least.
	part := 0
	for part < min(len(a.point.Name), len(b.point.Name)) && a.point.Name[part] == b.point.Name[part] {
		part++
	}
	if part == 0 || part == len(a.point.Name) || part == len(b.point.Name) ||
		!strings.ContainsRune("hHuUmMlL", rune(a.point.Name[part])) {
		return
	}
	first, second := halfName.FindStringSubmatch(a.point.Name), halfName.FindStringSubmatch(b.point.Name)
	if first == nil || second == nil || first[1] == "" || !strings.EqualFold(first[1], second[1]) {
		return
	}
	high := func(parts []string) bool {
		return strings.ContainsRune("hum", rune(strings.ToLower(parts[2] + parts[3])[0]))
	}
	if high(first) == high(second) {
		return
	}
	order := "CDAB"
	if high(first) {
		order = "ABCD"
	}
	c.add(a.point, Type, finding.Doubt, "halves", "Two halves of one value",
		fmt.Sprintf("%s and %s lie behind each other: by their names they are the two words of one value of 32 bits.",
			a.point.Name, b.point.Name),
		fmt.Sprintf("Make one point of them, of a type of 32 bits at %s in the order %s, and remove the other.",
			c.scheme.Short(a.point.Address), order))
}

// widestGap is how many unused units still look like a gap in one table rather
// than the distance between two.
const widestGap = 8

type gapFound struct{ before, after extent }

// gaps reports unused units between points, all in one finding: most are meant.
func (c *checker) gaps(gaps []gapFound) {
	if len(gaps) == 0 || len(c.device.Points) < 3 {
		return
	}
	var lines []string
	units := 0
	for _, g := range gaps {
		n := int(g.after.from - g.before.to)
		units += n
		if len(lines) < 12 {
			first, last := c.scheme.Short(block.At(g.before.area.Key, g.before.to)),
				c.scheme.Short(block.At(g.before.area.Key, g.after.from-1))
			if n > 1 {
				first += " to " + last
			}
			lines = append(lines,
				fmt.Sprintf("%s: unused between %s and %s", first, g.before.point.Name, g.after.point.Name))
		}
	}
	first := gaps[0].after.point
	f := c.add(first, Address, finding.Note, "gaps", "Gaps in the map",
		fmt.Sprintf("The map leaves out %s in %s between points. If the manual has none there, an address or a "+
			"type is wrong.", amount(units, "unit"), amount(len(gaps), "place")),
		"Compare the places with the manual.", lines...)
	f.Count = len(gaps)
}

func amount(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return strconv.Itoa(n) + " " + what + "s"
}

func (c *checker) sameBits(a, b extent) {
	from, count, _ := a.point.Bits(a.area.UnitBits)
	at, width, _ := b.point.Bits(b.area.UnitBits)
	if at >= from+count || from >= at+width {
		return
	}
	shared := fmt.Sprintf("bit %d", max(at, from))
	if last := min(at+width, from+count) - 1; last > max(at, from) {
		shared = fmt.Sprintf("bits %d to %d", max(at, from), last)
	}
	c.add(b.point, Address, finding.Doubt, "bit-twice", "Two points claim one bit",
		fmt.Sprintf("%s and %s both use %s of %s.", a.point.Name, b.point.Name, shared,
			c.scheme.Short(block.WithBit(b.point.Address, -1))), "Move or remove one of them.")
}

func (c *checker) overlap(a, b extent) {
	if a.from == b.from && a.to == b.to && a.point.Type == b.point.Type {
		c.add(b.point, Address, finding.Doubt, "address-twice", "One address, two points",
			fmt.Sprintf("%s and %s are the same value at %s.", a.point.Name, b.point.Name,
				c.scheme.Short(b.point.Address)), "Remove one of them, unless both names are wanted.")
		return
	}
	shared := min(a.to, b.to) - b.from
	words := cmp.Or(map[uint32]string{1: "one unit"}[shared], fmt.Sprintf("%d units", shared))
	f := c.add(b.point, Address, finding.Fault, "overlap", "Points overlap",
		fmt.Sprintf("%s and %s share %s from %s on. One of the two addresses or types is wrong.", a.point.Name,
			b.point.Name, words, c.scheme.Short(b.point.Address)),
		"Compare both with the manual: the next free address is "+c.scheme.Short(block.At(a.area.Key, a.to))+".",
		fmt.Sprintf("%s: %s at %s", a.point.Name, PrintType(a.point), c.scheme.Short(a.point.Address)),
		fmt.Sprintf("%s: %s at %s", b.point.Name, PrintType(b.point), c.scheme.Short(b.point.Address)))
	c.fix(f, fmt.Sprintf("Move %s to %s", b.point.Name, c.scheme.Short(block.At(a.area.Key, a.to))), b.point, Address,
		c.scheme.Short(block.At(a.area.Key, a.to)))
	if b.from > a.from {
		if narrow, ok := ofWidth(a.point.Type, a.area.UnitBits*int(b.from-a.from)); ok && !a.point.Type.IsFloat() {
			c.fix(f, fmt.Sprintf("Read %s as %s", a.point.Name, narrow), a.point, Type, string(narrow))
		}
	}
}
