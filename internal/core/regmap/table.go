package regmap

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Columns that only tables have: they say something about other cells.
const (
	// Count is the number of units that a value takes.
	Count Column = "count"
	// Bit is the bit of the register, from 0 or from 1.
	Bit Column = "bit"
	// Table is the table or the function that the address counts in.
	Table Column = "table"
	// Divisor divides where a factor multiplies.
	Divisor Column = "divisor"
	// Until is the last register, where the address is the first.
	Until Column = "until"
	// Readable and Writable have a mark where a value can be read or written.
	Readable Column = "readable"
	Writable Column = "writable"
	// Limits is the lowest and the highest value in one cell.
	Limits Column = "limits"
	// RawLow and RawHigh are what the lowest and the highest value read as.
	RawLow  Column = "rawlow"
	RawHigh Column = "rawhigh"
	// Signed says with a mark whether a whole number has a sign.
	Signed Column = "signed"
)

// TableColumns lists every column that a table can have.
func TableColumns() []Column {
	return append(Columns(), Count, Bit, Table, Divisor, Until, Readable, Writable, Limits, Signed, RawLow, RawHigh)
}

// Rejected is a cell of a table that cannot become part of a point.
type Rejected struct {
	// Line is the line of the source, counted from 1, headings included.
	Line int `json:"line"`
	// Column is the heading of the cell, as the source writes it.
	Column string `json:"column"`
	// Cell is what stands there.
	Cell   string `json:"cell"`
	Reason string `json:"reason"`
}

// Row is one row of a table with its line in the source.
type Row struct {
	Line  int      `json:"line"`
	Cells []string `json:"cells"`
}

// Reading says how the addresses of a table are meant where they do not say it
// themselves.
type Reading struct {
	// Area is where a bare number counts; empty for the scheme's own choice.
	Area string `json:"area"`
	// FromOne is set where bare numbers count from 1.
	FromOne bool `json:"fromOne"`
	// BitFromOne is set where bits count from 1.
	BitFromOne bool `json:"bitFromOne"`
	// Hex is set where bare numbers are hexadecimal, NoBits where a point in an
	// address is no bit, Divide where a scale of 10 divides what is read.
	Hex    bool `json:"hex"`
	NoBits bool `json:"noBits"`
	Divide bool `json:"divide"`
	// Plain is set where numbers of five digits and more say no table.
	Plain bool `json:"plain"`
	// Order is that of values of several registers, where a row does not say it;
	// Little is what "little endian" means.
	Order  string `json:"order"`
	Little string `json:"little"`
	// CountIn is what the lengths count where they are no registers: bits or
	// octets.
	CountIn string `json:"countIn"`
	// PowerScale is set where the scales are powers of ten.
	PowerScale bool `json:"powerScale"`
	// PointLeftOut is set where decimals say that what is read is to be divided.
	PointLeftOut bool `json:"pointLeftOut"`
	// Settled are the keys of questions that a person has answered.
	Settled []string `json:"settled"`
	// HeaderRow is the line of the headings, counted from 1; 0 finds it, and a
	// negative one says that there are none.
	HeaderRow int `json:"headerRow"`
}

// Basis says what a column was recognised by.
type Basis string

// A column is recognised by its heading, by what its cells hold, because the
// same headings were read before, or because a person said so.
const (
	ByHeading Basis = "heading"
	ByContent Basis = "content"
	ByMemory  Basis = "memory"
	ByChoice  Basis = "choice"
	NotAtAll  Basis = ""
)

// Listing is a table on its way to becoming points.
type Listing struct {
	// Headings as they stand in the source; empty if it has none.
	Headings []string `json:"headings"`
	// Columns says for each column of the source what it was taken for; ""
	// for one that is left out. Bases says why.
	Columns []Column `json:"columns"`
	Bases   []Basis  `json:"bases"`
	Reading Reading  `json:"reading"`
	Rows    []Row    `json:"rows"`
	// Titles are the rows above the headings.
	Titles []Row `json:"titles"`
	// Notes say how the table was read, and by what; Questions is what it leaves
	// open, and must be answered before anything comes of it.
	Notes     []string   `json:"notes"`
	Questions []Question `json:"questions"`
	// InBlock is set where the addresses are offsets in one block that the list
	// does not name.
	InBlock bool `json:"inBlock,omitempty"`
	// Asides are the rows that are no points, as Points found them.
	Asides []Aside `json:"asides"`
	// Rejected are the cells that cannot come in, for who keeps them with it.
	Rejected []Rejected `json:"-"`
	// Displaced are members whose offsets are not those of the layout, likewise.
	Displaced []Displaced `json:"-"`
}

