package value

import (
	"fmt"
	"math"
)

// As returns a value that comes with its own type, rather than as octets, as
// one of a shape: the number of a whole type may have come as a float without a
// fraction. It fails where the shape cannot hold it, or holds another kind of
// thing; the order and the bit of the shape mean nothing here.
func As(v Value, s Shape) (Value, error) {
	if v.IsNone() {
		return v, fmt.Errorf("there is no value")
	}
	isText, isBool, isTime := v.kind == Text, v.kind == Bool, v.kind == Moment || v.kind == Span
	switch {
	case isText != s.Type.IsText(), isBool != (s.Type == TypeBool), isTime != s.Type.IsTime():
		return v, fmt.Errorf("it came as %s, and the map has it as %s", kindWords[v.kind], s.Type)
	case isText:
		if s.Length > 0 && len(v.text) > s.Length {
			return v, fmt.Errorf("it came with %d octets, and the map has it with %d", len(v.text), s.Length)
		}
		return v, nil
	case isBool, isTime:
		return v, nil
	case !s.Type.IsFloat() && v.kind == Float && v.Float() != math.Trunc(v.Float()):
		return v, fmt.Errorf("it came as %s, and the map has it as %s, which holds no fraction", v, s.Type)
	}
	codec, err := NewCodec(Shape{Type: s.Type, Bit: -1, Unit: 16, Length: s.Length})
	if err != nil {
		return v, err
	}
	var room [8]byte
	if err := codec.Encode(v, room[:]); err != nil {
		return v, err
	}
	return codec.Decode(room[:codec.Width()], Value{})
}

var kindWords = map[Kind]string{Bool: "a bool", Int: "a whole number", Uint: "a whole number", Float: "a number",
	Text: "a text", Moment: "a moment", Span: "a span of time"}
