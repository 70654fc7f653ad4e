package files

import (
	"fmt"
	"io"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/goregular"

	"ferry/internal/core/handover"
	"ferry/internal/core/route"
)

// pdfPaper is an A4 sheet in landscape with Ferry's fonts, margins and footer.
type pdfPaper struct{ *fpdf.Fpdf }

// newPaper begins a document. Its footer has a text and the number of the page.
func newPaper(title, footer string) *pdfPaper {
	p := &pdfPaper{fpdf.New("L", "mm", "A4", "")}
	p.AddUTF8FontFromBytes("words", "", goregular.TTF)
	p.AddUTF8FontFromBytes("words", "B", gobold.TTF)
	p.AddUTF8FontFromBytes("mono", "", gomono.TTF)
	p.SetMargins(pdfMargin, pdfMargin, pdfMargin)
	p.SetAutoPageBreak(false, pdfMargin)
	p.AliasNbPages("")
	p.SetTitle(title, true)
	p.SetCreator("Ferry", true)
	p.SetFooterFunc(func() {
		p.SetY(-10)
		p.SetFont("words", "", 8)
		p.colour(pdfSoft)
		p.CellFormat(pdfWidth/2, 5, footer, "", 0, "L", false, 0, "")
		p.CellFormat(pdfWidth/2, 5, fmt.Sprintf("page %d of {nb}", p.PageNo()), "", 0, "R", false, 0, "")
	})
	return p
}

func (p *pdfPaper) colour(c rgb) { p.SetTextColor(c[0], c[1], c[2]) }
func (p *pdfPaper) fill(c rgb)   { p.SetFillColor(c[0], c[1], c[2]) }
func (p *pdfPaper) pen(c rgb)    { p.SetDrawColor(c[0], c[1], c[2]) }

// packPaper is a pack on paper.
type packPaper struct {
	*pdfPaper
	entries []packEntry
}

// packEntry is a line of the contents.
type packEntry struct {
	title       string
	level, page int
	link        int
}

// Contents are in so many columns of so many lines.
const (
	contentColumns = 3
	contentLines   = 34
)

// WritePackPDF writes a pack as a PDF: A4 landscape, with contents, bookmarks, page numbers, and
// the fonts in it. What is too long for its cell is broken into lines: nothing is cut off.
func WritePackPDF(w io.Writer, pack *handover.Pack) error {
	p := &packPaper{pdfPaper: newPaper(pack.Site+": handing over", pack.Site+", "+pack.Made)}
	p.cover(pack)
	lines := 0
	for i := range pack.Sections {
		lines += 1 + len(pack.Sections[i].Tables)
	}
	first := p.PageNo() + 1
	for range (lines + contentColumns*contentLines - 1) / (contentColumns * contentLines) {
		p.AddPage() // the contents are written there once the pages are known
	}
	for i := range pack.Sections {
		p.section(&pack.Sections[i], i+1)
	}
	p.contents(first)
	return p.Output(w)
}

func (p *packPaper) cover(pack *handover.Pack) {
	p.AddPage()
	p.pen(pdfInk)
	p.SetLineWidth(0.8)
	p.Line(pdfMargin, 30, pdfMargin+pdfWidth, 30)
	p.SetLineWidth(0.2)
	p.SetXY(pdfMargin, 36)
	p.SetFont("words", "B", 26)
	p.colour(pdfInk)
	p.MultiCell(pdfWidth, 12, pack.Site, "", "L", false)
	p.SetFont("words", "", 13)
	p.colour(pdfSoft)
	p.MultiCell(pdfWidth, 8, "Commissioned links: how they are set, what was proved, and what is open", "", "L", false)
	p.Ln(8)
	for _, fact := range pack.Facts {
		p.SetFont("words", "", 10)
		p.colour(pdfSoft)
		y := p.GetY()
		p.CellFormat(45, 6.5, fact.Name, "", 0, "L", false, 0, "")
		p.colour(pdfInk)
		p.SetXY(pdfMargin+45, y)
		p.MultiCell(pdfWidth-45, 6.5, fact.Says, "", "L", false)
	}
}

