// Package unit knows the units in which instruments measure: which quantity each
// is of, and how a number of one becomes a number of another.
package unit

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"ferry/internal/core/value"
)

// unit is one unit of a quantity: so much of the base unit of its quantity is one
// of it, from zero on. Those with a factor of 0 are of the quantity and measured
// by no common base.
type unit struct {
	name   string
	factor float64
	zero   float64
}

// kinds lists the quantities with the units that are usual for them, the usual
// spelling first. The first unit is the base, with 1.
var kinds = map[string][]unit{
	"temperature": {{"°C", 1, 0}, {"°F", 5.0 / 9, -160.0 / 9}, {"K", 1, -273.15}, {"degC", 1, 0},
		{"degF", 5.0 / 9, -160.0 / 9}, {"℃", 1, 0}, {"℉", 5.0 / 9, -160.0 / 9}},
	// The pound-force per square inch is 0.45359237 kg × 9.80665 m/s² on (25.4 mm)²;
	// columns of water are those at 4 °C (ISO 80000-4, annex C).
	"pressure": {{"Pa", 1, 0}, {"hPa", 100, 0}, {"kPa", 1e3, 0}, {"MPa", 1e6, 0}, {"bar", 1e5, 0}, {"mbar", 100, 0},
		{"psi", 6894.757293168361, 0}, {"mH2O", 9806.65, 0}, {"mmHg", 133.322387415, 0}, {"cmH2O", 98.0665, 0}},
	"length": {{"m", 1, 0}, {"mm", 1e-3, 0}, {"cm", 1e-2, 0}, {"km", 1e3, 0}, {"µm", 1e-6, 0}, {"in", 0.0254, 0},
		{"ft", 0.3048, 0}},
	"volume": {{"m³", 1, 0}, {"l", 1e-3, 0}, {"L", 1e-3, 0}, {"ml", 1e-6, 0}, {"mL", 1e-6, 0}, {"m3", 1, 0},
		{"hl", 0.1, 0}, {"gal", 0, 0}}, // a gallon is of one of two sizes
	"flow": {{"m³/h", 1, 0}, {"l/s", 3.6, 0}, {"L/s", 3.6, 0}, {"l/min", 0.06, 0}, {"L/min", 0.06, 0},
		{"m³/s", 3600, 0}, {"l/h", 1e-3, 0}, {"L/h", 1e-3, 0}, {"m3/h", 1, 0}, {"ml/min", 6e-5, 0},
		{"mL/min", 6e-5, 0}, {"gpm", 0, 0}},
	// Parts per million and moles need to know of what, in what.
	"concentration": {{"mg/L", 1, 0}, {"mg/l", 1, 0}, {"µg/L", 1e-3, 0}, {"g/L", 1e3, 0}, {"ppm", 0, 0}, {"ppb", 0, 0},
		{"µg/l", 1e-3, 0}, {"mmol/L", 0, 0}, {"µmol/L", 0, 0}},
	"ratio":   {{"%", 1, 0}, {"‰", 0.1, 0}, {"PSU", 0, 0}, {"%RH", 0, 0}, {"% sat", 0, 0}, {"pu", 100, 0}},
	"voltage": {{"V", 1, 0}, {"mV", 1e-3, 0}, {"kV", 1e3, 0}, {"µV", 1e-6, 0}},
	"current": {{"A", 1, 0}, {"mA", 1e-3, 0}, {"kA", 1e3, 0}, {"nA", 1e-9, 0}, {"µA", 1e-6, 0}},
	// Apparent and reactive power are no active power.
	"power": {{"W", 1, 0}, {"kW", 1e3, 0}, {"MW", 1e6, 0}, {"VA", 0, 0}, {"kVA", 0, 0}, {"var", 0, 0}, {"kvar", 0, 0},
		{"mW", 1e-3, 0}},
	"energy": {{"Wh", 1, 0}, {"kWh", 1e3, 0}, {"MWh", 1e6, 0}, {"J", 1.0 / 3600, 0}, {"kJ", 1 / 3.6, 0},
		{"MJ", 1000 / 3.6, 0}, {"varh", 0, 0}, {"kvarh", 0, 0}, {"GWh", 1e9, 0}},
	"frequency": {{"Hz", 1, 0}, {"kHz", 1e3, 0}, {"MHz", 1e6, 0}, {"rpm", 1.0 / 60, 0}, {"1/min", 1.0 / 60, 0},
		{"min⁻¹", 1.0 / 60, 0}, {"r/min", 1.0 / 60, 0}},
	"time": {{"s", 1, 0}, {"ms", 1e-3, 0}, {"min", 60, 0}, {"h", 3600, 0}, {"d", 86400, 0}, {"µs", 1e-6, 0},
		{"days", 86400, 0}},
	"mass": {{"kg", 1, 0}, {"g", 1e-3, 0}, {"t", 1e3, 0}, {"mg", 1e-6, 0}, {"lb", 0.45359237, 0}},
	"mass flow": {{"kg/h", 1, 0}, {"kg/s", 3600, 0}, {"g/min", 0.06, 0}, {"t/h", 1e3, 0}, {"kg/d", 1.0 / 24, 0},
		{"g/s", 3.6, 0}},
	"speed": {{"m/s", 1, 0}, {"mm/s", 1e-3, 0}, {"km/h", 1 / 3.6, 0}, {"m/min", 1.0 / 60, 0}},
	"force": {{"N", 1, 0}, {"kN", 1e3, 0}, {"Nm", 0, 0}, {"N·m", 0, 0}}, // a torque is no force
	"irradiance": {{"W/m²", 1, 0}, {"mW/cm²", 10, 0}, {"mJ/cm²", 0, 0}, {"J/m²", 0, 0}, {"lx", 0, 0},
		{"µmol/m²/s", 0, 0}},
	"conductivity": {{"mS/cm", 1, 0}, {"µS/cm", 1e-3, 0}, {"S/m", 10, 0}},
	"turbidity":    {{"NTU", 0, 0}, {"FNU", 0, 0}, {"FTU", 0, 0}}, // measured in different ways
	"count":        {{"pcs", 1, 0}, {"count", 1, 0}, {"counts", 1, 0}, {"pulses", 0, 0}, {"fish", 0, 0}},
	"acidity":      {{"pH", 1, 0}},
	"resistance":   {{"Ω", 1, 0}, {"kΩ", 1e3, 0}, {"MΩ", 1e6, 0}, {"ohm", 1, 0}},
	"signal":       {{"dB", 0, 0}, {"dBm", 0, 0}},
	"angle":        {{"°", 1, 0}, {"deg", 1, 0}, {"rad", 57.29577951308232, 0}},
	"density":      {{"kg/m³", 1, 0}, {"g/cm³", 1e3, 0}, {"kg/L", 1e3, 0}},
}

