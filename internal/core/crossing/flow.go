package crossing

import (
	"fmt"
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
	// Source is the device's own time of it, zero for none.
	Source time.Time
	// Changes counts how often it has become another value.
	Changes uint64
	// Round counts the rounds that all read with it at its pace has been asked in, from
	// 1 before the first has ended; 0 where it is not read in rounds.
	Round uint64
	// Session counts the connections over which it was reported; 0 where it is asked for.
	Session uint64
}

func (r *Reading) good() bool { return r.Quality == value.Good }

// Sight is all that a crossing looks at.
type Sight struct {
	Sources []Reading // From first
	Target  Reading
	Enable  Reading // of the point that enables it, if any does
	// Empty is set where the source is held by Ferry itself, which reads it nowhere: what
	// has not been read has no value.
	Empty bool
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
	// Is is the quality that is told with the value, and Reason why it is not good;
	// empty where the value goes alone.
	Is     value.Quality
	Reason string

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
	changes  uint64    // of the sources by then
	looked   bool      // any value was looked at
	begun    bool      // the rule of starting has been applied
	hasBeen  bool      // the source has been good since the start
	notGood  time.Time // since when it has not been, zero while it is
	gone     bool      // the target could not be read
	session  uint64    // over which it was reported
	lost     bool      // the target may not have what it had
	met      bool      // both ways, the target has been good since the start
	owed     bool      // both ways, the source has moved and the target does not have it
	stopped  bool
	told     value.Value   // quality that the companion was given
	toldIs   value.Quality // and that the target was told with its value
	pending  bool          // a value waits for the time between two writes
	rounds   []uint64      // of the sources, that were carried last
	spared   bool          // the target keeps what it had until the source moves
	nextPace time.Time
	failed   int
	retryAt  time.Time
}

// NewFlow makes a crossing ready. A crossing that cannot be carried is one that
// says why and does nothing.
func NewFlow(x *site.Crossing, from []*site.Point, to, quality *site.Point) *Flow {
	f := &Flow{x: x, to: to, quality: quality, State: Idle}
	if x.Beats() {
		if to.Type.IsText() || to.Type.IsTime() {
			f.broken = fmt.Sprintf("A heartbeat counts, or turns a state, and %s is a %s.", to.Name, to.Type)
		}
		return f
	}
	f.from = from[0]
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
	f.given, f.givenAt, f.told, f.toldIs = before.given, before.givenAt, before.told, before.toldIs
	f.begun, f.hasBeen, f.met, f.Counts = before.begun, before.hasBeen, before.met, before.Counts
	f.State, f.Sentence = before.State, before.Sentence
	f.changes, f.looked, f.session = before.changes, before.looked, before.session
}

// Forget makes it write anew whatever comes next: what stands in the target is not
// known any more.
func (f *Flow) Forget() {
	f.last, f.told, f.toldIs = value.Value{}, value.Value{}, ""
}

// Command says what is due for a command, which stands in the sight as its source: it is carried once,
// also where it is the same as before, and also soon after one that failed. What is not carried now is
// not carried later.
func (f *Flow) Command(now time.Time, s *Sight) []Act {
	f.Forget()
	f.failed, f.retryAt, f.nextPace = 0, time.Time{}, time.Time{}
	acts, _ := f.Look(now, s)
	return acts
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
	if f.x.Beats() {
		return f.beat(now, s)
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
	if act := f.firstThere(s, worst); act != nil {
		return []Act{*act}, next
	}
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
	f.begun, f.hasBeen, f.met, f.last, f.standIn, f.owed = false, false, false, value.Value{}, false, false
	f.retryAt = time.Time{}
}

// otherSession reports whether the target is reported over another connection than
// before: whoever is there may have lost what it had, and does not tell.
func (f *Flow) otherSession(target *Reading) bool {
	if target.Session == 0 || target.Session == f.session || target.Quality == value.Bad {
		return false
	}
	first := f.session == 0
	f.session = target.Session
	return !first
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
	again := f.otherSession(&s.Target)
	if again {
		f.told, f.toldIs = value.Value{}, ""
	}
	acts = f.tellQuality(acts, false)
	until := f.notGood.Add(time.Duration(f.x.QuietMs) * time.Millisecond)
	acts = f.tellWhy(acts, worst)
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
	if f.standIn && f.last == f.substitute && !again {
		return acts, time.Time{}
	}
	return append(acts, f.noting(Act{Point: f.to.ID, Value: f.substitute, standIn: true}, worst)), time.Time{}
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
	changes := uint64(0)
	for i := range s.Sources {
		changes += s.Sources[i].Changes
	}
	if fresh {
		f.seen = latest
		f.Counts.Read++
		if passed := changes - f.changes; f.looked && passed > 1 && passed < 1<<32 {
			f.Counts.Merged += int(passed - 1) // nobody looked in time
		}
		f.changes, f.looked = changes, true
	}
	back := !f.notGood.IsZero() // the source has come back
	f.notGood = time.Time{}
	if f.otherSession(&s.Target) {
		f.told, f.lost = value.Value{}, true
	}
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
	gone := f.gone && !f.took(now)
	returned := gone && s.Target.Quality != value.Bad && (!s.Target.good() || s.Target.At.After(f.lastAt))
	f.gone = s.Target.Quality == value.Bad && !f.took(now) && (f.toldIs == "" || f.toldIs == value.Good) || gone &&
		!returned
	anew := f.lost && f.x.Start != site.TargetWins
	f.lost = false
	if f.x.Both != site.OneWay {
		if back || returned || anew {
			f.begun = false
		}
		if anew {
			f.last = value.Value{}
		}
		return f.bothWays(now, s, acts, carried, latest, fresh)
	}
	if (returned && f.x.Start != site.TargetWins || anew) && !f.last.IsNone() &&
		(!s.Target.good() || f.moved(f.last, s.Target.Value)) {
		f.last = value.Value{} // it came back with something else, or with nothing that is known
	}
	if (!f.begun || back) && f.x.Start == site.TargetWins && !f.standIn {
		// What stands in the target stays until the source moves from here.
		f.begun, f.hasBeen, f.spared = true, true, true
		f.last = carried
	}
	f.begun, f.hasBeen = true, true
	if f.x.Round && !f.wholeRound(s.Sources) {
		if f.State != Sparing {
			f.be(Carrying, "")
		}
		return acts, time.Time{}
	}
	if back && f.x.Start != site.TargetWins || f.toldIs != "" && f.toldIs != value.Good {
		f.last = value.Value{}
	}
	act, soon := f.due(now, s, carried, latest, fresh)
	if act != nil {
		acts = append(acts, *act)
	}
	return acts, soon
}
