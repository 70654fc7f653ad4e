// Package value holds what a point can be worth: a small tagged value that
// needs no allocation for anything but text, and the codecs that turn the
// bytes of a device into such values and back.
package value

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Kind says which shape a Value has.
type Kind uint8

// The kinds of a Value. None is the zero Value: nothing has been read.
const (
	None Kind = iota
	Bool
	Int
	Uint
	Float
	Text
	Moment // milliseconds since 1970-01-01 UTC
	Span   // milliseconds
)

// Value is one value of a point. It is comparable and, unless it holds text,
// free of pointers to the heap.
type Value struct {
	kind Kind
	bits uint64
	text string
}

// OfBool, OfInt, OfUint, OfFloat and OfText make a Value of each kind.
func OfBool(v bool) Value {
	if v {
		return Value{kind: Bool, bits: 1}
	}
	return Value{kind: Bool}
}

// OfInt makes a signed integer value.
func OfInt(v int64) Value { return Value{kind: Int, bits: uint64(v)} }

// OfUint makes an unsigned integer value.
func OfUint(v uint64) Value { return Value{kind: Uint, bits: v} }

// OfFloat makes a floating point value.
func OfFloat(v float64) Value { return Value{kind: Float, bits: math.Float64bits(v)} }

// OfMoment makes a moment, in milliseconds since 1970-01-01 UTC.
func OfMoment(ms int64) Value { return Value{kind: Moment, bits: uint64(ms)} }

// OfSpan makes a span of time, in milliseconds.
func OfSpan(ms int64) Value { return Value{kind: Span, bits: uint64(ms)} }

// OfText makes a text value.
func OfText(v string) Value { return Value{kind: Text, text: v} }

// Kind returns the shape of v.
func (v Value) Kind() Kind { return v.kind }

// IsNone reports whether v holds nothing.
func (v Value) IsNone() bool { return v.kind == None }

// Bool returns the truth of v: for numbers, whether it differs from zero.
func (v Value) Bool() bool {
	if v.kind == Float {
		return v.Float() != 0
	}
	return v.bits != 0
}

// Int returns v as a signed integer, a time in milliseconds. Not meaningful
// for Float and Text.
func (v Value) Int() int64 { return int64(v.bits) }

// Uint returns v as an unsigned integer. Only meaningful for Int, Uint and Bool.
func (v Value) Uint() uint64 { return v.bits }

// Float returns v as a float64; text gives NaN, a bool 0 or 1, a time seconds.
func (v Value) Float() float64 {
	switch v.kind {
	case Float:
		return math.Float64frombits(v.bits)
	case Int:
		return float64(int64(v.bits))
	case Uint, Bool:
		return float64(v.bits)
	case Moment, Span:
		return float64(int64(v.bits)) / 1000
	}
	return math.NaN()
}

// Text returns the text of a Text value, and "" for every other kind.
func (v Value) Text() string { return v.text }

// String prints v in full, without unit or rounding.
func (v Value) String() string { return v.Format(-1) }

// Format prints v with the given number of decimals. A negative number of
// decimals prints as many digits as the value needs.
func (v Value) Format(decimals int) string {
	switch v.kind {
	case Bool:
		if v.bits != 0 {
			return "on"
		}
		return "off"
	case Int:
		if decimals <= 0 {
			return strconv.FormatInt(int64(v.bits), 10)
		}
		return strconv.FormatFloat(v.Float(), 'f', decimals, 64)
	case Uint:
		if decimals <= 0 {
			return strconv.FormatUint(v.bits, 10)
		}
		return strconv.FormatFloat(v.Float(), 'f', decimals, 64)
	case Float:
		f := v.Float()
		size := math.Abs(f)
		if size != 0 && (size >= 1e15 || size < 1e-4) {
			return strconv.FormatFloat(f, 'g', 6, 64)
		}
		if decimals >= 0 {
			return strconv.FormatFloat(f, 'f', decimals, 64)
		}
		// What a float32 holds exactly is printed as that float32 would be:
		// 1.012, not 1.01199996.
		if float64(float32(f)) == f {
			return strconv.FormatFloat(f, 'g', -1, 32)
		}
		return strconv.FormatFloat(f, 'g', 12, 64)
	case Text:
		return v.text
	case Moment:
		return printMoment(int64(v.bits))
	case Span:
		return (time.Duration(v.bits) * time.Millisecond).String()
	}
	return ""
}