type known struct {
	kind string
	unit
}

var byName = func() map[string]known {
	index := map[string]known{}
	for kind, units := range kinds {
		for _, u := range units {
			index[u.name] = known{kind, u}
		}
	}
	return index
}()

// Kind names the quantity of a unit, empty where the unit is not one of those in
// use.
func Kind(name string) string { return byName[name].kind }

var marks = strings.NewReplacer("°", "", "º", "", "deg", "", "³", "3", "²", "2", "µ", "u", "μ", "u", " ", "", "^",
	"", ".", "", "*", "", "·", "")

// Near returns the known unit that was probably meant: the same letters in other
// case or with plain characters for special ones. It is empty where there is none.
func Near(name string) string {
	fold := func(u string) string { return strings.ToLower(marks.Replace(u)) }
	want := fold(name)
	if want == "" {
		return ""
	}
	for _, kind := range slices.Sorted(maps.Keys(kinds)) {
		for _, u := range kinds[kind] {
			if fold(u.name) == want {
				return u.name
			}
		}
	}
	return ""
}

// Between returns the scale that turns a number of one unit into one of another.
// It fails where they do not measure the same.
func Between(from, to string) (value.Linear, error) {
	a, b := byName[from], byName[to]
	switch {
	case from == to && from != "":
		return value.Linear{}, nil
	case a.kind == "":
		return value.Linear{}, unknown(from)
	case b.kind == "":
		return value.Linear{}, unknown(to)
	case a.kind != b.kind:
		return value.Linear{}, fmt.Errorf("%s is a unit of %s and %s of %s", from, a.kind, to, b.kind)
	case a.factor == 0 || b.factor == 0:
		return value.Linear{}, fmt.Errorf("%s does not become %s without more being known: give the scale", from, to)
	}
	return value.Linear{Factor: a.factor / b.factor, Offset: (a.zero - b.zero) / b.factor}, nil
}

func unknown(name string) error {
	if near := Near(name); near != "" {
		return fmt.Errorf("%q is no unit that is known: is %s meant", name, near)
	}
	return fmt.Errorf("%q is no unit that is known: give the scale", name)
}
