package crossing

import (
	"math"
	"strings"
	"testing"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// TestWay: what becomes of values, forth and back.
func TestWay(t *testing.T) {
	of := func(typ value.Type, unit string) *site.Point { return &site.Point{Type: typ, Unit: unit} }
	f32, u16, i16, bit, text := of("float32", ""), of("uint16", ""), of("int16", ""), of("bool", ""),
		&site.Point{Type: "text", Length: 8}
	n, f, b, s := value.OfInt, value.OfFloat, value.OfBool, value.OfText
	list := func(v ...value.Value) []value.Value { return v }
	low, high, four := 0.0, 100.0, int64(4)
	for _, c := range []struct {
		what   string
		x      site.Crossing
		from   []*site.Point
		to     *site.Point
		in     []value.Value
		stands value.Value
		out    value.Value
		back   bool   // and the way back gives the first source again
		says   string // the error, or why there is no way back
	}{
		{"as it is", site.Crossing{}, []*site.Point{f32}, f32, list(f(8.42)), value.Value{}, f(8.42), true, ""},
		{"scaled", site.Crossing{Factor: 0.1, Offset: 2}, []*site.Point{f32}, f32, list(f(123)), value.Value{}, f(14.3),
			true, ""},
		{"by their units", site.Crossing{Way: []site.Step{{Do: site.DoUnit}}}, []*site.Point{of("float32", "°C")},
			of("float32", "°F"), list(f(12.5)), value.Value{}, f(54.5), true, ""},
		{"by units that do not go together", site.Crossing{Way: []site.Step{{Do: site.DoUnit, To: "bar"}}},
			[]*site.Point{of("float32", "°C")}, f32, list(f(1)), value.Value{}, value.Value{}, false,
			"step 1, unit: °C is a unit of temp"},
		{"clamped", site.Crossing{Way: []site.Step{{Do: site.DoClamp, Least: &low, Most: &high}}}, []*site.Point{f32}, f32,
			list(f(130)), value.Value{}, f(100), false, ""},
		{"upside down", site.Crossing{Way: []site.Step{{Do: site.DoNot}}}, []*site.Point{bit}, bit, list(b(true)),
			value.Value{}, b(false), true, ""},
		{"upside down, a number", site.Crossing{Way: []site.Step{{Do: site.DoNot}}}, []*site.Point{u16}, u16, list(n(1)),
			value.Value{}, value.OfUint(0), true, ""},
		{"a bit of a word", site.Crossing{Way: []site.Step{{Do: site.DoBit, Bit: 2}}}, []*site.Point{u16}, bit, list(n(5)),
			value.Value{}, b(true), false, "does not give the word back"},
		{"a bit of a fraction", site.Crossing{Way: []site.Step{{Do: site.DoBit}}}, []*site.Point{f32}, bit, list(f(0.5)),
			value.Value{}, value.Value{}, false, "no whole number"},
		{"a bit into a word", site.Crossing{Way: []site.Step{{Do: site.DoPut, Bit: 3}}}, []*site.Point{bit}, u16,
			list(b(true)), value.OfUint(0x81), value.OfUint(0x89), false, ""},
		{"a bit out of a word", site.Crossing{Way: []site.Step{{Do: site.DoPut, Bit: 7}}}, []*site.Point{bit}, u16,
			list(b(false)), value.OfUint(0x81), value.OfUint(1), false, ""},
		{"a bit into what is not known", site.Crossing{Way: []site.Step{{Do: site.DoPut, Bit: 7}}}, []*site.Point{bit}, u16,
			list(b(false)), value.Value{}, value.Value{}, false, "has not been read"},
		{"a bit that is not there", site.Crossing{Way: []site.Step{{Do: site.DoPut, Bit: 16}}}, []*site.Point{bit}, u16,
			list(b(false)), value.Value{}, value.Value{}, false, "no bit 16 in a uint16"},
		{"packed", site.Crossing{Way: []site.Step{{Do: site.DoPack, Bit: 1}}}, []*site.Point{bit, bit, u16}, u16,
			list(b(true), b(false), n(1)), value.Value{}, value.OfUint(10), false, ""},
		{"a table", site.Crossing{Way: []site.Step{{Do: site.DoTable,
			Table: []site.Becomes{{From: 3, To: 2}, {From: 0, To: 1}}}}},
			[]*site.Point{u16}, u16, list(n(3)), value.Value{}, n(2), true, ""},
		{"not in the table", site.Crossing{Way: []site.Step{{Do: site.DoTable, Table: []site.Becomes{{From: 3, To: 2}}}}},
			[]*site.Point{u16}, u16, list(n(7)), value.Value{}, value.Value{}, false, "7 is not in the table"},
		{"else", site.Crossing{Way: []site.Step{{Do: site.DoTable, Table: []site.Becomes{{From: 3, To: 2}}, Else: &four}}},
			[]*site.Point{u16}, u16, list(n(7)), value.Value{}, n(4), false, "comes of several"},
		{"a table with a contradiction", site.Crossing{Way: []site.Step{{Do: site.DoTable,
			Table: []site.Becomes{{From: 3, To: 2}, {From: 3, To: 1}}}}},
			[]*site.Point{u16}, u16, list(n(3)), value.Value{}, value.Value{}, false, "3 stands in the table twice"},
		{"the sign", site.Crossing{Way: []site.Step{{Do: site.DoReread, Type: "int16"}}}, []*site.Point{u16}, i16,
			list(n(65535)), value.Value{}, n(-1), true, ""},
		{"the words", site.Crossing{Way: []site.Step{{Do: site.DoReread, Type: "float32", Order: "CDAB"}}},
			[]*site.Point{of("uint32", "")}, f32, list(n(0x00004128)), value.Value{}, f(10.5), true, ""},
		{"octets that are not there", site.Crossing{Way: []site.Step{{Do: site.DoReread, Type: "float32"}}},
			[]*site.Point{u16}, f32, list(n(1)), value.Value{}, value.Value{}, false, "2 octets and a float32 4"},
		{"octets too late", site.Crossing{Factor: 2, Way: []site.Step{{Do: site.DoReread, Type: "int16"}}},
			[]*site.Point{u16}, f32, list(n(1)), value.Value{}, value.Value{}, false, "put it first"},
		{"cut", site.Crossing{Way: []site.Step{{Do: site.DoText, Length: 4}}}, []*site.Point{text}, text, list(s("Tånk 11")),
			value.Value{}, s("Tånk"), false, ""},
		{"filled up", site.Crossing{Way: []site.Step{{Do: site.DoText, Length: 6, Fill: "*"}}}, []*site.Point{text}, text,
			list(s("O2")), value.Value{}, s("O2****"), true, ""},
		{"a formula", site.Crossing{Way: []site.Step{{Do: site.DoFormula, Formula: "b ? max(a, 2) : -1", Back: "a"}}},
			[]*site.Point{f32, bit}, f32, list(f(1.5), b(true)), value.Value{}, n(2), false, ""},
		{"a formula after a scale", site.Crossing{Factor: 10, Way: []site.Step{{Do: site.DoFormula, Formula: "a + b"}}},
			[]*site.Point{f32, f32}, f32, list(f(1), f(2)), value.Value{}, f(12), false, "another one for the way back"},
		{"a formula of a text", site.Crossing{Way: []site.Step{{Do: site.DoFormula, Formula: `"tank " + string(a)`}}},
			[]*site.Point{f32}, text, list(f(11)), value.Value{}, s("tank 11"), false, ""},
		{"a bit in a formula", site.Crossing{Way: []site.Step{{Do: site.DoFormula, Formula: "bit(a, 2) && not bit(a, 0)"}}},
			[]*site.Point{u16}, bit, list(n(4)), value.Value{}, b(true), false, ""},
		{"a formula with a mistake", site.Crossing{Way: []site.Step{{Do: site.DoFormula, Formula: "a +"}}},
			[]*site.Point{f32}, f32, list(f(1)), value.Value{}, value.Value{}, false, "at character 3"},
		{"a formula of a source that is not there", site.Crossing{Way: []site.Step{{Do: site.DoFormula, Formula: "a + c"}}},
			[]*site.Point{f32, f32}, f32, list(f(1), f(1)), value.Value{}, value.Value{}, false, "unknown name c"},
		{"a formula with a clock", site.Crossing{Way: []site.Step{{Do: site.DoFormula, Formula: "now().Unix()"}}},
			[]*site.Point{f32}, f32, list(f(1)), value.Value{}, value.Value{}, false, "cannot be read"},
		{"a bomb", site.Crossing{Way: []site.Step{{Do: site.DoFormula, Formula: "len(1..100000000)"}}}, []*site.Point{f32},
			f32, list(f(1)), value.Value{}, value.Value{}, false, "formula"},
		{"a formula too long", site.Crossing{Way: []site.Step{{Do: site.DoFormula, Formula: strings.Repeat("a+", 300) +
			"a"}}}, []*site.Point{f32}, f32, list(f(1)), value.Value{}, value.Value{}, false, "cannot be read"},
		{"a text into a number", site.Crossing{}, []*site.Point{text}, u16, list(s("11")), value.Value{}, value.Value{},
			false, "a text cannot become a number"},
		{"no number into a whole one", site.Crossing{}, []*site.Point{f32}, u16, list(f(math.NaN())), value.Value{},
			value.Value{}, false, "cannot hold"},
		{"no number into a state", site.Crossing{}, []*site.Point{f32}, bit, list(f(math.NaN())), value.Value{},
			value.Value{}, false, "cannot hold"},
		{"a time into a number", site.Crossing{}, []*site.Point{of("unix", "")}, of("uint32", ""), list(value.OfMoment(5000)),
			value.Value{}, f(5), false, ""},
	} {
		w, err := NewWay(&c.x, c.from, c.to)
		var got value.Value
		if err == nil {
			got, err = w.Carry(c.in, c.stands)
		}
		if err != nil {
			if c.says == "" || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s: %v", c.what, err)
			}
			continue
		}
		if got.Kind() == value.Float && math.Abs(got.Float()-c.out.Float()) < 1e-9 {
			got = c.out
		}
		if got != c.out {
			t.Errorf("%s: %v (kind %d), want %v (kind %d)", c.what, got, got.Kind(), c.out, c.out.Kind())
		}
		if why := w.Returns(); c.says != "" && (why == nil || !strings.Contains(why.Error(), c.says)) {
			t.Errorf("%s: no way back because of %v, want %s", c.what, why, c.says)
		}
		if c.back {
			if again, err := w.Back(got, c.from[0]); err != nil || math.Abs(again.Float()-c.in[0].Float()) > 1e-9 ||
				again.Text() != c.in[0].Text() {
				t.Errorf("%s: back comes %v, %v, want %v", c.what, again, err, c.in[0])
			}
		}
	}
}

