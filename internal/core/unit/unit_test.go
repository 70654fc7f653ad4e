package unit

import (
	"math"
	"testing"

	"ferry/internal/core/value"
)

func TestBetween(t *testing.T) {
	for _, c := range []struct {
		from, to string
		in, out  float64
	}{
		{"°C", "°F", 12.5, 54.5}, {"°F", "°C", 54.5, 12.5}, {"K", "°F", 273.15, 32}, {"degC", "K", 0, 273.15},
		{"m³/h", "l/s", 36, 10}, {"l/min", "m³/h", 1000, 60}, {"bar", "psi", 1, 14.503773773}, {"kWh", "MJ", 1, 3.6},
		{"mH2O", "kPa", 1, 9.80665}, {"rpm", "Hz", 1500, 25}, {"mg/L", "µg/L", 8.42, 8420}, {"kg/d", "g/min", 1.44, 1},
		{"pu", "%", 0.61, 61}, {"S/m", "mS/cm", 5, 50}, {"NTU", "NTU", 3, 3},
	} {
		scale, err := Between(c.from, c.to)
		if err != nil {
			t.Errorf("%s to %s: %v", c.from, c.to, err)
			continue
		}
		if got := scale.Apply(value.OfFloat(c.in)).Float(); math.Abs(got-c.out) > 1e-9*math.Abs(c.out) {
			t.Errorf("%g %s are %g %s, want %g", c.in, c.from, got, c.to, c.out)
		}
	}
	for _, c := range [][2]string{{"bar", "°C"}, {"NTU", "FNU"}, {"kVA", "kW"}, {"ppm", "mg/L"}, {"", "m"},
		{"Furlong", "m"}} {
		if scale, err := Between(c[0], c[1]); err == nil {
			t.Errorf("%s becomes %s by %+v", c[0], c[1], scale)
		}
	}
	if got := Near("m^3/h"); got != "m³/h" {
		t.Errorf("m^3/h is taken for %q", got)
	}
	for kind, units := range kinds {
		for _, u := range units {
			if Kind(u.name) != kind {
				t.Errorf("%s is of %s and of %s", u.name, kind, Kind(u.name))
			}
		}
	}
}
