package bacnet

import (
	"errors"
	"fmt"
	"math"

	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/value"
)

// Native is a single value as points have it: a number, a text, or the words for anything else.
func (v *Value) Native() (value.Value, error) {
	switch {
	case v.Opaque:
		return value.Value{}, errors.New("its type is not known")
	case v.Constructed:
		return value.Value{}, errors.New("it is made of parts")
	}
	switch v.Tag {
	case TagNull:
		return value.Value{}, errors.New("it holds no value (null)")
	case TagBoolean:
		return value.OfBool(v.Uint != 0), nil
	case TagUnsigned, TagEnumerated:
		return value.OfUint(v.Uint), nil
	case TagSigned:
		return value.OfInt(v.Int), nil
	case TagReal, TagDouble:
		if math.IsNaN(v.Float) || math.IsInf(v.Float, 0) {
			return value.Value{}, fmt.Errorf("it holds no number (%v)", v.Float)
		}
		return value.OfFloat(v.Float), nil
	case TagText:
		return value.OfText(v.Text), nil
	}
	return value.OfText(v.String()), nil
}

// Of is a value as the present value of an object of a type has it; of a type that is not known, as a number
// of type as.
func Of(t family.Type, as value.Type, v value.Value) (Value, error) {
	holds := t.Holds()
	if holds == "" {
		holds = as
	}
	misfit := func() (Value, error) {
		return Value{}, fmt.Errorf("%s holds a value of the type %s, and not %s", t.Name(), holds, v)
	}
	number := v.Float()
	whole := number == math.Trunc(number)
	switch {
	case v.Kind() == value.Text && !holds.IsText():
		return misfit()
	case holds.IsText():
		if v.Kind() == value.Text {
			return Text(v.Text()), nil
		}
		return Text(v.String()), nil
	case holds == value.TypeBool:
		if number != 0 && number != 1 {
			return misfit()
		}
		return Enumerated(uint64(number)), nil
	case holds == value.TypeFloat64:
		return Double(number), nil
	case holds.IsFloat():
		if math.Abs(number) > math.MaxFloat32 {
			return misfit()
		}
		return Real(number), nil
	case t == family.IntegerValue || t.Holds() == "" && number < 0:
		if !whole || number < math.MinInt32 || number > math.MaxInt32 {
			return misfit()
		}
		return Signed(int64(number)), nil
	case !whole || number < 0 || number > math.MaxUint32:
		return misfit()
	}
	return Unsigned(uint64(number)), nil
}
