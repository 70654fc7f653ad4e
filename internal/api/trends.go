package api

import (
	"bufio"
	"context"
	"fmt"
	"log"
	"math"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/crossing"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/core/trend"
	"ferry/internal/core/value"
	"ferry/internal/files"
	"ferry/internal/strips"
)

// getStrips lists the trends, the latest first.
func (s *Server) getStrips(c fiber.Ctx) error {
	list, failing := s.Strips.List()
	view := make([]StripView, len(list))
	for i := range list {
		view[i] = StripView{list[i], failing[list[i].ID]}
	}
	return c.JSON(view)
}

// postStrip begins to record.
func (s *Server) postStrip(c fiber.Ctx) error {
	var asked StripRequest
	if err := bind(c, &asked); err != nil {
		return err
	}
	strip, err := s.Strips.Begin(c.Context(), asked.Name, who(c), asked.Points, asked.Hours)
	if err != nil {
		return err
	}
	return c.JSON(StripView{Strip: *strip})
}

func stripID(c fiber.Ctx) int64 {
	id, err := strconv.ParseInt(c.Params("id"), 10, 64)
	if err != nil {
		return -1 // which none has
	}
	return id
}

// postStopStrip ends a recording.
func (s *Server) postStopStrip(c fiber.Ctx) error {
	if err := s.Strips.End(c.Context(), stripID(c), "stopped by "+who(c)); err != nil {
		return err
	}
	return c.JSON(map[string]bool{"ok": true})
}

// postRemoveStrip drops a trend.
func (s *Server) postRemoveStrip(c fiber.Ctx) error {
	if err := s.Strips.Remove(c.Context(), stripID(c)); err != nil {
		return err
	}
	return c.JSON(map[string]bool{"ok": true})
}

// pictured is the part of a trend that somebody asks for.
type pictured struct {
	strip              trend.Strip
	pens               []int
	fromUs, toUs, ends int64
}

// mostPictured bounds the pens of one chart.
const mostPictured = 24

// picture reads which part of a trend is asked for: from and to in microseconds since 1970,
// and pens, separated by commas; without them all of it.
func (s *Server) picture(c fiber.Ctx, most int) (p pictured, err error) {
	if p.strip, p.ends, err = s.Strips.Strip(stripID(c)); err != nil {
		return p, err
	}
	p.fromUs, p.toUs = p.strip.FromUs, p.ends
	for name, into := range map[string]*int64{"from": &p.fromUs, "to": &p.toUs} {
		if text := c.Query(name); text != "" {
			if *into, err = strconv.ParseInt(text, 10, 64); err != nil {
				return p, problem.New("bad-time", fmt.Sprintf("%q is no time.", text), "Give microseconds since 1970.")
			}
		}
	}
	if text := c.Query("last"); text != "" { // so many microseconds before the end
		last, err := strconv.ParseInt(text, 10, 64)
		if err != nil || last <= 0 {
			return p, problem.New("bad-time", fmt.Sprintf("%q is no time.", text), "Give microseconds.")
		}
		p.fromUs, p.toUs = p.ends-last, p.ends
	}
	p.fromUs, p.toUs = max(p.fromUs, p.strip.FromUs), min(p.toUs, p.ends)
	if text := c.Query("pens"); text != "" {
		for each := range strings.SplitSeq(text, ",") {
			pen, err := strconv.Atoi(each)
			if err != nil || pen < 0 || pen >= len(p.strip.Pens) {
				return p, problem.New("bad-pen", fmt.Sprintf("%q is no pen of this trend.", each), "Reload the page.")
			}
			if !slices.Contains(p.pens, pen) {
				p.pens = append(p.pens, pen)
			}
		}
	} else {
		for pen := range p.strip.Pens {
			p.pens = append(p.pens, pen)
		}
	}
	if len(p.pens) > most {
		return p, problem.New("too-many", fmt.Sprintf("%d pens at once are too many.", len(p.pens)),
			fmt.Sprintf("Choose up to %d.", most))
	}
	return p, nil
}

