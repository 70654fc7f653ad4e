// Package habit is what was found out of how one device must be asked, where it
// bears less than its protocol allows: how much at once, and what not together.
package habit

import (
	"slices"
	"sort"

	"ferry/internal/core/block"
)

// Run is a run of units of one area, To exclusive.
type Run struct{ From, To uint32 }

// RunOf returns the units of a range.
func RunOf(r block.Range) Run { return Run{r.Start, r.Start + uint32(r.Count)} }

// Len is the number of units.
func (r Run) Len() int { return int(r.To - r.From) }

// Group is one request: what it asks for, and which of the items it brings.
type Group struct {
	Run
	Items []int
}

// Facts are what was learned of one area of a device. The zero value is that
// nothing was.
type Facts struct {
	// Most is the most units that one request may ask for, 0 for not known.
	Most int
	// Holes are units that cannot be read: a request that touches one is refused
	// whole.
	Holes []Run
	// Cuts are places that no request goes over, each before the unit that it
	// names: what lies on both sides can be read, but not together.
	Cuts []uint32
}

// IsZero reports whether nothing is known.
func (f *Facts) IsZero() bool { return f.Most == 0 && len(f.Holes) == 0 && len(f.Cuts) == 0 }

// Device is what was learned of a device.
type Device struct {
	Areas map[string]Facts
	// OneConnection is set where it serves one connection at a time.
	OneConnection bool
}

// Bears reports whether the facts let a run be asked for in one request.
func (f *Facts) Bears(r Run) bool {
	if f.Most > 0 && r.Len() > f.Most {
		return false
	}
	for _, h := range f.Holes {
		if r.From < h.To && h.From < r.To {
			return false
		}
	}
	return !slices.ContainsFunc(f.Cuts, func(at uint32) bool { return r.From < at && at < r.To })
}

// Cut divides items, each of which must arrive in one piece, into requests that
// the facts let pass. alone are those that no request brings, for they lie on a
// hole or are longer than a request may be.
func (f *Facts) Cut(items []Run) (groups []Group, alone []int) {
	for _, i := range inOrder(items) {
		if !f.Bears(items[i]) {
			alone = append(alone, i)
			continue
		}
		if last := len(groups) - 1; last >= 0 {
			if whole := join(groups[last].Run, items[i]); f.Bears(whole) {
				groups[last].Run, groups[last].Items = whole, append(groups[last].Items, i)
				continue
			}
		}
		groups = append(groups, Group{items[i], []int{i}})
	}
	return groups, alone
}

func join(a, b Run) Run { return Run{min(a.From, b.From), max(a.To, b.To)} }

func inOrder(items []Run) []int {
	order := make([]int, len(items))
	for i := range order {
		order[i] = i
	}
	sort.SliceStable(order, func(a, b int) bool {
		x, y := items[order[a]], items[order[b]]
		return x.From < y.From || x.From == y.From && x.To < y.To
	})
	return order
}

// Answer is what came of one question of a search.
type Answer int

// A question is answered, refused, or the search cannot go on.
const (
	Given Answer = iota
	Refused
	Lost
)

// Patience bounds the questions of one search.
const Patience = 64

// Search finds out why a request over items was refused, by asking for parts of
// it, and adds what it learns to the facts. It returns the items that were
// refused alone, and whether it came to an end: it gives up when an answer is
// lost or after Patience questions, with what it knows by then.
func (f *Facts) Search(items []Run, ask func(Run) Answer) (refused []int, done bool) {
	s := search{facts: f, items: items, ask: ask}
	order := inOrder(items)
	s.halve(order)
	if s.lost {
		return s.refused, false
	}
	s.conclude()
	return s.refused, !s.lost
}

type search struct {
	facts   *Facts
	items   []Run
	ask     func(Run) Answer
	asked   int
	lost    bool
	given   []Run // what came, in order
	failed  []Run // what was refused though its parts came
	refused []int
}

