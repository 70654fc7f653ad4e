// Package pairing finds out which points go into which: in the order of their
// kinds, by the likeness of their names, by a table, or into new points that are
// given out by rules. It proposes; nothing is changed by it.
package pairing

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/crossing"
	"ferry/internal/core/site"
	"ferry/internal/core/unit"
	"ferry/internal/core/value"
)

// Kind is what a point is, as far as pairing tells points apart: only what is of one
// kind is paired without being asked for.
type Kind string

// The kinds.
const (
	State   Kind = "states"
	Word    Kind = "words of bits and enumerations"
	Number  Kind = "numbers"
	Total   Kind = "totals"
	Text    Kind = "texts"
	Time    Kind = "times"
	Command Kind = "commands and setpoints"
	// Double points have four states, Setpoints are commands with a number; both are told apart where
	// the protocol of a point does.
	Double   Kind = "double points"
	Setpoint Kind = "setpoints"
	// Own is what a device says of itself: nothing is carried into it unless a table says so.
	Own Kind = "states of the device itself"
)

// Kinds lists the kinds in the order in which they are shown.
func Kinds() []Kind { return []Kind{State, Double, Number, Total, Word, Text, Time, Command, Setpoint} }

// totals are the quantities that are counted up.
var totals = map[string]bool{"volume": true, "mass": true, "energy": true, "count": true}

// KindOf returns the kind of a point of a device. What a device lets be written is a
// command, on a device that Ferry is as well, where a client writes it.
func KindOf(p *site.Point) Kind {
	if p.Access == site.ReadWrite || p.Access == site.WriteOnly {
		return Command
	}
	return plainKind(p)
}

func plainKind(p *site.Point) Kind {
	switch {
	case p.Type == value.TypeBool:
		return State
	case p.Type.IsText():
		return Text
	case p.Type.IsTime():
		return Time
	case p.Type.Named():
		return Word
	case totals[unit.Kind(p.Unit)]:
		return Total
	}
	return Number
}

// Candidate is a point that may be paired.
type Candidate struct {
	ID      string `json:"id"`
	Device  string `json:"device"` // name
	Name    string `json:"name"`
	Address string `json:"address"`
	Type    string `json:"type"`
	Unit    string `json:"unit,omitempty"`
	Kind    Kind   `json:"kind"`

	point *site.Point
	of    *site.Device
	named bool // its address is a name
	// sorted is set where its protocol tells what it is, and kinds where it is numbered within those;
	// says is what its end calls it besides its name.
	sorted, kinds bool
	says          string
}

// Shores are the two sides of a pairing: what is left over on each, and what crosses
// already.
type Shores struct {
	Near []Candidate `json:"near"`
	Far  []Candidate `json:"far"`
	// Paired are the ids of the crossings from the one to the other.
	Paired []string `json:"paired"`

	site *site.Site
	to   *site.Device
	list *site.List // of which they are the shores; nil for none
	// twins is set for the shores of two Ferrys, of which the far one may have points
	// that are taken alone.
	twins bool
}

