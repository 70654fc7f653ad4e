package checkout

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ferry/internal/core/crossing"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// Fact is one thing on which a proof rests: of the map, of the link, or of a crossing.
type Fact struct {
	// Part is map, link, or a crossing with the point at its other end; Name is that in
	// words, where they are others.
	Part string `json:"part"`
	Name string `json:"name,omitempty"`
	Key  string `json:"key"` // in words
	Is   string `json:"is"`
	// ID counts in the place of Is where that is a name, which may be another one day.
	ID string `json:"id,omitempty"`
}

// part is where facts belong.
type part struct{ id, name string }

func (p part) fact(key, is string) Fact { return Fact{Part: p.id, Name: p.name, Key: key, Is: is} }

var ofMap, ofLink = part{id: "map"}, part{id: "link"}

// Ground is a site on which proofs are judged, with what is looked up often.
type Ground struct {
	site   *site.Site
	points map[string]placed
	from   map[string][]*site.Crossing // by their sources
	to     map[string][]*site.Crossing // by their targets
	ruled  []site.Crossing
	links  map[carried]*site.Link
	ways   map[carried][]Fact // of these links
}

// carried is what decides which link carries a point.
type carried struct{ device, protocol, link string }

type placed struct {
	device *site.Device
	point  *site.Point
}

// On prepares a site.
func On(s *site.Site) *Ground {
	g := &Ground{site: s, points: map[string]placed{}, from: map[string][]*site.Crossing{},
		to: map[string][]*site.Crossing{}, ruled: s.Ruled(), links: map[carried]*site.Link{}, ways: map[carried][]Fact{}}
	for i := range s.Devices {
		d := &s.Devices[i]
		for j := range d.Points {
			g.points[d.Points[j].ID] = placed{d, &d.Points[j]}
		}
	}
	for i := range g.ruled {
		x := &g.ruled[i]
		for _, id := range append([]string{x.From}, x.More...) {
			if id != "" {
				g.from[id] = append(g.from[id], x)
			}
		}
		g.to[x.To] = append(g.to[x.To], x)
	}
	for i := range s.Devices { // of thousands of points few have links of their own
		d := &s.Devices[i]
		for j := range d.Points {
			key := carriedOf(d, &d.Points[j])
			if _, known := g.links[key]; !known {
				g.links[key] = s.LinkOf(d, &d.Points[j])
				g.ways[key] = g.linkFacts(g.links[key], d)
			}
		}
	}
	return g
}

// Site is the site of it.
func (g *Ground) Site() *site.Site { return g.site }

// Point returns a point with its device; nil where it is not there.
func (g *Ground) Point(id string) (*site.Device, *site.Point) {
	at := g.points[id]
	return at.device, at.point
}

func carriedOf(d *site.Device, p *site.Point) carried { return carried{d.ID, p.Map, p.Link} }

// LinkOf is the link that carries a point of the site, nil for none.
func (g *Ground) LinkOf(d *site.Device, p *site.Point) *site.Link { return g.links[carriedOf(d, p)] }

// Crossings are those that a point goes into, and those that it comes out of.
func (g *Ground) Crossings(id string) []*site.Crossing {
	return append(append([]*site.Crossing{}, g.from[id]...), g.to[id]...)
}

// columns are those of a map by which a value is read: neither the name nor the pace, the
// limits or the remark make it another.
var columns = []regmap.Column{regmap.Address, regmap.Type, regmap.Order, regmap.Scale, regmap.Offset, regmap.Unit,
	regmap.Names, regmap.Missing}

// Basis lists what a proof of a point rests on, in an order that stays.
func (g *Ground) Basis(id string) (facts []Fact) {
	at, ok := g.points[id]
	if !ok {
		return []Fact{ofMap.fact("point", "gone")}
	}
	facts = mapFacts(ofMap, at)
	facts = append(facts, g.ways[carriedOf(at.device, at.point)]...)
	for _, x := range g.from[id] {
		of := part{"crossing to " + x.To, "crossing to " + g.nameOf(x.To)}
		facts = append(facts, wayFacts(of, x)...)
		if target, ok := g.points[x.To]; ok {
			facts = append(facts, mapFacts(of, target)...)
		}
	}
	for _, x := range g.to[id] {
		if x.From == "" {
			continue
		}
		of := part{"crossing from " + x.From, "crossing from " + g.nameOf(x.From)}
		facts = append(facts, wayFacts(of, x)...)
		if source, ok := g.points[x.From]; ok {
			facts = append(facts, mapFacts(of, source)...)
		}
	}
	return facts
}