func (s *search) try(r Run) bool {
	if s.asked++; s.asked > Patience {
		s.lost = true
		return false
	}
	switch s.ask(r) {
	case Given:
		return true
	case Lost:
		s.lost = true
	}
	return false
}

func (s *search) over(order []int) Run {
	whole := s.items[order[0]]
	for _, i := range order {
		whole = join(whole, s.items[i])
	}
	return whole
}

// halve takes a refused run of items apart until each part comes or is a single
// item.
func (s *search) halve(order []int) {
	if s.lost || len(order) == 0 {
		return
	}
	whole := s.over(order)
	if len(order) == 1 {
		s.refused = append(s.refused, order[0])
		s.facts.Holes = append(s.facts.Holes, whole)
		return
	}
	s.failed = append(s.failed, whole)
	middle := s.middle(order)
	for _, half := range [][]int{order[:middle], order[middle:]} {
		switch r := s.over(half); {
		case s.lost:
			return
		case s.try(r):
			s.given = append(s.given, r)
		default:
			s.halve(half)
		}
	}
}

// middle is where items are parted: at their widest gap, where what lies there
// may be why they were refused, and otherwise in the middle of their units.
func (s *search) middle(order []int) int {
	widest, at := uint32(0), 0
	end := s.items[order[0]].To
	for k := 1; k < len(order); k++ {
		if from := s.items[order[k]].From; from > end && from-end > widest {
			widest, at = from-end, k
		}
		end = max(end, s.items[order[k]].To)
	}
	if at > 0 {
		return at
	}
	whole := s.over(order)
	half := whole.From + uint32(whole.Len()/2)
	at = 1
	for at < len(order)-1 && s.items[order[at]].From < half {
		at++
	}
	return at
}

// conclude tells from what came, and what did not, which facts explain it.
func (s *search) conclude() {
	longest := 0
	for _, g := range s.given {
		longest = max(longest, g.Len())
	}
	shortest := 0
	for _, r := range s.failed {
		if s.facts.Bears(r) && (shortest == 0 || r.Len() < shortest) {
			shortest = r.Len()
		}
	}
	if shortest == 0 {
		return // holes explain all of it
	}
	if longest < shortest && !s.gapped() {
		s.limit(longest, shortest)
		return
	}
	s.part()
}

// gapped reports whether every part that came is parted from the next by units
// that no item covers: then they, and no limit, may be why.
func (s *search) gapped() bool {
	for i := 1; i < len(s.given); i++ {
		if s.given[i].From <= s.given[i-1].To {
			return false
		}
	}
	return true
}

// limit finds the most units that come at once: good do, bad do not.
func (s *search) limit(good, bad int) {
	var from Run // a run without a hole, in which lengths can be tried
	for _, r := range s.failed {
		if s.holed(r) {
			continue
		}
		if from.Len() == 0 || r.Len() < from.Len() {
			from = r
		}
	}
	for from.Len() > 0 && good+1 < bad && !s.lost {
		n := (good + bad) / 2
		if n > from.Len() {
			break
		}
		if s.try(Run{from.From, from.From + uint32(n)}) {
			good = n
		} else {
			bad = n
		}
	}
	if good > 0 {
		s.facts.Most = good
	}
}

func (s *search) holed(r Run) bool {
	return slices.ContainsFunc(s.facts.Holes, func(h Run) bool { return r.From < h.To && h.From < r.To })
}

// part joins neighbours that can be read together, and keeps the places at
// which they cannot: units between them that no item needs are a hole, and
// where there are none it is a cut.
func (s *search) part() {
	if len(s.given) == 0 {
		return
	}
	at := s.given[0]
	for _, next := range s.given[1:] {
		whole := join(at, next)
		if s.holed(whole) {
			at = next
			continue
		}
		known := slices.Contains(s.failed, whole)
		if !known && s.try(whole) {
			at = whole
			continue
		}
		if s.lost {
			return
		}
		if next.From > at.To {
			s.facts.Holes = append(s.facts.Holes, Run{at.To, next.From})
		} else {
			s.facts.Cuts = append(s.facts.Cuts, next.From)
		}
		at = next
	}
}
