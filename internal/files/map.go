package files

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"sort"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/charset"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// Map is the map of one device on its way out.
type Map struct {
	Device   string // name
	Model    string
	Remark   string
	Protocol string // by which the points are addressed
	Scheme   address.Scheme
	Points   []site.Point
	// In names the notation of the address column, for a far side that has its
	// own; empty for the usual one.
	In    string
	whole bool // with the columns of every scheme: it stands in one table with others
}

// Notations lists the notations in which the map can be handed out, each with
// the address of its first point.
func (m *Map) Notations() []address.Notation {
	for i := range m.Points {
		p := &m.Points[i]
		if list := address.NotationsFor(m.Scheme, p.Address, 8*p.Type.Bytes(p.Length)); len(list) > 0 {
			return list
		}
	}
	return nil
}

// MapOf prepares the map of a device.
func MapOf(d *site.Device) (Map, error) {
	name := protocol.MapOr(d.Map)
	scheme, err := protocol.SchemeOf(name)
	return Map{Device: d.Name, Model: d.Model, Remark: d.Remark, Protocol: name, Scheme: scheme, Points: d.Points}, err
}

// MapsOf prepares each map of a device that has points, or its own where none
// has.
func MapsOf(d *site.Device) ([]Map, error) {
	var maps []Map
	for _, name := range d.Maps() {
		view := d.In(name)
		if len(view.Points) == 0 && len(d.Points) > 0 {
			continue
		}
		m, err := MapOf(view)
		if err != nil {
			return nil, err
		}
		if def, ok := protocol.Named(name); ok && view.Mark() != "" {
			m.Device += ", " + def.Title
		}
		maps = append(maps, m)
	}
	return maps, nil
}

// extraNotations are printed behind the columns of a map, for readers who
// count in another way; the address column holds the usual one.
func (m *Map) extraNotations() []string {
	for i := range m.Points {
		var names []string
		for _, n := range address.NotationsFor(m.Scheme, block.WithBit(m.Points[i].Address, -1), 8) {
			if n.Name != "1-based" && n.Name != "usual" {
				names = append(names, n.Name)
			}
		}
		if len(names) > 0 {
			return names
		}
	}
	return nil
}

// columns are those of its table.
func (m *Map) columns() []regmap.Column {
	if m.whole {
		return regmap.Columns()
	}
	return regmap.ColumnsFor(m.Scheme)
}

func (m *Map) headings() []string {
	var headings []string
	for _, column := range m.columns() {
		headings = append(headings, string(column))
	}
	return append(headings, m.extraNotations()...)
}

func (m *Map) cells(p *site.Point) []string {
	var cells []string
	notations := address.NotationsFor(m.Scheme, p.Address, 8*p.Type.Bytes(p.Length))
	for _, column := range m.columns() {
		cell := regmap.Cell(m.Scheme, p, column)
		if at := slices.IndexFunc(notations, func(n address.Notation) bool { return n.Name == m.In }); at >= 0 &&
			column == regmap.Address {
			cell = notations[at].Text
		}
		cells = append(cells, cell)
	}
	for _, name := range m.extraNotations() {
		text := ""
		for _, n := range notations {
			if n.Name == name {
				text = n.Text
			}
		}
		cells = append(cells, text)
	}
	return cells
}

// MapFormat stands at the head of a map in JSON.
const MapFormat = "ferry-map"

// mapFile is a map in JSON.
type mapFile struct {
	Format   string       `json:"format"`
	Version  int          `json:"version"`
	Device   string       `json:"device,omitempty"`
	Model    string       `json:"model,omitempty"`
	Protocol string       `json:"protocol"`
	Points   []site.Point `json:"points"`
}

// WriteMapJSON writes a map as JSON: the points as in a site file.
func WriteMapJSON(w io.Writer, m *Map) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	points := make([]site.Point, len(m.Points))
	for i := range m.Points {
		points[i] = m.Points[i]
		points[i].From = nil // of its own site
	}
	return e.Encode(mapFile{MapFormat, 1, m.Device, m.Model, m.Protocol, points})
}

// readMapJSON reads a map in JSON, or any JSON array of objects, whose keys
// then are the headings of a table.
func readMapJSON(data []byte) ([]regmap.Row, error) {
	trimmed := bytes.TrimSpace(data)
	if len(trimmed) > 0 && trimmed[0] == '[' {
		return readObjects(data)
	}
	var head struct {
		Format string            `json:"format"`
		Points []json.RawMessage `json:"points"`
	}
	if err := json.Unmarshal(data, &head); err != nil {
		return nil, placed(data, err)
	}
	if head.Format != MapFormat {
		if head.Points != nil {
			if raw, err := json.Marshal(head.Points); err == nil {
				return readObjects(raw)
			}
		}
		return nil, problem.New("not-a-table", fmt.Sprintf("This JSON holds no map: its format is %q.", head.Format),
			"Give a map that Ferry has handed out, or an array of objects with one object for each point.").At("format")
	}
	var f mapFile
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(&f); err != nil {
		return nil, placed(data, err)
	}
	scheme, err := protocol.SchemeOf(f.Protocol)
	if err != nil {
		return nil, problem.From(err, "protocol").At("protocol")
	}
	m := Map{Scheme: scheme, Points: f.Points}
	return m.table(), nil
}

