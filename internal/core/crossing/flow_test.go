package crossing

import (
	"fmt"
	"strconv"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// shores are the two ends of a crossing in a test. A script of lines moves them:
//
//	at 1500 s=4.2       the source reads 4.2 at 1.5 s
//	at 1600 s!timeout   it has no good value
//	at 1650 t?          it is doubtful; t?4 with what it last was
//	at 1700 t=3         the target reads 3
//	at 1800 e=1         the point that enables it
//	at 1850 o=1         the source is held by Ferry itself
//	at 1870 r=2         the first round of the source is over
//	at 1880 n=2         the target is reported over a second connection
//	at 1900             nothing new; somebody looks
//	  > t=4.2 q=1 s=3   what is written by then
//	  : carrying        the state, and how its sentence begins
//	  fail              the next write fails
type shores struct {
	t      *testing.T
	flow   *Flow
	sight  Sight
	wrote  []string
	fail   bool
	begins time.Time
	now    time.Time
	day    int
}

func (s *shores) at(ms int) time.Time { return s.begins.Add(time.Duration(ms) * time.Millisecond) }

func parse(text string) value.Value {
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		return value.OfInt(n)
	}
	f, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return value.OfText(text)
	}
	return value.OfFloat(f)
}

// look lets the flow act until nothing is due, and then whenever it wants to look
// again, up to a time.
func (s *shores) look(until time.Time) {
	now := s.now
	for turn := 0; ; turn++ {
		if turn > 50 {
			s.t.Fatal("it never comes to rest")
		}
		s.sight.Today = s.day
		acts, next := s.flow.Look(now, &s.sight)
		for i := range acts {
			a := &acts[i]
			if s.fail {
				s.fail = false
				s.wrote = append(s.wrote, "failed")
				s.flow.NotWritten(now, a, "Refused.", false)
				continue
			}
			end := "t"
			switch {
			case a.Back:
				end = "s"
			case a.Quality:
				end = "q"
			default:
				s.day++
			}
			said := fmt.Sprintf("%s=%s", end, a.Value)
			if a.Is != "" {
				said += "/" + string(a.Is)
			}
			s.wrote = append(s.wrote, said)
			s.flow.Wrote(now, a, a.Value)
			switch { // what was written reads back a moment later
			case a.Back:
				s.sight.Sources[0] = Reading{Value: a.Value, Quality: value.Good, At: now.Add(time.Millisecond)}
			case !a.Quality && s.sight.Target.Quality == value.Good:
				s.sight.Target = Reading{Value: a.Value, Quality: value.Good, At: now.Add(time.Millisecond),
					Session: s.sight.Target.Session}
			}
		}
		if len(acts) > 0 {
			continue
		}
		if next.IsZero() || next.After(until) || !next.After(now) {
			if !next.IsZero() && !next.After(now) {
				s.t.Fatalf("at %v it wants to look again at %v", now, next)
			}
			return
		}
		now = next
	}
}

func (s *shores) run(script string) {
	s.t.Helper()
	lines := strings.Split(strings.TrimSpace(script), "\n")
	s.now = s.begins
	for i, line := range lines {
		line = strings.TrimSpace(line)
		switch {
		case strings.HasPrefix(line, "at "):
			ms, err := strconv.Atoi(strings.Fields(line)[1])
			if err != nil {
				s.t.Fatal(err)
			}
			now := s.at(ms)
			if i > 0 {
				s.look(now.Add(-time.Millisecond))
			}
			s.now = now
			for _, set := range strings.Fields(line)[2:] {
				r := Reading{Value: parse(set[2:]), Quality: value.Good, At: now}
				switch set[1] {
				case '!':
					r = Reading{Quality: value.Bad, Reason: set[2:], At: now}
				case '?':
					r = Reading{Quality: value.Doubtful, Reason: "not reported", At: now}
					if len(set) > 2 {
						r.Value = parse(set[2:])
					}
				}
				switch set[0] {
				case 'n':
					s.sight.Target.Session = uint64(r.Value.Int())
				case 'r':
					s.sight.Sources[0].Round = uint64(r.Value.Int())
				case 's':
					r.Round = s.sight.Sources[0].Round
					s.sight.Sources[0] = r
				case 'b':
					s.sight.Sources[1] = r
				case 't':
					r.Session = s.sight.Target.Session
					s.sight.Target = r
				case 'e':
					s.sight.Enable = r
				case 'o':
					s.sight.Empty = true
				}
			}
			s.look(now)
		case strings.HasPrefix(line, ">"):
			if got, want := strings.Join(s.wrote, " "), strings.TrimSpace(line[1:]); got != want {
				s.t.Errorf("by %q (line %d) it wrote %q, want %q", lines[max(0, i-1)], i+1, got, want)
			}
			s.wrote = nil
		case strings.HasPrefix(line, ":"):
			if got := string(s.flow.State) + " " + s.flow.Sentence; !strings.HasPrefix(got, strings.TrimSpace(line[1:])) {
				s.t.Errorf("line %d: it is %q, want %q", i+1, got, line[1:])
			}
		case line == "fail":
			s.fail = true
		}
	}
	if len(s.wrote) > 0 {
		s.t.Errorf("at the end it wrote %q besides", s.wrote)
	}
}