// getChart returns as much of a trend as a chart of so many columns needs.
func (s *Server) getChart(c fiber.Ctx) error {
	p, err := s.picture(c, mostPictured)
	if err != nil {
		return err
	}
	columns, err := strconv.Atoi(c.Query("columns", "1000"))
	if err != nil || columns < 10 || columns > 8000 {
		return problem.New("invalid", "A chart has 10 to 8000 columns.", "")
	}
	view := ChartView{FromUs: p.fromUs, ToUs: p.toUs, EndUs: p.ends, Pens: []DrawnPen{}, Notes: p.strip.Notes}
	read := map[int][]trend.Sample{}
	for _, pen := range p.pens {
		samples, err := s.Strips.Samples(c.Context(), p.strip.ID, pen, p.fromUs, p.toUs)
		if err != nil {
			return err
		}
		view.Pens = append(view.Pens, penLine(samples, &p, columns, pen))
		read[pen] = samples
	}
	// A source whose far shore has another unit is drawn there too, as it arrives.
	now, _ := s.Store.Site()
	ruled := now.Ruled()
	for i := range ruled {
		from, to := penAt(&p, ruled[i].From), penAt(&p, ruled[i].To)
		if from < 0 || to < 0 || p.strip.Pens[from].Unit == p.strip.Pens[to].Unit {
			continue
		}
		if made, _, why := carried(now, &ruled[i], read[from]); why == "" {
			line := penLine(made, &p, columns, from)
			line.Into = &to
			view.Pens = append(view.Pens, line)
		}
	}
	return c.JSON(view)
}

// penLine is what a chart of so many columns needs of a line.
func penLine(samples []trend.Sample, p *pictured, columns, pen int) DrawnPen {
	thin, all := trend.Thin(samples, p.fromUs, p.toUs, columns)
	line := DrawnPen{Pen: pen, All: all, Count: len(samples), AtUs: make([]int64, len(thin)),
		V: make([]float64, len(thin)), Gaps: []int{}, Doubts: []int{}}
	for i := range thin {
		line.AtUs[i], line.V[i] = thin[i].AtUs, thin[i].V
		switch thin[i].Quality {
		case value.Bad:
			line.Gaps = append(line.Gaps, i)
		case value.Doubtful:
			line.Doubts = append(line.Doubts, i)
		}
	}
	return line
}

// mostGaps bounds the gaps that are listed of one pen.
const mostGaps = 200

// getSums returns pens of a trend in figures, what their pace hides, and how long values take
// from one of them to another.
func (s *Server) getSums(c fiber.Ctx) error {
	p, err := s.picture(c, mostPictured)
	if err != nil {
		return err
	}
	defer s.inTurn()()
	view := SumView{FromUs: p.fromUs, ToUs: p.toUs, Pens: []SummedPen{}, Lags: []LagView{}}
	read := map[int][]trend.Sample{}
	for _, pen := range p.pens {
		samples, err := s.Strips.Samples(c.Context(), p.strip.ID, pen, p.fromUs, p.toUs)
		if err != nil {
			return err
		}
		read[pen] = samples
		sum := SummedPen{Pen: pen, Summary: trend.Sum(samples, p.fromUs, p.toUs), Gaps: []trend.Missing{},
			Seems: trend.Judge(samples, p.strip.Pens[pen].PaceMs)}
		if gaps := trend.Gaps(samples, p.fromUs, p.toUs); len(gaps) > 0 {
			sum.Gaps, sum.MoreGaps = gaps[:min(len(gaps), mostGaps)], max(0, len(gaps)-mostGaps)
		}
		view.Pens = append(view.Pens, sum)
	}
	now, _ := s.Store.Site()
	ruled := now.Ruled()
	for i := range ruled {
		from, to := penAt(&p, ruled[i].From), penAt(&p, ruled[i].To)
		if from >= 0 && to >= 0 && len(view.Lags) < mostPictured {
			view.Lags = append(view.Lags, lagOf(now, &ruled[i], from, to, read))
		}
	}
	return c.JSON(view)
}

// penAt is the pen of a point among those that are asked for, -1 for none.
func penAt(p *pictured, point string) int {
	for _, pen := range p.pens {
		if p.strip.Pens[pen].Point == point {
			return pen
		}
	}
	return -1
}