// TestCount: a counter of 16 bits goes on into a total where it begins anew, and
// after a restart where the total was.
func TestCount(t *testing.T) {
	x := &site.Crossing{Way: []site.Step{{Do: site.DoCount}}}
	from, to := &site.Point{Type: value.TypeUint16}, &site.Point{Type: value.TypeUint32}
	carry := func(w *Way, n int64, stands value.Value) float64 {
		t.Helper()
		v, err := w.Carry([]value.Value{value.OfInt(n)}, stands)
		if err != nil {
			t.Fatal(err)
		}
		return v.Float()
	}
	w, err := NewWay(x, []*site.Point{from}, to)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		n    int64
		want float64
	}{{65000, 65000}, {65535, 65535}, {0, 65536}, {10, 65546}, {10, 65546}, {9, 131081}} {
		if got := carry(w, c.n, value.Value{}); got != c.want {
			t.Errorf("%d makes a total of %.0f, want %.0f", c.n, got, c.want)
		}
	}
	for _, c := range []struct {
		stands uint64
		n      int64
		want   float64
	}{{131081, 9, 131081}, {131081, 12, 131084}, {131081, 8, 196616}, {5, 9, 9}, {65546, 11, 65547}} {
		if w, err = NewWay(x, []*site.Point{from}, to); err != nil {
			t.Fatal(err)
		}
		if got := carry(w, c.n, value.OfUint(c.stands)); got != c.want {
			t.Errorf("%d makes a total of %.0f after a restart from %d, want %.0f", c.n, got, c.stands, c.want)
		}
	}
	wide, narrow := &site.Point{Type: value.TypeUint32}, &site.Point{Type: value.TypeUint16}
	if w, err = NewWay(x, []*site.Point{wide}, narrow); err != nil {
		t.Fatal(err)
	}
	if got := carry(w, 65537, value.Value{}); got != 1 {
		t.Errorf("65537 becomes %.0f in a uint16, want what is left over, 1", got)
	}
	if _, err := NewWay(x, []*site.Point{{Type: value.TypeFloat32}}, wide); err == nil {
		t.Error("a float says at which number it begins anew")
	}
}
