// Package modbus is the rules of the Modbus family: its tables and their
// notations, its settings, limits and costs, and its exception codes in words.
package modbus

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
)

// The protocols of the family: the Modbus Application Protocol Specification
// V1.1b3 over TCP (Modbus Messaging on TCP/IP Implementation Guide V1.0b) and
// over serial lines (Modbus over Serial Line Specification and Implementation
// Guide V1.02).
var (
	TCP = define(protocol.Def{
		Name: "modbus-tcp", Title: "Modbus TCP", Asker: "client", Answerer: "server", Medium: "ethernet", Usual: true,
		Turns: protocol.TurnsOfLink,
		Settings: append(append(port(502), settings(0, 255, 500, 1, 0, 4)...), protocol.Setting{
			Key: protocol.KeyAtOnce, Title: "Requests at once", End: protocol.Asking, Default: protocol.OfInt(1),
			Least: 1, Most: 16, Stop: "pace",
			Help: "How many questions may be under way before the first is answered. Many devices bear but one.",
		}),
	}, rules{frame: func(pdu int) int { return ethernetAround + 7 + pdu }, acknowledge: ethernetAround})

	// RTUTCP is RTU frames in a TCP stream, as many serial servers pass them on:
	// all units behind one address share a connection.
	RTUTCP = define(protocol.Def{
		Name: "modbus-rtu-tcp", Title: "Modbus RTU over TCP", Asker: "client", Answerer: "server", Medium: "ethernet",
		Turns:    protocol.TurnsOfAddress,
		Settings: append(port(4001), settings(0, 247, 1000, 1, 3, 20)...),
	}, rules{frame: func(pdu int) int { return ethernetAround + 3 + pdu }, acknowledge: ethernetAround})

	// RTU is binary frames with a cyclic redundancy check, parted by silence
	// (guide clause 2.5.1).
	RTU = define(protocol.Def{
		Name: "modbus-rtu", Title: "Modbus RTU", Asker: "master", Answerer: "slave", Medium: "serial", Usual: true,
		Turns: protocol.TurnsOfLine, Settings: serialSettings(),
	}, rules{frame: func(pdu int) int { return 3 + pdu }, silence: true})

	// ASCII writes each octet as two characters, between a colon and a line end
	// (guide clause 2.5.2).
	ASCII = define(protocol.Def{
		Name: "modbus-ascii", Title: "Modbus ASCII", Asker: "master", Answerer: "slave", Medium: "serial",
		Turns: protocol.TurnsOfLine, Settings: serialSettings(),
	}, rules{frame: func(pdu int) int { return 1 + 2*(2+pdu) + 2 }})
)

func init() {
	for _, d := range []*protocol.Def{TCP, RTUTCP, RTU, ASCII} {
		protocol.Register(d)
	}
}

// KeyUnit is the key of the unit number, KeyTurnaround that of the time that is
// waited after a broadcast.
const (
	KeyUnit       = "unit"
	KeyTurnaround = "turnaroundMs"
)

func port(usual int) []protocol.Setting {
	return []protocol.Setting{{
		Key: protocol.KeyPort, Title: "TCP port", End: protocol.BothEnds, Default: protocol.OfInt(usual),
		Least: 1, Most: 65535, Stop: "address",
		Shows: "the connection is refused",
	}}
}

func serialSettings() []protocol.Setting {
	// The guide speaks of a second to several (clause 2.4.1).
	return append(settings(0, 247, 1000, 1, 3, 10), protocol.Setting{
		Key: KeyTurnaround, Title: "Waits after a broadcast", End: protocol.Asking, Unit: "ms",
		Default: protocol.OfInt(100), Least: 0, Most: 5000, Stop: "pace",
	})
}

