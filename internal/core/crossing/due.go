package crossing

import (
	"fmt"
	"math"
	"time"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// due says whether carried is to be written; fresh is set where the source has just
// been read.
func (f *Flow) due(now time.Time, s *Sight, carried value.Value, at time.Time, fresh bool) (act *Act, next time.Time) {
	again := time.Time{}
	if f.x.AtLeastMs > 0 && !f.lastAt.IsZero() {
		again = f.lastAt.Add(time.Duration(f.x.AtLeastMs) * time.Millisecond)
	}
	moved := f.standIn || f.x.Round && !f.spared || f.moved(f.last, carried)
	if !moved && (again.IsZero() || now.Before(again)) {
		if fresh && carried != f.last {
			f.Counts.Held++
		}
		f.pending = false
		f.be(Carrying, "")
		if s.Target.Quality == value.Bad && !f.took(now) {
			f.be(Away, "The target cannot be read ("+s.Target.Reason+"): what it has is not known.")
		}
		return nil, again
	}
	if gap := f.lastAt.Add(time.Duration(f.x.AtMostMs) * time.Millisecond); f.x.AtMostMs > 0 && !f.lastAt.IsZero() &&
		now.Before(gap) {
		if f.pending && fresh {
			f.Counts.Merged++
		}
		f.pending = true
		f.be(Carrying, "")
		return nil, gap
	}
	if f.x.PerDay > 0 && s.Today >= f.x.PerDay {
		f.be(Sparing, fmt.Sprintf("The target was written %d times today, as often as it may be: it goes on tomorrow.",
			s.Today))
		return nil, s.Tomorrow
	}
	act = &Act{Point: f.to.ID, Value: carried, From: at}
	if f.x.Tells != site.TellsValue {
		act.Is = value.Good
	}
	return act, again
}

// moved reports whether is differs enough from was to be written. The first value
// always does.
func (f *Flow) moved(was, is value.Value) bool {
	if was.IsNone() {
		return true
	}
	if is.Kind() == value.Text || is.Kind() == value.Bool {
		return is != was
	}
	a, b := was.Float(), is.Float()
	if math.IsNaN(a) || math.IsNaN(b) {
		return math.IsNaN(a) != math.IsNaN(b)
	}
	if f.deadband() == 0 && (was.Kind() == value.Uint || was.Kind() == value.Int) && was.Kind() == is.Kind() {
		return was != is // beyond 2^53 floats do not tell them apart
	}
	step := math.Abs(b - a)
	return step > 0 && step >= f.deadband()
}

// deadband is that of the crossing in the unit of the target.
func (f *Flow) deadband() float64 {
	if !f.x.Percent {
		return f.x.Deadband
	}
	if f.to.Low == nil || f.to.High == nil {
		return 0
	}
	return math.Abs(*f.to.High-*f.to.Low) * f.x.Deadband / 100
}

// retryLeast and retryMost bound how long a write that failed waits to be tried
// again.
const (
	retryLeast = time.Second
	retryMost  = 5 * time.Second
)

// Wrote tells what came of an act: stored is what the point has then, as far as
// that is known. After a write of which nothing is known, everything is.
func (f *Flow) Wrote(now time.Time, a *Act, stored value.Value) {
	f.failed, f.retryAt = 0, time.Time{}
	switch {
	case a.Quality:
		f.told = a.Value
		return
	case a.Back:
		f.Counts.Back++
		f.begun, f.owed = true, false
		f.given, f.givenAt, f.last, f.lastAt = stored, now, a.agreed, now
		if stored.IsNone() {
			f.given = a.Value
		}
	default:
		f.last, f.lastAt, f.pending, f.owed = a.Value, now, false, false
		f.standIn, f.toldIs, f.spared = a.standIn, a.Is, false
		if f.x.Both != site.OneWay && !stored.IsNone() {
			f.last = stored
		}
	}
	f.Counts.Carried++
	if !a.standIn && a.Is != value.Bad && a.Is != value.Doubtful {
		f.be(Carrying, "")
	}
}

// NotWritten tells that an act failed; unknown is set where the point may have it
// all the same.
func (f *Flow) NotWritten(now time.Time, a *Act, sentence string, unknown bool) {
	f.Counts.Refused++
	f.failed++
	f.rounds = nil
	f.retryAt = now.Add(min(retryMost, retryLeast<<min(f.failed-1, 3)))
	if unknown && !a.Quality && !a.Back {
		f.last = value.Value{} // whatever stands there now is written over with the next value
	}
	f.be(Failed, sentence)
}
