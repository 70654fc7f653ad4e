package regmap

import (
	"fmt"
	"slices"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

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

// Table is a table on its way to becoming points.
type Table struct {
	// Headings as they stand in the source; empty if it has none.
	Headings []string `json:"headings"`
	// Columns says for each column of the source what it was taken for; ""
	// for one that is left out.
	Columns []Column `json:"columns"`
	Rows    []Row    `json:"rows"`
}

// headingWords are the words by which a heading is recognised.
var headingWords = map[Column][]string{
	Name:     {"name", "point", "tag", "point name", "signal"},
	Address:  {"address", "register", "reg", "addr", "modbus address"},
	Type:     {"type", "reads as", "data type", "format", "datatype"},
	Order:    {"order", "byte order", "word order"},
	Scale:    {"scale", "factor", "gain", "multiplier"},
	Offset:   {"offset"},
	Unit:     {"unit", "units", "eu"},
	Decimals: {"decimals", "digits"},
	Pace:     {"pace", "read every", "interval"},
	Access:   {"access", "r/w", "rw"},
	Remark:   {"remark", "remarks", "comment", "description", "note"},
}

// Recognise finds out which columns a table has. If its first row is a row of
// headings (at least an address or a name, and no cell of it an address), that
// row is taken off. Without headings the columns are taken in their own order.
func Recognise(scheme address.Scheme, rows []Row) Table {
	t := Table{Rows: rows}
	if len(rows) == 0 {
		return t
	}
	first := rows[0].Cells
	columns := make([]Column, len(first))
	found := 0
	for i, cell := range first {
		word := strings.ToLower(strings.TrimSpace(cell))
		for _, column := range Columns() {
			if slices.Contains(headingWords[column], word) && !slices.Contains(columns, column) {
				columns[i] = column
				found++
				break
			}
		}
	}
	if slices.Contains(columns, Address) || slices.Contains(columns, Name) && found > 1 {
		t.Headings, t.Columns, t.Rows = first, columns, rows[1:]
		return t
	}
	t.Columns = slices.Clone(Columns()[:min(len(first), len(Columns()))])
	// A table that begins with its addresses is as usual as one that begins
	// with its names.
	if len(first) > 1 {
		if _, err := scheme.Parse(first[0], ""); err == nil {
			if _, err := scheme.Parse(first[1], ""); err != nil {
				t.Columns[0], t.Columns[1] = Address, Name
			}
		}
	}
	return t
}

// Points turns the rows of t into points without ids. A row with a bad cell is
// left out and all its bad cells are listed; empty rows are passed over. lines
// gives the source line of each point.
func (t *Table) Points(scheme address.Scheme) (points []site.Point, lines []int, rejected []Rejected) {
	heading := func(column Column) string {
		i := slices.Index(t.Columns, column)
		if i >= 0 && i < len(t.Headings) {
			return t.Headings[i]
		}
		return string(column)
	}
	points = make([]site.Point, 0, len(t.Rows))
	lines = make([]int, 0, len(t.Rows))
	for _, row := range t.Rows {
		cells := make(map[Column]string, len(t.Columns))
		blank := true
		for i, column := range t.Columns {
			if i < len(row.Cells) && column != "" {
				cells[column] = row.Cells[i]
			}
		}
		for _, cell := range row.Cells {
			blank = blank && strings.TrimSpace(cell) == ""
		}
		if blank {
			continue
		}
		p, bad := point(scheme, cells)
		if extra := len(row.Cells) - len(t.Columns); extra > 0 && strings.TrimSpace(strings.Join(row.Cells[len(t.Columns):], "")) != "" {
			rejected = append(rejected, Rejected{row.Line, fmt.Sprintf("column %d", len(t.Columns)+1), row.Cells[len(t.Columns)],
				fmt.Sprintf("the row has %d cells where the table has %d columns: is a separator inside a cell without quotes?", len(row.Cells), len(t.Columns))})
			continue
		}
		for _, b := range bad {
			rejected = append(rejected, Rejected{row.Line, heading(b.column), cells[b.column], b.err.Error()})
		}
		if len(bad) == 0 {
			points = append(points, p)
			lines = append(lines, row.Line)
		}
	}
	return points, lines, rejected
}

type badCell struct {
	column Column
	err    error
}

// point makes one point of a row. Columns that are missing or empty get what
// a technician would mean: the type that fits the address, a pace of 1 s, and
// reading only.
func point(scheme address.Scheme, cells map[Column]string) (site.Point, []badCell) {
	p := site.Point{Type: value.TypeUint16, PaceMs: 1000, Access: site.ReadOnly}
	var bad []badCell
	set := func(column Column) {
		text, given := cells[column]
		if !given || (strings.TrimSpace(text) == "" && column != Name && column != Address) {
			return
		}
		if err := setCell(scheme, &p, column, text); err != nil {
			bad = append(bad, badCell{column, err})
		}
	}
	if _, given := cells[Name]; !given {
		cells[Name] = cells[Address]
	}
	set(Name)
	set(Address)
	if strings.TrimSpace(cells[Type]) == "" {
		follow(scheme, &p, true)
	}
	for _, column := range []Column{Type, Order, Scale, Offset, Unit, Decimals, Pace, Access, Remark} {
		set(column)
	}
	if len(bad) == 0 {
		if err := site.CheckPoint(scheme, &p); err != nil {
			bad = append(bad, badCell{Address, err})
		}
	}
	return p, bad
}
