package opcua

import (
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/value"
)

// Kinds are the types of nodes by those of points.
var Kinds = map[value.Type]ua.TypeID{value.TypeBool: ua.TypeIDBoolean, value.TypeInt8: ua.TypeIDSByte,
	value.TypeUint8: ua.TypeIDByte,
	value.TypeInt16: ua.TypeIDInt16, value.TypeUint16: ua.TypeIDUint16, value.TypeInt32: ua.TypeIDInt32,
	value.TypeUint32: ua.TypeIDUint32,
	value.TypeInt64:  ua.TypeIDInt64, value.TypeUint64: ua.TypeIDUint64, value.TypeFloat32: ua.TypeIDFloat,
	value.TypeFloat64: ua.TypeIDDouble,
	value.TypeBits:    ua.TypeIDUint32, value.TypeBCD16: ua.TypeIDUint16, value.TypeBCD32: ua.TypeIDUint32,
	value.TypeBase10k: ua.TypeIDUint64, value.TypeEnum: ua.TypeIDUint16, value.TypeEnum32: ua.TypeIDUint32,
	value.TypeFlags: ua.TypeIDUint16, value.TypeFlags32: ua.TypeIDUint32, value.TypeText: ua.TypeIDString,
	value.TypeUnix: ua.TypeIDDateTime, value.TypeUnixMs: ua.TypeIDDateTime, value.TypeCP56: ua.TypeIDDateTime,
	value.TypeDT: ua.TypeIDDateTime, value.TypeDate: ua.TypeIDDateTime}

// Typed is a value in the type of its node.
func Typed(v value.Value, kind ua.TypeID) any {
	switch kind {
	case ua.TypeIDBoolean:
		return v.Bool()
	case ua.TypeIDSByte:
		return int8(v.Int())
	case ua.TypeIDByte:
		return byte(v.Uint())
	case ua.TypeIDInt16:
		return int16(v.Int())
	case ua.TypeIDUint16:
		return uint16(v.Uint())
	case ua.TypeIDInt32:
		return int32(v.Int())
	case ua.TypeIDUint32:
		return uint32(v.Uint())
	case ua.TypeIDInt64:
		return v.Int()
	case ua.TypeIDUint64:
		return v.Uint()
	case ua.TypeIDFloat:
		return float32(v.Float())
	case ua.TypeIDDouble:
		return v.Float()
	case ua.TypeIDDateTime:
		return time.UnixMilli(v.Int()).UTC()
	}
	return v.Text()
}

// Plain is a value that a client writes; ok is false where it is none of Kinds.
func Plain(v any) (plain value.Value, ok bool) {
	switch v := v.(type) {
	case bool:
		return value.OfBool(v), true
	case float32:
		return value.OfFloat(float64(v)), true
	case float64:
		return value.OfFloat(v), true
	case string:
		return value.OfText(v), true
	case time.Time:
		return value.OfMoment(v.UnixMilli()), true
	case int8, int16, int32, int64:
		variant, err := ua.NewVariant(v)
		if err != nil {
			return value.Value{}, false
		}
		return value.OfInt(variant.Int()), true
	case byte, uint16, uint32, uint64:
		variant, err := ua.NewVariant(v)
		if err != nil {
			return value.Value{}, false
		}
		return value.OfUint(variant.Uint()), true
	}
	return value.Value{}, false
}
