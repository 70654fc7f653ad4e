package crossing

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/finding"
	"ferry/internal/core/site"
	"ferry/internal/core/unit"
	"ferry/internal/core/value"
)

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
		c.out(Out{Title: "carry what is left over, with a roll-over",
			Costs:    "the far side must count how often it begins anew",
			Crossing: changed(x, func(x *site.Crossing) { x.Way = append(x.Way, site.Step{Do: site.DoCount}) })})
	}
	c.out(Out{Title: fmt.Sprintf("stop at %s and %s", thousands(low), thousands(high)),
		Costs: "beyond that the target stands still",
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
		if later, err := way.Carry([]value.Value{value.OfFloat(v.Float() + c.seen.PerHour(x.From))},
			value.Value{}); err == nil {
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
		if !ok || known && (r.low < low || r.high > high) || !known &&
			wider.Bytes(0) <= to.point.Type.Bytes(to.point.Length) {
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
				Costs: fmt.Sprintf("loses what is finer than %g",
					math.Abs(point.Factor)), Point: &point, Device: to.device.ID})
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
			fmt.Sprintf("The deadband is %g %% of the limits of %s, which has none: every change is written.",
				x.Deadband,
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

// wears warns where a target in the memory of a device may be written very often. What
// only has a name, as a topic, is no such memory.
func (c *checker) wears(x *site.Crossing, from, to end) {
	if to.device.Served() || x.PerDay > 0 || x.Deadband > 0 || to.point.Type == value.TypeBool {
		return
	}
	scheme, err := to.device.SchemeOf(to.point)
	period := max(from.point.PaceMs, x.PaceMs, x.AtMostMs)
	if err != nil || len(block.AreasOf(scheme)) == 0 || period <= 0 {
		return
	}
	if day := 86_400_000 / period; day > 40_000 {
		c.add(x, finding.Note, "wear", "The target may wear out",
			fmt.Sprintf("%s may be written %s times a day. Where a device keeps such a point in memory that bears 100 000 "+
				"writes, that is used up in %s.", to.point.Name, thousands(float64(day)), long(24*100_000/float64(day))),
			"Give a deadband, a time between two writes, or how often a day it may be written.")
	}
}

// Misfit says why a crossing cannot carry one point into another, on paper; empty if
// it can.
func Misfit(x *site.Crossing, from, to *site.Point) string {
	c := &checker{ends: map[string]end{x.From: {&site.Device{}, from}, x.To: {&site.Device{}, to}},
		found: []finding.Finding{}}
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
