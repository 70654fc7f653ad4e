package crossing

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/block"
	"ferry/internal/core/finding"
	"ferry/internal/core/site"
	"ferry/internal/core/unit"
	"ferry/internal/core/value"
)

// Seen is what is known of the points of a site beside the site.
type Seen struct {
	// Now is what a point reads, none where that is not known; PerHour by how much it
	// has grown of late.
	Now     func(point string) value.Value
	PerHour func(point string) float64
	// OldestMs is how old the value of a point gets by the timetable before the next
	// comes, as whoever reads it over a link sees it; 0 for not known.
	OldestMs func(link, point string) float64
	// WriteMs is how long a write to a point takes by the timetable.
	WriteMs func(point string) float64
}

// Out is one way of putting right what is wrong with a crossing: a changed crossing,
// or a changed point, with what is lost on it.
type Out struct {
	Title    string         `json:"title"`
	Costs    string         `json:"costs"`
	Crossing *site.Crossing `json:"-"`
	Point    *site.Point    `json:"-"`
	Device   string         `json:"-"` // of Point
}

// Stage is one part of the time from a change at the source to the far shore.
type Stage struct {
	Title string  `json:"title"`
	Ms    float64 `json:"ms"` // at worst
}

// Judged is what there is to say of one crossing.
type Judged struct {
	Findings []finding.Finding `json:"findings"`
	Outs     []Out             `json:"outs"` // the least lost first
	Stages   []Stage           `json:"stages"`
	OldestMs float64           `json:"oldestMs"`
	// UsuallyMs is how old the value is on the far shore on the average.
	UsuallyMs float64 `json:"usuallyMs"`
}

// end is a point with its device.
type end struct {
	device *site.Device
	point  *site.Point
}

func (e end) String() string { return e.device.Name + " · " + e.point.Name }

// checker judges the crossings of a site.
type checker struct {
	site    *site.Site
	ends    map[string]end
	seen    Seen
	writers map[place]string           // who writes a place
	reads   map[place][]*site.Crossing // who reads it
	circled map[string]bool            // crossings of circles that were told of
	found   []finding.Finding
	outs    []Out
}

// Check reports what is wrong with the crossings of a site on paper.
func Check(s *site.Site) []finding.Finding {
	c := newChecker(s, Seen{})
	for i := range s.Crossings {
		c.crossing(&s.Crossings[i])
	}
	finding.Sort(c.found)
	return c.found
}

// Judge says all that there is to say of one crossing.
func Judge(s *site.Site, id string, seen Seen) (Judged, bool) {
	i := slices.IndexFunc(s.Crossings, func(x site.Crossing) bool { return x.ID == id })
	if i < 0 {
		return Judged{}, false
	}
	c := newChecker(s, seen)
	x := &s.Crossings[i]
	j := Judged{Stages: []Stage{}}
	if c.ends[x.From].point != nil && c.ends[x.To].point != nil {
		j.Stages, j.OldestMs, j.UsuallyMs = c.stages(x)
		c.crossing(x)
		c.tooOld(x, j.OldestMs)
	}
	finding.Sort(c.found)
	j.Findings, j.Outs = c.found, c.outs
	return j, true
}

func newChecker(s *site.Site, seen Seen) *checker {
	c := &checker{site: s, ends: map[string]end{}, seen: seen, writers: map[place]string{},
		reads: map[place][]*site.Crossing{}, circled: map[string]bool{},
		found: []finding.Finding{}, outs: []Out{}}
	wanted := map[string]bool{}
	for i := range s.Crossings {
		for id := range s.Crossings[i].Points {
			wanted[id] = true
		}
	}
	for i := range s.Devices {
		for j := range s.Devices[i].Points {
			if p := &s.Devices[i].Points[j]; wanted[p.ID] {
				c.ends[p.ID] = end{&s.Devices[i], p}
			}
		}
	}
	for i := range s.Crossings {
		if x := &s.Crossings[i]; !x.Off {
			for _, id := range x.Sources() {
				covers, _ := c.places(id)
				for _, at := range covers {
					c.reads[at] = append(c.reads[at], x)
				}
			}
		}
	}
	return c
}

