package value

import (
	"encoding/hex"
	"encoding/json"
	"math"
	"strings"
	"testing"
)

func octets(t testing.TB, text string) []byte {
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
			codec, err := NewCodec(c.typ, c.order, c.bit, c.length)
			if err != nil {
				t.Fatal(err)
			}
			wire := octets(t, c.wire)
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

// TestEveryOrder: what an order writes it reads, for every permutation.
func TestEveryOrder(t *testing.T) {
	var permute func(prefix, rest string)
	count := 0
	permute = func(prefix, rest string) {
		if rest == "" {
			count++
			codec, err := NewCodec(TypeUint32, Order(prefix), -1, 0)
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
		{TypeInt32, OfUint(1 << 31)}, {TypeUint32, OfUint(1 << 32)}, {TypeInt64, OfUint(1 << 63)}, {TypeUint64, OfFloat(math.Inf(1))},
		{TypeInt64, OfFloat(9223372036854775808)}, {TypeUint16, OfFloat(math.NaN())}, {TypeFloat32, OfFloat(1e39)}, {TypeUint16, OfText("x")},
	} {
		codec, err := NewCodec(c.typ, "", -1, 0)
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
	}{{TypeUint32, "ABCC", -1, 0}, {TypeUint32, "AB", -1, 0}, {TypeUint32, "ABCX", -1, 0}, {TypeUint16, "", 3, 0}, {TypeBool, "", 16, 0}, {TypeText, "", -1, 0}, {TypeText, "", -1, 300}, {"octet", "", -1, 0}} {
		if _, err := NewCodec(bad.typ, bad.order, bad.bit, bad.n); err == nil {
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
		{"48,5", TypeUint16, OfFloat(48.5), false}, {"0x1F", TypeUint16, OfInt(31), false}, {"−3", TypeInt16, OfInt(-3), false},
		{"on", TypeBool, OfBool(true), false}, {"maybe", TypeBool, Value{}, true}, {"", TypeUint16, Value{}, true}, {"4 2", TypeUint16, Value{}, true},
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
	f.Fuzz(func(t *testing.T, typ, order string, bit, length int, b []byte) {
		codec, err := NewCodec(Type(typ), Order(order), bit, length)
		if err != nil {
			return
		}
		v, err := codec.Decode(b, Value{})
		if (err != nil) != (len(b) < codec.Width()) {
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
			codec, err := NewCodec(typ, "", -1, 0)
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
	number, _ := NewCodec(TypeFloat32, "CDAB", -1, 0)
	text, _ := NewCodec(TypeText, "", -1, 8)
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
		{OfFloat(float64(float32(1.012))), -1, "1.012"}, {OfFloat(8.426), 2, "8.43"}, {OfFloat(12.3), -1, "12.3"}, {OfFloat(1e20), 2, "1e+20"},
		{OfFloat(0.00001), 2, "1e-05"}, {OfFloat(0), 2, "0.00"}, {OfInt(-5), 0, "-5"}, {OfInt(-5), 1, "-5.0"}, {OfUint(7), -1, "7"},
		{OfBool(false), 2, "off"}, {OfText("Tank row A"), 2, "Tank row A"}, {Value{}, 2, ""}, {OfFloat(math.Inf(-1)), 1, "-Inf"},
	} {
		if got := c.v.Format(c.decimals); got != c.want {
			t.Errorf("%#v with %d decimals is printed %q, want %q", c.v, c.decimals, got, c.want)
		}
	}
}
