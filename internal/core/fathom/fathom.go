// Package fathom finds out what a device's registers really hold: from raw
// words and what a person reads on the device's own display it ranks the
// address, type, order and scale that explain them.
//
// The ranking is Bayesian. An explanation gains by what it explains: the less
// likely it is that words of no meaning would show the reading by chance, the
// more. It loses by being far-fetched: a rare type, an odd order, a scale that
// nobody uses, a place far from where the map says. What remains, against all
// other explanations and against there being none, is how sure Fathom is.
package fathom

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/value"
)

// Reading is what a person saw on a display.
type Reading struct {
	// Moment is the index of the words that were read at that time.
	Moment int `json:"moment"`
	// Point tells readings of several points apart; readings of one point
	// share it.
	Point string `json:"point,omitempty"`
	// Shows is the reading as it stands on the display: a number, a text, a
	// state, a time.
	Shows string `json:"shows"`
	// Within is the tolerance of a number; 0 takes half of the last digit, and
	// a minute for a time.
	Within float64 `json:"within,omitempty"`
	// At is where the map says the value is: the word counted from the first,
	// which may lie outside the words.
	At *int `json:"at,omitempty"`
	// Type and Order are how the map reads the value; an empty Type says
	// nothing. One mistake is likelier than two.
	Type  value.Type  `json:"type,omitempty"`
	Order value.Order `json:"order,omitempty"`
}

// Query asks what words mean. All moments hold the same registers.
type Query struct {
	Moments  [][]uint16 `json:"moments"`
	Readings []Reading  `json:"readings"`
}

// Candidate is one explanation.
type Candidate struct {
	// At is the word counted from the first, Bit the bit in it or -1.
	At     int         `json:"at"`
	Bit    int         `json:"bit"`
	Type   value.Type  `json:"type"`
	Length int         `json:"length,omitempty"`
	Order  value.Order `json:"order"`
	// The value is raw × Scale + Offset.
	Scale  float64 `json:"scale"`
	Offset float64 `json:"offset"`
	// Names are the states that an enumeration was seen in.
	Names []State `json:"names,omitempty"`
	// Values are what the words mean at the moment of each reading.
	Values []value.Value `json:"values"`
	// Fits is false where a value is near its reading, but outside the
	// tolerance.
	Fits bool `json:"fits"`
	// Sure is from 0 to 1. Where a number reads the same signed and unsigned, it
	// is that of both together.
	Sure float64 `json:"sure"`

	point  string
	weight float64 // bits
	place  float64 // what its place cost of them
}

// State is a value of an enumeration with what the display said.
type State struct {
	Value int64  `json:"value"`
	Name  string `json:"name"`
}

// Answer ranks the explanations, the best first.
type Answer struct {
	Candidates []Candidate `json:"candidates"`
	// Ask says which further reading would decide between the best two; empty
	// where the best is beyond doubt or there is none.
	Ask string `json:"ask"`
}

// Bounds of a query.
const (
	MostWords    = 4096
	MostReadings = 64
	kept         = 12 // candidates returned
)

// Search ranks the explanations of the first point's readings; the readings of
// other points bear on it, because the points of a device share their order and
// their shift. It fails if a reading belongs to no moment.
func Search(q *Query) (*Answer, error) {
	if err := q.check(); err != nil {
		return nil, err
	}
	groups := q.groups()
	found := make([][]Candidate, len(groups))
	for i := range groups {
		found[i] = q.explain(groups[i])
	}
	q.widen(found[0])
	for i := range found[0] {
		c := &found[0][i]
		for k := 1; k < len(groups); k++ {
			c.weight += agreement(c, groups[0], found[k], groups[k])
		}
	}
	return rank(found[0], groups[0]), nil
}

func (q *Query) check() error {
	if len(q.Moments) == 0 || len(q.Moments[0]) == 0 {
		return fmt.Errorf("there are no words: give at least one, as four hexadecimal digits")
	}
	for _, words := range q.Moments {
		if len(words) != len(q.Moments[0]) || len(words) > MostWords {
			return fmt.Errorf("every moment needs the same registers, at most %d", MostWords)
		}
	}
	if len(q.Readings) == 0 || len(q.Readings) > MostReadings {
		return fmt.Errorf("give 1 to %d readings", MostReadings)
	}
	for i := range q.Readings {
		r := &q.Readings[i]
		if r.Moment < 0 || r.Moment >= len(q.Moments) {
			return fmt.Errorf("reading %q belongs to moment %d, and there are %d", r.Shows, r.Moment+1, len(q.Moments))
		}
		if strings.TrimSpace(r.Shows) == "" || math.IsNaN(r.Within) || r.Within < 0 {
			return fmt.Errorf("reading %d is empty, or its tolerance is no number above 0", i+1)
		}
	}
	return nil
}