// place is one unit of a device, or one bit of it; or a place with a name.
type place struct {
	device, area string
	unit         uint32
	bit          int // one bit, or wholeUnit, or partOfUnit
}

const (
	wholeUnit  = -1
	partOfUnit = -2
)

// places lists what a point covers, and meets what others may cover that lies over
// it: two points of one place are known for it, two bits of a word are not.
func (c *checker) places(id string) (covers, meets []place) {
	at := c.ends[id]
	if at.point == nil {
		return nil, nil
	}
	scheme, err := at.device.SchemeOf(at.point)
	where := at.point.Place()
	area, ok := block.AreaOf(scheme, where.Area)
	if err != nil || !ok {
		covers = []place{{at.device.ID, at.point.Address.String(), 0, wholeUnit}}
		return covers, covers
	}
	from, bits, part := at.point.Bits(area.UnitBits)
	for unit := range uint32(at.point.Units(area.UnitBits)) {
		p := place{at.device.ID, where.Area, where.Offset + unit, wholeUnit}
		meets = append(meets, p)
		if !part {
			covers = append(covers, p)
			p.bit = partOfUnit
			meets = append(meets, p)
			continue
		}
		for p.bit = from; p.bit < from+bits; p.bit++ {
			covers, meets = append(covers, p), append(meets, p)
		}
		p.bit = partOfUnit
		covers = append(covers, p)
	}
	return covers, meets
}

func (c *checker) add(x *site.Crossing, severity finding.Severity, code, title, sentence, remedy string,
	evidence ...string) {
	if evidence == nil {
		evidence = []string{}
	}
	c.found = append(c.found, finding.Finding{Code: code, Severity: severity, Sure: 1, Count: 1, Where: "crossings",
		Subject: finding.Subject{Kind: "crossing", ID: x.ID, Name: c.ends[x.From].String() + " → " +
			c.ends[x.To].String()},
		Title: title, Sentence: sentence, Evidence: evidence, Remedy: remedy})
}

func (c *checker) out(o Out) { c.outs = append(c.outs, o) }

// changed returns a copy of a crossing with a change.
func changed(x *site.Crossing, change func(*site.Crossing)) *site.Crossing {
	after := *x
	after.Way = slices.Clone(x.Way)
	change(&after)
	return &after
}

func (c *checker) crossing(x *site.Crossing) {
	from, to := c.ends[x.From], c.ends[x.To]
	if from.point == nil || to.point == nil || x.Off {
		return
	}
	c.writable(x, to, "target")
	if x.QualityTo != "" {
		c.writable(x, c.ends[x.QualityTo], "quality")
	}
	if x.Both != site.OneWay {
		c.writable(x, from, "source")
	}
	c.linked(x)
	c.written(x)
	c.circle(x)
	var sources []*site.Point
	for _, id := range x.Sources() {
		if c.ends[id].point == nil {
			return
		}
		sources = append(sources, c.ends[id].point)
	}
	way, err := NewWay(x, sources, to.point)
	if err != nil {
		c.add(x, finding.Fault, "way", "It cannot be carried so", upper(err.Error())+".",
			"Change that step of its way.")
		return
	}
	if x.Both != site.OneWay && way.Returns() != nil {
		c.add(x, finding.Fault, "no-way-back", "There is no way back",
			"It is to carry both ways, and cannot: "+way.Returns().Error()+".",
			"Let it carry one way, and give the other way a crossing of its own.")
		c.out(Out{Title: "One way only", Costs: "what is changed at the target stays there",
			Crossing: changed(x, func(x *site.Crossing) { x.Both = site.OneWay })})
	}
	if x.Quiet == site.Substitute {
		if _, err := substituteOf(x, to.point); err != nil {
			c.add(x, finding.Fault, "substitute", "The value for a silent source is none", upper(err.Error())+".",
				"Give one that the target can hold.")
		}
	}
	if !c.kind(x, way, sources, to) {
		return
	}
	c.units(x, from, to)
	c.fits(x, way, sources, to)
	c.steps(x, from, to)
	c.wears(x, from, to)
}

