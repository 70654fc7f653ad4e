package address

import "testing"

func TestModbusParse(t *testing.T) {
	for _, c := range []struct {
		text, hint, want string // want is canonical; "" means refused
	}{
		{"40003", "", "hr2"}, {"400003", "", "hr2"}, {"4x3", "", "hr2"}, {"4x00003", "", "hr2"}, {"hr2", "ir", "hr2"}, {"HR0x2", "", "hr2"},
		{"2", "", "hr2"}, {"2", "ir", "ir2"}, {"0x0002", "co", "co2"}, {"%MW2", "", "hr2"}, {"%iw7", "", "ir7"}, {"%QX5", "", "co5"}, {"%IX5", "", "di5"},
		{"30001", "", "ir0"}, {"10001", "", "di0"}, {"00001", "", "co0"}, {"000001", "", "co0"}, {"0x00001", "", "co0"}, {"465536", "", "hr65535"},
		{"40005.2", "", "hr4.2"}, {"hr4.15", "", "hr4.15"}, {"%MX4.2", "", "hr4.2"}, {"%MW4.2", "", "hr4.2"}, {"%IX3.1", "", "ir3.1"}, {" 40001 ", "", "hr0"},
		{"", "", ""}, {"40000", "", ""}, {"400000", "", ""}, {"465537", "", ""}, {"hr65536", "", ""}, {"50001", "", ""}, {"4000012", "", ""}, {"40001.16", "", ""},
		{"00001.3", "", ""}, {"abc", "", ""}, {"hr", "", ""}, {"hr-1", "", ""}, {"%MD4", "", ""}, {"%MW", "", ""}, {"-5", "", ""}, {"4x0", "", ""}, {"40001.", "", ""},
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
	for _, a := range []Address{{}, At("hr", 2), At("hr", 2).WithBit(5), At("db7", 12).WithBit(3), {Area: "node", Name: "ns=2;s=Tank.O2"}, At("object2", 4194303)} {
		text, err := a.MarshalText()
		if err != nil {
			t.Fatal(err)
		}
		var back Address
		if err := back.UnmarshalText(text); err != nil || back != a {
			t.Errorf("%#v is written %q and reads as %#v, %v", a, text, back, err)
		}
	}
	for _, bad := range []string{"hr", "2", ":2", "hr:", "hr2.", "hr2.99", "hr99999999999"} {
		if a, err := ParseCanonical(bad); err == nil {
			t.Errorf("%q reads as %s", bad, a)
		}
	}
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
