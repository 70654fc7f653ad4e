package regmap

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/finding"
	"ferry/internal/core/layout"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// byteAndBit is a place in a block as lists of its members have it.
var byteAndBit = regexp.MustCompile(`^(\d{1,6})(?:\.([0-7]))?$`)

// ofBytes reports whether a scheme has areas of bytes, in which a place is a byte
// with a bit.
func ofBytes(scheme address.Scheme) bool {
	return slices.ContainsFunc(block.AreasOf(scheme), func(a block.Area) bool { return a.UnitBits == 8 })
}

// inBlock reports whether the addresses of a list are the offsets of the members
// of one block, which the list does not name: bytes with their bits, each behind
// the one before.
func (l *Listing) inBlock(scheme address.Scheme, at int) bool {
	if !ofBytes(scheme) || slices.Contains(l.Columns, Table) && !emptyColumn(l.Rows, slices.Index(l.Columns, Table)) {
		return false
	}
	before, filled := -1, 0
	for cell := range l.cells(at) {
		m := byteAndBit.FindStringSubmatch(cell)
		if m == nil {
			return false
		}
		n, _ := strconv.Atoi(m[1])
		bit, _ := strconv.Atoi(m[2]) // none is the first
		if n = 8*n + bit; n <= before {
			return false
		}
		before = n
		filled++
	}
	return filled > 1
}

// Displaced is a member whose offset is not where the types before it put it.
type Displaced struct {
	Line       int
	Name       string
	Is, Should string // places in the notation of the list
}

// Sentence says it in words.
func (d *Displaced) Sentence() string {
	return fmt.Sprintf("%s lies at %s in the list, and by the types before it at %s: a member was put in, taken out or "+
		"changed since the list was made, or a type in it is wrong.", d.Name, d.Is, d.Should)
}

// few is the share of members that must lie where the types put them for the
// others to be displaced: a list of some members only is compared with nothing.
const few = 0.75

// CompareOffsets compares the offsets of a list of members of a block, in their
// order, with the layout that their types have there (layout.Words): each with
// where the one before it ends. A structure or an array may begin between any
// two, which moves the next to an even byte.
func CompareOffsets(points []site.Point, lines []int) (displaced []Displaced) {
	compared := 0
	for i := 1; i < len(points); i++ {
		p, q := &points[i-1], &points[i]
		at, to := p.Place(), q.Place()
		if at.Area == "" || at.Area != to.Area {
			continue
		}
		compared++
		next, ok := placeBehind(p, q)
		if !ok {
			continue
		}
		is := 8*int(to.Offset) + max(0, to.Bit)
		even := (next + 15) / 16 * 16
		if is != next && is != even {
			displaced = append(displaced, Displaced{lines[i], q.Name, inBits(is, q), inBits(next, q)})
		}
	}
	if float64(len(displaced)) > (1-few)*float64(compared) {
		return nil
	}
	return displaced
}

// placeBehind is where a point lies that follows another in a structure, in bits from
// the start of the area.
func placeBehind(p, q *site.Point) (bits int, ok bool) {
	at := p.Place()
	t := &layout.Type{}
	if at.Offset%2 == 1 {
		t.Members = append(t.Members, layout.Member{Name: "before", Bits: 8})
	}
	for i := range max(0, at.Bit) {
		t.Members = append(t.Members, layout.Member{Name: fmt.Sprintf("bit %d", i), Bits: 1, PartOfUnit: true})
	}
	t.Members = append(t.Members, memberOf(p, "this"), memberOf(q, "next"))
	places, _, err := layout.Lay(t, layout.Words)
	if err != nil || len(places) == 0 {
		return 0, false
	}
	next := places[len(places)-1]
	return 8*(int(at.Offset)/2*2+next.Byte) + next.Bit, true
}

func memberOf(p *site.Point, name string) layout.Member {
	switch p.Type {
	case value.TypeBool:
		return layout.Member{Name: name, Bits: 1, PartOfUnit: true}
	case value.TypeBits:
		return layout.Member{Name: name, Bits: p.Length, PartOfUnit: true}
	}
	return layout.Member{Name: name, Bits: 8 * p.Shape(8).Octets()}
}

func inBits(bits int, p *site.Point) string {
	if p.Type == value.TypeBool || bits%8 != 0 {
		return fmt.Sprintf("%d.%d", bits/8, bits%8)
	}
	return strconv.Itoa(bits / 8)
}

// DisplacedFindings says of the members of a list which are displaced, as one
// finding, if any is.
func DisplacedFindings(displaced []Displaced, device *site.Device) []finding.Finding {
	if len(displaced) == 0 {
		return nil
	}
	f := finding.Finding{Code: "offsets-differ", Severity: finding.Doubt, Sure: 0.9, Count: len(displaced),
		Where:    "points",
		Subject:  finding.Subject{Kind: "device", ID: device.ID, Device: device.ID, Name: device.Name},
		Title:    "Offsets are not those of the layout",
		Sentence: displaced[0].Sentence(),
		Remedy:   "Export the block anew. Until then values from there on may be read at wrong places."}
	for _, d := range displaced[:min(len(displaced), 8)] {
		f.Evidence = append(f.Evidence, fmt.Sprintf("line %d, %s: %s in place of %s", d.Line, d.Name, d.Is, d.Should))
	}
	if more := len(displaced) - len(f.Evidence); more > 0 {
		f.Evidence = append(f.Evidence, strings.TrimSpace(fmt.Sprintf("and %d more", more)))
	}
	return []finding.Finding{f}
}
