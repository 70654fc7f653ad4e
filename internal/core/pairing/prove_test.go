package pairing

import (
	"strings"
	"testing"

	"ferry/internal/core/address"
	_ "ferry/internal/core/family/mqtt"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// TestProve: each of the ways in which a name on the far side is there, or is not.
func TestProve(t *testing.T) {
	scheme, err := protocol.SchemeOf("mqtt")
	if err != nil {
		t.Fatal(err)
	}
	at := func(text string) address.Address {
		a, err := scheme.Parse(text, "")
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	held := []protocol.Held{{Address: at("skerry/oxygen"), Shape: value.Shape{Type: "float64"}},
		{Address: at("Skerry/Temp")}, {Address: at("skerry/name"), Shape: value.Shape{Type: "text"}}}
	for _, c := range []struct {
		name   Wanted
		topic  string
		silent bool // the far side lists nothing
		want   Verdict
		says   string
	}{
		{topic: "skerry/oxygen", want: There}, {topic: "skerry/oxygen", name: Wanted{Read: value.Good}, silent: true,
			want: There},
		{topic: "skerry/temp", want: Case, says: "as Skerry/Temp"}, {topic: "skerry/name", want: Other, says: "as a text"},
		{topic: "skerry/else", want: Absent}, {topic: "skerry/else", silent: true, want: Unheard},
		{topic: "skerry/else", name: Wanted{Read: value.NotRead, Watched: true, Written: 12}, want: NoEcho,
			says: "took 12 values"},
		{topic: "skerry/oxygen", name: Wanted{Failed: "The broker refuses it."}, want: Refusing, says: "refuses"},
		{topic: "skerry/oxygen", name: Wanted{Read: value.Bad, Reason: "no number"}, want: Refusing, says: "no number"},
	} {
		c.name.Point = &site.Point{ID: "p", Address: at(c.topic), Type: "float32"}
		list := held
		if c.silent {
			list = nil
		}
		got := Prove(scheme, []Wanted{c.name}, list)[0]
		if got.Verdict != c.want || !strings.Contains(got.Sentence, c.says) {
			t.Errorf("%s, %+v: %s, %s; want %s", c.topic, c.name, got.Verdict, got.Sentence, c.want)
		}
	}
	if got := Summary([]Proof{{Verdict: Absent},
		{Verdict: Case}}); got != "Of 2 names: 1 another case, 1 not there. The list carries nothing." {
		t.Error(got)
	}
}
