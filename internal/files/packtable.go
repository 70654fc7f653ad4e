package files

import (
	"strings"

	"ferry/internal/core/handover"
)

// pdfCell is what stands in a cell, broken into lines.
type pdfCell []string

// table prints a table with its title; its head is repeated on each page.
func (p *packPaper) table(t *handover.Table) {
	widths := make([]float64, len(t.Columns))
	sum := 0.0
	for i, c := range t.Columns {
		sum += c.Share
		widths[i] = c.Share
	}
	for i := range widths {
		widths[i] *= pdfWidth / sum
	}
	if p.GetY()+24 > pdfBottom {
		p.AddPage()
	}
	p.note(t.Title, 1)
	p.SetFont("words", "B", 11)
	p.colour(pdfInk)
	p.MultiCell(pdfWidth, 6, t.Title, "", "L", false)
	if t.Says != "" {
		p.SetFont("words", "", 8.5)
		p.colour(pdfSoft)
		p.MultiCell(pdfWidth, 4.4, t.Says, "", "L", false)
	}
	p.head(t, widths)
	cells := make([]pdfCell, len(t.Columns))
	for _, row := range t.Rows {
		p.row(t, widths, row, cells)
	}
	p.Ln(5)
}

func (p *packPaper) head(t *handover.Table, widths []float64) {
	p.SetFont("words", "B", 7.5)
	p.colour(pdfSoft)
	p.pen(pdfInk)
	heads, tallest := make([]pdfCell, len(t.Columns)), 1
	for i, c := range t.Columns {
		heads[i] = p.lines(c.Title, widths[i])
		tallest = max(tallest, len(heads[i]))
	}
	p.draw(t, widths, heads, 0, tallest)
	p.pen(pdfInk)
	p.Line(pdfMargin, p.GetY(), pdfMargin+pdfWidth, p.GetY())
}

// lines breaks a text into as many lines as its cell needs, in the font that is set.
func (p *packPaper) lines(text string, width float64) (lines pdfCell) {
	if text == "" {
		return nil
	}
	if !strings.ContainsRune(text, '\n') && p.GetStringWidth(text) <= width-2 {
		return pdfCell{text}
	}
	for _, line := range p.SplitText(text, width) {
		lines = append(lines, p.broken(line, width-2)...)
	}
	return lines
}

// row prints a row; one that does not fit goes to the next page, and one that is taller than a
// page goes on over several.
func (p *packPaper) row(t *handover.Table, widths []float64, row []string, cells []pdfCell) {
	tallest := 1
	for i, c := range t.Columns {
		p.face(c, 7.5)
		cells[i] = p.lines(row[i], widths[i])
		tallest = max(tallest, len(cells[i]))
	}
	if t.Tall {
		tallest = max(tallest, 3)
	}
	for from := 0; from < tallest; {
		room := int((pdfBottom - p.GetY()) / pdfLine)
		if room < 1 || from == 0 && room < tallest && tallest < 20 {
			p.AddPage()
			p.SetFont("words", "", 8.5)
			p.colour(pdfSoft)
			p.MultiCell(pdfWidth, 5, t.Title+", continued", "", "L", false)
			p.head(t, widths)
			room = int((pdfBottom - p.GetY()) / pdfLine)
		}
		room = min(room, tallest-from)
		p.colour(pdfInk)
		p.drawRow(t, widths, cells, row, from, room)
		from += room
	}
	p.pen(pdfRule)
	p.Line(pdfMargin, p.GetY(), pdfMargin+pdfWidth, p.GetY())
}

func (p *packPaper) face(c handover.Column, size float64) {
	if c.Mono {
		p.SetFont("mono", "", size-0.5)
		return
	}
	p.SetFont("words", "", size)
}

func (p *packPaper) drawRow(t *handover.Table, widths []float64, cells []pdfCell, row []string, from, room int) {
	x, y := pdfMargin, p.GetY()
	for i, c := range t.Columns {
		p.face(c, 7.5)
		p.colour(pdfInk)
		if i == t.Mark {
			if colour, ok := markColours[row[i]]; ok {
				p.colour(colour)
				p.SetFont("words", "B", 7.5)
			}
		}
		p.cell(cells[i], x, y, widths[i], from, room, c.Right)
		x += widths[i]
	}
	p.SetXY(pdfMargin, y+float64(room)*pdfLine)
}

// draw prints lines of cells in the font and colour that are set.
func (p *packPaper) draw(t *handover.Table, widths []float64, cells []pdfCell, from, room int) {
	x, y := pdfMargin, p.GetY()
	for i, c := range t.Columns {
		p.cell(cells[i], x, y, widths[i], from, room, c.Right)
		x += widths[i]
	}
	p.SetXY(pdfMargin, y+float64(room)*pdfLine)
}

func (p *packPaper) cell(lines pdfCell, x, y, width float64, from, room int, right bool) {
	align := "L"
	if right {
		align, width = "R", width-1.5
	}
	for n := from; n < min(from+room, len(lines)); n++ {
		p.SetXY(x, y+float64(n-from)*pdfLine)
		p.CellFormat(width, pdfLine, lines[n], "", 0, align, false, 0, "")
	}
}

// broken cuts a line without blanks into pieces that fit.
func (p *pdfPaper) broken(line string, width float64) (pieces []string) {
	runes := []rune(line)
	for len(runes) > 0 {
		n := len(runes)
		for n > 1 && p.GetStringWidth(string(runes[:n])) > width {
			n--
		}
		pieces = append(pieces, strings.TrimSpace(string(runes[:n])))
		runes = runes[n:]
	}
	return pieces
}

// markColours are those of words that say how something stands; the words stand there too.
var markColours = map[string]rgb{"right": {0x2C, 0x7A, 0x4B}, "wrong": pdfFault, "no": pdfFault, "fault": pdfFault,
	"to be proved again": {0x8A, 0x52, 0x00}, "doubt": {0x8A, 0x52, 0x00}, "perhaps": {0x8A, 0x52, 0x00},
	"not proved":       pdfSoft,
	"cannot be tested": pdfSoft, "not known": pdfSoft}
