package opcua

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// dataTypes are types by the numbers of the nodes that stand for them (OPC 10000-6, annex A.3).
var dataTypes = map[string]value.Type{"1": value.TypeBool, "2": value.TypeInt8, "3": value.TypeUint8,
	"4": value.TypeInt16, "5": value.TypeUint16, "6": value.TypeInt32, "7": value.TypeUint32, "8": value.TypeInt64,
	"9": value.TypeUint64, "10": value.TypeFloat32, "11": value.TypeFloat64, "12": value.TypeText, "13": value.TypeUnixMs}

// alikeTypes are types that are written as another, and types of the standard that are subtypes of
// another.
var (
	alikeTypes = map[value.Type]string{value.TypeEnum: "5", value.TypeEnum32: "7", value.TypeFlags: "5",
		value.TypeFlags32: "7", value.TypeBits: "7", value.TypeBCD16: "5", value.TypeBCD32: "7", value.TypeBase10k: "9",
		value.TypeUnix: "13", value.TypeCP56: "13", value.TypeDT: "13", value.TypeDate: "13"}
	subTypes = map[string]string{"14": "12", "21": "12", "29": "6", "288": "7", "289": "7", "290": "11", "294": "13",
		"295": "12"}
)

// typeNames are what they are called.
var typeNames = map[string]string{"Boolean": "1", "SByte": "2", "Byte": "3", "Int16": "4", "UInt16": "5", "Int32": "6",
	"UInt32": "7", "Int64": "8", "UInt64": "9", "Float": "10", "Double": "11", "String": "12", "DateTime": "13",
	"Guid":          "14",
	"LocalizedText": "21", "Enumeration": "29", "Counter": "289", "IntegerId": "288", "Duration": "290", "UtcTime": "294",
	"LocaleId": "295"}

// numberOf is the number of the node that stands for a type, empty for none.
func numberOf(t value.Type) string {
	for id, of := range dataTypes {
		if of == t {
			return id
		}
	}
	return alikeTypes[t]
}

// textLength is what room a text of such a file is given.
var _, textLength, _ = value.TypeText.Length()

// fileField is a field of a structure or of an enumeration.
type fileField struct {
	Name      string `xml:"Name,attr"`
	DataType  string `xml:"DataType,attr"`
	ValueRank string `xml:"ValueRank,attr"`
	Value     string `xml:"Value,attr"`
	Display   string `xml:"DisplayName"`
}

// fileState is the name of a value.
type fileState struct {
	Value int64  `xml:"Value"`
	Name  string `xml:"DisplayName>Text"`
}

// fileText is a text in some language.
type fileText struct {
	Text string `xml:"Text"`
}

// states are the names of values that a node tells of as a property.
func (n *fileNode) states() map[int]string {
	names := map[int]string{}
	for i, t := range n.Texts {
		names[i] = strings.TrimSpace(t.Text)
	}
	for _, s := range n.Values {
		names[int(s.Value)] = strings.TrimSpace(s.Name)
	}
	return names
}

// holds is what values of a type are: one of dataTypes, with names of its values, or a structure.
type holds struct {
	kind   value.Type // empty for none that a point can have
	names  map[int]string
	fields []fileField
}

// typed finds out what values of a type are, by the file where it is none of the standard.
func (s *nodeSet) typed(kind string, depth int) holds {
	if number, ok := typeNames[kind]; ok {
		kind = "i=" + number
	}
	if number, ok := strings.CutPrefix(kind, "i="); ok {
		if of, sub := subTypes[number]; sub {
			number = of
		}
		return holds{kind: dataTypes[number]}
	}
	n := s.nodes[kind]
	if n == nil || depth > mostDepth {
		return holds{}
	}
	if len(n.Fields) == 0 {
		return s.typed(s.above(n), depth+1)
	}
	if s.typed(s.above(n), depth+1).kind != value.TypeInt32 {
		return holds{fields: n.Fields}
	}
	h := holds{kind: value.TypeInt32, names: map[int]string{}}
	for _, f := range n.Fields {
		if is, err := strconv.Atoi(f.Value); err == nil {
			if h.names[is] = f.Name; strings.TrimSpace(f.Display) != "" {
				h.names[is] = strings.TrimSpace(f.Display)
			}
		}
	}
	return h
}

// above is the type that another is a subtype of.
func (s *nodeSet) above(n *fileNode) string {
	for _, r := range n.References {
		if kind := strings.TrimSpace(r.Kind); r.Forward == "false" && (kind == "HasSubtype" || kind == "i=45") {
			return s.full(r.To)
		}
	}
	return ""
}

// mostParts bounds the values in one structure.
const mostParts = 1000

// parts are the values in a structure as places. Arrays in it are passed over: how long they are is
// not in the file.
func (s *nodeSet) parts(whole protocol.Held, node Node, of []fileField, list []protocol.Held,
	depth int) []protocol.Held {
	for _, f := range of {
		if s.steps, s.steppedIn = s.steps+1, s.steppedIn+1; s.steppedIn > 10*mostParts || s.steps > 10*mostNodes {
			return list // structures in structures without end
		}
		if rank, err := strconv.Atoi(f.ValueRank); err == nil && rank >= 0 || strings.ContainsAny(f.Name, ".[]") ||
			f.Name == "" || depth > mostDepth || len(list) >= mostParts {
			continue
		}
		one, at := whole, node
		one.Name = whole.Name + "." + f.Name
		at.Field = strings.TrimPrefix(node.Field+"."+f.Name, ".")
		is := s.typed(s.full(f.DataType), 0)
		if is.fields != nil {
			list = s.parts(one, at, is.fields, list, depth+1)
			continue
		}
		if is.kind == "" {
			continue
		}
		one.Address, one.Shape, one.Names, one.Writable = at.Address(), shapeOf(is.kind), is.names, false
		list = append(list, one)
	}
	return list
}

func shapeOf(t value.Type) value.Shape {
	s := value.Shape{Type: t, Bit: -1}
	if t == value.TypeText {
		s.Length = textLength
	}
	return s
}

// writeStates writes the names of the values of a variable as its properties.
func (w *setWriter) writeStates(index int, of, owner string, h *protocol.Held) {
	text := func(name string) string { return "<Text>" + escaped(name) + "</Text>" }
	if h.Shape.Type == value.TypeBool {
		for is, name := range []string{PropertyFalse, PropertyTrue} {
			w.property(index, of, owner, name, "LocalizedText", "LocalizedText", text(h.Names[is]))
		}
		return
	}
	var b strings.Builder
	for is := range len(h.Names) {
		name, there := h.Names[is]
		if !there {
			w.writeValues(index, of, owner, h)
			return
		}
		b.WriteString("<LocalizedText>" + text(name) + "</LocalizedText>")
	}
	w.property(index, of, owner, PropertyStates, "LocalizedText", "ListOfLocalizedText", b.String())
}

// writeValues is writeStates for values that do not follow each other.
func (w *setWriter) writeValues(index int, of, owner string, h *protocol.Held) {
	var b strings.Builder
	for _, is := range slices.Sorted(maps.Keys(h.Names)) {
		fmt.Fprintf(&b, "<ExtensionObject><TypeId><Identifier>i=7616</Identifier></TypeId><Body><EnumValueType><Value>%d</Value>"+
			"<DisplayName><Text>%s</Text></DisplayName></EnumValueType></Body></ExtensionObject>", is, escaped(h.Names[is]))
	}
	w.property(index, of, owner, PropertyValues, "i=7594", "ListOfExtensionObject", b.String())
}
