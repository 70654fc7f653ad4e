package timetable

import (
	"strings"
	"testing"
)

// TestCounts: turns of a feed auger at four a second, read at several paces.
func TestCounts(t *testing.T) {
	read := func(paceMs int) (list []Sample) {
		for at := int64(0); at < 20_000; at += int64(paceMs) {
			list = append(list, Sample{AtMs: at, V: float64((at + 7) / 250)})
		}
		return list
	}
	for _, c := range []struct {
		paceMs  int
		verdict Sampled
		says    string
	}{
		{1000, Missed, "of 76 counts passed unseen, and the value jumps by up to 4"},
		{300, Missed, "every 6th count passes unseen"},
		{240, Barely, "one that comes a little late loses one: 126 ms sees each"},
		{120, Barely, "63 ms can be trusted"},
		{50, Seen, "reads brought nothing new"},
	} {
		got, ok := Counts(read(c.paceMs))
		if !ok {
			t.Errorf("at %d ms it is no counter: %+v", c.paceMs, got)
			continue
		}
		verdict, sees, trusts, words := got.Judge(c.paceMs)
		if verdict != c.verdict || !strings.Contains(words, c.says) || sees < 120 || sees > 130 || trusts < 60 ||
			trusts > 65 {
			t.Errorf("at %d ms it is %s, %d, %d: %s", c.paceMs, verdict, sees, trusts, words)
		}
	}
	for name, list := range map[string][]Sample{
		"a level":    {{0, 1.5}, {1, 2.25}, {2, 3}, {3, 2}, {4, 1}, {5, 0.5}, {6, 2}, {7, 3}},
		"a state":    {{0, 1}, {1, 0}, {2, 1}, {3, 0}, {4, 1}, {5, 0}, {6, 1}, {7, 1}},
		"no change":  {{0, 7}, {1, 7}, {2, 7}, {3, 7}, {4, 7}, {5, 7}, {6, 7}},
		"too little": {{0, 1}, {1, 2}, {2, 3}},
	} {
		if c, ok := Counts(list); ok {
			t.Errorf("%s is a counter: %+v", name, c)
		}
	}
}