// writable looks whether what is to be written can be. The access to a point that
// Ferry serves is that of its clients.
func (c *checker) writable(x *site.Crossing, to end, what string) {
	if to.point == nil || to.device.Served() {
		return
	}
	title := map[string]string{"target": "The target cannot be written", "quality": "The quality cannot be written",
		"source": "The source cannot be written, and it is to carry both ways"}[what]
	if to.point.Access == site.ReadOnly {
		c.add(x, finding.Fault, what+"-read-only", title,
			fmt.Sprintf("%s of %s is marked as only to be read.", to.point.Name, to.device.Name),
			"Give it access rw in its map, or choose another point.")
	}
	if scheme, err := to.device.SchemeOf(to.point); err == nil {
		if area, ok := block.AreaOf(scheme, to.point.Place().Area); ok && !area.Writable {
			c.add(x, finding.Fault, what+"-area", title,
				fmt.Sprintf("%s lies in the %s, which nobody can write.", to.point.Name, area.Title),
				"Choose another point.")
		}
	}
	if at := to.point.Place(); at.Area != "" {
		size, stated := to.device.Limits.Areas[at.Area]
		if stated && at.Offset >= size {
			c.add(x, finding.Fault, what+"-beyond", title,
				fmt.Sprintf("%s lies at %d, and %s has %d there.", to.point.Name, at.Offset, to.device.Name, size),
				"Correct the address, or how many the device has.")
		}
	}
}

func (c *checker) linked(x *site.Crossing) {
	told := map[string]bool{}
	for id := range x.Points {
		e := c.ends[id]
		if e.point == nil || e.device.Served() || told[e.device.ID] || c.site.LinkOf(e.device, e.point) != nil {
			continue
		}
		told[e.device.ID] = true
		c.add(x, finding.Fault, "no-link", "No link reaches "+e.device.Name,
			fmt.Sprintf("Nothing asks %s for %s, so the value cannot cross.", e.device.Name, e.point.Name),
			"Add a link to it under Lines, in the protocol of its map.")
	}
}

// written looks whether anything else writes where x does.
func (c *checker) written(x *site.Crossing) {
	targets := []string{x.To}
	if x.QualityTo != "" {
		targets = append(targets, x.QualityTo)
	}
	if x.Both != site.OneWay {
		targets = append(targets, x.From)
	}
	for _, id := range targets {
		covers, meets := c.places(id)
		for _, at := range meets {
			if other, twice := c.writers[at]; twice {
				c.add(x, finding.Fault, "two-writers", "Two crossings write one target",
					fmt.Sprintf("%s is also written from %s. The last one wins, by chance.", c.ends[id].point.Name,
						other),
					"Remove one of the two.")
				break
			}
		}
		for _, at := range covers {
			c.writers[at] = c.ends[x.From].String()
		}
	}
}

// circle looks whether what x writes comes back to it. A crossing of both ways is
// none by itself.
func (c *checker) circle(x *site.Crossing) {
	if c.circled[x.ID] {
		return
	}
	seen := map[string]bool{x.ID: true}
	queue := [][]*site.Crossing{{x}} // paths that begin with x
	for len(queue) > 0 && len(seen) < 1000 {
		path := queue[0]
		queue = queue[1:]
		_, meets := c.places(path[len(path)-1].To)
		for _, at := range meets {
			for _, next := range c.reads[at] {
				if next == x && len(path) > 1 {
					c.circular(path)
					return
				}
				if seen[next.ID] {
					continue
				}
				seen[next.ID] = true
				queue = append(queue, append(slices.Clone(path), next))
			}
		}
	}
}

func (c *checker) circular(path []*site.Crossing) {
	by := make([]string, len(path)-1)
	for i, x := range path {
		c.circled[x.ID] = true
		if i > 0 {
			by[i-1] = c.ends[x.To].String()
		}
	}
	x := path[0]
	c.add(x, finding.Fault, "loop", "The crossing runs in a circle",
		fmt.Sprintf("What is written to %s comes back to %s, by way of %s.", c.ends[x.To].point.Name,
			c.ends[x.From].point.Name, strings.Join(by, ", ")), "Remove one crossing of the circle.")
}

