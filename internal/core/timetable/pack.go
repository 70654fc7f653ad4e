// Package timetable compiles the points of a site into requests and says what
// they cost: how long each takes, how full each connection is, and whether
// every pace holds.
package timetable

import (
	"cmp"
	"context"
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
	// Even makes every request begin at an even unit and ask for an even
	// number of them.
	Even bool
	// Forbidden are runs of units that no request may cover, From to To
	// exclusive.
	Forbidden []Item
	// Context gives the search for something better up when it ends; nil for
	// never. What is packed is right all the same.
	Context context.Context
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
// may ride in a faster request. Where a gap costs more than another request,
// what lies on its two sides is independent; within such an island all choices
// are tried while they are few, and after that single items, runs of them and
// whole requests are moved while it pays. Items longer than Most are left out.
func Pack(items []Item, rules Rules) []Span { return pack(items, rules, exhaustive) }

func pack(items []Item, rules Rules, tryAll int) []Span {
	order := make([]int, 0, len(items))
	for i, it := range items {
		if it.To > it.From && rules.width(it.From, it.To) <= rules.Most && !rules.forbids(it.From, it.To) {
			order = append(order, i)
		}
	}
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Or(cmp.Compare(items[a].From, items[b].From), cmp.Compare(items[a].To, items[b].To))
	})
	gap := rules.bridge()
	p := packer{items: items, rules: rules, pace: make([]int, len(items)), costs: make([]float64, rules.Most+2)}
	for n := range p.costs {
		p.costs[n] = rules.Cost(max(1, n))
	}
	for i, it := range items {
		p.pace[i] = it.PaceMs
	}
	var spans []Span
	for from := 0; from < len(order); {
		to, reach := from+1, items[order[from]].To
		for to < len(order) && (items[order[to]].From <= reach || int(items[order[to]].From-reach) <= gap) {
			reach = max(reach, items[order[to]].To)
			to++
		}
		spans = append(spans, p.island(order[from:to], tryAll)...)
		from = to
	}
	slices.SortStableFunc(spans, func(a, b Span) int { return cmp.Compare(weight(a.PaceMs), weight(b.PaceMs)) })
	return spans
}

// width is how many units a request for a run has to ask for.
func (r *Rules) width(from, to uint32) int {
	if r.Even {
		from, to = from&^1, (to+1)&^1
	}
	return int(to - from)
}

func (r *Rules) forbids(from, to uint32) bool {
	return slices.ContainsFunc(r.Forbidden, func(f Item) bool { return f.From < to && from < f.To })
}

// bridge is the widest gap that can ever be worth reading over: beyond it, two
// requests cost less than one, whatever else is in them.
func (r *Rules) bridge() int {
	if r.NoBridging {
		return 1 // with Even, a request may reach over one unit
	}
	// Two requests of a and b units cost no more than one of a, the gap and b
	// where the cost is linear; it is where it matters, so its slope decides.
	fixed, slope := r.Cost(1), (r.Cost(r.Most)-r.Cost(1))/max(1, float64(r.Most-1))
	if slope <= 0 {
		return r.Most
	}
	return min(r.Most, int(2*fixed/slope)+16)
}

// island packs items, in the order of their starts, that may share requests.
func (p *packer) island(order []int, tryAll int) (spans []Span) {
	p.order, p.paces = order, p.paces[:0]
	for _, i := range order {
		if !slices.Contains(p.paces, p.items[i].PaceMs) {
			p.paces = append(p.paces, p.items[i].PaceMs)
		}
	}
	slices.SortFunc(p.paces, func(a, b int) int { return cmp.Compare(weight(a), weight(b)) })
	if len(p.paces) > 1 {
		if p.choices(tryAll) <= tryAll {
			p.tryAll()
		} else {
			p.improve()
		}
	}
	for _, pace := range p.paces {
		spans = append(spans, p.group(pace)...)
	}
	return spans
}

type packer struct {
	items []Item
	rules Rules
	order []int     // indices of the items by start
	pace  []int     // the pace at which each item is read, at least its own
	paces []int     // all paces, the fastest first
	costs []float64 // of a request, by its units
	// of the last division
	members []int
	best    []float64
	cut     []int
	reach   []uint32
}

// divide finds the cheapest division of the items that are read at one pace,
// and returns its cost per millisecond of time. p.members, p.cut and p.reach
// then tell it.
func (p *packer) divide(pace int) float64 {
	members := p.members[:0]
	for _, i := range p.order {
		if p.pace[i] == pace {
			members = append(members, i)
		}
	}
	p.members = members
	n := len(members)
	if n == 0 {
		return 0
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
			it := &p.items[members[i]]
			if p.rules.NoBridging && it.From > to {
				break
			}
			to = max(to, it.To)
			width := p.rules.width(from, to)
			if width > p.rules.Most || len(p.rules.Forbidden) > 0 && p.rules.forbids(from, to) {
				break
			}
			if cost := p.best[j] + p.costs[width]; cost < p.best[i+1] {
				p.best[i+1], p.cut[i+1], p.reach[i+1] = cost, j, to
			}
		}
	}
	return p.best[n] / weight(pace)
}