// settings are those that all of the family have.
func settings(leastUnit, mostUnit, timeoutMs, retries, restAfter, thinkMs int) []protocol.Setting {
	number := func(key, title string, end protocol.End, unit string, usual, least, most int) protocol.Setting {
		return protocol.Setting{Key: key, Title: title, End: end, Unit: unit, Default: protocol.OfInt(usual),
			Least: least, Most: most, Stop: "pace"}
	}
	unit := number(KeyUnit, "Unit", protocol.BothEnds, "", 1, leastUnit, mostUnit)
	unit.Stop, unit.Shows = "session", "the device stays silent, or another answers"
	return []protocol.Setting{
		unit,
		number(protocol.KeyWithin, "Answer within", protocol.Asking, "ms", timeoutMs, 10, 60000),
		number(protocol.KeyRetries, "Tries again", protocol.Asking, "", retries, 0, 10),
		number(protocol.KeyRestAfter, "Rests after silent tries", protocol.Asking, "", restAfter, 0, 100),
		number(protocol.KeyRestS, "Rests for", protocol.Asking, "s", 10, 1, 3600),
		number(protocol.KeyThink, "Thinks for", protocol.Answering, "ms", thinkMs, 0, 60000),
		number(protocol.KeyCycle, "Answers once a cycle of", protocol.Answering, "ms", 0, 0, 10000),
	}
}

// define completes a protocol of the family.
func define(d protocol.Def, r rules) *protocol.Def {
	d.Scheme, d.Rules, d.Station, d.Vocabulary, d.Example = Scheme, r, KeyUnit, vocabulary, "40001"
	return &d
}

// rules are what a protocol of the family is able to do.
type rules struct {
	// frame gives the octets of a frame around a protocol data unit.
	frame func(pdu int) int
	// acknowledge are those of what the transport sends back for an answer; the
	// acknowledgement of the request rides on the answer.
	acknowledge int
	silence     bool
}

func (r rules) SilenceMs(f serial.Format) float64 {
	if r.silence {
		return SilenceMs(f)
	}
	return 0
}

// ToAll: unit 0 is every unit of a serial line at once (guide, clause 2.2). Over
// TCP it is a number like any other.
func (r rules) ToAll(s protocol.Settings) bool {
	return r.acknowledge == 0 && s[KeyUnit] == protocol.OfInt(0)
}

// MaxUnits: clauses 6.1 and 6.2 allow 2000 bits, 6.3 and 6.4 allow 125
// registers in one request.
func (rules) MaxUnits(_ protocol.Settings, area string) int {
	if area == Coils || area == DiscreteInputs {
		return 2000
	}
	return 125
}

// ReadBytes: a request asks for one range.
func (r rules) ReadBytes(ranges []block.Range) (out, in int) {
	for _, each := range ranges {
		out += r.acknowledge + r.frame(5)
		in += r.frame(2 + dataOctets(each.Area, each.Count))
	}
	return out, in
}

func (r rules) WriteBytes(area string, units int) (out, in int) {
	if area == Coils || units == 1 {
		return r.acknowledge + r.frame(5), r.frame(5)
	}
	return r.acknowledge + r.frame(6+dataOctets(area, units)), r.frame(5)
}

func (rules) Operation(ranges []block.Range) string {
	said := make([]string, len(ranges))
	for i, r := range ranges {
		said[i] = fmt.Sprintf("read %d %s @ %s", r.Count, nouns[r.Area], Scheme.Short(block.At(r.Area, r.Start)))
	}
	return strings.Join(said, ", ")
}

func (rules) Function(area string) string {
	switch area {
	case Coils:
		return "01 read coils"
	case DiscreteInputs:
		return "02 read discrete inputs"
	case InputRegisters:
		return "04 read input registers"
	}
	return "03 read holding registers"
}

func (rules) WriteFunction(area string, units int) string {
	switch {
	case area == Coils:
		return "05 write single coil"
	case units == 1:
		return "06 write single register"
	}
	return "16 write multiple registers"
}

// Alike: the tables of the same width, which lists confuse.
func (rules) Alike(area string) (others []string) {
	own, _ := Scheme.Area(area)
	for _, t := range tables {
		if t.Key != area && t.UnitBits == own.UnitBits {
			others = append(others, t.Key)
		}
	}
	return others
}

// Absent: illegal data address.
func (rules) Absent(code int) bool { return code == 2 }

