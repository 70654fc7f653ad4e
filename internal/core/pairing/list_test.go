package pairing

import (
	"fmt"
	"strings"
	"testing"

	"ferry/internal/core/exchange"
	"ferry/internal/core/site"
)

// shared is the hatchery with a list of names at its gateway, of which one is there
// already; alarm setpoints there can be written.
func shared(carries site.Carries) *site.Site {
	s := hatchery()
	s.Lists = []site.List{{ID: "l", Name: "Shore names", Far: "g", Carries: carries}}
	s.Crossings[0].List = "l"
	g := &s.Devices[3]
	setpoint := s.Devices[0].Points[3]
	setpoint.ID, setpoint.Name, setpoint.Address = "g9", "Alarm-11", g.Points[7].Address
	g.Points[7] = setpoint
	return s
}

// TestInList: a name goes the way that its table says, or the usual one, and never
// one that the list does not carry.
func TestInList(t *testing.T) {
	for _, c := range []struct {
		carries       site.Carries
		row           [4]string
		from, to, say string
		goes          Goes
	}{
		{"", [4]string{"DO probe 12.Oxygen", "Oxygen_12"}, "p12o", "g2", "", ToThere},
		{"", [4]string{"DO probe 12.Oxygen", "Oxygen_12", "", "here"}, "g2", "p12o", "may only be read", FromThere},
		{"", [4]string{"DO probe 11.AlarmSetpoint", "Alarm-11"}, "p11s", "g9", "", BothGo},
		{"", [4]string{"DO probe 11.AlarmSetpoint", "Alarm-11", "÷ 10", "←"}, "g9", "p11s", "", FromThere},
		{"", [4]string{"DO probe 11.AlarmSetpoint", "Alarm-11", "both ways"}, "p11s", "g9", "", BothGo},
		{site.OnlyTakes, [4]string{"DO probe 11.AlarmSetpoint", "Alarm-11"}, "g9", "p11s", "", FromThere},
		{site.OnlyTakes, [4]string{"DO probe 11.AlarmSetpoint", "Alarm-11", "", "both"}, "p11s", "g9", "only takes", BothGo},
		{site.OnlyGives, [4]string{"DO probe 11.AlarmSetpoint", "Alarm-11"}, "p11s", "g9", "", ToThere},
		{site.OnlyGives, [4]string{"DO probe 11.AlarmSetpoint", "Alarm-11", "", "here"}, "g9", "p11s", "only gives",
			FromThere},
	} {
		sh, err := InList(shared(c.carries), "l", []string{"p11", "p12", "d"})
		if err != nil {
			t.Fatal(err)
		}
		p := sh.ByTable([][]string{c.row[:]}, func() string { return "new" })
		if len(p.Pairs) != 1 {
			t.Errorf("%v of a list that carries %q: %+v", c.row, c.carries, p.Refused)
			continue
		}
		pair := p.Pairs[0]
		if x := pair.Crossing; x.From != c.from || x.To != c.to || x.List != "l" || pair.Goes != c.goes {
			t.Errorf("%v of a list that carries %q: goes %s, %+v", c.row, c.carries, pair.Goes, x)
		}
		if pair.Fits != (c.say == "") || !strings.Contains(pair.Sentence, c.say) {
			t.Errorf("%v of a list that carries %q: fits %v, %q", c.row, c.carries, pair.Fits, pair.Sentence)
		}
	}
	sh, err := InList(shared(""), "l", []string{"p11", "p12", "d"})
	if err != nil {
		t.Fatal(err)
	}
	if p := sh.ByTable([][]string{{"DO probe 12.Oxygen", "Oxygen_12", "", "in"}}, nil); len(p.Refused) != 1 ||
		!strings.Contains(p.Refused[0].Reason, "no way to go") {
		t.Errorf("a direction that means another thing on each side: %+v", p)
	}
	if p := sh.ByTable([][]string{{"DO probe 11.Oxygen", "Oxygen_13"}}, nil); len(p.Refused) != 1 {
		t.Errorf("a point that is in the list already: %+v", p)
	}
}

