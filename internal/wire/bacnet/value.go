package bacnet

import (
	"encoding/binary"
	"fmt"
	"math"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// ObjectID is an object: its type in the upper ten bits, its instance in the lower 22 (clause 20.2.14).
type ObjectID uint32

// MostInstance is the greatest instance that an object has; the one above stands for any (clause 12).
const (
	MostInstance = 1<<22 - 2
	AnyInstance  = 1<<22 - 1
)

// ID makes one.
func ID(kind uint16, instance uint32) ObjectID {
	return ObjectID(uint32(kind)<<22 | instance&AnyInstance)
}

// Type is what kind of object it is, Instance which of them.
func (o ObjectID) Type() uint16 { return uint16(o >> 22) }

// Instance is as Type.
func (o ObjectID) Instance() uint32 { return uint32(o) & AnyInstance }

// Value is one value of a property (clause 20.2), or a list of what lies between an opening and a closing
// tag.
type Value struct {
	// Tag is that of the application. Constructed is set for what lies inside a context tag, whose number
	// Context is then; of a context tag with octets, whose type the property alone knows, Opaque is set.
	Tag         uint8
	Constructed bool
	Opaque      bool
	Context     uint8
	Uint        uint64 // of booleans, unsigned and enumerated
	Int         int64
	Float       float64
	Text        string // of texts; of octets these; of bits the octets, Size of them in use
	Size        int
	Object      ObjectID
	Date        Date
	Time        Time
	Parts       []Value
	// From and To are the octets of it, To exclusive.
	From, To int
}

// Date is a day (clause 20.2.12): the year from 1900 on, month, day, weekday from Monday on as 1; 255 stands
// for any.
type Date struct{ Year, Month, Day, Weekday uint8 }

// Time is one of a day (clause 20.2.13), with hundredths of a second; 255 stands for any.
type Time struct{ Hour, Minute, Second, Hundredths uint8 }

// Bounds of values.
const (
	mostDeep   = 12
	mostValues = 100_000
)

// Null, Boolean and so on make values.
func Null() Value { return Value{Tag: TagNull} }

// Boolean is a value that is on or off.
func Boolean(on bool) Value {
	v := Value{Tag: TagBoolean}
	if on {
		v.Uint = 1
	}
	return v
}

// Unsigned is a whole number from 0 on.
func Unsigned(n uint64) Value { return Value{Tag: TagUnsigned, Uint: n} }

// Signed is a whole number.
func Signed(n int64) Value { return Value{Tag: TagSigned, Int: n} }

// Real is a number of 32 bits.
func Real(f float64) Value { return Value{Tag: TagReal, Float: f} }

// Double is one of 64.
func Double(f float64) Value { return Value{Tag: TagDouble, Float: f} }

// Text is a text, in UTF-8 on the wire.
func Text(s string) Value { return Value{Tag: TagText, Text: s} }

// Enumerated is one of an enumeration.
func Enumerated(n uint64) Value { return Value{Tag: TagEnumerated, Uint: n} }

// Object is an object's identifier.
func Object(o ObjectID) Value { return Value{Tag: TagObject, Object: o} }

// Bits are so many bits, the first the lowest of n.
func Bits(n uint64, size int) Value {
	octets := make([]byte, (size+7)/8)
	for i := range size {
		if i < 64 && n&(1<<i) != 0 {
			octets[i/8] |= 0x80 >> (i % 8)
		}
	}
	return Value{Tag: TagBits, Text: string(octets), Size: size}
}

// Bit reports whether a bit of a bit string is set.
func (v *Value) Bit(i int) bool {
	return i >= 0 && i < v.Size && i/8 < len(v.Text) && v.Text[i/8]&(0x80>>(i%8)) != 0
}

// Append appends the value with its tag.
func (v *Value) Append(b []byte) []byte {
	switch {
	case v.Constructed:
		b = Open(b, v.Context)
		for i := range v.Parts {
			b = v.Parts[i].Append(b)
		}
		return Close(b, v.Context)
	case v.Opaque:
		return tagged(b, v.Context, true, []byte(v.Text))
	case v.Tag == TagBoolean:
		return append(b, TagBoolean<<4|byte(v.Uint&1))
	}
	return tagged(b, v.Tag, false, v.content())
}

// content are the octets of a value of the application.
func (v *Value) content() []byte {
	switch v.Tag {
	case TagUnsigned, TagEnumerated:
		return appendUint(nil, v.Uint)
	case TagSigned:
		return appendInt(nil, v.Int)
	case TagReal:
		return binary.BigEndian.AppendUint32(nil, math.Float32bits(float32(v.Float)))
	case TagDouble:
		return binary.BigEndian.AppendUint64(nil, math.Float64bits(v.Float))
	case TagOctets:
		return []byte(v.Text)
	case TagText:
		return append([]byte{charsUTF8}, v.Text...)
	case TagBits:
		return append([]byte{byte((8 - v.Size%8) % 8)}, v.Text...)
	case TagDate:
		return []byte{v.Date.Year, v.Date.Month, v.Date.Day, v.Date.Weekday}
	case TagTime:
		return []byte{v.Time.Hour, v.Time.Minute, v.Time.Second, v.Time.Hundredths}
	case TagObject:
		return binary.BigEndian.AppendUint32(nil, uint32(v.Object))
	}
	return nil
}

// Sets of characters (clause 20.2.9).
const (
	charsUTF8   = 0
	charsUCS4   = 3
	charsUCS2   = 4
	charsLatin1 = 5
)

// textOf reads a text in whatever set of characters it is.
func textOf(b []byte) (string, error) {
	if len(b) == 0 {
		return "", fmt.Errorf("a text without its set of characters")
	}
	set, b := b[0], b[1:]
	switch set {
	case charsUTF8:
		return strings.ToValidUTF8(string(b), "\uFFFD"), nil
	case charsLatin1:
		var out strings.Builder
		for _, c := range b {
			out.WriteRune(rune(c))
		}
		return out.String(), nil
	case charsUCS2:
		if len(b)%2 != 0 {
			return "", fmt.Errorf("a text in UCS-2 of %d octets", len(b))
		}
		units := make([]uint16, len(b)/2)
		for i := range units {
			units[i] = binary.BigEndian.Uint16(b[2*i:])
		}
		return string(utf16.Decode(units)), nil
	case charsUCS4:
		if len(b)%4 != 0 {
			return "", fmt.Errorf("a text in UCS-4 of %d octets", len(b))
		}
		var out strings.Builder
		for ; len(b) > 0; b = b[4:] {
			r := rune(binary.BigEndian.Uint32(b) & 0x7FFFFFFF)
			if !utf8.ValidRune(r) {
				r = utf8.RuneError
			}
			out.WriteRune(r)
		}
		return out.String(), nil
	}
	return "", fmt.Errorf("a text in the set of characters %d, which Ferry does not read", set)
}

// valueOf reads a value of the application.
func valueOf(e *Element) (v Value, err error) {
	v = Value{Tag: e.Number, From: e.From, To: e.To()}
	c := e.Content
	sized := func(n int) {
		if len(c) != n {
			err = fmt.Errorf("the value at octet %d has %d octets, and its type has %d", e.From, len(c), n)
		}
	}
	switch e.Number {
	case TagNull:
		sized(0)
	case TagBoolean:
		if e.On {
			v.Uint = 1
		}
	case TagUnsigned, TagEnumerated:
		v.Uint, err = uintOf(c)
	case TagSigned:
		v.Int, err = intOf(c)
	case TagReal:
		if sized(4); err == nil {
			v.Float = float64(math.Float32frombits(binary.BigEndian.Uint32(c)))
		}
	case TagDouble:
		if sized(8); err == nil {
			v.Float = math.Float64frombits(binary.BigEndian.Uint64(c))
		}
	case TagOctets:
		v.Text = string(c)
	case TagText:
		v.Text, err = textOf(c)
	case TagBits:
		if len(c) == 0 || c[0] > 7 || len(c) == 1 && c[0] != 0 {
			return v, fmt.Errorf("the bits at octet %d do not say how many they are", e.From)
		}
		v.Text, v.Size = string(c[1:]), 8*(len(c)-1)-int(c[0])
	case TagDate:
		if sized(4); err == nil {
			v.Date = Date{c[0], c[1], c[2], c[3]}
		}
	case TagTime:
		if sized(4); err == nil {
			v.Time = Time{c[0], c[1], c[2], c[3]}
		}
	case TagObject:
		if sized(4); err == nil {
			v.Object = ObjectID(binary.BigEndian.Uint32(c))
		}
	default:
		err = fmt.Errorf("the value at octet %d is of the type %d, which is kept for later", e.From, e.Number)
	}
	return v, err
}

// values reads all values up to a closing tag, which it takes.
func (r *reader) values(number uint8) ([]Value, error) {
	left := mostValues
	return r.inside(number, 0, &left)
}

func (r *reader) inside(number uint8, depth int, left *int) (list []Value, err error) {
	if depth > mostDeep {
		return nil, fmt.Errorf("at octet %d the tags lie more than %d deep in each other", r.from, mostDeep)
	}
	for {
		e, err := r.next()
		if err != nil {
			return list, err
		}
		if *left--; *left < 0 {
			return list, fmt.Errorf("it has more than %d values", mostValues)
		}
		switch {
		case e.Closes && e.Number == number:
			return list, nil
		case e.Closes:
			return list, fmt.Errorf("at octet %d tag %d is closed, and %d is open", e.From, e.Number, number)
		case e.Opens:
			v := Value{Constructed: true, Context: e.Number, From: e.From}
			if v.Parts, err = r.inside(e.Number, depth+1, left); err != nil {
				return list, err
			}
			v.To = r.from
			list = append(list, v)
		case e.Context:
			list = append(list, Value{Opaque: true, Context: e.Number, Text: string(e.Content), From: e.From, To: e.To()})
		default:
			v, err := valueOf(&e)
			if err != nil {
				return list, err
			}
			list = append(list, v)
		}
	}
}
