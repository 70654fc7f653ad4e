package field

import (
	"cmp"
	"math"
	"slices"
	"time"

	"ferry/internal/core/value"
)

// Scribe is handed each value that some points get, whether it is another or not, and each
// time that one of them has none any more, in the order in which they come.
type Scribe struct {
	hub  *Hub
	pens map[string]int // by point
	last []lastWritten  // by pen
	list []Written
	lost int
	most int
}

// Written is a value as it came, or that there is none.
type Written struct {
	Pen int // in the order of the points
	// At is when it came, with the monotonic clock where it was taken by that.
	At time.Time
	V  float64 // 0 or 1 for a bool
	// Quality is Good or Doubtful; with Bad there is no value from At on.
	Quality value.Quality
	Reason  string
}

// lastWritten is what was written last of a point.
type lastWritten struct {
	takes   uint64
	quality value.Quality
	reason  string
}

// nib is where a scribe writes a point.
type nib struct {
	scribe *Scribe
	pen    int
}

// mostWritten is how many values wait for whoever drains them; what comes then is lost, and
// counted.
const mostWritten = 2_000_000

// Scribe begins to write down what points get. A point that is not there yet is written from
// when it is.
func (h *Hub) Scribe(points []string) *Scribe {
	s := &Scribe{hub: h, pens: make(map[string]int, len(points)), last: make([]lastWritten, len(points)),
		most: mostWritten}
	for i, id := range points {
		s.pens[id] = i
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.scribes = append(h.scribes, s)
	for id := range s.pens {
		if t := h.points[id]; t != nil {
			h.pen(t)
		}
	}
	return s
}

// Drain hands over what was written since the last call, and how many values found no room.
// Points whose value has grown old by now are written as having none.
func (s *Scribe) Drain(now time.Time) (list []Written, lost int) {
	h := s.hub
	h.mu.Lock()
	defer h.mu.Unlock()
	for id := range s.pens {
		if t := h.points[id]; t != nil {
			h.age(t, now.UnixMilli())
		}
	}
	list, lost = s.list, s.lost
	s.list, s.lost = make([]Written, 0, len(list)+len(list)/4), 0
	return list, lost
}

// End ends it.
func (s *Scribe) End() {
	h := s.hub
	h.mu.Lock()
	defer h.mu.Unlock()
	h.scribes = slices.DeleteFunc(h.scribes, func(other *Scribe) bool { return other == s })
	for id := range s.pens {
		if t := h.points[id]; t != nil {
			t.nibs = slices.DeleteFunc(t.nibs, func(n nib) bool { return n.scribe == s })
		}
	}
}

// pen has a track written by all scribes that want its point, and says what it has now.
func (h *Hub) pen(t *track) {
	for _, s := range h.scribes {
		pen, wanted := s.pens[t.live.Point]
		if wanted && !slices.ContainsFunc(t.nibs, func(n nib) bool { return n.scribe == s }) {
			t.nibs = append(t.nibs, nib{s, pen})
			s.last[pen] = lastWritten{}
			if t.live.AtMs != 0 {
				s.write(t, pen)
			}
		}
	}
}

// unwrite notes that a track gets no values any more.
func (t *track) unwrite(why string) {
	for _, n := range t.nibs {
		n.scribe.add(Written{Pen: n.pen, At: time.Now(), Quality: value.Bad, Reason: why})
	}
	t.nibs = nil
}

// write notes what a track has now, if that is new.
func (s *Scribe) write(t *track, pen int) {
	last := &s.last[pen]
	fresh := t.takes != last.takes
	w := Written{Pen: pen, At: t.arrived, V: t.live.Value.Float(), Quality: t.live.Quality, Reason: t.live.Reason}
	switch {
	case w.Quality == value.NotRead:
		w.Quality, w.Reason = value.Bad, cmp.Or(w.Reason, "it has not been read since")
	case !fresh && w.Reason == notReadAgain:
		// From when it should have been read it is not known.
		w.Quality, w.At = value.Bad, t.arrived.Add(time.Duration(t.point.PaceMs)*time.Millisecond)
	case !fresh && (t.quieted || w.Reason == notHeldAny || w.Reason == notReportedYet):
		w.Quality, w.At = value.Bad, time.Now()
	case w.Quality != value.Bad && (math.IsNaN(w.V) || math.IsInf(w.V, 0)):
		w.Quality, w.V, w.Reason = value.Bad, 0, "what was read is not a number"
	}
	if w.Quality == value.Bad {
		if w.V = 0; last.quality == value.Bad && w.Reason == last.reason {
			return
		}
		if t.live.Quality == value.Bad {
			w.At = time.Now()
		}
	} else if !fresh {
		if w.Quality == last.quality && w.Reason == last.reason {
			return
		}
		w.At = time.Now() // it counts again without having been read again
	}
	last.takes, last.quality, last.reason = t.takes, w.Quality, w.Reason
	s.add(w)
}

func (s *Scribe) add(w Written) {
	if len(s.list) >= s.most {
		s.lost++
		return
	}
	s.list = append(s.list, w)
}
