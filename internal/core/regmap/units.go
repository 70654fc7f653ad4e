package regmap

import (
	"maps"
	"slices"
	"strings"
)

// kinds lists the quantities with the units that are usual for them.
var kinds = map[string][]string{
	"temperature":   {"°C", "°F", "K", "degC", "degF", "℃", "℉"},
	"pressure":      {"Pa", "hPa", "kPa", "MPa", "bar", "mbar", "psi", "mH2O", "mmHg", "cmH2O"},
	"length":        {"m", "mm", "cm", "km", "µm", "in", "ft"},
	"volume":        {"m³", "l", "L", "ml", "mL", "m3", "hl", "gal"},
	"flow":          {"m³/h", "l/s", "L/s", "l/min", "L/min", "m³/s", "l/h", "L/h", "m3/h", "ml/min", "mL/min", "gpm"},
	"concentration": {"mg/L", "mg/l", "µg/L", "g/L", "ppm", "ppb", "µg/l", "mmol/L", "µmol/L"},
	"ratio":         {"%", "‰", "PSU", "%RH", "% sat", "pu"},
	"voltage":       {"V", "mV", "kV", "µV"},
	"current":       {"A", "mA", "kA", "nA", "µA"},
	"power":         {"W", "kW", "MW", "VA", "kVA", "var", "kvar", "mW"},
	"energy":        {"Wh", "kWh", "MWh", "J", "kJ", "MJ", "varh", "kvarh", "GWh"},
	"frequency":     {"Hz", "kHz", "MHz", "rpm", "1/min", "min⁻¹", "r/min"},
	"time":          {"s", "ms", "min", "h", "d", "µs", "days"},
	"mass":          {"kg", "g", "t", "mg", "lb"},
	"mass flow":     {"kg/h", "kg/s", "g/min", "t/h", "kg/d", "g/s"},
	"speed":         {"m/s", "mm/s", "km/h", "m/min"},
	"force":         {"N", "kN", "Nm", "N·m"},
	"irradiance":    {"W/m²", "mW/cm²", "mJ/cm²", "J/m²", "lx", "µmol/m²/s"},
	"conductivity":  {"mS/cm", "µS/cm", "S/m"},
	"turbidity":     {"NTU", "FNU", "FTU"},
	"count":         {"pcs", "count", "counts", "pulses", "fish"},
	"acidity":       {"pH"},
	"resistance":    {"Ω", "kΩ", "MΩ", "ohm"},
	"signal":        {"dB", "dBm"},
	"angle":         {"°", "deg", "rad"},
	"density":       {"kg/m³", "g/cm³", "kg/L"},
}

var kindOf = func() map[string]string {
	index := map[string]string{}
	for kind, units := range kinds {
		for _, unit := range units {
			index[unit] = kind
		}
	}
	return index
}()

// KnownUnit reports whether a unit is one of those in use.
func KnownUnit(unit string) bool { return kindOf[unit] != "" }

var unitMarks = strings.NewReplacer("°", "", "º", "", "deg", "", "³", "3", "²", "2", "µ", "u", "μ", "u", " ", "", "^",
	"", ".", "", "*", "", "·", "")

// nearUnit returns the known unit that was probably meant: the same letters in
// other case or with plain characters for special ones.
func nearUnit(unit string) string {
	fold := func(u string) string { return strings.ToLower(unitMarks.Replace(u)) }
	want := fold(unit)
	if want == "" {
		return ""
	}
	for _, kind := range slices.Sorted(maps.Keys(kinds)) {
		for _, known := range kinds[kind] { // the usual spelling first
			if fold(known) == want {
				return known
			}
		}
	}
	return ""
}

// quantityWords name the quantity that a point's own name speaks of, with the
// kinds of unit that go with it.
var quantityWords = []struct {
	word  string
	kinds []string
}{
	{"temp", []string{"temperature"}}, {"pressure", []string{"pressure"}},
	{"flow", []string{"flow", "mass flow", "volume", "mass", "speed"}},
	{"voltage", []string{"voltage"}}, {"frequency", []string{"frequency"}}, {"energy", []string{"energy"}},
	{"hours", []string{"time"}},
}

// unitSuits reports whether a unit may belong to a point of that name: it is
// not known, a ratio, or of a kind that the name speaks of, if it speaks of any.
func unitSuits(name, unit string) bool {
	kind := kindOf[unit]
	if kind == "" || kind == "ratio" || kind == "signal" {
		return true
	}
	lower := strings.ToLower(name)
	for _, q := range quantityWords {
		if strings.Contains(lower, q.word) {
			return slices.Contains(q.kinds, kind)
		}
	}
	return true
}
