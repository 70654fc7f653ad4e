package site

import (
	"encoding/json"
	"errors"
	"strings"
	"testing"

	"ferry/internal/core/block"
	"ferry/internal/core/problem"
)

// listed is the tank with a list of names at its gateway: one name goes there, one
// comes from there, one goes both ways.
func listed(l List) *Site {
	s := tank()
	l.ID, l.Name, l.Far = "l", "Gateway names", "gate"
	s.Lists = []List{l}
	s.Devices[1].Points[1].Access = ReadWrite
	for id, at := range map[string]uint32{"g2": 102, "g3": 104} {
		s.Devices[2].Points = append(s.Devices[2].Points, Point{ID: id, Name: id, Address: block.At("hr", at),
			Type: "float32", PaceMs: 1000, Access: ReadWrite})
	}
	s.Crossings = []Crossing{{ID: "x", From: "o", To: "g", List: "l"}, {ID: "y", From: "g2", To: "t", List: "l"},
		{ID: "z", From: "t", To: "g3", Both: SourceTies, List: "l"}, {ID: "alone", From: "o", To: "g3", Start: WaitForGood}}
	return s
}

// TestRuled: what a list says counts for each of its names, from the side on which
// the name begins, and for no other crossing.
func TestRuled(t *testing.T) {
	for _, c := range []struct {
		name             string
		list             List
		x, y             Start
		z                Ties
		off              bool
		enable, ownStart string
	}{
		{"this side wins", List{}, SourceWins, TargetWins, SourceTies, false, "", "wait"},
		{"the far side wins", List{Start: ThereWins, Ties: ThereWins}, TargetWins, SourceWins, TargetTies, false, "", "wait"},
		{"whoever is first, and the later", List{Start: WhoFirst, Ties: WhoLater}, WaitForGood, WaitForGood, LaterTies,
			false, "", "wait"},
		{"off, and enabled", List{Off: true, Enable: "t"}, SourceWins, TargetWins, SourceTies, true, "t", "wait"},
	} {
		s := listed(c.list)
		r := s.Ruled()
		if r[0].Start != c.x || r[1].Start != c.y || r[2].Both != c.z || string(r[3].Start) != c.ownStart {
			t.Errorf("%s: %q, %q, %q, %q", c.name, r[0].Start, r[1].Start, r[2].Both, r[3].Start)
		}
		if r[0].Off != c.off || r[0].Enable != c.enable || r[3].Off || r[3].Enable != "" {
			t.Errorf("%s: %+v", c.name, r)
		}
		if r[0].Both != OneWay || s.Crossings[1].Start != SourceWins {
			t.Errorf("%s: it goes both ways, or the site itself is changed", c.name)
		}
	}
}

// TestListRefuses: what would go where a list does not carry is refused, and so is a
// rule beside the list's.
func TestListRefuses(t *testing.T) {
	crossing := func(text string) []Edit { return edits(KindCrossing, "n", "", text) }
	list := func(text string) []Edit {
		return edits(KindList, "l", "", `{"name":"Gateway names","far":"gate"`+text+`}`)
	}
	for _, c := range []struct {
		name  string
		edits []Edit
		says  string
	}{
		{"only takes, and a name goes there", list(`,"carries":"takes"`), "would write to the far side"},
		{"only gives, and a name comes", list(`,"carries":"gives"`), "would take from the far side"},
		{"no such way", list(`,"carries":"sideways"`), "none of the ways"},
		{"a point that is not there", list(`,"enable":"nowhere"`), "not in the site"},
		{"no far side", edits(KindList, "m", "", `{"name":"m","far":"nowhere"}`), "is not in the site"},
		{"both on this side", crossing(`{"from":"o","to":"t","list":"l"}`), "not just one of its ends"},
		{"a list that is not there", crossing(`{"from":"o","to":"g","list":"m"}`), "not in the site"},
		{"a start of its own", crossing(`{"from":"o","to":"g","start":"wait","list":"l"}`), "of its own"},
	} {
		s := listed(List{})
		_, _, err := s.Apply(c.edits)
		var p *problem.Problem
		if !errors.As(err, &p) || !strings.Contains(p.Sentence, c.says) {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	s := listed(List{Carries: OnlyTakes})
	s.Crossings = s.Crossings[1:2]
	quality := edits(KindCrossing, "y", "", `{"from":"g2","to":"t","qualityTo":"g3","list":"l"}`)
	if _, _, err := s.Apply(quality); err == nil {
		t.Error("of a list that only takes, quality is written to the far side")
	}
}

// TestListGoes: with a list go its names, with its far side the list, and without
// the point that enables it it is off. Each is taken back as one step.
func TestListGoes(t *testing.T) {
	for _, c := range []struct {
		name      string
		list      List
		edits     []Edit
		lists     int
		crossings string
	}{
		{"the list", List{}, edits(KindList, "l", "", `null`), 0, "alone"},
		{"its far side", List{}, edits(KindDevice, "gate", "", `null`), 0, ""},
		{"what enables it", List{Enable: "o"}, edits(KindPoint, "o", "do11", `null`), 1, "y z"},
	} {
		s := listed(c.list)
		next, changes, err := s.Apply(c.edits)
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		var left []string
		for _, x := range next.Crossings {
			left = append(left, x.ID)
		}
		if len(next.Lists) != c.lists || strings.Join(left, " ") != c.crossings {
			t.Errorf("%s: %d lists, crossings %v", c.name, len(next.Lists), left)
		}
		if c.lists == 1 && (!next.Lists[0].Off || next.Lists[0].Enable != "") {
			t.Errorf("%s: it goes on: %+v", c.name, next.Lists[0])
		}
		back, _, err := next.Apply(Invert(changes))
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		was, _ := json.Marshal(s)
		is, _ := json.Marshal(back)
		if string(was) != string(is) {
			t.Errorf("%s: taken back it is\n%s, and was\n%s", c.name, is, was)
		}
	}
}
