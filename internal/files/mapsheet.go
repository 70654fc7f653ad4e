package files

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"strings"

	"ferry/internal/core/block"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

//go:embed mapsheet.html.tmpl
var mapSheetText string

var mapSheet = template.Must(template.New("map sheet").Parse(mapSheetText))

// stripUnits is how many units a printed ribbon shows side by side.
const stripUnits = 64

// MapSheet is what a printed map says besides the maps themselves.
type MapSheet struct {
	Site    string
	Remark  string
	Printed string // date and time, as it is to stand on the sheet
	Maps    []Map
}

type printedMap struct {
	Device, Model, Remark, Protocol string
	Count                           int
	Strips                          []printedStrip
	Headings                        []string
	Rows                            []printedRow
}

type printedStrip struct {
	Title  string
	Ticks  []printedTick
	Blocks []printedBlock
}

type printedTick struct {
	X    float64
	Text string
}

// printedBlock is in percent of the width; Lane 1 lies under lane 0.
type printedBlock struct {
	X, Width float64
	Lane     int
	Class    string
	Name     string
}

type printedRow struct {
	Name, Address                                                 string
	Notations                                                     []string
	Type, Order, Scale, Unit, Pace, Access, Names, Limits, Remark string
}

// printed lays a map out for paper.
func (m *Map) printed() printedMap {
	out := printedMap{Device: m.Device, Model: m.Model, Remark: m.Remark, Protocol: m.Protocol, Count: len(m.Points),
		Headings: m.extraNotations()}
	for _, s := range regmap.Strips(m.Scheme, m.Points, stripUnits) {
		last := min(uint32(s.Units), s.Area.Units-s.From) - 1
		strip := printedStrip{Title: fmt.Sprintf("%s %s to %s", s.Area.Title,
			m.Scheme.Short(block.At(s.Area.Key, s.From)), m.Scheme.Short(block.At(s.Area.Key, s.From+last)))}
		for n := 0; n < s.Units; n += 8 {
			strip.Ticks = append(strip.Ticks,
				printedTick{100 * float64(n) / stripUnits, m.Scheme.Short(block.At(s.Area.Key, s.From+uint32(n)))})
		}
		for i, b := range s.Blocks {
			class := []string{"even", "odd"}[i%2]
			if b.Overlap {
				class = "overlap"
			}
			strip.Blocks = append(strip.Blocks,
				printedBlock{100 * float64(b.From) / stripUnits, 100 * float64(b.Units) / stripUnits, b.Lane, class,
					b.Point.Name})
		}
		out.Strips = append(out.Strips, strip)
	}
	for i := range m.Points {
		p := &m.Points[i]
		cell := func(c regmap.Column) string { return regmap.Cell(m.Scheme, p, c) }
		row := printedRow{Name: p.Name, Address: cell(regmap.Address), Type: cell(regmap.Type),
			Order: cell(regmap.Order), Unit: p.Unit,
			Pace: cell(regmap.Pace), Access: cell(regmap.Access), Names: cell(regmap.Names), Remark: p.Remark,
			Limits: limitsOf(p), Scale: scaleOf(p, cell(regmap.Scale))}
		for _, name := range out.Headings {
			text := ""
			for _, n := range m.Scheme.Notations(p.Address) {
				if n.Name == name {
					text = n.Text
				}
			}
			row.Notations = append(row.Notations, text)
		}
		out.Rows = append(out.Rows, row)
	}
	return out
}

func scaleOf(p *site.Point, scale string) string {
	if p.Offset > 0 {
		scale += fmt.Sprintf(" + %s", value.OfFloat(p.Offset))
	}
	if p.Offset < 0 {
		scale += fmt.Sprintf(" − %s", value.OfFloat(-p.Offset))
	}
	return strings.TrimSpace(scale)
}

func limitsOf(p *site.Point) string {
	var parts []string
	if p.Low != nil {
		parts = append(parts, fmt.Sprintf("from %s", value.OfFloat(*p.Low)))
	}
	if p.ChangeMs > 0 {
		parts = append(parts, "changes every "+regmap.PrintPace(p.ChangeMs)+" at most")
	}
	if p.High != nil {
		parts = append(parts, fmt.Sprintf("to %s", value.OfFloat(*p.High)))
	}
	for _, code := range p.Missing {
		parts = append(parts, fmt.Sprintf("%s is no value", code))
	}
	return strings.Join(parts, ", ")
}

// WriteMapSheet writes maps as one HTML document made for print. It stands
// alone: nothing is fetched.
func WriteMapSheet(w io.Writer, sheet *MapSheet) error {
	data := struct {
		*MapSheet
		Printed string
		Maps    []printedMap
	}{MapSheet: sheet, Printed: sheet.Printed}
	for i := range sheet.Maps {
		data.Maps = append(data.Maps, sheet.Maps[i].printed())
	}
	return mapSheet.Execute(w, data)
}
