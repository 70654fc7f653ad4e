// Package timetable compiles the points of a site into requests and says what
// they cost: how long each takes, how full each connection is, and whether
// every pace holds.
package timetable

import (
	"cmp"
	"math"
	"slices"
)

// Item is one value to be read: a run of units of one area that must arrive in
// one request, because half of it may belong to another moment.
type Item struct {
	From uint32
	To   uint32 // exclusive
	// PaceMs is the pace in milliseconds, 0 for once.
	PaceMs int
}

// Span is one request of a packing.
type Span struct {
	From, To uint32 // units, To exclusive
	PaceMs   int    // pace of its fastest item
	Items    []int  // indices into the items packed, ascending
	// Unused counts the units that no item covers.
	Unused int
}

// Rules bound a packing.
type Rules struct {
	// Most is the most units of one request.
	Most int
	// NoBridging forbids to read units that no item covers.
	NoBridging bool
	// Cost is what a request for a number of units costs, in milliseconds. It
	// must not fall as the units grow.
	Cost func(units int) float64
}

// onceWeightMs weighs the cost of a read that happens once against those that
// repeat: as if it came once an hour.
const onceWeightMs = 3600_000

func weight(paceMs int) float64 {
	if paceMs == 0 {
		return onceWeightMs
	}
	return float64(paceMs)
}

// exhaustive is the number of ways in which slower items may ride with faster
// ones up to which Pack tries them all.
const exhaustive = 2048

// Pack returns the requests that cover every item at least at its pace at the
// least cost per second. For items of one pace the result is optimal: spans
// that follow each other in the order of their starts suffice, and the best
// division is found by dynamic programming. With several paces a slower item
// may ride in a faster request; all such choices are tried while they are few,
// after that whole requests and items already covered are moved while it pays.
// Items longer than Most are left out.
func Pack(items []Item, rules Rules) []Span {
	p := packer{items: items, rules: rules, order: make([]int, 0, len(items)), pace: make([]int, len(items))}
	for i, it := range items {
		p.pace[i] = it.PaceMs
		if it.To > it.From && int(it.To-it.From) <= rules.Most {
			p.order = append(p.order, i)
			if !slices.Contains(p.paces, it.PaceMs) {
				p.paces = append(p.paces, it.PaceMs)
			}
		}
	}
	slices.SortStableFunc(p.order, func(a, b int) int {
		return cmp.Or(cmp.Compare(items[a].From, items[b].From), cmp.Compare(items[a].To, items[b].To))
	})
	slices.SortFunc(p.paces, func(a, b int) int { return cmp.Compare(weight(a), weight(b)) })
	if len(p.paces) > 1 {
		if p.choices() <= exhaustive {
			p.tryAll()
		} else {
			p.improve()
		}
	}
	var spans []Span
	for _, pace := range p.paces {
		group, _ := p.group(pace)
		spans = append(spans, group...)
	}
	return spans
}

type packer struct {
	items []Item
	rules Rules
	order []int // indices of the items by start
	pace  []int // the pace at which each item is read, at least its own
	paces []int // all paces, the fastest first
	best  []float64
	cut   []int
	reach []uint32
}

// group packs the items that are read at one pace, optimally, and returns the
// spans and their cost per millisecond of time.
func (p *packer) group(pace int) ([]Span, float64) {
	members := make([]int, 0, len(p.order))
	for _, i := range p.order {
		if p.pace[i] == pace {
			members = append(members, i)
		}
	}
	n := len(members)
	if n == 0 {
		return nil, 0
	}
	p.best = slices.Grow(p.best[:0], n+1)[:n+1]
	p.cut = slices.Grow(p.cut[:0], n+1)[:n+1]
	p.reach = slices.Grow(p.reach[:0], n+1)[:n+1]
	for i := range p.best {
		p.best[i] = math.Inf(1)
	}
	p.best[0] = 0
	for j := range n {
		from := p.items[members[j]].From
		to := from
		for i := j; i < n; i++ {
			it := p.items[members[i]]
			if p.rules.NoBridging && it.From > to {
				break
			}
			to = max(to, it.To)
			if int(to-from) > p.rules.Most {
				break
			}
			if cost := p.best[j] + p.rules.Cost(int(to-from)); cost < p.best[i+1] {
				p.best[i+1], p.cut[i+1], p.reach[i+1] = cost, j, to
			}
		}
	}
	var spans []Span
	for end := n; end > 0; end = p.cut[end] {
		chosen := slices.Clone(members[p.cut[end]:end])
		span := Span{From: p.items[chosen[0]].From, To: p.reach[end], PaceMs: pace, Items: chosen}
		covered := span.From
		for _, i := range chosen {
			span.Unused += int(max(p.items[i].From, covered) - covered)
			covered = max(covered, p.items[i].To)
		}
		slices.Sort(span.Items)
		spans = append(spans, span)
	}
	slices.Reverse(spans)
	return spans, p.best[n] / weight(pace)
}

func (p *packer) cost() (total float64) {
	for _, pace := range p.paces {
		_, c := p.group(pace)
		total += c
	}
	return total
}

// choices counts the ways to give each item its own pace or a faster one.
func (p *packer) choices() int {
	ways := 1
	for _, i := range p.order {
		ways *= slices.Index(p.paces, p.items[i].PaceMs) + 1
		if ways > exhaustive {
			break
		}
	}
	return ways
}

func (p *packer) tryAll() {
	best := slices.Clone(p.pace)
	least := math.Inf(1)
	var choose func(k int)
	choose = func(k int) {
		if k == len(p.order) {
			if c := p.cost(); c < least-1e-12 {
				least = c
				copy(best, p.pace)
			}
			return
		}
		i := p.order[k]
		own := p.items[i].PaceMs
		for at := slices.Index(p.paces, own); at >= 0; at-- {
			p.pace[i] = p.paces[at]
			choose(k + 1)
		}
		p.pace[i] = own
	}
	choose(0)
	copy(p.pace, best)
}

// improve moves slower items into faster requests while that pays: first those
// that a faster request covers anyway, then the items of whole requests.
func (p *packer) improve() {
	for slow := 1; slow < len(p.paces); slow++ {
		for fast := range slow {
			spans, _ := p.group(p.paces[fast])
			p.ride(spans, p.paces[slow], p.paces[fast])
		}
	}
	for slow := 1; slow < len(p.paces); slow++ {
		spans, slowCost := p.group(p.paces[slow])
		for _, span := range spans {
			for fast := range slow {
				_, fastCost := p.group(p.paces[fast])
				for _, i := range span.Items {
					p.pace[i] = p.paces[fast]
				}
				_, fastAfter := p.group(p.paces[fast])
				_, slowAfter := p.group(p.paces[slow])
				if fastAfter+slowAfter < fastCost+slowCost-1e-12 {
					slowCost = slowAfter
					break
				}
				for _, i := range span.Items {
					p.pace[i] = p.paces[slow]
				}
			}
		}
	}
}

func (p *packer) ride(spans []Span, slow, fast int) {
	for _, i := range p.order {
		if p.pace[i] != slow {
			continue
		}
		at, _ := slices.BinarySearchFunc(spans, p.items[i].From, func(s Span, from uint32) int { return cmp.Compare(s.To, from+1) })
		if at < len(spans) && spans[at].From <= p.items[i].From && p.items[i].To <= spans[at].To {
			p.pace[i] = fast
		}
	}
}