func (g *Ground) nameOf(id string) string {
	if at, ok := g.points[id]; ok {
		return at.device.Name + " · " + at.point.Name
	}
	return "a point that is gone"
}

func mapFacts(of part, at placed) (facts []Fact) {
	scheme, err := at.device.SchemeOf(at.point)
	if err != nil {
		return []Fact{of.fact("protocol", at.device.Map)}
	}
	for _, column := range columns {
		if is := regmap.Cell(scheme, at.point, column); is != "" {
			facts = append(facts, of.fact(string(column), is))
		}
	}
	return facts
}

func wayFacts(of part, x *site.Crossing) []Fact {
	on := "on"
	if x.Off {
		on = "off"
	}
	return []Fact{of.fact("way", cmp.Or(crossing.Words(x), "as it is")), of.fact("switched", on)}
}

// linkFacts are what decides whom a link reaches, and how it talks: not how long it waits.
func (g *Ground) linkFacts(l *site.Link, d *site.Device) (facts []Fact) {
	if l == nil {
		return nil
	}
	add := func(key, is string) { facts = append(facts, ofLink.fact(key, is)) }
	def, ok := protocol.Named(l.Protocol)
	if !ok {
		return nil
	}
	add("protocol", def.Title)
	if line := g.site.Line(l.Line); line != nil {
		facts = append(facts, Fact{Part: ofLink.id, Key: "line", Is: line.Name, ID: line.ID})
	}
	if asking := g.site.Device(l.Asking); asking != nil {
		facts = append(facts, Fact{Part: ofLink.id, Key: "asking end", Is: asking.Name, ID: asking.ID})
	}
	if port := d.PortFor(l); port != nil && port.Host != "" {
		add("address", port.Host)
	}
	for _, s := range def.Settings {
		reaches := s.End == protocol.BothEnds || s.End == protocol.Asking && (s.Stop == "session" || s.Stop == "points")
		if v := def.Value(l.Settings, s.Key); reaches && s.Key != protocol.KeyWithin && s.Kind != protocol.Secret &&
			v.String() != "" {
			add(strings.ToLower(s.Title), v.String())
		}
	}
	return facts
}

// Changed says in words what differs between two bases; nothing where none does.
func Changed(was, is []Fact) (changed []string) {
	if slices.EqualFunc(was, is, func(a, b Fact) bool { return a.Part == b.Part && a.Key == b.Key && a.same(&b) }) {
		return nil
	}
	type key struct{ part, key string }
	before, after := map[key]*Fact{}, map[key]*Fact{}
	parts := [2]map[string]bool{{}, {}}
	var keys []key
	for n, facts := range [][]Fact{was, is} {
		into := []map[key]*Fact{before, after}[n]
		for i := range facts {
			k := key{facts[i].Part, facts[i].Key}
			if before[k] == nil && after[k] == nil {
				keys = append(keys, k)
			}
			into[k], parts[n][k.part] = &facts[i], true
		}
	}
	told := map[string]bool{}
	for _, k := range keys {
		a, b := before[k], after[k]
		if told[k.part] || a != nil && b != nil && a.same(b) {
			continue
		}
		name := cmp.Or(b, a).Name
		switch {
		case name != "" && !parts[1][k.part]:
			changed, told[k.part] = append(changed, "the "+name+" is gone"), true
			continue
		case name != "" && !parts[0][k.part]:
			changed, told[k.part] = append(changed, "there is a "+name), true
			continue
		case name == "" && k.part != ofMap.id:
			name = k.part
		}
		if name != "" {
			name += ": "
		}
		changed = append(changed, fmt.Sprintf("%s%s was %s, is %s", name, k.key, a.words(), b.words()))
	}
	return changed
}

func (f *Fact) same(other *Fact) bool {
	if f.ID != "" || other.ID != "" {
		return f.ID == other.ID
	}
	return f.Is == other.Is
}

func (f *Fact) words() string {
	if f == nil {
		return "none"
	}
	return f.Is
}
