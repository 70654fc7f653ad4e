package lookout

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// hall has two probes, each with a link of its own.
func hall(lookouts ...site.Lookout) *site.Site {
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Control network"}}
	for _, id := range []string{"do11", "do12"} {
		s.Devices = append(s.Devices, site.Device{ID: id, Name: strings.ToUpper(id), Points: []site.Point{
			{ID: id + "-o", Name: "Oxygen", Address: block.At("hr", 0), Type: "float32", Unit: "mg/L"}}})
		s.Links = append(s.Links, site.Link{ID: "l-" + id, Answering: id, Line: "net"})
	}
	s.Lookouts = lookouts
	return s
}

// scene is what is known at a time.
type scene struct {
	at      int64
	out     map[string]exchange.Outcome // links that bring nothing, since the scene began
	since   int64
	oxygen  float64
	quality value.Quality
	changed int64
	slow    float64
	codes   []string // of findings of do11
	stopped bool
}

func (c *scene) seen() *Seen {
	s := &Seen{Runs: func(string) bool { return !c.stopped },
		Out: func(link string) *Out {
			if how, ok := c.out[link]; ok {
				return &Out{FromMs: c.since, How: how, Why: "as it was seen"}
			}
			return nil
		},
		Latency: func(string) (float64, bool) { return c.slow, c.slow > 0 },
		Point: func(string) *Reading {
			q := c.quality
			if q == "" {
				q = value.Good
			}
			return &Reading{Value: value.OfFloat(c.oxygen), Shown: fmt.Sprintf("%g mg/L", c.oxygen), Quality: q,
				Reason: "its wiper runs", AtMs: c.at, ChangedMs: c.changed}
		}}
	for _, code := range c.codes {
		s.Findings = append(s.Findings, finding.Finding{Code: code, Severity: finding.Fault, Sentence: "DO11 is silent.",
			Subject: finding.Subject{Kind: "link", ID: "l-do11", Device: "do11", Name: "DO11"}})
	}
	return s
}

func limit(v float64) *float64 { return &v }

