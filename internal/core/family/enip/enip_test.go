package enip

import (
	"strings"
	"testing"

	"ferry/internal/core/address"
	"ferry/internal/core/value"
)

// TestAddresses: places are read as people write them, and written as they are read; what
// cannot be is said in words.
func TestAddresses(t *testing.T) {
	for text, want := range map[string]string{"Row[3].Level": "tag=Row[3].Level", "Mode.2": "tag=Mode.2",
		"4/150/3":     "attr=4/150/3",
		"0x64/1/0x07": "attr=100/1/7", "4/150/3:12": "attr=4/150/3:12", "4/150/3:12.5": "attr=4/150/3:12.5",
		"Program:Feed.Turns": "tag=Program:Feed.Turns", "Grid[1,2,3]": "tag=Grid[1,2,3]"} {
		a, err := Scheme.Parse(text, "")
		if err != nil || a.String() != want {
			t.Errorf("%s is %s, %v", text, a, err)
		}
		if again, err := Scheme.Parse(Scheme.Short(a), ""); err != nil || again != a {
			t.Errorf("%s is written %s and reads as %s, %v", text, Scheme.Short(a), again, err)
		}
	}
	for text, says := range map[string]string{"": "is empty", "Row[": "not closed", "Row[x]": "no index",
		"3Row":       "no name",
		"Row..Level": "is empty", "4/150": "class/instance/attribute", "4/70000/3": "0 to 65535", "4/1/3:x": "no octet",
		"4/1/3:1.9": "no bit of an octet", "Mode.99": "no bit", "Grid[1,2,3,4]": "no index",
		strings.Repeat("a", 41): "characters"} {
		if a, err := Scheme.Parse(text, ""); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s is %s, %v", text, a, err)
		}
	}
	var list []address.Address
	for _, text := range []string{"Row[2].Level", "Row[10].Level", "Tank", "4/2/3", "4/10/1", "4/10/1:3"} {
		a, err := Scheme.Parse(text, "")
		if err != nil {
			t.Fatal(err)
		}
		list = append(list, a)
	}
	for i := range len(list) - 1 {
		if Scheme.Compare(list[i], list[i+1]) >= 0 {
			t.Errorf("%s comes behind %s", list[i], list[i+1])
		}
	}
}

// TestKinds: values go into octets and back, out of range none goes, and another type is
// told by its name.
func TestKinds(t *testing.T) {
	for _, c := range []struct {
		kind   Kind
		v      value.Value
		octets string
	}{
		{BOOL, value.OfBool(true), "\xFF"}, {SINT, value.OfInt(-2), "\xFE"}, {INT, value.OfInt(-2), "\xFE\xFF"},
		{DINT, value.OfInt(1 << 20), "\x00\x00\x10\x00"}, {UINT, value.OfUint(65535), "\xFF\xFF"},
		{REAL, value.OfFloat(1.5), "\x00\x00\xC0\x3F"}, {LREAL, value.OfFloat(1.5), "\x00\x00\x00\x00\x00\x00\xF8\x3F"},
		{STRING, value.OfText("UV"), "\x02\x00UV"}, {ShortString, value.OfText("UV"), "\x02UV"},
		{ULINT, value.OfUint(1 << 63), "\x00\x00\x00\x00\x00\x00\x00\x80"},
	} {
		b, err := c.kind.Append(nil, c.v)
		if err != nil || string(b) != c.octets {
			t.Errorf("%s %s is % X, %v", c.kind, c.v, b, err)
		}
		if v, n, err := c.kind.Decode(append(b, 9)); err != nil || v != c.v || n != len(b) {
			t.Errorf("% X of %s is %s in %d octets, %v", b, c.kind, v, n, err)
		}
		for i := range b {
			if v, _, err := c.kind.Decode(b[:i]); err == nil {
				t.Errorf("%d octets of %s are %s", i, c.kind, v)
			}
		}
	}
	for k, v := range map[Kind]value.Value{SINT: value.OfInt(128), UINT: value.OfUint(65536),
		DINT: value.OfInt(-1<<31 - 1)} {
		if b, err := k.Append(nil, v); err == nil {
			t.Errorf("%s holds %s as % X", k, v, b)
		}
	}
	for _, c := range []struct {
		kind Kind
		typ  value.Type
		says string
	}{{DINT, value.TypeInt32, ""}, {DINT, value.TypeFloat32, "it is DINT, and the map says float32: set it to int32"},
		{Structure, value.TypeInt32, "structure"}, {0x99, value.TypeInt32, "does not know"}, {UINT, value.TypeEnum, ""}} {
		if why := c.kind.Fits(c.typ, false); why == "" != (c.says == "") || !strings.Contains(why, c.says) {
			t.Errorf("%s as %s: %q", c.kind, c.typ, why)
		}
	}
}

// TestWords: every status has a title, and those that the standard leaves free have their
// number.
func TestWords(t *testing.T) {
	for _, code := range (rules{}).Codes() {
		d := Explicit.Decline(code)
		if d.Title == "" || d.Means == "" || d.Causes == "" || !strings.Contains(d.Title, "status 0x") {
			t.Errorf("%06X: %+v", code, d)
		}
	}
	for code, says := range map[int]string{CodeOf(1, []uint16{0x0127}): "size towards it wrong (status 0x01 / 0x0127)",
		CodeOf(1, []uint16{0x7777}): "connection failure", 0x99: "status 0x99", OfSession(2): "no memory"} {
		if d := Explicit.Decline(code); !strings.Contains(d.Title, says) {
			t.Errorf("%06X is %q", code, d.Title)
		}
	}
}

// FuzzAddresses: whatever is read is written as it is read again.
func FuzzAddresses(f *testing.F) {
	for _, text := range []string{"Row[3].Level", "Mode.2", "4/150/3:12.5", "0x64/1/7", "Grid[1,2,3]", "a.b.c", "[", "//",
		".1"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		a, err := Scheme.Parse(text, "")
		if err != nil {
			return
		}
		if again, err := Scheme.Parse(Scheme.Short(a), ""); err != nil || Scheme.Compare(a, again) != 0 {
			t.Errorf("%q is %s and reads as %s, %v", text, a, again, err)
		}
		_ = Scheme.Check(a, value.Shape{Type: value.TypeInt32})
		_ = Scheme.Notations(a)
	})
}
