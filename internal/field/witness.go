package field

import (
	"context"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/pairing"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// witnessFor is how long a second client listens.
const witnessFor = 3 * time.Second

// Witness has a second client listen to what a link has written, and returns what it
// heard of each point; nil where the protocol has no second client. It writes nothing.
func (e *Engine) Witness(ctx context.Context, linkID string, points []*site.Point) (map[string]*pairing.Overheard,
	error) {
	e.mu.Lock()
	link := e.site.Link(linkID)
	if link == nil {
		e.mu.Unlock()
		return nil, problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(linkID)
	}
	driver, def, err := DriverOf(link.Protocol)
	var target Target
	if err == nil {
		target, _, err = e.targetOf(link)
	}
	e.mu.Unlock()
	if err != nil {
		return nil, err
	}
	second, ok := def.Second(target.Settings)
	if !ok || len(points) == 0 {
		return nil, nil
	}
	target.Settings = second
	ctx, cancel := context.WithTimeout(ctx, 2*witnessFor)
	defer cancel()
	conn, reply := driver.Dial(ctx, target)
	if conn == nil {
		return nil, problem.New("no-witness", "A second client is not let in: "+reply.Sentence+".",
			"What Ferry itself hears of the names is shown.")
	}
	defer conn.Close()
	reporter, ok := conn.(Reporter)
	if !ok {
		return nil, nil
	}
	w := witness{points: make(map[string]*site.Point, len(points)), heard: map[string]*pairing.Overheard{}}
	wanted := make([]protocol.Wanted, len(points))
	for i, p := range points {
		w.points[p.ID], wanted[i] = p, p.Wanted()
	}
	if reply, _ := reporter.Follow(wanted); reply.Outcome != exchange.Answered {
		return nil, problem.New("no-witness", "A second client may not listen: "+reply.Sentence+".",
			"What Ferry itself hears of the names is shown.")
	}
	w.listen(ctx, reporter.Reports())
	return w.heard, nil
}

// witness gathers what a second client hears.
type witness struct {
	points map[string]*site.Point
	heard  map[string]*pairing.Overheard
}

// listen takes in what comes until the time is over, or all have been heard.
func (w *witness) listen(ctx context.Context, reports <-chan Report) {
	over := time.NewTimer(witnessFor)
	defer over.Stop()
	for len(w.heard) < len(w.points) {
		select {
		case report, open := <-reports:
			if !open {
				return
			}
			for i := range report.Samples {
				w.take(&report.Samples[i], report.At)
			}
		case <-over.C:
			return
		case <-ctx.Done():
			return
		}
	}
}

func (w *witness) take(s *Sampled, at time.Time) {
	p := w.points[s.ID]
	if p == nil {
		return
	}
	h := w.heard[s.ID]
	if h == nil {
		h = &pairing.Overheard{}
		w.heard[s.ID] = h
	}
	h.Count++
	h.AtMs, h.Wrong = at.UnixMilli(), ""
	v, err := value.As(s.Value, p.Shape(0))
	switch {
	case err != nil:
		h.Wrong = err.Error()
	case s.Value.IsNone():
		h.Wrong = s.Reason
	default:
		h.Shown = p.Shown(p.Scale().Apply(v))
	}
}
