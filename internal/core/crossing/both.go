package crossing

import (
	"fmt"
	"time"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// firstThere is what the source is given where it is empty and the target has a value:
// both ways, the target is then the first good shore. It is nil where that is not so.
func (f *Flow) firstThere(s *Sight, worst *Reading) *Act {
	unread := worst != nil && (worst.Quality == "" || worst.Quality == value.NotRead)
	if !unread || !s.Empty || f.begun || f.x.Both == site.OneWay || f.x.Start == site.SourceWins || !s.Target.good() {
		return nil
	}
	returned, err := f.way.Back(s.Target.Value, f.from)
	if err != nil {
		f.Counts.Dropped++
		f.be(Failed, "The way back: "+err.Error()+".")
		return nil
	}
	return &Act{Point: f.from.ID, Value: returned, Back: true, From: s.Target.At, agreed: s.Target.Value}
}

// shows is how long it may be until a target that has taken a value is read again.
const shows = 10 * time.Second

// took reports whether the target has just taken a value, both ways or with its
// quality: that it could not be read before then, or reads as bad as it was told, is no
// sign that it has gone, and what it reads next counts.
func (f *Flow) took(now time.Time) bool {
	return (f.x.Both != site.OneWay || f.x.Tells != site.TellsValue) && !f.lastAt.IsZero() && now.Sub(f.lastAt) < shows
}

// bothWays is Look where the target may be carried into the source as well. What
// is read of a shore after it was written there counts; what was read before does
// not tell of it.
func (f *Flow) bothWays(now time.Time, s *Sight, acts []Act, carried value.Value, at time.Time,
	fresh bool) ([]Act, time.Time) {
	source := s.Sources[0]
	forth := func() ([]Act, time.Time) {
		act, soon := f.due(now, s, carried, at, fresh)
		if act != nil {
			acts = append(acts, *act)
		}
		return acts, soon
	}
	if !s.Target.good() {
		// A target that has no good value at the start may have none yet: the source is
		// the first good shore.
		unread := s.Target.Quality == "" || s.Target.Quality == value.NotRead
		doubtful := s.Target.Quality == value.Doubtful
		if f.x.Start != site.TargetWins && (!f.begun || f.owed) && (unread || doubtful || !f.met) {
			f.begun, f.hasBeen, f.owed, f.given = true, true, true, source.Value
			if doubtful && !f.last.IsNone() && (s.Target.Value.IsNone() || f.moved(f.last, s.Target.Value)) {
				f.last = value.Value{} // it came back with something else, or with nothing that is known
			}
			return forth()
		}
		if doubtful && f.begun {
			return f.intoDoubtful(s, acts, forth)
		}
		f.be(Waiting, "The target cannot be read, and both ways need both shores.")
		return acts, time.Time{}
	}
	f.met = true
	returned, err := f.way.Back(s.Target.Value, f.from)
	if err != nil {
		f.Counts.Dropped++
		f.be(Failed, "The way back: "+err.Error()+".")
		return acts, time.Time{}
	}
	backward := func() ([]Act, time.Time) {
		return append(acts, Act{Point: f.from.ID, Value: returned, Back: true, From: s.Target.At,
			agreed: s.Target.Value}), time.Time{}
	}
	if !f.begun {
		f.hasBeen = true
		if !f.moved(s.Target.Value, carried) { // they agree
			f.begun, f.last, f.given = true, s.Target.Value, source.Value
			f.be(Carrying, "")
			return acts, time.Time{}
		}
		wins := f.x.Start
		if wins == site.WaitForGood {
			wins = site.SourceWins
			if s.Target.At.Before(source.At) {
				wins = site.TargetWins
			}
		}
		if wins == site.TargetWins {
			return backward()
		}
		f.begun, f.owed, f.given, f.last = true, true, source.Value, value.Value{}
		return forth()
	}
	sourceMoved := f.sourceMoved(source)
	targetMoved := s.Target.At.After(f.lastAt) && !f.last.IsNone() && s.Target.Value != f.last &&
		f.moved(f.last, s.Target.Value)
	if sourceMoved && targetMoved {
		switch f.x.Both {
		case site.SourceTies:
			targetMoved = false
		case site.TargetTies:
			sourceMoved = false
		default:
			if s.Target.At.After(source.At) {
				sourceMoved = false
			} else {
				targetMoved = false
			}
		}
	}
	switch {
	case targetMoved:
		return backward()
	case sourceMoved:
		f.given, f.owed = source.Value, true
		return forth()
	case f.owed:
		return forth()
	case f.x.AtLeastMs > 0: // once more what both shores have
		carried = f.last
		return forth()
	}
	f.be(Carrying, "")
	return acts, time.Time{}
}

// sourceMoved reports whether the source is another than when the shores agreed last.
func (f *Flow) sourceMoved(source Reading) bool {
	return source.At.After(f.givenAt) && source.Value != f.given
}

// intoDoubtful is bothWays for a target that has a value of which it is not known whether
// it still has it, as one that a broker kept: it is never carried back, and the source
// goes there once it moves, unless the target wins ties and may have been changed.
func (f *Flow) intoDoubtful(s *Sight, acts []Act, forth func() ([]Act, time.Time)) ([]Act, time.Time) {
	source := s.Sources[0]
	other := !s.Target.Value.IsNone() && !f.last.IsNone() && f.moved(f.last, s.Target.Value)
	switch moved := f.sourceMoved(source); {
	case moved && other && f.x.Both == site.TargetTies:
		f.be(Waiting, fmt.Sprintf("The target has %s, of which it is not known how old it is, and it wins a tie.",
			f.to.Shown(s.Target.Value)))
		return acts, time.Time{}
	case moved:
		f.given, f.owed = source.Value, true
		return forth()
	case f.owed:
		return forth()
	}
	f.be(Carrying, "")
	return acts, time.Time{}
}
