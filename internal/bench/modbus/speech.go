// Package modbus is how simulated devices talk Modbus.
package modbus

import (
	"ferry/internal/bench"
	family "ferry/internal/core/family/modbus"
	"ferry/internal/core/protocol"
	wire "ferry/internal/wire/modbus"
)

func init() {
	for def, framing := range map[*protocol.Def]wire.Framing{
		family.TCP: wire.TCP, family.RTUTCP: wire.RTU, family.RTU: wire.RTU, family.ASCII: wire.ASCII,
	} {
		bench.Register(def.Name, speech{framing})
	}
}

type speech struct{ framing wire.Framing }

func (s speech) Faults() []bench.FaultKind {
	tcp, device := []bench.Place{bench.OverTCP}, []bench.Place{bench.OverTCP, bench.OverSerial}
	kinds := []bench.FaultKind{
		{Kind: "exception", Title: "answers with an exception", Unit: "code", Default: 2, Least: 1, Most: 255,
			Places: device},
		{Kind: "number", Title: "answers under another number", Unit: "unit", Default: 99, Least: 1, Most: 247,
			Places: device[1:]},
		{Kind: "fewer", Title: "gives fewer registers at once", Unit: "registers", Default: 16, Least: 1, Most: 125,
			Places: device, Habit: true},
		{Kind: "hole", Title: "has holes between the values of its map", Places: device, Habit: true},
		{Kind: "silent-unknown", Title: "is silent on functions that it does not know", Places: device, Habit: true},
	}
	if s.framing == wire.TCP || s.framing == wire.RTU {
		// Over connections without a session of their own a device may end them as it likes.
		kinds = append(kinds,
			bench.FaultKind{Kind: "hangs-up", Title: "hangs up after each answer", Places: tcp, Habit: true})
	}
	if s.framing == wire.TCP {
		kinds = append(kinds,
			bench.FaultKind{Kind: "transaction", Title: "answers for another transaction", Places: tcp},
			bench.FaultKind{Kind: "odd-unit", Title: "answers under a unit of its own", Unit: "unit", Default: 255, Most: 255,
				Places: tcp, Habit: true},
			bench.FaultKind{Kind: "no-transaction", Title: "answers without a transaction", Places: tcp, Habit: true})
	}
	return kinds
}

func (s speech) Talk(of *bench.Simulated) bench.Talk { return &talk{s.framing, of} }

type talk struct {
	framing wire.Framing
	device  *bench.Simulated
}

func (t *talk) Length(came []byte) (int, error) {
	size, err := t.framing.RequestLen(came)
	if size > len(came) {
		size = 0
	}
	return size, err
}

func (t *talk) Answer(request []byte, fault bench.Fault, turn int) (out []byte, ends bool) {
	transaction := uint16(0)
	if t.framing == wire.TCP {
		transaction = wire.Transaction(request)
	}
	number, pdu, err := t.framing.Open(request)
	if err != nil || len(pdu) == 0 {
		return nil, true
	}
	if number != unit(t.device) {
		return nil, false // not its own unit: silence
	}
	switch fault.Kind {
	case "transaction":
		transaction += 7
	case "no-transaction":
		transaction = 0
	case "odd-unit":
		number = byte(fault.Value)
	}
	told := oddly(fault, t.device, pdu)
	if told == nil {
		return nil, false
	}
	frame := t.framing.AppendFrame(nil, transaction, number, spoil(fault, told)...)
	if fault.Kind == "garbage" {
		return bench.Garbage(len(frame)), false
	}
	return frame, false
}