// Between lists the shores: the points of some devices that cross to no point of
// another, and the points of that into which nothing crosses. A point is on the far
// shore only where something can be written to it.
func Between(s *site.Site, from []string, to string) (*Shores, error) {
	far := s.Device(to)
	if far == nil {
		return nil, fmt.Errorf("there is no device %q to carry to", to)
	}
	sh := &Shores{Near: []Candidate{}, Far: []Candidate{}, Paired: []string{}, site: s, to: far}
	carried, reached, given := map[string]bool{}, map[string]bool{}, map[string]bool{}
	sorted := tells(far)
	ours := map[string]bool{}
	for i := range far.Points {
		ours[far.Points[i].ID] = true
	}
	for i := range s.Crossings {
		x := &s.Crossings[i]
		reached[x.To] = true
		for _, id := range x.Sources() {
			given[id] = true
		}
		if ours[x.To] {
			for _, id := range x.Sources() {
				carried[id] = true
			}
		}
	}
	mine := map[string]bool{}
	for _, id := range from {
		d := s.Device(id)
		if d == nil || d == far {
			continue
		}
		for i := range d.Points {
			p := &d.Points[i]
			mine[p.ID] = true
			if kind, ok := sortOf(d, p); ok && sorted {
				if operated := kind == Command || kind == Setpoint; operated && !reached[p.ID] || !operated && !carried[p.ID] {
					c := candidate(d, p, kind)
					c.sorted, c.says = true, p.Remark
					sh.Near = append(sh.Near, c)
				}
			} else if !carried[p.ID] && p.Access != site.WriteOnly {
				sh.Near = append(sh.Near, candidate(d, p, plainKind(p)))
			}
		}
	}
	for i := range far.Points {
		p := &far.Points[i]
		if kind, ok := sortOf(far, p); ok && sorted {
			if operates := kind == Command || kind == Setpoint; operates && !given[p.ID] ||
				!operates && !reached[p.ID] && far.Served() ||
				!operates && !far.Served() && p.Access != site.ReadOnly && !reached[p.ID] {
				c := candidate(far, p, kind)
				c.sorted, c.says = true, p.Remark
				sh.Far = append(sh.Far, c)
			}
		} else if !reached[p.ID] && (far.Served() || p.Access != site.ReadOnly) {
			sh.Far = append(sh.Far, candidate(far, p, plainKind(p)))
		}
	}
	slices.SortStableFunc(sh.Far, func(a, b Candidate) int { return cmp.Compare(last(a.Kind), last(b.Kind)) })
	for i := range s.Crossings {
		if x := &s.Crossings[i]; ours[x.To] && mine[x.From] || sorted && ours[x.From] && mine[x.To] {
			sh.Paired = append(sh.Paired, x.ID)
		}
	}
	return sh, nil
}

// last puts what a device says of itself behind all else.
func last(k Kind) int {
	if k == Own {
		return 1
	}
	return 0
}

func candidate(d *site.Device, p *site.Point, kind Kind) Candidate {
	c := Candidate{ID: p.ID, Device: d.Name, Name: p.Name, Type: string(p.Type), Unit: p.Unit, Kind: kind, point: p,
		of:      d,
		Address: p.Address.String()}
	if scheme, err := d.SchemeOf(p); err == nil {
		c.Address, c.named = scheme.Short(p.Address), len(block.AreasOf(scheme)) == 0
		_, c.kinds = scheme.(address.Kinds)
	}

	return c
}

// Pair is one proposed crossing.
type Pair struct {
	From     string `json:"from"` // empty for a point of another Ferry that is taken alone
	FromName string `json:"fromName"`
	// FromAddress is that of the source on this side.
	FromAddress string `json:"fromAddress,omitempty"`
	To          string `json:"to,omitempty"` // empty for a new point
	ToName      string `json:"toName"`
	// New is the point that is made for it.
	New *site.Point `json:"new,omitempty"`
	// Crossing is what would be made, Way says it in words.
	Crossing site.Crossing `json:"crossing"`
	Way      string        `json:"way"`
	// Address is that of the target, Fits whether it can be carried, and Sentence why
	// not.
	Address  string `json:"address"`
	Fits     bool   `json:"fits"`
	Sentence string `json:"sentence,omitempty"`
	// Goes is which way the name goes, in a list; From is on this side all the same.
	Goes Goes `json:"goes,omitempty" jsonschema:"enum=there,enum=here,enum=both"`
	// Likeness is how alike the names are, from 0 to 1, where that was asked.
	Likeness float64 `json:"likeness,omitempty"`
	// Shift is by how much its number on the far shore is greater than on this one; nil where either
	// has none.
	Shift *int `json:"shift,omitempty"`

	near, far *Candidate
}

// Refused is a row of a table that makes no pair.
type Refused struct {
	Row    int    `json:"row"` // from 1
	Text   string `json:"text"`
	Reason string `json:"reason"`
}