// TestStandingOf: one sentence says how a list is; a connected one that carries
// nothing is a fault.
func TestStandingOf(t *testing.T) {
	up := Reach{Over: "the link to the broker", Runs: true, Up: true}
	name := func(state string, v Verdict, says string) NameState {
		return NameState{Proof: Proof{Verdict: v, Sentence: says}, State: state, Sentence: says}
	}
	good := name("carrying", There, "")
	down := func(o exchange.Outcome, why string) Reach {
		return Reach{Over: "x", Runs: true, Outcome: o, Why: why}
	}
	for i, c := range []struct {
		list  site.List
		reach Reach
		names []NameState
		stand Stand
		says  string
		bad   string
	}{
		{site.List{}, up, []NameState{good, good}, CarriesAll, "All 2 names carry", ""},
		{site.List{Off: true}, up, []NameState{good}, StandsOff, "until it is switched on", ""},
		{site.List{}, up, nil, StandsEmpty, "Add names", ""},
		{site.List{}, Reach{}, []NameState{good}, NotConnected, "Give it a link", "fault"},
		{site.List{}, Reach{Over: "x"}, []NameState{good}, StandsIdle, "once x runs", ""},
		{site.List{}, down("", ""), []NameState{good}, StandsWaiting, "being connected", ""},
		{site.List{}, down(exchange.Refused, "nobody listens"), []NameState{good}, NotConnected, "service is not started",
			"fault"},
		{site.List{}, down(exchange.Unreached, "no answer"), []NameState{good}, NotConnected, "machine is not reached",
			"fault"},
		{site.List{}, down(exchange.Declined, "no rights"), []NameState{good}, NotConnected, "Not let in", "fault"},
		{site.List{}, up, []NameState{good, name("carrying", NoEcho, "never heard again")}, CarriesSome,
			"1 of 2 names carry. never heard again", "doubt"},
		{site.List{}, up, []NameState{name("carrying", NoEcho, "never heard again"), name("carrying", NoEcho,
			"never heard again")}, CarriesNone, "2 of them: never heard again", "fault"},
		{site.List{}, up, []NameState{name("failed", There, "it does not fit")}, CarriesNone, "it does not fit", "fault"},
		{site.List{}, up, []NameState{name("carrying", Unheard, "")}, StandsWaiting, "first values", ""},
		{site.List{}, up, []NameState{name("waiting", There, "not released"), name("waiting", There, "not released")},
			StandsWaiting, "not released", ""},
		{site.List{}, up, []NameState{{Off: true}}, StandsOff, "Each of its names", ""},
		{site.List{}, Reach{Over: "x", Runs: true, Up: true, Served: true}, []NameState{name("carrying", Unheard, "")},
			CarriesAll, "No client is connected", ""},
	} {
		s := StandingOf(&c.list, &c.reach, c.names)
		if s.Stand != c.stand || !strings.Contains(s.Title+" "+s.Sentence, c.says) || string(s.Severity()) != c.bad {
			t.Errorf("%d: %s", i, fmt.Sprintf("%q, %q %q, %q", s.Stand, s.Title, s.Sentence, s.Severity()))
		}
	}
}

// TestTurn: a name goes another way only where its points and the list let it.
func TestTurn(t *testing.T) {
	s := shared("")
	alarm := &site.Crossing{ID: "y", From: "p11s", To: "g9", Factor: 10, List: "l"}
	for _, c := range []struct {
		x       *site.Crossing
		carries site.Carries
		goes    Goes
		says    string
	}{
		{alarm, "", FromThere, ""}, {alarm, "", BothGo, ""}, {alarm, site.OnlyTakes, FromThere, ""},
		{alarm, site.OnlyTakes, BothGo, "only takes"}, {&s.Crossings[0], "", FromThere, "may only be read"},
		{&site.Crossing{ID: "y", From: "p11s", To: "gone"}, "", FromThere, "no longer there"},
	} {
		s.Lists[0].Carries = c.carries
		turned, err := Turn(s, &s.Lists[0], c.x, c.goes)
		if c.says != "" {
			if err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s goes %s: %v", c.x.From, c.goes, err)
			}
			continue
		}
		if err != nil || (turned.From == "g9") != (c.goes == FromThere) || (turned.Both != "") != (c.goes == BothGo) {
			t.Errorf("goes %s: %+v, %v", c.goes, turned, err)
			continue
		}
		if again, err := Turn(s, &site.List{Far: "g"}, turned, ToThere); err != nil || again.From != "p11s" ||
			again.Scale().Factor != 10 || again.Both != "" {
			t.Errorf("turned again: %+v, %v", again, err)
		}
	}
}
