package regmap

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/finding"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
)

// trailing finds the last number of a name, with what stands around it.
var trailing = regexp.MustCompile(`^(.*?)(\d+)(\D*)$`)

// Counted returns a name that counts on: its last number raised by step, with
// its leading zeros kept; a name without a number gets one.
func Counted(name string, step int) string {
	m := trailing.FindStringSubmatch(name)
	if m == nil {
		return name + strconv.Itoa(1+step)
	}
	n, err := strconv.Atoi(m[2])
	if err != nil || n+step < 0 {
		return name + "_" + strconv.Itoa(step)
	}
	digits := strconv.Itoa(n + step)
	if missing := len(m[2]) - len(digits); missing > 0 {
		digits = strings.Repeat("0", missing) + digits
	}
	return m[1] + digits + m[3]
}

// FillDown returns the cells that fill a column down from the first of points:
// names count on, addresses go on by the width of each value, or by the step
// from the first to the second where both are filled and step is 0; any other
// column repeats its first cell.
func FillDown(scheme address.Scheme, points []*site.Point, column Column, step int) ([]finding.CellFix, error) {
	if len(points) < 2 {
		return nil, fmt.Errorf("select the cell to fill from and those below it")
	}
	first := points[0]
	var cells []finding.CellFix
	add := func(p *site.Point, will string) {
		if was := Cell(scheme, p, column); was != will {
			cells = append(cells,
				finding.CellFix{Point: p.ID, Name: p.Name, Column: string(column), Was: was, Will: will})
		}
	}
	at := first.Address
	for i, p := range points[1:] {
		switch column {
		case Name:
			add(p, Counted(first.Name, (i+1)*max(1, step)))
		case Address:
			area, ok := block.AreaOf(scheme, block.Of(at).Area)
			if !ok {
				return nil, fmt.Errorf("the first point has no address to count on from")
			}
			next, err := advance(area, at, points[i], step)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", p.Name, err)
			}
			at = next
			moved := *p
			moved.Address = at
			add(p, Cell(scheme, &moved, Address))
		default:
			add(p, Cell(scheme, first, column))
		}
	}
	return cells, nil
}

// advance returns the address after that of p: the next bit, the next free
// unit, or so many units further.
func advance(area block.Area, from address.Address, p *site.Point, step int) (address.Address, error) {
	at := block.Of(from)
	if at.Bit >= 0 && step == 0 {
		_, count, _ := p.Bits(area.UnitBits)
		if bit := at.Bit + max(1, count); bit < area.UnitBits {
			return block.WithBit(from, bit), nil
		}
		at.Bit = 0
	}
	by := step
	if by == 0 {
		by = p.Units(area.UnitBits)
	}
	to := int64(at.Offset) + int64(by)
	if to < 0 || to >= int64(area.Units) {
		return from, fmt.Errorf("the addresses would leave the %s", area.Title)
	}
	at.Offset = uint32(to)
	return at.Address(), nil
}

// Duplicate returns copies of points, without ids: times over, each copy with
// its addresses shifted once more and its names counted on once more.
func Duplicate(scheme address.Scheme, points []*site.Point, times, shift, count int) ([]site.Point, error) {
	if times < 1 || len(points) == 0 || times > MostBulk/len(points) {
		return nil, fmt.Errorf("give 1 or more copies, and at most %d points", MostBulk)
	}
	var copies []site.Point
	for n := 1; n <= times; n++ {
		for _, p := range points {
			c := *p
			c.ID, c.From = "", nil
			c.Name = Counted(p.Name, n*count)
			for _, a := range []*address.Address{&c.Address, &c.PowerAt} {
				at := block.Of(*a)
				if at.Area == "" {
					continue
				}
				area, ok := block.AreaOf(scheme, at.Area)
				to := int64(at.Offset) + int64(n)*int64(shift)
				if !ok || to < 0 || to >= int64(area.Units) {
					return nil, fmt.Errorf("copy %d of %s would leave the %s", n, p.Name, area.Title)
				}
				*a = block.Moved(*a, uint32(to))
			}
			copies = append(copies, c)
		}
	}
	return copies, nil
}

// MostBulk bounds how many points one step makes.
const MostBulk = 100_000

// Search says what Replace looks for.
type Search struct {
	Find      string `json:"find"`
	With      string `json:"with"`
	MatchCase bool   `json:"matchCase"`
	Whole     bool   `json:"whole"` // the cell is just that
}

// Replace returns the cells in which what is found is replaced.
func Replace(scheme address.Scheme, points []*site.Point, columns []Column, s Search) ([]finding.CellFix, error) {
	if s.Find == "" && !s.Whole {
		return nil, fmt.Errorf("say what to find")
	}
	pattern := regexp.QuoteMeta(s.Find)
	if s.Whole {
		pattern = "^" + pattern + "$"
	}
	if !s.MatchCase {
		pattern = "(?i)" + pattern
	}
	find, err := regexp.Compile(pattern)
	if err != nil {
		return nil, err // a quoted text is always an expression
	}
	var cells []finding.CellFix
	for _, p := range points {
		for _, column := range columns {
			was := Cell(scheme, p, column)
			if will := find.ReplaceAllLiteralString(was, s.With); will != was {
				cells = append(cells,
					finding.CellFix{Point: p.ID, Name: p.Name, Column: string(column), Was: was, Will: will})
			}
		}
	}
	return cells, nil
}

// CellEdits turns cells that were typed, pasted or worked out into edits, one
// for each point.
func CellEdits(scheme address.Scheme, d *site.Device, cells []finding.CellFix) ([]site.Edit, error) {
	index := make(map[string]int, len(d.Points))
	for i := range d.Points {
		index[d.Points[i].ID] = i
	}
	changed := map[string]*site.Point{}
	var order []string
	for _, cell := range cells {
		p := changed[cell.Point]
		if p == nil {
			at, ok := index[cell.Point]
			if !ok {
				return nil, problem.New("gone", "The point is no longer in the map.",
					"Reload to see what changed.").At(cell.Point)
			}
			copied := d.Points[at]
			p = &copied
			changed[cell.Point] = p
			order = append(order, cell.Point)
		}
		if err := SetCell(scheme, p, Column(cell.Column), cell.Will); err != nil {
			return nil, problem.New("bad-cell", err.Error()+".", "").At(fmt.Sprintf("%s, column %s", p.Name,
				cell.Column))
		}
	}
	edits := make([]site.Edit, 0, len(order))
	for _, id := range order {
		edits = append(edits, site.Put(site.KindPoint, id, d.ID, changed[id]))
	}
	return edits, nil
}
