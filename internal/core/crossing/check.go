package crossing

import (
	"fmt"
	"math"
	"slices"
	"strconv"

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
	// ToldMs is how long a change of a point waits at most until the far end tells of it, and
	// whether that end looks at it at the pace of the point; 0 for not known.
	ToldMs func(link, point string) (ms float64, paced bool)
	// WriteMs is how long a write to a point takes by the timetable.
	WriteMs func(point string) float64
	// Missing says why the far side does not have a point, where that was asked.
	Missing func(point *site.Point) string
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
	site *site.Site
	// crossings are those of the site as they run.
	crossings []site.Crossing
	ends      map[string]end
	seen      Seen
	writers   map[place]string           // who writes a place
	reads     map[place][]*site.Crossing // who reads it
	circled   map[string]bool            // crossings of circles that were told of
	found     []finding.Finding
	outs      []Out
}

// Check reports what is wrong with the crossings of a site on paper.
func Check(s *site.Site) []finding.Finding {
	c := newChecker(s, Seen{})
	for i := range c.crossings {
		c.crossing(&c.crossings[i])
	}
	c.unfed()
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
	x := &c.crossings[i]
	j := Judged{Stages: []Stage{}}
	switch {
	case c.ends[x.To].point == nil:
	case x.Beats():
		c.crossing(x)
	case c.ends[x.From].point != nil:
		j.Stages, j.OldestMs, j.UsuallyMs = c.stages(x)
		c.crossing(x)
		c.tooOld(x, j.OldestMs)
	}
	finding.Sort(c.found)
	j.Findings, j.Outs = c.found, c.outs
	return j, true
}

func newChecker(s *site.Site, seen Seen) *checker {
	c := &checker{site: s, crossings: s.Ruled(), ends: map[string]end{}, seen: seen, writers: map[place]string{},
		reads: map[place][]*site.Crossing{}, circled: map[string]bool{},
		found: []finding.Finding{}, outs: []Out{}}
	wanted := map[string]bool{}
	for i := range c.crossings {
		for id := range c.crossings[i].Points {
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
	for i := range c.crossings {
		if x := &c.crossings[i]; !x.Off {
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

func (c *checker) add(x *site.Crossing, severity finding.Severity, code, title, sentence, remedy string,

	evidence ...string) {
	if evidence == nil {
		evidence = []string{}
	}
	c.found = append(c.found, finding.Finding{Code: code, Severity: severity, Sure: 1, Count: 1, Where: "crossings",
		Subject: finding.Subject{Kind: "crossing", ID: x.ID, Name: c.sourceOf(x) + " → " + c.ends[x.To].String()},
		Title:   title, Sentence: sentence, Evidence: evidence, Remedy: remedy})
}

// sourceOf names what a crossing carries.
func (c *checker) sourceOf(x *site.Crossing) string {
	if x.Beats() {
		return "Ferry's heartbeat"
	}
	return c.ends[x.From].String()
}

func (c *checker) out(o Out) { c.outs = append(c.outs, o) }

// changed returns a copy of a crossing with a change.
func changed(x *site.Crossing, change func(*site.Crossing)) *site.Crossing {
	after := *x
	after.Way = slices.Clone(x.Way)
	change(&after)
	after.Own()
	return &after
}

func (c *checker) crossing(x *site.Crossing) {
	from, to := c.ends[x.From], c.ends[x.To]
	if from.point == nil && !x.Beats() || to.point == nil || x.Off {
		return
	}
	c.writable(x, to, "target")
	if x.Beats() {
		c.linked(x)
		c.missing(x)
		c.written(x)
		if broken := NewFlow(x, nil, to.point, nil).broken; broken != "" {
			c.add(x, finding.Fault, "kind", "It is another kind of thing", broken, "Choose a number or a state.")
		}
		return
	}
	if x.QualityTo != "" {
		c.writable(x, c.ends[x.QualityTo], "quality")
	}
	if x.Both != site.OneWay {
		c.writable(x, from, "source")
	}
	c.linked(x)
	c.missing(x)
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
	c.tells(x, to)
	c.secret(x, to)
	c.fits(x, way, sources, to)
	c.steps(x, from, to)
	c.wears(x, from, to)
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
