// Package opcua is the answering end of OPC UA, of a stand-in as of Ferry itself: sessions, an
// address space, and subscriptions. The library does the wire.
package opcua

import (
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gopcua/opcua/ua"

	family "ferry/internal/core/family/opcua"
)

// Variable is a node with a value.
type Variable struct {
	// URI is the address of its namespace, and ID its text there.
	URI, ID string
	// Name is how it is found from the folder of objects on, its parts separated by points.
	Name        string
	Description string
	Type        ua.TypeID
	Writable    bool
	// Unit is that of the value, Low and High its range; empty and nil for not known.
	Unit      string
	Low, High *float64
	// States are the names of whole values.
	States map[int]string
	// Fields are those of a value that is a structure.
	Fields []Field
	// Read returns the value as it is now. Write takes one of its type; WriteAt is in its place for
	// an array, and takes an element, counted from 0. All are called by several at once.
	Read    func() *ua.DataValue
	Write   func(by By, v any) ua.StatusCode
	WriteAt func(by By, i int, v any) ua.StatusCode
	// Gave is told that a client was given its value, in an answer or in a report; nil for nobody.
	Gave func(to By, reported bool)
}

// node is one of the address space.
type node struct {
	id       *ua.NodeID
	class    ua.NodeClass
	name     *ua.QualifiedName
	kind     uint32 // the numeric id of its type definition in namespace 0, 0 for none
	data     uint32 // that of the type of its value, 0 for what the variable says
	variable *Variable
	// dataType and encoding are those of a structure, and definition what a type says of it; nil
	// for none.
	dataType, encoding *ua.NodeID
	definition         *ua.ExtensionObject
	inside             []*node
	in                 *node  // what it is inside of; nil for the root
	by                 uint32 // the reference by which it is
}

// space is what a server has, as it numbers it. It does not change.
type space struct {
	namespaces []string
	nodes      map[string]*node
}

// newSpace arranges variables in folders. Namespaces are numbered as they come, behind those in
// front.
func newSpace(front []string, variables []Variable, own *standard) *space {
	s := &space{namespaces: append([]string{"http://opcfoundation.org/UA/"}, front...), nodes: map[string]*node{}}
	root := s.add(nil, 0, 0, idRoot, "Root", folderType)
	objects := s.add(root, organizes, 0, idObjects, "Objects", folderType)
	s.types(s.add(root, organizes, 0, idTypes, "Types", folderType))
	s.add(root, organizes, 0, idViews, "Views", folderType)
	s.serverNodes(objects, own)
	folders := map[string]*node{"": objects}
	for i := range variables {
		v := &variables[i]
		index := s.index(v.URI)
		parts := strings.Split(v.Name, ".")
		at, path := objects, ""
		for _, part := range parts[:len(parts)-1] {
			path = strings.TrimPrefix(path+"."+part, ".")
			if folders[path] == nil {
				folders[path] = s.put(at, organizes, &node{id: ua.NewStringNodeID(index, path), class: ua.NodeClassObject,
					name: &ua.QualifiedName{NamespaceIndex: index, Name: part}, kind: folderType})
			}
			at = folders[path]
		}
		n := s.put(at, hasComponent, &node{id: ua.NewStringNodeID(index, v.ID),
			class: ua.NodeClassVariable, variable: v, kind: dataVariableType,
			name: &ua.QualifiedName{NamespaceIndex: index, Name: parts[len(parts)-1]}})
		s.properties(v, index, n)
		s.structured(v, index, n)
	}
	return s
}

// properties give a variable its unit and its range, by which it is an analogue one.
func (s *space) properties(v *Variable, index uint16, n *node) {
	add := func(name string, data uint32, value any) {
		s.put(n, hasProperty, &node{id: ua.NewStringNodeID(index, v.ID+"/"+name), class: ua.NodeClassVariable,
			kind: propertyVar, data: data, name: &ua.QualifiedName{Name: name},
			variable: &Variable{Name: name, Type: ua.TypeIDExtensionObject, Read: func() *ua.DataValue { return Good(value) }}})
	}
	if v.Unit != "" {
		id, list := family.UnitID(v.Unit), family.UnitList
		if id == family.NoUnit {
			list = ""
		}
		add(family.PropertyUnit, unitType, ua.NewExtensionObject(&ua.EUInformation{NamespaceURI: list, UnitID: id,
			DisplayName: ua.NewLocalizedText(v.Unit), Description: ua.NewLocalizedText("")}))
	}
	if v.Low != nil && v.High != nil {
		n.kind = analogType
		add(family.PropertyRange, rangeType, ua.NewExtensionObject(&ua.Range{Low: *v.Low, High: *v.High}))
	}
	switch {
	case len(v.States) == 0 || v.Type > ua.TypeIDUint64:
		return
	case v.Type == ua.TypeIDBoolean:
		n.kind = binaryType
		add(family.PropertyFalse, dataText, ua.NewLocalizedText(v.States[0]))
		add(family.PropertyTrue, dataText, ua.NewLocalizedText(v.States[1]))
		return
	}
	if texts, ok := inOrder(v.States); ok {
		n.kind = statesType
		add(family.PropertyStates, dataText, texts)
		return
	}
	n.kind = valuesType
	var values []*ua.ExtensionObject
	for _, is := range slices.Sorted(maps.Keys(v.States)) {
		values = append(values, ua.NewExtensionObject(&ua.EnumValueType{Value: int64(is),
			DisplayName: ua.NewLocalizedText(v.States[is]), Description: ua.NewLocalizedText("")}))
	}
	add(family.PropertyValues, enumType, values)
}