// Points turns the rows of l into points without ids. A row with a bad cell is
// left out and all its bad cells are listed; empty rows are passed over. lines
// gives the source line of each point.
func (l *Listing) Points(scheme address.Scheme) (points []site.Point, lines []int, rejected []Rejected) {
	order := TableColumns()
	m := maker{scheme: scheme, listing: l, at: make([]int, len(order)), types: map[string]shaped{},
		cells: map[string]typeCell{}, scales: map[string][2]string{}, accesses: map[string]site.Access{}}
	for i := range m.at {
		m.at[i] = -1
	}
	for i, column := range l.Columns {
		for k, known := range order {
			if known == column && m.at[k] < 0 {
				m.at[k] = i
			}
		}
	}
	points = make([]site.Point, 0, len(l.Rows))
	lines = make([]int, 0, len(l.Rows))
	l.Asides = []Aside{}
	for i := range l.Rows {
		row := &l.Rows[i]
		if blankRow(row.Cells) {
			continue
		}
		if what := l.aside(row); what != "" {
			l.Asides = append(l.Asides, Aside{row.Line,
				strings.Join(slices.DeleteFunc(slices.Clone(row.Cells),
					func(c string) bool { return strings.TrimSpace(c) == "" }), " "), what})
			if area, ok := l.section(scheme, row); ok {
				m.area = area
			}
			continue
		}
		if extra := len(row.Cells) - len(l.Columns); extra > 0 && !blankRow(row.Cells[len(l.Columns):]) {
			rejected = append(rejected,
				Rejected{row.Line, fmt.Sprintf("column %d", len(l.Columns)+1), row.Cells[len(l.Columns)],
					fmt.Sprintf("the row has %d cells where the table has %d columns: is a separator inside a cell "+
						"without quotes?", len(row.Cells), len(l.Columns))})
			continue
		}
		m.row, m.bad, m.times = row.Cells, m.bad[:0], 1
		p := m.point()
		for _, b := range m.bad {
			rejected = append(rejected, Rejected{row.Line, l.heading(b.column), m.cell(b.column), b.err.Error()})
		}
		if len(m.bad) == 0 {
			for _, each := range m.spread(p) {
				points = append(points, each)
				lines = append(lines, row.Line)
			}
		}
	}
	return points, lines, rejected
}

func blankRow(cells []string) bool {
	for _, cell := range cells {
		if strings.TrimSpace(cell) != "" {
			return false
		}
	}
	return true
}

// heading returns the source's own heading of a column.
func (l *Listing) heading(column Column) string {
	for i, c := range l.Columns {
		if c == column && i < len(l.Headings) {
			return l.Headings[i]
		}
	}
	return string(column)
}

type badCell struct {
	column Column
	err    error
}

// maker makes points of rows.
type maker struct {
	scheme  address.Scheme
	listing *Listing
	area    string // that the last title between the rows names
	at      []int  // place in the row of each of TableColumns, -1 for none
	row     []string
	bad     []badCell
	times   int               // how many places that follow each other the row is about
	types   map[string]shaped // type cells read so far: tables have few
	says    string            // order that the type cell of the row says
	cells   map[string]typeCell
	scales  map[string][2]string
	// accesses are the access cells read so far, empty where they are plain.
	accesses map[string]site.Access
}

// typeCell is a type cell taken apart.
type typeCell struct {
	text string
	said said
}

var columnPlace = func() map[Column]int {
	places := map[Column]int{}
	for i, c := range TableColumns() {
		places[c] = i
	}
	return places
}()

func (m *maker) has(column Column) bool { return m.at[columnPlace[column]] >= 0 }

