package api

import (
	"context"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/crossing"
	"ferry/internal/core/pairing"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// JudgedView is what there is to say of a crossing, with what it did last.
type JudgedView struct {
	crossing.Judged
	State field.CrossingState `json:"state"`
}

// OutRequest takes one of the ways out of what is wrong with a crossing, by its
// title.
type OutRequest struct {
	Title string `json:"title"`
}

// judged says what there is to say of a crossing, from the site, the timetable and
// what was read.
func (s *Server) judged(now *site.Site, id string) (crossing.Judged, error) {
	plan, _ := s.Engine.Plan()
	judged, ok := crossing.Judge(now, id, crossing.Seen{Now: s.valueOf, PerHour: s.perHour,
		OldestMs: func(link, point string) float64 { return oldestIn(plan, link, point) },
		ToldMs:   func(link, point string) (float64, bool) { return toldIn(plan, link, point) },
		WriteMs:  func(point string) float64 { return writeIn(plan, point) }, Missing: s.Engine.Missing})
	if !ok {
		return judged, problem.New("gone", "The crossing is no longer in the site.",
			"Reload to see what changed.").At(id)
	}
	return judged, nil
}

// oldestIn is how old a point gets in the timetable by the reads of a link.
func oldestIn(plan *timetable.Plan, link, point string) float64 {
	if plan == nil {
		return 0
	}
	for i := range plan.Requests {
		if r := &plan.Requests[i]; r.Link == link && slices.Contains(r.Points, point) {
			return r.OldestMs
		}
	}
	return 0
}

// toldIn is how long a change of a point waits until the far end of a link tells of it, and whether
// that end looks at it at the pace of the point.
func toldIn(plan *timetable.Plan, link, point string) (ms float64, paced bool) {
	if plan == nil {
		return 0, false
	}
	for i := range plan.Loads {
		if l := &plan.Loads[i]; l.Link == link && l.ToldMs > 0 && slices.Contains(l.Points, point) {
			return l.ToldMs, l.Cause == timetable.Event
		}
	}
	return 0, false
}

// writeIn is how long a write of a crossing to a point takes in the timetable.
func writeIn(plan *timetable.Plan, point string) float64 {
	if plan == nil {
		return 0
	}
	for i := range plan.Loads {
		if l := &plan.Loads[i]; l.Cause == timetable.Written && slices.Contains(l.Points, point) {
			return l.HoldsMs
		}
	}
	return 0
}

// perHour is by how much a point has grown of late, by the hour; 0 for not known, or
// where it went down.
func (s *Server) perHour(point string) float64 {
	trend := s.Engine.Hub.Trend(point)
	if len(trend) < 2 {
		return 0
	}
	first, last := trend[0], trend[len(trend)-1]
	hours := float64(last.AtMs-first.AtMs) / 3_600_000
	if hours < 2.0/3600 {
		return 0
	}
	for i := range trend[1:] {
		if trend[i+1].V < trend[i].V {
			return 0
		}
	}
	return (last.V - first.V) / hours
}

func (s *Server) getCrossing(c fiber.Ctx) error {
	now, _ := s.Store.Site()
	judged, err := s.judged(now, c.Params("id"))
	if err != nil {
		return err
	}
	return c.JSON(JudgedView{judged, s.Engine.Crossing(c.Params("id"))})
}

// postOut takes a way out, as one step that can be taken back.
func (s *Server) postOut(c fiber.Ctx) error {
	var r OutRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	id := c.Params("id")
	seq, err := s.change(c, r.Title, func(now *site.Site) ([]site.Edit, error) {
		judged, err := s.judged(now, id)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(judged.Outs, func(o crossing.Out) bool { return o.Title == r.Title })
		if i < 0 {
			return nil, problem.New("gone", "This way out is not there any more: something has changed.",
				"Look at the crossing as it is now.").At(r.Title)
		}
		if out := judged.Outs[i]; out.Point != nil {
			return []site.Edit{site.Put(site.KindPoint, out.Point.ID, out.Device, *out.Point)}, nil
		}
		after, err := json.Marshal(judged.Outs[i].Crossing)
		return []site.Edit{{Kind: site.KindCrossing, ID: id, After: after}}, err
	})
	if err != nil {
		return err
	}
	return c.JSON(NotedView{"Done: " + r.Title + ".", seq})
}

// RewordRequest changes the rules of crossings: those that Words names, as
// crossing.Words says them.
type RewordRequest struct {
	IDs   []string `json:"ids"`
	Words string   `json:"words"`
}

// postReword changes the rules of many crossings in one step. It fails whole: where one
// of them cannot have the rule, none gets it.
func (s *Server) postReword(c fiber.Ctx) error {
	var r RewordRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	said := ""
	seq, err := s.change(c, "changed the rules of crossings: "+r.Words, func(now *site.Site) ([]site.Edit, error) {
		wanted := make(map[string]bool, len(r.IDs))
		for _, id := range r.IDs {
			wanted[id] = true
		}
		var edits []site.Edit
		for i := range now.Crossings {
			x := &now.Crossings[i]
			if !wanted[x.ID] || x.Beats() {
				continue
			}
			after, err := crossing.Reword(x, r.Words)
			if err != nil {
				return nil, problem.New("not-rules", "These are no rules of a crossing: "+err.Error()+".",
					"Nothing was changed.").At(r.Words)
			}
			if !reflect.DeepEqual(&after, x) {
				edits = append(edits, site.Put(site.KindCrossing, x.ID, "", after))
			}
		}
		if len(edits) == 0 {
			return nil, problem.New("nothing-to-do", "All of them have these rules already, or are gone.", "")
		}
		said = fmt.Sprintf("The rules of %d changed.", len(edits))
		return edits, nil
	})
	if err != nil {
		return err
	}
	return c.JSON(NotedView{said, seq})
}

// ProvedView is what the far sides said of the points of a crossing.
type ProvedView struct {
	Ends []ProvedEnd `json:"ends"`
}

// ProvedEnd is one of these points.
type ProvedEnd struct {
	pairing.Proof
	Name string `json:"name"`
}

// postProve asks the far sides of a crossing whether they have its points. Nothing is
// written.
func (s *Server) postProve(c fiber.Ctx) error {
	now, _ := s.Store.Site()
	i := slices.IndexFunc(now.Crossings, func(x site.Crossing) bool { return x.ID == c.Params("id") })
	if i < 0 {
		return problem.New("gone", "The crossing is no longer in the site.", "Reload to see what changed.").At(c.Params("id"))
	}
	ctx, cancel := context.WithTimeout(c.Context(), 60*time.Second)
	defer cancel()
	view := ProvedView{Ends: []ProvedEnd{}}
	for id := range now.Crossings[i].Points {
		proof, err := s.Engine.ProveEnd(ctx, id)
		if err != nil {
			return err
		}
		d, p := now.Point(id)
		view.Ends = append(view.Ends, ProvedEnd{proof, d.Name + " · " + p.Name})
	}
	return c.JSON(view)
}

// DryRequest tries a crossing on values that are made up, as crossing.MadeUp reads them,
// or on what was recorded of its source.
type DryRequest struct {
	Text string `json:"text,omitempty"`
}

// DryView is what the target would have seen.
type DryView struct {
	crossing.Dry
	Samples []crossing.DrySample `json:"samples"`
}

// postDry tries a crossing; nothing is written.
func (s *Server) postDry(c fiber.Ctx) error {
	var r DryRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	defer s.inTurn()()
	now, _ := s.Store.Site()
	ruled := now.Ruled()
	i := slices.IndexFunc(ruled, func(x site.Crossing) bool { return x.ID == c.Params("id") })
	if i < 0 {
		return problem.New("gone", "The crossing is no longer in the site.", "Reload to see what changed.").At(c.Params("id"))
	}
	x := &ruled[i]
	_, from := now.Point(x.From)
	_, to := now.Point(x.To)
	_, quality := now.Point(x.QualityTo)
	if from == nil || to == nil {
		return problem.New("no-source", "It has no source to try it with.", "")
	}
	var err error
	view := DryView{Samples: []crossing.DrySample{}}
	if r.Text == "" {
		for _, t := range s.Engine.Hub.Trend(x.From) {
			view.Samples = append(view.Samples, crossing.DrySample{AtMs: t.AtMs, Value: value.OfFloat(t.V)})
		}
		if len(view.Samples) == 0 {
			return problem.New("not-recorded", "Nothing is recorded of its source yet.", "Run its link, or make values up.")
		}
	} else if view.Samples, err = crossing.MadeUp(r.Text, from); err != nil {
		return problem.New("not-values", "These are no values of the source: "+err.Error()+".", "Write a value to a line.")
	}
	if view.Dry, err = crossing.DryRun(x, from, to, quality, view.Samples); err != nil {
		return problem.New("no-dry-run", "It cannot be tried: "+err.Error()+".", "")
	}
	return c.JSON(view)
}

// crossingView shows a crossing with its ends in words.
func crossingView(x *site.Crossing, ends map[string]CrossingEnd) CrossingView {
	view := CrossingView{Crossing: *x, Words: crossing.Words(x), Source: ends[x.From], Target: ends[x.To],
		MoreEnds: []CrossingEnd{}, Steps: []string{}}
	if x.Beats() {
		view.Source.Name = "Ferry's heartbeat"
	}
	for _, id := range x.More {
		view.MoreEnds = append(view.MoreEnds, ends[id])
	}
	for i := range x.Way {
		view.Steps = append(view.Steps, crossing.StepWords(&x.Way[i]))
	}
	view.EnableName, view.QualityName = ends[x.Enable].Name, ends[x.QualityTo].Name
	return view
}
