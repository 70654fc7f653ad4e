package protocol

import (
	"fmt"

	"ferry/internal/core/address"
)

// The Modbus family: the Modbus Application Protocol Specification V1.1b3 over
// TCP (Modbus Messaging on TCP/IP Implementation Guide V1.0b) and over serial
// lines (Modbus over Serial Line Specification and Implementation Guide V1.02).
var (
	ModbusTCP = modbus(Def{
		Name: "modbus-tcp", Title: "Modbus TCP", Asker: "client", Answerer: "server", Medium: "ethernet", Usual: true, Turns: TurnsOfLink,
		Settings: append(append(modbusTCPPort(502), modbusSettings(0, 255, 500, 1, 0, 4)...),
			Setting{Key: "atOnce", Title: "Requests at once", End: Asking, Default: 1, Least: 1, Most: 16, Stop: "pace"}),
	}, func(pdu int) int { return ethernetAround + 7 + pdu }, ethernetAround)

	// ModbusRTUTCP is RTU frames in a TCP stream, as many serial servers pass
	// them on: all units behind one address share a connection.
	ModbusRTUTCP = modbus(Def{
		Name: "modbus-rtu-tcp", Title: "Modbus RTU over TCP", Asker: "client", Answerer: "server", Medium: "ethernet", Turns: TurnsOfAddress,
		Settings: append(modbusTCPPort(4001), modbusSettings(0, 247, 1000, 1, 3, 20)...),
	}, func(pdu int) int { return ethernetAround + 3 + pdu }, ethernetAround)

	// ModbusRTU is binary frames with a cyclic redundancy check, parted by
	// silence (guide clause 2.5.1).
	ModbusRTU = modbus(Def{
		Name: "modbus-rtu", Title: "Modbus RTU", Asker: "master", Answerer: "slave", Medium: "serial", Usual: true, Turns: TurnsOfLine, Silence: true,
		Settings: modbusSerialSettings(),
	}, func(pdu int) int { return 3 + pdu }, 0)

	// ModbusASCII writes each octet as two characters, between a colon and a
	// line end (guide clause 2.5.2).
	ModbusASCII = modbus(Def{
		Name: "modbus-ascii", Title: "Modbus ASCII", Asker: "master", Answerer: "slave", Medium: "serial", Turns: TurnsOfLine,
		Settings: modbusSerialSettings(),
	}, func(pdu int) int { return 1 + 2*(2+pdu) + 2 }, 0)
)

func init() {
	for _, d := range []*Def{ModbusTCP, ModbusRTUTCP, ModbusRTU, ModbusASCII} {
		Register(d)
	}
}

func modbusTCPPort(usual int) []Setting {
	return []Setting{{Key: "port", Title: "TCP port", End: BothEnds, Default: usual, Least: 1, Most: 65535, Stop: "address"}}
}

func modbusSerialSettings() []Setting {
	// The guide speaks of a second to several (clause 2.4.1).
	return append(modbusSettings(0, 247, 1000, 1, 3, 10),
		Setting{Key: "turnaroundMs", Title: "Waits after a broadcast", End: Asking, Unit: "ms", Default: 100, Least: 0, Most: 5000, Stop: "pace"})
}

// modbusSettings are those that all of the family have.
func modbusSettings(leastUnit, mostUnit, timeoutMs, retries, restAfter, thinkMs int) []Setting {
	return []Setting{
		{Key: "unit", Title: "Unit", End: BothEnds, Default: 1, Least: leastUnit, Most: mostUnit, Stop: "session"},
		{Key: "timeoutMs", Title: "Answer within", End: Asking, Unit: "ms", Default: timeoutMs, Least: 10, Most: 60000, Stop: "pace"},
		{Key: "retries", Title: "Tries again", End: Asking, Default: retries, Least: 0, Most: 10, Stop: "pace"},
		{Key: "restAfter", Title: "Rests after silent tries", End: Asking, Default: restAfter, Least: 0, Most: 100, Stop: "pace"},
		{Key: "restS", Title: "Rests for", End: Asking, Unit: "s", Default: 10, Least: 1, Most: 3600, Stop: "pace"},
		{Key: "thinkMs", Title: "Thinks for", End: Answering, Unit: "ms", Default: thinkMs, Least: 0, Most: 60000, Stop: "pace"},
		{Key: "cycleMs", Title: "Answers once a cycle of", End: Answering, Unit: "ms", Default: 0, Least: 0, Most: 10000, Stop: "pace"},
	}
}