// TestWatch plays scenes and compares what is told: + for what begins, - for what is
// over, with the seconds from and to.
func TestWatch(t *testing.T) {
	down := map[string]exchange.Outcome{"l-do11": exchange.Unreached}
	both := map[string]exchange.Outcome{"l-do11": exchange.Unreached, "l-do12": exchange.Refused}
	for _, c := range []struct {
		name    string
		lookout site.Lookout
		scenes  []scene
		told    string
		says    string // in the first that is told
		ended   string // in the last
	}{
		{"a link is away for longer than it may", site.Lookout{Sees: site.SeesDown, ForMs: 5000, EndMs: 2000},
			[]scene{{at: 1, out: down, since: 1}, {at: 5, out: down, since: 1}, {at: 6, out: down, since: 1}, {at: 9},
				{at: 10}, {at: 11}, {at: 12}}, "+1 -1..9", "the network path was gone (the host did not answer)",
			"Over after 8.0 s."},
		{"it is away for shorter", site.Lookout{Sees: site.SeesDown, ForMs: 5000},
			[]scene{{at: 1, out: down, since: 1}, {at: 4, out: down, since: 1}, {at: 5}, {at: 9, out: down, since: 9}}, "",
			"", ""},
		{"what returns at once has not been away", site.Lookout{Sees: site.SeesDown, EndMs: 5000},
			[]scene{{at: 1, out: down, since: 1}, {at: 2}, {at: 3, out: down, since: 3}, {at: 4}, {at: 8}, {at: 9}},
			"+1 -1..4", "", ""},
		{"two links, one event each", site.Lookout{Sees: site.SeesDown},
			[]scene{{at: 1, out: both, since: 1}, {at: 2, out: down, since: 1}, {at: 3}}, "+1 +1 -1..2 -1..3", "", ""},
		{"one link alone is looked at", site.Lookout{Sees: site.SeesDown, Of: "l-do12"},
			[]scene{{at: 1, out: both, since: 1}}, "+1", "the host refused", ""},
		{"the run is stopped", site.Lookout{Sees: site.SeesDown},
			[]scene{{at: 1, out: down, since: 1}, {at: 4, stopped: true}}, "+1 -1..4", "", "It is no longer asked."},
		{"too low", site.Lookout{Sees: site.SeesLimits, Of: "do11-o", Low: limit(6.5), High: limit(12)},
			[]scene{{at: 1, oxygen: 8}, {at: 2, oxygen: 6.4}, {at: 3, oxygen: 6.6}}, "+2 -2..3", "reads 6.4 mg/L, below 6.5",
			"It reads 6.6 mg/L."},
		{"too high", site.Lookout{Sees: site.SeesLimits, Of: "do11-o", High: limit(12)},
			[]scene{{at: 1, oxygen: 12.5}}, "+1", "above 12", ""},
		{"of what cannot be read no limit is broken", site.Lookout{Sees: site.SeesLimits, Of: "do11-o", Low: limit(6.5)},
			[]scene{{at: 1, oxygen: 0, quality: value.Bad}}, "", "", ""},
		{"nor is it said to be well again", site.Lookout{Sees: site.SeesLimits, Of: "do11-o", Low: limit(6.5)},
			[]scene{{at: 1, oxygen: 6}, {at: 2, oxygen: 6, quality: value.Bad}}, "+1 -1..2", "", "It can no longer be read."},
		{"it stands still", site.Lookout{Sees: site.SeesStill, Of: "do11-o", ForMs: 60000},
			[]scene{{at: 30, oxygen: 8, changed: 2}, {at: 61, oxygen: 8, changed: 2}, {at: 62, oxygen: 8, changed: 2},
				{at: 63, oxygen: 8.1, changed: 63}}, "+2 -2..63", "stands at 8 mg/L since 00:00:02", ""},
		{"not good", site.Lookout{Sees: site.SeesBad, Of: "do11-o"},
			[]scene{{at: 1, quality: value.Doubtful}, {at: 2}}, "+1 -1..2", "is doubtful: its wiper runs.", ""},
		{"slow", site.Lookout{Sees: site.SeesSlow, Of: "do11", AboveMs: 100, ForMs: 2000},
			[]scene{{at: 1, slow: 150}, {at: 2, slow: 90}, {at: 3, slow: 150}, {at: 5, slow: 151}}, "+3", "after 151 ms", ""},
		{"a finding of a code", site.Lookout{Sees: site.SeesFinding, Code: "no-answer", EndMs: 1000},
			[]scene{{at: 1, codes: []string{"exception-address"}}, {at: 2, codes: []string{"no-answer", "no-answer"}}, {at: 3},
				{at: 4}}, "+2 -2..3", "DO11 is silent.", ""},
		{"a finding at a place", site.Lookout{Sees: site.SeesFinding, Of: "net"},
			[]scene{{at: 1, codes: []string{"busy"}}}, "+1", "", ""},
		{"a finding elsewhere", site.Lookout{Sees: site.SeesFinding, Of: "do12"},
			[]scene{{at: 1, codes: []string{"busy"}}}, "", "", ""},
		{"it is switched off", site.Lookout{Sees: site.SeesDown, Off: true},
			[]scene{{at: 1, out: down, since: 1}}, "", "", ""},
	} {
		c.lookout.ID, c.lookout.Name = "lk", "Lookout"
		s, w := hall(c.lookout), NewWatch("w")
		var told []string
		var first, last Event
		for i := range c.scenes {
			sc := &c.scenes[i]
			seen := sc.at * 1000
			sc.since, sc.changed = sc.since*1000, sc.changed*1000
			for _, e := range w.Look(seen, s, sc.seen()) {
				if len(told) == 0 {
					first = e
				}
				last = e
				text := fmt.Sprintf("+%d", e.StartMs/1000)
				if e.Over() {
					text = fmt.Sprintf("-%d..%d", e.StartMs/1000, e.EndMs/1000)
				}
				told = append(told, text)
			}
		}
		if got := strings.Join(told, " "); got != c.told {
			t.Errorf("%s: told %q, want %q", c.name, got, c.told)
			continue
		}
		if !strings.Contains(first.Says, c.says) || !strings.Contains(last.Ended, c.ended) {
			t.Errorf("%s: says %q, ended %q", c.name, first.Says, last.Ended)
		}
	}
}