// seen is a reading as it was understood.
type seen struct {
	*Reading
	number float64
	within float64
}

// kind says what the readings of a point are.
type kind uint8

const (
	numbers kind = iota
	times
	switches // on and off
	words    // texts, or the names of states
)

type group struct {
	kind     kind
	readings []seen
}

// groups gathers the readings by point, in the order in which they were given.
func (q *Query) groups() []group {
	var groups []group
	at := map[string]int{}
	for i := range q.Readings {
		r := &q.Readings[i]
		k, ok := at[r.Point]
		if !ok {
			k = len(groups)
			at[r.Point] = k
			groups = append(groups, group{})
		}
		groups[k].readings = append(groups[k].readings, seen{Reading: r})
	}
	for i := range groups {
		groups[i].understand()
	}
	return groups
}

// understand decides what the readings of a point are: what all of them can be.
func (g *group) understand() {
	all := func(can func(*seen) bool) bool {
		for i := range g.readings {
			if !can(&g.readings[i]) {
				return false
			}
		}
		return true
	}
	switch {
	case all(asNumber):
		g.kind = numbers
	case all(asTime):
		g.kind = times
	case all(asSwitch):
		g.kind = switches
	default:
		g.kind = words
	}
}

func asNumber(s *seen) bool {
	text := strings.TrimSpace(s.Shows)
	f, err := value.ParseFloat(text)
	if err != nil {
		return false
	}
	s.number, s.within = f, s.Within
	if s.within == 0 {
		s.within = 0.5
		if _, after, ok := strings.Cut(strings.Replace(text, ",", ".", 1), "."); ok {
			digits := 0
			for digits < len(after) && after[digits] >= '0' && after[digits] <= '9' {
				digits++
			}
			s.within = 0.5 * math.Pow10(-digits)
		}
	}
	// What is shown is itself rounded from a binary fraction.
	s.within *= 1 + 1e-9
	s.within += math.Abs(f) * 1e-9
	return true
}

func asTime(s *seen) bool {
	v, err := value.ParseMoment(s.Shows)
	if err != nil {
		return false
	}
	s.number, s.within = v.Float(), cmp.Or(s.Within, 60)
	return true
}

func asSwitch(s *seen) bool {
	v, err := value.Parse(s.Shows, value.TypeBool)
	if v.Bool() {
		s.number = 1
	}
	return err == nil
}

// explain lists every explanation of one point's readings with its weight.
func (q *Query) explain(g group) []Candidate {
	s := search{query: q, group: g}
	switch g.kind {
	case numbers:
		s.numbers()
	case times:
		s.times()
	case switches:
		s.switches()
		s.states()
	case words:
		s.texts()
		s.states()
	}
	return s.found
}

type search struct {
	query *Query
	group group
	found []Candidate
	raws  []value.Value
	octet []byte
}

// place is what the place of a value costs, in bits: where the map says is the
// likeliest, one beside it next.
func (s *search) place(at int) float64 {
	count := math.Log2(float64(len(s.query.Moments[0])) + 1)
	for i := range s.group.readings {
		if said := s.group.readings[i].At; said != nil {
			switch shift := abs(at - *said); {
			case shift == 0:
				return 0.5
			case shift == 1:
				return 2.5
			case shift == 2:
				return 5
			default:
				return 3 + count
			}
		}
	}
	return count
}

// departure is what it costs to suppose that the map reads the value wrongly.
func (s *search) departure(c *Candidate) (cost float64) {
	r := s.group.readings[0]
	if r.Type == "" {
		return 0
	}
	said := Candidate{Type: r.Type, Order: r.Order, Length: c.Length}
	if c.Type != r.Type {
		cost += 1.5
	}
	if !sameOrder(c, &said) {
		cost += 2
	}
	return cost
}

func abs(n int) int {
	if n < 0 {
		return -n
	}
	return n
}

// decode reads one codec at one place for the moment of every reading.
func (s *search) decode(codec *value.Codec, at int) bool {
	s.raws = s.raws[:0]
	units := (codec.Width() + 1) / 2
	if cap(s.octet) < 2*units {
		s.octet = make([]byte, 2*units)
	}
	for i := range s.group.readings {
		words := s.query.Moments[s.group.readings[i].Moment][at : at+units]
		b := s.octet[:2*units]
		for k, w := range words {
			b[2*k], b[2*k+1] = byte(w>>8), byte(w)
		}
		raw, err := codec.Decode(b, value.Value{})
		if err != nil {
			return false
		}
		s.raws = append(s.raws, raw)
	}
	return true
}

