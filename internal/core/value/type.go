package value

import "math"

// Type names how the bytes of a point are read.
type Type string

// The types. A number is big-endian within itself: the order of a point says
// how its bytes were shuffled on the wire.
const (
	// TypeBool is one bit: a unit of its own, or a bit of a wider unit.
	TypeBool Type = "bool"
	// TypeBits is an unsigned number of 1 to 16 adjoining bits of one unit;
	// the bit of the address is its lowest.
	TypeBits Type = "bits"
	// TypeInt8 and TypeUint8 are one byte. In a 16-bit unit the bit of the
	// address is 8 for the high byte and 0, or missing, for the low one.
	TypeInt8    Type = "int8"
	TypeUint8   Type = "uint8"
	TypeInt16   Type = "int16"
	TypeUint16  Type = "uint16"
	TypeInt32   Type = "int32"
	TypeUint32  Type = "uint32"
	TypeInt64   Type = "int64"
	TypeUint64  Type = "uint64"
	TypeFloat32 Type = "float32" // IEEE 754 binary32
	TypeFloat64 Type = "float64" // IEEE 754 binary64
	// TypeBCD16 and TypeBCD32 are packed decimals: four or eight digits, one
	// in each nibble. A nibble above 9 is no number.
	TypeBCD16 Type = "bcd16"
	TypeBCD32 Type = "bcd32"
	// TypeBase10k is a number whose 16-bit words are digits to the base
	// 10 000, the highest first; its length counts words, 2 to 4.
	TypeBase10k Type = "base10k"
	// TypeEnum and TypeEnum32 are unsigned numbers with named values.
	TypeEnum   Type = "enum"
	TypeEnum32 Type = "enum32"
	// TypeFlags and TypeFlags32 are unsigned numbers with named bits.
	TypeFlags   Type = "flags"
	TypeFlags32 Type = "flags32"
	// TypeText holds characters; its length counts octets.
	TypeText Type = "text"
	// TypeUnix is an unsigned 32-bit count of seconds since 1970-01-01 UTC,
	// TypeUnixMs an unsigned 64-bit count of milliseconds.
	TypeUnix   Type = "unix"
	TypeUnixMs Type = "unixms"
	// TypeCP56 is the seven-octet binary time of IEC 60870-5-4, clause 6.8, in
	// four words: the unused eighth octet first, then year, month, day, hour,
	// minute and milliseconds in alphabetical order; HGFEDCBA is the order in
	// which IEC 60870-5 itself transmits it.
	TypeCP56 Type = "cp56"
	// TypeTime is IEC 61131-3 TIME as a signed 32-bit count of milliseconds,
	// TypeDate its DATE as the seconds of midnight and TypeDT its
	// DATE_AND_TIME as seconds, both unsigned 32-bit since 1970-01-01. The
	// standard leaves the representation open; this is the usual one.
	TypeTime Type = "time"
	TypeDate Type = "date"
	TypeDT   Type = "dt"
	// TypeBytes are raw octets, shown in hexadecimal; its length counts them.
	TypeBytes Type = "bytes"
)

// family says how the bits of a number become a value.
type family uint8

const (
	unsigned family = iota
	signed
	float
	decimal // packed
	base10k
	seconds
	millis
	binaryTime
	span
	text
	octets
)

type typeRule struct {
	typ    Type
	family family
	octets int // of a fixed width, 0 where the length says
	// least and most bound the length of a type that needs one.
	least, most int
}