// TestWatchChanges: a lookout that is removed or switched off, and a mode that is
// switched, end what is open; an edit of its times does not.
func TestWatchChanges(t *testing.T) {
	out := &scene{at: 1, out: map[string]exchange.Outcome{"l-do11": exchange.NoAnswer}, since: 1000}
	s, w := hall(site.Lookout{ID: "lk", Sees: site.SeesDown}), NewWatch("w")
	if told := w.Look(1000, s, out.seen()); len(told) != 1 || len(w.Open()) != 1 {
		t.Fatalf("told %+v", told)
	}
	s.Lookouts[0].EndMs = 9000
	if told := w.Look(2000, s, out.seen()); len(told) != 0 {
		t.Errorf("an edit tells %+v", told)
	}
	s.Lookouts[0].Of = "l-do11"
	if told := w.Look(2500, s, out.seen()); len(told) != 2 || told[0].Ended != "Its condition was changed." ||
		told[1].Over() {
		t.Errorf("another condition: %+v", told)
	}
	s.Lookouts[0].Off = true
	if told := w.Look(3000, s, out.seen()); len(told) != 1 || told[0].Ended != "It is no longer looked out for." {
		t.Errorf("switched off: %+v", told)
	}
	s.Lookouts[0].Off = false
	w.Look(4000, s, out.seen())
	if told := w.End(5000, "The mode was switched."); len(told) != 1 || told[0].EndMs != 5000 || len(w.Open()) != 0 {
		t.Errorf("ended: %+v", told)
	}
}

// TestNoStorm: where everything fails at once, so many events begin and the others are
// counted; all that began are over.
func TestNoStorm(t *testing.T) {
	s := site.New("Skerry Point Hatchery")
	out := &scene{at: 1, since: 1000, out: map[string]exchange.Outcome{}}
	for i := range 500 {
		id := fmt.Sprintf("l%d", i)
		s.Links = append(s.Links, site.Link{ID: id, Answering: "d"})
		out.out[id] = exchange.Unreached
	}
	s.Lookouts = []site.Lookout{{ID: "lk", Sees: site.SeesDown}}
	w := NewWatch("w")
	told := w.Look(1000, s, out.seen())
	if len(told) != mostOpen || !strings.Contains(told[len(told)-1].Says, "450 more") {
		t.Errorf("%d were told, the last %q", len(told), told[len(told)-1].Says)
	}
	if again := w.Look(1500, s, out.seen()); len(again) != 0 {
		t.Errorf("told again: %d", len(again))
	}
	if over := w.Look(2000, s, (&scene{at: 2}).seen()); len(over) != mostOpen || len(w.Open()) != 0 {
		t.Errorf("%d are over, %d open", len(over), len(w.Open()))
	}
}

