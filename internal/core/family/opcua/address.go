// Package opcua has the rules of OPC UA (IEC 62541, OPC 10000): how nodes are named, what a
// session is set to, what status codes mean, and what a subscription costs.
package opcua

import (
	"cmp"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"ferry/internal/core/address"
	"ferry/internal/core/value"
)

// Space is the space of addresses that name a node, in the notation of OPC 10000-6, clause
// 5.3.1.10: "nsu=urn:skerry:hall;s=Tank.Oxygen", "i=2258". A namespace is kept by its address,
// because the index of it counts for one session alone; one that was given by its index is
// kept so, and looked up in each session.
const Space = "node"

// mostName bounds a text or octets that name a node, in octets (OPC 10000-3, clause 8.2).
const mostName = 4096

// Kinds of identifiers.
const (
	Numeric = 'i'
	String  = 's'
	GUID    = 'g'
	Opaque  = 'b'
)

// Node is an address of OPC UA, taken apart.
type Node struct {
	// URI is the address of the namespace; empty where Index says which it is.
	URI string
	// Index is that of the session at hand, 0 for the namespace of OPC UA itself.
	Index int
	Kind  byte
	// ID is the identifier as text: digits, a text, a GUID, or octets in base64.
	ID string
	// Element is which of an array is meant, from 0; -1 for the whole.
	Element int
	// Field is which value of a structure is meant, by the names of fields and the numbers of
	// elements that lead there, with points between them; empty for the whole.
	Field string
}

// part is what stands behind the identifier for a part of what the node holds, as " [3]",
// " [.Motor.Speed]" or " [3.Speed]"; empty for the whole.
func (n *Node) part() string {
	if n.Element < 0 && n.Field == "" {
		return ""
	}
	b := " ["
	if n.Element >= 0 {
		b += strconv.Itoa(n.Element)
	}
	if n.Field != "" {
		b += "." + n.Field
	}
	return b + "]"
}

// cut takes the part from the identifier.
func (n *Node) cut() {
	at := strings.LastIndex(n.ID, " [")
	if at < 0 || !strings.HasSuffix(n.ID, "]") {
		return
	}
	element, field, structured := strings.Cut(n.ID[at+2:len(n.ID)-1], ".")
	i, err := strconv.ParseUint(element, 10, 31)
	if err != nil && (element != "" || !structured) || structured && slices.Contains(strings.Split(field, "."), "") ||
		strings.ContainsAny(field, "[]") {
		return // it belongs to the identifier
	}
	n.ID, n.Field = n.ID[:at], field
	if element != "" {
		n.Element = int(i)
	}
}

// Address returns the node as an address.
func (n Node) Address() address.Address { return address.Named(Space, n.String()) }

// String prints the node as OPC 10000-6 has it. In the address of a namespace, the signs that
// end it are printed by their codes.
func (n Node) String() string {
	var b strings.Builder
	switch {
	case n.URI != "":
		b.WriteString("nsu=" + escape.Replace(n.URI) + ";")
	case n.Index > 0:
		fmt.Fprintf(&b, "ns=%d;", n.Index)
	}
	b.WriteByte(n.Kind)
	b.WriteByte('=')
	b.WriteString(n.ID)
	b.WriteString(n.part())
	return b.String()
}

var (
	escape   = strings.NewReplacer("%", "%25", ";", "%3B")
	unescape = strings.NewReplacer("%3B", ";", "%3b", ";", "%25", "%")
)