// Proposal is what pairing found.
type Proposal struct {
	Pairs   []Pair    `json:"pairs"`
	Refused []Refused `json:"refused"`
	// Runs are those of the pairs that follow each other on both shores.
	Runs []Run `json:"runs"`
	// Near and Far count what would still be left over.
	Near int `json:"near"`
	Far  int `json:"far"`
}

func (sh *Shores) propose(pairs []Pair, refused []Refused) *Proposal {
	if pairs == nil {
		pairs = []Pair{}
	}
	if refused == nil {
		refused = []Refused{}
	}
	into := 0
	for i := range pairs {
		if pairs[i].New == nil {
			into++
		}
	}
	return &Proposal{Pairs: pairs, Refused: refused, Runs: runs(pairs, sh.Near), Near: max(0, len(sh.Near)-len(pairs)),
		Far: max(0, len(sh.Far)-into)}
}

// pair joins two candidates, with the conversion that their units need; goes is for a
// list, and empty for the usual way.
func (sh *Shores) pair(near, far *Candidate, x site.Crossing, goes Goes) Pair {
	x.From, x.To = near.ID, far.ID
	back := sh.list == nil && turned(near, far)
	if back {
		x.From, x.To = far.ID, near.ID
	}
	if len(x.Way) == 0 && x.Scale().IsIdentity() && near.Unit != far.Unit && near.Unit != "" && far.Unit != "" {
		if _, err := unit.Between(near.Unit, far.Unit); err == nil {
			x.Way = []site.Step{{Do: site.DoUnit}}
		}
	}
	p := Pair{From: near.ID, FromName: near.Device + " · " + near.Name, FromAddress: near.Address, To: far.ID,
		ToName: far.Device + " · " +
			far.Name,
		Crossing: x, Way: crossing.Words(&x), Address: far.Address, Fits: true, near: near, far: far}
	from, to := near.point, far.point
	if back {
		p.Goes, from, to = FromThere, far.point, near.point
	}
	if near.sorted && far.sorted && near.Kind != far.Kind {
		p.Fits, p.Sentence = false, fmt.Sprintf("%s is one of the %s, and %s one of the %s.", near.Name, near.Kind,
			far.Name, far.Kind)
		return p
	}
	if sh.list != nil {
		sh.directed(&p, near, far, goes)
	} else if why := crossing.Misfit(&x, from, to); why != "" {
		p.Fits, p.Sentence = false, why
	}
	return p
}

// InOrder pairs what is left over, kind by kind, the first with the first: from a
// near and a far point on, if they are given, and as many as there are.
func (sh *Shores) InOrder(near, far string, most int) *Proposal {
	var pairs []Pair
	from, to := sh.Near, sh.Far
	only := Kind("")
	if i := slices.IndexFunc(from, func(c Candidate) bool { return c.ID == near }); i >= 0 {
		only, from = from[i].Kind, from[i:]
	}
	if i := slices.IndexFunc(to, func(c Candidate) bool { return c.ID == far }); i >= 0 {
		to = to[i:]
	}
	for _, kind := range Kinds() {
		if only != "" && kind != only {
			continue
		}
		a, b := ofKind(from, kind), ofKind(to, kind)
		if len(a) > 0 && len(b) > 0 && a[0].sorted && b[0].sorted {
			for _, couple := range aligned(a, b, near != "" || far != "") {
				if most <= 0 || len(pairs) < most {
					pairs = append(pairs, sh.pair(couple[0], couple[1], site.Crossing{}, ""))
				}
			}
			continue
		}
		for i := range min(len(a), len(b)) {
			if most > 0 && len(pairs) == most {
				break
			}
			pairs = append(pairs, sh.pair(a[i], b[i], site.Crossing{}, ""))
		}
	}
	return sh.propose(pairs, nil)
}

func ofKind(list []Candidate, kind Kind) (of []*Candidate) {
	for i := range list {
		if list[i].Kind == kind {
			of = append(of, &list[i])
		}
	}
	return of
}

// leastLike is how alike two names must be to be paired without being asked for.
const leastLike = 0.5

