package enip

import (
	"encoding/binary"
	"fmt"
	"math"
	"strings"

	"ferry/internal/core/value"
)

// Kind is a code of a data type (CIP volume 1, appendix C-5).
type Kind uint16

// The elementary types.
const (
	BOOL        Kind = 0xC1
	SINT        Kind = 0xC2
	INT         Kind = 0xC3
	DINT        Kind = 0xC4
	LINT        Kind = 0xC5
	USINT       Kind = 0xC6
	UINT        Kind = 0xC7
	UDINT       Kind = 0xC8
	ULINT       Kind = 0xC9
	REAL        Kind = 0xCA
	LREAL       Kind = 0xCB
	STRING      Kind = 0xD0 // a count of 16 bits, and characters
	BYTE        Kind = 0xD1
	WORD        Kind = 0xD2
	DWORD       Kind = 0xD3
	LWORD       Kind = 0xD4
	ShortString Kind = 0xDA // a count of 8 bits, and characters
	TIME        Kind = 0xDB
	Structure   Kind = 0xA0 // one octet, 02, and 16 bits that say which follow
)

type kindRule struct {
	name   string
	octets int // 0 where what stands there says
	types  []value.Type
}

var kinds = map[Kind]kindRule{
	BOOL: {"BOOL", 1, []value.Type{value.TypeBool}}, SINT: {"SINT", 1, []value.Type{value.TypeInt8}},
	INT: {"INT", 2, []value.Type{value.TypeInt16}}, DINT: {"DINT", 4, []value.Type{value.TypeInt32, value.TypeTime}},
	LINT:        {"LINT", 8, []value.Type{value.TypeInt64}},
	USINT:       {"USINT", 1, []value.Type{value.TypeUint8}},
	UINT:        {"UINT", 2, []value.Type{value.TypeUint16, value.TypeEnum, value.TypeFlags}},
	UDINT:       {"UDINT", 4, []value.Type{value.TypeUint32, value.TypeEnum32, value.TypeFlags32, value.TypeUnix}},
	ULINT:       {"ULINT", 8, []value.Type{value.TypeUint64, value.TypeUnixMs}},
	REAL:        {"REAL", 4, []value.Type{value.TypeFloat32}},
	LREAL:       {"LREAL", 8, []value.Type{value.TypeFloat64}},
	STRING:      {"STRING", 0, []value.Type{value.TypeText}},
	BYTE:        {"BYTE", 1, []value.Type{value.TypeUint8}},
	WORD:        {"WORD", 2, []value.Type{value.TypeUint16, value.TypeFlags, value.TypeEnum}},
	DWORD:       {"DWORD", 4, []value.Type{value.TypeUint32, value.TypeFlags32, value.TypeEnum32}},
	LWORD:       {"LWORD", 8, []value.Type{value.TypeUint64}},
	ShortString: {"SHORT_STRING", 0, []value.Type{value.TypeText}},
	TIME:        {"TIME", 4, []value.Type{value.TypeTime, value.TypeInt32}},
	Structure:   {"structure", 0, nil},
}

// String is the name of a type as the standard writes it.
func (k Kind) String() string {
	if r, ok := kinds[k]; ok {
		return r.name
	}
	return fmt.Sprintf("type %02X", uint16(k))
}

// Octets is how many a value takes; 0 where that differs, or is not known.
func (k Kind) Octets() int { return kinds[k].octets }

// Type is that of a point that holds it; empty for none.
func (k Kind) Type() value.Type {
	if r := kinds[k]; len(r.types) > 0 {
		return r.types[0]
	}
	return ""
}

// KindOf is the type by which a point of a shape is written; 0 for none.
func KindOf(t value.Type) Kind {
	for _, k := range []Kind{BOOL, SINT, INT, DINT, LINT, USINT, UINT, UDINT, ULINT, REAL, LREAL, STRING} {
		for _, is := range kinds[k].types {
			if is == t {
				return k
			}
		}
	}
	return 0
}

