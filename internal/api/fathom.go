package api

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/fathom"
	"ferry/internal/core/finding"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// postWindow reads the registers around a point, now.
func (s *Server) postWindow(c fiber.Ctx) error {
	var r WindowRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	d, def, err := s.device(c, c.Params("id"))
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(c.Context(), 20*time.Second)
	defer cancel()
	w, err := s.Engine.ReadWindow(ctx, d.ID, def.Name, r.Area, r.Start, r.Count, r.At)
	if err != nil {
		return err
	}
	return c.JSON(windowView(def.Scheme, w))
}

func windowView(scheme address.Scheme, w *field.Window) WindowView {
	view := WindowView{Window: *w, Address: scheme.Short(block.At(w.Area, w.Start)), Hex: make([]string, len(w.Words)),
		Hints: []HintView{}}
	for i, word := range w.Words {
		view.Hex[i] = fmt.Sprintf("%04X", word)
	}
	for _, h := range fathom.Hints(w.Words) {
		view.Hints = append(view.Hints, HintView{h, scheme.Short(block.At(w.Area, w.Start+uint32(h.At)))})
	}
	return view
}

// postFathom ranks what words mean, and offers to take the best into the map.
func (s *Server) postFathom(c fiber.Ctx) error {
	var r FathomRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	d, def, err := s.device(c, r.Device)
	if err != nil {
		return err
	}
	q := fathom.Query{}
	for i, text := range r.Moments {
		words, err := regmap.ParseWords(text)
		if err != nil {
			return problem.New("bad-words", err.Error()+".",
				"Write each word as four hexadecimal digits, or as a decimal number after #.").At(fmt.Sprintf("moment %d", i+1))
		}
		q.Moments = append(q.Moments, words)
	}
	var own *site.Point
	for i := range d.Points {
		if d.Points[i].ID == r.Point {
			own = &d.Points[i]
		}
	}
	for _, reading := range r.Readings {
		given := fathom.Reading{Moment: reading.Moment, Shows: reading.Shows, Within: reading.Within,
			Point: reading.Point}
		of := own
		for i := range d.Points {
			if reading.Point != "" && d.Points[i].ID == reading.Point {
				of = &d.Points[i]
			}
		}
		if of != nil && of.Place().Area == r.Area {
			at := int(of.Place().Offset) - int(r.Start)
			given.At, given.Type, given.Order = &at, of.Type, of.Order
		}
		q.Readings = append(q.Readings, given)
	}
	found, err := fathom.Search(&q)
	if err != nil {
		return problem.New("bad-reading", err.Error()+".", "")
	}
	answer := FathomAnswer{Ask: found.Ask, Candidates: []CandidateView{}}
	for i := range found.Candidates {
		answer.Candidates = append(answer.Candidates, candidateView(def, d, own, r.Area, r.Start, &found.Candidates[i]))
	}
	return c.JSON(answer)
}

func candidateView(def *protocol.Def, d *site.Device, own *site.Point, area string, start uint32,
	c *fathom.Candidate) CandidateView {
	p := pointOf(area, start, c)
	cell := func(column regmap.Column) string { return regmap.Cell(def.Scheme, &p, column) }
	view := CandidateView{Address: cell(regmap.Address), Type: cell(regmap.Type), Order: cell(regmap.Order),
		Scale: cell(regmap.Scale), Offset: cell(regmap.Offset),
		Fits: c.Fits, Sure: c.Sure, Values: []string{}, Fixes: []finding.Fix{}}
	for _, v := range c.Values {
		view.Values = append(view.Values, p.Shown(v))
	}
	if own == nil {
		return view
	}
	use := finding.Fix{Title: strings.TrimSpace(fmt.Sprintf("Use %s %s", view.Type, view.Order))}
	add := func(fix *finding.Fix, of *site.Point, column regmap.Column, will string) {
		if was := regmap.Cell(def.Scheme, of, column); was != will {
			fix.Cells = append(fix.Cells,
				finding.CellFix{Point: of.ID, Name: of.Name, Column: string(column), Was: was, Will: will})
		}
	}
	for _, column := range []regmap.Column{regmap.Type, regmap.Address, regmap.Order, regmap.Scale, regmap.Offset,
		regmap.Names} {
		if column != regmap.Names || len(p.Names) > 0 {
			add(&use, own, column, cell(column))
		}
	}
	if len(use.Cells) == 0 {
		return view
	}
	view.Fixes = append(view.Fixes, use)
	if order, ok := forOrder(def, d, own, &p, use, add); ok {
		view.Fixes = append(view.Fixes, order)
	}
	if shift, ok := forShift(def, d, own, &p, use, add); ok {
		view.Fixes = append(view.Fixes, shift)
	}
	return view
}

