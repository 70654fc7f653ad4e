package pairing

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Twin says how this Ferry and another are to share names: the other answers as a
// device of its own, whose map is made for it, and this one asks it.
type Twin struct {
	// Name is that of the list on this side.
	Name string `json:"name"`
	// Protocol is the one in which the other answers.
	Protocol string `json:"protocol"`
	// Line is that on which this side has the other, Asking who asks there.
	Line   string `json:"line"`
	Asking string `json:"asking"`
	// FarLine is the line of the other on which it answers, Host its address there,
	// and Port the port.
	FarLine string `json:"farLine"`
	Host    string `json:"host"`
	Port    int    `json:"port"`
	// Allow are the addresses that the other lets in; empty for everybody.
	Allow []string `json:"allow,omitempty"`
	// Start and Ties are who wins, as in a list.
	Start site.Wins `json:"start,omitempty" jsonschema:"enum=there,enum=wait"`
	Ties  site.Wins `json:"ties,omitempty" jsonschema:"enum=there,enum=later"`
}

// TwinPlan is what is to be changed in each of the two sites.
type TwinPlan struct {
	Here  []site.Edit
	There []site.Edit
	// List is that of this side, empty where all points are taken alone; Far is the
	// device that the other is here.
	List string
	Far  string
	// Plant counts what the other writes into devices that are not Ferry itself: it
	// waits there to be released by name.
	Plant int
}

// twinPace is how often a name is asked for where nothing else is said.
const twinPace = 1000

// Twins lists the shores of names between two sites: all points of each. A twin's
// pair goes from a point of this site to one of the other.
func Twins(here, there *site.Site, name string) (*Shores, error) {
	def, ok := protocol.Named(name)
	if !ok || len(block.AreasOf(def.Scheme)) == 0 {
		return nil, fmt.Errorf("%q is no protocol in which names are given addresses", name)
	}
	sh := &Shores{Near: []Candidate{}, Far: []Candidate{}, Paired: []string{}, site: here, list: &site.List{},
		to: &site.Device{Map: name}, twins: true}
	for _, side := range []struct {
		site *site.Site
		list *[]Candidate
	}{{here, &sh.Near}, {there, &sh.Far}} {
		for i := range side.site.Devices {
			d := &side.site.Devices[i]
			for j := range d.Points {
				*side.list = append(*side.list, candidate(d, &d.Points[j], plainKind(&d.Points[j])))
			}
		}
	}
	return sh, nil
}

// mostTaken bounds the points that Alone lists.
const mostTaken = 2000

// alone takes a point of the other side for which there is none here: it becomes one of
// the device that the other is here.
func alone(far *Candidate) Pair {
	return Pair{FromName: far.Device + " · as a point of this site", To: far.ID, ToName: far.Device + " · " + far.Name,
		Way: "as it is", Address: far.Address, Fits: true, Goes: FromThere}
}

// Alone proposes to take points of the other side without one here: those that have all
// of some words in the names of their device and their own.
func (sh *Shores) Alone(text string) *Proposal {
	var pairs []Pair
	words := strings.Fields(strings.ToLower(text))
	for i := range sh.Far {
		c := &sh.Far[i]
		name := strings.ToLower(c.Device + " " + c.Name)
		other := slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(name, w) })
		if len(pairs) < mostTaken && c.point.Access != site.WriteOnly && !other {
			pairs = append(pairs, alone(c))
		}
	}
	p := sh.propose(pairs, nil)
	p.Near = len(sh.Near)
	return p
}

// PlanTwin works out what has to change in both sites so that the pairs, of Twins,
// are shared. It fails where either site would not take it.
func PlanTwin(here, there *site.Site, o *Twin, pairs []Pair, newID func() string) (*TwinPlan, error) {
	def, ok := protocol.Named(o.Protocol)
	if !ok {
		return nil, fmt.Errorf("%q is no protocol that this version speaks", o.Protocol)
	}
	if len(pairs) == 0 {
		return nil, errors.New("no name is chosen")
	}
	t := twin{o: o, def: def, newID: newID, plan: &TwinPlan{}}
	port := site.Port{Line: o.FarLine, Host: o.Host, Protocol: o.Protocol,
		Settings: protocol.Settings{protocol.KeyPort: protocol.OfInt(o.Port)}}
	t.served = site.Device{ID: newID(), Name: free(there, "Names for "+here.Name), Map: o.Protocol,
		Ports: []site.Port{port}, Serving: &site.Serving{Allow: o.Allow}, Points: []site.Point{}}
	if err := t.addresses(); err != nil {
		return nil, err
	}
	t.plan.There = append(t.plan.There, site.Put(site.KindDevice, t.served.ID, "", t.served))
	port.Line = o.Line
	far := site.Device{ID: newID(), Name: free(here, there.Name+", another Ferry"), Map: o.Protocol,
		Ports: []site.Port{port}, Points: []site.Point{}, Limits: site.Limits{NoBridging: true}}
	link := site.Link{ID: newID(), Asking: o.Asking, Answering: far.ID, Line: o.Line, Protocol: o.Protocol,
		Settings: protocol.Settings{protocol.KeyPort: protocol.OfInt(o.Port)}}
	t.plan.Far = far.ID
	t.plan.Here = append(t.plan.Here, site.Put(site.KindDevice, far.ID, "", far),
		site.Put(site.KindLink, link.ID, "", link))
	if slices.ContainsFunc(pairs, func(p Pair) bool { return p.From != "" }) {
		t.plan.List = newID()
		t.plan.Here = append(t.plan.Here, site.Put(site.KindList, t.plan.List, "",
			site.List{ID: t.plan.List, Name: o.Name, Far: far.ID, Start: o.Start, Ties: o.Ties}))
	}
	for i := range pairs {
		pair := &pairs[i]
		nearOf, near := here.Point(pair.From)
		farOf, theirs := there.Point(pair.To)
		if near == nil && pair.From != "" || theirs == nil {
			return nil, fmt.Errorf("%s: it is no longer there", pair.ToName)
		}
		if near == nil {
			pair.Goes = FromThere
			if err := t.share(farOf, theirs, far.ID, pair); err != nil {
				return nil, fmt.Errorf("%s: %w", pair.ToName, err)
			}
			continue
		}
		a, b := candidate(nearOf, near, ""), candidate(farOf, theirs, "")
		if why := (&Shores{list: &site.List{}}).forbids(&a, &b, pair.Goes); why != "" {
			return nil, errors.New(strings.TrimSuffix(why, "."))
		}
		if err := t.share(farOf, theirs, far.ID, pair); err != nil {
			return nil, fmt.Errorf("%s: %w", pair.ToName, err)
		}
	}
	if _, _, err := there.Apply(t.plan.There); err != nil {
		return nil, fmt.Errorf("the other would not take it: %w", err)
	}
	if _, _, err := here.Apply(t.plan.Here); err != nil {
		return nil, err
	}
	return t.plan, nil
}

