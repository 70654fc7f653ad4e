package crossing

import (
	"fmt"
	"math"
	"time"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Reading is what is known of a point at a moment.
type Reading struct {
	Value   value.Value
	Quality value.Quality // empty for not read yet
	Reason  string        // why it is not good
	At      time.Time     // when it was read
}

func (r *Reading) good() bool { return r.Quality == value.Good }

// Sight is all that a crossing looks at.
type Sight struct {
	Sources []Reading // From first
	Target  Reading
	Enable  Reading // of the point that enables it, if any does
	// Today counts the writes of the day into the target, Tomorrow is when the next
	// day begins.
	Today    int
	Tomorrow time.Time
}

// State says what a crossing does.
type State string

// The states.
const (
	Idle         State = "idle"
	Carrying     State = "carrying"
	Waiting      State = "waiting" // for a first value, or for the target
	Holding      State = "holding" // the target keeps its last value
	Substituting State = "substituting"
	Stopped      State = "stopped"
	Disabled     State = "disabled" // by the point that enables it
	Sparing      State = "sparing"  // the target has been written often enough today
	Away         State = "away"     // nothing is to be written, and the target cannot be read
	Failed       State = "failed"
)

// Act is one write that is due.
type Act struct {
	Point string
	Value value.Value // in engineering units of Point
	// Back is set where the source is written, Quality where it is the companion that
	// is told of quality.
	Back, Quality bool
	// From is when what is carried was read.
	From time.Time

	agreed  value.Value // both ways, what the other shore has then
	standIn bool        // it is the substitute
}

// Counts are what came of the values of a crossing.
type Counts struct {
	Read    int `json:"read"`    // values of the source that were looked at
	Carried int `json:"carried"` // writes that went well
	Back    int `json:"back"`    // of these, into the source
	Held    int `json:"held"`    // values that moved by less than the deadband
	Merged  int `json:"merged"`  // values that a later one took the place of before it could be written
	Refused int `json:"refused"` // writes that failed
	Dropped int `json:"dropped"` // values that could not be carried at all
}

// Flow is one crossing at work. It knows no clock: it is told the time, says what
// is due, and is told what came of it. It has one owner.
type Flow struct {
	x        *site.Crossing
	way      *Way
	from, to *site.Point
	quality  *site.Point
	// substitute is what is written while the source is not good.
	substitute value.Value
	broken     string // why it cannot be carried at all

	State    State
	Sentence string
	Counts   Counts

	last     value.Value // what was written last into the target, or found there
	lastAt   time.Time
	standIn  bool        // last is the substitute
	given    value.Value // what the source was when shores agreed last, both ways
	givenAt  time.Time
	seen     time.Time // of the source value looked at last
	begun    bool      // the rule of starting has been applied
	hasBeen  bool      // the source has been good since the start
	notGood  time.Time // since when it has not been, zero while it is
	gone     bool      // the target could not be read
	owed     bool      // both ways, the source has moved and the target does not have it
	stopped  bool
	told     value.Value // quality that the companion was given
	pending  bool        // a value waits for the time between two writes
	nextPace time.Time
	failed   int
	retryAt  time.Time
}

// NewFlow makes a crossing ready. A crossing that cannot be carried is one that
// says why and does nothing.
func NewFlow(x *site.Crossing, from []*site.Point, to, quality *site.Point) *Flow {
	f := &Flow{x: x, from: from[0], to: to, quality: quality, State: Idle}
	var err error
	if f.way, err = NewWay(x, from, to); err != nil {
		f.broken = upper(err.Error()) + "."
	}
	if x.Quiet == site.Substitute {
		if f.substitute, err = substituteOf(x, to); err != nil {
			f.broken = upper(err.Error()) + "."
		}
	}
	if x.Both != site.OneWay && f.broken == "" && f.way.Returns() != nil {
		f.broken = fmt.Sprintf("It is to carry both ways, and there is no way back: %v.", f.way.Returns())
	}
	return f
}

// substituteOf reads the value that is written while the source is not good.
func substituteOf(x *site.Crossing, to *site.Point) (value.Value, error) {
	v, err := to.ParseValue(x.Substitute)
	if err == nil {
		v, err = Fit(v, to)
	}
	if err != nil {
		return v, fmt.Errorf("the value to be written while the source is not good, %q, is none of the target: %w",
			x.Substitute, err)
	}
	return v, nil
}

func upper(text string) string {
	if text == "" || text[0] < 'a' || text[0] > 'z' {
		return text
	}
	return string(text[0]-'a'+'A') + text[1:]
}

// Inherit takes over what an earlier flow of the same meaning knows of the shores.
func (f *Flow) Inherit(before *Flow) {
	f.last, f.lastAt, f.standIn = before.last, before.lastAt, before.standIn
	f.given, f.givenAt, f.told = before.given, before.givenAt, before.told
	f.begun, f.hasBeen, f.Counts = before.begun, before.hasBeen, before.Counts
	f.State, f.Sentence = before.State, before.Sentence
}

// Forget makes it write anew whatever comes next: what stands in the target is not
// known any more.
func (f *Flow) Forget() {
	f.last, f.told = value.Value{}, value.Value{}
}

func (f *Flow) be(s State, sentence string) { f.State, f.Sentence = s, sentence }

// Look says what is due now, and when to look again if nothing new is seen before;
// zero for only then.
func (f *Flow) Look(now time.Time, s *Sight) (acts []Act, next time.Time) {
	if f.broken != "" {
		f.be(Failed, f.broken)
		return nil, time.Time{}
	}
	if f.stopped {
		f.be(Stopped, "It stopped when its source was not good any more: switch it off and on, or run it anew.")
		return nil, time.Time{}
	}
	if f.x.Enable != "" {
		switch {
		case s.Enable.Quality == "" || !s.Enable.good():
			f.disable("The point that enables it has no good value.")
			return nil, time.Time{}
		case !s.Enable.Value.Bool():
			f.disable("The point that enables it is off.")
			return nil, time.Time{}
		}
	}
	if now.Before(f.retryAt) {
		return nil, f.retryAt
	}
	if f.x.PaceMs > 0 {
		if now.Before(f.nextPace) {
			return nil, f.nextPace
		}
		pace := time.Duration(f.x.PaceMs) * time.Millisecond
		if f.nextPace = f.nextPace.Add(pace); !f.nextPace.After(now) {
			f.nextPace = now.Add(pace)
		}
		next = f.nextPace
	}
	worst := worstOf(s.Sources)
	if worst != nil {
		acts, soon := f.notRead(now, s, worst)
		return acts, earlier(next, soon)
	}
	acts, soon := f.goodSource(now, s)
	return acts, earlier(next, soon)
}

// disable ends to carry until the point that enables it is on: it then starts anew.
func (f *Flow) disable(sentence string) {
	f.be(Disabled, sentence)
	f.begun, f.hasBeen, f.last, f.standIn, f.owed, f.retryAt = false, false, value.Value{}, false, false, time.Time{}
}

// earlier is the earlier of two times, of which a zero one is none.
func earlier(a, b time.Time) time.Time {
	if a.IsZero() || !b.IsZero() && b.Before(a) {
		return b
	}
	return a
}

// worstOf is the first source that is not good; nil where all are.
func worstOf(sources []Reading) *Reading {
	for i := range sources {
		if !sources[i].good() {
			return &sources[i]
		}
	}
	return nil
}

// notRead is Look where a source is not good.
func (f *Flow) notRead(now time.Time, s *Sight, worst *Reading) (acts []Act, next time.Time) {
	unread := worst.Quality == "" || worst.Quality == value.NotRead
	switch {
	case unread:
		f.be(Waiting, "The source has not been read yet.")
	case !f.hasBeen && f.x.Start != site.SourceWins:
		f.be(Waiting, "The source has not been good since the start.")
	default:
		f.be(Holding, "The source has no good value ("+worst.Reason+"); the target keeps its last.")
	}
	if !f.hasBeen && f.x.Start != site.SourceWins {
		return nil, time.Time{}
	}
	if f.notGood.IsZero() {
		f.notGood = now
	}
	acts = f.tellQuality(acts, false)
	until := f.notGood.Add(time.Duration(f.x.QuietMs) * time.Millisecond)
	if f.x.Quiet == site.Hold {
		return acts, time.Time{}
	}
	if now.Before(until) {
		return acts, until
	}
	if f.x.Quiet == site.StopQuiet {
		if f.hasBeen {
			f.stopped = true
			f.be(Stopped, "It stopped when its source was not good any more ("+worst.Reason+").")
		}
		return acts, time.Time{}
	}
	f.be(Substituting, "The source has no good value ("+worst.Reason+"); the target has the value for that.")
	if unread {
		f.Sentence = "The source has not been read yet; the target has the value for that."
	}
	if f.standIn && f.last == f.substitute {
		return acts, time.Time{}
	}
	return append(acts, Act{Point: f.to.ID, Value: f.substitute, standIn: true}), time.Time{}
}

// tellQuality adds what the companion is to be told, if it does not have it.
func (f *Flow) tellQuality(acts []Act, good bool) []Act {
	if f.quality == nil {
		return acts
	}
	v := value.OfBool(good)
	if f.quality.Type != value.TypeBool {
		v = asNumber(v)
	}
	if f.told == v {
		return acts
	}
	return append(acts, Act{Point: f.quality.ID, Value: v, Quality: true})
}

// goodSource is Look where all sources are good.
func (f *Flow) goodSource(now time.Time, s *Sight) (acts []Act, next time.Time) {
	values, latest := make([]value.Value, len(s.Sources)), time.Time{}
	for i := range s.Sources {
		values[i] = s.Sources[i].Value
		if s.Sources[i].At.After(latest) {
			latest = s.Sources[i].At
		}
	}
	fresh := latest.After(f.seen)
	if fresh {
		f.seen = latest
		f.Counts.Read++
	}
	back := !f.notGood.IsZero() // the source has come back
	f.notGood = time.Time{}
	acts = f.tellQuality(acts, true)
	stands := value.Value{}
	if s.Target.good() {
		stands = s.Target.Value
	}
	carried, err := f.way.Carry(values, stands)
	if err != nil {
		if fresh {
			f.Counts.Dropped++
		}
		f.be(Failed, upper(err.Error())+".")
		return acts, time.Time{}
	}
	// A target that reports may say nothing of what it has when it is back.
	returned := f.gone && s.Target.Quality != value.Bad && (!s.Target.good() || s.Target.At.After(f.lastAt))
	f.gone = s.Target.Quality == value.Bad || f.gone && !returned
	if f.x.Both != site.OneWay {
		if back || returned {
			f.begun = false
		}
		return f.bothWays(now, s, acts, carried, latest, fresh)
	}
	if returned && f.x.Start != site.TargetWins && !f.last.IsNone() &&
		(!s.Target.good() || f.moved(f.last, s.Target.Value)) {
		f.last = value.Value{} // it came back with something else, or with nothing that is known
	}
	if (!f.begun || back) && f.x.Start == site.TargetWins && !f.standIn {
		// What stands in the target stays until the source moves from here.
		f.begun, f.hasBeen = true, true
		f.last = carried
	}
	f.begun, f.hasBeen = true, true
	if back && f.x.Start != site.TargetWins {
		f.last = value.Value{}
	}
	act, soon := f.due(now, s, carried, latest, fresh)
	if act != nil {
		acts = append(acts, *act)
	}
	return acts, soon
}

// due says whether carried is to be written; fresh is set where the source has just
// been read.
func (f *Flow) due(now time.Time, s *Sight, carried value.Value, at time.Time, fresh bool) (act *Act, next time.Time) {
	again := time.Time{}
	if f.x.AtLeastMs > 0 && !f.lastAt.IsZero() {
		again = f.lastAt.Add(time.Duration(f.x.AtLeastMs) * time.Millisecond)
	}
	moved := f.standIn || f.moved(f.last, carried)
	if !moved && (again.IsZero() || now.Before(again)) {
		if fresh && carried != f.last {
			f.Counts.Held++
		}
		f.pending = false
		f.be(Carrying, "")
		if s.Target.Quality == value.Bad {
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
	return &Act{Point: f.to.ID, Value: carried, From: at}, again
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
		// A target that has not been read may have no value yet: the source is the
		// first good shore.
		unread := s.Target.Quality == "" || s.Target.Quality == value.NotRead
		if unread && f.x.Start != site.TargetWins && (!f.begun || f.owed) {
			f.begun, f.hasBeen, f.owed, f.given = true, true, true, source.Value
			return forth()
		}
		f.be(Waiting, "The target cannot be read, and both ways need both shores.")
		return acts, time.Time{}
	}
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
	sourceMoved := source.At.After(f.givenAt) && source.Value != f.given
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
		f.standIn = a.standIn
		if f.x.Both != site.OneWay && !stored.IsNone() {
			f.last = stored
		}
	}
	f.Counts.Carried++
	if !a.standIn {
		f.be(Carrying, "")
	}
}

// NotWritten tells that an act failed; unknown is set where the point may have it
// all the same.
func (f *Flow) NotWritten(now time.Time, a *Act, sentence string, unknown bool) {
	f.Counts.Refused++
	f.failed++
	f.retryAt = now.Add(min(retryMost, retryLeast<<min(f.failed-1, 3)))
	if unknown && !a.Quality && !a.Back {
		f.last = value.Value{} // whatever stands there now is written over with the next value
	}
	f.be(Failed, sentence)
}
