package opcua

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Files of nodes (OPC 10000-6, annex F): UANodeSet with the namespaces that it speaks of, aliases
// for nodes of OPC UA itself, and a UAObject or UAVariable for each node, with its references.

// nodeSetSpace is the namespace of such files.
const nodeSetSpace = "http://opcfoundation.org/UA/2011/03/UANodeSet.xsd"

// Bounds of such a file.
const (
	mostNodes = 200_000
	mostDepth = 32 // of folders inside each other
)

type nodeSet struct {
	URIs    []string             `xml:"NamespaceUris>Uri"`
	Aliases []alias              `xml:"Aliases>Alias"`
	Nodes   []fileNode           `xml:",any"`
	nodes   map[string]*fileNode // by their full identifiers
	// steps are the fields of structures that were looked at, steppedIn those of one variable.
	steps, steppedIn int
}

type alias struct {
	Name string `xml:"Alias,attr"`
	ID   string `xml:",chardata"`
}

type fileNode struct {
	XMLName     xml.Name
	NodeID      string      `xml:"NodeId,attr"`
	BrowseName  string      `xml:"BrowseName,attr"`
	DataType    string      `xml:"DataType,attr"`
	ValueRank   string      `xml:"ValueRank,attr"`
	Access      string      `xml:"AccessLevel,attr"`
	Parent      string      `xml:"ParentNodeId,attr"`
	DisplayName string      `xml:"DisplayName"`
	Description string      `xml:"Description"`
	References  []fileRef   `xml:"References>Reference"`
	Unit        string      `xml:"Value>ExtensionObject>Body>EUInformation>DisplayName>Text"`
	Low         *float64    `xml:"Value>ExtensionObject>Body>Range>Low"`
	High        *float64    `xml:"Value>ExtensionObject>Body>Range>High"`
	Texts       []fileText  `xml:"Value>ListOfLocalizedText>LocalizedText"`
	Text        *fileText   `xml:"Value>LocalizedText"`
	Values      []fileState `xml:"Value>ListOfExtensionObject>ExtensionObject>Body>EnumValueType"`
	Fields      []fileField `xml:"Definition>Field"`
	at          int         // its line
	owner       *fileNode   // that it lies in
	inside      []*fileNode // its properties
}

type fileRef struct {
	Kind    string `xml:"ReferenceType,attr"`
	Forward string `xml:"IsForward,attr"`
	To      string `xml:",chardata"`
}

// Description is what such files are called.
func (rules) Description() string { return "node sets" }

// Described reports whether a file is one, by how it begins.
func (rules) Described(data []byte) bool {
	head := data[:min(len(data), 4096)]
	return bytes.Contains(head, []byte("<UANodeSet")) || bytes.Contains(head, []byte(":UANodeSet"))
}

// Describe reads the variables of such a file.
func (rules) Describe(data []byte) (held []protocol.Held, unread []protocol.Unread, err error) {
	set, err := readNodeSet(data)
	if err != nil {
		return nil, nil, err
	}
	set.nodes = make(map[string]*fileNode, len(set.Nodes))
	for i := range set.Nodes {
		set.nodes[set.full(set.Nodes[i].NodeID)] = &set.Nodes[i]
	}
	for i := range set.Nodes {
		set.place(&set.Nodes[i])
	}
	for i := range set.Nodes {
		n := &set.Nodes[i]
		if n.XMLName.Local != "UAVariable" || n.property() {
			continue
		}
		h, why := set.held(n)
		if why != "" {
			unread = append(unread, protocol.Unread{Line: n.at, What: n.NodeID, Reason: why})
			continue
		}
		held = append(held, h...)
	}
	return held, unread, nil
}

// readNodeSet reads a file. Entities are none of such files: they are refused with all else that
// is no plain XML.
func readNodeSet(data []byte) (*nodeSet, error) {
	d := xml.NewDecoder(bytes.NewReader(data))
	d.Strict, d.Entity = true, nil
	set := &nodeSet{}
	depth := 0
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			line, _ := d.InputPos()
			return nil, fmt.Errorf("line %d: %w", line, err)
		}
		switch t := token.(type) {
		case xml.Directive:
			return nil, errors.New("it declares entities or a document type, which a node set has not")
		case xml.EndElement:
			depth--
		case xml.StartElement:
			if depth++; depth == 1 {
				if t.Name.Local != "UANodeSet" {
					return nil, fmt.Errorf("it begins with %s: it is no node set", t.Name.Local)
				}
				continue
			}
			line, _ := d.InputPos()
			if err := set.take(d, &t, line); err != nil {
				return nil, fmt.Errorf("line %d: %w", line, err)
			}
			depth--
		}
	}
	if len(set.Nodes) == 0 {
		return nil, errors.New("there is no node in it")
	}
	return set, nil
}

