// Package iec61850 answers as a device of IEC 61850: with the model of a file, what stands in it,
// reports and controls.
package iec61850

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	family "ferry/internal/core/family/iec61850"
	"ferry/internal/core/value"
	wire "ferry/internal/wire/iec61850"
)

// entry is a variable: a logical node, a functional constraint in it, data, an attribute, or a member
// of a control block. Only those without parts have values of their own.
type entry struct {
	name   string
	item   string // with all around it
	parts  []*entry
	node   *family.Node // of an attribute without parts
	kind   family.Kind
	size   int
	data   wire.Data
	of     *object
	fc     string
	report *report // of whose control block it is a member
	mark   any     // of the value that it has
	// sets are the places of data sets that hold it.
	sets []inSet
}

// inSet is a member of a data set.
type inSet struct {
	set *set
	at  int
}

// object is data, with what tells of its values.
type object struct {
	domain *domain
	node   *family.Node
	path   []string // of its logical node on
	// quality and time are those by functional constraint.
	quality, time map[string]*entry
	control       *control
}

// domain is a logical device.
type domain struct {
	name, inst string
	nodes      []*entry
	items      map[string]*entry // all of it, by their items
	order      []string          // of the items, as lists have them
	sets       map[string]*set   // data sets, by their items
	setOrder   []string
}

// set is a data set.
type set struct {
	item    string // "LLN0$dsStatus"
	members []*entry
	names   []wire.Name
	reports []*report // that report it
}

// space is what the device shows. The server's lock guards it.
type space struct {
	model   *family.Model
	domains []*domain
	reports []*report
	wrong   []string
}

// constraintOrder is the order in which constraints stand in a logical node.
var constraintOrder = []string{"ST", "MX", "CO", "CF", "DC", "SP", "SG", "SE", "SV", "BL", "EX", "SR", "OR", "RP", "BR"}

func newSpace(m *family.Model) *space {
	s := &space{model: m}
	for _, d := range m.Domains {
		s.domains = append(s.domains, s.domain(d))
	}
	for i, d := range m.Domains {
		s.lists(s.domains[i], d)
	}
	for _, d := range s.domains {
		for _, n := range d.nodes {
			d.index(n, n.name)
		}
		slices.Sort(d.setOrder)
		for _, ds := range d.sets {
			for i, m := range ds.members {
				m.each(func(e *entry) { e.sets = append(e.sets, inSet{ds, i}) })
			}
		}
	}
	for _, r := range s.reports {
		if r.set != nil {
			r.set.reports = append(r.set.reports, r)
		}
	}
	return s
}

func (s *space) domain(of *family.Domain) *domain {
	d := &domain{name: of.Name, inst: of.Inst, items: map[string]*entry{}, sets: map[string]*set{}}
	for _, ln := range of.Nodes {
		node := &entry{name: ln.Name}
		objects := map[*family.Node]*object{}
		for _, fc := range constraintOrder {
			under := &entry{name: fc, fc: fc}
			for _, data := range ln.Parts {
				if e := d.data(data, fc, []string{ln.Name}, objects); e != nil {
					under.parts = append(under.parts, e)
				}
			}
			if len(under.parts) > 0 {
				node.parts = append(node.parts, under)
			}
		}
		d.nodes = append(d.nodes, node)
	}
	return d
}

// data makes the entry of data under a functional constraint; nil where it has nothing of it.
func (d *domain) data(n *family.Node, fc string, path []string, objects map[*family.Node]*object) *entry {
	o := objects[n]
	if o == nil {
		o = &object{domain: d, node: n, path: append(slices.Clone(path), n.Name), quality: map[string]*entry{},
			time: map[string]*entry{}}
		objects[n] = o
	}
	e := &entry{name: n.Name, of: o, fc: fc}
	for _, p := range n.Parts {
		var part *entry
		switch {
		case p.FC == "":
			part = d.data(p, fc, o.path, objects)
		case p.FC == fc:
			part = d.attribute(p, fc, o)
		}
		if part != nil {
			e.parts = append(e.parts, part)
		}
	}
	if len(e.parts) == 0 {
		return nil
	}
	if q := e.part("q"); q != nil {
		if o.quality[fc] = q; !given(n, fc) { // nobody has said what stands there
			q.data.Bits = uint64(family.QualityOf(value.Bad, ""))
		}
	}
	if t := e.part("t"); t != nil {
		o.time[fc] = t
	}
	if fc == "CO" {
		o.control = &control{object: o}
	}
	return e
}