// keep adds an explanation that costs so many bits and gains so many.
func (s *search) keep(c Candidate, cost, gain float64) {
	c.Values = slices.Clone(c.Values)
	c.place = s.place(c.At)
	c.weight = gain - cost - c.place - s.departure(&c)
	c.point = s.group.readings[0].Point
	s.found = append(s.found, c)
}

// agreement is what the readings of another point say for c, in bits: an
// explanation of theirs with the same shift and order exists, or none does.
func agreement(c *Candidate, own group, others []Candidate, other group) float64 {
	shift := func(c *Candidate, g group) (int, bool) {
		for i := range g.readings {
			if g.readings[i].At != nil {
				return c.At - *g.readings[i].At, true
			}
		}
		return 0, false
	}
	mine, known := shift(c, own)
	total := math.Exp2(-8)
	for i := range others {
		o := &others[i]
		w := o.weight
		if theirs, ok := shift(o, other); ok && known {
			if theirs != mine {
				w -= 8
			} else {
				w += o.place // one shift for both is paid for once
			}
		}
		if !sameOrder(c, o) {
			w -= 8
		}
		total += math.Exp2(min(w, 60))
	}
	return min(math.Log2(total), 40)
}

// sameOrder reports whether two explanations can be of one device: one of them
// has no order, or both follow the same rule for words and bytes.
func sameOrder(a, b *Candidate) bool {
	x, y := orderRule(a), orderRule(b)
	return x < 0 || y < 0 || x == y
}

// orderRule is the place of an order in value.Orders, -1 for a value of one
// word, whose order says nothing of words.
func orderRule(c *Candidate) int {
	width := c.Type.Bytes(c.Length)
	if width <= 2 || c.Type.IsText() {
		return -1
	}
	if c.Order == "" {
		return 0
	}
	return slices.Index(value.Orders(width), c.Order)
}

// nothing is the weight, in bits, of there being no explanation among those
// that Fathom knows.
const nothing = 3

// rank orders the explanations, works out how sure each is, and asks for what
// would decide between the best two.
func rank(found []Candidate, g group) *Answer {
	slices.SortStableFunc(found, func(a, b Candidate) int {
		return cmp.Or(cmp.Compare(b.weight, a.weight), cmp.Compare(a.At, b.At))
	})
	answer := &Answer{Candidates: []Candidate{}}
	if len(found) == 0 {
		answer.Ask = "Nothing here explains the reading. Read a wider window of the device, and check that the " +
			"display and the words are of the same moment."
		return answer
	}
	best := found[0].weight
	total := math.Exp2(nothing - best)
	for i := range found {
		total += math.Exp2(found[i].weight - best)
	}
	for i := range found[:min(len(found), kept)] {
		c := found[i]
		for k := range found[:min(len(found), 8*kept)] {
			// What reads the same signed and unsigned is as sure as both are.
			if k == i || signless(&c, &found[k]) {
				c.Sure += math.Exp2(found[k].weight-best) / total
			}
		}
		c.Sure = min(c.Sure, 1)
		answer.Candidates = append(answer.Candidates, c)
	}
	answer.Ask = ask(answer.Candidates, g)
	return answer
}

// signless reports whether two explanations differ in the sign of the type
// alone, and the readings do not show it.
func signless(a, b *Candidate) bool {
	if a.At != b.At || a.Bit != b.Bit || a.Order != b.Order || a.Scale != b.Scale || a.Offset != b.Offset ||
		a.Type == b.Type ||
		a.Type.IsFloat() || b.Type.IsFloat() || a.Type.Bytes(a.Length) != b.Type.Bytes(b.Length) || !a.Type.IsWhole() ||
		!b.Type.IsWhole() {
		return false
	}
	least, _ := a.Type.Range(a.Length)
	other, _ := b.Type.Range(b.Length)
	if least == 0 == (other == 0) {
		return false
	}
	for i := range a.Values {
		if a.Values[i].Float() != b.Values[i].Float() {
			return false
		}
	}
	return true
}

// wideTwin reports whether wide reads over two words what narrow reads in one of
// them, because the other stands at zero.
func wideTwin(narrow, wide *Candidate) bool {
	if narrow.Type.Bytes(narrow.Length) != 2 || wide.Type.Bytes(wide.Length) != 4 || narrow.Bit != wide.Bit ||
		narrow.Scale != wide.Scale || narrow.Offset != wide.Offset ||
		narrow.Type != value.TypeUint16 && narrow.Type != value.TypeInt16 ||
		wide.Type != value.TypeUint32 && wide.Type != value.TypeInt32 {
		return false
	}
	return (wide.Order == "" && narrow.At == wide.At+1 || wide.Order == "CDAB" && narrow.At == wide.At) &&
		narrow.Values[0].Float() == wide.Values[0].Float()
}