// longestLag is how far back the moment is looked for at which a source became a value.
const longestLag = 60_000_000

// carried is what a crossing makes of the samples of its source, and the point that it goes
// into; why says why it cannot be told.
func carried(now *site.Site, x *site.Crossing, samples []trend.Sample) (made []trend.Sample, target *site.Point,
	why string) {
	_, source := now.Point(x.From)
	_, target = now.Point(x.To)
	if source == nil || target == nil || len(x.More) > 0 {
		return nil, nil, "It has several sources: no value of one of them tells when it was carried."
	}
	way, err := crossing.NewWay(x, []*site.Point{source}, target)
	if err != nil {
		return nil, nil, err.Error()
	}
	made = make([]trend.Sample, 0, len(samples))
	for _, sample := range samples {
		if !sample.Gap() {
			v, err := way.Carry([]value.Value{recordedAs(source, sample.V)}, value.Value{})
			if err == nil {
				v, err = crossing.Fit(v, target)
			}
			if err != nil {
				continue // it is not carried
			}
			sample.V = v.Float()
		}
		made = append(made, sample)
	}
	return made, target, ""
}

// lagOf measures how long values take over a crossing, from its source in what it makes of it.
func lagOf(now *site.Site, x *site.Crossing, from, to int, read map[int][]trend.Sample) LagView {
	view := LagView{Source: from, Far: to, Crossing: x.ID}
	made, target, why := carried(now, x, read[from])
	if why != "" {
		view.Why = why
		return view
	}
	if x.Deadband > 0 || x.PaceMs > 0 || x.AtLeastMs > 0 {
		view.Waits = "The rule of the crossing is part of it: " + crossing.Words(x) + "."
	}
	view.Lag = trend.Delay(made, read[to], finest(target), longestLag)
	switch {
	case view.Lag.Moves == 0:
		view.Why = "The far shore has not moved in this time."
	case view.Lag.Matched == 0:
		view.Why = fmt.Sprintf("Not one of the %d values that the far shore took was one of the source in the minute before.",
			view.Lag.Moves)
	}
	return view
}

// finest is by how much two values of a point may differ that are the same to whoever looks.
func finest(p *site.Point) float64 {
	if p.Decimals != nil {
		return 0.5 * math.Pow(10, -float64(*p.Decimals))
	}
	return 1e-6
}

// getStripFile hands a trend out as a table, a line for each sample, in the order of their
// times.
func (s *Server) getStripFile(c fiber.Ctx) error {
	p, err := s.picture(c, strips.MostPens)
	if err != nil {
		return err
	}
	c.Set("Content-Type", "text/csv; charset=utf-8")
	c.Attachment(fileName(p.strip.Name+" trend") + ".csv")
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer func() {
			if p := recover(); p != nil {
				log.Printf("handing out a trend: %v\n%s", p, debug.Stack())
			}
		}()
		if err := s.writeStrip(w, &p); err != nil {
			log.Printf("trend %d: %v", p.strip.ID, err)
			// Whoever reads it sees that it is not whole.
			fmt.Fprintf(w, "\nThe rest could not be read: %v\n", err)
		}
	})
}

func (s *Server) writeStrip(w *bufio.Writer, p *pictured) error {
	rows := [][]string{{"time", "point", "value", "unit", "quality", "reason"}}
	if err := files.WriteTable(w, rows); err != nil {
		return err
	}
	return s.Strips.Each(context.Background(), p.strip.ID, p.pens, p.fromUs, p.toUs, func(list []strips.Row) error {
		rows = rows[:0]
		for i := range list {
			pen := &p.strip.Pens[list[i].Pen]
			shown := ""
			if !list[i].Gap() {
				shown = strconv.FormatFloat(list[i].V, 'f', -1, 64)
			}
			rows = append(rows, []string{time.UnixMicro(list[i].AtUs).Format("2006-01-02T15:04:05.000000Z07:00"), pen.Name,
				shown, pen.Unit, string(list[i].Quality), list[i].Reason})
		}
		if err := files.WriteTable(w, rows); err != nil {
			return err
		}
		return w.Flush()
	})
}