func (m *maker) cell(column Column) string {
	if at := m.at[columnPlace[column]]; at >= 0 && at < len(m.row) {
		return m.row[at]
	}
	return ""
}

func (m *maker) fail(column Column, err error) {
	if err != nil {
		m.bad = append(m.bad, badCell{column, err})
	}
}

func (m *maker) set(p *site.Point, column Column) {
	if text := m.cell(column); strings.TrimSpace(text) != "" {
		m.fail(column, setCell(m.scheme, p, column, text))
	}
}

// point makes one point of a row. Columns that are missing or empty get what
// a technician would mean: the type that fits the address, a pace of 1 s, and
// reading only.
func (m *maker) point() site.Point {
	p := site.Point{Type: value.TypeUint16, PaceMs: 1000, Access: site.ReadOnly}
	m.name(&p)
	units := m.place(&p)
	m.readType(&p, units)
	m.readOrder(&p)
	m.readScale(&p)
	for _, column := range []Column{Offset, Decimals, Pace, Names, Missing, Low, High, Change, Band, Told, Remark} {
		m.set(&p, column)
	}
	m.readAccess(&p)
	if d := p.Decimals; m.listing.Reading.PointLeftOut && d != nil && *d > 0 && *d < 10 && p.Factor == 0 &&
		p.Type.IsWhole() {
		p.Factor = 1 / math.Pow10(*d)
	}
	m.readLimits(&p)
	m.readRaw(&p)
	m.readNames(&p)
	if p.Type == value.TypeUint16 && strings.TrimSpace(m.cell(Type)) == "" && p.Low != nil && *p.Low < 0 &&
		p.Range == nil && !m.has(Signed) {
		p.Type = value.TypeInt16 // what goes below nothing has a sign
	}
	if p.Range != nil && p.Offset != 0 {
		m.fail(Offset, fmt.Errorf("offset %q: a scale that is a range has no offset", m.cell(Offset)))
	}
	if len(m.bad) == 0 {
		m.fail(Address, site.CheckPoint(m.scheme, &p))
	}
	return p
}

// place reads the address with what other columns say of it, and returns the
// number of units that the row states, 0 if it states none.
func (m *maker) place(p *site.Point) (units int) {
	text := m.cell(Address)
	if strings.TrimSpace(text) == "" {
		if m.has(Address) {
			_, err := m.scheme.Parse("", "")
			m.fail(Address, err)
		}
		return 0
	}
	reading := m.listing.Reading
	hint := reading.Area
	if m.area != "" {
		hint = m.area
	}
	if text := strings.TrimSpace(m.cell(Table)); text != "" {
		area, ok := block.AreaNamed(m.scheme, text)
		if kind, named := address.KindNamed(m.scheme, text); named {
			area.Key, ok = kind, true
		}
		if !ok {
			m.fail(Table, fmt.Errorf("table %q: name one of the areas%s", text, suchAs(m.scheme)))
		}
		hint = area.Key
	}
	if kind, named := address.KindNamed(m.scheme, m.cell(Type)); named && strings.TrimSpace(m.cell(Table)) == "" {
		hint = kind // the column of types says what kind of object it is
	}
	text, many := m.many(text)
	a, span, err := m.listing.parsePlace(m.scheme, text, hint)
	if err != nil {
		m.fail(Address, err)
		return 0
	}
	p.Address, units = a, span
	if kinds, ok := m.scheme.(address.Kinds); ok {
		m.runs(kinds, a, many)
		return 0
	}
	if units > 0 || !strings.Contains(text, "%") {
		// it says how many, or not how wide
	} else if parts := sizedPlace.FindStringSubmatch(text); parts != nil && block.UnitBits(m.scheme, a) == 16 {
		units = map[string]int{"D": 2, "d": 2, "L": 4, "l": 4}[parts[1]]
	}
	if text := strings.TrimSpace(m.cell(Until)); text != "" && text != "-" && text != "–" {
		first := block.Of(a)
		end, _, err := m.listing.parsePlace(m.scheme, text, first.Area)
		last := block.Of(end)
		switch {
		case err != nil:
			m.fail(Until, err)
		case last.Area != first.Area || last.Offset < first.Offset || last.Offset-first.Offset > 124:
			m.fail(Until, fmt.Errorf("last register %q: it does not lie up to 125 registers behind the first, %q", text,
				m.cell(Address)))
		default:
			units = int(last.Offset-first.Offset) + 1
		}
	}
	m.bit(p)
	if text := strings.TrimSpace(m.cell(Count)); text != "" && text != "-" && text != "–" {
		n, octets, err := parseCount(text, reading.CountIn)
		if err != nil {
			m.fail(Count, err)
		} else if units = n; octets {
			units = (n + 1) / 2
		}
	}
	return units
}