// given reports whether the file gives data a value under a functional constraint.
func given(n *family.Node, fc string) bool {
	return slices.ContainsFunc(n.Parts, func(p *family.Node) bool { return p.FC == fc && p.Value != "" })
}

func (d *domain) attribute(n *family.Node, fc string, o *object) *entry {
	e := &entry{name: n.Name, of: o, fc: fc}
	if len(n.Parts) == 0 {
		e.node = n
		e.kind, e.size = family.KindOf(n.Basic)
		e.data = initial(n, e.kind, e.size)
		return e
	}
	for _, p := range n.Parts {
		e.parts = append(e.parts, d.attribute(p, fc, o))
	}
	return e
}

// each tells of the attributes without parts in an entry.
func (e *entry) each(of func(*entry)) {
	if e.kind != family.NoKind {
		of(e)
	}
	for _, p := range e.parts {
		p.each(of)
	}
}

// part is a part by its name; nil for none.
func (e *entry) part(name string) *entry {
	for _, p := range e.parts {
		if p.name == name {
			return p
		}
	}
	return nil
}

// index notes an entry and all below it by their items.
func (d *domain) index(e *entry, item string) {
	e.item = item
	d.items[item] = e
	d.order = append(d.order, item)
	for _, p := range e.parts {
		d.index(p, item+"$"+p.name)
	}
}

// initial is the value that a file gives an attribute, or none of its kind.
func initial(n *family.Node, kind family.Kind, size int) wire.Data {
	out := wire.Data{Kind: kind, Size: size}
	text := n.Value
	if text == "" {
		return out
	}
	switch kind {
	case family.Boolean:
		if text == "true" || text == "1" {
			out.Int = 1
		}
	case family.Integer, family.Unsigned:
		out.Int, _ = strconv.ParseInt(text, 10, 64) // names of values are found below
		for value, name := range n.Enum {
			if name == text {
				out.Int = int64(value)
			}
		}
	case family.Floating:
		out.Float, _ = strconv.ParseFloat(text, 64) // what is no number stays 0
	case family.VisibleString, family.MMSString, family.OctetString:
		out.Text = text
	}
	return out
}

// lists makes the data sets and the reports of a domain.
func (s *space) lists(d *domain, of *family.Domain) {
	for name, ln := range of.Lists {
		for _, ds := range ln.DataSets {
			made := &set{item: name + "$" + ds.Name}
			for _, m := range ds.Members {
				in := d
				if m.Device != "" && m.Device != d.inst {
					in = s.named(m.Device)
				}
				e := in.member(&m)
				if e == nil {
					s.wrong = append(s.wrong, fmt.Sprintf("data set %s: there is no %s.%s[%s]", made.item, m.Node, m.Data, m.FC))
					continue
				}
				made.members = append(made.members, e)
				item := m.Node + "$" + m.FC + "$" + strings.ReplaceAll(m.Data, ".", "$")
				if m.Attribute != "" {
					item += "$" + strings.ReplaceAll(m.Attribute, ".", "$")
				}
				made.names = append(made.names, wire.Name{Domain: in.name, Item: item})
			}
			d.sets[made.item] = made
			d.setOrder = append(d.setOrder, made.item)
		}
	}
	for _, ln := range slices.SortedFunc(keys(of.Lists), cmp.Compare[string]) {
		for _, r := range of.Lists[ln].Reports {
			for i := range max(1, r.Instances) {
				s.reports = append(s.reports, newReport(d, ln, r, i))
			}
		}
	}
}

func keys[V any](m map[string]V) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// named is a domain by its name or its instance; nil for none.
func (s *space) named(name string) *domain {
	for _, d := range s.domains {
		if d.name == name || d.inst == name {
			return d
		}
	}
	var only *domain
	for _, d := range s.domains {
		if strings.HasSuffix(d.name, name) {
			if only != nil {
				return nil
			}
			only = d
		}
	}
	return only
}

