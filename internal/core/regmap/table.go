package regmap

import (
	"fmt"
	"strconv"
	"strings"

	"ferry/internal/core/address"
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
)

// TableColumns lists every column that a table can have.
func TableColumns() []Column { return append(Columns(), Count, Bit, Table, Divisor) }

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
}

// Points turns the rows of l into points without ids. A row with a bad cell is
// left out and all its bad cells are listed; empty rows are passed over. lines
// gives the source line of each point.
func (l *Listing) Points(scheme address.Scheme) (points []site.Point, lines []int, rejected []Rejected) {
	m := maker{scheme: scheme, listing: l, types: map[string]shaped{}}
	for i := range m.at {
		m.at[i] = -1
	}
	order := TableColumns()
	for i, column := range l.Columns {
		for k, known := range order {
			if known == column && m.at[k] < 0 {
				m.at[k] = i
			}
		}
	}
	points = make([]site.Point, 0, len(l.Rows))
	lines = make([]int, 0, len(l.Rows))
	for i := range l.Rows {
		row := &l.Rows[i]
		if blankRow(row.Cells) {
			continue
		}
		if extra := len(row.Cells) - len(l.Columns); extra > 0 && !blankRow(row.Cells[len(l.Columns):]) {
			rejected = append(rejected, Rejected{row.Line, fmt.Sprintf("column %d", len(l.Columns)+1), row.Cells[len(l.Columns)],
				fmt.Sprintf("the row has %d cells where the table has %d columns: is a separator inside a cell without quotes?", len(row.Cells), len(l.Columns))})
			continue
		}
		m.row, m.bad = row.Cells, m.bad[:0]
		p := m.point()
		for _, b := range m.bad {
			rejected = append(rejected, Rejected{row.Line, l.heading(b.column), m.cell(b.column), b.err.Error()})
		}
		if len(m.bad) == 0 {
			points = append(points, p)
			lines = append(lines, row.Line)
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
	at      [20]int // place in the row of each of TableColumns, -1 for none
	row     []string
	bad     []badCell
	types   map[string]shaped // type cells read so far: tables have few
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
	p.Name = strings.TrimSpace(m.cell(Name))
	if p.Name == "" {
		if m.has(Name) {
			m.fail(Name, setCell(m.scheme, &p, Name, ""))
		}
		p.Name = strings.TrimSpace(m.cell(Address))
	}
	units := m.place(&p)
	m.readType(&p, units)
	for _, column := range []Column{Order, Scale} {
		m.set(&p, column)
	}
	if text := strings.TrimSpace(m.cell(Divisor)); text != "" && !m.has(Scale) {
		f, err := parseFactor(text)
		if err == nil && f != 0 {
			p.Factor = 1 / f
		}
		m.fail(Divisor, err)
	}
	for _, column := range []Column{Offset, Unit, Decimals, Pace, Access, Names, Missing, Low, High, Change, Remark} {
		m.set(&p, column)
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
			m.fail(Address, fmt.Errorf("the address is empty: write it as 40003, hr2, 0x0002 or %%MW2"))
		}
		return 0
	}
	reading := m.listing.Reading
	hint := reading.Area
	if text := strings.TrimSpace(m.cell(Table)); text != "" {
		area, ok := address.AreaNamed(m.scheme, text)
		if !ok {
			m.fail(Table, fmt.Errorf("table %q: name one of the areas, such as %s, or its function code", text, m.scheme.Areas()[0].Title))
		}
		hint = area.Key
	}
	a, span, err := ParsePlace(m.scheme, text, hint, reading.FromOne)
	if err != nil {
		m.fail(Address, err)
		return 0
	}
	p.Address, units = a, span
	if text := strings.TrimSpace(m.cell(Bit)); text != "" && text != "-" && text != "–" && a.Bit() < 0 {
		first, count, err := parseBits(text, reading.BitFromOne)
		if err != nil {
			m.fail(Bit, err)
		} else {
			p.Address = a.WithBit(first)
			p.Type = value.TypeBool
			if count > 1 {
				p.Type, p.Length = value.TypeBits, count
			}
		}
	}
	if text := strings.TrimSpace(m.cell(Count)); text != "" && text != "-" {
		f, err := value.ParseFloat(text)
		if err != nil || f < 1 || f > 125 || f != float64(int(f)) {
			m.fail(Count, fmt.Errorf("count %q: give the number of registers of the value, 1 to 125", text))
		} else {
			units = int(f)
		}
	}
	return units
}

// parseBits reads a bit or a run of bits: 3, 4-7, 0..3.
func parseBits(text string, fromOne bool) (first, count int, err error) {
	t := bitMarks.Replace(text)
	from, to, run := strings.Cut(t, "-")
	a, errA := strconv.Atoi(from)
	b := a
	var errB error
	if run {
		b, errB = strconv.Atoi(to)
	}
	if fromOne {
		a, b = a-1, b-1
	}
	a, b = min(a, b), max(a, b)
	if errA != nil || errB != nil || a < 0 || b > 15 {
		return 0, 0, fmt.Errorf("bit %q: give a bit of a register, 0 to 15, or a run such as 4-7", text)
	}
	return a, b - a + 1, nil
}

// readType reads the type cell, or makes up the type that fits the address and
// the number of units stated. A width in the cell that the units contradict is
// an error: one of the two is wrong.
func (m *maker) readType(p *site.Point, units int) {
	text := strings.TrimSpace(m.cell(Type))
	part := p.Address.Bit() >= 0
	area, _ := address.AreaOf(m.scheme, p.Address.Area)
	octets := units * area.UnitBits / 8 // as far as the row states them
	if text == "" {
		if p.Type == value.TypeUint16 {
			follow(m.scheme, p, true)
		}
		if p.Type == value.TypeUint16 && units > 1 {
			if wide, ok := ofWidth(value.TypeUint16, 8*octets); ok {
				p.Type = wide
			} else {
				p.Type, p.Length = value.TypeBytes, octets
			}
		}
		return
	}
	read, ok := m.types[text]
	if !ok {
		var err error
		if read, err = parseType(text); err != nil {
			if read, err = stretched(text, octets, units, err); err != nil {
				m.fail(Type, err)
				return
			}
		} else {
			m.types[text] = read
		}
	}
	if part && p.Type == value.TypeBits && !read.Type.InUnit() {
		return // a bit column says more than the type of the register
	}
	if part && read.Type != value.TypeBits && !(read.Type.InUnit() && read.Type != value.TypeBool) {
		read = shaped{Type: value.TypeBool}
	}
	if area.UnitBits == 1 {
		read = shaped{Type: value.TypeBool}
	}
	if have := read.Type.Bytes(read.Length); octets > 0 && have > 1 && !part && (have*8+area.UnitBits-1)/area.UnitBits != units {
		_, plain := typeWords[strings.ToLower(text)]
		wide, ok := ofWidth(read.Type, 8*octets)
		switch {
		case ok && plain: // INT over two registers: their count says how wide
			read.Type = wide
		case read.Type.IsText() && have == units: // the length was counted in units
			read.Length = octets
		default:
			m.fail(Type, fmt.Errorf("type %q takes %d %s, and the row states %d: one of the two is wrong", text, (have*8+area.UnitBits-1)/area.UnitBits, area.Title, units))
		}
	}
	if p.Type == value.TypeBits && read.Type == value.TypeBool {
		return // a run of bits is not one bit
	}
	retype(p, read)
}

// stretched reads a type without its length where the row states how many octets
// or units it takes.
func stretched(text string, octets, units int, err error) (shaped, error) {
	for _, n := range []int{octets, units} {
		if read, again := parseType(text + " " + strconv.Itoa(n)); n > 0 && again == nil {
			return read, nil
		}
	}
	return shaped{}, err
}

// ParsePlace reads an address cell of a foreign table: any notation of the
// scheme, with a comma between thousands, or a range of units (40011-40012)
// whose length it returns. A bare number counts in area, from 1 if fromOne.
func ParsePlace(scheme address.Scheme, text, area string, fromOne bool) (a address.Address, units int, err error) {
	clean := strings.TrimSpace(text)
	if i := strings.IndexByte(clean, ','); i > 0 && i <= 3 && len(clean) == i+4 && allDigits(clean[:i]) && allDigits(clean[i+1:]) {
		clean = clean[:i] + clean[i+1:]
	}
	for _, between := range []string{" to ", "…", "..", "–", "-", "/"} {
		from, to, run := strings.Cut(clean, between)
		if !run || from == "" || to == "" {
			continue
		}
		first, err := parseOne(scheme, from, area, fromOne)
		if err != nil {
			break
		}
		last, err := parseOne(scheme, to, first.Area, fromOne)
		if err == nil && last.Area != first.Area || err == nil && len(strings.TrimSpace(to)) < len(strings.TrimSpace(from)) {
			// 40011/12 or 40011-2: the end is given by its last digits.
			f, t := strings.TrimSpace(from), strings.TrimSpace(to)
			if allDigits(f) && allDigits(t) && len(t) < len(f) {
				last, err = parseOne(scheme, f[:len(f)-len(t)]+t, area, fromOne)
			}
		}
		if err != nil || last.Area != first.Area || last.Offset < first.Offset || last.Offset-first.Offset > 124 {
			return a, 0, fmt.Errorf("address %q: the range does not run up from its first register, or is longer than 125", text)
		}
		return first, int(last.Offset-first.Offset) + 1, nil
	}
	a, err = parseOne(scheme, clean, area, fromOne)
	return a, 0, err
}

func allDigits(text string) bool {
	for i := 0; i < len(text); i++ {
		if text[i] < '0' || text[i] > '9' {
			return false
		}
	}
	return text != ""
}

func parseOne(scheme address.Scheme, text, area string, fromOne bool) (address.Address, error) {
	t := strings.TrimSpace(text)
	whole, _, _ := strings.Cut(t, ".")
	bare := allDigits(whole) && len(whole) < 5
	if bare && fromOne {
		if strings.Trim(whole, "0") == "" {
			return address.Address{}, fmt.Errorf("address %q: the list counts from 1, so 0 does not exist", text)
		}
		a, err := scheme.Parse(t, area)
		if err == nil {
			a.Offset--
		}
		return a, err
	}
	if !bare && area != "" && allDigits(whole) && len(whole) == 5 {
		// Five digits in a table that is stated elsewhere may be an offset: 40003
		// in the holding registers is the third, but 10240 is not an input.
		if a, err := scheme.Parse(t, area); err == nil && a.Area == area {
			return a, nil
		}
		return scheme.Parse(area+t, area)
	}
	return scheme.Parse(t, area)
}

// bitMarks are the ways of writing a run of bits.
var bitMarks = strings.NewReplacer("..", "-", "…", "-", "–", "-", ":", "-", " ", "", "bit", "", "Bit", "")
