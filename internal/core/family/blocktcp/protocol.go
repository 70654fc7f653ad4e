// Package blocktcp is the rules of block access over ISO-on-TCP: the memory of
// a controller, addressed by area or data block, byte and bit, the settings and
// limits of its connection, and its codes in words.
package blocktcp

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
)

// Def is block access: RFC 1006 over TCP, class 0 of ISO 8073 above it, and
// messages that read and write items of memory. No published standard has the
// message layer; its layout is the one on which devices and tools agree.
var Def = &protocol.Def{
	Name: "block-tcp", Title: "Block access over ISO-on-TCP", Asker: "client", Answerer: "server", Medium: "ethernet",
	Turns: protocol.TurnsOfLink, Scheme: Scheme, Rules: rules{}, Settings: settings(), Example: "db7:0",
}

// Image is the map of a controller's own memory, which no link speaks: the maps
// of programs and of cyclic process images are written in it.
var Image = &protocol.Def{
	Name: "process-image", Title: "Process image and data blocks", MapOnly: true, Settings: []protocol.Setting{},
	Scheme: Scheme, Example: "db7:0",
}

func init() {
	protocol.Register(Def)
	protocol.Register(Image)
}

// Keys of settings.
const (
	KeyRack = "rack"
	KeySlot = "slot"
	KeyKind = "kind"
	KeySize = "messageSize"
)

// Usual sizes of a message in octets.
const (
	LeastSize = 240
	UsualSize = 480
	MostSize  = 960
)

func settings() []protocol.Setting {
	number := func(key, title string, end protocol.End, unit string, usual, least, most int,
		stop string) protocol.Setting {
		return protocol.Setting{Key: key, Title: title, End: end, Unit: unit, Default: protocol.OfInt(usual),
			Least: least, Most: most, Stop: stop}
	}
	port := number(protocol.KeyPort, "TCP port", protocol.BothEnds, "", 102, 1, 65535, "address")
	port.Shows = "the connection is refused"
	rack := number(KeyRack, "Rack", protocol.BothEnds, "", 0, 0, 7, "session")
	rack.Shows = "the device refuses the way to its processor, or says nothing"
	rack.Help = "In which rack the processor sits: 0 unless there are several."
	slot := number(KeySlot, "Slot", protocol.BothEnds, "", 1, 0, 31, "session")
	slot.Shows = rack.Shows
	slot.Help = "In which slot the processor sits: 0 or 1 in compact controllers, 2 or 3 in modular ones."
	return []protocol.Setting{
		port, rack, slot,
		{
			Key: KeyKind, Title: "Connects as", End: protocol.Asking, Kind: protocol.Choice, Stop: "session",
			Default: protocol.OfText("panel"),
			Choices: []protocol.Option{
				{Value: "engineering", Title: "engineering station"}, {Value: "panel", Title: "operator panel"},
				{Value: "other", Title: "other"},
			},
			Help:  "Controllers keep a number of connections for each kind.",
			Shows: "the device refuses the connection: those of this kind are taken",
		},
		number(KeySize, "Message size asked for", protocol.Asking, "octets", UsualSize, LeastSize, MostSize, "pace"),
		number(protocol.KeyWithin, "Answer within", protocol.Asking, "ms", 1000, 10, 60000, "pace"),
		number(protocol.KeyRetries, "Tries again", protocol.Asking, "", 1, 0, 10, "pace"),
		number(protocol.KeyRestAfter, "Rests after silent tries", protocol.Asking, "", 0, 0, 100, "pace"),
		number(protocol.KeyRestS, "Rests for", protocol.Asking, "s", 10, 1, 3600, "pace"),
		number(protocol.KeyThink, "Thinks for", protocol.Answering, "ms", 8, 0, 60000, "pace"),
		number(protocol.KeyCycle, "Answers once a cycle of", protocol.Answering, "ms", 0, 0, 10000, "pace"),
	}
}

