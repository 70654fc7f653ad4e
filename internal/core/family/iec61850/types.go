package iec61850

import (
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Kind is how the wire has a value (IEC 61850-8-1, clause 8.1.3, and ISO 9506-2).
type Kind byte

// The kinds.
const (
	NoKind Kind = iota
	Boolean
	Integer
	Unsigned
	Floating
	BitString
	OctetString
	VisibleString
	MMSString
	UTCTime
	EntryTime
	Structure
	Array
)

// basic is a basic type of IEC 61850-6, table 45.
type basic struct {
	known bool
	kind  Kind
	bits  int // of numbers and bit strings; of strings the most octets
	holds value.Type
}

var basics = map[string]basic{
	"BOOLEAN": {true, Boolean, 1, value.TypeBool}, "INT8": {true, Integer, 8, value.TypeInt8},
	"INT16": {true, Integer, 16, value.TypeInt16}, "INT24": {true, Integer, 24, value.TypeInt32},
	"INT32": {true, Integer, 32, value.TypeInt32}, "INT64": {true, Integer, 64, value.TypeInt64},
	"INT128": {true, Integer, 128, ""}, "INT8U": {true, Unsigned, 8, value.TypeUint8},
	"INT16U": {true, Unsigned, 16, value.TypeUint16}, "INT24U": {true, Unsigned, 24, value.TypeUint32},
	"INT32U": {true, Unsigned, 32, value.TypeUint32}, "INT64U": {true, Unsigned, 64, value.TypeUint64},
	"FLOAT32": {true, Floating, 32, value.TypeFloat32}, "FLOAT64": {true, Floating, 64, value.TypeFloat64},
	"Enum": {true, Integer, 8, value.TypeInt16}, "Dbpos": {true, BitString, 2, value.TypeUint8},
	"Tcmd": {true, BitString, 2, value.TypeUint8}, "Quality": {true, BitString, 13, ""},
	"Timestamp": {true, UTCTime, 64, value.TypeUnixMs}, "VisString32": {true, VisibleString, 32, value.TypeText},
	"VisString64": {true, VisibleString, 64, value.TypeText}, "VisString65": {true, VisibleString, 65, value.TypeText},
	"VisString129": {true, VisibleString, 129, value.TypeText}, "VisString255": {true, VisibleString, 255, value.TypeText},
	"Unicode255": {true, MMSString, 255, value.TypeText}, "Octet64": {true, OctetString, 64, ""},
	"EntryTime": {true, EntryTime, 48, ""}, "Check": {true, BitString, 2, ""}, "ObjRef": {true, VisibleString, 129,
		value.TypeText},
	"Currency": {true, VisibleString, 3, value.TypeText}, "TrgOps": {true, BitString, 6, ""},
	"OptFlds": {true, BitString, 10, ""},
	"EntryID": {true, OctetString, 8, ""}, "PhyComAddr": {true, OctetString, 64, ""},
	"SvOptFlds": {true, BitString, 8, ""}}

// KindOf is how the wire has a basic type, with its bits, or the most octets of a string.
func KindOf(name string) (kind Kind, size int) {
	b := basics[name]
	return b.kind, b.bits
}

// Shape is what a point holds that is of such an attribute; ok is false where a point can hold nothing
// of it.
func (n *Node) Shape() (s value.Shape, ok bool) {
	b := basics[n.Basic]
	s = value.Shape{Type: b.holds, Bit: -1}
	if b.holds == value.TypeText {
		s.Length = b.bits
	}
	return s, b.holds != ""
}

// Double are the states of a double point (IEC 61850-7-3, clause 6.3).
var Double = map[int]string{0: "intermediate", 1: "off", 2: "on", 3: "bad"}

// SortOf is the sort of an attribute: by its constraint, its name and its type.
func (rules) SortOf(a address.Address, t value.Type) protocol.Sort {
	r, ok := RefOf(a)
	if !ok {
		return protocol.SortByType(t)
	}
	switch last := r.Path[len(r.Path)-1]; {
	case r.Node == "LLN0", strings.HasPrefix(r.Node, "LPHD"), r.Path[0] == "Mod", r.Path[0] == "Beh",
		r.Path[0] == "Health":
		return protocol.OwnSort
	case t.IsText() || t.IsTime():
		return protocol.SortByType(t)
	case r.FC == "CO" && t.IsFloat():
		return protocol.SetpointSort
	case r.FC == "CO":
		return protocol.CommandSort
	case last == "actVal" || last == "frVal":
		return protocol.CounterSort
	case last == "stVal" && t == value.TypeUint8:
		return protocol.DoubleSort
	case last == "stVal" && t.IsWhole():
		return protocol.EnumSort
	}
	return protocol.SortByType(t)
}