// ByLikeness pairs points of one kind whose names are alike: the best first, each
// once.
func (sh *Shores) ByLikeness() *Proposal {
	type scored struct {
		a, b  int
		score float64
	}
	near, far := make([]words, len(sh.Near)), make([]words, len(sh.Far))
	index := map[string][]int{} // far points by the words of their names
	for i := range sh.Far {
		far[i] = wordsOf(sh.Far[i].Device, cmp.Or(sh.Far[i].says, sh.Far[i].Name), false)
		for w := range far[i].set {
			index[w] = append(index[w], i)
		}
	}
	var all []scored
	for i := range sh.Near {
		near[i] = wordsOf(sh.Near[i].Device, sh.Near[i].Name, true)
		seen := map[int]bool{}
		for w := range near[i].set {
			for _, j := range index[w] {
				if seen[j] || sh.Near[i].Kind != sh.Far[j].Kind {
					continue
				}
				seen[j] = true
				if score := near[i].like(far[j]); score >= leastLike {
					all = append(all, scored{i, j, score})
				}
			}
		}
	}
	slices.SortFunc(all, func(x, y scored) int {
		return cmp.Or(cmp.Compare(y.score, x.score), cmp.Compare(x.a, y.a), cmp.Compare(x.b, y.b))
	})
	var pairs []Pair
	usedA, usedB := map[int]bool{}, map[int]bool{}
	for _, s := range all {
		if usedA[s.a] || usedB[s.b] {
			continue
		}
		usedA[s.a], usedB[s.b] = true, true
		p := sh.pair(&sh.Near[s.a], &sh.Far[s.b], site.Crossing{}, "")
		p.Likeness = s.score
		pairs = append(pairs, p)
	}
	order := map[string]int{}
	for i := range sh.Near {
		order[sh.Near[i].ID] = i
	}
	slices.SortStableFunc(pairs, func(x, y Pair) int { return order[x.From] - order[y.From] })
	return sh.propose(pairs, nil)
}

// ByTable pairs what the rows of a table name: a near point, a far one, and what
// happens on the way, which may be missing, and in a list which way it goes. A point is named by its name, or by
// that of its device and its own with a point, a slash or a dash between. Where the
// places of the far side have names, one that is none of its points is made a point
// of the type of the near one, with newID as its id.
func (sh *Shores) ByTable(rows [][]string, newID func() string) *Proposal {
	var pairs []Pair
	var refused []Refused
	near, far := newDirectory(sh.Near), newDirectory(sh.Far)
	taken := map[string]int{}
	columns, headed := [4]int{0, 1, 2, 3}, false
	for i, row := range rows {
		if !headed {
			if found, ok := headings(row); ok {
				columns, headed = found, true
				continue
			}
		}
		cell := func(of int) string {
			if n := columns[of]; n >= 0 && n < len(row) {
				return strings.TrimSpace(row[n])
			}
			return ""
		}
		if cell(0) == "" && cell(1) == "" {
			continue
		}
		if cell(0) == "" && sh.twins {
			b, why := far.find(cell(1))
			switch {
			case b == nil:
				refused = append(refused, Refused{i + 1, strings.Join(row, " | "),
					fmt.Sprintf("%q on the far shore: %s", cell(1), why)})
			case taken[b.ID] == 0:
				taken[b.ID] = i + 1
				pairs = append(pairs, alone(b))
			}
			continue
		}
		refuse := func(format string, args ...any) {
			refused = append(refused, Refused{i + 1, strings.Join(row, " | "), fmt.Sprintf(format, args...)})
		}
		a, why := near.find(cell(0))
		if a == nil {
			refuse("%q on this shore: %s", cell(0), why)
			continue
		}
		b, why := far.find(cell(1))
		var made *site.Point
		if b == nil {
			if made, why = sh.named(cell(1), a, newID, why); made == nil {
				refuse("%q on the far shore: %s", cell(1), why)
				continue
			}
			of := candidate(sh.to, made, a.Kind)
			b = &of
		}
		if before := max(taken[b.ID], taken[b.Address]); before > 0 {
			refuse("%q is the target of row %d already", cell(1), before)
			continue
		}
		x, err := crossing.ParseWords(cell(2))
		if err != nil {
			refuse("the way: %v", err)
			continue
		}
		goes, err := parseGoes(cell(3))
		if err != nil {
			refuse("the direction: %v", err)
			continue
		}
		taken[b.ID], taken[b.Address] = i+1, i+1
		p := sh.pair(a, b, x, goes)
		if made != nil {
			p.To, p.New = "", made
		}
		pairs = append(pairs, p)
	}
	return sh.propose(pairs, refused)
}