// Fits says why a value of a type of the device is not one of a point; empty where it is.
// The reader's type must be that of the tag: other numbers of the same width read as
// something else.
func (k Kind) Fits(t value.Type, bit bool) string {
	rule, known := kinds[k]
	switch {
	case !known:
		return fmt.Sprintf("it is of a type that Ferry does not know (%02X)", uint16(k))
	case k == Structure:
		return "it is a structure: name one of its members"
	case bit && rule.octets > 0 && k != REAL && k != LREAL:
		return ""
	}
	for _, is := range rule.types {
		if is == t {
			return ""
		}
	}
	if t == value.TypeBytes {
		return ""
	}
	want := "a text"
	if rule.octets > 0 {
		want = string(rule.types[0])
	}
	return fmt.Sprintf("it is %s, and the map says %s: set it to %s", k, t, want)
}

var le = binary.LittleEndian

// Decode reads a value of a type at the beginning of octets, its least significant octet
// first. It fails where they are too few.
func (k Kind) Decode(b []byte) (v value.Value, octets int, err error) {
	switch k {
	case STRING, ShortString:
		head := 2
		if k == ShortString {
			head = 1
		}
		if len(b) < head {
			return v, 0, fmt.Errorf("a %s is cut short", k)
		}
		n := int(b[0])
		if head == 2 {
			n = int(le.Uint16(b))
		}
		if len(b) < head+n {
			return v, 0, fmt.Errorf("a %s of %d characters is cut short: %d are there", k, n, len(b)-head)
		}
		return value.OfText(strings.ToValidUTF8(string(b[head:head+n]), "?")), head + n, nil
	}
	octets = k.Octets()
	if octets == 0 {
		return v, 0, fmt.Errorf("%s cannot be read as one value", k)
	}
	if len(b) < octets {
		return v, 0, fmt.Errorf("%s takes %d octets, and %d are there", k, octets, len(b))
	}
	var bits uint64
	for i := range octets {
		bits |= uint64(b[i]) << (8 * i)
	}
	switch k {
	case BOOL:
		v = value.OfBool(bits != 0)
	case SINT:
		v = value.OfInt(int64(int8(bits)))
	case INT:
		v = value.OfInt(int64(int16(bits)))
	case DINT, TIME:
		v = value.OfInt(int64(int32(bits)))
	case LINT:
		v = value.OfInt(int64(bits))
	case REAL:
		v = value.OfFloat(float64(math.Float32frombits(uint32(bits))))
	case LREAL:
		v = value.OfFloat(math.Float64frombits(bits))
	default:
		v = value.OfUint(bits)
	}
	return v, octets, nil
}

// Append appends the octets of a value; it fails where the type cannot hold it.
func (k Kind) Append(dst []byte, v value.Value) ([]byte, error) {
	switch k {
	case STRING:
		text := v.Text()
		if len(text) > 1<<16-1 {
			return dst, fmt.Errorf("a %s holds 65535 characters", k)
		}
		return append(le.AppendUint16(dst, uint16(len(text))), text...), nil
	case ShortString:
		text := v.Text()
		if len(text) > 255 {
			return dst, fmt.Errorf("a %s holds 255 characters", k)
		}
		return append(append(dst, byte(len(text))), text...), nil
	}
	octets := k.Octets()
	if octets == 0 {
		return dst, fmt.Errorf("a %s cannot be written as one value", k)
	}
	var bits uint64
	switch k {
	case BOOL:
		if v.Bool() {
			bits = 0xFF
		}
	case REAL:
		bits = uint64(math.Float32bits(float32(v.Float())))
	case LREAL:
		bits = math.Float64bits(v.Float())
	case SINT, INT, DINT, LINT, TIME:
		n, top := v.Int(), uint(8*octets-1)
		if octets < 8 && (n < -1<<top || n >= 1<<top) {
			return dst, fmt.Errorf("%d is out of the range of a %s", n, k)
		}
		bits = uint64(n)
	default:
		if bits = v.Uint(); octets < 8 && bits>>(8*octets) != 0 {
			return dst, fmt.Errorf("%d is out of the range of a %s", bits, k)
		}
	}
	for i := range octets {
		dst = append(dst, byte(bits>>(8*i)))
	}
	return dst, nil
}