// free is a name that no device of a site has.
func free(s *site.Site, name string) string {
	taken := func(name string) bool {
		return slices.ContainsFunc(s.Devices, func(d site.Device) bool { return d.Name == name })
	}
	for n := 2; ; n++ {
		text := name
		if n > 2 {
			text = fmt.Sprintf("%s %d", name, n-1)
		}
		if !taken(text) {
			return text
		}
	}
}

// twin makes a TwinPlan.
type twin struct {
	o       *Twin
	def     *protocol.Def
	newID   func() string
	served  site.Device
	numbers *allotment
	states  *allotment
	plan    *TwinPlan
	names   map[string]bool
}

// addresses begins to give out those of the map that is made: numbers and states in
// the first areas that can be written.
func (t *twin) addresses() (err error) {
	for _, area := range block.AreasOf(t.def.Scheme) {
		into := &t.numbers
		if area.UnitBits == 1 {
			into = &t.states
		}
		if *into != nil || !area.Writable {
			continue
		}
		if *into, err = newAllotment(&t.served, t.def.Scheme, t.def.Scheme.Short(block.At(area.Key, 0)), ""); err != nil {
			return err
		}
	}
	if t.numbers == nil {
		return fmt.Errorf("%s has nothing that could be written", t.def.Title)
	}
	if t.states == nil {
		t.states = t.numbers
	}
	t.names = map[string]bool{}
	return nil
}

// share adds one name to both sites. Names lie apart and are asked for one by one: one
// that has no value refuses whatever touches it, and is not to take others with it.
func (t *twin) share(device *site.Device, source *site.Point, far string, pair *Pair) error {
	p := site.Point{ID: t.newID(), Name: device.Name + "-" + source.Name, Type: source.Type, Length: source.Length,
		Charset: source.Charset, Factor: source.Factor, Offset: source.Offset, Range: source.Range, Names: source.Names,
		Unit: source.Unit, Low: source.Low, High: source.High, Decimals: source.Decimals, PaceMs: twinPace,
		Access: site.ReadWrite}
	if pair.Goes == FromThere {
		p.Access = site.ReadOnly
	}
	if t.names[p.Name] {
		return errors.New("it is shared twice")
	}
	t.names[p.Name] = true
	from := t.numbers
	if p.Type == value.TypeBool {
		from = t.states
	}
	var err error
	if p.Address, err = from.allot(&p, true); err != nil {
		return err
	}
	from.apart()
	t.plan.There = append(t.plan.There, site.Put(site.KindPoint, p.ID, t.served.ID, p))
	x := site.Crossing{ID: t.newID(), From: source.ID, To: p.ID}
	switch pair.Goes {
	case ToThere:
		x.From, x.To, x.Start = p.ID, source.ID, site.WaitForGood
	case BothGo: // what stands in the new point is what this side says
		x.Start = map[site.Wins]site.Start{site.HereWins: site.TargetWins, site.ThereWins: site.SourceWins,
			site.WhoFirst: site.WaitForGood}[t.o.Start]
		x.Both = map[site.Wins]site.Ties{site.HereWins: site.TargetTies, site.ThereWins: site.SourceTies,
			site.WhoLater: site.LaterTies}[t.o.Ties]
	}
	if pair.Goes != FromThere && !device.Served() {
		t.plan.Plant++
	}
	t.plan.There = append(t.plan.There, site.Put(site.KindCrossing, x.ID, "", x))
	p.ID = t.newID()
	t.plan.Here = append(t.plan.Here, site.Put(site.KindPoint, p.ID, far, p))
	if pair.From == "" {
		return nil
	}
	mine := pair.Crossing
	mine.ID, mine.List, mine.Both = t.newID(), t.plan.List, site.OneWay
	if pair.Goes == BothGo {
		mine.Both = site.SourceTies // who wins is for the list to say
	}
	if pair.Goes == FromThere {
		mine.From, mine.To = p.ID, pair.From
	} else {
		mine.From, mine.To = pair.From, p.ID
	}
	t.plan.Here = append(t.plan.Here, site.Put(site.KindCrossing, mine.ID, "", mine))
	return nil
}
