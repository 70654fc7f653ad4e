package diagnose

import (
	"strings"
	"testing"
	"time"

	"ferry/internal/core/block"
	_ "ferry/internal/core/family/blocktcp"
	_ "ferry/internal/core/family/modbus"
	family "ferry/internal/core/family/modbus"

	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func skid() *site.Site {
	return &site.Site{
		Lines: []site.Line{{ID: "net", Name: "Plant net"}},
		Devices: []site.Device{{ID: "lss", Name: "LSS"},
			{ID: "skid", Name: "Oxygen skid", Ports: []site.Port{{Line: "net", Host: "192.0.2.45"}},
				Points: []site.Point{
					{ID: "a", Name: "Purity", Type: "float32", Address: block.At("ir", 0), Access: "r"},
					{ID: "b", Name: "Flow", Type: "float32", Address: block.At("ir", 2), Access: "r"},
					{ID: "c", Name: "Setpoint", Type: "float32", Address: block.At("hr", 0), Access: "rw"}}}},
		Links: []site.Link{{ID: "k", Asking: "lss", Answering: "skid", Line: "net", Protocol: "modbus-tcp"}},
	}
}

func codes(list []finding.Finding) string {
	var all []string
	for _, f := range list {
		all = append(all, f.Code+"/"+string(f.Severity))
		if f.Sentence == "" || f.Remedy == "" || strings.Contains(f.Title+f.Sentence, "%!") {
			all = append(all, "unfinished: "+f.Title+f.Sentence)
		}
	}
	return strings.Join(all, " ")
}

func TestSymptoms(t *testing.T) {
	for _, c := range []struct {
		name     string
		outcomes []exchange.Outcome
		want     string
	}{
		{"all well", []exchange.Outcome{exchange.Answered}, ""},
		{"nobody listens", []exchange.Outcome{exchange.Refused}, "port-refused/fault"},
		{"no way there", []exchange.Outcome{exchange.Unreached}, "host-silent/fault"},
		{"thrown out", []exchange.Outcome{exchange.Reset}, "connection-dropped/fault"},
		{"hung up", []exchange.Outcome{exchange.Closed}, "connection-dropped/fault"},
		{"silent", []exchange.Outcome{exchange.NoAnswer}, "no-answer/fault"},
		{"garbled", []exchange.Outcome{exchange.Garbled}, "answer-mismatch/fault"},
		{"stopped by Ferry", []exchange.Outcome{exchange.Answered, exchange.NotAllowed}, "not-asked/fault"},
		{"silent, and back", []exchange.Outcome{exchange.NoAnswer, exchange.Answered}, "no-answer/doubt"},
		{"two things", []exchange.Outcome{exchange.Answered, exchange.NoAnswer, exchange.Refused},
			"no-answer/fault port-refused/fault"},
		{"declined", []exchange.Outcome{exchange.Declined}, "exception-address/fault"},
		{"declined, and then not", []exchange.Outcome{exchange.Declined, exchange.Answered}, "exception-address/doubt"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := New()
			for i, o := range c.outcomes {
				d.Exchange(&exchange.Exchange{Link: "k", At: noon.Add(time.Duration(i) * time.Second), Outcome: o,
					Code: 2, Operation: "read 12 input @ 30001", Sentence: "it said so"})
			}
			if got := codes(d.Findings(skid(), noon.Add(10*time.Second))); got != c.want {
				t.Errorf("finds %q, want %q", got, c.want)
			}
			if got := codes(d.Findings(skid(), noon.Add(2*Window))); got != "" {
				t.Errorf("long after it still finds %q", got)
			}
		})
	}
}

// TestEveryCode: the exception codes 1 to 11 all have words of their own.
func TestEveryCode(t *testing.T) {
	seen := map[string]int{}
	for code := 1; code <= 11; code++ {
		why := family.TCP.Decline(code)
		if why.Title == "" || why.Means == "" || why.Causes == "" || seen[why.Title] != 0 {
			t.Errorf("code %d: %+v", code, why)
		}
		seen[why.Title] = code
	}
}

func TestStill(t *testing.T) {
	d := New()
	s := skid()
	points := s.Devices[1].Points
	at := noon
	feed := func(seconds int, move ...bool) {
		for range seconds {
			at = at.Add(time.Second)
			for i := range points {
				step := 0.0
				if move[i] {
					step = at.Sub(noon).Seconds()
				}
				d.Follow(&points[i]).See(value.OfFloat(float64(i)+step), at)
			}
		}
	}
	feed(10, true, true, true)
	if got := codes(d.Findings(s, at)); got != "" {
		t.Errorf("while all moves it finds %q", got)
	}
	feed(10, true, false, false)
	if got := codes(d.Findings(s, at)); got != "frozen-value/doubt" {
		t.Errorf("when one sensor stops it finds %q; a setpoint stands still by right", got)
	}
	feed(10, false, false, false)
	if got := codes(d.Findings(s, at)); got != "device-frozen/fault" {
		t.Errorf("when all stop it finds %q", got)
	}
	feed(1, true, true, true)
	if got := codes(d.Findings(s, at)); got != "" {
		t.Errorf("when it goes on it finds %q", got)
	}
}

