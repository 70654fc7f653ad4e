package pairing

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/unit"
)

// Run is pairs that follow each other: of one kind, each one further on both shores.
type Run struct {
	// First is which of the pairs it begins with, Count how many it has.
	First int `json:"first"`
	Count int `json:"count"`
	// Title names its ends: "bi3 … bi10 → GGIO1.Ind1 … Ind8".
	Title string `json:"title"`
	// Shift is by how much the number on the far shore is greater; Better by how much further on the
	// near one it would have to begin to fit, 0 where it is well, and Sentence says why.
	Shift int `json:"shift"`
	// Sorted is set where both ends tell what their points are.
	Sorted   bool   `json:"sorted,omitempty"`
	Better   int    `json:"better,omitempty"`
	Sentence string `json:"sentence,omitempty"`
	// Near and Far are where it would begin then.
	Near string `json:"near,omitempty"`
	Far  string `json:"far,omitempty"`
}

// sorts are the kinds of the sorts that protocols tell.
var sorts = map[protocol.Sort]Kind{protocol.SingleSort: State, protocol.DoubleSort: Double,
	protocol.MeasuredSort: Number, protocol.CounterSort: Total, protocol.CommandSort: Command,
	protocol.SetpointSort: Setpoint, protocol.TextSort: Text, protocol.TimeSort: Time, protocol.EnumSort: Word,
	protocol.OwnSort: Own}

// sortOf is the kind of a point by its protocol; ok is false where that does not tell.
func sortOf(d *site.Device, p *site.Point) (k Kind, ok bool) {
	def, _ := protocol.Named(cmp.Or(p.Map, d.Map))
	sort, tells := def.SortOf(p.Address, p.Type)
	return sorts[sort], tells
}

// tells reports whether the protocol of a device tells the sorts of its points.
func tells(d *site.Device) bool {
	for i := range d.Points {
		_, ok := sortOf(d, &d.Points[i])
		return ok
	}
	return false
}

// turned reports whether a pair goes from the far shore to this one: a command that arrives there is
// carried on to what is operated here.
func turned(near, far *Candidate) bool {
	return near.sorted && far.sorted && (near.Kind == Command || near.Kind == Setpoint) && near.Kind == far.Kind
}

// number is that by which a candidate stands in a row with others: the last in its address, or in its
// name where the address has none of its own; -1 for none.
func (c *Candidate) number() int {
	if c.kinds {
		return lastNumber(c.Address)
	}
	return lastNumber(c.Name)
}

// lastNumber is the number that stands last in a text; -1 for none.
func lastNumber(text string) int {
	end := strings.LastIndexAny(text, "0123456789")
	if end < 0 {
		return -1
	}
	from := end
	for from > 0 && text[from-1] >= '0' && text[from-1] <= '9' {
		from--
	}
	n, err := strconv.Atoi(text[from : end+1])
	if err != nil {
		return -1
	}
	return n
}

// before is what stands before the number.
func (c *Candidate) before() string {
	text := c.Name
	if c.kinds {
		text = c.Address
	}
	if n := c.number(); n >= 0 {
		if at := strings.LastIndex(text, strconv.Itoa(n)); at >= 0 {
			return text[:at]
		}
	}
	return text
}

// runs finds the runs of pairs. all are the points of the near shore that a run might have begun with
// instead.
func runs(pairs []Pair, all []Candidate) (list []Run) {
	for i := 0; i < len(pairs); {
		p := &pairs[i]
		if p.near == nil || p.far == nil || !p.near.sorted || !p.far.sorted || p.near.number() < 0 || p.far.number() < 0 {
			list, i = append(list, Run{First: i, Count: 1, Title: p.FromName + " → " + p.ToName}), i+1
			continue
		}
		n := 1
		for i+n < len(pairs) && follows(&pairs[i+n-1], &pairs[i+n]) {
			n++
		}
		r := Run{First: i, Count: n, Sorted: true, Shift: p.far.number() - p.near.number(), Title: titleOf(pairs[i : i+n])}
		for k := range n {
			shift := r.Shift
			pairs[i+k].Shift = &shift
		}
		var begins *Candidate
		if r.Better, r.Sentence, begins = better(pairs[i:i+n], all); begins != nil {
			r.Near, r.Far = begins.ID, p.far.ID
		}
		list, i = append(list, r), i+n
	}
	return list
}

