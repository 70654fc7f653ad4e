package bacnet

import (
	"fmt"
	"math"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// telling finds out whether a device tells of the changes that it was asked to tell of: one that has restarted has
// forgotten who subscribed, and answers all the same. It is the connection's, under its lock.
type telling struct {
	points map[string]*lastTold // by their ID
	begins bool                 // subscriptions are being asked for
	fresh  time.Time            // until when reports may be those with which a subscription begins
	again  time.Time            // before when nothing is concluded once more
	wait   time.Duration
}

// lastTold is what was told of a point.
type lastTold struct {
	name     string // of its place
	discrete bool   // whatever changes is to be told (clause 13.1, table 13-1)
	known    bool
	told     bool // the value was, and not read
	value    value.Value
	// most is the largest change that was told of, so no less than the object's increment; 0 for none so far. The
	// smallest would say more of a device that tells of changes alone; some tell now and then as well.
	most   float64
	missed int // in how many looks in a row there stood what was to be told
}

// How long reports come with which a subscription begins, and after how many looks in a row a change is taken for
// untold: what is on its way is told by the next.
const (
	beginsWithin = 3 * time.Second
	looksMissed  = 2
)

func newTelling(list []sought) *telling {
	t := &telling{points: map[string]*lastTold{}, begins: true}
	for i := range list {
		p := &lastTold{name: list[i].place.String()}
		switch list[i].place.Type {
		case family.BinaryInput, family.BinaryOutput, family.BinaryValue, family.MultiInput, family.MultiOutput,
			family.MultiValue:
			p.discrete = true
		}
		t.points[list[i].ID] = p
	}
	return t
}

// begun is told that subscriptions began, or were renewed.
func (t *telling) begun(now time.Time) {
	t.begins, t.fresh = false, now.Add(beginsWithin)
	for _, p := range t.points {
		p.missed = 0
	}
}

// reported takes what a report tells.
func (t *telling) reported(samples []field.Sampled, at time.Time) {
	for i := range samples {
		s := &samples[i]
		p := t.points[s.ID]
		if p == nil {
			continue
		}
		good := s.Quality == "" || s.Quality == value.Good
		if good && p.told && !t.begins && at.After(t.fresh) {
			p.most = max(p.most, math.Abs(s.Value.Float()-p.value.Float()))
		}
		p.known, p.told, p.value, p.missed = good, good, s.Value, 0
	}
}

// looked compares what stands in the device with what it told, and returns the place of a point of which it should
// have told by now, empty for none.
func (t *telling) looked(samples []field.Sampled) (untold string) {
	for i := range samples {
		s := &samples[i]
		p := t.points[s.ID]
		if p == nil || s.Quality != "" && s.Quality != value.Good {
			continue
		}
		if !p.known {
			p.known, p.told, p.value = true, false, s.Value
			continue
		}
		moved := s.Value != p.value
		if !p.discrete {
			moved = p.most > 0 && math.Abs(s.Value.Float()-p.value.Float()) >= p.most
		}
		if !moved {
			p.missed = 0
		} else if p.missed++; p.missed >= looksMissed && untold == "" {
			untold = p.name
		}
	}
	return untold
}

// compares has subscriptions renewed, and that told, where the device tells of nothing. The more often it comes to
// that, the longer it is waited for until it may again.
func (c *conn) compares(f *following, samples []field.Sampled, every time.Duration) {
	now := time.Now()
	c.mu.Lock()
	t := f.tells
	untold := t.looked(samples)
	if untold == "" || now.Before(t.again) {
		c.mu.Unlock()
		return
	}
	t.wait = min(max(2*t.wait, every), c.lifetime())
	t.again = now.Add(t.wait)
	c.mu.Unlock()
	c.hand(field.Report{At: now, Operation: "subscribe anew", Failed: &field.Reply{Outcome: exchange.Answered,
		Cause: exchange.Untold, Sentence: fmt.Sprintf("%s changed, and no report came of it", untold)}})
	c.renewAll(f)
}
