package api

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/checkout"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// RampReadRequest reads points at one step of a ramp.
type RampReadRequest struct {
	Points []string `json:"points"`
}

// RampRead is what was read of a point at a step, after somebody asked for it.
type RampRead struct {
	Point    string `json:"point"`
	Read     string `json:"read"`
	ReadAtMs int64  `json:"readAtMs"`
	// Why is why nothing was read.
	Why string `json:"why,omitempty"`
}

// RampReadView is a step of a ramp.
type RampReadView struct {
	Reads []RampRead `json:"reads"`
}

// RampRequest has points judged that went through the same steps.
type RampRequest struct {
	Steps []RampStepRead `json:"steps"`
}

// RampStepRead is a step: what the source showed, and what was read of each point.
type RampStepRead struct {
	Shown string     `json:"shown"`
	Reads []RampRead `json:"reads"`
}

// RampView is what came of a ramp.
type RampView struct {
	Rows []RampRow `json:"rows"`
}

// RampRow is one point that went through it.
type RampRow struct {
	Point string `json:"point"`
	Name  string `json:"name"`
	Unit  string `json:"unit,omitempty"`
	// Why is why it cannot be judged.
	Why     string               `json:"why,omitempty"`
	Verdict checkout.RampVerdict `json:"verdict"`
}

// Bounds of a ramp, and how long a step waits for a point to be read again.
const (
	mostRamped    = 200
	mostSteps     = 50
	leastRampWait = 6 * time.Second
	mostRampWait  = time.Minute
)

// postRampRead waits until each point has been read since it was asked for, and says what it
// read: what stood there before may be of the step before.
func (s *Server) postRampRead(c fiber.Ctx) error {
	var asked RampReadRequest
	if err := bind(c, &asked); err != nil {
		return err
	}
	if len(asked.Points) == 0 || len(asked.Points) > mostRamped {
		return problem.New("invalid", fmt.Sprintf("A ramp goes through 1 to %d points.", mostRamped), "")
	}
	began, wait := time.Now(), s.rampWait(asked.Points)
	ctx, cancel := context.WithTimeout(c.Context(), wait)
	defer cancel()
	view := RampReadView{Reads: make([]RampRead, len(asked.Points))}
	for waits := true; waits; {
		waits = false
		for i, id := range asked.Points {
			live, ok := s.Engine.Hub.Point(id)
			r := RampRead{Point: id, Read: live.Shown, ReadAtMs: live.AtMs}
			switch fresh := live.AtMs >= began.UnixMilli(); {
			case !ok || live.AtMs == 0 || live.Quality == value.Bad:
				r.Read, r.Why = "", "Ferry does not read it: "+cmp.Or(live.Reason, "it has not been read yet")
			case !fresh && s.asked(id):
				r.Why = fmt.Sprintf("it was not read again within %d s", int(wait/time.Second))
				waits = true
			case live.Quality == value.Doubtful:
				r.Why = "Ferry doubts it: " + live.Reason
			}
			view.Reads[i] = r
		}
		if waits {
			select {
			case <-ctx.Done():
				waits = false
			case <-time.After(50 * time.Millisecond):
			}
		}
	}
	return c.JSON(view)
}

// asked reports whether a point is asked for. One that is reported need not come again: it is
// what it was.
func (s *Server) asked(id string) bool {
	g, _, _, _ := s.ground()
	d, p := g.Point(id)
	if p == nil {
		return true
	}
	l := g.LinkOf(d, p)
	if l == nil {
		return true
	}
	def, _ := protocol.Named(l.Protocol)
	_, reports := def.Reports()
	return !reports
}

// rampWait is how long a step waits for the slowest of its points.
func (s *Server) rampWait(points []string) time.Duration {
	g, _, _, _ := s.ground()
	wait := leastRampWait
	for _, id := range points {
		if _, p := g.Point(id); p != nil {
			wait = max(wait, time.Duration(p.PaceMs)*3/2*time.Millisecond+time.Second)
		}
	}
	return min(wait, mostRampWait)
}

// postRamp judges points that went through the same steps. Nothing is recorded by it.
func (s *Server) postRamp(c fiber.Ctx) error {
	var asked RampRequest
	if err := bind(c, &asked); err != nil {
		return err
	}
	if len(asked.Steps) == 0 || len(asked.Steps) > mostSteps {
		return problem.New("invalid", fmt.Sprintf("A ramp has 3 to %d steps.", mostSteps), "")
	}
	g, _, _, _ := s.ground()
	view := RampView{Rows: []RampRow{}}
	for _, first := range asked.Steps[0].Reads {
		d, p := g.Point(first.Point)
		if p == nil {
			return gonePoint(first.Point)
		}
		row := RampRow{Point: p.ID, Name: d.Name + " · " + p.Name, Unit: p.Unit,
			Verdict: checkout.RampVerdict{Steps: []string{}}}
		var steps []checkout.RampStep
		for _, step := range asked.Steps {
			for _, r := range step.Reads {
				if r.Point != p.ID {
					continue
				}
				v, err := p.ParseValue(r.Read)
				if r.Why != "" || err != nil {
					row.Why = fmt.Sprintf("at %s: %s", step.Shown, cmp.Or(r.Why, "what was read is no number"))
					continue
				}
				steps = append(steps, checkout.RampStep{Shown: step.Shown, Read: v})
			}
		}
		if row.Why == "" {
			verdict, err := checkout.JudgeRamp(p, steps)
			if err != nil {
				row.Why = err.Error()
			} else {
				row.Verdict = verdict
			}
		}
		view.Rows = append(view.Rows, row)
	}
	return c.JSON(view)
}