// section begins on a page of its own.
func (p *packPaper) section(s *handover.Section, n int) {
	p.AddPage()
	title := fmt.Sprintf("%d  %s", n, s.Title)
	p.note(title, 0)
	p.SetFont("words", "B", 16)
	p.colour(pdfInk)
	p.CellFormat(pdfWidth, 9, title, "", 1, "L", false, 0, "")
	p.SetFont("words", "", 9)
	p.colour(pdfSoft)
	p.MultiCell(pdfWidth, 4.6, s.Says, "", "L", false)
	p.Ln(2)
	for i := range s.Rails {
		p.rail(&s.Rails[i])
	}
	for i := range s.Tables {
		p.table(&s.Tables[i])
	}
}

// note enters what begins here into contents and bookmarks.
func (p *packPaper) note(title string, level int) {
	link := p.AddLink()
	p.SetLink(link, p.GetY(), -1)
	p.Bookmark(title, level, -1)
	p.entries = append(p.entries, packEntry{title, level, p.PageNo(), link})
}

func (p *packPaper) contents(page int) {
	width := (pdfWidth - 8*(contentColumns-1)) / contentColumns
	for i, e := range p.entries {
		column, line := i/contentLines%contentColumns, i%contentLines
		p.SetPage(page + i/(contentLines*contentColumns))
		if i%(contentLines*contentColumns) == 0 {
			p.SetXY(pdfMargin, pdfMargin)
			p.SetFont("words", "B", 16)
			p.colour(pdfInk)
			p.CellFormat(pdfWidth, 9, "Contents", "", 1, "L", false, 0, "")
		}
		p.SetFont("words", "", 8.5)
		if e.level == 0 {
			p.SetFont("words", "B", 8.5)
		}
		x, y := pdfMargin+float64(column)*(width+8)+4*float64(e.level), pdfMargin+12+4.7*float64(line)
		p.colour(pdfInk)
		p.SetXY(x, y)
		p.CellFormat(width-12-4*float64(e.level), 4.7, p.fitting(e.title, width-13-4*float64(e.level)), "", 0, "L", false,
			e.link, "")
		p.CellFormat(12, 4.7, fmt.Sprint(e.page), "", 0, "R", false, e.link, "")
	}
	p.SetPage(p.PageCount())
}

// fitting is a text shortened to a width: in the contents alone, where it stands in full on
// its page.
func (p *packPaper) fitting(text string, width float64) string {
	if p.GetStringWidth(text) <= width {
		return text
	}
	runes := []rune(text)
	for len(runes) > 1 && p.GetStringWidth(string(runes)+"…") > width {
		runes = runes[:len(runes)-1]
	}
	return string(runes) + "…"
}

// A rail has so many cards side by side.
const (
	railCards = 6
	railGap   = 3.0
	cardTall  = 15.0
)

func (p *packPaper) rail(r *handover.Rail) {
	rows := max(1, (len(r.Cards)+railCards-1)/railCards)
	if p.GetY()+18+cardTall > pdfBottom || rows <= 6 && p.GetY()+14+float64(rows)*(cardTall+4) > pdfBottom {
		p.AddPage()
	}
	p.SetFont("words", "B", 11)
	p.colour(pdfInk)
	wide := p.GetStringWidth(r.Title) + 4
	p.CellFormat(wide, 6, r.Title, "", 0, "L", false, 0, "")
	p.SetFont("words", "", 8.5)
	p.colour(pdfSoft)
	p.CellFormat(pdfWidth-wide-40, 6, r.About, "", 0, "L", false, 0, "")
	p.CellFormat(40, 6, fmt.Sprintf("%.1f %% of its time", 100*r.Used), "", 1, "R", false, 0, "")
	width := (pdfWidth - railGap*(railCards-1)) / railCards
	for i := range r.Cards {
		if i%railCards == 0 {
			if i > 0 {
				p.SetY(p.GetY() + cardTall + 1)
			}
			if p.GetY()+cardTall+6 > pdfBottom {
				p.AddPage()
			}
			y := p.GetY() + 1
			p.pen(pdfInk)
			p.SetLineWidth(0.7)
			if r.Dashed {
				p.SetDashPattern([]float64{2.5, 1}, 0)
			}
			p.Line(pdfMargin, y, pdfMargin+pdfWidth, y)
			p.SetDashPattern([]float64{}, 0)
			p.SetLineWidth(0.2)
			p.SetY(y + 3)
		}
		p.card(&r.Cards[i], pdfMargin+float64(i%railCards)*(width+railGap), p.GetY(), width)
	}
	if len(r.Cards) > 0 {
		p.SetY(p.GetY() + cardTall)
	}
	p.Ln(5)
}