// widened is what it costs, in bits, to suppose that a word and the zero beside
// it are one number: small counters of two words are as usual as words beside
// which a register is always zero.
const widened = 1

// widen lets numbers of two words that read as one of them, the other standing
// at zero, weigh almost as much as that one: nothing tells them apart but where
// the map says the value is.
func (q *Query) widen(found []Candidate) {
	type place struct {
		at            int
		scale, offset float64
	}
	narrow := map[place]*Candidate{}
	for i := range found {
		c := &found[i]
		key := place{c.At, c.Scale, c.Offset}
		if (c.Type == value.TypeUint16 || c.Type == value.TypeInt16) && c.Order == "" && (narrow[key] == nil ||
			narrow[key].weight < c.weight) {
			narrow[key] = c
		}
	}
	for i := range found {
		wide := &found[i]
		if wide.Type != value.TypeUint32 && wide.Type != value.TypeInt32 {
			continue
		}
		for _, at := range []int{wide.At, wide.At + 1} {
			if n := narrow[place{at, wide.Scale, wide.Offset}]; n != nil && wideTwin(n, wide) {
				wide.weight = max(wide.weight, n.weight+n.place-wide.place-widened)
			}
		}
	}
}

// ask says which further reading would decide between the best two.
func ask(list []Candidate, g group) string {
	a := &list[0]
	for i := 1; i < len(list); i++ {
		b := &list[i]
		if narrow, wide := a, b; list[i].Sure > 0.05 && (wideTwin(a, b) || wideTwin(b, a)) {
			if wideTwin(b, a) {
				narrow, wide = b, a
			}
			return fmt.Sprintf("The register beside it stands at zero: %s over two registers and %s in one read the "+
				"same. A reading above %s would decide, or the number of registers in the manual.",
				wide.Type, narrow.Type, number(65535*narrow.Scale+narrow.Offset))
		}
	}
	if len(list) == 1 || list[1].Sure < 0.02 && a.Sure > 0.9 {
		if a.Sure > 0.9 {
			return ""
		}
		return "Take one more reading, at a moment at which the display shows another value: a second match would " +
			"settle it."
	}
	b := &list[1]
	if signless(a, b) && len(list) > 2 && list[2].Sure > 0.1 && !signless(a, &list[2]) {
		b = &list[2]
	}
	shown := g.readings[len(g.readings)-1].Shows
	switch {
	case g.kind == switches || g.kind == words:
		return "Take one more reading when the display shows another state, together with the words of that moment."
	case a.At == b.At && a.Order == b.Order && a.Type != b.Type && a.Type.Bytes(a.Length) == b.Type.Bytes(b.Length) &&
		a.Scale == b.Scale:
		least, greatest := a.Type.Range(a.Length)
		_, other := b.Type.Range(b.Length)
		if edge := min(greatest, other) * a.Scale; !math.IsNaN(edge) && (least < 0 || other != greatest) {
			return fmt.Sprintf("A reading below zero, or one above %s, would decide between %s and %s: until then "+
				"they read the same.", number(edge), a.Type, b.Type)
		}
	case g.kind == numbers && closer(a, b):
		return fmt.Sprintf("A reading with more digits would decide: the first gives %s, the second %s.",
			a.Values[len(a.Values)-1], b.Values[len(b.Values)-1])
	case a.At != b.At:
		return fmt.Sprintf("A reading that differs from %s would decide: read the display and the words again when "+
			"it has changed.", shown)
	case a.Scale != b.Scale || a.Offset != b.Offset:
		return fmt.Sprintf("A reading far from %s, such as double of it, would decide between the scales.", shown)
	}
	return fmt.Sprintf("Another reading than %s, together with the words of that moment, would decide between %s %s "+
		"and %s %s.", shown, a.Type, a.Order, b.Type, b.Order)
}

// closer reports whether two explanations of one width share a word and so give
// nearly the same: the high word of a float says most of it, whatever is taken
// for its low one.
func closer(a, b *Candidate) bool {
	x, y := a.Values[len(a.Values)-1].Float(), b.Values[len(b.Values)-1].Float()
	return a.Type.IsFloat() && b.Type == a.Type && a.Scale == b.Scale && x != y && math.Abs(x-y) < 0.02*math.Abs(x)
}

func number(f float64) string { return strconv.FormatFloat(f, 'g', 7, 64) }
