package api

import (
	"maps"
	"slices"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/bench"
	events "ferry/internal/core/lookout"
	"ferry/internal/core/problem"
	"ferry/internal/field"
	"ferry/internal/lookout"
)

// LookoutsView is what lookouts saw, and who was told.
type LookoutsView struct {
	Events []events.Event        `json:"events"` // the newest first
	Told   []lookout.OutletState `json:"told"`
	// Programs are those that may be run, by their names.
	Programs []string `json:"programs"`
	// Caught is what the bench took in the place of mail servers and others, the newest
	// first.
	Caught []bench.Caught `json:"caught"`
}

// CompareRequest is another program's view: when it had no data.
type CompareRequest struct {
	Text string `json:"text"`
	// Day is that of times without a date, as 2006-01-02; today if empty.
	Day string `json:"day"`
	// Links are those whose data it was; all if empty.
	Links []string `json:"links"`
}

// RefuseRequest has the catcher of the bench take nothing, or take again.
type RefuseRequest struct {
	Refuse bool `json:"refuse"`
}

// openNow is what lookouts see now.
func (s *Server) openNow() ([]events.Event, int64) {
	if s.Lookouts == nil {
		return []events.Event{}, 0
	}
	open, rev := s.Lookouts.Open()
	return append([]events.Event{}, open...), rev
}

func (s *Server) getLookouts(c fiber.Ctx) error {
	view := LookoutsView{Events: []events.Event{}, Told: []lookout.OutletState{}, Programs: []string{},
		Caught: []bench.Caught{}}
	if s.Lookouts == nil {
		return c.JSON(view)
	}
	list, _ := s.Lookouts.Events()
	view.Events = append(view.Events, list[:min(len(list), mostListed)]...)
	view.Told = s.Teller.Stands()
	view.Programs = append(view.Programs, slices.Sorted(maps.Keys(s.Teller.Ways.Programs))...)
	if s.Engine.Mode() == field.Bench {
		catcher, err := s.Bench.Catcher()
		if err != nil {
			return err
		}
		view.Caught = catcher.List()
	}
	return c.JSON(view)
}

// postTryOutlet tells an outlet at once that it is only tried.
func (s *Server) postTryOutlet(c fiber.Ctx) error {
	now := s.Engine.Site()
	o := now.Outlet(c.Params("id"))
	if o == nil || s.Teller == nil {
		return problem.New("gone", "The outlet is no longer in the site.", "Reload to see what changed.")
	}
	at := time.Now()
	n := lookout.NewNotice(now.Name, s.Engine.Mode(), []lookout.NoticeOne{}, at)
	n.Title = now.Name + ": a try of " + o.Name
	n.Text = "Nothing is wrong: " + who(c) + " tries whether this arrives.\n"
	if err := s.Teller.Try(c.Context(), o, n); err != nil {
		return problem.From(err, "not-sent")
	}
	return c.JSON(map[string]bool{"ok": true})
}

// postCompare sets another program's view beside what Ferry saw.
func (s *Server) postCompare(c fiber.Ctx) error {
	var r CompareRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	now := time.Now()
	day := now
	if r.Day != "" {
		var err error
		if day, err = time.ParseInLocation(time.DateOnly, r.Day, time.Local); err != nil {
			return problem.New("invalid", "The day is not understood.", "Write it as 2026-11-26.").At(r.Day)
		}
	}
	gaps, skipped, err := events.Gaps(r.Text, day)
	if err != nil {
		return err
	}
	view, err := s.Lookouts.Compare(c.Context(), gaps, r.Links, now, s.Store.GoodIn)
	if err != nil {
		return err
	}
	view.Skipped = skipped
	return c.JSON(view)
}

// postRefuse has the catcher of the bench be out of order.
func (s *Server) postRefuse(c fiber.Ctx) error {
	var r RefuseRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	catcher, err := s.Bench.Catcher()
	if err != nil {
		return err
	}
	catcher.Refuse(r.Refuse)
	return c.JSON(map[string]bool{"ok": true})
}