// TestCompare sets another program's gaps beside outages.
func TestCompare(t *testing.T) {
	day := time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC)
	at := func(text string) int64 {
		when, ok := timeOf(text, day)
		if !ok {
			t.Fatalf("%q is no time", text)
		}
		return when.UnixMilli()
	}
	failed := func(from, to string, how exchange.Outcome) Failed {
		return Failed{Link: "l", Device: "d", Name: "DO probe 11", FromMs: at(from), ToMs: at(to),
			Out: Out{How: how, Why: "as it was seen"}}
	}
	path := failed("14:02:30", "14:03:04", exchange.Unreached)
	for _, c := range []struct {
		name, text string
		failed     []Failed
		good       int
		whose      string // of each
		says       string // in the first
		clock      int64
	}{
		{"the path was gone", "14:02:31 to 14:03:05", []Failed{path}, 0, "path",
			"Data stopped 14:02:31 to 14:03:05; the network path was gone (the host did not answer), not the server.", 0},
		{"the device was silent", "14:02:31;14:03:05;Oxygen 11",
			[]Failed{failed("14:02:29", "14:03:04", exchange.NoAnswer)}, 0,
			"device", "Oxygen 11 stopped 14:02:31 to 14:03:05; it was connected, and the device said nothing.", 0},
		{"Ferry lost nothing", "14:02:31\t14:03:05", nil, 34, "other", "Ferry had 34 good values of DO probe 11", 0},
		{"Ferry did not ask", "14:02:31 to 14:03:05", nil, 0, "unknown", "Ferry has no values of that time", 0},
		{"an outage at another time", "14:02:31 to 14:03:05", []Failed{failed("15:00:00", "15:01:00", exchange.Unreached)}, 3,
			"other", "", 0},
		{"values with a gap", "time,oxygen\n14:02:29,8.1\n14:02:30,8.2\n14:02:31,8.2\n14:03:05,8.1\n14:03:06,8.0",
			[]Failed{path}, 0, "path", "14:02:31 to 14:03:05", 0},
		{"values with marks for none",
			"14:02:29,8.1\n14:02:30,8.2\n14:02:31,8.2\n14:02:32,\n14:02:33,bad\n14:02:34,8.1\n14:02:35,8.1", []Failed{path}, 0,
			"path", "14:02:31 to 14:02:34", 0},
		{"another clock", "2026-11-26 15:05:30; 2026-11-26 15:06:04\n2026-11-26 15:30:00; 2026-11-26 15:30:20",
			[]Failed{path, failed("14:27:00", "14:27:20", exchange.Refused)}, 0, "path device", "", 63 * 60 * 1000},
	} {
		gaps, skipped, err := Gaps(c.text, day)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		v := Compare(gaps, c.failed, func(Gap) []Brought { return []Brought{{"DO probe 11", c.good}} }, time.UTC)
		var whose []string
		for _, each := range v.Verdicts {
			whose = append(whose, each.Whose)
		}
		if got := strings.Join(whose, " "); got != c.whose || !strings.Contains(v.Verdicts[0].Says, c.says) ||
			v.ClockMs != c.clock {
			t.Errorf("%s: %q, clock %d, skipped %q: %+v", c.name, got, v.ClockMs, skipped, v.Verdicts)
		}
	}
	some := []Brought{{"DO probe 11", 30}, {"Oxygen skid", 0}}
	if v := Compare([]Gap{{FromMs: 0, ToMs: 9000}}, nil, func(Gap) []Brought { return some },
		time.UTC); v.Verdicts[0].Whose !=
		"unknown" || !strings.Contains(v.Verdicts[0].Says, "1 of 2 devices") {
		t.Errorf("values of others say nothing of one that was not asked: %+v", v.Verdicts)
	}
	for name, text := range map[string]string{"ends before it begins": "2026-11-26 14:00:00;2026-11-26 13:00:00",
		"one time": "14:00:00;3.2"} {
		if _, _, err := Gaps(text, day); err == nil {
			t.Errorf("%s: no error", name)
		}
	}
	if gaps, skipped, err := Gaps("what went wrong\n23:59:50 to 00:00:10", day); err != nil || len(skipped) != 1 ||
		len(gaps) != 1 || gaps[0].ToMs-gaps[0].FromMs != 20_000 {
		t.Errorf("over midnight: %v %v %v", gaps, skipped, err)
	}
}

// FuzzGaps: whatever is pasted is read, or refused, and no gap ends before it begins.
func FuzzGaps(f *testing.F) {
	for _, text := range []string{"14:02:31 to 14:03:05 Oxygen", "1795718302571,1\n1795718303571,2\n1795718399571,2",
		"a\tb\n;;;", "\"14:02:31\n14:02", "99999999999999999999;1"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		gaps, _, err := Gaps(text, time.Unix(0, 0).UTC())
		if err != nil {
			return
		}
		for _, g := range gaps {
			if g.ToMs < g.FromMs {
				t.Errorf("%+v", g)
			}
		}
		Compare(gaps, nil, func(Gap) []Brought { return nil }, nil)
	})
}
