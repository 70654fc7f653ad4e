package regmap

import (
	"fmt"
	"strings"
	"testing"

	"ferry/internal/core/block"
	family "ferry/internal/core/family/modbus"

	"ferry/internal/core/site"
	"ferry/internal/core/unit"
	"ferry/internal/core/value"
)

// TestStrips: the ribbon for paper leaves out what nobody uses, cuts a value at
// the end of a stretch, and sets overlaps beside each other.
func TestStrips(t *testing.T) {
	point := func(name string, area string, offset uint32, typ value.Type) site.Point {
		return site.Point{Name: name, Address: block.At(area, offset), Type: typ}
	}
	bit := point("Bit", "hr", 3, value.TypeBool)
	bit.Address = block.WithBit(bit.Address, 2)
	points := []site.Point{point("Far", "hr", 200, value.TypeUint16), point("A", "hr", 0, value.TypeFloat32),
		point("Clash", "hr", 1, value.TypeUint16), point("Word", "hr", 3, value.TypeUint16), bit,
		point("Across", "hr", 15, value.TypeFloat64), point("Coil", "co", 5, value.TypeBool), {Name: "Nowhere"}}
	var got []string
	for _, s := range Strips(family.Scheme, points, 16) {
		text := fmt.Sprintf("%s%d:", s.Area.Key, s.From)
		for _, b := range s.Blocks {
			text += fmt.Sprintf(" %s@%d+%d", b.Point.Name, b.From, b.Units)
			if b.Overlap {
				text += fmt.Sprintf("/%d", b.Lane)
			}
		}
		got = append(got, text)
	}
	want := "hr0: A@0+2 Clash@1+1/1 Word@3+1 Bit@3+1 Across@15+1|hr16: Across@0+3|hr192: Far@8+1|co0: Coil@5+1"
	if strings.Join(got, "|") != want {
		t.Errorf("got  %s\nwant %s", strings.Join(got, "|"), want)
	}
}

func TestNameRules(t *testing.T) {
	fits := map[string]map[string]string{ // rule -> name -> the nearest that suits
		"iec61131": {"Tank 1 °C": "Tank_1_degC", "3rd pump": "_3rd_pump", "A__B": "A_B", "Level": "Level",
			"pH-Wert": "pH_Wert"},
		"mqtt":     {"row/A+#": "row_A_", "Tank 1": "Tank 1"},
		"ascii32":  {"Température de l'eau du bassin numéro 12": "Temperature_de_l'eau_du_bassin_n"},
		"iec61850": {"Tank-1.Level": "Tank1Level", "OxygenSaturation": "OxygenSatura"},
	}
	for _, rule := range NameRules() {
		for name, want := range fits[rule.Key] {
			got := rule.Fit(name)
			if got != want {
				t.Errorf("%s for %s becomes %q, want %q", name, rule.Title, got, want)
			}
			if ok, why := rule.Holds(got); !ok {
				t.Errorf("%q does not suit %s after all: %s", got, rule.Title, why)
			}
			if ok, _ := rule.Holds(name); ok != (name == want) {
				t.Errorf("%q suits %s: %v", name, rule.Title, ok)
			}
		}
		if fits[rule.Key] == nil {
			t.Errorf("%s has no row", rule.Key)
		}
	}
}

func TestUnits(t *testing.T) {
	for name, want := range map[string]string{"uS/cm": "µS/cm", "C": "°C", "M3/H": "m³/h", "MG/L": "mg/L",
		"W/m2": "W/m²", "furlong": "", "": ""} {
		if got := unit.Near(name); got != want || KnownUnit(name) {
			t.Errorf("%q is near %q, want %q", name, got, want)
		}
	}
	for _, c := range []struct {
		name, unit string
		suits      bool
	}{{"WaterTemp", "°C", true}, {"WaterTemp", "bar", false}, {"FlowTotal", "m³", true}, {"RunHours", "kW", false},
		{"Level", "bar", true}, {"Pressure", "%", true}, {"Voltage1", "furlong", true}} {
		if unitSuits(c.name, c.unit) != c.suits {
			t.Errorf("%s in %s: %v", c.name, c.unit, !c.suits)
		}
	}
}