// Selector is the called transport selector for a rack and a slot: what the
// connection is for, and rack × 32 + slot.
func Selector(kind string, rack, slot int) uint16 {
	first := map[string]uint16{"engineering": 1, "other": 3}[kind]
	if first == 0 {
		first = 2
	}
	return first<<8 | uint16(rack*32+slot)&0xFF
}

// IsSelector reports whether a selector is one of those that Selector makes.
func IsSelector(s uint16) bool { return s>>8 >= 1 && s>>8 <= 3 }

type rules struct{}

// MaxItems is how many ranges one message may ask for.
const MaxItems = 20

// Octets of a message: a header of 10 with a request and 12 with an answer, two
// of function and count, and for each range 12 in a request and 4 in an answer.
const (
	requestHead = 10 + 2
	answerHead  = 12 + 2
	itemOut     = 12
	itemIn      = 4
)

func size(s protocol.Settings) int { return Def.Int(s, KeySize) }

// MaxUnits: the answer to a range must fit into one message.
func (rules) MaxUnits(s protocol.Settings, _ string) int { return size(s) - answerHead - itemIn }

// Room is that of a message of the size asked for.
func (rules) Room(s protocol.Settings) block.Room { return RoomOf(size(s)) }

// RoomOf is what a message of so many octets holds.
func RoomOf(size int) block.Room {
	return block.Room{Ranges: MaxItems, Out: size - requestHead, In: size - answerHead, OutEach: itemOut,
		InEach: itemIn,
		Even:   true}
}

// around are the octets around a message: those of a TCP segment on Ethernet
// (preamble and start 8, header 14, IPv4 20, TCP 20, frame check 4, gap 12), 4
// of RFC 1006 and 3 of ISO 8073.
const (
	segment = 8 + 14 + 20 + 20 + 4 + 12
	around  = segment + 4 + 3
)

// ReadBytes counts those of one message and its answer.
func (rules) ReadBytes(ranges []block.Range) (out, in int) {
	out, in = segment+around+requestHead+itemOut*len(ranges), around+answerHead
	for i, r := range ranges {
		if in += itemIn + r.Count; i+1 < len(ranges) {
			in += r.Count % 2
		}
	}
	return out, in
}

func (rules) WriteBytes(_ string, units int) (out, in int) {
	return segment + around + requestHead + itemOut + itemIn + units, around + answerHead + 1
}

func (rules) Operation(ranges []block.Range) string {
	said := make([]string, 0, len(ranges))
	octets := 0
	for i, r := range ranges {
		if octets += r.Count; i < 2 || len(ranges) == 3 {
			said = append(said, fmt.Sprintf("%d @ %s", r.Count, block.At(r.Area, r.Start)))
		}
	}
	if more := len(ranges) - len(said); more > 0 {
		said = append(said, fmt.Sprintf("%d more, %d octets in all", more, octets))
	}
	return "read " + strings.Join(said, ", ")
}

func (rules) Function(string) string { return "04 read items" }

func (rules) WriteFunction(string, int) string { return "05 write items" }

// WritesBits: a bit is written alone, its neighbours are left as they are.
func (rules) WritesBits() bool { return true }

// Codes of one item.
const (
	Hardware   = 0x01
	Denied     = 0x03
	OutOfRange = 0x05
	NoSuchType = 0x06
	Unfitting  = 0x07
	NoObject   = 0x0A
	Done       = 0xFF
)

// CodeOf is the code of a message that is refused as a whole: the class and the
// code of its header.
func CodeOf(class, code byte) int { return int(class)<<8 | int(code) }

// Codes of a whole message.
const (
	NotPermitted = 0x8104
	TooLong      = 0x8500
	WrongState   = 0xD402
	Protected    = 0xD241
)

// Disconnected is the code of a connection that the far end refuses with a
// reason of ISO 8073, clause 13.5.3.
func Disconnected(reason byte) int { return 0x10000 | int(reason) }

// NoSession is the code of a connection after which setting up the session was
// not answered.
const NoSession = 0x20000

// HungUp is the code of a connection that the far end ended in place of setting up the
// session.
const HungUp = 0x20001

func (rules) Absent(code int) bool { return code == OutOfRange || code == NoObject }