// named makes a point of the far side out of a name that none of its points has. why
// is what there is to say where it cannot.
func (sh *Shores) named(name string, near *Candidate, newID func() string, why string) (*site.Point, string) {
	scheme, err := sh.to.SchemeOf(&site.Point{})
	if err != nil || len(block.AreasOf(scheme)) > 0 || name == "" {
		return nil, why
	}
	at, err := scheme.Parse(name, "")
	if err != nil {
		return nil, err.Error()
	}
	for i := range sh.to.Points {
		switch short := scheme.Short(sh.to.Points[i].Address); {
		case short == scheme.Short(at):
			return nil, fmt.Sprintf("%s is there already, as %s, and something crosses into it", short,
				sh.to.Points[i].Name)
		case strings.EqualFold(short, scheme.Short(at)):
			return nil, fmt.Sprintf("there is %s, under another case", short)
		}
	}
	p := near.point
	made := &site.Point{ID: newID(), Name: name, Address: at, Type: p.Type, Length: p.Length, Charset: p.Charset,
		Names: p.Names,
		Unit:  p.Unit, Low: p.Low, High: p.High, Decimals: p.Decimals, PaceMs: p.PaceMs, Access: site.ReadWrite}
	if err := site.CheckPoint(scheme, made); err != nil {
		return nil, err.Error()
	}
	return made, ""
}

// headWords are the words that head the columns of a table: near, far, way, direction.
var headWords = [4][]string{
	{"from", "source", "local", "local name", "local point", "near", "near name", "source point", "from point"},
	{"to", "target", "far", "far name", "far point", "remote", "remote name", "target point", "to point"},
	{"way", "on the way", "conversion", "scale", "scaling"},
	{"direction", "goes"},
}

// headings finds the columns by the head of a table; ok is false for a row that is
// none. A column that is missing is -1.
func headings(row []string) (columns [4]int, ok bool) {
	for of, words := range headWords {
		columns[of] = slices.IndexFunc(row, func(cell string) bool {
			return slices.Contains(words, strings.ToLower(strings.TrimSpace(cell)))
		})
	}
	return columns, columns[0] >= 0 && columns[1] >= 0
}

// directory finds candidates by the ways in which tables name them.
type directory struct {
	exact, folded map[string][]*Candidate
}

func newDirectory(list []Candidate) *directory {
	d := &directory{map[string][]*Candidate{}, map[string][]*Candidate{}}
	for i := range list {
		c := &list[i]
		names := []string{c.Name, c.Device + "." + c.Name, c.Device + " · " + c.Name, c.Device + "/" + c.Name,
			c.Device + "-" + c.Name, c.Device + " " + c.Name}
		if c.named {
			names = append(names, c.Address)
		}
		for _, name := range names {
			if slices.Contains(d.exact[name], c) {
				continue
			}
			d.exact[name] = append(d.exact[name], c)
			folded := strings.ToLower(name)
			d.folded[folded] = append(d.folded[folded], c)
		}
	}
	return d
}

func (d *directory) find(name string) (*Candidate, string) {
	if name == "" {
		return nil, "no name is given"
	}
	switch found := d.exact[name]; len(found) {
	case 0:
	case 1:
		return found[0], ""
	default:
		return nil, fmt.Sprintf("%d points have this name: put that of the device before it", len(found))
	}
	switch found := d.folded[strings.ToLower(name)]; len(found) {
	case 0:
		return nil, "there is no such point left over"
	case 1:
		return nil, fmt.Sprintf("there is %s, under another case", found[0].Name)
	}
	return nil, "several points have this name under another case"
}
