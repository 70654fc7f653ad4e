package crossing

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

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

func (c *checker) add(x *site.Crossing, severity finding.Severity, code, title, sentence, remedy string, evidence ...string) {
	if evidence == nil {
		evidence = []string{}
	}
	c.found = append(c.found, finding.Finding{Code: code, Severity: severity, Sure: 1, Count: 1, Where: "crossings",
		Subject: finding.Subject{Kind: "crossing", ID: x.ID, Name: c.ends[x.From].String() + " → " + c.ends[x.To].String()},
		Title:   title, Sentence: sentence, Evidence: evidence, Remedy: remedy})
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
		c.add(x, finding.Fault, "way", "It cannot be carried so", upper(err.Error())+".", "Change that step of its way.")
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
					fmt.Sprintf("%s is also written from %s. The last one wins, by chance.", c.ends[id].point.Name, other),
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
			fmt.Sprintf("%s is in %s and %s in %s, and the number is carried as it is.", from.point.Name, a, to.point.Name, b),
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

// span of numbers that arrive at a target, in its engineering unit.
type reach struct {
	low, high float64
	stated    bool // by the limits of the sources; else by their types
}

// reaches works out which numbers can arrive, from the limits of the sources or what
// their types hold; ok is false where that says nothing.
func reaches(way *Way, sources []*site.Point) (r reach, ok bool) {
	r = reach{low: math.Inf(1), high: math.Inf(-1), stated: true}
	corners := make([][]float64, len(sources))
	for i, p := range sources {
		low, high := p.Type.Range(p.Length)
		if !p.PowerAt.IsZero() || p.Type.IsText() || p.Type.IsTime() {
			return r, false
		}
		low, high = p.Scale().Bounds(low, high)
		if p.Low != nil && p.High != nil {
			low, high = *p.Low, *p.High
		} else {
			r.stated = false
			if p.Type.IsFloat() {
				return r, false
			}
		}
		corners[i] = []float64{low, high}
	}
	if len(sources) > 6 {
		return r, false
	}
	values := make([]value.Value, len(sources))
	for combination := range 1 << len(sources) {
		for i, p := range sources {
			v := value.OfFloat(corners[i][combination>>i&1])
			if p.Type == value.TypeBool {
				v = value.OfBool(v.Bool())
			}
			values[i] = v
		}
		v, err := way.Carry(values, value.Value{})
		if err != nil {
			return r, false
		}
		r.low, r.high = min(r.low, v.Float()), max(r.high, v.Float())
	}
	return r, !math.IsNaN(r.low) && !math.IsNaN(r.high)
}

// holds returns the engineering numbers that a target can hold.
func holds(to *site.Point) (low, high float64, ok bool) {
	if to.Type.IsText() || to.Type.IsTime() || !to.PowerAt.IsZero() || to.Type == value.TypeBool {
		return 0, 0, false
	}
	low, high = to.Scale().Bounds(to.Type.Range(to.Length))
	return low, high, !math.IsNaN(low)
}

func (c *checker) fits(x *site.Crossing, way *Way, sources []*site.Point, to end) {
	for i := range x.Way {
		if x.Way[i].Do == site.DoCount || x.Way[i].Do == site.DoTable || x.Way[i].Do == site.DoPut {
			return // they look after themselves
		}
	}
	low, high, ok := holds(to.point)
	if !ok {
		return
	}
	now, hour := c.measured(x, sources)
	r, known := reaches(way, sources)
	var said string
	severity := finding.Doubt
	switch {
	case !now.IsNone() && (now.Float() < low || now.Float() > high):
		severity = finding.Fault
		said = fmt.Sprintf("%s already reads %s after the way, and the target stops at %s.", sources[0].Name,
			thousands(now.Float()), thousands(nearer(now.Float(), low, high)))
	case known && (r.low < low || r.high > high):
		bound := r.high
		if r.high <= high {
			bound = r.low
		}
		by := "its type"
		if r.stated {
			by, severity = "its limits", finding.Fault
		}
		said = fmt.Sprintf("By %s, %s can arrive as %s, and a %s at the target stops at %s.", by, sources[0].Name,
			thousands(bound), to.point.Type, thousands(nearer(bound, low, high)))
	default:
		if !now.IsNone() && hour > 0 && to.point.Type.IsWhole() {
			c.fills(x, now.Float(), hour, high)
		}
		return
	}
	if !now.IsNone() && hour > 0 && now.Float() < high {
		said += fmt.Sprintf(" At the rate of late it is full in %s.", long((high-now.Float())/hour))
	}
	c.add(x, severity, "range", "It may not fit", said, "Use a wider type at the target, or another scale.")
	c.widen(x, to, r, known, hour)
	c.coarser(x, to, r, known)
	if len(x.More) == 0 && sources[0].Type.IsWhole() && to.point.Type.IsWhole() {
		c.out(Out{Title: "carry what is left over, with a roll-over", Costs: "the far side must count how often it begins anew",
			Crossing: changed(x, func(x *site.Crossing) { x.Way = append(x.Way, site.Step{Do: site.DoCount}) })})
	}
	c.out(Out{Title: fmt.Sprintf("stop at %s and %s", thousands(low), thousands(high)), Costs: "beyond that the target stands still",
		Crossing: changed(x, func(x *site.Crossing) {
			x.Way = append(x.Way, site.Step{Do: site.DoClamp, Least: &low, Most: &high})
		})})
}

// fills warns of a total that will be too large for its target within five years.
func (c *checker) fills(x *site.Crossing, now, hour, high float64) {
	if left := (high - now) / hour; left < 5*8766 {
		c.add(x, finding.Doubt, "fills", "The target will be full",
			fmt.Sprintf("It reads %s now and grows by %s an hour: the target, which stops at %s, is full in %s.",
				thousands(now), thousands(hour), thousands(high), long(left)),
			"Use a wider type at the target, or carry it with a roll-over.")
	}
}

// totals are the quantities that are counted up; of others, such as a temperature, a
// rise says nothing.
var totals = map[string]bool{"volume": true, "mass": true, "energy": true, "count": true, "time": true}

// measured is what the first source, where it is alone, becomes at the target now,
// and by how much that grows in an hour.
func (c *checker) measured(x *site.Crossing, sources []*site.Point) (now value.Value, hour float64) {
	if c.seen.Now == nil || len(sources) != 1 {
		return value.Value{}, 0
	}
	v := c.seen.Now(x.From)
	if v.IsNone() || v.Kind() == value.Text {
		return value.Value{}, 0
	}
	way, err := NewWay(x, sources, c.ends[x.To].point)
	if err != nil {
		return value.Value{}, 0
	}
	if now, err = way.Carry([]value.Value{v}, value.Value{}); err != nil {
		return value.Value{}, 0
	}
	if c.seen.PerHour != nil && totals[unit.Kind(sources[0].Unit)] {
		if later, err := way.Carry([]value.Value{value.OfFloat(v.Float() + c.seen.PerHour(x.From))}, value.Value{}); err == nil {
			hour = later.Float() - now.Float()
		}
	}
	return now, hour
}

// widen offers wider types that have room in the map of the target.
func (c *checker) widen(x *site.Crossing, to end, r reach, known bool, hour float64) {
	scheme, err := to.device.SchemeOf(to.point)
	if err != nil {
		return
	}
	known = known && r.stated // what a type could hold need not come
	types := []value.Type{value.TypeInt16, value.TypeUint16, value.TypeInt32, value.TypeUint32, value.TypeFloat32,
		value.TypeInt64, value.TypeUint64, value.TypeFloat64}
	own := c.ends[x.From].point.Type
	slices.SortStableFunc(types, func(a, b value.Type) int { // that of the source first
		return cmp.Compare(btoi(b == own), btoi(a == own))
	})
	for _, wider := range types {
		point := *to.point
		point.Type, point.Length, point.Order = wider, 0, ""
		if wider.Bytes(0) < to.point.Type.Bytes(to.point.Length) || wider == to.point.Type {
			continue
		}
		low, high, ok := holds(&point)
		if !ok || known && (r.low < low || r.high > high) || !known && wider.Bytes(0) <= to.point.Type.Bytes(to.point.Length) {
			continue
		}
		if site.CheckPoint(scheme, &point) != nil || !c.room(to, &point) {
			continue
		}
		costs := "nothing lost"
		if wider == value.TypeFloat32 && (!known || r.high > 1<<24) {
			costs = "whole numbers beyond 16 777 216 are rounded"
		}
		if hour > 0 && wider.IsWhole() {
			if years := high / hour / 8766; years < 1000 {
				costs += fmt.Sprintf(" · full in %.0f years", years)
			}
		}
		c.out(Out{Title: fmt.Sprintf("%s at %s", wider, scheme.Short(point.Address)), Costs: costs, Point: &point,
			Device: to.device.ID})
		if len(c.outs) >= 3 {
			return
		}
	}
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// room reports whether a changed point of a device lies over no other.
func (c *checker) room(to end, point *site.Point) bool {
	scheme, err := to.device.SchemeOf(point)
	at := point.Place()
	area, ok := block.AreaOf(scheme, at.Area)
	if err != nil || !ok {
		return err == nil // named places have a type each
	}
	from, until := int(at.Offset), int(at.Offset)+point.Units(area.UnitBits)
	for i := range to.device.Points {
		p := &to.device.Points[i]
		other := p.Place()
		if p.ID == point.ID || other.Area != at.Area {
			continue
		}
		if int(other.Offset) < until && int(other.Offset)+p.Units(area.UnitBits) > from {
			return false
		}
	}
	return true
}

// coarser offers a scale by a power of ten that fits.
func (c *checker) coarser(x *site.Crossing, to end, r reach, known bool) {
	if !known || !to.point.Type.IsWhole() || to.point.Range != nil {
		return
	}
	low, high, _ := holds(to.point)
	for _, by := range []float64{10, 100, 1000, 10000} {
		if r.low >= low*by && r.high <= high*by {
			point := *to.point
			point.Factor = by
			if to.point.Factor != 0 {
				point.Factor = to.point.Factor * by
			}
			c.out(Out{Title: fmt.Sprintf("in steps of %g %s", math.Abs(point.Factor), to.point.Unit),
				Costs: fmt.Sprintf("loses what is finer than %g", math.Abs(point.Factor)), Point: &point, Device: to.device.ID})
			return
		}
	}
}

// steps looks at what the target can tell apart, against the source and the
// deadband.
func (c *checker) steps(x *site.Crossing, from, to end) {
	step := stepOf(to.point)
	if x.Percent && x.Deadband > 0 && (to.point.Low == nil || to.point.High == nil) {
		c.add(x, finding.Fault, "percent", "Per cent of what",
			fmt.Sprintf("The deadband is %g %% of the limits of %s, which has none: every change is written.", x.Deadband,
				to.point.Name), "Give the target its limits, or the deadband in its unit.")
		return
	}
	f := Flow{x: x, to: to.point}
	band := f.deadband()
	if step > 0 && band > 0 && band < step {
		c.add(x, finding.Note, "deadband-fine", "The deadband is finer than the target",
			fmt.Sprintf("It moves by %g, and %s tells apart steps of %g.", band, to.point.Name, step),
			"Give the step of the target, or more.")
	}
	if to.point.Low != nil && to.point.High != nil && band > 0 {
		width := math.Abs(*to.point.High - *to.point.Low)
		switch {
		case band >= width:
			c.add(x, finding.Fault, "deadband-wide", "It will hardly ever move",
				fmt.Sprintf("It moves by %g, and between the limits of %s lie %g.", band, to.point.Name, width),
				"Give less.")
		case band > width/10:
			c.add(x, finding.Doubt, "deadband-wide", "The deadband is wide for the limits",
				fmt.Sprintf("The target can be off by %g, which is %.0f %% of what lies between its limits: an alarm there comes "+
					"late, or not at all.", band, 100*band/width), "Give less, or a time after which it is written all the same.")
		}
	}
	if len(x.Way) > 0 || len(x.More) > 0 || step == 0 {
		return
	}
	fine := stepOf(from.point) * math.Abs(x.Scale().Apply(value.OfFloat(1)).Float()-x.Scale().Apply(value.OfFloat(0)).Float())
	if from.point.Decimals != nil && from.point.Type.IsFloat() {
		fine = math.Pow10(-*from.point.Decimals) * math.Abs(x.Scale().Apply(value.OfFloat(1)).Float()-
			x.Scale().Apply(value.OfFloat(0)).Float())
	}
	if fine > 0 && step > fine*1.5 && band < step { // a deadband of a step says that it is meant
		c.add(x, finding.Note, "resolution", "The target is coarser",
			fmt.Sprintf("%s comes in steps of %.4g, and the target holds steps of %.4g.", from.point.Name, fine, step),
			"Give the target a finer scale, if that matters.")
	}
}

// stepOf is the least difference that a point tells apart; 0 where its type says
// nothing.
func stepOf(p *site.Point) float64 {
	if !p.Type.IsWhole() || !p.PowerAt.IsZero() {
		return 0
	}
	return math.Abs(p.Scale().Apply(value.OfFloat(1)).Float() - p.Scale().Apply(value.OfFloat(0)).Float())
}

// wears warns where a target may be written very often.
func (c *checker) wears(x *site.Crossing, from, to end) {
	if to.device.Served() || x.PerDay > 0 || x.Deadband > 0 || to.point.Type == value.TypeBool {
		return
	}
	period := max(from.point.PaceMs, x.PaceMs, x.AtMostMs)
	if period <= 0 {
		return
	}
	if day := 86_400_000 / period; day > 40_000 {
		c.add(x, finding.Note, "wear", "The target may wear out",
			fmt.Sprintf("%s may be written %s times a day. Where a device keeps such a point in memory that bears 100 000 "+
				"writes, that is used up in %s.", to.point.Name, thousands(float64(day)), long(24*100_000/float64(day))),
			"Give a deadband, a time between two writes, or how often a day it may be written.")
	}
}

// stages lists what makes a value old on its way, at worst.
func (c *checker) stages(x *site.Crossing) (stages []Stage, oldest, usually float64) {
	stages = []Stage{}
	add := func(title string, ms float64, share float64) {
		if ms > 0 {
			stages = append(stages, Stage{title, ms})
			oldest += ms
			usually += ms * share
		}
	}
	from, to := c.ends[x.From], c.ends[x.To]
	if c.seen.OldestMs != nil {
		if link := c.site.LinkOf(from.device, from.point); link != nil && !from.device.Served() {
			add("poll", c.seen.OldestMs(link.ID, x.From), 0.5)
		}
	}
	add("pace", float64(x.PaceMs), 0.5)
	add("between writes", float64(x.AtMostMs), 0.5)
	if c.seen.WriteMs != nil && !to.device.Served() {
		add("write", c.seen.WriteMs(x.To), 1)
	}
	if c.seen.OldestMs != nil && to.device.Served() {
		worst := 0.0
		for i := range c.site.Links {
			if l := &c.site.Links[i]; l.Answering == to.device.ID {
				worst = max(worst, c.seen.OldestMs(l.ID, x.To))
			}
		}
		add("far poll", worst, 0.5)
	}
	return stages, oldest, usually
}

func (c *checker) tooOld(x *site.Crossing, oldest float64) {
	if x.AllowMs > 0 && oldest > float64(x.AllowMs) {
		c.add(x, finding.Fault, "too-old", "It arrives too late",
			fmt.Sprintf("On the far shore the value can be %s old, and %s are allowed.", span(int(math.Ceil(oldest))),
				span(x.AllowMs)), "Ask the source at a faster pace, or carry it more often.")
	}
}

// nearer is the bound that a number is beyond.
func nearer(v, low, high float64) float64 {
	if v < low {
		return low
	}
	return high
}

// thousands prints a number with thin spaces between thousands.
func thousands(f float64) string {
	if math.Abs(f) < 10000 || math.Abs(f) >= 1e15 {
		return fmt.Sprintf("%.6g", f)
	}
	digits := fmt.Sprintf("%.0f", math.Abs(f))
	var b strings.Builder
	if f < 0 {
		b.WriteString("−")
	}
	for i, d := range digits {
		if i > 0 && (len(digits)-i)%3 == 0 {
			b.WriteString("\u2009")
		}
		b.WriteRune(d)
	}
	return b.String()
}

// long prints a time in hours as people say it.
func long(hours float64) string {
	switch d := time.Duration(hours * float64(time.Hour)); {
	case hours > 2*8766:
		return fmt.Sprintf("about %.0f years", hours/8766)
	case hours > 60*24:
		return fmt.Sprintf("about %.0f months", hours/730.5)
	case hours > 48:
		return fmt.Sprintf("about %.0f days", hours/24)
	case hours > 2:
		return fmt.Sprintf("about %.0f hours", hours)
	default:
		return fmt.Sprintf("about %.0f minutes", d.Minutes())
	}
}

// Misfit says why a crossing cannot carry one point into another, on paper; empty if
// it can.
func Misfit(x *site.Crossing, from, to *site.Point) string {
	c := &checker{ends: map[string]end{x.From: {&site.Device{}, from}, x.To: {&site.Device{}, to}}, found: []finding.Finding{}}
	way, err := NewWay(x, []*site.Point{from}, to)
	if err != nil {
		return upper(err.Error()) + "."
	}
	if c.kind(x, way, []*site.Point{from}, c.ends[x.To]) {
		c.units(x, c.ends[x.From], c.ends[x.To])
		if r, ok := reaches(way, []*site.Point{from}); ok && r.stated {
			c.fits(x, way, []*site.Point{from}, c.ends[x.To])
		}
	}
	for _, f := range c.found {
		if f.Severity != finding.Note {
			return f.Sentence
		}
	}
	return ""
}
