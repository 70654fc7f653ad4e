package blocktcp

import (
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
		{"%IX0.3", "i0.3", 1, "%IX0.3"}, {"%ix0.3", "i0.3", 1, "%IX0.3"}, {"%I0.3", "i0.3", 1, "%IX0.3"}, {"%QW12", "q12", 16, "%QW12"}, {"%MD40", "m40", 32, "%MD40"}, {"%ML8", "m8", 64, "%ML8"}, {"%QB7", "q7", 8, "%QB7"},
		{"db7:12.3", "db7:12.3", 1, "db7:12.3"}, {"DB7:12", "db7:12", 16, "db7:12"}, {"12.3", "m12.3", 1, "%MX12.3"}, {"i5", "i5", 8, "%IB5"},
		{"%IX0", "", 0, ""}, {"%IX0.8", "", 0, ""}, {"%QW12.3", "", 0, ""}, {"%MD70000", "", 0, ""}, {"db0:1", "", 0, ""}, {"db70000:1", "", 0, ""}, {"%ZW1", "", 0, ""}, {"", "", 0, ""}, {"40001 ", "m40001", 8, "%MB40001"},
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