// member is the entry of a member of a data set; nil for none.
func (d *domain) member(m *family.Member) *entry {
	if d == nil {
		return nil
	}
	e := (*entry)(nil)
	for _, n := range d.nodes {
		if n.name == m.Node {
			e = n.part(m.FC)
		}
	}
	path := strings.Split(m.Data, ".")
	if m.Attribute != "" {
		path = append(path, strings.Split(m.Attribute, ".")...)
	}
	for _, name := range path {
		if e == nil {
			return nil
		}
		e = e.part(name)
	}
	return e
}

// find is the attribute of a reference; nil for none.
func (s *space) find(r family.Ref) *entry {
	d := s.named(r.Device)
	if d == nil {
		return nil
	}
	return d.items[r.Item()]
}

// value is what stands in an entry.
func (e *entry) value() wire.Data {
	if e.kind != family.NoKind {
		return e.data
	}
	out := wire.Data{Kind: family.Structure, Parts: make([]wire.Data, len(e.parts))}
	for i, p := range e.parts {
		out.Parts[i] = p.value()
	}
	return out
}

// marks appends those of the values in an entry to a list.
func (e *entry) marks(list []any) []any {
	if e.mark != nil {
		list = append(list, e.mark)
	}
	for _, p := range e.parts {
		list = p.marks(list)
	}
	return list
}

// describes is the type of an entry.
func (e *entry) describes() wire.Type {
	t := wire.Type{Name: e.name, Kind: e.kind, Size: e.size}
	switch e.kind {
	case family.NoKind:
		t.Kind, t.Size = family.Structure, 0
		for _, p := range e.parts {
			t.Parts = append(t.Parts, p.describes())
		}
	case family.BitString:
		if e.node == nil || e.node.Basic != "Dbpos" && e.node.Basic != "Tcmd" && e.node.Basic != "Check" {
			t.Size = -e.size // up to so many
		}
	}
	return t
}

// dataOf is a value in the kind of an attribute; an error where it does not fit.
func (e *entry) dataOf(v value.Value) (wire.Data, error) {
	out := wire.Data{Kind: e.kind, Size: e.size}
	switch e.kind {
	case family.Boolean:
		if v.Bool() {
			out.Int = 1
		}
	case family.Integer, family.Unsigned:
		f := v.Float()
		low, high := -float64(uint64(1)<<(min(e.size, 63)-1)), float64(uint64(1)<<(min(e.size, 63)-1))-1
		if e.kind == family.Unsigned {
			low, high = 0, float64(uint64(1)<<min(e.size, 63))-1
		}
		if f < low || f > high || f != f {
			return out, fmt.Errorf("%s does not fit into %d bits", v, e.size)
		}
		if out.Int = int64(f); v.Kind() == value.Int || v.Kind() == value.Uint {
			out.Int = v.Int()
		}
	case family.Floating:
		out.Float = v.Float()
	case family.BitString:
		out.Bits = double(v.Uint())
	case family.VisibleString, family.MMSString, family.OctetString:
		out.Text = v.Text()
	case family.UTCTime:
		out.Time = time.UnixMilli(v.Int())
	default:
		return out, fmt.Errorf("%s holds no single value", e.item)
	}
	return out, nil
}

// double turns the two bits of a double point over: on the wire the first is the upper one.
func double(v uint64) uint64 { return v&1<<1 | v>>1&1 }

// plain is a value of a kind that a point can hold; false where it holds none.
func plain(d *wire.Data) (value.Value, bool) {
	switch d.Kind {
	case family.Boolean:
		return value.OfBool(d.Int != 0), true
	case family.Integer:
		return value.OfInt(d.Int), true
	case family.Unsigned:
		return value.OfUint(uint64(d.Int)), true
	case family.Floating:
		return value.OfFloat(d.Float), true
	case family.BitString:
		if d.Size == 2 {
			return value.OfUint(double(d.Bits)), true
		}
		return value.OfUint(d.Bits), true
	case family.VisibleString, family.MMSString:
		return value.OfText(d.Text), true
	case family.UTCTime:
		return value.OfMoment(d.Time.UnixMilli()), true
	}
	return value.Value{}, false
}
