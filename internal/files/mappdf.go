package files

import (
	"fmt"
	"io"
	"strings"
)

// WriteMapPDF writes maps as a PDF: for each device the ribbon to scale and the
// table of its points, A4 landscape, with the fonts in it.
func WriteMapPDF(w io.Writer, sheet *MapSheet) error {
	p := &pdfSheet{newPaper(sheet.Site+": map sheet", sheet.Site+", "+sheet.Printed)}
	for i := range sheet.Maps {
		m := sheet.Maps[i].printed()
		p.device(&m)
	}
	if len(sheet.Maps) == 0 {
		p.AddPage()
		p.SetFont("words", "", 11)
		p.MultiCell(pdfWidth, 6, "There are no points to print.", "", "L", false)
	}
	return p.Output(w)
}

const (
	pdfMargin = 12.0
	pdfWidth  = 297 - 2*pdfMargin
	pdfBottom = 210 - 15.0
	pdfLine   = 4.6
)

type rgb [3]int

var (
	pdfInk     = rgb{0x15, 0x25, 0x2D}
	pdfSoft    = rgb{0x56, 0x67, 0x6E}
	pdfRule    = rgb{0xDA, 0xD4, 0xC6}
	pdfBand    = rgb{0xE9, 0xE5, 0xD9}
	pdfEven    = rgb{0x9C, 0xC3, 0xC4}
	pdfOdd     = rgb{0xB9, 0xD6, 0xD4}
	pdfFault   = rgb{0xB8, 0x34, 0x1F}
	pdfOverlap = rgb{0xF8, 0xDD, 0xD5}
)

type pdfSheet struct{ *pdfPaper }

func (p *pdfSheet) device(m *printedMap) {
	p.AddPage()
	p.SetFont("words", "B", 16)
	p.colour(pdfInk)
	p.CellFormat(pdfWidth, 8, m.Device, "", 1, "L", false, 0, "")
	p.SetFont("words", "", 9)
	p.colour(pdfSoft)
	about := []string{}
	for _, part := range []string{m.Model, m.Protocol, fmt.Sprintf("%d points", m.Count), m.Remark} {
		if part != "" {
			about = append(about, part)
		}
	}
	p.CellFormat(pdfWidth, 5, strings.Join(about, " · "), "", 1, "L", false, 0, "")
	p.Ln(2)
	for i := range m.Strips {
		p.strip(&m.Strips[i])
	}
	p.table(m)
}

// strip draws one stretch of the ribbon.
func (p *pdfSheet) strip(s *printedStrip) {
	const height = 7.0
	if p.GetY()+16 > pdfBottom {
		p.AddPage()
	}
	p.SetFont("words", "", 7.5)
	p.colour(pdfSoft)
	p.CellFormat(pdfWidth, 3.6, s.Title, "", 1, "L", false, 0, "")
	x, y := p.GetX(), p.GetY()
	p.SetFont("mono", "", 6)
	for _, tick := range s.Ticks {
		p.SetXY(x+pdfWidth*tick.X/100, y)
		p.CellFormat(20, 3, tick.Text, "", 0, "L", false, 0, "")
	}
	y += 3
	p.SetFillColor(pdfBand[0], pdfBand[1], pdfBand[2])
	p.Rect(x, y, pdfWidth, height, "F")
	p.SetFont("words", "", 6.5)
	p.colour(pdfInk)
	for _, b := range s.Blocks {
		fill := map[string]rgb{"even": pdfEven, "odd": pdfOdd, "overlap": pdfOverlap}[b.Class]
		p.SetFillColor(fill[0], fill[1], fill[2])
		style := "F"
		if b.Class == "overlap" {
			p.SetDrawColor(pdfFault[0], pdfFault[1], pdfFault[2])
			style = "FD"
		}
		left, width := x+pdfWidth*b.X/100, pdfWidth*b.Width/100
		top, tall := y, height
		if b.Class == "overlap" {
			tall = height / 2
			top += tall * float64(b.Lane)
		}
		p.Rect(left, top, width-0.3, tall, style)
		p.ClipRect(left, top, width-0.3, tall, false)
		p.Text(left+0.5, top+tall/2+0.9, b.Name)
		p.ClipEnd()
	}
	p.SetXY(x, y+height+2.5)
}