// Divides: illegal address and illegal value are what the standard has for it
// (clause 7); many devices fail (4) in their place.
func (rules) Divides(code int) bool { return code >= 2 && code <= 4 }

// dataOctets counts the octets of data that units of an area take.
func dataOctets(area string, units int) int {
	if area == Coils || area == DiscreteInputs {
		return (units + 7) / 8
	}
	return 2 * units
}

var nouns = map[string]string{
	Coils: "coils", DiscreteInputs: "inputs", InputRegisters: "input", HoldingRegisters: "holding",
}

// Octets around a TCP segment on Ethernet: preamble and start 8, header 14,
// IPv4 20, TCP 20, frame check 4, gap between frames 12.
const ethernetAround = 8 + 14 + 20 + 20 + 4 + 12

// exceptions are the exception codes of clause 7 of the application
// protocol specification, with what usually causes them in the field. Code 7
// comes from older editions and is still met.
var exceptions = map[int]protocol.Declined{
	1: {
		Title:   "illegal function",
		Finding: "exception-function",
		Means:   "The device does not know this function.",
		Causes: "It may keep the value in another table, or answer only function 3 or only 4. Look up in " +
			"its manual which function reads this table.",
	},
	2: {
		Title:   "illegal data address",
		Finding: "exception-address",
		Means:   "The device has no such address.",
		Causes: "The address may be off by one, or the request runs past the end of the device's map or " +
			"over a hole in it. Read the first and the last register alone.",
	},
	3: {
		Title:   "illegal data value",
		Finding: "exception-value",
		Means:   "The device does not accept the value or the length of the request.",
		Causes: "It may take fewer registers in one request than the protocol allows, or the value " +
			"written is outside its range.",
	},
	4: {
		Title:   "server device failure",
		Finding: "exception-device",
		Means:   "The device failed while it carried out the request.",
		Causes:  "Look at the device's own fault display, and restart it if it has none.",
		Unsure:  true,
	},
	5: {
		Title:   "acknowledge",
		Finding: "busy",
		Means:   "The device has accepted the request and needs long for it.",
		Causes:  "Ask less often, and read its state before asking again.",
		Unsure:  true,
	},
	6: {
		Title:   "server device busy",
		Finding: "busy",
		Means:   "The device is busy with something longer.",
		Causes: "Slow the pace down: it is being asked faster than it can think, or another client keeps " +
			"it busy.",
	},
	7: {
		Title:   "negative acknowledge",
		Finding: "exception-device",
		Means:   "The device cannot carry out this function now.",
		Causes: "A programming function was asked for, or the device is in a mode that forbids it. Check " +
			"its run mode.",
	},
	8: {
		Title:   "memory parity error",
		Finding: "exception-device",
		Means:   "The device found its own memory damaged.",
		Causes:  "Read again. If it stays, the device needs service.",
		Unsure:  true,
	},
	9: {
		Title:  "reserved code 9",
		Means:  "The device answers with a code that the standard does not define.",
		Causes: "Look the code up in the device's own manual.",
		Unsure: true,
	},
	10: {
		Title:   "gateway path unavailable",
		Finding: "gateway-path",
		Means:   "The gateway has no way to the unit behind it.",
		Causes:  "Check the unit number, and that the gateway's serial side is set up and not overloaded.",
		Beyond:  true,
	},
	11: {
		Title:   "gateway target device failed to respond",
		Finding: "gateway-target-silent",
		Means:   "The gateway asked the unit behind it and got no answer.",
		Causes: "The unit is off, has another number or other serial settings: look at the wiring behind " +
			"the gateway.",
		Unsure: true,
		Beyond: true,
	},
}

// Codes lists the exception codes that have a name.
func (rules) Codes() []int { return slices.Collect(maps.Keys(exceptions)) }

// Decline explains an exception code.
func (rules) Decline(code int) protocol.Declined {
	if d, ok := exceptions[code]; ok {
		return d
	}
	return protocol.Declined{
		Title: fmt.Sprintf("exception %d", code), Unsure: true,
		Means:  "The device answers with a code that the standard does not define.",
		Causes: "Look the code up in the device's own manual.",
	}
}
