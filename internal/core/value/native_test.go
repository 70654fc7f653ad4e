package value

import (
	"strings"
	"testing"
)

// TestAs: a value that comes with a type of its own is taken as what the map
// says, or not at all.
func TestAs(t *testing.T) {
	for _, c := range []struct {
		name  string
		v     Value
		shape Shape
		want  Value
		fails string
	}{
		{"float as float32", OfFloat(8.5), Shape{Type: TypeFloat32}, OfFloat(8.5), ""},
		{"whole as float64", OfInt(-3), Shape{Type: TypeFloat64}, OfFloat(-3), ""},
		{"float without fraction as whole", OfFloat(-12), Shape{Type: TypeInt16}, OfInt(-12), ""},
		{"float with fraction as whole", OfFloat(1.5), Shape{Type: TypeInt16}, Value{}, "no fraction"},
		{"too great", OfInt(70000), Shape{Type: TypeUint16}, Value{}, "outside"},
		{"negative without sign", OfInt(-1), Shape{Type: TypeUint32}, Value{}, "outside"},
		{"four bits", OfUint(16), Shape{Type: TypeBits, Length: 4}, Value{}, "outside"},
		{"text as number", OfText("8.5"), Shape{Type: TypeFloat32}, Value{}, "came as a text"},
		{"number as text", OfInt(8), Shape{Type: TypeText}, Value{}, "came as a whole number"},
		{"number as bool", OfInt(1), Shape{Type: TypeBool}, Value{}, "came as a whole number"},
		{"bool", OfBool(true), Shape{Type: TypeBool}, OfBool(true), ""},
		{"text of any length", OfText("Skerry Point"), Shape{Type: TypeText}, OfText("Skerry Point"), ""},
		{"text too long", OfText("Skerry Point"), Shape{Type: TypeText, Length: 6}, Value{}, "12 octets"},
		{"moment", OfMoment(1), Shape{Type: TypeUnixMs}, OfMoment(1), ""},
		{"number as moment", OfInt(1), Shape{Type: TypeUnix}, Value{}, "whole number"},
		{"nothing", Value{}, Shape{Type: TypeBool}, Value{}, "no value"},
	} {
		got, err := As(c.v, c.shape)
		switch {
		case c.fails != "" && (err == nil || !strings.Contains(err.Error(), c.fails)):
			t.Errorf("%s: %v, %v; want an error with %q", c.name, got, err, c.fails)
		case c.fails == "" && (err != nil || got != c.want):
			t.Errorf("%s: %v, %v; want %v", c.name, got, err, c.want)
		}
	}
}