// modbus completes a protocol of the family. frame gives the octets of a frame
// around a protocol data unit; acknowledge those of what the transport sends
// back for an answer (the acknowledgement of the request rides on the answer).
func modbus(d Def, frame func(pdu int) int, acknowledge int) *Def {
	d.Scheme = address.Modbus
	d.MaxUnits = modbusMaxUnits
	d.Function = modbusFunction
	d.BadAddress = 2 // illegal data address
	// Illegal address and illegal value are what the standard has for it (clause
	// 7); many devices fail (4) in their place.
	d.Divides = func(code int) bool { return code >= 2 && code <= 4 }
	d.Decline = modbusDeclined
	d.WireBytes = func(area string, units int) (out, in int) {
		return acknowledge + frame(5), frame(2 + modbusData(area, units))
	}
	d.WriteBytes = func(area string, units int) (out, in int) {
		if area == address.Coils || units == 1 {
			return acknowledge + frame(5), frame(5)
		}
		return acknowledge + frame(6+modbusData(area, units)), frame(5)
	}
	d.WriteFunction = func(area string, units int) string {
		switch {
		case area == address.Coils:
			return "05 write single coil"
		case units == 1:
			return "06 write single register"
		}
		return "16 write multiple registers"
	}
	d.Operation = func(area string, start uint32, units int) string {
		return fmt.Sprintf("read %d %s @ %s", units, modbusNoun[area], address.Modbus.Short(address.At(area, start)))
	}
	return &d
}

// modbusData counts the octets of data that units of an area take.
func modbusData(area string, units int) int {
	if area == address.Coils || area == address.DiscreteInputs {
		return (units + 7) / 8
	}
	return 2 * units
}

var modbusNoun = map[string]string{
	address.Coils: "coils", address.DiscreteInputs: "inputs",
	address.InputRegisters: "input", address.HoldingRegisters: "holding",
}

// modbusMaxUnits: clauses 6.1 and 6.2 allow 2000 bits, 6.3 and 6.4 allow 125
// registers in one request.
func modbusMaxUnits(area string) int {
	if area == address.Coils || area == address.DiscreteInputs {
		return 2000
	}
	return 125
}

func modbusFunction(area string) string {
	switch area {
	case address.Coils:
		return "01 read coils"
	case address.DiscreteInputs:
		return "02 read discrete inputs"
	case address.InputRegisters:
		return "04 read input registers"
	}
	return "03 read holding registers"
}

// Octets around a TCP segment on Ethernet: preamble and start 8, header 14,
// IPv4 20, TCP 20, frame check 4, gap between frames 12.
const ethernetAround = 8 + 14 + 20 + 20 + 4 + 12

// modbusExceptions are the exception codes of clause 7 of the application
// protocol specification, with what usually causes them in the field. Code 7
// comes from older editions and is still met.
var modbusExceptions = map[int]Declined{
	1:  {"illegal function", "The device does not know this function.", "It may keep the value in another table, or answer only function 3 or only 4. Look up in its manual which function reads this table.", false, false},
	2:  {"illegal data address", "The device has no such address.", "The address may be off by one, or the request runs past the end of the device's map or over a hole in it. Read the first and the last register alone.", false, false},
	3:  {"illegal data value", "The device does not accept the value or the length of the request.", "It may take fewer registers in one request than the protocol allows, or the value written is outside its range.", false, false},
	4:  {"server device failure", "The device failed while it carried out the request.", "Look at the device's own fault display, and restart it if it has none.", true, false},
	5:  {"acknowledge", "The device has accepted the request and needs long for it.", "Ask less often, and read its state before asking again.", true, false},
	6:  {"server device busy", "The device is busy with something longer.", "Slow the pace down: it is being asked faster than it can think, or another client keeps it busy.", false, false},
	7:  {"negative acknowledge", "The device cannot carry out this function now.", "A programming function was asked for, or the device is in a mode that forbids it. Check its run mode.", false, false},
	8:  {"memory parity error", "The device found its own memory damaged.", "Read again. If it stays, the device needs service.", true, false},
	9:  {"reserved code 9", "The device answers with a code that the standard does not define.", "Look the code up in the device's own manual.", true, false},
	10: {"gateway path unavailable", "The gateway has no way to the unit behind it.", "Check the unit number, and that the gateway's serial side is set up and not overloaded.", false, true},
	11: {"gateway target device failed to respond", "The gateway asked the unit behind it and got no answer.", "The unit is off, has another number or other serial settings: look at the wiring behind the gateway.", true, true},
}

func modbusDeclined(code int) Declined {
	if d, ok := modbusExceptions[code]; ok {
		return d
	}
	return Declined{fmt.Sprintf("exception %d", code), "The device answers with a code that the standard does not define.", "Look the code up in the device's own manual.", true, false}
}
