package crossing

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// DrySample is what a source read at a moment of a dry run, or that it could not be read.
type DrySample struct {
	AtMs  int64       `json:"atMs"`
	Value value.Value `json:"value"`
	// Bad is why there was no good value; empty where there was.
	Bad string `json:"bad,omitempty"`
}

// DryWrite is one thing that the target would have been given.
type DryWrite struct {
	AtMs    int64       `json:"atMs"`
	Value   value.Value `json:"value"`
	Shown   string      `json:"shown"`
	Quality bool        `json:"quality,omitempty"` // it goes to the companion of quality
	Is      string      `json:"is,omitempty"`      // the quality that is told with it
}

// Dry is what came of a dry run.
type Dry struct {
	Writes []DryWrite `json:"writes"`
	Counts Counts     `json:"counts"`
	// State and Sentence are those at its end.
	State    State  `json:"state"`
	Sentence string `json:"sentence"`
	// Cut is set where more would have been written than are listed.
	Cut bool `json:"cut,omitempty"`
}

// mostDry bounds the writes of a dry run.
const mostDry = 5000

// DryRun has a crossing of one source look at samples of it, in the order of their
// times, and returns what it would have written until after the last of them. The
// target takes everything, and reads back what it was given; what enables the crossing
// is on. It writes nothing.
func DryRun(x *site.Crossing, from, to, quality *site.Point, samples []DrySample) (Dry, error) {
	switch {
	case x.Beats():
		return Dry{}, fmt.Errorf("a heartbeat has no source")
	case len(x.More) > 0:
		return Dry{}, fmt.Errorf("it has %d sources: only one can be made up", 1+len(x.More))
	case !slices.IsSortedFunc(samples, func(a, b DrySample) int { return int(min(1, max(-1, a.AtMs-b.AtMs))) }):
		return Dry{}, fmt.Errorf("the times do not go forward")
	}
	dry := *x
	dry.Enable = ""
	r := dryRun{flow: NewFlow(&dry, []*site.Point{from}, to, quality), to: to, quality: quality,
		sight: Sight{Sources: make([]Reading, 1)}, Dry: Dry{Writes: []DryWrite{}}}
	for i, s := range samples {
		at := time.UnixMilli(s.AtMs)
		r.look(at.Add(-1)) // what falls due before it
		reading := Reading{Value: s.Value, Quality: value.Good, At: at}
		if s.Bad != "" {
			reading.Quality, reading.Reason = value.Bad, s.Bad
		}
		if r.sight.Sources[0], r.now = reading, at; i == 0 {
			r.sight.Tomorrow = at.Add(24 * time.Hour)
		}
		r.look(at)
	}
	if len(samples) > 0 {
		r.look(time.UnixMilli(samples[len(samples)-1].AtMs).Add(r.rest(x)))
	}
	r.Counts, r.State, r.Sentence = r.flow.Counts, r.flow.State, r.flow.Sentence
	return r.Dry, nil
}

// rest is for how long it is looked on after the last sample: until the rules by the
// clock have shown.
func (r *dryRun) rest(x *site.Crossing) time.Duration {
	return time.Duration(max(x.AtMostMs, x.PaceMs, x.QuietMs)) * time.Millisecond
}

type dryRun struct {
	Dry
	flow        *Flow
	to, quality *site.Point
	sight       Sight
	now         time.Time
}

// look has the flow act whenever it wants to, up to a moment.
func (r *dryRun) look(until time.Time) {
	if r.now.IsZero() {
		return
	}
	for len(r.Writes) < mostDry {
		acts, next := r.flow.Look(r.now, &r.sight)
		for i := range acts {
			r.take(&acts[i])
		}
		switch {
		case len(acts) > 0:
		case next.IsZero() || next.After(until) || !next.After(r.now):
			r.now = until
			r.flow.Look(r.now, &r.sight)
			return
		default:
			r.now = next
		}
	}
	r.Cut = true
}

func (r *dryRun) take(a *Act) {
	r.flow.Wrote(r.now, a, a.Value)
	w := DryWrite{AtMs: r.now.UnixMilli(), Value: a.Value, Is: string(a.Is), Quality: a.Quality}
	switch {
	case a.Quality:
		w.Shown = r.quality.Shown(a.Value)
	case a.Back:
		return
	default:
		r.sight.Today++
		w.Shown = r.to.Shown(a.Value)
		r.sight.Target = Reading{Value: a.Value, Quality: value.Good, At: r.now.Add(time.Nanosecond)}
	}
	r.Writes = append(r.Writes, w)
}

// MadeUp reads samples as people write them, one to a line: a value, or a time in
// seconds and a value; "bad" for none, and the rest of the line why. Values without a
// time come a second after the one before. A line with two values and a time between,
// "0 … 10 in 60 s", is a ramp of one value a second.
func MadeUp(text string, p *site.Point) ([]DrySample, error) {
	var samples []DrySample
	at := int64(0)
	for n, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(strings.ReplaceAll(line, ";", " "))
		if line == "" {
			continue
		}
		fail := func(why string) ([]DrySample, error) {
			return nil, fmt.Errorf("line %d, %q: %s", n+1, line, why)
		}
		if ramp, ok, err := readRamp(line); err != nil {
			return fail(err.Error())
		} else if ok {
			for i, v := range ramp {
				samples = append(samples, DrySample{AtMs: at + int64(i)*1000, Value: value.OfFloat(v)})
			}
			at += int64(len(ramp)) * 1000
			continue
		}
		words := strings.Fields(line)
		if len(words) > 1 && words[0] != "bad" {
			var seconds float64
			if _, err := fmt.Sscanf(strings.ReplaceAll(words[0], ",", "."), "%g", &seconds); err != nil || seconds < 0 ||
				seconds > 1e7 {
				return fail("the time is no number of seconds")
			}
			at, words = int64(seconds*1000), words[1:]
		}
		s := DrySample{AtMs: at}
		if words[0] == "bad" {
			if s.Bad = strings.Join(words[1:], " "); s.Bad == "" {
				s.Bad = "made up"
			}
		} else {
			v, err := p.ParseValue(strings.Join(words, " "))
			if err != nil {
				return fail(err.Error())
			}
			s.Value = v
		}
		if samples = append(samples, s); len(samples) > mostSamples {
			return fail(fmt.Sprintf("%d values are the most", mostSamples))
		}
		at += 1000
	}
	return samples, nil
}

// mostSamples bounds what is made up.
const mostSamples = 20_000

// readRamp reads "0 … 10 in 60 s"; ok is false for what is none.
func readRamp(line string) (values []float64, ok bool, err error) {
	line = strings.NewReplacer("…", " ", "..", " ", " to ", " ").Replace(line)
	var from, to, seconds float64
	if n, _ := fmt.Sscanf(line, "%g %g in %g", &from, &to, &seconds); n < 3 {
		return nil, false, nil
	}
	if !(seconds >= 1 && seconds <= mostSamples) {
		return nil, true, fmt.Errorf("a ramp takes 1 to %d s", mostSamples)
	}
	for i := 0; float64(i) <= seconds; i++ {
		values = append(values, from+(to-from)*float64(i)/seconds)
	}
	return values, true, nil
}
