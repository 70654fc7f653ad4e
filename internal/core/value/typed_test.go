package value

import (
	"math/big"
	"strings"
	"testing"
)

// TestTyped: what is typed is held as it is, or refused.
func TestTyped(t *testing.T) {
	for _, c := range []struct {
		text string
		typ  Type
		want string // as it is decoded again; "" where it is refused
	}{
		{"-9223372036854775808", TypeInt64, "-9223372036854775808"}, {"-9223372036854775809", TypeInt64, ""},
		{"9223372036854775807", TypeInt64, "9223372036854775807"}, {"9223372036854775808", TypeInt64, ""},
		{"18446744073709551615", TypeUint64, "18446744073709551615"}, {"18446744073709551616", TypeUint64, ""},
		{"-1", TypeUint64, ""},
		{"65535", TypeUint16, "65535"}, {"65536", TypeUint16, ""}, {"3.7", TypeUint16, "4"}, {"1e400", TypeUint16, ""},
		{"NaN", TypeUint16, ""}, {"0x7F", TypeInt8, "127"}, {"010", TypeUint16, "10"}, {"0b101", TypeUint16, "5"},
		{"1_000", TypeUint16, ""},
	} {
		v, err := Parse(c.text, c.typ)
		got := ""
		if err == nil {
			var codec Codec
			if codec, err = NewCodec(Shape{Type: c.typ, Bit: -1}); err != nil {
				t.Fatal(err)
			}
			b := make([]byte, 8)
			if err = codec.Encode(v, b); err == nil {
				back, _ := codec.Decode(b, Value{})
				got = back.String()
			}
		}
		if got != c.want {
			t.Errorf("%s as %s becomes %q, want %q (%v)", c.text, c.typ, got, c.want, err)
		}
	}
}

// TestOddLengths: an odd number of octets is read and written in either order,
// and leaves the octet that shares its last word alone.
func TestOddLengths(t *testing.T) {
	for order, words := range map[Order]string{"": "TIDE5\xEE", "BA": "ITED\xEE5"} {
		for _, typ := range []Type{TypeText, TypeBytes} {
			codec, err := NewCodec(Shape{Type: typ, Order: order, Bit: -1, Length: 5})
			if err != nil {
				t.Fatal(err)
			}
			v, err := codec.Decode([]byte(words), Value{})
			want := map[Type]string{TypeText: "TIDE5", TypeBytes: "5449 4445 35"}[typ]
			if err != nil || v.Text() != want || !codec.Partial() {
				t.Errorf("%s %s reads %q, %v", typ, order, v.Text(), err)
			}
			b := []byte{1, 1, 1, 1, 0xEE, 0xEE}
			if err := codec.Encode(v, b); err != nil || string(b) != words {
				t.Errorf("%s %s writes % X, %v", typ, order, b, err)
			}
		}
	}
}

// TestInvalidTime: a time that the device itself marks as invalid is none.
func TestInvalidTime(t *testing.T) {
	codec, err := NewCodec(Shape{Type: TypeCP56, Bit: -1, Order: ""})
	if err != nil {
		t.Fatal(err)
	}
	bits, err := toCP56(1_764_000_000_000)
	if err != nil {
		t.Fatal(err)
	}
	for _, invalid := range []uint64{0, 1 << 23} {
		b := make([]byte, 8)
		for i := range codec.Width() {
			b[i] = byte((bits | invalid) >> (8 * uint(codec.Width()-1-i)))
		}
		if v, err := codec.Decode(b, Value{}); (err != nil) != (invalid != 0) {
			t.Errorf("%v, %v", v, err)
		}
	}
}

// FuzzTyped: whatever is typed for a whole number is held to the nearest, or
// refused; it never becomes another number.
func FuzzTyped(f *testing.F) {
	for _, text := range []string{"1", "-9223372036854775809", "3.7", "65 535", "1e3", "0x10", "--1", "1,5", "∞",
		"1_000"} {
		f.Add(text, uint8(3))
	}
	types := []Type{TypeInt8, TypeUint8, TypeInt16, TypeUint16, TypeInt32, TypeUint32, TypeInt64, TypeUint64}
	f.Fuzz(func(t *testing.T, text string, at uint8) {
		typ := types[int(at)%len(types)]
		v, err := Parse(text, typ)
		if err != nil {
			return
		}
		codec, err := NewCodec(Shape{Type: typ, Bit: -1, Unit: 8})
		if err != nil {
			t.Fatal(err)
		}
		b := make([]byte, 8)
		if codec.Encode(v, b) != nil {
			return
		}
		back, err := codec.Decode(b, Value{})
		if err != nil {
			t.Fatal(err)
		}
		plain, base := plainNumber(text), 10
		if strings.ContainsAny(plain, "xXbBpP") {
			base = 0
		}
		typed, _, err := big.ParseFloat(plain, base, 200, big.ToNearestEven)
		if err != nil {
			t.Fatal(err)
		}
		held, _, err := big.ParseFloat(back.String(), 10, 200, big.ToNearestEven)
		if err != nil {
			t.Fatal(err)
		}
		if off, _ := new(big.Float).Sub(typed, held).Float64(); off > 0.5 || off < -0.5 {
			if size, _ := typed.Float64(); off/size > 1e-15 ||
				off/size < -1e-15 { // a fraction has the digits of a float64
				t.Errorf("%q as %s becomes %s", text, typ, back)
			}
		}
	})
}

// FuzzTimes: a time that is read is printed as one that is read alike.
func FuzzTimes(f *testing.F) {
	for _, text := range []string{"2026-11-23 14:05:00", "2026-11-23T14:05:00.250Z", "1969-12-31",
		"9999-12-31 23:59:59", "1h2m3.5s", "T#250ms", "5", "-1h", "1e9h"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if v, err := ParseMoment(text); err == nil {
			if back, err := ParseMoment(v.String()); err != nil || back != v {
				t.Errorf("%q is read as %s, and that as %s, %v", text, v, back, err)
			}
		}
		if v, err := ParseSpan(text); err == nil {
			if back, err := ParseSpan(v.String()); err != nil || back != v {
				t.Errorf("%q is read as %s, and that as %s, %v", text, v, back, err)
			}
		}
	})
}

// TestCounted: a counted text ends where its count says, not where an older and
// longer one did.
func TestCounted(t *testing.T) {
	c, err := NewCodec(Shape{Type: TypeText, Length: 6, Padding: Counted, Bit: -1, Unit: 8})
	if err != nil || c.Width() != 8 {
		t.Fatalf("%d octets, %v", c.Width(), err)
	}
	for _, read := range []struct{ octets, want string }{{"\x06\x03ROWS A", "ROW"}, {"\x06\x00ROWS A", ""},
		{"\x06\xFFROWS A", "ROWS A"}} {
		if v, err := c.Decode([]byte(read.octets), Value{}); err != nil || v != OfText(read.want) {
			t.Errorf("%q reads %v, %v", read.octets, v, err)
		}
	}
	b := []byte("\x06\x06ROWS A")
	if err := c.Encode(OfText("UV"), b); err != nil || string(b) != "\x06\x02UV\x00\x00\x00\x00" {
		t.Errorf("written %q, %v", b, err)
	}
	for _, bad := range []Shape{{Type: TypeInt16, Padding: Counted, Bit: -1},
		{Type: TypeText, Length: 255, Padding: Counted, Bit: -1},
		{Type: TypeText, Length: 4, Padding: "odd", Bit: -1}} {
		if _, err := NewCodec(bad); err == nil {
			t.Errorf("%+v is a shape", bad)
		}
	}
}