// take reads an element of the outermost.
func (s *nodeSet) take(d *xml.Decoder, t *xml.StartElement, line int) error {
	switch t.Name.Local {
	case "NamespaceUris":
		var list struct {
			URIs []string `xml:"Uri"`
		}
		err := d.DecodeElement(&list, t)
		s.URIs = list.URIs
		return err
	case "Aliases":
		var list struct {
			Aliases []alias `xml:"Alias"`
		}
		err := d.DecodeElement(&list, t)
		s.Aliases = list.Aliases
		return err
	case "UAObject", "UAVariable", "UADataType":
		n := fileNode{at: line}
		if err := d.DecodeElement(&n, t); err != nil {
			return err
		}
		if s.Nodes = append(s.Nodes, n); len(s.Nodes) > mostNodes {
			return fmt.Errorf("it has more than %d nodes", mostNodes)
		}
		return nil
	}
	return d.Skip()
}

// full is an identifier by the address of its namespace; aliases stand for others.
func (s *nodeSet) full(id string) string {
	id = strings.TrimSpace(id)
	for _, a := range s.Aliases {
		if a.Name == id {
			id = strings.TrimSpace(a.ID)
		}
	}
	rest, ok := strings.CutPrefix(id, "ns=")
	if !ok {
		return id
	}
	index, name, _ := strings.Cut(rest, ";")
	i, err := strconv.Atoi(index)
	if err != nil || i < 1 || i > len(s.URIs) {
		return id
	}
	return "nsu=" + escape.Replace(strings.TrimSpace(s.URIs[i-1])) + ";" + name
}

// The references by which a node lies in another (OPC 10000-5, clause 11).
var within = []string{"HasComponent", "Organizes", "HasProperty", "HasOrderedComponent", "i=47", "i=35", "i=46", "i=49"}

// place finds what a node lies in.
func (s *nodeSet) place(n *fileNode) {
	for _, r := range n.References {
		if !slices.Contains(within, strings.TrimSpace(r.Kind)) {
			continue
		}
		to := s.nodes[s.full(r.To)]
		if to == nil || to == n {
			continue
		}
		owner, inner := n, to
		if r.Forward == "false" {
			owner, inner = to, n
		}
		if inner.owner == nil {
			inner.owner = owner
			owner.inside = append(owner.inside, inner)
		}
	}
	if owner := s.nodes[s.full(n.Parent)]; n.owner == nil && owner != nil && owner != n {
		n.owner = owner
		owner.inside = append(owner.inside, n)
	}
}

// property reports whether a variable says something of another, and is no value of its own.
func (n *fileNode) property() bool {
	return slices.ContainsFunc(n.References, func(r fileRef) bool {
		kind := strings.TrimSpace(r.Kind)
		return r.Forward == "false" && (kind == "HasProperty" || kind == "i=46") ||
			r.Forward != "false" && (kind == "HasTypeDefinition" || kind == "i=40") && (strings.TrimSpace(r.To) == "i=68" ||
				strings.TrimSpace(r.To) == "PropertyType")
	})
}

// called is the last part of a name of the standard: without the number of its namespace.
func (n *fileNode) called() string {
	if _, name, ok := strings.Cut(n.BrowseName, ":"); ok {
		return name
	}
	return n.BrowseName
}

// way is the name of a node with those of what it lies in; one that lies in itself has an end too.
func (n *fileNode) way() string {
	name := n.called()
	for owner, depth := n.owner, 0; owner != nil && depth < mostDepth; owner, depth = owner.owner, depth+1 {
		name = owner.called() + "." + name
	}
	return name
}

// held is a variable as a place, or those in its structure; why says why it is none.
func (s *nodeSet) held(n *fileNode) (list []protocol.Held, why string) {
	id := s.full(n.NodeID)
	if strings.HasPrefix(id, "ns=") {
		return nil, "the file does not say which namespace it is of"
	}
	node, err := ParseNode(id)
	if err != nil {
		return nil, err.Error()
	}
	if node.URI == "" {
		return nil, "it is of OPC UA itself"
	}
	is := s.typed(s.full(n.DataType), 0)
	if is.kind == "" && is.fields == nil {
		return nil, fmt.Sprintf("its type, %s, is none that a point can have", n.DataType)
	}
	if rank, err := strconv.Atoi(n.ValueRank); err == nil && rank >= 0 {
		return nil, "it is an array: choose its elements at the server"
	}
	h := protocol.Held{Address: node.Address(), Name: n.way(), Shape: shapeOf(is.kind), Remark: n.Description,
		Names: is.names}
	if s.steppedIn = 0; is.fields != nil {
		if list = s.parts(h, node, is.fields, nil, 0); len(list) == 0 {
			why = "its structure has no value that a point can have"
		}
		return list, why
	}
	if level, err := strconv.Atoi(n.Access); err == nil {
		h.Writable = level&2 != 0
	}
	n.describe(&h)
	return []protocol.Held{h}, ""
}

