package opcua

import (
	"github.com/gopcua/opcua/ua"

	wire "ferry/internal/wire/opcua"
)

// Field is one of a structure, of a single value.
type Field struct {
	Name string
	Type ua.TypeID
}

// Structure is a value of several, one for each of the fields, in their types.
func Structure(values []any) *ua.DataValue {
	var body wire.Body
	for _, v := range values {
		octets, err := ua.Encode(v)
		if err != nil {
			return Bad(ua.StatusBadDataEncodingUnsupported)
		}
		body = append(body, octets...)
	}
	return Good(&ua.ExtensionObject{EncodingMask: ua.ExtensionObjectBinary, Value: body})
}

// structured gives a variable whose value is a structure a type of its own, with its definition
// and its encoding (OPC 10000-3, clauses 5.8 and 8.48).
func (s *space) structured(v *Variable, index uint16, n *node) {
	if len(v.Fields) == 0 {
		return
	}
	kind := s.put(s.find(ua.NewNumericNodeID(0, uint32(ua.TypeIDExtensionObject))), hasSubtype, &node{
		id: ua.NewStringNodeID(index, v.ID+"/Type"), class: ua.NodeClassDataType,
		name: &ua.QualifiedName{NamespaceIndex: index, Name: n.name.Name + "Type"}})
	encoding := s.put(kind, hasEncoding, &node{id: ua.NewStringNodeID(index, v.ID+"/Type/Binary"),
		class: ua.NodeClassObject, kind: encodingType, name: &ua.QualifiedName{Name: "Default Binary"}})
	def := &ua.StructureDefinition{DefaultEncodingID: encoding.id,
		BaseDataType: ua.NewNumericNodeID(0, uint32(ua.TypeIDExtensionObject))}
	for _, f := range v.Fields {
		def.Fields = append(def.Fields, &ua.StructureField{Name: f.Name, DataType: ua.NewNumericNodeID(0, uint32(f.Type)),
			ValueRank: -1, Description: ua.NewLocalizedText(""), ArrayDimensions: []uint32{}})
	}
	kind.definition = ua.NewExtensionObject(def)
	n.dataType, n.encoding = kind.id, encoding.id
}

// value is the value of a node as it is now. A structure says which encoding it has.
func (n *node) value() *ua.DataValue {
	v := n.variable.Read()
	if n.encoding == nil || v.Value == nil {
		return v
	}
	object, ok := v.Value.Value().(*ua.ExtensionObject)
	if !ok {
		return v
	}
	out, whole := *v, *object
	whole.TypeID = ua.NewExpandedNodeID(n.encoding, "", 0)
	out.Value = ua.MustVariant(&whole)
	return &out
}