// Divides: a range that runs past the end of its block is refused whole.
func (rules) Divides(code int) bool { return code == OutOfRange || code == TooLong }

var codes = map[int]protocol.Declined{
	Hardware: {
		Title: "hardware fault", Means: "The device could not reach what is addressed.",
		Causes: "A module is missing or broken: look at the device's own fault display.", Unsure: true,
	},
	Denied: {
		Access: []string{"layout", "remote"},
		Title:  "access denied", Means: "The device has the block and does not let it be read or written.",
		Causes: "It has no fixed layout, or the controller's protection level forbids it: give the block a fixed " +
			"layout, load it, " +
			"and compare the protection level.",
	},
	OutOfRange: {
		Title: "address out of range", Means: "The block is there and ends before what is addressed.",
		Causes: "The layout was changed since the list was made: compare the offsets with the program as it is loaded.",
	},
	NoSuchType: {
		Title: "type not supported", Means: "The device does not know the type that is asked for.",
		Causes: "Ask for bytes.",
	},
	Unfitting: {
		Title: "type does not fit", Means: "The type does not fit what is addressed.",
		Causes: "A whole byte is asked for where there are single bits, or the other way round.",
	},
	NoObject: {
		Access: []string{"layout"},
		Title:  "no such object", Means: "The device has no such block.",
		Causes: "Compare the block's number with the program, and whether it is loaded. A block without a fixed " +
			"layout is not " +
			"there either, as seen from here.",
	},
	NotPermitted: {
		Access: []string{"remote", "restart"}, Session: true,
		Title: "function not permitted", Means: "The device does not permit reading and writing from outside.",
		Causes: "Permit remote access in the properties of the controller, load it, and restart it if it " +
			"asks for that.",
	},
	TooLong: {
		Title: "message too long", Means: "The message is longer than was agreed.",
		Causes: "Ask for a smaller message size.",
	},
	WrongState: {
		Access: []string{"mode"},
		Title:  "not in this state", Means: "The device cannot do that in the state that it is in.",
		Causes: "Look whether it runs: a controller that is stopped refuses some requests.",
	},
	Protected: {
		Access: []string{"remote", "write"},
		Title:  "protection level", Means: "The controller's protection level forbids it.",
		Causes: "Lower its protection level for access by panels, or ask for values that may be read.",
	},
	HungUp: {
		Finding: "connection-dropped",
		Access:  []string{"remote", "restart"},
		Title:   "hung up in place of a session",
		Means:   "The device takes the connection and ends it in place of setting up the session.",
		Causes: "It serves no more connections, or the slot is another: close what else is connected to it, and compare " +
			"the slot at both ends.",
	},
	NoSession: {
		Finding: "no-answer",
		Access:  []string{"remote", "restart"},
		Title:   "session not set up",
		Means:   "The device takes the connection and does not answer to setting up the session.",
		Causes: "The slot is another: compact controllers sit in slot 0 or 1, modular ones in 2 or 3. Compare it at " +
			"both ends.",
	},
}

// Codes lists the codes that have a name.
func (rules) Codes() []int { return slices.Collect(maps.Keys(codes)) }

// Decline explains the code of an item, of a message or of a refused
// connection.
func (rules) Decline(code int) protocol.Declined {
	if d, ok := codes[code]; ok {
		return d
	}
	if code&0x10000 != 0 {
		return protocol.Declined{
			Title: fmt.Sprintf("connection refused, reason %d", code&0xFF),
			Means: "The device refuses the connection to that rack and slot.",
			Causes: "Compare rack and slot: compact controllers sit in slot 0 or 1, modular ones in 2 or 3. Perhaps " +
				"all connections " +
				"of this kind are taken.",
		}
	}
	title := fmt.Sprintf("code %02X", code)
	if code > 0xFF {
		title = fmt.Sprintf("class %02X, code %02X", code>>8, code&0xFF)
	}
	return protocol.Declined{Title: title, Means: "The device answers with a code that is not known.",
		Causes: "Look the code up in the device's own manual.", Unsure: true}
}
