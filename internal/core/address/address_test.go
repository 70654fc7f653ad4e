package address

import (
	"strings"
	"testing"
)

func TestModbusParse(t *testing.T) {
	for _, c := range []struct {
		text, hint, want string // want is canonical; "" means refused
	}{
		{"40003", "", "hr2"}, {"400003", "", "hr2"}, {"4x3", "", "hr2"}, {"4x00003", "", "hr2"}, {"hr2", "ir", "hr2"}, {"HR0x2", "", "hr2"},
		{"2", "", "hr2"}, {"2", "ir", "ir2"}, {"0x0002", "co", "co2"}, {"%MW2", "", "hr2"}, {"%iw7", "", "ir7"}, {"%QX5", "", "co5"}, {"%IX5", "", "di5"},
		{"30001", "", "ir0"}, {"10001", "", "di0"}, {"00001", "", "co0"}, {"000001", "", "co0"}, {"0x00001", "", "co0"}, {"465536", "", "hr65535"},
		{"40005.2", "", "hr4.2"}, {"hr4.15", "", "hr4.15"}, {"%MX4.2", "", "hr4.2"}, {"%MW4.2", "", "hr4.2"}, {"%IX3.1", "", "ir3.1"}, {" 40001 ", "", "hr0"},
		{"", "", ""}, {"40000", "", ""}, {"400000", "", ""}, {"465537", "", ""}, {"hr65536", "", ""}, {"50001", "", ""}, {"4000012", "", ""}, {"40001.16", "", ""},
		{"00001.3", "", ""}, {"abc", "", ""}, {"hr", "", ""}, {"hr-1", "", ""}, {"%MD4", "", "hr8"}, {"%ML4", "", ""}, {"%MW", "", ""}, {"-5", "", ""}, {"4x0", "", ""}, {"40001.", "", ""},
	} {
		got, err := Modbus.Parse(c.text, c.hint)
		if got.String() != c.want || (err == nil) != (c.want != "") {
			t.Errorf("%q in %q reads as %q, %v; want %q", c.text, c.hint, got, err, c.want)
		}
	}
}

// TestModbusNotations: every notation that is printed can be typed.
func TestModbusNotations(t *testing.T) {
	for _, area := range Modbus.Areas() {
		for _, offset := range []uint32{0, 1, 9998, 9999, 65535} {
			for _, bit := range []int{-1, 0, 15} {
				if bit >= 0 && area.UnitBits == 1 {
					continue
				}
				a := At(area.Key, offset).WithBit(bit)
				for _, n := range append(Modbus.Notations(a), Notation{"short", Modbus.Short(a)}) {
					if back, err := Modbus.Parse(n.Text, area.Key); err != nil || back != a {
						t.Errorf("%s is printed as %s %q and reads as %s, %v", a, n.Name, n.Text, back, err)
					}
				}
			}
		}
	}
}

// TestCanonical: addresses of every shape survive their file form.
func TestCanonical(t *testing.T) {
	for _, a := range []Address{{}, At("hr", 2), At("hr", 2).WithBit(5), At("db7", 12).WithBit(3), {Area: "node", Name: "ns=2;s=Tank.O2"}, At("object2", 4194303),
		{Area: "topic", Name: "1/temp"}, {Area: "tag", Name: "12"}, {Area: "tag", Name: "Row[3].Level:2"}, {Name: "Tank 11/O2"}} {
		text, err := a.MarshalText()
		if err != nil {
			t.Fatal(err)
		}
		var back Address
		if err := back.UnmarshalText(text); err != nil || back != a {
			t.Errorf("%#v is written %q and reads as %#v, %v", a, text, back, err)
		}
	}
	if text := At("", 2).String(); text != ":2" {
		t.Errorf("a place in no area is written %q", text)
	}
	for _, bad := range []string{"hr", "2", ":2", "hr:", "hr2.", "hr2.99", "hr99999999999", "tag=", "tag:Level"} {
		if a, err := ParseCanonical(bad); err == nil {
			t.Errorf("%q reads as %s", bad, a)
		}
	}
}