// follows reports whether a pair is one further than another on both shores.
func follows(before, p *Pair) bool {
	return p.near != nil && p.far != nil && before.near.Kind == p.near.Kind && before.near.of == p.near.of &&
		before.far.of == p.far.of && before.near.before() == p.near.before() && before.far.before() == p.far.before() &&
		p.near.number()-before.near.number() == 1 && p.far.number()-before.far.number() == 1
}

func titleOf(pairs []Pair) string {
	side := func(of func(*Pair) *Candidate) string {
		first, last := of(&pairs[0]), of(&pairs[len(pairs)-1])
		text := func(c *Candidate) string {
			if c.kinds {
				return c.Address
			}
			return c.Name
		}
		if len(pairs) == 1 {
			return text(first)
		}
		return text(first) + " … " + strconv.Itoa(last.number())
	}
	return side(func(p *Pair) *Candidate { return p.near }) + " → " + side(func(p *Pair) *Candidate { return p.far })
}

// furthest is by how much a run is tried to begin otherwise.
const furthest = 4

// better finds by how much further on the near shore a run would have to begin to fit clearly better:
// by the units, and the words by which both ends call their points.
func better(pairs []Pair, all []Candidate) (by int, why string, begins *Candidate) {
	at := map[int]*Candidate{}
	first := pairs[0].near
	for i := range all {
		if c := &all[i]; c.of == first.of && c.Kind == first.Kind && c.before() == first.before() {
			at[c.number()] = c
		}
	}
	fit := func(shift int) (score float64, wrong *Pair, near *Candidate) {
		for i := range pairs {
			p := &pairs[i]
			c := at[p.near.number()+shift]
			if c == nil {
				score--
				continue
			}
			s := suits(c, p.far)
			if score += s; s < 0 && wrong == nil {
				wrong, near = p, c
			}
		}
		return score, wrong, near
	}
	is, wrong, near := fit(0)
	best := is
	for shift := -furthest; shift <= furthest; shift++ {
		score, bad, _ := fit(shift)
		if shift == 0 || bad != nil || wrong == nil && (len(pairs) < 3 || is > float64(len(pairs))/3) {
			continue // without units the words must say it clearly
		}
		if score > best+1 {
			best, by = score, shift
		}
	}
	if wrong == nil {
		wrong, near = &pairs[0], pairs[0].near
	}
	if by == 0 {
		return 0, "", nil
	}
	begins = at[first.number()+by]
	far := cmp.Or(wrong.far.says, wrong.far.Name)
	in := func(c *Candidate) string {
		if c.Unit == "" {
			return ""
		}
		return " in " + c.Unit
	}
	return by, fmt.Sprintf("%s is called %s%s, and %s%s would arrive there. Beginning at %s instead, units and names go together.",
		wrong.far.Name, far, in(wrong.far), near.Name, in(near), begins.Address), begins
}

// suits is how well two points go together: less than 0 where their units cannot, more where units and
// words agree.
func suits(near, far *Candidate) (score float64) {
	if near.Unit != "" && far.Unit != "" {
		if _, err := unit.Between(near.Unit, far.Unit); near.Unit != far.Unit && err != nil {
			return -2
		}
		score = 1
	}
	a, b := wordsOf(near.Device, near.Name, true), wordsOf(far.Device, cmp.Or(far.says, far.Name), false)
	return score + a.like(b)
}