type pdfColumn struct {
	heading string
	width   float64
	mono    bool
	text    func(*printedRow) string
}

func (p *pdfSheet) table(m *printedMap) {
	columns := []pdfColumn{
		{"Name", 40, false, func(r *printedRow) string { return r.Name }},
		{"Address", 17, true, func(r *printedRow) string { return r.Address }},
	}
	for i, heading := range m.Headings {
		columns = append(columns,
			pdfColumn{heading, max(17, 1.6*float64(len(heading))), true,
				func(r *printedRow) string { return r.Notations[i] }})
	}
	columns = append(columns,
		pdfColumn{"Reads as", 20, true, func(r *printedRow) string { return r.Type }},
		pdfColumn{"Order", 17, true, func(r *printedRow) string { return r.Order }},
		pdfColumn{"Scale", 22, true, func(r *printedRow) string { return r.Scale }},
		pdfColumn{"Unit", 13, false, func(r *printedRow) string { return r.Unit }},
		pdfColumn{"Pace", 11, false, func(r *printedRow) string { return r.Pace }},
		pdfColumn{"Access", 13, false, func(r *printedRow) string { return r.Access }},
	)
	rest := pdfWidth
	for _, c := range columns {
		rest -= c.width
	}
	columns = append(columns, pdfColumn{"Meaning and remark", rest, false, func(r *printedRow) string {
		parts := []string{}
		for _, part := range []string{r.Names, r.Limits, r.Remark} {
			if part != "" {
				parts = append(parts, part)
			}
		}
		return strings.Join(parts, ". ")
	}})
	p.tableHead(columns)
	for i := range m.Rows {
		p.row(columns, &m.Rows[i])
	}
}

func (p *pdfSheet) tableHead(columns []pdfColumn) {
	if p.GetY()+12 > pdfBottom {
		p.AddPage()
	}
	p.SetFont("words", "B", 7.5)
	p.colour(pdfSoft)
	for _, c := range columns {
		p.CellFormat(c.width, 5, c.heading, "B", 0, "L", false, 0, "")
	}
	p.Ln(5)
}

// row prints one point; cells that are too long for their column are broken
// into lines, so that nothing is cut off.
func (p *pdfSheet) row(columns []pdfColumn, r *printedRow) {
	lines := make([][]string, len(columns))
	tallest := 1
	for i, c := range columns {
		p.cellFont(c)
		if text := c.text(r); text != "" {
			for _, line := range p.SplitText(text, c.width) {
				lines[i] = append(lines[i], p.broken(line, c.width-2)...)
			}
		}
		tallest = max(tallest, len(lines[i]))
	}
	// A cell longer than a page goes on over several.
	for from := 0; from < tallest; {
		if p.GetY()+pdfLine > pdfBottom {
			p.AddPage()
			p.tableHead(columns)
		}
		room := min(tallest-from, max(1, int((pdfBottom-p.GetY())/pdfLine)))
		if from == 0 && room < tallest && tallest < 20 {
			p.AddPage()
			p.tableHead(columns)
			room = tallest
		}
		x, y := p.GetX(), p.GetY()
		for i, c := range columns {
			p.cellFont(c)
			p.colour(pdfInk)
			for n := from; n < min(from+room, len(lines[i])); n++ {
				p.SetXY(x, y+float64(n-from)*pdfLine)
				p.CellFormat(c.width, pdfLine, lines[i][n], "", 0, "L", false, 0, "")
			}
			x += c.width
		}
		from += room
		y += float64(room) * pdfLine
		p.SetDrawColor(pdfRule[0], pdfRule[1], pdfRule[2])
		p.Line(pdfMargin, y, pdfMargin+pdfWidth, y)
		p.SetXY(pdfMargin, y)
	}
}

func (p *pdfSheet) cellFont(c pdfColumn) {
	if c.mono {
		p.SetFont("mono", "", 7)
		return
	}
	p.SetFont("words", "", 7.5)
}