// Hears answers what is for its unit; what is for all, unit 0, is carried out
// and not answered.
func (s speech) Hears(d *bench.Simulated, heard []byte, fault bench.Fault) []byte {
	number, pdu, err := s.framing.Open(heard)
	if err != nil || len(pdu) == 0 {
		return nil
	}
	if number == 0 {
		answer(d, pdu)
		return nil
	}
	own := unit(d)
	if number != own {
		return nil
	}
	if fault.Kind == "number" {
		own = byte(fault.Value)
	}
	told := oddly(fault, d, pdu)
	if told == nil {
		return nil
	}
	frame := s.framing.AppendFrame(nil, 0, own, spoil(fault, told)...)
	if fault.Kind == "garbage" {
		return bench.Garbage(len(frame))
	}
	return frame
}

// Questions read the beginning of each area that the device has.
func (s speech) Questions(of *bench.Simulated) (list [][]byte) {
	for i, area := range []string{family.HoldingRegisters, family.InputRegisters, family.Coils, family.DiscreteInputs} {
		for n := 8; n > 0; n /= 2 {
			if _, ok := of.Memory.Read(area, 0, n); ok {
				list = append(list, s.framing.AppendFrame(nil, uint16(100+i), unit(of), wire.ReadPDU(nil, area, 0, n)...))
				break
			}
		}
	}
	return list
}

func unit(d *bench.Simulated) byte { return byte(d.Def.Int(d.Settings, family.KeyUnit)) }

// spoil applies a fault to the data unit of an answer.
func spoil(fault bench.Fault, pdu []byte) []byte {
	switch fault.Kind {
	case "exception":
		return []byte{pdu[0] | 0x80, byte(fault.Value)}
	case "short":
		return pdu[:max(1, len(pdu)-2)]
	case "long":
		return append(pdu, 0xDE, 0xAD)
	}
	return pdu
}

// oddly is the data unit of the answer of a device that is well and has a habit; nil for
// silence.
func oddly(habit bench.Fault, d *bench.Simulated, pdu []byte) []byte {
	decline := func(code byte) []byte { return []byte{pdu[0] | 0x80, code} }
	switch habit.Kind {
	case "fewer":
		if _, _, count, ok := asked(pdu); ok && count > habit.Value {
			return decline(wire.IllegalValue)
		}
	case "hole":
		if area, from, count, ok := asked(pdu); ok {
			if d.Memory.Touches(area, from, count) {
				return decline(wire.IllegalAddress)
			}
		}
	case "silent-unknown":
		if pdu[0] > wire.WriteSingleRegister && pdu[0] != wire.WriteCoils && pdu[0] != wire.WriteRegisters {
			return nil // as who it is
		}
	}
	return answer(d, pdu)
}

// asked is what a read asks for: units of an area.
func asked(pdu []byte) (area string, from, count int, ok bool) {
	if len(pdu) != 5 {
		return "", 0, 0, false
	}
	area, ok = map[byte]string{wire.ReadHoldingRegisters: family.HoldingRegisters,
		wire.ReadInputRegisters: family.InputRegisters}[pdu[0]]
	return area, int(pdu[1])<<8 | int(pdu[2]), int(pdu[3])<<8 | int(pdu[4]), ok
}

// answer returns the data unit of the honest answer to that of a request.
func answer(s *bench.Simulated, pdu []byte) []byte {
	switch pdu[0] {
	case wire.WriteCoils, wire.MaskWriteRegister, wire.ReadWriteRegisters: // as with most small devices
		return []byte{pdu[0] | 0x80, wire.IllegalFunction}
	}
	return wire.AppendAnswer(nil, pdu, memory{s})
}

// memory is that of a simulated device, as a server answers from it.
type memory struct{ of *bench.Simulated }

func (m memory) Read(dst []byte, area string, start, count int) ([]byte, byte) {
	data, ok := m.of.Memory.Read(area, start, count)
	if !ok {
		return dst, wire.IllegalAddress
	}
	return append(dst, data...), 0
}

func (m memory) Change(area string, start, count int, change func([]byte)) byte {
	octets := 2 * count
	if area == family.Coils {
		octets = count
	}
	if !m.of.Memory.Change(area, start, octets, change) {
		return wire.IllegalAddress
	}
	return 0
}

func (m memory) Identity() string { return m.of.Identity }
