package api

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/core/survey"
	"ferry/internal/core/timetable"
)

// WhatIfRequest asks what changes would do to a line, without making them.
type WhatIfRequest struct {
	Line   string      `json:"line"`
	What   string      `json:"what"`
	Silent []string    `json:"silent"`
	Edits  []site.Edit `json:"edits"`
	// Commit makes them, if the site is still as it was at Seq.
	Commit bool  `json:"commit"`
	Seq    int64 `json:"seq"`
}

// WhatIfView is the plan of the site as the changes would leave it.
type WhatIfView struct {
	Seq  int64           `json:"seq"`
	Plan *timetable.Plan `json:"plan"`
}

// LearnView says what was learned of the thinking times of devices.
type LearnView struct {
	Links    int    `json:"links"`
	Sentence string `json:"sentence"`
	Seq      int64  `json:"seq"`
}

// SamplingRow judges the pace of one point.
type SamplingRow struct {
	Point    string            `json:"point"`
	Device   string            `json:"device"`
	Name     string            `json:"name"`
	PaceMs   int               `json:"paceMs"`
	ChangeMs int               `json:"changeMs"` // stated, 0 for not
	SeenMs   int               `json:"seenMs"`   // fastest change among the samples, 0 for not known
	Samples  int               `json:"samples"`
	Verdict  timetable.Sampled `json:"verdict"`
	SeesMs   int               `json:"seesMs"`
	TrustsMs int               `json:"trustsMs"`
	Sentence string            `json:"sentence"`
}

// SamplingView lists the points whose pace can be judged.
type SamplingView struct {
	Rows []SamplingRow `json:"rows"`
}

// ActualView is what really happened on a line, for its track.
type ActualView struct {
	FromMs    int64          `json:"fromMs"`
	Exchanges []ActualOnLine `json:"exchanges"`
}

// ActualOnLine is one exchange as it really happened.
type ActualOnLine struct {
	Request string  `json:"request"`
	Link    string  `json:"link"`
	AtMs    float64 `json:"atMs"` // since FromMs
	Ms      float64 `json:"ms"`
	OK      bool    `json:"ok"`
}

func (s *Server) getOutlook(c fiber.Ctx) error {
	defer s.inTurn()()
	now, _ := s.Store.Site()
	var silent []string
	if text := c.Query("silent"); text != "" {
		silent = strings.Split(text, ",")
	}
	return c.JSON(timetable.Look(now, c.Params("id"), silent))
}

// postWhatIf compiles the site as it would be; with commit, it makes the
// changes as one step.
func (s *Server) postWhatIf(c fiber.Ctx) error {
	var r WhatIfRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	defer s.inTurn()()
	if r.Commit {
		was, at := s.Store.Site()
		seq, err := s.change(c, r.What, func(now *site.Site) ([]site.Edit, error) {
			if now != was || at != r.Seq {
				return nil, problem.New("stale", "The site was changed since this was worked out.",
					"Look at the advice as it is now, and choose again.")
			}
			return r.Edits, nil
		})
		if err != nil {
			return err
		}
		now, _ := s.Store.Site()
		return c.JSON(WhatIfView{seq, timetable.Compile(now)})
	}
	now, seq := s.Store.Site()
	next, _, err := now.Apply(r.Edits)
	if err != nil {
		return err
	}
	return c.JSON(WhatIfView{seq, timetable.CompileSilent(next, r.Silent)})
}

// postLearn takes the measured thinking times over into the ports.
func (s *Server) postLearn(c fiber.Ctx) error {
	learned := s.Engine.Hub.Thinks(leastLearned)
	count := 0
	seq, err := s.change(c, "learned thinking times from the run", func(now *site.Site) ([]site.Edit, error) {
		var edits []site.Edit
		edits, count = survey.NoteThinking(now, learned)
		if count == 0 {
			return nil, problem.New("nothing-measured",
				fmt.Sprintf("No link has brought %d answers yet.", leastLearned), "Let the run go on for a while.")
		}
		return edits, nil
	})
	if err != nil {
		return err
	}
	return c.JSON(LearnView{count,
		fmt.Sprintf("Median and worst thinking time of %d devices are now those of the run.", count), seq})
}

// getSampling judges the paces of a device's points by their stated fastest
// change, or by what their samples show.
func (s *Server) getSampling(c fiber.Ctx) error {
	plan, snapshot := s.planNow(c.Context())
	now := snapshot.Site
	d := now.Device(c.Params("id"))
	if d == nil {
		return problem.New("gone", "The device is no longer in the site.",
			"Reload to see what changed.").At(c.Params("id"))
	}
	paces := map[string]int{}
	for i := range plan.Requests {
		for _, id := range plan.Requests[i].Points {
			paces[id] = plan.Requests[i].PaceMs
		}
	}
	for i := range plan.Loads {
		if l := &plan.Loads[i]; l.Cause == timetable.Reported && l.PeriodMs > 0 {
			for _, id := range l.Points {
				paces[id] = int(l.PeriodMs)
			}
		}
	}
	view := SamplingView{Rows: []SamplingRow{}}
	for i := range d.Points {
		p := &d.Points[i]
		pace, read := paces[p.ID]
		if !read || pace == 0 {
			continue
		}
		trend := s.Engine.Hub.Trend(p.ID)
		samples := make([]timetable.Sample, len(trend))
		for k, t := range trend {
			samples[k] = timetable.Sample{AtMs: t.AtMs, V: t.V}
		}
		row := SamplingRow{Point: p.ID, Device: d.ID, Name: p.Name, PaceMs: pace, ChangeMs: p.ChangeMs,
			SeenMs: timetable.FastestChange(samples), Samples: len(samples)}
		change := p.ChangeMs
		if change == 0 {
			change = row.SeenMs
		}
		if change > 0 {
			row.Verdict, row.SeesMs, row.TrustsMs = timetable.Sampling(pace, change)
		}
		row.Sentence = timetable.SamplingWords(pace, p.ChangeMs, row.SeenMs, len(samples))
		if c, counts := timetable.Counts(samples); counts && p.ChangeMs == 0 && p.Type.IsWhole() {
			row.SeenMs = c.ChangeMs()
			row.Verdict, row.SeesMs, row.TrustsMs, row.Sentence = c.Judge(pace)
		}
		view.Rows = append(view.Rows, row)
	}
	return c.JSON(view)
}

// getActual returns what happened on a line in the last seconds.
func (s *Server) getActual(c fiber.Ctx) error {
	now, _ := s.Store.Site()
	seconds, err := strconv.ParseFloat(c.Query("seconds", "10"), 64)
	if err != nil || seconds <= 0 || seconds > 120 {
		return problem.New("bad-time", "Give up to 120 seconds.", "")
	}
	from := time.Now().Add(-time.Duration(seconds * float64(time.Second)))
	view := ActualView{FromMs: from.UnixMilli(), Exchanges: []ActualOnLine{}}
	for _, e := range s.Engine.Hub.Exchanges(0, 4000, append(linksOn(now, c.Params("id")), "")...) {
		if e.At.After(from) {
			view.Exchanges = append(view.Exchanges,
				ActualOnLine{e.RequestID, e.Link, float64(e.At.Sub(from)) / 1e6, e.LatencyMs, e.Outcome == "answered"})
		}
	}
	return c.JSON(view)
}

// linksOn returns the ids of the links on a line.
func linksOn(s *site.Site, line string) []string {
	var ids []string
	for i := range s.Links {
		if s.Links[i].Line == line {
			ids = append(ids, s.Links[i].ID)
		}
	}
	return ids
}
