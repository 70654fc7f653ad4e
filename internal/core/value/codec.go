package value

import (
	"errors"
	"fmt"
	"math"
	"strings"
	"unicode/utf8"
)

// Type names how the bytes of a point are read.
type Type string

// The types of this version. Text carries its length beside the type.
const (
	TypeBool    Type = "bool"
	TypeInt16   Type = "int16"
	TypeUint16  Type = "uint16"
	TypeInt32   Type = "int32"
	TypeUint32  Type = "uint32"
	TypeInt64   Type = "int64"
	TypeUint64  Type = "uint64"
	TypeFloat32 Type = "float32"
	TypeFloat64 Type = "float64"
	TypeText    Type = "text"
)

// Types lists every type in the order in which a person would look for it.
func Types() []Type {
	return []Type{TypeBool, TypeInt16, TypeUint16, TypeInt32, TypeUint32, TypeInt64, TypeUint64, TypeFloat32, TypeFloat64, TypeText}
}

// Bytes returns the width of t in bytes. A bool has width 0 (it is one bit of
// whatever holds it), text the given length.
func (t Type) Bytes(textLen int) int {
	switch t {
	case TypeInt16, TypeUint16:
		return 2
	case TypeInt32, TypeUint32, TypeFloat32:
		return 4
	case TypeInt64, TypeUint64, TypeFloat64:
		return 8
	case TypeText:
		return textLen
	}
	return 0
}

// Known reports whether t is one of Types.
func (t Type) Known() bool { return t == TypeBool || t == TypeText || t.Bytes(0) > 0 }

// Range returns the least and the greatest raw number that t holds.
func (t Type) Range() (least, greatest float64) {
	switch t {
	case TypeInt16:
		return math.MinInt16, math.MaxInt16
	case TypeUint16:
		return 0, math.MaxUint16
	case TypeInt32:
		return math.MinInt32, math.MaxInt32
	case TypeUint32:
		return 0, math.MaxUint32
	case TypeInt64:
		return math.MinInt64, math.MaxInt64
	case TypeUint64:
		return 0, math.MaxUint64
	case TypeFloat32:
		return -math.MaxFloat32, math.MaxFloat32
	case TypeFloat64:
		return -math.MaxFloat64, math.MaxFloat64
	case TypeBool:
		return 0, 1
	}
	return math.NaN(), math.NaN()
}

// Order is the order of the bytes of a value on the wire. The letters name the
// bytes of the value from the most significant, A, on; their sequence is that
// of the wire. ABCD is what the Modbus specification prescribes for each
// register (big-endian) with the high word first; CDAB has the low word first;
// BADC swaps the bytes within each word; DCBA is little-endian throughout. Any
// other permutation of the letters is an order too. The zero Order is the
// alphabetical one, for every width.
type Order string

// ParseOrder reads an order for a value of the given width in bytes. Four
// letters given for eight bytes are taken as the rule they state for words and
// bytes: CDAB becomes GHEFCDAB, BADC becomes BADCFEHG. The alphabetical order
// becomes "". For text, AB and BA say which byte of each word comes first.
func ParseOrder(text string, t Type, width int) (Order, error) {
	order := strings.ToUpper(strings.TrimSpace(text))
	if order == "" {
		return "", nil
	}
	if t == TypeBool {
		if order == "AB" || order == "ABCD" {
			return "", nil
		}
		return "", fmt.Errorf("order %q: a single bit has no order, leave it empty", text)
	}
	if t == TypeText {
		switch order {
		case "AB":
			return "", nil
		case "BA":
			return "BA", nil
		}
		return "", fmt.Errorf("order %q: a text takes AB or BA", text)
	}
	if width == 2 && len(order) == 4 && (order == "ABCD" || order == "CDAB") {
		return "", nil // the word order of a single word: nothing to order
	}
	if width == 8 {
		switch order {
		case "ABCD":
			order = "ABCDEFGH"
		case "CDAB":
			order = "GHEFCDAB"
		case "BADC":
			order = "BADCFEHG"
		case "DCBA":
			order = "HGFEDCBA"
		}
	}
	if len(order) != width {
		return "", fmt.Errorf("order %q has %d letters: a %s needs %d, such as %s", text, len(order), t, width, Orders(width)[min(1, len(Orders(width))-1)])
	}
	seen := [8]bool{}
	for _, letter := range []byte(order) {
		at := int(letter) - 'A'
		if at < 0 || at >= width || seen[at] {
			return "", fmt.Errorf("order %q: use each of the letters A to %c once", text, 'A'+width-1)
		}
		seen[at] = true
	}
	if order == "ABCDEFGH"[:width] {
		return "", nil
	}
	return Order(order), nil
}