// TestLineSymptoms: what the octets of a serial line look like becomes a finding
// of its own, with the access lines that would explain it.
func TestLineSymptoms(t *testing.T) {
	for cause, want := range map[exchange.Cause]string{
		exchange.Format: "wrong-serial-settings/fault", exchange.TwoStations: "duplicate-unit/fault",
		exchange.OtherStation: "answer-mismatch/fault",
		exchange.CutShort:     "frame-torn/fault", exchange.Noise: "noise/fault", "": "answer-mismatch/fault",
	} {
		d := New()
		d.Exchange(&exchange.Exchange{Link: "k", Device: "skid", At: noon, Outcome: exchange.Garbled, Cause: cause,
			Operation: "read 2 input @ 30001"})
		if got := codes(d.Findings(skid(), noon)); got != want {
			t.Errorf("%q becomes %q, want %q", cause, got, want)
		}
	}
	d := New()
	d.Exchange(&exchange.Exchange{Link: "k", Device: "skid", At: noon, Outcome: exchange.Answered,
		Cause: exchange.InPieces})
	if got := codes(d.Findings(skid(), noon)); got != "in-pieces/doubt" {
		t.Errorf("an answer in pieces becomes %q", got)
	}
	for outcome, want := range map[exchange.Outcome]string{exchange.PortAbsent: "port-absent/fault",
		exchange.PortOwned: "port-owned/fault", exchange.PortDenied: "port-denied/fault"} {
		d := New()
		d.Exchange(&exchange.Exchange{Link: "k", Device: "skid", At: noon, Outcome: outcome})
		if got := codes(d.Findings(skid(), noon)); got != want {
			t.Errorf("%q becomes %q, want %q", outcome, got, want)
		}
	}
	s := skid()
	s.Devices[1].Access = []site.AccessLine{{ID: "a", Kind: site.AccessRemote, Text: "Menu 4-2: remote on"},
		{ID: "b", Kind: site.AccessFirewall, Text: "Port opened"}}
	d = New()
	d.Exchange(&exchange.Exchange{Link: "k", Device: "skid", At: noon, Outcome: exchange.NoAnswer})
	if found := d.Findings(s, noon); len(found) != 1 || len(found[0].Evidence) != 2 ||
		found[0].Evidence[1] != "Nobody has ticked yet: Menu 4-2: remote on" {
		t.Errorf("%+v", found)
	}
}

// TestLate: a device that answers after its limit is said to, with the limit to
// set, in place of one that does not answer.
func TestLate(t *testing.T) {
	d := New()
	for i := range 6 {
		e := exchange.Exchange{Seq: uint64(i), Link: "k", Device: "skid", At: noon.Add(time.Duration(i) * time.Second),
			Outcome: exchange.NoAnswer, Operation: "read", Sentence: "nothing came back"}
		if i%2 == 1 {
			e.Cause, e.AnswerLateMs = exchange.Late, 400+float64(10*i)
		}
		d.Exchange(&e)
	}
	s := skid()
	s.Links[0].ID = "k"
	found := d.Findings(s, noon.Add(6*time.Second))
	if codes(found) != "late-answer/fault" || !strings.Contains(found[0].Sentence, "after up to 450 ms") ||
		len(found[0].Fixes) != 1 || found[0].Fixes[0].Setting.Will != 700 || found[0].Count != 3 {
		t.Errorf("%+v", found)
	}
}

// TestSecondAsker: it comes before what it explains, once for its line.
func TestSecondAsker(t *testing.T) {
	d := New()
	s := skid()
	s.Links[0].ID = "k"
	s.Links = append(s.Links, s.Links[0])
	s.Links[1].ID = "k2"
	for i, link := range []string{"k", "k2", "k", "k2"} {
		d.Exchange(&exchange.Exchange{Seq: uint64(2 * i), Link: link, Device: "skid",
			At: noon.Add(time.Duration(i) * time.Second), Outcome: exchange.Answered, Cause: exchange.Others,
			Doubt: "somebody else asks"})
		d.Exchange(&exchange.Exchange{Seq: uint64(2*i + 1), Link: link, Device: "skid",
			At: noon.Add(time.Duration(i) * time.Second), Outcome: exchange.Garbled, Cause: exchange.Noise,
			Sentence: "12 octets"})
	}
	if got := codes(d.Findings(s, noon.Add(4*time.Second))); got != "unknown-asker/fault noise/doubt noise/doubt" {
		t.Error(got)
	}
}

// TestMannersAreNoted: an odd way of answering is told until it is noted in the
// limits of the device, and others go on being told.
func TestMannersAreNoted(t *testing.T) {
	d := New()
	d.Exchange(&exchange.Exchange{Link: "k", At: noon, Outcome: exchange.Answered, Operation: "read 2 input @ 30001",
		Manner: exchange.OddStation | exchange.Pieces})
	s := skid()
	if got := codes(d.Findings(s, noon.Add(time.Second))); got != "answers-as/note pieces/note" {
		t.Errorf("finds %q", got)
	}
	s.Devices[1].Limits.Manners = []string{"answers-as"}
	if got := codes(d.Findings(s, noon.Add(time.Second))); got != "pieces/note" {
		t.Errorf("finds %q where one is noted", got)
	}
}
