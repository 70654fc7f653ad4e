package enip

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Keys of settings.
const (
	KeyRoute    = "route"
	KeyTogether = "together"
	KeyOver     = "over"
)

// Explicit is EtherNet/IP with explicit messages: CIP volumes 1 and 2, over TCP.
var Explicit = &protocol.Def{
	Name: "enip", Title: "EtherNet/IP", Asker: "client", Answerer: "server", Medium: "ethernet",
	Example: "Row[3].Level", Turns: protocol.TurnsOfLink, Scheme: Scheme, Rules: rules{},
	Vocabulary: &protocol.Vocabulary{
		Headings: map[string][]string{"address": {"tag", "tagname", "symbol"}},
		Types: map[string]string{"sint": "int8", "int": "int16", "dint": "int32", "lint": "int64", "usint": "uint8",
			"uint": "uint16", "udint": "uint32", "ulint": "uint64", "real": "float32", "lreal": "float64"},
	},
	Settings: []protocol.Setting{
		{Key: protocol.KeyPort, Title: "TCP port", End: protocol.BothEnds, Default: protocol.OfInt(44818), Least: 1,
			Most: 65535, Help: "44818 is that of the standard.", Stop: "address", Shows: "the connection is refused"},
		{Key: KeyRoute, Title: "Route", Kind: protocol.Text, End: protocol.Asking, Like: "1,0",
			Help: "Through which ports to the module, where it is not the one that has the address: port and slot, such as 1,0 for " +
				"slot 0 of its own rack.", Stop: "session", Shows: "path destination unknown, or link address not valid"},
		{Key: KeyTogether, Title: "Several in one message", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText("as known"), Choices: []protocol.Option{{Value: "as known", Title: "if the device can"},
				{Value: "one", Title: "one by one"}},
			Help: "Controllers take several questions in one message; simple devices do not know that.", Stop: "pace"},
		{Key: KeyOver, Title: "Messages", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText("unconnected"),
			Choices: []protocol.Option{{Value: "unconnected", Title: "unconnected"},
				{Value: "connected", Title: "over a connection"}},
			Help: "Over a connection they are answered sooner by a busy controller, which has few of them.", Stop: "session",
			Shows: "out of connections"},
		{Key: protocol.KeyWithin, Title: "Answer within", Unit: "ms", End: protocol.Asking, Default: protocol.OfInt(1000),
			Least: 20, Most: 60000, Stop: "session", Shows: "a slow device is taken for a dead one"},
	},
}

func init() { protocol.Register(Explicit) }

type rules struct{ statuses }

// ParseRoute reads the setting of that name: pairs of port and link address.
func ParseRoute(text string) (ports [][2]int, err error) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	parts := strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == '/' || r == ' ' || r == ';' })
	if len(parts)%2 != 0 || len(parts) > 16 {
		return nil, errors.New("a route is pairs of port and slot: 1,0")
	}
	for i := 0; i < len(parts); i += 2 {
		var pair [2]int
		for k := range pair {
			n, err := strconv.Atoi(parts[i+k])
			if err != nil || n < 0 || n > 255 || k == 0 && (n < 1 || n > 14) {
				return nil, fmt.Errorf("%q is no port from 1 to 14, or no slot from 0 to 255", parts[i+k])
			}
			pair[k] = n
		}
		ports = append(ports, pair)
	}
	return ports, nil
}

// Octets of a message: 24 of the encapsulation, 16 of its items and 40 of IP and TCP; and
// 504 that an unconnected one may have (CIP volume 1, clause 3-5.5.4).
const (
	headOctets = 24 + 16 + 40
	mostOctets = 504
)

// AskRoom: several questions share one message.
func (rules) AskRoom(s protocol.Settings) protocol.AskRoom {
	room := protocol.AskRoom{Items: 30, Out: headOctets + mostOctets, In: headOctets + mostOctets, OutHead: headOctets + 8,
		InHead: headOctets + 6}
	if Explicit.Value(s, KeyTogether).Text() == "one" {
		room.Items = 1
	}
	return room
}

// AskBytes is what a question and its answer take in a message.
func (rules) AskBytes(w protocol.Wanted) (out, in int) {
	in = 2 + 4 + 2 + max(1, w.Shape.Octets())
	if _, ok := AttributeOf(w.Address); ok {
		return 2 + 2 + 12, in + 32 // more of the attribute may come than is wanted
	}
	name, _ := TagOf(w.Address)
	if w.Shape.Type.IsText() {
		in += 2
	}
	return 2 + 2 + len(name) + 8, in
}

// Asking names a request.
func (rules) Asking(wanted []protocol.Wanted) string {
	if len(wanted) == 1 {
		return "read " + Scheme.Short(wanted[0].Address)
	}
	return fmt.Sprintf("read %d places from %s on", len(wanted), Scheme.Short(wanted[0].Address))
}

func (rules) AskFunction() string { return "read" }

// Writable: all but a text in the middle of an attribute.
func (rules) Writable(address.Address) error { return nil }

// WriteItem is the name of the service. A part of an attribute goes with the rest of it as
// that was read just before.
func (rules) WriteItem(a address.Address) string {
	if at, ok := AttributeOf(a); ok {
		if at.Octet > 0 || at.Bit >= 0 {
			return "Set_Attribute_Single, the rest of the attribute as it is read just before"
		}
		return "Set_Attribute_Single"
	}
	if name, ok := TagOf(a); ok {
		if _, bit, err := ParseTag(name); err == nil && bit >= 0 {
			return "change bits of a tag, all but one as they are"
		}
	}
	return "write tag"
}

// ItemBytes is what a write takes.
func (r rules) ItemBytes(a address.Address, shape value.Shape) (out, in int) {
	out, _ = r.AskBytes(protocol.Wanted{Address: a, Shape: shape})
	return headOctets + out + shape.Octets(), headOctets + 4
}

// Listed is what a controller lists.
func (rules) Listed() string { return "tags" }

// ToldAs is the name of the tag that a place is in; of an attribute, which does not say of
// what type it is, none.
func (rules) ToldAs(a address.Address) string {
	name, ok := TagOf(a)
	if _, bit, err := ParseTag(name); !ok || err != nil {
		return ""
	} else if bit >= 0 {
		name = name[:strings.LastIndexByte(name, '.')]
	}
	return name
}

// Unreadable says why what was answered for a tag, its type of 16 bits before it, is no
// value of a point; empty where it is.
func (rules) Unreadable(w protocol.Wanted, payload []byte) string {
	name, ok := TagOf(w.Address)
	if !ok || len(payload) < 2 {
		return ""
	}
	_, bit, _ := ParseTag(name)
	return Kind(uint16(payload[0])|uint16(payload[1])<<8).Fits(w.Shape.Type, bit >= 0)
}