// Orders lists the usual orders for a width of 2, 4 or 8 bytes, the
// alphabetical first.
func Orders(width int) []Order {
	switch width {
	case 2:
		return []Order{"AB", "BA"}
	case 4:
		return []Order{"ABCD", "CDAB", "BADC", "DCBA"}
	case 8:
		return []Order{"ABCDEFGH", "GHEFCDAB", "BADCFEHG", "HGFEDCBA", "EFGHABCD", "CDABGHEF"}
	}
	return []Order{"AB"}
}

// Codec turns wire bytes into a value and back. It is a plain value: make it
// once per point with NewCodec and keep it.
type Codec struct {
	typ   Type
	width int
	bit   int8 // bit of the first word for a bool inside a word, -1 for a bit of its own
	swap  bool // text only: low byte of each word first
	place [8]uint8
}

// NewCodec returns the codec for a type, an order and, for a bool that lives
// in a 16-bit word, its bit 0 (least significant) to 15; bit is -1 for a bool
// that is a single bit on the wire. textLen is the length of a text in bytes.
func NewCodec(t Type, order Order, bit int, textLen int) (Codec, error) {
	c := Codec{typ: t, bit: int8(bit), width: t.Bytes(textLen)}
	switch {
	case !t.Known():
		return c, fmt.Errorf("type %q is not known: use one of bool, int16 to uint64, float32, float64, text", t)
	case t == TypeText && (textLen < 1 || textLen > 246):
		return c, fmt.Errorf("a text of %d characters cannot be read in one piece: give 1 to 246", textLen)
	case t != TypeBool && bit >= 0:
		return c, fmt.Errorf("an address with a bit holds a bool, not a %s", t)
	case bit > 15 || bit < -1:
		return c, fmt.Errorf("bit %d is not in a word: bits run from 0 to 15", bit)
	}
	if t == TypeBool {
		c.width = 1
		if bit >= 0 {
			c.width = 2
		}
	}
	parsed, err := ParseOrder(string(order), t, c.width)
	if err != nil {
		return c, err
	}
	c.swap = parsed == "BA" && t == TypeText
	for i := range min(c.width, 8) {
		c.place[i] = uint8(i)
		if t != TypeText && parsed != "" {
			c.place[i] = parsed[i] - 'A'
		}
	}
	return c, nil
}

// Width returns the number of bytes that Decode reads: 1 for a single bit (its
// truth in the lowest bit), 2 for a bit of a word.
func (c Codec) Width() int { return c.width }

// Type returns the type the codec was made for.
func (c Codec) Type() Type { return c.typ }

// ErrShort is returned when there are fewer bytes than the value needs.
var ErrShort = errors.New("fewer bytes than the value needs")

// Decode reads a value from the first Width bytes of b. Numbers and bools are
// read without allocating; a text is allocated only when it differs from prev,
// the value read before.
func (c Codec) Decode(b []byte, prev Value) (Value, error) {
	if len(b) < c.width || c.width == 0 {
		return Value{}, ErrShort
	}
	switch c.typ {
	case TypeBool:
		if c.bit < 0 {
			return OfBool(b[0]&1 != 0), nil
		}
		return OfBool((uint16(b[0])<<8|uint16(b[1]))>>uint(c.bit)&1 != 0), nil
	case TypeText:
		return c.decodeText(b[:c.width], prev), nil
	}
	var bits uint64
	top := uint(c.width-1) * 8
	for i := range c.width {
		bits |= uint64(b[i]) << (top - uint(c.place[i])*8)
	}
	switch c.typ {
	case TypeInt16:
		return OfInt(int64(int16(bits))), nil
	case TypeInt32:
		return OfInt(int64(int32(bits))), nil
	case TypeInt64:
		return OfInt(int64(bits)), nil
	case TypeFloat32:
		return OfFloat(float64(math.Float32frombits(uint32(bits)))), nil
	case TypeFloat64:
		return OfFloat(math.Float64frombits(bits)), nil
	}
	return OfUint(bits), nil
}

