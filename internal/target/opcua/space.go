// Package opcua is the answering end of OPC UA, of a stand-in as of Ferry itself: sessions, an
// address space, and subscriptions. The library does the wire.
package opcua

import (
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
	// Read returns the value as it is now. Write takes one of its type; WriteAt is in its place for
	// an array, and takes an element, counted from 0. All are called by several at once.
	Read    func() *ua.DataValue
	Write   func(by By, v any) ua.StatusCode
	WriteAt func(by By, i int, v any) ua.StatusCode
}

// node is one of the address space.
type node struct {
	id       *ua.NodeID
	class    ua.NodeClass
	name     *ua.QualifiedName
	kind     uint32 // the numeric id of its type definition in namespace 0, 0 for none
	data     uint32 // that of the type of its value, 0 for what the variable says
	variable *Variable
	inside   []*node
	by       uint32 // the reference by which it is inside: 35 organizes, 47 component, 46 property
}

// space is what a server has, as it numbers it. It does not change.
type space struct {
	namespaces []string
	nodes      map[string]*node
}

// Nodes and references of OPC UA itself (OPC 10000-6, annex A.3).
const (
	organizes, hasProperty, hasComponent, hasTypeDefinition   = 35, 46, 47, 40
	idRoot, idObjects, idTypes, idViews                       = 84, 85, 86, 87
	idServer, idServerArray, idNamespaceArray, idServerStatus = 2253, 2254, 2255, 2256
	idCurrentTime, idState, idBuildInfo                       = 2258, 2259, 2260
	idProductName, idManufacturer, idSoftware                 = 2261, 2263, 2264
	folderType, baseObjectType, dataVariableType, propertyVar = 61, 58, 63, 68
	analogType, rangeType, unitType                           = 2368, 884, 887
)

// newSpace arranges variables in folders. Namespaces are numbered as they come, behind those in
// front.
func newSpace(front []string, variables []Variable, about About) *space {
	s := &space{namespaces: append([]string{"http://opcfoundation.org/UA/"}, front...), nodes: map[string]*node{}}
	root := s.add(nil, 0, 0, idRoot, "Root", folderType)
	objects := s.add(root, organizes, 0, idObjects, "Objects", folderType)
	s.add(root, organizes, 0, idTypes, "Types", folderType)
	s.add(root, organizes, 0, idViews, "Views", folderType)
	s.serverNodes(objects, about)
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
		s.properties(v, index, s.put(at, hasComponent, &node{id: ua.NewStringNodeID(index, v.ID),
			class: ua.NodeClassVariable, variable: v, kind: dataVariableType,
			name: &ua.QualifiedName{NamespaceIndex: index, Name: parts[len(parts)-1]}}))
	}
	return s
}

// properties give a variable its unit and its range, by which it is an analogue one.
func (s *space) properties(v *Variable, index uint16, n *node) {
	add := func(name string, data uint32, of any) {
		value := ua.NewExtensionObject(of)
		s.put(n, hasProperty, &node{id: ua.NewStringNodeID(index, v.ID+"/"+name), class: ua.NodeClassVariable,
			kind: propertyVar, data: data, name: &ua.QualifiedName{Name: name},
			variable: &Variable{Name: name, Type: ua.TypeIDExtensionObject, Read: func() *ua.DataValue { return Good(value) }}})
	}
	if v.Unit != "" {
		id, list := family.UnitID(v.Unit), family.UnitList
		if id == family.NoUnit {
			list = ""
		}
		add(family.PropertyUnit, unitType, &ua.EUInformation{NamespaceURI: list, UnitID: id,
			DisplayName: ua.NewLocalizedText(v.Unit), Description: ua.NewLocalizedText("")})
	}
	if v.Low != nil && v.High != nil {
		n.kind = analogType
		add(family.PropertyRange, rangeType, &ua.Range{Low: *v.Low, High: *v.High})
	}
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
	if n.by = by; in != nil {
		in.inside = append(in.inside, n)
	}
	return n
}

// About is what a server tells of itself.
type About struct{ Manufacturer, Product, Version string }

// serverNodes are those with which each server says what it is (OPC 10000-5, clause 6.3).
func (s *space) serverNodes(objects *node, about About) {
	server := s.add(objects, organizes, 0, idServer, "Server", 2004)
	of := func(in *node, by, id uint32, name string, kind ua.TypeID, read func() any) *node {
		return s.put(in, by, &node{id: ua.NewNumericNodeID(0, id), class: ua.NodeClassVariable, kind: propertyVar,
			name: &ua.QualifiedName{Name: name}, variable: &Variable{Name: name, Type: kind,
				Read: func() *ua.DataValue { return Good(read()) }}})
	}
	of(server, hasProperty, idServerArray, "ServerArray", ua.TypeIDString, func() any { return []string{"urn:ferry"} })
	of(server, hasProperty, idNamespaceArray, "NamespaceArray", ua.TypeIDString, func() any { return s.namespaces })
	status := s.put(server, hasComponent, &node{id: ua.NewNumericNodeID(0, idServerStatus), class: ua.NodeClassObject,
		name: &ua.QualifiedName{Name: "ServerStatus"}, kind: baseObjectType})
	of(status, hasComponent, idCurrentTime, "CurrentTime", ua.TypeIDDateTime, func() any { return time.Now().UTC() })
	of(status, hasComponent, idState, "State", ua.TypeIDInt32, func() any { return int32(0) })
	build := s.put(status, hasComponent, &node{id: ua.NewNumericNodeID(0, idBuildInfo), class: ua.NodeClassObject,
		name: &ua.QualifiedName{Name: "BuildInfo"}, kind: baseObjectType})
	of(build, hasComponent, idProductName, "ProductName", ua.TypeIDString, func() any { return about.Product })
	of(build, hasComponent, idManufacturer, "ManufacturerName", ua.TypeIDString, func() any { return about.Manufacturer })
	of(build, hasComponent, idSoftware, "SoftwareVersion", ua.TypeIDString, func() any { return about.Version })
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
	}
	if n.variable == nil {
		return Bad(ua.StatusBadAttributeIDInvalid)
	}
	switch id {
	case ua.AttributeIDValue:
		return n.variable.Read()
	case ua.AttributeIDDataType:
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
func describe(n *node) *ua.ReferenceDescription {
	return &ua.ReferenceDescription{ReferenceTypeID: ua.NewNumericNodeID(0, n.by), IsForward: true,
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
