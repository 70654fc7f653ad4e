package value

import (
	"errors"
	"fmt"
	"math"
)

// Shape is everything that says how the bytes of a point are read. It is a
// plain, comparable value.
type Shape struct {
	Type  Type
	Order Order
	// Bit is the lowest bit of the value within its unit, -1 for none.
	Bit int
	// Unit is the width in bits of the units of the area: 1, 8 or 16. 0 stands
	// for 16.
	Unit int
	// Length counts the bits of a bit field, the words of a base10k, the
	// octets of a text or of raw bytes.
	Length  int
	Charset Charset
	Padding Padding
}

// Codec turns wire bytes into a value and back. It is a plain value: make it
// once per point with NewCodec and keep it.
type Codec struct {
	Shape
	family family
	width  int   // octets read
	bits   uint8 // width of the value in bits where it is part of a unit, else 0
	place  [8]uint8
}

// Codecs are those of many values: one for each shape.
type Codecs map[Shape]*Codec

// Of returns the codec of a shape, which is made where there is none. It fails as
// NewCodec does.
func (c Codecs) Of(s Shape) (*Codec, error) {
	if has := c[s]; has != nil {
		return has, nil
	}
	made, err := NewCodec(s)
	if err == nil {
		c[s] = &made
	}
	return &made, err
}

// NewCodec returns the codec for a shape. It fails if the type is not known,
// the order or the length does not fit it, or the value would leave its unit.
func NewCodec(s Shape) (Codec, error) {
	if s.Unit == 0 {
		s.Unit = 16
	}
	c := Codec{Shape: s, family: ruleOf[s.Type].family, width: s.Octets()}
	if !s.Type.Known() {
		return c, fmt.Errorf("type %q is not known: use one of bool, bits, int8 to uint64, float32, float64, bcd16, "+
			"bcd32, base10k, enum, flags, text, unix, unixms, cp56, time, date, dt or bytes", s.Type)
	}
	if least, most, needed := s.Type.Length(); needed && (s.Length < least || s.Length > most && s.Padding != Counted) {
		return c, fmt.Errorf("a %s of length %d cannot be read in one piece: give %d to %d", s.Type, s.Length, least,
			most)
	}
	if err := c.Charset.check(s.Type, s.Length); err != nil {
		return c, err
	}
	if err := s.checkPadding(); err != nil {
		return c, err
	}
	if s.Bit >= 0 && !s.Type.InUnit() {
		return c, fmt.Errorf("an address with a bit holds a bool, bits or a byte, not a %s", s.Type)
	}
	if s.Bit < -1 || s.Bit > 0 && s.Bit >= s.Unit {
		return c, fmt.Errorf("bit %d is not in a unit of %d bits: bits run from 0 to %d", s.Bit, s.Unit, s.Unit-1)
	}
	if err := c.fitUnit(); err != nil {
		return c, err
	}
	parsed, err := ParseOrder(string(s.Order), s.Type, c.width)
	if err != nil {
		return c, err
	}
	c.Order = parsed
	if s.Type.IsText() && parsed == "BA" {
		c.width += c.width % 2 // the last character is in the low octet of its word
	}
	for i := range min(c.width, 8) {
		c.place[i] = uint8(i)
		if !s.Type.IsText() && parsed != "" {
			c.place[i] = parsed[i] - 'A'
		}
	}
	return c, nil
}

// fitUnit sets the width of a value that is part of a unit.
func (c *Codec) fitUnit() error {
	if !c.Type.InUnit() {
		return nil
	}
	need := 8
	switch c.Type {
	case TypeBool:
		need = 1
	case TypeBits:
		need = c.Length
	}
	if c.Unit == 1 && c.Type != TypeBool {
		return fmt.Errorf("a single bit holds a bool, not a %s", c.Type)
	}
	if max(c.Bit, 0)+need > c.Unit {
		return fmt.Errorf("a %s of %d bits from bit %d on runs past the last bit of its unit, %d", c.Type, need,
			max(c.Bit, 0), c.Unit-1)
	}
	if c.Bit > 0 && c.Bit%8 != 0 && need == 8 && c.Type != TypeBits {
		return fmt.Errorf("a %s lies at bit 0 or 8 of a word: bits 0 to 7 are the low byte, 8 to 15 the high one",
			c.Type)
	}
	c.width = max(1, c.Unit/8)
	if c.Type == TypeBool && c.Bit < 0 {
		c.width = 1 // a bit of its own
	}
	c.bits = uint8(need)
	return nil
}