// group returns the spans of the cheapest division of one pace.
func (p *packer) group(pace int) []Span {
	p.divide(pace)
	members, n := p.members, len(p.members)
	var spans []Span
	for end := n; end > 0; end = p.cut[end] {
		chosen := slices.Clone(members[p.cut[end]:end])
		span := Span{From: p.items[chosen[0]].From, To: p.reach[end], PaceMs: pace, Items: chosen}
		covered := span.From
		for _, i := range chosen {
			span.Unused += int(max(p.items[i].From, covered) - covered)
			covered = max(covered, p.items[i].To)
		}
		if p.rules.Even {
			span.Unused += int(span.From&1) + int(span.To&1)
			span.From, span.To = span.From&^1, (span.To+1)&^1
		}
		slices.Sort(span.Items)
		spans = append(spans, span)
	}
	slices.Reverse(spans)
	return spans
}

func (p *packer) cost() (total float64) {
	for _, pace := range p.paces {
		total += p.divide(pace)
	}
	return total
}

// choices counts the ways to give each item its own pace or a faster one.
func (p *packer) choices(most int) int {
	ways := 1
	for _, i := range p.order {
		ways *= slices.Index(p.paces, p.items[i].PaceMs) + 1
		if ways > most {
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
// that a faster request covers anyway, then whole requests, then runs of items
// and back again. From whatever each pace alone costs it only goes down.
func (p *packer) improve() {
	for slow := 1; slow < len(p.paces); slow++ {
		for fast := range slow {
			spans := p.group(p.paces[fast])
			p.ride(spans, p.paces[slow], p.paces[fast])
		}
	}
	for slow := 1; slow < len(p.paces); slow++ {
		spans := p.group(p.paces[slow])
		for _, span := range spans {
			if p.rules.Context != nil && p.rules.Context.Err() != nil {
				return
			}
			for fast := range slow {
				if p.move(span.Items, p.paces[fast]) {
					break
				}
			}
		}
	}
	if len(p.order) > searched {
		return
	}
	for range 4 {
		if !p.search() {
			return
		}
	}
}

// searched is the most items of an island for which runs are tried one by one.
const searched = 24

// longestRun is how many neighbours are moved together.
const longestRun = 4

// search tries every run of neighbours at every pace it may have, and reports
// whether one was worth it.
func (p *packer) search() (better bool) {
	for length := 1; length <= longestRun; length++ {
		for at := 0; at+length <= len(p.order); at++ {
			for _, pace := range p.paces {
				better = p.move(p.order[at:at+length], pace) || better
			}
		}
	}
	return better
}

// move gives those items a pace that may have it, and takes it back if the cost
// does not fall.
func (p *packer) move(run []int, pace int) bool {
	affected := []int{pace}
	before := make([]int, len(run))
	for k, i := range run {
		if before[k] = p.pace[i]; !slices.Contains(affected, p.pace[i]) {
			affected = append(affected, p.pace[i])
		}
	}
	if len(affected) == 1 {
		return false
	}
	whole := p.order
	if len(whole) > nearby {
		p.order = p.around(run)
		defer func() { p.order = whole }()
	}
	cost := func() (total float64) {
		for _, each := range affected {
			total += p.divide(each)
		}
		return total
	}
	was := cost()
	for _, i := range run {
		if weight(p.items[i].PaceMs) >= weight(pace) {
			p.pace[i] = pace
		}
	}
	if cost() < was-1e-12 {
		return true
	}
	for k, i := range run {
		p.pace[i] = before[k]
	}
	return false
}

// nearby is the most items of an island that are all weighed when some of them
// move. Of a longer one only those within three requests of them are: further
// off, the division hardly changes.
const nearby = 512

// around returns the items of the island within three requests of a run.
func (p *packer) around(run []int) []int {
	first, last := p.items[run[0]].From, p.items[run[0]].To
	for _, i := range run {
		first, last = min(first, p.items[i].From), max(last, p.items[i].To)
	}
	reach := 3 * uint32(p.rules.Most)
	first -= min(first, reach)
	start := func(i int, at uint32) int { return cmp.Compare(p.items[i].From, at) }
	from, _ := slices.BinarySearchFunc(p.order, first, start)
	to, _ := slices.BinarySearchFunc(p.order, last+reach, start)
	return p.order[from:to]
}

func (p *packer) ride(spans []Span, slow, fast int) {
	for _, i := range p.order {
		if p.pace[i] != slow {
			continue
		}
		at, _ := slices.BinarySearchFunc(spans, p.items[i].From,
			func(s Span, from uint32) int { return cmp.Compare(s.To, from+1) })
		if at < len(spans) && spans[at].From <= p.items[i].From && p.items[i].To <= spans[at].To {
			p.pace[i] = fast
		}
	}
}