type addCell func(*finding.Fix, *site.Point, regmap.Column, string)

// forOrder takes a new order into every point that shares the old one.
func forOrder(def *protocol.Def, d *site.Device, own, p *site.Point, use finding.Fix, add addCell) (finding.Fix, bool) {
	width := p.Type.Bytes(p.Length)
	rule := 0
	for i, o := range value.Orders(width) {
		if o == p.Order {
			rule = i
		}
	}
	if width <= 2 || p.Type.IsText() || own.Order == p.Order && own.Type == p.Type {
		return finding.Fix{}, false
	}
	fix := finding.Fix{Cells: slices.Clone(use.Cells)}
	count := 1
	for i := range d.Points {
		other := &d.Points[i]
		w := other.Type.Bytes(other.Length)
		if other.ID == own.ID || w <= 2 || other.Type.IsText() || !sameOrder(other, own) {
			continue
		}
		orders := value.Orders(w)
		if rule >= len(orders) {
			continue
		}
		before := len(fix.Cells)
		add(&fix, other, regmap.Order, string(orders[rule]))
		if len(fix.Cells) > before {
			count++
		}
	}
	fix.Title = fmt.Sprintf("…with its order for all %d points that share it", count)
	return fix, count > 1
}

// sameOrder reports whether two points follow one rule for words and bytes.
func sameOrder(a, b *site.Point) bool {
	rule := func(p *site.Point) int {
		if p.Order == "" {
			return 0
		}
		return slices.Index(value.Orders(p.Type.Bytes(p.Length)), p.Order)
	}
	return rule(a) == rule(b)
}

// forShift moves every point of the area by as much as this one moves.
func forShift(def *protocol.Def, d *site.Device, own, p *site.Point, use finding.Fix, add addCell) (finding.Fix, bool) {
	by := int(p.Place().Offset) - int(own.Place().Offset)
	area, ok := block.AreaOf(def.Scheme, own.Place().Area)
	if by == 0 || !ok || own.Place().Area != p.Place().Area {
		return finding.Fix{}, false
	}
	fix := finding.Fix{Cells: slices.Clone(use.Cells)}
	count := 1
	for i := range d.Points {
		other := &d.Points[i]
		to := int64(other.Place().Offset) + int64(by)
		if other.ID == own.ID || other.Place().Area != own.Place().Area || to < 0 || to >= int64(area.Units) {
			continue
		}
		moved := *other
		moved.Address = block.Moved(moved.Address, uint32(to))
		add(&fix, other, regmap.Address, regmap.Cell(def.Scheme, &moved, regmap.Address))
		count++
	}
	fix.Title = fmt.Sprintf("…and move all %d points of the %s by %+d", count, area.Title, by)
	return fix, count > 1
}

// pointOf makes a point of an explanation, so that its cells can be printed.
func pointOf(area string, start uint32, c *fathom.Candidate) site.Point {
	p := site.Point{Address: block.At(area, start+uint32(c.At)), Type: c.Type, Length: c.Length, Order: c.Order,
		Factor: c.Scale, Offset: c.Offset}
	if c.Bit >= 0 && c.Type.InUnit() {
		p.Address = block.WithBit(p.Address, c.Bit)
	}
	if c.Scale == 1 || c.Type == value.TypeBool {
		p.Factor = 0
	}
	for _, name := range c.Names {
		p.Names = append(p.Names, site.Naming{Value: name.Value, Name: name.Name})
	}
	return p
}

// postEdges asks a device for the edges of its map, and says if the whole map
// lies one off.
func (s *Server) postEdges(c fiber.Ctx) error {
	d, def, err := s.device(c, c.Params("id"))
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(c.Context(), 20*time.Second)
	defer cancel()
	edges, err := s.Engine.AskEdges(ctx, d.ID, def.Name)
	if err != nil {
		return err
	}
	return c.JSON(EdgesView{Edges: edges, Findings: regmap.Shifted(def.Scheme, d, edges)})
}
