package crossing

import (
	"reflect"
	"strings"
	"testing"

	"ferry/internal/core/site"
)

// TestWords: what a crossing says of itself is read back as the same.
func TestWords(t *testing.T) {
	least, most, four := 0.0, 100.0, int64(4)
	for words, x := range map[string]site.Crossing{
		"as it is":                             {},
		"÷ 100, moves by 5":                    {Factor: 0.01, Deadband: 5},
		"× 1.8 + 32":                           {Factor: 1.8, Offset: 32},
		"− 3":                                  {Offset: -3},
		"as it is, moves by 2 %, every 500 ms": {Deadband: 2, Percent: true, PaceMs: 500},
		"°C → °F, both ways": {Both: site.LaterTies,
			Way: []site.Step{{Do: site.DoUnit, From: "°C", To: "°F"}}},
		"by their units":     {Way: []site.Step{{Do: site.DoUnit}}},
		"bit 3, upside down": {Way: []site.Step{{Do: site.DoBit, Bit: 3}, {Do: site.DoNot}}},
		"into bit 7":         {Way: []site.Step{{Do: site.DoPut, Bit: 7}}},
		"within 0 … 100, × 2": {Way: []site.Step{{Do: site.DoClamp, Least: &least, Most: &most},
			{Do: site.DoScale, Factor: 2}}},
		"3→2 · 0→1 · else 4": {Way: []site.Step{{Do: site.DoTable,
			Table: []site.Becomes{{From: 3, To: 2}, {From: 0, To: 1}}, Else: &four}}},
		"as a total":           {Way: []site.Step{{Do: site.DoCount}}},
		"read as float32 CDAB": {Way: []site.Step{{Do: site.DoReread, Type: "float32", Order: "CDAB"}}},
		"12 characters":        {Way: []site.Step{{Do: site.DoText, Length: 12}}},
		"× 2, both ways (target wins), at least every 1 min, at most every 10 s, from the first good value": {Factor: 2,
			Both: site.TargetTies, Start: site.WaitForGood, AtLeastMs: 60_000, AtMostMs: 10_000},
		"as it is, with each round, 24 times a day, with limits and texts": {Round: true, PerDay: 24, Tells: site.TellsAll},
		"as it is, when quiet -1.5 after 90 s, with quality": {Quiet: site.Substitute, Substitute: "-1.5", QuietMs: 90_000,
			Tells: site.TellsQuality},
		"as it is, stops when quiet for 5 s": {Quiet: site.StopQuiet, QuietMs: 5000},
		"= max(a, b) > 3 ? a : b":            {Way: []site.Step{{Do: site.DoFormula, Formula: "max(a, b) > 3 ? a : b"}}},
	} {
		if got := Words(&x); got != words {
			t.Errorf("said as %q, want %q", got, words)
		}
		back, err := ParseWords(words)
		if err != nil || !reflect.DeepEqual(back, x) {
			t.Errorf("%q is read as %+v, %v", words, back, err)
		}
	}
	for _, bad := range []string{"sideways", "÷ 0", "× x", "bit", "3→2 · seven", "every 3 weeks", "at least every x",
		"every 1e9 h"} {
		if x, err := ParseWords(bad); err == nil {
			t.Errorf("%q is read as %+v", bad, x)
		}
	}
}

// TestReword: what is named becomes so, and all else stays.
func TestReword(t *testing.T) {
	for _, c := range []struct{ was, by, is string }{
		{"÷ 100, moves by 5", "at least every 1 min", "÷ 100, moves by 5, at least every 1 min"},
		{"÷ 100, bit 3, moves by 5", "× 2", "× 2, moves by 5"},
		{"÷ 100, moves by 5", "as it is, any change", "as it is"},
		{"÷ 100, both ways, moves by 5, every 10 s", "with each round", "÷ 100, with each round"},
		{"÷ 100, with each round, with quality", "when it moves, the value alone, moves by 2 %", "÷ 100, moves by 2 %"},
		{"as it is, when quiet 0 after 5 s", "holds when quiet, at most every 0 s", "as it is"},
	} {
		x, err := ParseWords(c.was)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := Reword(&x, c.by); err != nil || Words(&got) != c.is {
			t.Errorf("%q by %q is %q, %v", c.was, c.by, Words(&got), err)
		}
	}
	if _, err := Reword(&site.Crossing{BeatMs: 1000}, "× 2"); err == nil {
		t.Error("a heartbeat was given a scale")
	}
	if _, err := Reword(&site.Crossing{}, " , "); err == nil {
		t.Error("nothing was named, and that is no error")
	}
}

func FuzzParseWords(f *testing.F) {
	for _, text := range []string{"÷ 10, moves by 0.5", "3→2 · else 4", "= a + (b, c)", "within 0 … 1, every 3 s",
		"× 1e400"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		x, err := ParseWords(text)
		if err != nil {
			return
		}
		if again, err := ParseWords(Words(&x)); err == nil && Words(&again) != Words(&x) &&
			!strings.Contains(Words(&x), "…") {
			t.Errorf("%q says %q, which says %q", text, Words(&x), Words(&again))
		}
	})
}