// Width returns the number of bytes that Decode reads: 1 for a single bit (its
// truth in the lowest bit), a whole unit for a part of one.
func (c *Codec) Width() int { return c.width }

// Partial reports whether the value shares a unit with others, so that writing
// it needs the unit as it stands: a bit or a byte of a word, or an odd number
// of octets, which leaves one of its last word to somebody else.
func (c *Codec) Partial() bool {
	if c.Type.IsText() && c.Unit == 16 && c.Length%2 == 1 {
		return true
	}
	return c.bits > 0 && int(c.bits) < c.Unit && (c.Type != TypeBool || c.Bit >= 0)
}

// Errors of Decode. ErrShort is also returned by Encode.
var (
	ErrShort   = errors.New("fewer bytes than the value needs")
	ErrDigit   = errors.New("the words are no packed decimal: a digit is above 9")
	ErrBase10k = errors.New("the words are no number to the base 10 000: one is above 9 999")
	ErrTime    = errors.New("the octets are no time: a field is out of its range")
	ErrInvalid = errors.New("the device marks the time as invalid")
)

// Decode reads a raw value from the first Width bytes of b. Numbers and bools
// are read without allocating; a text is allocated only when it differs from
// prev, the value read before.
func (c *Codec) Decode(b []byte, prev Value) (Value, error) {
	if len(b) < c.width || c.width == 0 {
		return Value{}, ErrShort
	}
	if c.bits > 0 {
		return c.decodePart(b), nil
	}
	switch c.family {
	case text:
		return c.decodeText(b[:c.width], prev), nil
	case octets:
		return c.decodeOctets(b[:c.width], prev), nil
	}
	var bits uint64
	top := uint(c.width-1) * 8
	for i := range c.width {
		bits |= uint64(b[i]) << (top - uint(c.place[i])*8)
	}
	switch c.family {
	case signed:
		shift := 64 - 8*uint(c.width)
		return OfInt(int64(bits<<shift) >> shift), nil
	case float:
		if c.width == 4 {
			return OfFloat(float64(math.Float32frombits(uint32(bits)))), nil
		}
		return OfFloat(math.Float64frombits(bits)), nil
	case decimal:
		return fromDigits(bits, 4, 10, 0xF, c.width*2, ErrDigit)
	case base10k:
		return fromDigits(bits, 16, 10000, 0xFFFF, c.width/2, ErrBase10k)
	case seconds:
		if c.Type == TypeDate {
			bits -= bits % 86400
		}
		return OfMoment(int64(bits) * 1000), nil
	case millis:
		if bits > maxMillis {
			return Value{}, ErrTime
		}
		return OfMoment(int64(bits)), nil
	case binaryTime:
		return fromCP56(bits)
	case span:
		return OfSpan(int64(int32(bits))), nil
	}
	return OfUint(bits), nil
}

// fromDigits reads count digits of a number, each in a field of so many bits.
func fromDigits(bits uint64, field uint, base, mask uint64, count int, bad error) (Value, error) {
	var n uint64
	for i := count - 1; i >= 0; i-- {
		digit := bits >> (uint(i) * field) & mask
		if digit >= base {
			return Value{}, bad
		}
		n = n*base + digit
	}
	return OfUint(n), nil
}

func toDigits(n uint64, field uint, base uint64, count int) (bits uint64) {
	for i := range count {
		bits |= n % base << (uint(i) * field)
		n /= base
	}
	return bits
}

// decodePart reads a value that is part of a unit.
func (c *Codec) decodePart(b []byte) Value {
	unit := uint16(b[0])
	if c.width == 2 {
		unit = unit<<8 | uint16(b[1])
	}
	part := unit >> uint(max(c.Bit, 0)) & (1<<c.bits - 1)
	switch c.Type {
	case TypeBool:
		return OfBool(part != 0)
	case TypeInt8:
		return OfInt(int64(int8(part)))
	}
	return OfUint(uint64(part))
}