// describe adds what the properties of a variable say of it.
func (n *fileNode) describe(h *protocol.Held) {
	for _, p := range n.inside {
		switch p.called() {
		case PropertyUnit:
			h.Unit = p.Unit
		case PropertyRange:
			if p.Low != nil && p.High != nil && *p.Low < *p.High {
				h.Low, h.High = p.Low, p.High
			}
		case PropertyStates, PropertyValues:
			if names := p.states(); len(names) > 0 {
				h.Names = names
			}
		case PropertyFalse, PropertyTrue:
			if p.Text == nil || strings.TrimSpace(p.Text.Text) == "" {
				continue
			}
			if h.Names == nil {
				h.Names = map[int]string{}
			}
			is := 0
			if p.called() == PropertyTrue {
				is = 1
			}
			h.Names[is] = strings.TrimSpace(p.Text.Text)
		}
	}
}

// DescribeOut is places as a node set.
func (rules) DescribeOut(_ protocol.Whose, held []protocol.Held, at time.Time) []byte {
	return NodeSet(held, at)
}

// DescribedAs is how the names of such files end.
func (rules) DescribedAs() (ending, media string) { return ".NodeSet2.xml", "application/xml" }

// NodeSet is places as such a file, as of a time. Their names are taken apart at points: what
// stands before the last is folders.
func NodeSet(held []protocol.Held, at time.Time) []byte {
	w := &setWriter{folders: map[string]bool{}}
	for i := range held {
		if n, ok := NodeOf(held[i].Address); ok && n.Element < 0 && n.Field == "" {
			w.variable(n, &held[i])
		}
	}
	var b bytes.Buffer
	b.WriteString(xml.Header)
	fmt.Fprintf(&b, "<UANodeSet xmlns=%q LastModified=%q>\n  <NamespaceUris>\n", nodeSetSpace,
		at.UTC().Format(time.RFC3339))
	for _, uri := range w.uris {
		fmt.Fprintf(&b, "    <Uri>%s</Uri>\n", escaped(uri))
	}
	b.WriteString("  </NamespaceUris>\n  <Models>\n")
	for _, uri := range w.uris {
		fmt.Fprintf(&b, "    <Model ModelUri=\"%s\" Version=\"1.0.0\" PublicationDate=%q>\n"+
			"      <RequiredModel ModelUri=%q/>\n    </Model>\n", escaped(uri), at.UTC().Format(time.RFC3339), StandardURI)
	}
	b.WriteString("  </Models>\n  <Aliases>\n")
	for _, a := range [][2]string{{"Boolean", "1"}, {"SByte", "2"}, {"Byte", "3"}, {"Int16", "4"}, {"UInt16", "5"},
		{"Int32", "6"}, {"UInt32", "7"}, {"Int64", "8"}, {"UInt64", "9"}, {"Float", "10"}, {"Double", "11"}, {"String", "12"},
		{"DateTime", "13"}, {"LocalizedText", "21"}, {"Organizes", "35"}, {"HasTypeDefinition", "40"},
		{"HasProperty", "46"}, {"HasComponent", "47"}} {
		fmt.Fprintf(&b, "    <Alias Alias=%q>i=%s</Alias>\n", a[0], a[1])
	}
	b.WriteString("  </Aliases>\n")
	b.Write(w.body.Bytes())
	b.WriteString("</UANodeSet>\n")
	return b.Bytes()
}

// setWriter writes the nodes of a file.
type setWriter struct {
	uris    []string
	folders map[string]bool
	body    bytes.Buffer
}

func escaped(text string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(text)) // a builder takes all
	return b.String()
}

// index is the number of a namespace in the file.
func (w *setWriter) index(uri string) int {
	i := slices.Index(w.uris, uri)
	if i < 0 {
		w.uris = append(w.uris, uri)
		i = len(w.uris) - 1
	}
	return i + 1
}