// ParseNode reads a node.
func ParseNode(text string) (n Node, err error) {
	text = strings.TrimSpace(text)
	n.Element = -1
	fail := func(why string) (Node, error) {
		return Node{}, fmt.Errorf("address %s: %s", text, why)
	}
	if !utf8.ValidString(text) || strings.ContainsRune(text, 0) {
		return fail("it holds a character that is none")
	}
	rest := text
	switch {
	case strings.HasPrefix(rest, "nsu="):
		uri, after, found := strings.Cut(rest[4:], ";")
		if !found || uri == "" {
			return fail("behind the address of the namespace comes ; and the identifier: nsu=urn:skerry:hall;s=Tank.Oxygen")
		}
		n.URI, rest = unescape.Replace(uri), after
		if n.URI == StandardURI {
			n.URI = ""
		}
	case strings.HasPrefix(rest, "ns="):
		index, after, found := strings.Cut(rest[3:], ";")
		i, err := strconv.ParseUint(index, 10, 16)
		if !found || err != nil {
			return fail("behind ns= comes a number from 0 to 65535, ; and the identifier: ns=2;s=Tank.Oxygen")
		}
		n.Index, rest = int(i), after
	}
	if len(rest) < 2 || rest[1] != '=' {
		return fail("it names no node: write it as nsu=urn:skerry:hall;s=Tank.Oxygen, ns=2;s=Tank.Oxygen or i=2258")
	}
	n.Kind, n.ID = rest[0], rest[2:]
	n.cut()
	if why := n.check(); why != nil {
		return fail(why.Error())
	}
	return n, nil
}

// check says what is wrong with the identifier, and prints it in the one way.
func (n *Node) check() error {
	switch n.Kind {
	case Numeric:
		i, err := strconv.ParseUint(n.ID, 10, 32)
		if err != nil {
			return errors.New("behind i= comes a number from 0 to 4294967295")
		}
		n.ID = strconv.FormatUint(i, 10)
	case String:
		if n.ID == "" || len(n.ID) > mostName {
			return fmt.Errorf("behind s= comes a text of 1 to %d octets", mostName)
		}
	case GUID:
		plain := strings.ReplaceAll(n.ID, "-", "")
		if octets, err := hex.DecodeString(plain); err != nil || len(octets) != 16 || len(n.ID) != 36 {
			return errors.New("behind g= comes a GUID: 72962B91-FA75-4AE6-8D28-B404DC7DAF63")
		}
		n.ID = strings.ToUpper(n.ID)
	case Opaque:
		octets, err := base64.StdEncoding.DecodeString(n.ID)
		if err != nil || len(octets) == 0 || len(octets) > mostName {
			return errors.New("behind b= come octets in base64")
		}
	default:
		return fmt.Errorf("%c= is no kind of identifier: it is i, s, g or b", n.Kind)
	}
	return nil
}

// StandardURI is the namespace of OPC UA itself, whose index is always 0.
const StandardURI = "http://opcfoundation.org/UA/"

// NodeOf takes an address apart; ok is false for one of another space.
func NodeOf(a address.Address) (n Node, ok bool) {
	space, name, ok := a.Name()
	if !ok || space != Space {
		return Node{}, false
	}
	n, err := ParseNode(name)
	return n, err == nil
}

type scheme struct{}

// Scheme is the addressing of OPC UA.
var Scheme address.Scheme = scheme{}

func (scheme) Parse(text, _ string) (address.Address, error) {
	n, err := ParseNode(text)
	if err != nil {
		return address.Address{}, err
	}
	return n.Address(), nil
}

func (scheme) Short(a address.Address) string {
	_, name, _ := a.Name()
	return name
}

func (scheme) Notations(a address.Address) []address.Notation {
	n, ok := NodeOf(a)
	if !ok {
		return nil
	}
	return []address.Notation{{Name: "node", Text: n.String()}}
}

func (s scheme) Compare(a, b address.Address) int {
	return cmp.Or(cmp.Compare(s.Short(a), s.Short(b)), address.Compare(a, b))
}

func (scheme) Check(a address.Address, shape value.Shape) error {
	if _, ok := NodeOf(a); !ok {
		return fmt.Errorf("address %s is no node", a)
	}
	if shape.Type == value.TypeBits {
		return errors.New("a node is no field of bits: give it a whole number")
	}
	return nil
}
