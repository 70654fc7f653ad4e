package checkout_test

import (
	"testing"

	"ferry/internal/core/checkout"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// TestCounterpart: another program's point for the same value is found by its crossing, or by
// its name; never one in another unit or behind a formula.
func TestCounterpart(t *testing.T) {
	p := func(id, name, unit string) site.Point {
		return site.Point{ID: id, Name: name, Unit: unit, Type: value.TypeFloat32}
	}
	s := site.New("Skerry Point Hatchery")
	s.Devices = []site.Device{
		{ID: "do", Name: "DO probe 11", Points: []site.Point{p("a", "Oxygen", "mg/L"), p("b", "WaterTemp", "°C"),
			p("c", "Salinity", "‰"), p("d", "Pressure", "kPa")}},
		{ID: "far", Name: "Cloud", Points: []site.Point{p("fa", "O2", "mg/L"), p("fb", "T", "°F"),
			p("fc", "DO-probe-11.Salinity", "‰"), p("fd", "Pressure", "bar")}}}
	s.Crossings = []site.Crossing{{ID: "x", From: "a", To: "fa"}, {ID: "y", From: "b", To: "fb", Factor: 1.8, Offset: 32}}
	g := checkout.On(s)
	for i, want := range []string{"fa", "", "fc", ""} {
		got := ""
		if far := g.Counterpart(&s.Devices[0], &s.Devices[0].Points[i], &s.Devices[1]); far != nil {
			got = far.ID
		}
		if got != want {
			t.Errorf("%s: %q, not %q", s.Devices[0].Points[i].Name, got, want)
		}
	}
}