// Check finds what is wrong with crossings between points whose protocols tell their sorts: those of
// another sort, and runs that are moved against each other.
func Check(s *site.Site) (found []finding.Finding) {
	points := map[string]Candidate{}
	wanted := map[string]bool{}
	for i := range s.Crossings {
		if x := &s.Crossings[i]; x.From != "" {
			wanted[x.From], wanted[x.To] = true, true
		}
	}
	var all []Candidate
	for i := range s.Devices {
		d := &s.Devices[i]
		if !tells(d) {
			continue
		}
		for j := range d.Points {
			p := &d.Points[j]
			k, _ := sortOf(d, p)
			c := candidate(d, p, k)
			if c.sorted, c.says = true, p.Remark; wanted[p.ID] {
				points[p.ID] = c
			}
			all = append(all, c)
		}
	}
	var pairs []Pair
	for i := range s.Crossings {
		x := &s.Crossings[i]
		from, known := points[x.From]
		to, also := points[x.To]
		if !known || !also || len(x.More) > 0 {
			continue
		}
		if from.Kind != to.Kind {
			found = append(found, finding.Finding{Code: "sorts-differ", Severity: finding.Fault, Sure: 0.95,
				Subject: finding.Subject{Kind: "crossing", ID: x.ID, Device: to.of.ID, Name: to.Name},
				Title:   "It carries into another kind of point",
				Sentence: fmt.Sprintf("%s (%s) is one of the %s, and %s (%s) one of the %s.", from.Name, from.Address,
					from.Kind, to.Name,
					to.Address, to.Kind),
				Remedy: "Pair it with a point of its own kind."})
			continue
		}
		pairs = append(pairs, Pair{From: x.From, To: x.To, Crossing: *x, near: &from, far: &to})
	}
	slices.SortStableFunc(pairs, func(a, b Pair) int {
		return cmp.Or(cmp.Compare(a.near.of.ID, b.near.of.ID), cmp.Compare(a.far.of.ID, b.far.of.ID),
			cmp.Compare(a.near.before(), b.near.before()), cmp.Compare(a.near.number(), b.near.number()))
	})
	for _, r := range runs(pairs, all) {
		if r.Better == 0 {
			continue
		}
		p := &pairs[r.First]
		found = append(found, finding.Finding{Code: "run-moved", Severity: finding.Fault, Sure: 0.85, Count: r.Count,
			Subject: finding.Subject{Kind: "crossing", ID: p.Crossing.ID, Device: p.far.of.ID, Name: p.far.Name},
			Title:   fmt.Sprintf("A run of pairs is moved by %d", max(r.Better, -r.Better)), Sentence: r.Title + ": " +
				r.Sentence, Remedy: "Undo the pairing of this run, and pair it in order from the other start."})
	}
	return found
}

// aligned pairs candidates of one kind by their numbers: those of the far shore that have one name
// before them with a run of the near one, by one offset. It is that of the first with the first where a
// start was chosen, else that by which most of them suit each other.
func aligned(near, far []*Candidate, chosen bool) (pairs [][2]*Candidate) {
	used := map[*Candidate]bool{}
	for i := 0; i < len(far); {
		n := 1
		for i+n < len(far) && far[i+n].of == far[i].of && far[i+n].before() == far[i].before() {
			n++
		}
		group := far[i : i+n]
		if i += n; group[0].number() < 0 {
			continue
		}
		var best [][2]*Candidate
		bestScore := 0.0
		for k, start := range near {
			if used[start] || start.number() < 0 || k > 0 && chosen {
				continue
			}
			couples, score := byOffset(near, group, start, used)
			if score -= float64(k) / 1e6; best == nil || score > bestScore { // the first of those that suit alike
				best, bestScore = couples, score
			}
		}
		if !chosen && group[0].says != "" && bestScore < leastSuits*float64(len(best)) {
			continue // they are called otherwise: a person says so, if it is meant
		}
		for _, c := range best {
			used[c[0]] = true
		}
		if pairs = append(pairs, best...); chosen {
			break
		}
	}
	return pairs
}

// leastSuits is how well the pairs of a run must suit each other on the whole to be proposed unasked,
// where both ends call their points something.
const leastSuits = 0.3

// byOffset pairs a group with those of the near shore that stand by one offset from a start on, and says
// how well they suit.
func byOffset(near, group []*Candidate, start *Candidate, used map[*Candidate]bool) (couples [][2]*Candidate,
	score float64) {
	at := map[int]*Candidate{}
	for _, c := range near {
		if c.of == start.of && c.before() == start.before() && !used[c] {
			at[c.number()] = c
		}
	}
	for _, f := range group {
		if c := at[start.number()+f.number()-group[0].number()]; c != nil {
			couples = append(couples, [2]*Candidate{c, f})
			score += suits(c, f)
		}
	}
	return couples, score
}
