package api

import (
	"encoding/json"
	"slices"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/crossing"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
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
		WriteMs:  func(point string) float64 { return writeIn(plan, point) }})
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

// crossingView shows a crossing with its ends in words.
func crossingView(x *site.Crossing, ends map[string]CrossingEnd) CrossingView {
	view := CrossingView{Crossing: *x, Words: crossing.Words(x), Source: ends[x.From], Target: ends[x.To],
		MoreEnds: []CrossingEnd{}, Steps: []string{}}
	for _, id := range x.More {
		view.MoreEnds = append(view.MoreEnds, ends[id])
	}
	for i := range x.Way {
		view.Steps = append(view.Steps, crossing.StepWords(&x.Way[i]))
	}
	view.EnableName, view.QualityName = ends[x.Enable].Name, ends[x.QualityTo].Name
	return view
}