// table prints a map as a table, with its headings first.
func (m *Map) table() []regmap.Row {
	columns := regmap.ColumnsFor(m.Scheme)
	rows := make([]regmap.Row, 0, len(m.Points)+1)
	headings := make([]string, len(columns))
	for i, column := range columns {
		headings[i] = string(column)
	}
	rows = append(rows, regmap.Row{Line: 1, Cells: headings})
	for i := range m.Points {
		rows = append(rows, rowOf(m.Scheme, &m.Points[i], i+2))
	}
	return rows
}

// rowOf prints a point as a row of a table.
func rowOf(scheme address.Scheme, p *site.Point, line int) regmap.Row {
	columns := regmap.ColumnsFor(scheme)
	row := regmap.Row{Line: line, Cells: make([]string, len(columns))}
	for i, column := range columns {
		row.Cells[i] = regmap.Cell(scheme, p, column)
	}
	return row
}

// readObjects makes a table of a JSON array of objects.
func readObjects(data []byte) ([]regmap.Row, error) {
	var list []map[string]any
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	if err := d.Decode(&list); err != nil {
		return nil, placed(data, err)
	}
	seen := map[string]bool{}
	var keys []string
	for _, object := range list {
		var fresh []string
		for key := range object {
			if !seen[key] {
				seen[key] = true
				fresh = append(fresh, key)
			}
		}
		sort.Strings(fresh)
		keys = append(keys, fresh...)
	}
	if len(list)*max(1, len(keys)) > MostCells {
		return nil, problem.New("too-large", fmt.Sprintf("The table has more than %d cells.", MostCells),
			"Bring it in by parts.")
	}
	rows := []regmap.Row{{Line: 1, Cells: keys}}
	for i, object := range list {
		cells := make([]string, len(keys))
		for j, key := range keys {
			switch v := object[key].(type) {
			case nil:
			case string:
				cells[j] = v
			default:
				cells[j] = strings.Trim(fmt.Sprint(v), "[]")
			}
		}
		rows = append(rows, regmap.Row{Line: i + 2, Cells: cells})
	}
	return rows, nil
}

// Source is a list of points as it was read, whatever the format.
type Source struct {
	Format string // csv, xlsx, json, iec61131-10, iec61131-3, or a family's own
	Rows   []regmap.Row
	// Sheets of a workbook, and the one that was read.
	Sheets []string
	Sheet  string
	// Structures that an IEC 61131-3 or -10 document declares, and the variables
	// that it gives no address.
	Structures []site.Structure
	Unplaced   []string
	// Placements are the variables of a structure that have an address; their
	// structures are named by the ids of Structures.
	Placements []site.Placement
	// Faults are what of a text could not be read.
	Faults []regmap.Rejected
}

// Within says what of a source is meant.
type Within struct {
	Sheet string // of a workbook; empty for the first with a table
	// Begin is the address from which declared variables lie that have none.
	Begin string
	// Describes reads the files about devices of the map's protocol, nil for none.
	Describes protocol.Describes
}

// ReadSource reads a list of points in any format that Ferry knows, which it
// tells by the content.
func ReadSource(data []byte, in Within, scheme address.Scheme) (*Source, error) {
	if bytes.HasPrefix(data, []byte("\xFF\xFE")) || bytes.HasPrefix(data, []byte("\xFE\xFF")) {
		data = []byte(charset.Text(data))
	}
	body := bytes.TrimSpace(bytes.TrimPrefix(data, []byte("\xEF\xBB\xBF")))
	if in.Describes != nil && in.Describes.Described(body) {
		return readDescription(body, in.Describes, scheme)
	}
	switch {
	case bytes.HasPrefix(body, []byte("PK\x03\x04")):
		rows, sheets, chosen, err := ReadWorkbook(data, in.Sheet, scheme)
		return &Source{Format: "xlsx", Rows: rows, Sheets: sheets, Sheet: chosen}, err
	case bytes.HasPrefix(body, []byte("\xD0\xCF\x11\xE0")):
		return nil, problem.New("not-a-table", "The file is a workbook of the old binary kind, or has a password.",
			"Save it from the spreadsheet as XLSX or CSV.")
	case bytes.HasPrefix(body, []byte("%PDF")):
		return nil, problem.New("not-a-table", "The file is a PDF, which holds no table.",
			"Select the table in it, copy it, and paste the rows.")
	case bytes.HasPrefix(body, []byte("<")):
		return readIEC(body, scheme, in.Begin)
	case bytes.HasPrefix(body, []byte("{")), bytes.HasPrefix(body, []byte("[{")):
		rows, err := readMapJSON(body)
		return &Source{Format: "json", Rows: rows}, err
	case declared(body):
		doc, faults, err := readDeclared(body)
		if err != nil {
			return nil, err
		}
		return takeDeclared("iec61131-3", doc, faults, scheme, in.Begin)
	}
	rows, err := ReadTable(data)
	return &Source{Format: "csv", Rows: rows}, err
}
