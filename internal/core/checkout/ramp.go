package checkout

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// RampStep is a moment of a ramp: what the source showed, and what was read of a point then.
type RampStep struct {
	Shown string
	Read  value.Value
}

// RampVerdict is what a ramp says of one point that went through it.
type RampVerdict struct {
	Agrees bool `json:"agrees"`
	// Says is what it did, in words, and Steps what was read at each step.
	Says  string   `json:"says"`
	Steps []string `json:"steps"`
}

// leastSteps is how many steps make a ramp.
const leastSteps = 3

// JudgeRamp looks whether a point followed a source through several steps, each to within what
// Judge allows, and says what it did instead: stayed where it was, went the other way, was a
// factor or an offset away, or left the line somewhere.
func JudgeRamp(p *site.Point, steps []RampStep) (v RampVerdict, err error) {
	if len(steps) < leastSteps {
		return v, fmt.Errorf("a ramp has %d steps at least, not %d", leastSteps, len(steps))
	}
	var xs, ys []float64
	var off []string
	for _, step := range steps {
		one, err := Judge(p, step.Read, step.Shown)
		if err != nil {
			return v, fmt.Errorf("at %s: %w", step.Shown, err)
		}
		shown, err := p.ParseValue(strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(step.Shown), p.Unit)))
		if err != nil {
			return v, fmt.Errorf("at %s: %w", step.Shown, err)
		}
		if !number(step.Read) || !number(shown) {
			return v, fmt.Errorf("%s is no number, and does not go through a ramp", p.Name)
		}
		xs, ys = append(xs, shown.Float()), append(ys, step.Read.Float())
		v.Steps = append(v.Steps, p.Shown(step.Read))
		if !one.Agrees {
			off = append(off, fmt.Sprintf("%s at %s", p.Shown(step.Read), step.Shown))
		}
	}
	low, high := bounds(xs)
	if low == high {
		return v, fmt.Errorf("the source stood at %s all the time: that is no ramp", steps[0].Shown)
	}
	if v.Agrees = len(off) == 0; v.Agrees {
		v.Says = fmt.Sprintf("followed through %d steps from %s to %s", len(steps), figure(low), figure(high))
		return v, nil
	}
	v.Says = strayed(xs, ys, off)
	return v, nil
}

// strayed says how what was read departs from what the source showed.
func strayed(xs, ys []float64, off []string) string {
	low, high := bounds(xs)
	least, most := bounds(ys)
	slope, offset, away := line(xs, ys)
	span := math.Abs(slope) * (high - low)
	switch {
	case most-least <= 1e-9*math.Max(1, math.Abs(most)):
		return "did not follow: it stood at " + figure(most) + " all the time"
	case away > 0.02*span:
		return "left the line: it read " + strings.Join(off, ", ")
	case slope < 0:
		return "went the other way: it fell where the source rose"
	case math.Abs(slope-1) < 0.005:
		return fmt.Sprintf("read %s %s than the source throughout", figure(math.Abs(offset)),
			map[bool]string{true: "more", false: "less"}[offset > 0])
	case math.Abs(offset) < 0.01*span:
		return fmt.Sprintf("read %s times what the source showed: look at its scale", figure(slope))
	}
	return fmt.Sprintf("read %s times what the source showed, and %s: look at its range", figure(slope), figure(offset))
}

// line is the straight one through points, by least squares, and how far the farthest is away.
func line(xs, ys []float64) (slope, offset, away float64) {
	n := float64(len(xs))
	var mx, my, xx, xy float64
	for i := range xs {
		mx, my = mx+xs[i]/n, my+ys[i]/n
	}
	for i := range xs {
		xx, xy = xx+(xs[i]-mx)*(xs[i]-mx), xy+(xs[i]-mx)*(ys[i]-my)
	}
	slope = xy / xx
	offset = my - slope*mx
	for i := range xs {
		away = math.Max(away, math.Abs(ys[i]-slope*xs[i]-offset))
	}
	return slope, offset, away
}

func bounds(list []float64) (low, high float64) {
	low, high = list[0], list[0]
	for _, v := range list {
		low, high = math.Min(low, v), math.Max(high, v)
	}
	return low, high
}

func figure(v float64) string { return strconv.FormatFloat(v, 'g', 4, 64) }
