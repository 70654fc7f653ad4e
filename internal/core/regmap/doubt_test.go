package regmap_test

import (
	"strings"
	"testing"

	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

func TestDoubt(t *testing.T) {
	low := 0.0
	states := []site.Naming{{Value: 0, Name: "standing"}, {Value: 1, Name: "filtering"}}
	for _, c := range []struct {
		name string
		p    site.Point
		raw  value.Value
		v    value.Value
		want string // begins so, "" for none
	}{
		{"swapped words of a flow", site.Point{Type: value.TypeFloat32, Unit: "m³/h"}, value.OfFloat(2.4e-27),
			value.OfFloat(2.4e-27), "no instrument shows 2.4e-27 m³/h: look at its type and order"},
		{"a small flow", site.Point{Type: value.TypeFloat32, Unit: "m³/h"}, value.OfFloat(0.002), value.OfFloat(0.002),
			""},
		{"no flow", site.Point{Type: value.TypeFloat32, Unit: "m³/h"}, value.OfFloat(0), value.OfFloat(0), ""},
		{"below absolute zero", site.Point{Type: value.TypeInt16, Unit: "°C"}, value.OfInt(-3000), value.OfFloat(-300),
			"no instrument shows -300 °C"},
		{"the code of int16", site.Point{Type: value.TypeInt16, Unit: "mg/L"}, value.OfInt(-32768),
			value.OfFloat(-327.68), "0x8000 is what"},
		{"the code of uint16", site.Point{Type: value.TypeUint16, Unit: "mg/L"}, value.OfUint(65535),
			value.OfFloat(655.35), "0xFFFF is what"},
		{"the code of uint32", site.Point{Type: value.TypeUint32, Unit: "kWh"}, value.OfUint(1<<32 - 1),
			value.OfUint(1<<32 - 1), "0xFFFFFFFF is what"},
		{"bits all set", site.Point{Type: value.TypeUint16}, value.OfUint(65535), value.OfUint(65535), ""},
		{"decimals at their end", site.Point{Type: value.TypeBCD16, Unit: "h"}, value.OfUint(9999), value.OfUint(9999),
			""},
		{"a clock at zero", site.Point{Type: value.TypeUnix}, value.OfMoment(0), value.OfMoment(0),
			"the count of its clock is zero"},
		{"a clock not set", site.Point{Type: value.TypeUnix}, value.OfMoment(3600e3), value.OfMoment(3600e3),
			"the clock of the device is before 1990"},
		{"a clock of all ones", site.Point{Type: value.TypeUnix}, value.OfMoment((1<<32 - 1) * 1000),
			value.OfMoment((1<<32 - 1) * 1000), "the clock of the device is after 2099"},
		{"a clock", site.Point{Type: value.TypeUnix}, value.OfMoment(1795000000e3), value.OfMoment(1795000000e3), ""},
		{"outside its limits", site.Point{Type: value.TypeFloat32, Unit: "mg/L", Low: &low}, value.OfFloat(-2),
			value.OfFloat(-2), "it is outside the limits"},
		{"no unit, absurd", site.Point{Type: value.TypeFloat32}, value.OfFloat(3e-41), value.OfFloat(3e-41),
			"no instrument shows"},
		{"a named value", site.Point{Type: value.TypeEnum, Names: states}, value.OfUint(1), value.OfUint(1), ""},
		{"no named value", site.Point{Type: value.TypeEnum, Names: states}, value.OfUint(16171), value.OfUint(16171),
			"16171 is none of its named values"},
		{"nothing is named", site.Point{Type: value.TypeEnum}, value.OfUint(16171), value.OfUint(16171), ""},
		{"a state", site.Point{Type: value.TypeBool}, value.OfBool(true), value.OfBool(true), ""},
	} {
		if got := regmap.Doubt(&c.p, c.raw, c.v); got != c.want && (c.want == "" || !strings.HasPrefix(got, c.want)) {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}
