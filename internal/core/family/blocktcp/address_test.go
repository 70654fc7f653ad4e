package blocktcp

import (
	"strings"
	"testing"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
)

// TestParse: every direct address is read and printed; the number counts bytes.
func TestParse(t *testing.T) {
	for _, c := range []struct {
		text, want string // want is canonical; "" means refused
		bits       int
		printed    string
	}{
		{"%IX0.3", "i0.3", 1, "%IX0.3"}, {"%ix0.3", "i0.3", 1, "%IX0.3"}, {"%I0.3", "i0.3", 1, "%IX0.3"},
		{"%QW12", "q12", 16, "%QW12"}, {"%MD40", "m40", 32, "%MD40"}, {"%ML8", "m8", 64, "%ML8"},
		{"%QB7", "q7", 8, "%QB7"},
		{"db7:12.3", "db7:12.3", 1, "db7:12.3"}, {"DB7:12", "db7:12", 16, "db7:12"}, {"12.3", "m12.3", 1, "%MX12.3"},
		{"i5", "i5", 8, "%IB5"},
		{"%IX0", "", 0, ""}, {"%IX0.8", "", 0, ""}, {"%QW12.3", "", 0, ""}, {"%MD70000", "", 0, ""},
		{"db0:1", "", 0, ""}, {"db70000:1", "", 0, ""}, {"%ZW1", "", 0, ""}, {"", "", 0, ""},
		{"40001 ", "m40001", 8, "%MB40001"},
	} {
		got, err := Scheme.Parse(c.text, "")
		if got.String() != c.want || (err == nil) != (c.want != "") {
			t.Errorf("%q reads as %q, %v; want %q", c.text, got, err, c.want)
			continue
		}
		if err != nil {
			continue
		}
		if text := address.Sized(Scheme, got, c.bits); text != c.printed {
			t.Errorf("%q is printed as %q, want %q", c.text, text, c.printed)
		}
		if back, err := address.ParseCanonical(got.String()); err != nil || back != got {
			t.Errorf("%s comes back as %v, %v", got, back, err)
		}
		if _, ok := block.AreaOf(Scheme, block.Of(got).Area); !ok || len(Scheme.Notations(got)) == 0 {
			t.Errorf("%s has no area or no notation", got)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, text := range []string{"%IX0.3", "%QW12", "db7:12.3", "m5", "%MD"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		a, err := Scheme.Parse(text, "q")
		if err != nil {
			return
		}
		if back, err := Scheme.Parse(Scheme.Short(a), ""); err != nil || back != a {
			t.Fatalf("%q reads as %s, is printed as %s and reads as %s, %v", text, a, Scheme.Short(a), back, err)
		}
	})
}

// TestNotations: the three kinds are printed with the width of the value, and
// each can be typed again.
func TestNotations(t *testing.T) {
	for _, c := range []struct {
		at   string
		bits int
		want string
	}{
		{"db7:12", 32, "db7:12 %DB7.DBD12 DB7.DBD12"}, {"db7:12.3", 1, "db7:12.3 %DB7.DBX12.3 DB7.DBX12.3"},
		{"q0.1", 1, "%QX0.1 Q0.1 q0.1"}, {"m40", 16, "%MW40 MW40 m40"}, {"i4", 8, "%IB4 IB4 i4"},
	} {
		a, err := address.ParseCanonical(c.at)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, n := range address.NotationsFor(Scheme, a, c.bits) {
			got = append(got, n.Text)
			if back, err := Scheme.Parse(n.Text, ""); err != nil || back != a {
				t.Errorf("%s is printed as %s %q, which reads as %s, %v", a, n.Name, n.Text, back, err)
			}
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s is printed %q", c.at, got)
		}
	}
	for text, want := range map[string]string{"DB7.W12": "db7:12", "DB7,D4": "db7:4", "DB07.DBX1.7": "db7:1.7",
		"%DB3.DBB0": "db3:0", "E0.3": "i0.3", "AW4": "q4", "MD8": "m8"} {
		if a, err := Scheme.Parse(text, ""); err != nil || a.String() != want {
			t.Errorf("%q reads as %s, %v", text, a, err)
		}
	}
	for _, bad := range []string{"DB7.DBX12", "DB7.DBW12.3", "DB0.DBW1", "DB7.DBQ1", "MX3", "DB7", "I0.9"} {
		if a, err := Scheme.Parse(bad, ""); err == nil {
			t.Errorf("%q reads as %s", bad, a)
		}
	}
}
