package enip

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"unicode/utf16"

	"ferry/internal/core/protocol"
)

func sheet(t testing.TB) []byte {
	t.Helper()
	data, err := os.ReadFile("testdata/uv-reactor.eds")
	if err != nil {
		t.Fatal(err)
	}
	return data
}

func words(held []protocol.Held) (list []string) {
	for _, h := range held {
		list = append(list, fmt.Sprintf("%s %s %s %s %v", Scheme.Short(h.Address), h.Name, h.Shape.Type, h.Unit, h.Writable))
	}
	return list
}

// TestEDS: a data sheet becomes identity, parameters, assemblies and connections; what of it
// cannot be read is told with its line.
func TestEDS(t *testing.T) {
	e, err := ParseEDS(sheet(t))
	if err != nil {
		t.Fatal(err)
	}
	if e.Vendor != 1234 || e.Type != 43 || e.Product != 65 || e.Major != 2 || e.Minor != 1 ||
		e.Name != "UV reactor, 12 sleeves" {
		t.Errorf("it is of %+v", e)
	}
	if len(e.Params) != 5 || e.Params[0].Help != `At most; "hard" limit` || e.Params[2].Names[1] != "warming up" ||
		e.Params[0].Decimals != 1 {
		t.Errorf("parameters are %+v", e.Params)
	}
	if len(e.Assemblies) != 2 || e.Assemblies[0].Octets != 10 || len(e.Assemblies[0].Members) != 5 ||
		e.Assemblies[0].Members[1] != (Member{Bits: 7}) {
		t.Errorf("assemblies are %+v", e.Assemblies)
	}
	if len(e.Connections) != 1 || e.Connections[0].OutSize != "2" || e.Connections[0].InFormat != "Assem150" ||
		len(e.Connections[0].Path) != 8 || e.Connections[0].Name != "Exclusive owner" {
		t.Errorf("connections are %+v", e.Connections)
	}
	var told []string
	for _, u := range e.Unread {
		told = append(told, fmt.Sprintf("%d %s: %s", u.Line, u.What, u.Reason))
	}
	want := "47 Group1: the semicolon at its end is missing\n" +
		"32 [Params] Param6: the path \"20 64 24 01 30 ZZ\": \"ZZ\" is no octet\n" +
		"38 [Assembly] Assem170: member 1: \"many\" is no number of bits"
	if got := strings.Join(told, "\n"); got != want {
		t.Errorf("unread is\n%s\nwant\n%s", got, want)
	}
	held, _, err := rules{}.Describe(sheet(t))
	wantHeld := "100/1/7 Dose limit uint16 mJ/cm2 true\n100/1/8 Intensity 1 float32 W/m2 false\n4/150/3 Inputs State uint8  false\n" +
		"4/150/3:1.7 Inputs State bool  false\n4/150/3:2 Inputs Intensity 1 float32 W/m2 false\n" +
		"4/150/3:6 Inputs Intensity 2 float32 W/m2 false\n4/160/3 Outputs Dose 1 uint16 mJ/cm2 false"
	if got := strings.Join(words(held), "\n"); err != nil || got != wantHeld {
		t.Errorf("it holds, %v,\n%s\nwant\n%s", err, got, wantHeld)
	}
}

// TestEDSEncodings: tools write data sheets in several encodings, and with other ends of
// lines.
func TestEDSEncodings(t *testing.T) {
	text := strings.ReplaceAll(string(sheet(t)), "mJ/cm2", "mJ/cm²")
	want, err := ParseEDS([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	wide := []byte{0xFF, 0xFE}
	for _, u := range utf16.Encode([]rune(text)) {
		wide = append(wide, byte(u), byte(u>>8))
	}
	for name, data := range map[string][]byte{"with a mark": []byte("\ufeff" + text), "UTF-16": wide,
		"one octet each": []byte(strings.ReplaceAll(text, "²", "\xB2")),
		"CR LF":          []byte(strings.ReplaceAll(text, "\n", "\r\n"))} {
		got, err := ParseEDS(data)
		if err != nil || fmt.Sprint(got.Params) != fmt.Sprint(want.Params) || len(got.Unread) != len(want.Unread) {
			t.Errorf("%s: %v\n%v\n%v", name, err, got.Params, got.Unread)
		}
		if !(rules{}).Described(data) {
			t.Errorf("%s is not known as a data sheet", name)
		}
	}
	for name, text := range map[string]string{"another file": "Name;Address\nOxygen;40001\n", "empty": "",
		"sections alone": "[File]\n[Device]\n"} {
		if held, _, err := (rules{}).Describe([]byte(text)); err == nil {
			t.Errorf("%s holds %v", name, words(held))
		}
	}
}

// FuzzEDS: whatever comes is read to its end, and what is held can be written down.
func FuzzEDS(f *testing.F) {
	f.Add(sheet(f))
	for _, text := range []string{"[File][Device]\n[Params]Param1=0,,", "[File]\n[Device]\n[Params]\nParam1 = \"a",
		"[File]\n[Device]\n;;==[[", "[File]\n[Device]\n[Assembly]\nAssem1=\"\",\"20 04 24 01\",,,,,-1,Param1;"} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		held, _, _ := (rules{}).Describe(data)
		for _, h := range held {
			if again, err := Scheme.Parse(Scheme.Short(h.Address), ""); err != nil || again != h.Address {
				t.Errorf("%s reads as %s, %v", h.Address, again, err)
			}
		}
	})
}
