package pairing

import (
	"fmt"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Giving says how new points of the far shore are given out.
type Giving struct {
	// Start is the address of the first of them, as people write it; where places have
	// names, the template of these: {site}, {line}, {device} and {point} stand for what
	// the source is.
	Start string `json:"start"`
	// Plain has what stands in for a part of such a template written in small letters,
	// with dashes for blanks.
	Plain bool `json:"plain,omitempty"`
	// Area of states, where they have one of their own: the address of the first.
	States string `json:"states,omitempty"`
	// Reserve is how many units stay free behind the points of each device, and Block,
	// if it is not 0, on a multiple of how many units each device begins.
	Reserve int `json:"reserve,omitempty"`
	Block   int `json:"block,omitempty"`
	// Even has values of several units begin at even offsets.
	Even bool `json:"even,omitempty"`
	// As is the type of numbers; empty for that of the source.
	As value.Type `json:"as,omitempty"`
	// Name is the template of names: {device} and {point} stand for those of the
	// source, {n} for a number from 1.
	Name string `json:"name,omitempty"`
	// Writable are setpoints and commands that clients may write.
	Writable bool `json:"writable,omitempty"`
}

// UsualName is the template of names where none is given.
const UsualName = "{device}-{point}"

// Give makes a new point of the far shore for everything that is left over on the
// near one. It fails where the rules cannot be read, or the addresses run out.
func (sh *Shores) Give(g Giving, newID func() string) (*Proposal, error) {
	scheme, err := sh.to.SchemeOf(&site.Point{})
	if err != nil {
		return nil, err
	}
	if g.Name == "" {
		g.Name = UsualName
	}
	if len(block.AreasOf(scheme)) == 0 {
		return sh.giveNames(g, newID)
	}
	numbers, err := newAllotment(sh.to, scheme, g.Start, "")
	if err != nil {
		return nil, fmt.Errorf("the first address: %w", err)
	}
	states := numbers
	if g.States != "" {
		if states, err = newAllotment(sh.to, scheme, g.States, value.TypeBool); err != nil {
			return nil, fmt.Errorf("the first address of states: %w", err)
		}
	}
	if g.Reserve < 0 || g.Block < 0 || g.Reserve > 1<<16 || g.Block > 1<<16 {
		return nil, fmt.Errorf("the reserve and the block are numbers of units, from 0 to 65536")
	}
	names := map[string]bool{}
	for i := range sh.to.Points {
		names[sh.to.Points[i].Name] = true
	}
	var pairs []Pair
	device := ""
	for i := range sh.Near {
		near := &sh.Near[i]
		if near.Device != device {
			for _, a := range []*allotment{numbers, states} {
				if device != "" {
					a.next += uint32(g.Reserve)
				}
				if g.Block > 0 {
					a.next = (a.next + uint32(g.Block) - 1) / uint32(g.Block) * uint32(g.Block)
				}
			}
			device = near.Device
		}
		point := site.Point{ID: newID(), Type: near.point.Type, Length: near.point.Length, Charset: near.point.Charset,
			Factor: near.point.Factor, Offset: near.point.Offset, Range: near.point.Range, Names: near.point.Names,
			Unit: near.Unit,
			Low:  near.point.Low, High: near.point.High, Decimals: near.point.Decimals, PaceMs: near.point.PaceMs,
			Access: site.ReadOnly, Missing: nil}
		if g.Writable && near.point.Access == site.ReadWrite {
			point.Access = site.ReadWrite
		}
		if g.As != "" && (near.Kind == Number || near.Kind == Total) {
			point.Type, point.Length = g.As, 0
			if g.As.IsFloat() {
				point.Factor, point.Offset, point.Range = 0, 0, nil
			}
		}
		from := numbers
		if point.Type == value.TypeBool {
			from = states
		}
		if point.Name = template(g.Name, near, i+1); names[point.Name] {
			return nil, fmt.Errorf("two points would be named %s: have the template name the device and the point",
				point.Name)
		}
		names[point.Name] = true
		if point.Address, err = from.allot(&point, g.Even); err != nil {
			return nil, fmt.Errorf("%s · %s: %w", near.Device, near.Name, err)
		}
		far := candidate(sh.to, &point, near.Kind)
		x := site.Crossing{}
		if near.point.Access == site.ReadWrite && point.Access == site.ReadWrite {
			x.Both = site.LaterTies
		}
		p := sh.pair(near, &far, x, "")
		p.To, p.New = "", &point
		pairs = append(pairs, p)
	}
	return sh.propose(pairs, nil), nil
}

// giveNames is Give where places have names.
func (sh *Shores) giveNames(g Giving, newID func() string) (*Proposal, error) {
	if !strings.Contains(g.Start, "{point}") {
		return nil, fmt.Errorf("the template %q would give one name to all points: write {point} where theirs goes", g.Start)
	}
	var fit func(string) string
	for _, rule := range protocol.NameRules() {
		if rule.Key == protocol.MapOr(sh.to.Map) {
			fit = rule.Fit
		}
	}
	part := func(text string) string {
		if g.Plain {
			text = strings.Join(strings.Fields(strings.ToLower(text)), "-")
		}
		if fit != nil {
			text = fit(text)
		}
		return text
	}
	var pairs []Pair
	var refused []Refused
	given := map[string]bool{}
	for i := range sh.Near {
		near := &sh.Near[i]
		line := ""
		if len(near.of.Ports) > 0 && sh.site.Line(near.of.Ports[0].Line) != nil {
			line = sh.site.Line(near.of.Ports[0].Line).Name
		}
		name := strings.NewReplacer("{site}", part(sh.site.Name), "{line}", part(line), "{device}", part(near.Device),
			"{point}", part(near.Name)).Replace(g.Start)
		if given[name] {
			return nil, fmt.Errorf("two points would be %s: have the template name the device and the point", name)
		}
		given[name] = true
		made, why := sh.named(name, near, newID, "it is no name of the far side")
		if made == nil {
			refused = append(refused, Refused{i + 1, near.Device + " · " + near.Name + " | " + name, why})
			continue
		}
		made.Name = template(g.Name, near, i+1)
		far := candidate(sh.to, made, near.Kind)
		x, goes := site.Crossing{}, ToThere
		if g.Writable && near.point.Access == site.ReadWrite {
			x.Both, goes = site.LaterTies, ""
		}
		p := sh.pair(near, &far, x, goes)
		p.To, p.New = "", made
		pairs = append(pairs, p)
	}
	return sh.propose(pairs, refused), nil
}

func template(text string, near *Candidate, n int) string {
	return strings.NewReplacer("{device}", near.Device, "{point}", near.Name, "{n}", fmt.Sprint(n)).Replace(text)
}

// allotment gives out the addresses of an area, from one on.
type allotment struct {
	scheme address.Scheme
	area   block.Area
	next   uint32
	bit    int
	taken  map[uint32]bool // units in which points of the map lie
	used   map[uint32]bool // units in which bits were given out
}

func newAllotment(d *site.Device, scheme address.Scheme, text string, of value.Type) (*allotment, error) {
	at, err := scheme.Parse(text, "")
	if err != nil {
		return nil, err
	}
	place := block.Of(at)
	area, ok := block.AreaOf(scheme, place.Area)
	if !ok {
		return nil, fmt.Errorf("%s is in no area of numbered units", text)
	}
	if of == value.TypeBool && area.UnitBits != 1 && place.Bit < 0 {
		place.Bit = 0
	}
	a := &allotment{scheme: scheme, area: area, next: place.Offset, bit: max(place.Bit, 0), taken: map[uint32]bool{},
		used: map[uint32]bool{}}
	for i := range d.Points {
		p := &d.Points[i]
		if other := p.Place(); other.Area == area.Key {
			for unit := range uint32(p.Units(area.UnitBits)) {
				a.taken[other.Offset+unit] = true
			}
		}
	}
	return a, nil
}

// allot returns the next free address for a point; states take the bits of a unit
// one after the other.
func (a *allotment) allot(p *site.Point, even bool) (address.Address, error) {
	if p.Type == value.TypeBool && a.area.UnitBits > 1 {
		for a.taken[a.next] || a.bit >= a.area.UnitBits {
			a.next, a.bit = a.next+1, 0
		}
		at := block.WithBit(block.At(a.area.Key, a.next), a.bit)
		a.bit++
		a.used[a.next] = true
		return at, a.check(p, at)
	}
	if a.used[a.next] { // behind a word of bits
		a.next, a.bit = a.next+1, 0
	}
	units := uint32(p.Units(a.area.UnitBits))
	for {
		if even && units > 1 && a.next%2 == 1 {
			a.next++
		}
		free := true
		for unit := range units {
			free = free && !a.taken[a.next+unit] && !a.used[a.next+unit]
		}
		if free {
			break
		}
		a.next++
	}
	at := block.At(a.area.Key, a.next)
	a.next += units
	return at, a.check(p, at)
}

func (a *allotment) check(p *site.Point, at address.Address) error {
	point := *p
	point.Address = at
	return site.CheckPoint(a.scheme, &point)
}

// apart leaves a unit free behind the last point.
func (a *allotment) apart() {
	if a.used[a.next] {
		a.next, a.bit = a.next+1, 0
	}
	a.next++
}