// Encode writes the raw value v into the first Width bytes of b. For a part of
// a unit it changes only its bits: b must hold the unit as read. A number with
// a fraction is rounded to the nearest whole one, halves away from zero. It
// fails if v is outside the range of the type, or is a text that does not fit.
func (c *Codec) Encode(v Value, b []byte) error {
	if len(b) < c.width {
		return ErrShort
	}
	switch c.family {
	case text:
		return c.encodeText(v, b[:c.width])
	case octets:
		return c.encodeOctets(v, b[:c.width])
	}
	bits, err := c.number(v)
	if err != nil {
		return err
	}
	if c.bits > 0 {
		shift := uint(max(c.Bit, 0))
		mask := uint16(1<<c.bits-1) << shift
		part := uint16(bits) << shift & mask
		if c.width == 1 {
			b[0] = b[0]&^byte(mask) | byte(part)
			return nil
		}
		b[0] = b[0]&^byte(mask>>8) | byte(part>>8)
		b[1] = b[1]&^byte(mask) | byte(part)
		return nil
	}
	top := uint(c.width-1) * 8
	for i := range c.width {
		b[i] = byte(bits >> (top - uint(c.place[i])*8))
	}
	return nil
}

// number returns the bits that stand for v.
func (c *Codec) number(v Value) (uint64, error) {
	if v.kind == Text || v.kind == None {
		return 0, fmt.Errorf("%q is not a number", v.text)
	}
	switch {
	case c.Type == TypeBool:
		if v.Bool() {
			return 1, nil
		}
		return 0, nil
	case c.Type.IsTime():
		return c.timeBits(v)
	case v.kind == Moment || v.kind == Span:
		v = OfFloat(v.Float())
	}
	switch c.Type {
	case TypeFloat64:
		return math.Float64bits(v.Float()), nil
	case TypeFloat32:
		f := float32(v.Float())
		if math.IsInf(float64(f), 0) && !math.IsInf(v.Float(), 0) {
			return 0, fmt.Errorf("%s is beyond what a float32 holds", v)
		}
		return uint64(math.Float32bits(f)), nil
	}
	whole, err := c.whole(v)
	if err != nil {
		return 0, err
	}
	switch c.family {
	case decimal:
		return toDigits(whole, 4, 10, c.width*2), nil
	case base10k:
		return toDigits(whole, 16, 10000, c.width/2), nil
	}
	return whole, nil
}

// tenToThe holds the powers of ten that bound numbers to the base 10 000.
var tenToThe = map[int]uint64{8: 1e8, 12: 1e12, 16: 1e16}

// whole returns v as a whole number of the type, two's complement if signed.
func (c *Codec) whole(v Value) (uint64, error) {
	least, greatest := c.Type.Range(c.Length)
	outside := func() (uint64, error) {
		return 0, fmt.Errorf("%s is outside what a raw %s holds: %.0f to %.0f", v, c.Type, least, greatest)
	}
	if v.kind == Float {
		f := math.Round(v.Float())
		// 2^63 and 2^64 are exact as floats while the greatest integers are
		// not, so the upper end is compared without the equality.
		if !(f >= least && f <= greatest) || (c.width == 8 && c.family != base10k && f >= greatest) {
			return outside()
		}
		if f < 0 {
			return uint64(int64(f)), nil
		}
		return uint64(f), nil
	}
	negative := v.kind == Int && int64(v.bits) < 0
	switch {
	case c.family != signed && negative:
		return outside()
	case c.family == signed && !negative && v.bits > uint64(math.MaxInt64>>(64-8*max(1, c.Type.Bytes(0)))):
		return outside()
	case c.family == signed && negative && int64(v.bits) < math.MinInt64>>(64-8*max(1, c.Type.Bytes(0))):
		return outside()
	case c.family == base10k && v.bits >= tenToThe[4*c.Length]:
		return outside()
	case c.family != signed && c.family != base10k && greatest < math.MaxUint64 && v.bits > uint64(greatest):
		return outside()
	}
	return v.bits, nil
}
