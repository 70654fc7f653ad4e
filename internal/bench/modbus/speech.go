// Package modbus is how simulated devices talk Modbus.
package modbus

import (
	"encoding/binary"

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
	}
	if s.framing == wire.TCP {
		kinds = append(kinds,
			bench.FaultKind{Kind: "transaction", Title: "answers for another transaction", Places: tcp})
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
	if fault.Kind == "transaction" {
		transaction += 7
	}
	frame := t.framing.AppendFrame(nil, transaction, number, spoil(fault, answer(t.device, pdu))...)
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
	frame := s.framing.AppendFrame(nil, 0, own, spoil(fault, answer(d, pdu))...)
	if fault.Kind == "garbage" {
		return bench.Garbage(len(frame))
	}
	return frame
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

// packed puts bits, one to an octet, eight to the octet.
func packed(bits []byte) []byte {
	data := make([]byte, (len(bits)+7)/8)
	for i, bit := range bits {
		data[i/8] |= (bit & 1) << (i % 8)
	}
	return data
}

// answer returns the data unit of the honest answer to that of a request.
func answer(s *bench.Simulated, pdu []byte) []byte {
	answer, code := carryOut(s, pdu)
	if code != 0 {
		return []byte{pdu[0] | 0x80, code}
	}
	return answer
}

func carryOut(s *bench.Simulated, pdu []byte) (answer []byte, exception byte) {
	const illegalFunction, illegalAddress, illegalValue = 1, 2, 3
	switch pdu[0] {
	case wire.ReadCoils, wire.ReadDiscreteInputs, wire.ReadHoldingRegisters, wire.ReadInputRegisters:
		if len(pdu) != 5 {
			return nil, illegalValue
		}
		area := map[byte]string{1: family.Coils, 2: family.DiscreteInputs, 3: family.HoldingRegisters,
			4: family.InputRegisters}[pdu[0]]
		start, count := binary.BigEndian.Uint16(pdu[1:]), int(binary.BigEndian.Uint16(pdu[3:]))
		most := 125
		if pdu[0] <= 2 {
			most = 2000
		}
		if count < 1 || count > most {
			return nil, illegalValue
		}
		data, ok := s.Memory.Read(area, int(start), count)
		if !ok {
			return nil, illegalAddress
		}
		if pdu[0] <= 2 {
			data = packed(data)
		}
		return append([]byte{pdu[0], byte(len(data))}, data...), 0
	case wire.WriteSingleCoil, wire.WriteSingleRegister, wire.WriteRegisters:
		if len(pdu) < 5 {
			return nil, illegalValue
		}
		area, data := family.HoldingRegisters, pdu[3:5]
		switch pdu[0] {
		case wire.WriteSingleCoil:
			area = family.Coils
			data = []byte{pdu[3] & 1}
		case wire.WriteRegisters:
			if len(pdu) < 6 || len(pdu) != 6+int(pdu[5]) || int(pdu[5]) != 2*int(binary.BigEndian.Uint16(pdu[3:])) {
				return nil, illegalValue
			}
			data = pdu[6:]
		}
		if !s.Memory.Write(area, int(binary.BigEndian.Uint16(pdu[1:])), data) {
			return nil, illegalAddress
		}
		return pdu[:5], 0
	case wire.EncapsulatedTransfer:
		if s.Identity == "" {
			return nil, illegalFunction
		}
		return append([]byte{wire.EncapsulatedTransfer, 14, 1, 1, 0, 0, 1, 0, byte(len(s.Identity))}, s.Identity...), 0
	case wire.ReportServerID:
		if s.Identity == "" {
			return nil, illegalFunction
		}
		return append(append([]byte{wire.ReportServerID, byte(len(s.Identity) + 1)}, s.Identity...), 0xFF), 0
	}
	return nil, illegalFunction
}