// kind tries the way with a value of each source.
func (c *checker) kind(x *site.Crossing, way *Way, sources []*site.Point, to end) bool {
	tried := make([]value.Value, len(sources))
	for i, p := range sources {
		switch kindOf(p) {
		case value.Bool:
			tried[i] = value.OfBool(true)
		case value.Text:
			tried[i] = value.OfText("")
		default:
			tried[i] = value.OfFloat(0)
			if p.Type.IsTime() {
				tried[i] = value.OfMoment(0)
				if p.Type == value.TypeTime {
					tried[i] = value.OfSpan(0)
				}
			}
		}
	}
	for i := range x.Way {
		if x.Way[i].Do == site.DoTable || x.Way[i].Do == site.DoFormula || x.Way[i].Do == site.DoPut {
			return true // 0 need not be one of their values
		}
	}
	_, err := way.Carry(tried, value.Value{})
	if err == nil {
		return true
	}
	c.add(x, finding.Fault, "kind", "It is another kind of thing",
		fmt.Sprintf("%s is a %s and %s a %s: %v.", sources[0].Name, sources[0].Type, to.point.Name, to.point.Type, err),
		"Give the target another type, or work it out by a formula: string(a) makes a text, float(a) a number.")
	return false
}

// units looks whether the number arrives in the unit of the target.
func (c *checker) units(x *site.Crossing, from, to end) {
	a, b := from.point.Unit, to.point.Unit
	if a == b || a == "" || b == "" || unit.Kind(a) == "" || unit.Kind(b) == "" || len(x.More) > 0 {
		return
	}
	for i := range x.Way {
		switch x.Way[i].Do {
		case site.DoUnit, site.DoFormula, site.DoTable, site.DoCount:
			return
		}
	}
	need, err := unit.Between(a, b)
	switch {
	case err != nil && x.Scale().IsIdentity():
		c.add(x, finding.Doubt, "unit", "The units do not go together",
			fmt.Sprintf("%s is in %s and %s in %s: %v.", from.point.Name, a, to.point.Name, b, err),
			"Correct the unit in one of the maps, or give the scale.")
	case err != nil || near(need, x.Scale()):
	case x.Scale().IsIdentity():
		c.add(x, finding.Fault, "unit", "It arrives in another unit",
			fmt.Sprintf("%s is in %s and %s in %s, and the number is carried as it is.", from.point.Name, a,
				to.point.Name, b),
			"Convert it by the units' names.")
		c.out(Out{Title: a + " → " + b, Costs: "nothing lost", Crossing: changed(x, func(x *site.Crossing) {
			x.Way = append([]site.Step{{Do: site.DoUnit}}, x.Way...)
		})})
	default:
		c.add(x, finding.Doubt, "unit-scale", "The scale is not that of the units",
			fmt.Sprintf("From %s to %s it would be %s, and it is %s.", a, b, words(need), words(x.Scale())),
			"Convert it by the units' names, or correct a unit.")
		c.out(Out{Title: a + " → " + b + " in place of the scale", Costs: "nothing lost",
			Crossing: changed(x, func(x *site.Crossing) {
				x.Factor, x.Offset = 0, 0
				x.Way = append([]site.Step{{Do: site.DoUnit}}, x.Way...)
			})})
	}
}

func words(scale value.Linear) string {
	scale.Factor, _ = strconv.ParseFloat(strconv.FormatFloat(scale.Factor, 'g', 6, 64), 64)
	if words := scaleWords(scale); words != "" {
		return words
	}
	return "as it is"
}

// near reports whether two scales are the same but for rounding.
func near(a, b value.Linear) bool {
	one, two := a.Apply(value.OfFloat(1)).Float(), b.Apply(value.OfFloat(1)).Float()
	zero, other := a.Apply(value.OfFloat(0)).Float(), b.Apply(value.OfFloat(0)).Float()
	close := func(x, y float64) bool { return math.Abs(x-y) <= 1e-3*max(math.Abs(x), math.Abs(y), 1e-9) }
	return close(one-zero, two-other) && (close(zero, other) || math.Abs(zero-other) < 1e-6)
}