var typeRules = []typeRule{
	{TypeBool, unsigned, 0, 0, 0}, {TypeBits, unsigned, 0, 1, 16},
	{TypeInt8, signed, 1, 0, 0}, {TypeUint8, unsigned, 1, 0, 0},
	{TypeInt16, signed, 2, 0, 0}, {TypeUint16, unsigned, 2, 0, 0},
	{TypeInt32, signed, 4, 0, 0}, {TypeUint32, unsigned, 4, 0, 0},
	{TypeInt64, signed, 8, 0, 0}, {TypeUint64, unsigned, 8, 0, 0},
	{TypeFloat32, float, 4, 0, 0}, {TypeFloat64, float, 8, 0, 0},
	{TypeEnum, unsigned, 2, 0, 0}, {TypeEnum32, unsigned, 4, 0, 0},
	{TypeFlags, unsigned, 2, 0, 0}, {TypeFlags32, unsigned, 4, 0, 0},
	{TypeBCD16, decimal, 2, 0, 0}, {TypeBCD32, decimal, 4, 0, 0},
	{TypeBase10k, base10k, 0, 2, 4},
	{TypeText, text, 0, 1, 246},
	{TypeUnix, seconds, 4, 0, 0}, {TypeUnixMs, millis, 8, 0, 0}, {TypeCP56, binaryTime, 8, 0, 0},
	{TypeTime, span, 4, 0, 0}, {TypeDate, seconds, 4, 0, 0}, {TypeDT, seconds, 4, 0, 0},
	{TypeBytes, octets, 0, 1, 246},
}

var ruleOf = func() map[Type]typeRule {
	rules := make(map[Type]typeRule, len(typeRules))
	for _, r := range typeRules {
		rules[r.typ] = r
	}
	return rules
}()

// Types lists every type in the order in which a person would look for it.
func Types() []Type {
	types := make([]Type, len(typeRules))
	for i, r := range typeRules {
		types[i] = r.typ
	}
	return types
}

// Known reports whether t is one of Types.
func (t Type) Known() bool { _, ok := ruleOf[t]; return ok }

// Bytes returns the width of t in bytes. A bool and a bit field have width 0:
// they are bits of whatever holds them. length is that of the types that need
// one, in their own count.
func (t Type) Bytes(length int) int {
	switch r := ruleOf[t]; {
	case t == TypeText || t == TypeBytes:
		return length
	case t == TypeBase10k:
		return 2 * length
	default:
		return r.octets
	}
}

// Length returns the bounds of the length that a type needs beside it: bits,
// words or octets. needed is false for types of fixed width.
func (t Type) Length() (least, most int, needed bool) {
	r := ruleOf[t]
	return r.least, r.most, r.most > 0
}

// InUnit reports whether values of t may be part of a wider unit, so that
// their address may name a bit.
func (t Type) InUnit() bool {
	return t == TypeBool || t == TypeBits || t == TypeInt8 || t == TypeUint8
}

// IsText reports whether values of t are texts rather than numbers.
func (t Type) IsText() bool { return t == TypeText || t == TypeBytes }

// IsFloat reports whether values of t are IEEE 754 floats.
func (t Type) IsFloat() bool { return ruleOf[t].family == float }

// IsTime reports whether values of t are moments or spans of time.
func (t Type) IsTime() bool {
	switch ruleOf[t].family {
	case seconds, millis, binaryTime, span:
		return true
	}
	return false
}

// IsWhole reports whether values of t are whole numbers, so that a scale, names
// and codes for "not available" make sense.
func (t Type) IsWhole() bool {
	switch ruleOf[t].family {
	case unsigned, signed, decimal, base10k:
		return t != TypeBool && t.Known()
	}
	return false
}

// Named reports whether t lives by the names of its values or bits.
func (t Type) Named() bool {
	return t == TypeEnum || t == TypeEnum32 || t.IsFlags()
}

// IsFlags reports whether the names of t are those of bits.
func (t Type) IsFlags() bool { return t == TypeFlags || t == TypeFlags32 }

// Range returns the least and the greatest raw number that a value of t and
// length holds; NaN for texts and times.
func (t Type) Range(length int) (least, greatest float64) {
	r, ok := ruleOf[t]
	if !ok {
		return math.NaN(), math.NaN()
	}
	bits := 8 * t.Bytes(length)
	switch r.family {
	case unsigned:
		if t == TypeBool {
			return 0, 1
		}
		if t == TypeBits {
			bits = length
		}
		return 0, math.Ldexp(1, bits) - 1
	case signed:
		return -math.Ldexp(1, bits-1), math.Ldexp(1, bits-1) - 1
	case float:
		if t == TypeFloat32 {
			return -math.MaxFloat32, math.MaxFloat32
		}
		return -math.MaxFloat64, math.MaxFloat64
	case decimal, base10k:
		return 0, math.Pow10(bits/4) - 1
	}
	return math.NaN(), math.NaN()
}
