package value

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"math"
	"strings"
	"testing"
	"time"
)

func fromHex(t testing.TB, text string) []byte {
	b, err := hex.DecodeString(strings.ReplaceAll(text, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func TestCodec(t *testing.T) {
	for _, c := range []struct {
		name   string
		typ    Type
		order  Order
		bit    int
		length int
		wire   string
		want   Value
	}{
		{"int16", TypeInt16, "", -1, 0, "FF9C", OfInt(-100)},
		{"uint16", TypeUint16, "", -1, 0, "FF9C", OfUint(65436)},
		{"uint16 swapped", TypeUint16, "BA", -1, 0, "9CFF", OfUint(65436)},
		{"int32 ABCD", TypeInt32, "ABCD", -1, 0, "FFFFFFFE", OfInt(-2)},
		{"uint32 CDAB", TypeUint32, "CDAB", -1, 0, "5678 1234", OfUint(0x12345678)},
		{"uint32 BADC", TypeUint32, "BADC", -1, 0, "3412 7856", OfUint(0x12345678)},
		{"uint32 DCBA", TypeUint32, "DCBA", -1, 0, "7856 3412", OfUint(0x12345678)},
		{"uint32 ACBD, any permutation", TypeUint32, "ACBD", -1, 0, "1256 3478", OfUint(0x12345678)},
		{"float32 CDAB", TypeFloat32, "CDAB", -1, 0, "0000 4148", OfFloat(12.5)},
		{"int64", TypeInt64, "", -1, 0, "FFFFFFFFFFFFFFFF", OfInt(-1)},
		{"uint64 low word first", TypeUint64, "CDAB", -1, 0, "DEF0 9ABC 5678 1234", OfUint(0x123456789ABCDEF0)},
		{"uint64 halves swapped", TypeUint64, "EFGHABCD", -1, 0, "9ABCDEF0 12345678", OfUint(0x123456789ABCDEF0)},
		{"float64", TypeFloat64, "", -1, 0, "4029000000000000", OfFloat(12.5)},
		{"float64 little-endian", TypeFloat64, "DCBA", -1, 0, "0000000000002940", OfFloat(12.5)},
		{"single bit", TypeBool, "", -1, 0, "01", OfBool(true)},
		{"bit 0 of a word", TypeBool, "", 0, 0, "0001", OfBool(true)},
		{"bit 15 of a word", TypeBool, "", 15, 0, "8000", OfBool(true)},
		{"bit 8 clear", TypeBool, "", 8, 0, "00FF", OfBool(false)},
		{"text", TypeText, "", -1, 8, "44502D3230343137", OfText("DP-20417")},
		{"text, bytes swapped, padded", TypeText, "BA", -1, 6, "4141 2042 0000", OfText("AAB")},
		{"text in Latin-1", TypeText, "", -1, 2, "B043", OfText("°C")},
	} {
		t.Run(c.name, func(t *testing.T) {
			codec, err := NewCodec(Shape{Type: c.typ, Order: c.order, Bit: c.bit, Length: c.length})
			if err != nil {
				t.Fatal(err)
			}
			wire := fromHex(t, c.wire)
			got, err := codec.Decode(wire, Value{})
			if err != nil || got != c.want {
				t.Fatalf("decodes to %v, %v; want %v", got, err, c.want)
			}
			if c.name == "text in Latin-1" || strings.HasPrefix(c.name, "text, bytes") {
				return // written back as UTF-8, and with other padding
			}
			back := make([]byte, len(wire))
			if c.typ == TypeBool {
				copy(back, wire)
			}
			if err := codec.Encode(got, back); err != nil || string(back) != string(wire) {
				t.Errorf("encodes to % X, %v; want % X", back, err, wire)
			}
		})
	}
}

// TestCodecShapes: what a shape reads it writes back, octet for octet.
func TestCodecShapes(t *testing.T) {
	moment := time.Date(2026, 11, 23, 14, 5, 33, 204e6, time.UTC).UnixMilli()
	for _, c := range []struct {
		name  string
		shape Shape
		wire  string
		want  Value
		shown string
	}{
		{"high byte", Shape{Type: TypeInt8, Bit: 8}, "FE07", OfInt(-2), "-2"},
		{"low byte", Shape{Type: TypeUint8, Bit: 0}, "FE07", OfUint(7), "7"},
		{"a byte of its own", Shape{Type: TypeUint8, Bit: -1, Unit: 8}, "FE", OfUint(254), "254"},
		{"bits 4 to 6", Shape{Type: TypeBits, Bit: 4, Length: 3}, "FF5F", OfUint(5), "5"},
		{"bit 3 of a byte", Shape{Type: TypeBool, Bit: 3, Unit: 8}, "08", OfBool(true), "on"},
		{"packed decimal", Shape{Type: TypeBCD16, Bit: -1}, "1234", OfUint(1234), "1234"},
		{"packed decimal of two words, low first", Shape{Type: TypeBCD32, Order: "CDAB", Bit: -1}, "5678 1234",
			OfUint(12345678), "12345678"},
		{"base 10 000", Shape{Type: TypeBase10k, Bit: -1, Length: 3}, "0003 1267 000C", OfUint(3_4711_0012),
			"347110012"},
		{"base 10 000, low first", Shape{Type: TypeBase10k, Order: "CDAB", Bit: -1, Length: 2}, "000C 1267",
			OfUint(47110012), "47110012"},
		{"enumeration", Shape{Type: TypeEnum, Bit: -1}, "0003", OfUint(3), "3"},
		{"flags", Shape{Type: TypeFlags32, Bit: -1}, "80000001", OfUint(0x80000001), "2147483649"},
		{"seconds", Shape{Type: TypeUnix, Bit: -1}, "6A1A F720", OfMoment(1780152096 * 1000), "2026-05-30 14:41:36"},
		{"milliseconds", Shape{Type: TypeUnixMs, Bit: -1}, "0000 018B CFE5 6800", OfMoment(0x018BCFE56800),
			"2023-11-14 22:13:20"},
		{"binary time", Shape{Type: TypeCP56, Bit: -1}, "001A 0B37 0E05 81B4", OfMoment(moment),
			"2026-11-23 14:05:33.204"},
		{"binary time as IEC 60870-5 sends it", Shape{Type: TypeCP56, Order: "HGFEDCBA", Bit: -1},
			"B481 050E 370B 1A00", OfMoment(moment), "2026-11-23 14:05:33.204"},
		{"TIME", Shape{Type: TypeTime, Bit: -1}, "FFFF FC18", OfSpan(-1000), "-1s"},
		{"DATE", Shape{Type: TypeDate, Bit: -1}, "6A1A 2880", OfMoment(1780099200 * 1000), "2026-05-30 00:00:00"},
		{"DT", Shape{Type: TypeDT, Order: "CDAB", Bit: -1}, "F720 6A1A", OfMoment(1780152096 * 1000),
			"2026-05-30 14:41:36"},
		{"UTF-16", Shape{Type: TypeText, Bit: -1, Length: 6, Charset: UTF16}, "00B0 0043 0000", OfText("°C"), "°C"},
		{"UTF-16 with a surrogate pair", Shape{Type: TypeText, Bit: -1, Length: 6, Charset: UTF16}, "D83D DC1F 0000",
			OfText("🐟"), "🐟"},
		{"Latin-1 with blanks", Shape{Type: TypeText, Bit: -1, Length: 4, Charset: Latin1, Padding: PadSpace},
			"B043 2020", OfText("°C"), "°C"},
		{"UTF-8, bytes swapped", Shape{Type: TypeText, Order: "BA", Bit: -1, Length: 4, Charset: UTF8}, "B0C2 0043",
			OfText("°C"), "°C"},
		{"raw bytes", Shape{Type: TypeBytes, Bit: -1, Length: 5}, "00FF1A2B3C", OfText("00FF 1A2B 3C"), "00FF 1A2B 3C"},
	} {
		t.Run(c.name, func(t *testing.T) {
			codec, err := NewCodec(c.shape)
			if err != nil {
				t.Fatal(err)
			}
			wire := fromHex(t, c.wire)
			got, err := codec.Decode(wire, Value{})
			if err != nil || got != c.want || got.String() != c.shown {
				t.Fatalf("decodes to %v, %v; want %v", got, err, c.want)
			}
			back := make([]byte, len(wire))
			if codec.Partial() {
				copy(back, wire)
			}
			if err := codec.Encode(got, back); err != nil || string(back) != string(wire) {
				t.Errorf("encodes to % X, %v; want % X", back, err, wire)
			}
		})
	}
}

// TestPartial: writing a part of a word leaves the rest of it alone.
func TestPartial(t *testing.T) {
	codec, err := NewCodec(Shape{Type: TypeBits, Bit: 6, Length: 5})
	if err != nil {
		t.Fatal(err)
	}
	word := []byte{0xFF, 0xFF}
	if err := codec.Encode(OfUint(0b10010), word); err != nil || word[0] != 0b11111_100 || word[1] != 0b10_111111 {
		t.Errorf("%08b %08b, %v", word[0], word[1], err)
	}
	if err := codec.Encode(OfUint(32), word); err == nil {
		t.Error("32 is written into five bits")
	}
}

func TestDecodeRefuses(t *testing.T) {
	for name, c := range map[string]struct {
		shape Shape
		wire  string
		want  error
	}{
		"a nibble above 9":  {Shape{Type: TypeBCD16, Bit: -1}, "12A4", ErrDigit},
		"a word above 9999": {Shape{Type: TypeBase10k, Bit: -1, Length: 2}, "0001 2710", ErrBase10k},
		"the 30th February": {Shape{Type: TypeCP56, Bit: -1}, "001A 021E 0E05 81B4", ErrTime},
		"61 seconds":        {Shape{Type: TypeCP56, Bit: -1}, "001A 0B17 0E05 EE48", ErrTime},
		"the year 10000":    {Shape{Type: TypeUnixMs, Bit: -1}, "0000 E677 D21F DC00", ErrTime},
		"too few octets":    {Shape{Type: TypeFloat64, Bit: -1}, "0000", ErrShort},
	} {
		codec, err := NewCodec(c.shape)
		if err != nil {
			t.Fatal(err)
		}
		if v, err := codec.Decode(fromHex(t, c.wire), Value{}); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, %v", name, v, err)
		}
	}
}

func TestScales(t *testing.T) {
	loop := &Range{RawLow: 4000, RawHigh: 20000, Low: 0, High: 100}
	clamped := *loop
	clamped.Clamp = true
	for _, c := range []struct {
		name  string
		scale Scale
		raw   Value
		want  Value
		back  float64 // raw, where writing back loses something; NaN where it does not
	}{
		{"a range", Scale{Range: loop}, OfInt(12000), OfFloat(50), math.NaN()},
		{"below a range", Scale{Range: loop}, OfInt(3200), OfFloat(-5), math.NaN()},
		{"below a clamped one", Scale{Range: &clamped}, OfInt(3200), OfFloat(0), 4000},
		{"a falling range", Scale{Range: &Range{RawLow: 0, RawHigh: 10, Low: 100, High: 0}}, OfUint(3), OfFloat(70),
			math.NaN()},
		{"a power of ten", Scale{Power: -3}, OfInt(2413), OfFloat(2.413), math.NaN()},
		{"a power on a factor", Scale{Linear: Linear{Factor: 0.1}, Power: -2}, OfInt(12345), OfFloat(12.345),
			math.NaN()},
		{"a power above one", Scale{Power: 2}, OfInt(7), OfFloat(700), math.NaN()},
		{"a text stays", Scale{Range: loop}, OfText("A"), OfText("A"), math.NaN()},
	} {
		if got := c.scale.Apply(c.raw); got != c.want {
			t.Errorf("%s: %v, want %v", c.name, got, c.want)
		}
		want := c.back
		if math.IsNaN(want) {
			want = c.raw.Float()
		}
		if got := c.scale.Invert(c.want).Float(); got != want && !math.IsNaN(want) {
			t.Errorf("%s: back to %v, want %v", c.name, got, want)
		}
	}
	missing := Scale{Missing: []Value{OfInt(-32768), OfText("NaN"), OfInt(65535)}}
	for v, want := range map[Value]bool{OfInt(-32768): true, OfUint(65535): true, OfInt(0): false,
		OfFloat(math.NaN()): true, OfFloat(1): false, OfText("NaN"): false} {
		if missing.IsMissing(v) != want {
			t.Errorf("%v is missing: %v", v, !want)
		}
	}
}

func TestParseTimes(t *testing.T) {
	for _, c := range []struct {
		text string
		typ  Type
		want Value
	}{
		{"2026-05-30 14:41:36", TypeUnix, OfMoment(1780152096000)},
		{"2026-05-30T16:41:36+02:00", TypeDT, OfMoment(1780152096000)},
		{"2026-05-30", TypeDate, OfMoment(1780099200000)},
		{"T#1h2m3s500ms", TypeTime, OfSpan(3723500)}, {"90", TypeTime, OfSpan(90000)},
		{"2 min", TypeTime, OfSpan(120000)},
		{"yesterday", TypeUnix, Value{}}, {"soon", TypeTime, Value{}},
	} {
		if got, err := Parse(c.text, c.typ); got != c.want || (err != nil) != c.want.IsNone() {
			t.Errorf("%q reads as %v, %v", c.text, got, err)
		}
	}
}

// TestEveryOrder: what an order writes it reads, for every permutation.
func TestEveryOrder(t *testing.T) {
	var permute func(prefix, rest string)
	count := 0
	permute = func(prefix, rest string) {
		if rest == "" {
			count++
			codec, err := NewCodec(Shape{Type: TypeUint32, Order: Order(prefix), Bit: -1, Length: 0})
			if err != nil {
				t.Fatalf("%s: %v", prefix, err)
			}
			b := make([]byte, 4)
			if err := codec.Encode(OfUint(0x12345678), b); err != nil {
				t.Fatal(err)
			}
			for i, letter := range []byte(prefix) {
				if want := []byte{0x12, 0x34, 0x56, 0x78}[letter-'A']; b[i] != want {
					t.Errorf("%s: octet %d on the wire is %X, want %X", prefix, i, b[i], want)
				}
			}
			if v, err := codec.Decode(b, Value{}); err != nil || v != OfUint(0x12345678) {
				t.Errorf("%s reads back %v, %v", prefix, v, err)
			}
			return
		}
		for i := range rest {
			permute(prefix+rest[i:i+1], rest[:i]+rest[i+1:])
		}
	}
	permute("", "ABCD")
	if count != 24 {
		t.Errorf("%d orders tried", count)
	}
}

func TestEncodeRefuses(t *testing.T) {
	for _, c := range []struct {
		typ Type
		v   Value
	}{
		{TypeInt16, OfInt(32768)}, {TypeInt16, OfInt(-32769)}, {TypeUint16, OfInt(-1)}, {TypeUint16, OfFloat(65535.6)},
		{TypeInt32, OfUint(1 << 31)}, {TypeUint32, OfUint(1 << 32)}, {TypeInt64, OfUint(1 << 63)},
		{TypeUint64, OfFloat(math.Inf(1))},
		{TypeInt64, OfFloat(9223372036854775808)}, {TypeUint16, OfFloat(math.NaN())}, {TypeFloat32, OfFloat(1e39)},
		{TypeUint16, OfText("x")},
	} {
		codec, err := NewCodec(Shape{Type: c.typ, Order: "", Bit: -1, Length: 0})
		if err != nil {
			t.Fatal(err)
		}
		b := make([]byte, 8)
		if err := codec.Encode(c.v, b); err == nil {
			t.Errorf("%v fits into a %s as % X", c.v, c.typ, b)
		}
	}
	for _, bad := range []struct {
		typ   Type
		order Order
		bit   int
		n     int
	}{{TypeUint32, "ABCC", -1, 0}, {TypeUint32, "AB", -1, 0}, {TypeUint32, "ABCX", -1, 0}, {TypeUint16, "", 3, 0},
		{TypeBool, "", 16, 0}, {TypeText, "", -1, 0}, {TypeText, "", -1, 300}, {"octet", "", -1, 0}} {
		if _, err := NewCodec(Shape{Type: bad.typ, Order: bad.order, Bit: bad.bit, Length: bad.n}); err == nil {
			t.Errorf("%v makes a codec", bad)
		}
	}
}

func TestLinear(t *testing.T) {
	for _, c := range []struct {
		scale Linear
		raw   Value
		want  string
	}{
		{Linear{}, OfUint(math.MaxUint64), "18446744073709551615"},
		{Linear{Factor: 0.1}, OfInt(123), "12.3"},
		{Linear{Factor: 0.001}, OfUint(48211509), "48211.509"},
		{Linear{Factor: 1.8, Offset: 32}, OfFloat(10), "50"},
		{Linear{Factor: 0.1}, OfBool(true), "on"},
	} {
		got := c.scale.Apply(c.raw)
		if got.String() != c.want {
			t.Errorf("%v of %v gives %v, want %s", c.scale, c.raw, got, c.want)
		}
		if back := c.scale.Invert(got); math.Abs(back.Float()-c.raw.Float()) > 1e-9*math.Abs(c.raw.Float()) {
			t.Errorf("%v turns back to %v, want %v", got, back, c.raw)
		}
	}
}

func TestValueJSON(t *testing.T) {
	for _, v := range []Value{{}, OfBool(true), OfInt(-7), OfUint(math.MaxUint64), OfFloat(1.5), OfText("Tank \"A\"")} {
		data, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		var back Value
		if err := json.Unmarshal(data, &back); err != nil || back != v {
			t.Errorf("%v becomes %s and then %v, %v", v, data, back, err)
		}
	}
	if data, err := json.Marshal(OfFloat(math.NaN())); err != nil || string(data) != `"NaN"` {
		t.Errorf("NaN becomes %s, %v", data, err)
	}
}

func TestParse(t *testing.T) {
	for _, c := range []struct {
		text string
		typ  Type
		want Value
		bad  bool
	}{
		{"48,5", TypeUint16, OfFloat(48.5), false}, {"0x1F", TypeUint16, OfInt(31), false},
		{"−3", TypeInt16, OfInt(-3), false},
		{"on", TypeBool, OfBool(true), false}, {"maybe", TypeBool, Value{}, true}, {"", TypeUint16, Value{}, true},
		{"4 2", TypeUint16, Value{}, true},
		{" A ", TypeText, OfText(" A "), false},
	} {
		got, err := Parse(c.text, c.typ)
		if (err != nil) != c.bad || got != c.want {
			t.Errorf("%q reads as %v, %v", c.text, got, err)
		}
	}
}

func FuzzDecode(f *testing.F) {
	f.Add("float32", "CDAB", -1, 0, []byte{1, 2, 3, 4})
	f.Add("text", "BA", -1, 7, []byte("hatchery"))
	f.Add("bool", "", 5, 0, []byte{0, 32})
	f.Add("bits", "", 5, 9, []byte{7, 32})
	f.Add("base10k", "CDAB", -1, 4, []byte{0, 32, 1, 2, 3, 4, 5, 6})
	f.Add("cp56", "HGFEDCBA", -1, 0, []byte{0xB4, 0x81, 5, 14, 0x37, 11, 26, 0})
	f.Add("date", "", -1, 0, []byte{0x6A, 0x1A, 0xF7, 0x20})
	f.Fuzz(func(t *testing.T, typ, order string, bit, length int, b []byte) {
		codec, err := NewCodec(Shape{Type: Type(typ), Order: Order(order), Bit: bit, Length: length})
		if err != nil {
			return
		}
		v, err := codec.Decode(b, Value{})
		if errors.Is(err, ErrShort) != (len(b) < codec.Width()) {
			t.Fatalf("%s of %d octets: %v", typ, len(b), err)
		}
		if err != nil || v.Kind() == Text {
			return
		}
		again := append([]byte(nil), b...)
		if err := codec.Encode(v, again); err != nil {
			t.Fatalf("%v was read and cannot be written: %v", v, err)
		}
		second, err := codec.Decode(again, Value{})
		if err != nil || (second != v && !math.IsNaN(v.Float())) {
			t.Fatalf("%v reads back as %v, %v", v, second, err)
		}
	})
}

// BenchmarkDecode: numbers are read without an allocation.
func BenchmarkDecode(b *testing.B) {
	wire := []byte{0x9F, 0x3A, 0x41, 0x48, 0, 0, 0, 0}
	for _, typ := range []Type{TypeUint16, TypeInt32, TypeFloat32, TypeFloat64} {
		b.Run(string(typ), func(b *testing.B) {
			codec, err := NewCodec(Shape{Type: typ, Order: "", Bit: -1, Length: 0})
			if err != nil {
				b.Fatal(err)
			}
			b.ReportAllocs()
			var v Value
			for b.Loop() {
				v, _ = codec.Decode(wire, v)
			}
		})
	}
}

// TestDecodeAllocations holds what the benchmark shows.
func TestDecodeAllocations(t *testing.T) {
	number, _ := NewCodec(Shape{Type: TypeFloat32, Order: "CDAB", Bit: -1, Length: 0})
	text, _ := NewCodec(Shape{Type: TypeText, Order: "", Bit: -1, Length: 8})
	wire := []byte("DP-20417")
	prev, _ := text.Decode(wire, Value{})
	if n := testing.AllocsPerRun(100, func() {
		_, _ = number.Decode(wire, Value{})
		prev, _ = text.Decode(wire, prev)
	}); n != 0 {
		t.Errorf("%v allocations a value", n)
	}
}

func TestFormat(t *testing.T) {
	for _, c := range []struct {
		v        Value
		decimals int
		want     string
	}{
		{OfFloat(float64(float32(1.012))), -1, "1.012"}, {OfFloat(8.426), 2, "8.43"}, {OfFloat(12.3), -1, "12.3"},
		{OfFloat(1e20), 2, "1e+20"},
		{OfFloat(0.00001), 2, "1e-05"}, {OfFloat(0), 2, "0.00"}, {OfInt(-5), 0, "-5"}, {OfInt(-5), 1, "-5.0"},
		{OfUint(7), -1, "7"},
		{OfBool(false), 2, "off"}, {OfText("Tank row A"), 2, "Tank row A"}, {Value{}, 2, ""},
		{OfFloat(math.Inf(-1)), 1, "-Inf"},
	} {
		if got := c.v.Format(c.decimals); got != c.want {
			t.Errorf("%#v with %d decimals is printed %q, want %q", c.v, c.decimals, got, c.want)
		}
	}
}