func (w *setWriter) variable(n Node, h *protocol.Held) {
	number := numberOf(h.Shape.Type)
	if number == "" || n.URI == "" {
		return
	}
	kind := number
	for name, id := range typeNames {
		if id == number {
			kind = name
		}
	}
	index := w.index(n.URI)
	way := h.Name
	if n.Kind == String {
		way = n.ID
	}
	parts := strings.Split(way, ".")
	owner, path := "i=85", ""
	for _, part := range parts[:len(parts)-1] {
		path = strings.TrimPrefix(path+"."+part, ".")
		id := fmt.Sprintf("ns=%d;s=%s", index, path)
		if !w.folders[id] {
			w.folders[id] = true
			fmt.Fprintf(&w.body, "  <UAObject NodeId=\"%s\" BrowseName=\"%d:%s\">\n    <DisplayName>%s</DisplayName>\n",
				escaped(id), index, escaped(part), escaped(part))
			fmt.Fprintf(&w.body, "    <References>\n      <Reference ReferenceType=\"HasTypeDefinition\">i=61</Reference>\n"+
				"      <Reference ReferenceType=\"Organizes\" IsForward=\"false\">%s</Reference>\n    </References>\n  </UAObject>\n",
				escaped(owner))
		}
		owner = id
	}
	access := 1
	if h.Writable {
		access = 3
	}
	id, name := fmt.Sprintf("ns=%d;%c=%s", index, n.Kind, n.ID), parts[len(parts)-1]
	fmt.Fprintf(&w.body, "  <UAVariable NodeId=\"%s\" BrowseName=\"%d:%s\" DataType=%q AccessLevel=\"%d\">\n"+
		"    <DisplayName>%s</DisplayName>\n", escaped(id), index, escaped(name), kind, access, escaped(name))
	if h.Remark != "" {
		fmt.Fprintf(&w.body, "    <Description>%s</Description>\n", escaped(h.Remark))
	}
	by, ranged := "HasComponent", h.Low != nil && h.High != nil
	if owner == "i=85" {
		by = "Organizes"
	}
	of := "63"
	switch {
	case ranged:
		of = "2368"
	case len(h.Names) > 0 && h.Shape.Type == value.TypeBool:
		of = "2373"
	case len(h.Names) > 0:
		of = "11238"
	}
	fmt.Fprintf(&w.body, "    <References>\n      <Reference ReferenceType=\"HasTypeDefinition\">i=%s</Reference>\n"+
		"      <Reference ReferenceType=%q IsForward=\"false\">%s</Reference>\n    </References>\n  </UAVariable>\n", of, by,
		escaped(owner))
	if h.Unit != "" {
		list := ""
		if UnitID(h.Unit) != NoUnit {
			list = UnitList
		}
		w.property(index, n.ID, id, PropertyUnit, "i=887", "ExtensionObject",
			fmt.Sprintf("<TypeId><Identifier>i=888</Identifier></TypeId>"+
				"<Body><EUInformation><NamespaceUri>%s</NamespaceUri><UnitId>%d</UnitId><DisplayName><Text>%s</Text></DisplayName>"+
				"</EUInformation></Body>", list, UnitID(h.Unit), escaped(h.Unit)))
	}
	if ranged {
		w.property(index, n.ID, id, PropertyRange, "i=884", "ExtensionObject",
			fmt.Sprintf("<TypeId><Identifier>i=885</Identifier></TypeId>"+
				"<Body><Range><Low>%g</Low><High>%g</High></Range></Body>", *h.Low, *h.High))
	}
	if len(h.Names) > 0 {
		w.writeStates(index, n.ID, id, h)
	}
}

func (w *setWriter) property(index int, of, owner, name, kind, as, held string) {
	if strings.HasPrefix(as, "ListOf") {
		kind += `" ValueRank="1`
	}
	fmt.Fprintf(&w.body, "  <UAVariable NodeId=\"ns=%d;s=%s/%s\" BrowseName=%q DataType=\"%s\">\n    <DisplayName>%s</DisplayName>\n"+
		"    <References>\n      <Reference ReferenceType=\"HasTypeDefinition\">i=68</Reference>\n"+
		"      <Reference ReferenceType=\"HasProperty\" IsForward=\"false\">%s</Reference>\n    </References>\n"+
		"    <Value><%s xmlns=\"http://opcfoundation.org/UA/2008/02/Types.xsd\">%s</%s></Value>\n"+
		"  </UAVariable>\n", index, escaped(of), name, name, kind, name, escaped(owner), as, held, as)
}