// decodeText reads bytes up to the first NUL; bytes that are not UTF-8 are
// taken as Latin-1, and trailing blanks are padding.
func (c Codec) decodeText(b []byte, prev Value) Value {
	var buf [512]byte
	out := buf[:0]
	at := func(i int) byte {
		if c.swap && i^1 < len(b) {
			return b[i^1]
		}
		return b[i]
	}
	for i := range b {
		if at(i) == 0 {
			break
		}
		out = append(out, at(i))
	}
	for len(out) > 0 && out[len(out)-1] == ' ' {
		out = out[:len(out)-1]
	}
	if !utf8.Valid(out) {
		latin := make([]byte, 0, 2*len(out))
		for _, ch := range out {
			latin = utf8.AppendRune(latin, rune(ch))
		}
		out = latin
	}
	if prev.kind == Text && prev.text == string(out) {
		return prev
	}
	return OfText(string(out))
}

// Encode writes the raw value v into the first Width bytes of b. For a bit of
// a word it changes only that bit: b must hold the word as read. It fails if v
// is outside the range of the type, or is a text that does not fit.
func (c Codec) Encode(v Value, b []byte) error {
	if len(b) < c.width {
		return ErrShort
	}
	switch c.typ {
	case TypeBool:
		at, mask := 0, byte(1)
		if c.bit >= 0 {
			at, mask = 1-int(c.bit)/8, byte(1)<<(c.bit%8)
		}
		if v.Bool() {
			b[at] |= mask
		} else {
			b[at] &^= mask
		}
		return nil
	case TypeText:
		if len(v.text) > c.width {
			return fmt.Errorf("the text takes %d bytes and the point holds %d", len(v.text), c.width)
		}
		clear(b[:c.width])
		for i := range len(v.text) {
			to := i
			if c.swap && i^1 < c.width {
				to = i ^ 1
			}
			b[to] = v.text[i]
		}
		return nil
	}
	bits, err := c.bits(v)
	if err != nil {
		return err
	}
	top := uint(c.width-1) * 8
	for i := range c.width {
		b[i] = byte(bits >> (top - uint(c.place[i])*8))
	}
	return nil
}

func (c Codec) bits(v Value) (uint64, error) {
	if v.kind == Text || v.kind == None {
		return 0, fmt.Errorf("%q is not a number", v.text)
	}
	switch c.typ {
	case TypeFloat64:
		return math.Float64bits(v.Float()), nil
	case TypeFloat32:
		f := float32(v.Float())
		if math.IsInf(float64(f), 0) && !math.IsInf(v.Float(), 0) {
			return 0, fmt.Errorf("%s is beyond what a float32 holds", v)
		}
		return uint64(math.Float32bits(f)), nil
	}
	least, greatest := c.typ.Range()
	outside := func() (uint64, error) {
		return 0, fmt.Errorf("%s is outside what a raw %s holds: %.0f to %.0f", v, c.typ, least, greatest)
	}
	if v.kind == Float {
		f := math.Round(v.Float())
		// 2^63 and 2^64 are exact as floats while the greatest integers are
		// not, so the upper end is compared without the equality.
		if !(f >= least && f <= greatest) || (c.width == 8 && f >= greatest) {
			return outside()
		}
		if f < 0 {
			return uint64(int64(f)), nil
		}
		return uint64(f), nil
	}
	unsigned := c.typ == TypeUint16 || c.typ == TypeUint32 || c.typ == TypeUint64
	negative := v.kind == Int && int64(v.bits) < 0
	switch {
	case unsigned && negative:
		return outside()
	case !unsigned && !negative && v.bits > uint64(math.MaxInt64>>(64-8*c.width)):
		return outside()
	case !unsigned && negative && int64(v.bits) < math.MinInt64>>(64-8*c.width):
		return outside()
	case unsigned && c.width < 8 && v.bits>>(8*c.width) != 0:
		return outside()
	}
	return v.bits, nil
}