// TestImage: every direct address is read and printed; the number counts bytes.
func TestImage(t *testing.T) {
	for _, c := range []struct {
		text, want string // want is canonical; "" means refused
		bits       int
		printed    string
	}{
		{"%IX0.3", "i0.3", 1, "%IX0.3"}, {"%ix0.3", "i0.3", 1, "%IX0.3"}, {"%I0.3", "i0.3", 1, "%IX0.3"}, {"%QW12", "q12", 16, "%QW12"}, {"%MD40", "m40", 32, "%MD40"}, {"%ML8", "m8", 64, "%ML8"}, {"%QB7", "q7", 8, "%QB7"},
		{"db7:12.3", "db7:12.3", 1, "db7:12.3"}, {"DB7:12", "db7:12", 16, "db7:12"}, {"12.3", "m12.3", 1, "%MX12.3"}, {"i5", "i5", 8, "%IB5"},
		{"%IX0", "", 0, ""}, {"%IX0.8", "", 0, ""}, {"%QW12.3", "", 0, ""}, {"%MD70000", "", 0, ""}, {"db0:1", "", 0, ""}, {"db70000:1", "", 0, ""}, {"%ZW1", "", 0, ""}, {"", "", 0, ""}, {"40001 ", "m40001", 8, "%MB40001"},
	} {
		got, err := Image.Parse(c.text, "")
		if got.String() != c.want || (err == nil) != (c.want != "") {
			t.Errorf("%q reads as %q, %v; want %q", c.text, got, err, c.want)
			continue
		}
		if err != nil {
			continue
		}
		if text := Sized(Image, got, c.bits); text != c.printed {
			t.Errorf("%q is printed as %q, want %q", c.text, text, c.printed)
		}
		if back, err := ParseCanonical(got.String()); err != nil || back != got {
			t.Errorf("%s comes back as %v, %v", got, back, err)
		}
		if _, ok := AreaOf(Image, got.Area); !ok || len(Image.Notations(got)) == 0 {
			t.Errorf("%s has no area or no notation", got)
		}
	}
}

// TestNeighbours: a bit of a register as others count it.
func TestNeighbours(t *testing.T) {
	for _, c := range []struct {
		register uint32
		bit      int
		want     string
	}{{3, 0, "3.0 7.0 6.0 register 3, bit 1 of 16"}, {3, 15, "3.15 6.7 7.7 register 3, bit 16 of 16"}, {0, 8, "0.8 0.0 1.0 register 0, bit 9 of 16"}} {
		var got []string
		for _, n := range Neighbours(c.register, c.bit) {
			got = append(got, n.Text)
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%d.%d is counted as %s, want %s", c.register, c.bit, strings.Join(got, " "), c.want)
		}
	}
}

func FuzzImageParse(f *testing.F) {
	for _, text := range []string{"%IX0.3", "%QW12", "db7:12.3", "m5", "%MD"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		a, err := Image.Parse(text, "q")
		if err != nil {
			return
		}
		if back, err := Image.Parse(Image.Short(a), ""); err != nil || back != a {
			t.Fatalf("%q reads as %s, is printed as %s and reads as %s, %v", text, a, Image.Short(a), back, err)
		}
	})
}

func FuzzModbusParse(f *testing.F) {
	for _, seed := range []string{"40003", "400003.2", "4x12", "0x1F", "%MX4.2", "hr2", "", "999999"} {
		f.Add(seed, "hr")
	}
	f.Fuzz(func(t *testing.T, text, hint string) {
		a, err := Modbus.Parse(text, hint)
		if err != nil {
			return
		}
		if back, err := Modbus.Parse(Modbus.Short(a), ""); err != nil || back != a {
			t.Fatalf("%q reads as %s, which is printed %q and reads as %s, %v", text, a, Modbus.Short(a), back, err)
		}
	})
}

// TestAreaNamed: lists name the tables by words and by function codes.
func TestAreaNamed(t *testing.T) {
	for text, want := range map[string]string{
		"Holding register": "hr", "HOLDING": "hr", "03": "hr", "0x03": "hr", "FC3": "hr", "Function code 16": "hr", "03/06/16": "hr", "4x": "hr", "hr": "hr", "holding registers": "hr",
		"4": "ir", "Input Register": "ir", "3x": "ir", "1": "co", "Coil": "co", "0x": "co", "02": "di", "discrete-input": "di", "1x": "di", "": "", "99": "", "register": "",
	} {
		if area, ok := AreaNamed(Modbus, text); area.Key != want || ok != (want != "") {
			t.Errorf("%q names %q, want %q", text, area.Key, want)
		}
	}
	if area, ok := AreaNamed(Image, "DB7"); !ok || area.Key != "db7" {
		t.Errorf("DB7 names %+v", area)
	}
}

// FuzzCanonical: whatever is read is written as it is read again.
func FuzzCanonical(f *testing.F) {
	for _, text := range []string{"hr2.5", "db7:12.3", "topic=1/temp", "=x", "", ":2", "a=b=c", "a:1=2"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		a, err := ParseCanonical(text)
		if err != nil {
			return
		}
		if back, err := ParseCanonical(a.String()); err != nil || back != a {
			t.Fatalf("%q reads as %#v, is written %q and reads as %#v, %v", text, a, a.String(), back, err)
		}
	})
}
