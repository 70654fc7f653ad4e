package field

import (
	"fmt"
	"slices"
	"time"

	"ferry/internal/core/value"
)

// sourced makes an end the source of its points, in the place of what was it
// before.
func (h *Hub) sourced(s *source) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, t := range s.tracks {
		t.source = s
	}
}

// alive notes a sign of life. What was doubtful or bad for want of one is what
// it was before.
func (h *Hub) alive(s *source, now time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.wake(s, now.UnixMilli())
}

func (h *Hub) wake(s *source, ms int64) {
	s.heard = ms
	if !s.quiet {
		return
	}
	s.quiet = false
	for _, t := range s.tracks {
		if t.quieted && t.source == s {
			t.quieted = false
			t.live.Quality, t.live.Reason = t.was.quality, t.was.reason
			h.touch(t)
			t.tell()
		}
	}
}

// again notes that an end listens to a device anew: what could not be had while the
// connection was gone may be had now, and is doubtful until it is reported.
func (h *Hub) again(s *source, session uint64, granted map[string]string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	other := s.session != session
	s.session = session
	for _, t := range s.tracks {
		if t.source == s && t.live.Granted != granted[t.live.Point] {
			t.live.Granted = granted[t.live.Point]
			h.touch(t)
		}
		if t.source != s || t.live.Quality != value.Bad {
			if t.source == s && other {
				t.tell() // what it has is to be seen anew
			}
			continue
		}
		t.live.Quality, t.live.Reason = value.NotRead, ""
		if !t.live.Value.IsNone() {
			t.live.Quality, t.live.Reason = value.Doubtful, notReportedYet
		}
		h.touch(t)
		t.tell()
	}
}

// quiet makes the values of an end what its silence makes them, if nothing came
// for longer than may be. It is done when somebody looks, too.
func (h *Hub) quiet(s *source, ms int64) (is bool) {
	after := s.after.Load()
	if s.quiet || s.heard == 0 || after == 0 || ms-s.heard <= after {
		return s.quiet
	}
	s.quiet = true
	for _, t := range s.tracks {
		if t.source != s || t.live.Quality != value.Good && t.live.Quality != value.Doubtful {
			continue
		}
		t.quieted, t.was.quality, t.was.reason = true, t.live.Quality, t.live.Reason
		t.live.Quality, t.live.Reason = s.silent,
			fmt.Sprintf("no sign of life from the device for more than %d ms", after)
		h.touch(t)
		t.tell()
	}
	return true
}

// heardLast is when anything came of an end last.
func (h *Hub) heardLast(s *source) time.Time {
	h.mu.Lock()
	defer h.mu.Unlock()
	return time.UnixMilli(s.heard)
}

// lapsed is quiet for who does not hold the lock.
func (h *Hub) lapsed(s *source, now time.Time) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.quiet(s, now.UnixMilli())
}

// left notes that nobody listens to an end any more: what it reported last may
// be another by now, and stays doubtful until it is reported again.
func (h *Hub) left(s *source) {
	h.mu.Lock()
	defer h.mu.Unlock()
	s.heard, s.quiet = 0, false
	for _, t := range s.tracks {
		if t.source != s {
			continue
		}
		if t.quieted = false; t.live.Quality == value.Good {
			t.live.Quality, t.live.Reason = value.Doubtful, notHeldAny
			h.touch(t)
			t.tell()
		}
	}
}

// reported takes in the samples of a report.
func (h *Hub) reported(era uint64, g *reporting, report *Report) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if era != h.era {
		return
	}
	ms := report.At.UnixMilli()
	h.wake(g.source, ms)
	for i := range report.Samples {
		s := &report.Samples[i]
		t := g.tracks[s.ID]
		if t == nil || t.gone || t.source != g.source {
			continue
		}
		h.arrive(t, s, report, ms)
	}
	if link := h.links[g.link]; link != nil && (!link.bad.IsZero() || g.doubtful(report)) {
		bad, reason := 0, ""
		for _, t := range g.source.tracks {
			if t.toldAs == value.Bad || t.toldAs == value.Doubtful {
				bad, reason = bad+1, t.toldWhy
			}
		}
		h.beyond(g.link, g.device, bad, len(g.source.tracks), reason, report.At)
	}
}

// doubtful reports whether a report tells of any value that it is not good.
func (g *reporting) doubtful(report *Report) bool {
	return !report.Own && slices.ContainsFunc(report.Samples, func(s Sampled) bool {
		return s.Quality == value.Bad || s.Quality == value.Doubtful
	})
}

// arrive takes in one sample. Its words are the octets that it came from.
func (h *Hub) arrive(t *track, s *Sampled, report *Report, ms int64) {
	if !report.Own {
		t.toldAs, t.toldWhy = s.Quality, s.Reason
	}
	if s.Quality == value.Bad {
		h.spoil(t, s.Reason)
		return
	}
	v, err := value.As(s.Value, t.point.Shape(0))
	if err != nil {
		h.spoil(t, err.Error())
		return
	}
	t.live.AtMs, t.live.SourceMs, t.live.ToldMs, t.raw, t.arrived = ms, 0, 0, v, report.At
	t.takes++
	if !s.Time.IsZero() {
		t.live.SourceMs = s.Time.UnixMilli()
		t.habit.Clock(s.Time.Sub(report.At))
	}
	if !s.Told.IsZero() {
		t.live.ToldMs = s.Told.UnixMilli()
	}
	words := s.Words
	if words == nil && s.From >= 0 && s.From <= s.To && s.To <= len(report.Octets) {
		words = report.Octets[s.From:s.To]
	}
	var since time.Time
	still := false
	if t.source != nil && t.source.cyclic {
		since, still = t.habit.See(v, report.At)
	}
	if h.renew(t, words); t.live.Quality == value.Bad {
		return
	}
	if s.Quality == value.Doubtful {
		t.live.Quality, t.live.Reason = value.Doubtful, s.Reason
	} else if still && t.live.Quality == value.Good {
		t.live.Quality, t.live.Reason = value.Doubtful, stoodStill(since)
	} else if s.Reason != "" && t.live.Quality == value.Good {
		t.live.Reason = s.Reason
	}
	h.touch(t)
	h.keep(t, ms)
	t.tell()
}