func (p *packPaper) card(c *handover.Card, x, y, width float64) {
	p.pen(pdfInk)
	p.SetLineWidth(0.5)
	p.Line(x+4, y-3, x+4, y)
	p.SetLineWidth(0.2)
	style, ink, soft := "D", pdfInk, pdfSoft
	if c.Dark {
		style, ink, soft = "FD", rgb{0xFF, 0xFF, 0xFF}, rgb{0xDA, 0xD4, 0xC6}
		p.fill(pdfInk)
	} else {
		p.pen(pdfRule)
	}
	p.RoundedRect(x, y, width, cardTall, 1, "1234", style)
	p.SetXY(x+1, y+1)
	p.SetFont("words", "B", 8)
	p.colour(ink)
	size := 8.0
	for p.GetStringWidth(c.Name) > width-4 && size > 4.5 { // a long name gets smaller, not shorter
		size -= 0.5
		p.SetFont("words", "B", size)
	}
	p.CellFormat(width-2, 4, c.Name, "", 2, "L", false, 0, "")
	p.SetFont("mono", "", 7)
	p.colour(soft)
	p.CellFormat(width-2, 4, c.Place, "", 2, "L", false, 0, "")
	if len(c.Stops) == 0 {
		p.SetFont("words", "", 7)
		p.CellFormat(width-2, 4, c.Says, "", 0, "L", false, 0, "")
		p.SetY(y)
		return
	}
	for i, stop := range c.Stops {
		p.stop(stop, x+3.5+float64(i)*4.4, y+11.5, i+1 < len(c.Stops))
	}
	p.SetY(y)
}

// stop marks what came of one stop: a round with a tick, a triangle, a square with a cross, or
// an open ring.
func (p *packPaper) stop(result route.Result, x, y float64, on bool) {
	colour := map[route.Result]rgb{route.Good: {0x2C, 0x7A, 0x4B}, route.Doubt: {0xA6, 0x63, 0x00}, route.Fault: pdfFault,
		route.NotTried: {0x8B, 0x98, 0x9D}}[result]
	p.pen(colour)
	p.fill(colour)
	if on {
		p.Line(x+1.3, y, x+3.1, y)
	}
	switch result {
	case route.Good:
		p.Circle(x, y, 1.2, "F")
	case route.Doubt:
		p.Polygon([]fpdf.PointType{{X: x - 1.3, Y: y + 1.1}, {X: x + 1.3, Y: y + 1.1}, {X: x, Y: y - 1.2}}, "F")
	case route.Fault:
		p.Rect(x-1.1, y-1.1, 2.2, 2.2, "F")
	default:
		p.Circle(x, y, 1.1, "D")
	}
	p.pen(rgb{0xFF, 0xFF, 0xFF})
	switch result {
	case route.Good:
		p.Line(x-0.6, y, x-0.1, y+0.5)
		p.Line(x-0.1, y+0.5, x+0.7, y-0.5)
	case route.Fault:
		p.Line(x-0.6, y-0.6, x+0.6, y+0.6)
		p.Line(x-0.6, y+0.6, x+0.6, y-0.6)
	}
}