// inOrder are the names of the values from 0 on; ok is false where some are missing between.
func inOrder(states map[int]string) (texts []*ua.LocalizedText, ok bool) {
	for is := range len(states) {
		name, named := states[is]
		if !named {
			return nil, false
		}
		texts = append(texts, ua.NewLocalizedText(name))
	}
	return texts, true
}

// index is that of a namespace, which is added if it is new.
func (s *space) index(uri string) uint16 {
	for i, known := range s.namespaces {
		if known == uri {
			return uint16(i)
		}
	}
	s.namespaces = append(s.namespaces, uri)
	return uint16(len(s.namespaces) - 1)
}

func (s *space) add(in *node, by uint32, index uint16, id uint32, name string, kind uint32) *node {
	return s.put(in, by, &node{id: ua.NewNumericNodeID(index, id), class: ua.NodeClassObject,
		name: &ua.QualifiedName{NamespaceIndex: index, Name: name}, kind: kind})
}

func (s *space) put(in *node, by uint32, n *node) *node {
	if known := s.nodes[n.id.String()]; known != nil {
		return known
	}
	s.nodes[n.id.String()] = n
	if n.by, n.in = by, in; in != nil {
		in.inside = append(in.inside, n)
	}
	return n
}

// Good is a value that is good now.
func Good(v any) *ua.DataValue {
	now := time.Now().UTC()
	variant, err := ua.NewVariant(v)
	if err != nil {
		return Bad(ua.StatusBadDataEncodingUnsupported)
	}
	return &ua.DataValue{EncodingMask: ua.DataValueValue | ua.DataValueSourceTimestamp | ua.DataValueServerTimestamp,
		Value: variant, SourceTimestamp: now, ServerTimestamp: now}
}

// Bad is no value, with why.
func Bad(code ua.StatusCode) *ua.DataValue {
	return &ua.DataValue{EncodingMask: ua.DataValueStatusCode | ua.DataValueServerTimestamp, Status: code,
		ServerTimestamp: time.Now().UTC()}
}

// attribute is what a node says of itself.
func (s *space) attribute(n *node, id ua.AttributeID, writable bool) *ua.DataValue {
	switch id {
	case ua.AttributeIDNodeID:
		return Good(n.id)
	case ua.AttributeIDNodeClass:
		return Good(int32(n.class))
	case ua.AttributeIDBrowseName:
		return Good(n.name)
	case ua.AttributeIDDisplayName:
		return Good(ua.NewLocalizedText(n.name.Name))
	case ua.AttributeIDDescription:
		if n.variable != nil {
			return Good(ua.NewLocalizedText(n.variable.Description))
		}
		return Good(ua.NewLocalizedText(""))
	case ua.AttributeIDWriteMask, ua.AttributeIDUserWriteMask:
		return Good(uint32(0))
	case ua.AttributeIDEventNotifier:
		if n.class == ua.NodeClassObject {
			return Good(byte(0))
		}
	case ua.AttributeIDDataTypeDefinition:
		if n.definition != nil {
			return Good(n.definition)
		}
	case ua.AttributeIDIsAbstract, ua.AttributeIDSymmetric:
		if n.class > ua.NodeClassMethod {
			return Good(false)
		}
	}
	if n.variable == nil {
		return Bad(ua.StatusBadAttributeIDInvalid)
	}
	switch id {
	case ua.AttributeIDValue:
		return n.value()
	case ua.AttributeIDDataType:
		if n.dataType != nil {
			return Good(n.dataType)
		}
		if n.data != 0 {
			return Good(ua.NewNumericNodeID(0, n.data))
		}
		return Good(ua.NewNumericNodeID(0, uint32(n.variable.Type)))
	case ua.AttributeIDValueRank:
		if v := n.variable.Read(); v.Value != nil && v.Value.ArrayLength() > 0 {
			return Good(int32(1))
		}
		return Good(int32(-1))
	case ua.AttributeIDAccessLevel, ua.AttributeIDUserAccessLevel:
		if n.variable.Writable && (writable || id == ua.AttributeIDAccessLevel) {
			return Good(byte(3))
		}
		return Good(byte(1))
	case ua.AttributeIDMinimumSamplingInterval:
		return Good(float64(0))
	case ua.AttributeIDHistorizing:
		return Good(false)
	}
	return Bad(ua.StatusBadAttributeIDInvalid)
}

// describe is a reference to a node.
func describe(n *node, by uint32, forward bool) *ua.ReferenceDescription {
	return &ua.ReferenceDescription{ReferenceTypeID: ua.NewNumericNodeID(0, by), IsForward: forward,
		NodeID:     ua.NewExpandedNodeID(n.id, "", 0),
		BrowseName: n.name, DisplayName: ua.NewLocalizedText(n.name.Name), NodeClass: n.class,
		TypeDefinition: ua.NewExpandedNodeID(ua.NewNumericNodeID(0, n.kind), "", 0)}
}

// counter gives out numbers.
type counter struct {
	mu sync.Mutex
	n  uint32
}

func (c *counter) next() uint32 {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.n++
	return c.n
}

func (s *space) find(id *ua.NodeID) *node {
	if id == nil {
		return nil
	}
	return s.nodes[id.String()]
}