// TestFlow: when a crossing writes, by each of its rules.
func TestFlow(t *testing.T) {
	low, high := 0.0, 20.0
	for name, c := range map[string]struct {
		x      site.Crossing
		script string
	}{
		"every change": {site.Crossing{}, `
			at 0
			: waiting
			at 10 s=1
			> t=1
			at 20 s=1
			>
			at 30 s=2
			> t=2
			: carrying`},
		"a deadband": {site.Crossing{Deadband: 0.5, Factor: 2}, `
			at 0 s=1
			> t=2
			at 10 s=1.2
			>
			at 20 s=1.25
			> t=2.5
			at 30 s=1
			> t=2`},
		"a deadband in per cent": {site.Crossing{Deadband: 5, Percent: true}, `
			at 0 s=1
			> t=1
			at 10 s=1.9
			>
			at 20 s=2
			> t=2`},
		"at least every": {site.Crossing{AtLeastMs: 1000, Deadband: 5}, `
			at 0 s=1
			> t=1
			at 900
			>
			at 3500
			> t=1 t=1 t=1
			at 3600 s=9
			> t=9`},
		"at most every": {site.Crossing{AtMostMs: 1000}, `
			at 0 s=1
			> t=1
			at 100 s=2
			at 200 s=3
			>
			at 1500
			> t=3
			at 1600 s=4
			>
			at 2000 s=3
			at 2500
			>`},
		"on a pace": {site.Crossing{PaceMs: 1000}, `
			at 0 s=1
			> t=1
			at 100 s=2
			at 900 s=3
			>
			at 1100 s=4
			> t=3
			at 2100
			> t=4`},
		"with each whole round": {site.Crossing{Round: true}, `
			at 0 r=1 s=1
			>
			: carrying
			at 10 r=2
			> t=1
			at 1000 s=2
			at 1005 s!silent
			>
			: holding The source has no good value (silent)
			at 1007 s=2
			at 1010 r=3
			> t=2
			at 2000 s=2
			at 2010
			>
			fail
			at 2020 r=4
			at 5000
			> failed t=2
			at 5001 r=5
			> t=2`},
		"each arrival is a round": {site.Crossing{Round: true}, `
			at 0 s=1
			at 10 s=1
			at 15
			> t=1 t=1`},
		"with each round once the source has moved": {site.Crossing{Round: true, Start: site.TargetWins}, `
			at 0 r=2 s=1
			at 10 r=3
			>
			at 20 s=2 r=4
			at 30 r=5
			> t=2 t=2`},
		"so often a day": {site.Crossing{PerDay: 2}, `
			at 0 s=1
			at 10 s=2
			> t=1 t=2
			at 20 s=3
			>
			: sparing The target was written 2 times`},
		"hold": {site.Crossing{}, `
			at 0 s=1
			> t=1
			at 10 s!silent
			>
			: holding The source has no good value (silent)
			at 20 s=1
			> t=1
			: carrying`},
		"hold, then substitute": {site.Crossing{Quiet: site.Substitute, QuietMs: 1000, Substitute: "-1"}, `
			at 0 s=1
			> t=1
			at 100 s!silent
			at 1000
			>
			at 1200
			> t=-1
			: substituting
			at 1300 s!silent
			>
			at 1400 s=1
			> t=1
			: carrying`},
		"substitute from the start": {site.Crossing{Quiet: site.Substitute, Substitute: "0"}, `
			at 0
			> t=0
			: substituting The source has not been read yet
			at 10 s=5
			> t=5`},
		"wait for the first good value": {site.Crossing{Quiet: site.Substitute, Substitute: "0", Start: site.WaitForGood}, `
			at 0 s!silent
			>
			: waiting
			at 10 s=5
			> t=5
			at 20 s!silent
			> t=0`},
		"stop": {site.Crossing{Quiet: site.StopQuiet, QuietMs: 500}, `
			at 0 s=5
			> t=5
			at 10 s!silent
			at 300 s=6
			> t=6
			at 400 s!silent
			at 1000 s=7
			>
			: stopped`},
		"the target wins": {site.Crossing{Start: site.TargetWins}, `
			at 0 s=5 t=3
			>
			at 10 s=5
			>
			at 20 s=6
			> t=6
			at 30 s!silent
			at 40 s=8
			>
			at 50 s=9
			> t=9`},
		"a target that came back otherwise": {site.Crossing{}, `
			at 0 s=5 t=3
			> t=5
			at 10 t!silent
			at 20 t=5
			>
			at 30 t!silent
			at 40 t=0
			> t=5`},
		"a target that came back with nothing": {site.Crossing{}, `
			at 0 s=5 t=3
			> t=5
			at 10 t!gone
			: away The target cannot be read (gone)
			at 20 t?
			> t=5
			at 30 t?
			>`},
		"both ways, a target that is doubtful once it is back": {site.Crossing{Both: site.LaterTies}, `
			at 0 s=5 t=5
			>
			at 10 t!gone
			at 20 t?5
			at 30 s=6
			> t=6
			at 40 t?6
			at 50 s=7
			> t=7
			at 20000 t!gone
			at 21000 t?
			> t=7
			at 40000 t!gone
			at 41000 t?3
			> t=7`},
		"both ways, a doubtful target that may have been changed": {site.Crossing{Both: site.TargetTies}, `
			at 0 s=5 t=5
			>
			at 10 t?9
			at 20 s=6
			>
			: waiting The target has 9, of which it is not
			at 30 t=9
			> s=9`},
		"both ways, a doubtful target while the target wins at the start": {site.Crossing{Both: site.LaterTies,
			Start: site.TargetWins}, `
			at 0 s=5 t?9
			>
			: waiting The target cannot be read
			at 10 t=9
			> s=9`},
		"a target that has lost what it had, over another connection": {site.Crossing{}, `
			at 0 n=1 s=5
			> t=5
			at 10 t=5
			at 20 t?5 n=2
			> t=5
			at 30 t=5
			>
			at 40 t?5
			at 50 t=5 n=3
			>`},
		"a substitute and a quality that the far side has lost": {site.Crossing{Quiet: site.Substitute, Substitute: "0",
			QualityTo: "q"}, `
			at 0 n=1 s=5
			> q=1 t=5
			at 10 s!silent
			> q=0 t=0
			at 20 s!silent n=2
			> q=0 t=0
			at 30 s!silent
			>
			at 40 s=5
			> q=1 t=5
			at 50 s=5 n=3
			> q=1 t=5`},
		"both ways, a target that has lost what it had": {site.Crossing{Both: site.LaterTies}, `
			at 0 n=1 s=5 t=5
			>
			at 10 s=6
			> t=6
			at 20 t?6 n=2
			> t=6`},
		"a target that wins is not written over another connection": {site.Crossing{Start: site.TargetWins}, `
			at 0 n=1 s=5 t=3
			at 10 s=6
			> t=6
			at 20 t? n=2
			at 30 s=6
			>`},
		"a target that another writes": {site.Crossing{}, `
			at 0 s=5 t=5
			> t=5
			at 10 t=9
			>`},
		"enabled": {site.Crossing{Enable: "e"}, `
			at 0 s=5
			>
			: disabled The point that enables it has no
			at 10 e=1
			> t=5
			at 20 e=0
			at 30 s=6
			>
			: disabled The point that enables it is off
			at 40 e=1
			> t=6`},
		"quality": {site.Crossing{QualityTo: "q"}, `
			at 0
			> q=0
			at 5 s=5
			> q=1 t=5
			at 10 s!silent
			> q=0
			at 20 s=5
			> q=1 t=5`},
		"a write that fails": {site.Crossing{}, `
			fail
			at 0 s=5
			> failed
			: failed Refused.
			at 500 s=6
			>
			at 1100
			> t=6
			: carrying`},
		"what cannot be carried": {site.Crossing{Way: []site.Step{{Do: site.DoTable,
			Table: []site.Becomes{{From: 1, To: 10}}}}}, `
			at 0 s=1
			> t=10
			at 10 s=2
			>
			: failed 2 is not in the table`},
		"both ways, where the target has no value yet": {site.Crossing{Both: site.SourceTies}, `
			at 0 s=1
			> t=1
			at 10 t=1
			>
			at 20 t=7
			> s=7`},
		"both ways, where the target is to win": {site.Crossing{Both: site.SourceTies, Start: site.TargetWins}, `
			at 0 s=1
			: waiting
			>
			at 10 t=7
			> s=7`},
		"both ways": {site.Crossing{Both: site.SourceTies, Factor: 10}, `
			at 0 s=1 t=5
			> t=10
			at 20 t=30
			> s=3
			at 40 s=4
			> t=40
			at 60 s=7 t=99
			> t=70`},
		"both ways, ties to the target": {site.Crossing{Both: site.TargetTies, Start: site.TargetWins}, `
			at 0 s=1 t=5
			> s=5
			at 20 s=7 t=8
			> s=8
			at 30 s!silent
			at 40 t=9
			>
			at 50 s=1
			> s=9`},
		"both ways, the first good one": {site.Crossing{Both: site.LaterTies, Start: site.WaitForGood}, `
			at 0 t=5
			at 5 s=1
			> s=5
			at 20 s=7
			> t=7
			at 30 s=8
			at 31 t=9
			> t=8 s=9`},
		"with its quality": {site.Crossing{Tells: site.TellsQuality}, `
			at 0 s=1
			> t=1/good
			at 10 s!silent
			> t=1/bad
			: holding
			at 20 t!silent
			>
			at 30 s?
			> t=1/doubtful
			at 40 s=1
			> t=1/good
			: carrying
			at 50 t=1 s=1
			>`},
		"with its quality, and a substitute": {site.Crossing{Tells: site.TellsAll, Quiet: site.Substitute, QuietMs: 100,
			Substitute: "0"}, `
			at 0 s=1
			> t=1/good
			at 10 s!silent
			> t=1/bad
			at 500
			> t=0/bad
			at 600 s=1
			> t=1/good`},
		"with its quality, nothing carried yet": {site.Crossing{Tells: site.TellsQuality}, `
			at 0 s!silent
			>
			at 10 s=1
			> t=1/good`},
		"a heartbeat": {site.Crossing{BeatMs: 1000}, `
			at 0 t=98
			> t=99
			at 1500
			> t=1
			fail
			at 2500
			> failed
			at 4200
			> t=2 t=3`},
		"both ways, an empty source": {site.Crossing{Both: site.SourceTies, Start: site.TargetWins}, `
			at 0 o=1 t=5
			> s=5
			at 20 s=6
			> t=6`},
		"both ways, an empty source that is to win": {site.Crossing{Both: site.SourceTies}, `
			at 0 o=1 t=5
			>
			at 20 s=6
			> t=6`},
		"both ways, where the target cannot be read at first": {site.Crossing{Both: site.SourceTies}, `
			at 0 s=1 t!silent
			> t=1
			at 20 t=1
			>
			: carrying`},
		"both ways, changed there while it was away": {site.Crossing{Both: site.TargetTies}, `
			at 0 s=1 t=1
			>
			at 10 t!silent
			at 20 s=5
			>
			: waiting
			at 30 t=9
			> t=5`},
		"both ways, a write that failed as it went away": {site.Crossing{Both: site.TargetTies}, `
			at 0 s=1 t=1
			fail
			at 10 s=2
			> failed
			at 20 t!silent
			at 3000
			>
			: waiting`},
		"both ways, changed there right after the first write": {site.Crossing{Both: site.SourceTies,
			Start: site.WaitForGood}, `
			at 0 s=1 t!silent
			> t=1
			at 20 t=9
			> s=9`},
		"both ways, the way back fails": {site.Crossing{Both: site.LaterTies}, `
			at 0 s=5 t=5
			fail
			at 20 t=6
			> failed
			at 1100
			> s=6`},
		"both ways without one back": {site.Crossing{Both: site.LaterTies, Way: []site.Step{{Do: site.DoBit}}}, `
			at 0 s=1 t=0
			>
			: failed It is to carry both ways, and there is no way back`},
	} {
		t.Run(name, func(t *testing.T) {
			from, to := &site.Point{ID: "s", Type: value.TypeFloat32}, &site.Point{ID: "t", Type: value.TypeFloat32,
				Low: &low, High: &high}
			var quality *site.Point
			if c.x.QualityTo != "" {
				quality = &site.Point{ID: "q", Type: value.TypeUint16}
			}
			s := &shores{t: t, flow: NewFlow(&c.x, []*site.Point{from}, to, quality),
				begins: time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)}
			s.sight = Sight{Sources: make([]Reading, 1), Tomorrow: s.at(24 * 3600 * 1000)}
			s.run(c.script)
		})
	}
}

// TestOvertaken: values that became others before anybody looked are counted, those
// that only were read again are not.
func TestOvertaken(t *testing.T) {
	from, to := &site.Point{ID: "s", Type: value.TypeFloat32}, &site.Point{ID: "t", Type: value.TypeFloat32}
	f := NewFlow(&site.Crossing{From: "s", To: "t"}, []*site.Point{from}, to, nil)
	at := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		v       float64
		changes uint64
		merged  int
	}{{1, 7, 0}, {1, 7, 0}, {2, 8, 0}, {5, 11, 2}, {5, 11, 2}, {6, 13, 3}, {7, 1, 3}} {
		at = at.Add(time.Second)
		acts, _ := f.Look(at, &Sight{Sources: []Reading{{Value: value.OfFloat(c.v), Quality: value.Good, At: at,
			Changes: c.changes}}})
		for i := range acts {
			f.Wrote(at, &acts[i], acts[i].Value)
		}
		if f.Counts.Merged != c.merged {
			t.Errorf("at %v after %d changes %d are overtaken, want %d", c.v, c.changes, f.Counts.Merged, c.merged)
		}
	}
}