// MarshalJSON writes a bool, a number or a string: a moment as RFC 3339 in UTC,
// a span in seconds. Numbers that JSON cannot
// hold (NaN and the infinities) are written as the strings "NaN", "+Inf" and
// "-Inf".
func (v Value) MarshalJSON() ([]byte, error) {
	switch v.kind {
	case None:
		return []byte("null"), nil
	case Bool:
		return strconv.AppendBool(nil, v.bits != 0), nil
	case Int:
		return strconv.AppendInt(nil, int64(v.bits), 10), nil
	case Uint:
		return strconv.AppendUint(nil, v.bits, 10), nil
	case Float:
		f := v.Float()
		if math.IsNaN(f) || math.IsInf(f, 0) {
			return json.Marshal(strconv.FormatFloat(f, 'g', -1, 64))
		}
		return json.Marshal(f)
	case Moment:
		return json.Marshal(time.UnixMilli(int64(v.bits)).UTC().Format(time.RFC3339Nano))
	case Span:
		return json.Marshal(v.Float())
	}
	return json.Marshal(v.text)
}

// UnmarshalJSON is the inverse of MarshalJSON, but for the kind of a number:
// one without fraction and exponent becomes Int or Uint, any other Float.
func (v *Value) UnmarshalJSON(data []byte) error {
	data = bytes.TrimSpace(data)
	switch {
	case bytes.Equal(data, []byte("null")):
		*v = Value{}
	case bytes.Equal(data, []byte("true")), bytes.Equal(data, []byte("false")):
		*v = OfBool(data[0] == 't')
	case len(data) > 0 && data[0] == '"':
		var s string
		if err := json.Unmarshal(data, &s); err != nil {
			return err
		}
		*v = OfText(s)
	default:
		if i, err := strconv.ParseInt(string(data), 10, 64); err == nil {
			*v = OfInt(i)
			return nil
		}
		if u, err := strconv.ParseUint(string(data), 10, 64); err == nil {
			*v = OfUint(u)
			return nil
		}
		f, err := strconv.ParseFloat(string(data), 64)
		if err != nil {
			return fmt.Errorf("value: %q is neither a number, a text nor true or false", data)
		}
		*v = OfFloat(f)
	}
	return nil
}

// Parse reads what a person types for a value of the given type: on and off,
// a number with a point or a comma, a time, or a text.
func Parse(text string, t Type) (Value, error) {
	trimmed := strings.TrimSpace(text)
	switch {
	case t.IsText():
		return OfText(text), nil
	case t == TypeTime:
		return ParseSpan(text)
	case t.IsTime():
		return ParseMoment(text)
	case t == TypeBool:
		switch strings.ToLower(trimmed) {
		case "1", "on", "true":
			return OfBool(true), nil
		case "0", "off", "false":
			return OfBool(false), nil
		}
		return Value{}, fmt.Errorf("%q is not a state: write on or off, 1 or 0", text)
	}
	if strings.Contains(trimmed, " ") {
		return Value{}, fmt.Errorf("%q is not a number", text)
	}
	number := plainNumber(trimmed)
	if v, ok := ParseWhole(number); ok {
		return v, nil
	}
	if strings.Contains(number, "_") {
		return Value{}, fmt.Errorf("%q is not a number", text)
	}
	if !t.IsFloat() && strings.Trim(number, "+-0123456789") == "" {
		return Value{}, fmt.Errorf("%q is beyond what 64 bits hold", text)
	}
	f, err := strconv.ParseFloat(number, 64)
	if err != nil {
		return Value{}, fmt.Errorf("%q is not a number", text)
	}
	return OfFloat(f), nil
}

// ParseWhole reads a whole number of up to 64 bits: decimal, whatever zeros it
// begins with, or hexadecimal or binary with 0x or 0b in front.
func ParseWhole(text string) (Value, bool) {
	digits, base := text, 10
	sign := ""
	if text != "" && (text[0] == '-' || text[0] == '+') {
		sign, digits = text[:1], text[1:]
	}
	if len(digits) > 2 && digits[0] == '0' {
		switch digits[1] {
		case 'x', 'X':
			digits, base = digits[2:], 16
		case 'b', 'B':
			digits, base = digits[2:], 2
		}
	}
	if digits == "" || digits[0] == '-' || digits[0] == '+' {
		return Value{}, false
	}
	if i, err := strconv.ParseInt(sign+digits, base, 64); err == nil {
		return OfInt(i), true
	}
	if u, err := strconv.ParseUint(digits, base, 64); err == nil && sign != "-" {
		return OfUint(u), true
	}
	return Value{}, false
}

var blanks = strings.NewReplacer(" ", "", "\u2009", "", "\u202f", "", "\u00a0", "", "\u2212", "-")

// plainNumber undoes how people and spreadsheets print numbers: blanks between
// thousands, a comma for the point, a typographic minus.
func plainNumber(text string) string {
	t := blanks.Replace(strings.TrimSpace(text))
	if !strings.Contains(t, ".") {
		t = strings.Replace(t, ",", ".", 1)
	}
	return t
}

// ParseFloat reads a finite decimal number with a point or a comma.
func ParseFloat(text string) (float64, error) {
	f, err := strconv.ParseFloat(plainNumber(text), 64)
	if err != nil || math.IsNaN(f) || math.IsInf(f, 0) {
		return 0, fmt.Errorf("%q is not a number", text)
	}
	return f, nil
}
