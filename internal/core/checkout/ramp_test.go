package checkout_test

import (
	"strings"
	"testing"

	"ferry/internal/core/checkout"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// TestJudgeRamp: a point that follows is right, and what it does instead is said.
func TestJudgeRamp(t *testing.T) {
	p := &site.Point{Name: "Level", Unit: "m", Type: value.TypeFloat32}
	for _, c := range []struct {
		name, shown string
		read        []float64
		says, err   string
	}{
		{"follows", "0 1.0 2.0 3.0", []float64{0, 1.02, 1.98, 3}, "followed through 4 steps from 0 to 3", ""},
		{"stands", "0 1 2", []float64{1.5, 1.5, 1.5}, "stood at 1.5", ""},
		{"the other way", "0.0 1.0 2.0", []float64{2, 1, 0}, "went the other way", ""},
		{"ten times", "0.0 1.0 2.0", []float64{0, 10, 20}, "10 times what the source showed: look at its scale", ""},
		{"more throughout", "0.0 1.0 2.0", []float64{0.5, 1.5, 2.5}, "read 0.5 more", ""},
		{"another range", "0.0 1.0 2.0", []float64{-5, 7.5, 20}, "look at its range", ""},
		{"not at the top", "0.0 1.0 2.0 3.0", []float64{0, 1, 2, 2.2}, "left the line: it read 2.2 at 3.0", ""},
		{"too few", "0 1", []float64{0, 1}, "", "3 steps at least"},
		{"no ramp", "1 1 1", []float64{1, 1, 1}, "", "no ramp"},
		{"no number", "0 one 2", []float64{0, 1, 2}, "", "at one"},
	} {
		var steps []checkout.RampStep
		for i, shown := range strings.Fields(c.shown) {
			steps = append(steps, checkout.RampStep{Shown: shown, Read: value.OfFloat(c.read[i])})
		}
		v, err := checkout.JudgeRamp(p, steps)
		if c.err != "" {
			if err == nil || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%s: %v", c.name, err)
			}
			continue
		}
		if err != nil || !strings.Contains(v.Says, c.says) || v.Agrees != (c.name == "follows") ||
			len(v.Steps) != len(steps) {
			t.Errorf("%s: %+v, %v", c.name, v, err)
		}
	}
}
