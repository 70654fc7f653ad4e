package modbus

import (
	"testing"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
)

func TestParse(t *testing.T) {
	for _, c := range []struct {
		text, hint, want string // want is canonical; "" means refused
	}{
		{"40003", "", "hr2"}, {"400003", "", "hr2"}, {"4x3", "", "hr2"}, {"4x00003", "", "hr2"}, {"hr2", "ir", "hr2"},
		{"HR0x2", "", "hr2"},
		{"2", "", "hr2"}, {"2", "ir", "ir2"}, {"0x0002", "co", "co2"}, {"%MW2", "", "hr2"}, {"%iw7", "", "ir7"},
		{"%QX5", "", "co5"}, {"%IX5", "", "di5"},
		{"30001", "", "ir0"}, {"10001", "", "di0"}, {"00001", "", "co0"}, {"000001", "", "co0"}, {"0x00001", "", "co0"},
		{"465536", "", "hr65535"},
		{"40005.2", "", "hr4.2"}, {"hr4.15", "", "hr4.15"}, {"%MX4.2", "", "hr4.2"}, {"%MW4.2", "", "hr4.2"},
		{"%IX3.1", "", "ir3.1"}, {" 40001 ", "", "hr0"},
		{"", "", ""}, {"40000", "", ""}, {"400000", "", ""}, {"465537", "", ""}, {"hr65536", "", ""}, {"50001", "", ""},
		{"4000012", "", ""}, {"40001.16", "", ""},
		{"00001.3", "", ""}, {"abc", "", ""}, {"hr", "", ""}, {"hr-1", "", ""}, {"%MD4", "", "hr8"}, {"%ML4", "", ""},
		{"%MW", "", ""}, {"-5", "", ""}, {"4x0", "", ""}, {"40001.", "", ""},
	} {
		got, err := Scheme.Parse(c.text, c.hint)
		if got.String() != c.want || (err == nil) != (c.want != "") {
			t.Errorf("%q in %q reads as %q, %v; want %q", c.text, c.hint, got, err, c.want)
		}
	}
}

// TestNotations: every notation that is printed can be typed.
func TestNotations(t *testing.T) {
	for _, area := range Scheme.Areas() {
		for _, offset := range []uint32{0, 1, 9998, 9999, 65535} {
			for _, bit := range []int{-1, 0, 15} {
				if bit >= 0 && area.UnitBits == 1 {
					continue
				}
				a := block.WithBit(block.At(area.Key, offset), bit)
				for _, n := range append(Scheme.Notations(a), address.Notation{Name: "short", Text: Scheme.Short(a)}) {
					if back, err := Scheme.Parse(n.Text, area.Key); err != nil || back != a {
						t.Errorf("%s is printed as %s %q and reads as %s, %v", a, n.Name, n.Text, back, err)
					}
				}
			}
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"40003", "400003.2", "4x12", "0x1F", "%MX4.2", "hr2", "", "999999"} {
		f.Add(seed, "hr")
	}
	f.Fuzz(func(t *testing.T, text, hint string) {
		a, err := Scheme.Parse(text, hint)
		if err != nil {
			return
		}
		if back, err := Scheme.Parse(Scheme.Short(a), ""); err != nil || back != a {
			t.Fatalf("%q reads as %s, which is printed %q and reads as %s, %v", text, a, Scheme.Short(a), back, err)
		}
	})
}

// TestAreaNamed: lists name the tables by words and by function codes.
func TestAreaNamed(t *testing.T) {
	for text, want := range map[string]string{
		"Holding register": "hr", "HOLDING": "hr", "03": "hr", "0x03": "hr", "FC3": "hr", "Function code 16": "hr",
		"03/06/16": "hr", "4x": "hr", "hr": "hr", "holding registers": "hr",
		"4": "ir", "Input Register": "ir", "3x": "ir", "1": "co", "Coil": "co", "0x": "co", "02": "di",
		"discrete-input": "di", "1x": "di", "": "", "99": "", "register": "",
	} {
		if area, ok := block.AreaNamed(Scheme, text); area.Key != want || ok != (want != "") {
			t.Errorf("%q names %q, want %q", text, area.Key, want)
		}
	}
}