// many takes apart a range of numbered places that stands in one cell: "bi3..10", "bi 3 - 10". last is the
// number of the last, -1 for one alone.
func (m *maker) many(text string) (first string, last int) {
	if _, ok := m.scheme.(address.Kinds); ok {
		if parts := rangePlace.FindStringSubmatch(text); parts != nil {
			if n, err := strconv.Atoi(parts[2]); err == nil {
				return parts[1], n
			}
		}
	}
	return text, -1
}

// rangePlace is a first place and the number of the last.
var rangePlace = regexp.MustCompile(`^\s*(.*?[0-9])\s*(?:\.\.+|…|-|–|to|bis)\s*([0-9]+)\s*$`)

// mostOfRow bounds the points of one row.
const mostOfRow = 65_536

// runs works out how many places a row is about: up to a last one, or so many as the row counts.
func (m *maker) runs(kinds address.Kinds, a address.Address, last int) {
	if text := strings.TrimSpace(m.cell(Count)); text != "" && last < 0 {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > mostOfRow {
			m.fail(Count, fmt.Errorf("count %q: give how many follow each other, 1 to %d", text, mostOfRow))
			return
		}
		m.times = n
	} else if last >= 0 {
		if m.times = last - numberOf(m.scheme.Short(a)) + 1; m.times < 1 || m.times > mostOfRow {
			m.fail(Address, fmt.Errorf("address %q: the last of a range is %d, which does not lie up to %d behind its first",
				m.cell(Address), last, mostOfRow))
			m.times = 1
		}
	}
	if _, ok := kinds.Behind(a, m.times-1); m.times > 1 && !ok {
		m.fail(Count, fmt.Errorf("%d from %s on go beyond the last place", m.times, m.scheme.Short(a)))
	}
}

// numberOf is the number at the end of a text; -1 for none.
func numberOf(text string) int {
	at := strings.LastIndexFunc(text, func(r rune) bool { return r < '0' || r > '9' })
	if n, err := strconv.Atoi(text[at+1:]); err == nil {
		return n
	}
	return -1
}

// spread makes the points of a row that is about several places: the first as it is, the others with
// what is next to it. A name with "#" in it has its number there, another behind it.
func (m *maker) spread(p site.Point) []site.Point {
	kinds, ok := m.scheme.(address.Kinds)
	if !ok || m.times <= 1 {
		return []site.Point{p}
	}
	list := make([]site.Point, m.times)
	for i := range list {
		list[i] = p
		list[i].Address, _ = kinds.Behind(p.Address, i)
		if strings.Contains(p.Name, "#") {
			list[i].Name = strings.ReplaceAll(p.Name, "#", strconv.Itoa(i+1))
		} else {
			list[i].Name = fmt.Sprintf("%s %d", p.Name, i+1)
		}
	}
	return list
}

// sizedPlace is a place of IEC 61131-3 with the width of what stands there.
var sizedPlace = regexp.MustCompile(`(?i)^\s*%[iqm]([dl])\d`)

// bit reads the bit column.
func (m *maker) bit(p *site.Point) {
	text := strings.TrimSpace(m.cell(Bit))
	if text == "" || text == "-" || text == "–" || p.Place().Bit >= 0 {
		return
	}
	first, count, err := parseBits(text, m.listing.Reading.BitFromOne)
	if err != nil {
		m.fail(Bit, err)
		return
	}
	p.Address = block.WithBit(p.Address, first)
	p.Type = value.TypeBool
	if count > 1 {
		p.Type, p.Length = value.TypeBits, count
	}
}
