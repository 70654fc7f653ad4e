package opcua

import (
	"fmt"
	"math"
	"reflect"
	"strconv"
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/value"
)

// valueOf is a value as the server has it; element is which of an array is meant, -1 for a
// value that is none. why says why it cannot be had.
func valueOf(v *ua.Variant, element int) (out value.Value, why string) {
	if v == nil || v.Value() == nil {
		return value.Value{}, "the node holds nothing"
	}
	if n := v.ArrayLength(); n > 0 || element >= 0 {
		return elementOf(v.Value(), element)
	}
	return scalar(v.Value())
}

// elementOf is one of an array.
func elementOf(list any, element int) (out value.Value, why string) {
	of := reflect.ValueOf(list)
	switch _, octets := list.([]byte); {
	case octets || of.Kind() != reflect.Slice:
		return value.Value{}, fmt.Sprintf("the node holds no array of values, but %T", list)
	case element < 0:
		return value.Value{}, "the node holds an array: say which element, as in [0]"
	case element >= of.Len():
		return value.Value{}, fmt.Sprintf("the array has %d elements, counted from 0", of.Len())
	}
	return scalar(of.Index(element).Interface())
}

// listOf is an array of one value.
func listOf(v any) any {
	if b, ok := v.(byte); ok {
		return ua.ByteArray{b} // octets in a row are one value of their own
	}
	list := reflect.MakeSlice(reflect.SliceOf(reflect.TypeOf(v)), 1, 1)
	list.Index(0).Set(reflect.ValueOf(v))
	return list.Interface()
}

func scalar(v any) (out value.Value, why string) {
	switch v := v.(type) {
	case bool:
		return value.OfBool(v), ""
	case int8:
		return value.OfInt(int64(v)), ""
	case byte:
		return value.OfUint(uint64(v)), ""
	case int16:
		return value.OfInt(int64(v)), ""
	case uint16:
		return value.OfUint(uint64(v)), ""
	case int32:
		return value.OfInt(int64(v)), ""
	case uint32:
		return value.OfUint(uint64(v)), ""
	case int64:
		return value.OfInt(v), ""
	case uint64:
		return value.OfUint(v), ""
	case float32:
		return value.OfFloat(float64(v)), ""
	case float64:
		return value.OfFloat(v), ""
	case string:
		return value.OfText(v), ""
	case time.Time:
		return value.OfMoment(v.UnixMilli()), ""
	case *ua.LocalizedText:
		return value.OfText(v.Text), ""
	case *ua.QualifiedName:
		return value.OfText(v.Name), ""
	case *ua.GUID:
		return value.OfText(v.String()), ""
	case ua.StatusCode:
		return value.OfUint(uint64(v)), ""
	}
	return value.Value{}, "the node holds " + other(v) + ", which is no single value"
}

// other says what a value is that points do not hold.
func other(v any) string {
	switch v.(type) {
	case []byte:
		return "octets"
	case *ua.ExtensionObject:
		return "a structure"
	case *ua.NodeID, *ua.ExpandedNodeID:
		return "the identifier of a node"
	case *ua.XMLElement, ua.XMLElement:
		return "an XML element"
	}
	return fmt.Sprintf("a %T", v)
}

// shapes are the types of nodes as points have them.
var shapes = map[ua.TypeID]value.Type{ua.TypeIDBoolean: value.TypeBool, ua.TypeIDSByte: value.TypeInt8,
	ua.TypeIDByte:  value.TypeUint8,
	ua.TypeIDInt16: value.TypeInt16, ua.TypeIDUint16: value.TypeUint16, ua.TypeIDInt32: value.TypeInt32,
	ua.TypeIDUint32: value.TypeUint32,
	ua.TypeIDInt64:  value.TypeInt64, ua.TypeIDUint64: value.TypeUint64, ua.TypeIDFloat: value.TypeFloat32,
	ua.TypeIDDouble: value.TypeFloat64,
	ua.TypeIDString: value.TypeText, ua.TypeIDLocalizedText: value.TypeText, ua.TypeIDGUID: value.TypeText,
	ua.TypeIDDateTime: value.TypeUnixMs, ua.TypeIDStatusCode: value.TypeUint32}

// textRoom is for how many octets a point has room that is made for a text.
const textRoom = 64

// shapeOf is what a node of a type holds; false for what is no single value.
func shapeOf(t ua.TypeID) (value.Shape, bool) {
	of, ok := shapes[t]
	s := value.Shape{Type: of, Bit: -1}
	if of == value.TypeText {
		s.Length = textRoom
	}
	return s, ok
}

// asType is a value in the type that a node has; an error where it does not fit exactly.
func asType(v value.Value, t ua.TypeID) (any, error) {
	whole := func(low, high float64) (int64, error) {
		f := v.Float()
		if f != math.Trunc(f) || f < low || f > high {
			return 0, fmt.Errorf("%s does not fit: the node takes whole numbers from %s to %s", v, figure(low), figure(high))
		}
		if v.Kind() == value.Int {
			return v.Int(), nil
		}
		return int64(f), nil
	}
	switch t {
	case ua.TypeIDBoolean:
		return v.Bool(), nil
	case ua.TypeIDSByte:
		n, err := whole(math.MinInt8, math.MaxInt8)
		return int8(n), err
	case ua.TypeIDByte:
		n, err := whole(0, math.MaxUint8)
		return byte(n), err
	case ua.TypeIDInt16:
		n, err := whole(math.MinInt16, math.MaxInt16)
		return int16(n), err
	case ua.TypeIDUint16:
		n, err := whole(0, math.MaxUint16)
		return uint16(n), err
	case ua.TypeIDInt32:
		n, err := whole(math.MinInt32, math.MaxInt32)
		return int32(n), err
	case ua.TypeIDUint32:
		n, err := whole(0, math.MaxUint32)
		return uint32(n), err
	case ua.TypeIDInt64:
		if v.Kind() == value.Uint && v.Uint() > math.MaxInt64 {
			return nil, fmt.Errorf("%s does not fit into 64 bits with a sign", v)
		}
		n, err := whole(math.MinInt64, math.MaxInt64)
		return n, err
	case ua.TypeIDUint64:
		if v.Kind() == value.Uint {
			return v.Uint(), nil
		}
		n, err := whole(0, math.MaxInt64)
		return uint64(n), err
	case ua.TypeIDFloat:
		return float32(v.Float()), nil
	case ua.TypeIDDouble:
		return v.Float(), nil
	case ua.TypeIDString:
		return v.Text(), nil
	case ua.TypeIDLocalizedText:
		return ua.NewLocalizedText(v.Text()), nil
	case ua.TypeIDDateTime:
		if v.Kind() == value.Moment {
			return time.UnixMilli(v.Int()).UTC(), nil
		}
	}
	return nil, fmt.Errorf("the node has a type that takes no single value of this kind")
}

func figure(f float64) string { return strconv.FormatFloat(f, 'f', 0, 64) }
