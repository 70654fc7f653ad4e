package dnp3

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/value"
)

func octetsOf(t testing.TB, text string) []byte {
	b, err := hex.DecodeString(strings.ReplaceAll(text, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func words(o Object) string {
	text := fmt.Sprintf("%d.%d[%d]=%s", o.Group, o.Variation, o.Index, o.Value)
	if o.Value.IsNone() {
		text = fmt.Sprintf("%d.%d[%d]", o.Group, o.Variation, o.Index)
	}
	if o.Flagged {
		text += fmt.Sprintf("/%02X", o.Flags)
	}
	if !o.At.IsZero() {
		text += "@" + o.At.Format("15:04:05.000")
	}
	return text
}

// TestObjects: objects as annex A lays them out, each by octets written by hand.
func TestObjects(t *testing.T) {
	midnight := time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)
	at := hex.EncodeToString(AppendTime(nil, midnight.Add(1500*time.Millisecond)))
	for text, want := range map[string]string{
		// Ten binary inputs, packed, of 2 to 11.
		"01 01 00 02 0B 05 02": "1.1[2]=on 1.1[3]=off 1.1[4]=on 1.1[5]=off 1.1[6]=off 1.1[7]=off 1.1[8]=off 1.1[9]=off 1.1[10]=off 1.1[11]=on",
		// With flags, range in 2 octets.
		"01 02 01 00 01 01 01 81 04": "1.2[256]=on/01 1.2[257]=off/04",
		// Double-bit, packed and with flags.
		"03 01 00 00 02 24 03 02 00 07 07 81": "3.1[0]=0 3.1[1]=1 3.1[2]=2 3.2[7]=2/01",
		// Analogue: 32 bits with a sign, 16 without flags, floats with an index of 2 octets before each.
		"1E 01 00 00 00 01 FE FF FF FF 1E 04 00 03 03 FE FF": "30.1[0]=-2/01 30.4[3]=-2",
		"20 05 28 01 00 39 30 21 00 00 C0 3F":                "32.5[12345]=1.5/21",
		// A counter event with its time, and a frozen counter.
		"16 05 17 01 09 01 0A 00 00 00 " + at: "22.5[9]=10/01@00:00:01.500",
		"15 0A 00 01 01 FF FF":                "21.10[1]=65535",
		// Events that tell their time by one before them.
		"33 01 07 01 " + at + " 02 03 28 02 00 01 00 81 E8 03 02 00 01 00 00": "51.1[0]@00:00:01.500 2.3[1]=on/01@00:00:02.500 " +
			"2.3[2]=off/01@00:00:01.500",
		// A command with what became of it, a setpoint, a string, and no object at all.
		"0C 01 17 01 05 41 01 E8 03 00 00 00 00 00 00 04": "12.1[5]",
		"29 03 17 01 05 00 00 C0 3F 02":                   "41.3[5]=1.5",
		"6E 03 00 04 04 61 62 63":                         "110.3[4]=abc",
		"":                                                "",

		"01 01 00 05 02":                   "is said to go from 5 to 2",
		"01 01 00 00 FF 00":                "256 states of object 1.1 do not stand in 1 octets",
		"1E 01 02 00 00 00 00 FF FF FF 7F": "is said to go from 0 to 2147483647",
		"1E 01 09 FF FF 0F 00 01":          "1048575 of object 30.1 need 5242875 octets, and there are 1",
		"1E 63 00 00 00 00":                "object 30.99 is not known",
		"1E 01 06":                         "without saying how many",
		"1E 01 0F 00":                      "qualifier 0x0F, which is not known",
		"1E 01 5B 01":                      "comes with its sizes",
		"1E 01":                            "an object header ends after 2 octets",
		"1E 01 01 00":                      "the range of object 30.1 is cut short",
		"01 02 00 00 00 81 1E 01 00 00 00 01 00 00": "1.2[0]=on/01 … 1 of object 30.1 need 5 octets, and there are 3",
	} {
		var got []string
		err := Objects(octetsOf(t, text), func(o Object) { got = append(got, words(o)) })
		said := strings.Join(got, " ")
		if err != nil {
			said = strings.TrimSpace(said + " … " + err.Error())
		}
		if said != want && !(err != nil && strings.Contains(said, want)) {
			t.Errorf("%s reads as %s, want %s", text, said, want)
		}
	}
}

// TestWritten: objects of every kind are read as they were written, in ranges and with an index each.
func TestWritten(t *testing.T) {
	at := time.Date(2026, 11, 27, 6, 0, 0, 250_000_000, time.UTC)
	for group, variations := range specs {
		for variation, s := range variations {
			for _, qualifier := range []byte{FromTo8, FromTo16, Index8, Index16} {
				if (s.kind == bits1 || s.kind == bits2) && qualifier&0xF0 != 0 {
					continue
				}
				var list []Object
				for i := range 11 {
					o := Object{Group: group, Variation: variation, Index: 3 + uint32(i)}
					switch s.kind {
					case bits1, state1:
						o.Value = value.OfBool(i%3 == 0)
					case bits2, state2:
						o.Value = value.OfUint(uint64(i % 4))
					case u16, u32:
						o.Value = value.OfUint(uint64(6000 * i))
					case i16, i32:
						o.Value = value.OfInt(int64(-3000 * i))
					case f32, f64:
						o.Value = value.OfFloat(float64(i) / 4)
					case control:
						o.Control = Control{0x41, 1, uint32(i), 70_000}
					}
					if s.flags {
						o.Flags, o.Flagged = Online|ForcedHere, true
					}
					if s.time == absolute {
						o.At = at.Add(time.Duration(i) * time.Hour)
					} else if s.time == relative {
						o.Behind = uint16(i)
					}
					if s.status {
						o.Status = byte(i)
					}
					list = append(list, o)
				}
				b, err := AppendObjects(nil, qualifier, list)
				if err != nil {
					t.Fatalf("%d.%d, 0x%02X: %v", group, variation, qualifier, err)
				}
				var got []Object
				if err := Objects(b, func(o Object) {
					if size := s.size(variation); size > 0 && o.To-o.From != size || o.To > len(b) {
						t.Errorf("%d.%d stands in %d to %d of %d octets", group, variation, o.From, o.To, len(b))
					}
					o.From, o.To = 0, 0
					got = append(got, o)
				}); err != nil || !slices.Equal(got, list) {
					t.Errorf("%d.%d, 0x%02X: %v\n%+v\n%+v", group, variation, qualifier, err, got, list)
				}
			}
		}
	}
	one := Object{Group: 30, Variation: 1, Index: 300}
	for name, list := range map[string][]Object{"an index that does not fit": {one},
		"one that does not follow": {{Group: 30, Variation: 1}, {Group: 30, Variation: 1, Index: 2}},
		"two kinds":                {{Group: 30, Variation: 1}, {Group: 30, Variation: 2, Index: 1}},
		"none that there is":       {{Group: 30, Variation: 99}}} {
		if _, err := AppendObjects(nil, FromTo8, list); err == nil {
			t.Errorf("%s is written", name)
		}
	}
}

// TestHeaders: what is written of a header is read as it was, with each way to say a range.
func TestHeaders(t *testing.T) {
	for _, h := range []Header{{60, 2, AllOf, 0, 0, true}, {30, 0, FromTo8, 3, 200, false},
		{30, 0, FromTo16, 3, 2000, false},
		{30, 0, FromTo32, 70_000, 2, false}, {50, 1, Count8, 0, 1, false}, {32, 2, Index16, 0, 300, false},
		{12, 1, Index8, 0, 1, false}, {32, 2, Count32, 0, 1 << 20, false}} {
		b := h.Append(nil)
		got, rest, err := ReadHeader(append(b, 9))
		if err != nil || got != h || len(rest) != 1 {
			t.Errorf("%+v is written as % X and read as %+v, %v", h, b, got, err)
		}
	}
}

// TestFragments: requests and answers, whole and cut short.
func TestFragments(t *testing.T) {
	for _, f := range []Fragment{{Control: First | Last | 3, Function: FnRead, Objects: []byte{60, 2, 6}},
		{Control: First | Last | Confirm | Unsolicited, Function: FnUnsolicited, Indications: Restarted | EventOverflow}} {
		b := f.Append(nil)
		got, err := ReadFragment(b)
		if err != nil || got.Control != f.Control || got.Function != f.Function || got.Indications != f.Indications ||
			string(got.Objects) != string(f.Objects) {
			t.Errorf("%+v is read as %+v, %v", f, got, err)
		}
	}
	for _, cut := range [][]byte{{}, {0xC0}, {0xC0, 129}, {0xC0, 130, 0}} {
		if _, err := ReadFragment(cut); err == nil {
			t.Errorf("% X is read", cut)
		}
	}
}

func FuzzObjects(f *testing.F) {
	for _, text := range []string{"01 01 00 02 0B 05 02", "20 05 28 01 00 39 30 21 00 00 C0 3F",
		"6E 03 00 04 04 61 62 63"} {
		f.Add(octetsOf(f, text))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		n := 0
		_ = Objects(b, func(Object) { n++ }) // what it says is for people
		if n > 8*len(b) {
			t.Errorf("%d objects out of %d octets", n, len(b))
		}
	})
}
