package bacnet

import (
	"strings"
	"testing"

	"ferry/internal/core/value"
)

// TestPlaces: places are read in every notation, printed in one, and wrong ones are said.
func TestPlaces(t *testing.T) {
	for text, want := range map[string]string{"analog-input:3": "analog-input:3", "AI3": "analog-input:3", "ai 3": "analog-input:3",
		"0:3": "analog-input:3", "Analog Input 3": "analog-input:3", "BV:4194302": "binary-value:4194302", "MSV7": "multi-state-value:7",
		"analog-value:2.priority-array[8]": "analog-value:2.priority-array[8]", "AV2.Priority Array[0]": "analog-value:2.priority-array[0]",
		"device:4050.object-list": "device:4050.object-list", "AI3.present-value": "analog-input:3", "150:9.512": "150:9.512",
		"acc1.units": "accumulator:1.units"} {
		p, err := ParsePlace(text)
		if err != nil || p.String() != want {
			t.Errorf("%s: %s, %v", text, p, err)
			continue
		}
		if again, ok := PlaceOf(p.Address()); !ok || again != p {
			t.Errorf("%s: %+v became %+v", text, p, again)
		}
		for _, n := range Scheme.Notations(p.Address()) {
			if again, err := ParsePlace(n.Text); err != nil || again != p {
				t.Errorf("%s as %s: %+v, %v", text, n.Text, again, err)
			}
		}
	}
	for text, want := range map[string]string{"3": "say of which type", "": "a type of object and an instance", "XY3": `no type of object "XY"`,
		"AI4194303": "from 0 to 4194302", "AI3.colour": `no property "colour"`, "AI3.units[": "in brackets", "2000:1": "no type of object",
		"AI": "a type of object and an instance"} {
		if p, err := ParsePlace(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %+v, %v", text, p, err)
		}
	}
	if a, err := Scheme.Parse("7", "analog-value"); err != nil || Scheme.Short(a) != "analog-value:7" {
		t.Errorf("%v, %v", a, err)
	}
	at, _ := Scheme.Parse("AI3", "")
	if err := Scheme.Check(at, value.Shape{Type: value.TypeText}); err == nil {
		t.Error("an analogue input holds a text")
	}
}

// TestUnits: each unit is found by its name, by how people write it, and by its number; small and large
// letters that mean other units do not mix.
func TestUnits(t *testing.T) {
	for n := range units {
		if is, ok := UnitCalled(n.Name()); !ok || is != n {
			t.Errorf("%s is %d, and not %d", n.Name(), is, n)
		}
	}
	for text, want := range map[string]Unit{"°C": 62, "kWh": 19, "mg/L": 215, "mg/l": 215, "m³/h": 135, "m3/h": 135, "mW": 132, "MW": 49, "mΩ": 145,
		"MΩ": 123, "V": 5, "mV": 124, "MV": 7, "Hz": 27, "%": 98, "kW": 48, "bar": 55, "mbar": 134, "mS": 202, "": NoUnits, "62": 62,
		"degrees celsius": 62, "MWh": 146, "pH": 234, "kvar": 12, "Mvar": 13, "mm": 30} {
		if is, ok := UnitCalled(text); !ok || is != want {
			t.Errorf("%s is %d (%s), want %d", text, is, is.Name(), want)
		}
	}
	if u, ok := UnitCalled("fish per tank"); ok {
		t.Errorf("fish per tank is %s", u.Name())
	}
	if got := Unit(62).Short() + Unit(25).Short() + NoUnits.Short() + Unit(9000).Short(); got != "°Ccycles per hourunit 9000" {
		t.Error(got)
	}
}

func FuzzPlace(f *testing.F) {
	for _, text := range []string{"analog-input:3", "AV2.priority-array[8]", "150:9.512", "device:1"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p, err := ParsePlace(text)
		if err != nil {
			return
		}
		if again, err := ParsePlace(p.String()); err != nil || again != p {
			t.Errorf("%q: %+v became %+v, %v", text, p, again, err)
		}
	})
}
