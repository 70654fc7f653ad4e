package habit_test

import (
	"fmt"
	"testing"

	"ferry/internal/core/habit"
)

// row is items of so many units each, without gaps.
func row(from uint32, count int, units uint32) (items []habit.Run) {
	for i := range uint32(count) {
		items = append(items, habit.Run{From: from + i*units, To: from + (i+1)*units})
	}
	return items
}

func touches(r habit.Run, at uint32) bool { return r.From <= at && at < r.To }

// TestSearch: what devices refuse is explained, and once it is, every item that
// can be read at all is.
func TestSearch(t *testing.T) {
	gap := append(row(100, 10, 1), row(115, 10, 1)...)
	for _, c := range []struct {
		name   string
		items  []habit.Run
		bears  func(habit.Run) bool
		want   string // facts
		groups int
		alone  int
	}{
		{"sixteen at most", row(100, 60, 1), func(r habit.Run) bool { return r.Len() <= 16 }, "most 16", 4, 0},
		{"pairs, ten at most", row(100, 20, 2), func(r habit.Run) bool { return r.Len() <= 10 }, "most 10", 4, 0},
		{"eleven at most of pairs", row(100, 20, 2), func(r habit.Run) bool { return r.Len() <= 11 }, "most 11", 4, 0},
		{"one at a time", row(0, 6, 1), func(r habit.Run) bool { return r.Len() == 1 }, "most 1", 6, 0},
		{"a hole at a point", row(100, 40, 1), func(r habit.Run) bool { return !touches(r, 117) }, "holes [{117 118}]",
			2, 1},
		{"a hole between points", gap, func(r habit.Run) bool { return !touches(r, 112) }, "holes [{110 115}]", 2, 0},
		{"a limit, and gaps", gap, func(r habit.Run) bool { return r.Len() <= 10 }, "holes [{110 115}]", 2, 0},
		{"pairs from odd places", row(101, 8, 2), func(r habit.Run) bool { return r.From%2 == 1 && r.Len()%2 == 0 }, "",
			1, 0},
		{"nothing over a boundary", row(90, 30, 1), func(r habit.Run) bool { return !(r.From < 100 && 100 < r.To) },
			"cuts [100]", 2, 0},
		{"nothing at all", row(0, 4, 1), func(habit.Run) bool { return false }, "holes [{0 1} {1 2} {2 3} {3 4}]", 0,
			4},
	} {
		t.Run(c.name, func(t *testing.T) {
			var facts habit.Facts
			asked := 0
			ask := func(r habit.Run) habit.Answer {
				asked++
				if c.bears(r) {
					return habit.Given
				}
				return habit.Refused
			}
			whole := habit.Run{From: c.items[0].From, To: c.items[len(c.items)-1].To}
			if ask(whole) == habit.Refused {
				if _, done := facts.Search(c.items, ask); !done {
					t.Fatalf("it gave up after %d questions with %+v", asked, facts)
				}
			}
			said := ""
			if facts.Most > 0 {
				said = fmt.Sprintf("most %d", facts.Most)
			}
			if len(facts.Holes) > 0 {
				said += fmt.Sprintf("holes %v", facts.Holes)
			}
			if len(facts.Cuts) > 0 {
				said += fmt.Sprintf("cuts %v", facts.Cuts)
			}
			if said != c.want {
				t.Errorf("it learns %q after %d questions, want %q", said, asked, c.want)
			}
			groups, alone := facts.Cut(c.items)
			if len(groups) != c.groups || len(alone) != c.alone {
				t.Errorf("cut into %v and %v alone, want %d and %d", groups, alone, c.groups, c.alone)
			}
			for _, g := range groups {
				if !c.bears(g.Run) {
					t.Errorf("the device does not bear %v", g.Run)
				}
			}
		})
	}
}

// TestSearchEnds: whatever a device answers, a search ends.
func TestSearchEnds(t *testing.T) {
	for seed := range uint32(200) {
		asked := 0
		var facts habit.Facts
		facts.Search(row(seed, 120, 1), func(r habit.Run) habit.Answer {
			asked++
			return habit.Answer((r.From*2654435761 + r.To*40503 + seed) >> 7 % 3)
		})
		if asked > habit.Patience {
			t.Fatalf("%d questions", asked)
		}
		facts.Cut(row(seed, 120, 1))
	}
}
