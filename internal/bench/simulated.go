package bench

import (
	"encoding/binary"
	family "ferry/internal/core/family/modbus"
	"time"

	wire "ferry/internal/wire/modbus"
)

// simulated is a device without its connection: what it knows and answers.
type simulated struct {
	unit     byte
	identity string
	think    time.Duration
	memory   *memory
}

// answer returns the data unit of the honest answer to that of a request.
func (s *simulated) answer(pdu []byte) []byte {
	answer, code := s.carryOut(pdu)
	if code != 0 {
		return []byte{pdu[0] | 0x80, code}
	}
	return answer
}

func (s *simulated) carryOut(pdu []byte) (answer []byte, exception byte) {
	const illegalFunction, illegalAddress, illegalValue = 1, 2, 3
	switch pdu[0] {
	case wire.ReadCoils, wire.ReadDiscreteInputs, wire.ReadHoldingRegisters, wire.ReadInputRegisters:
		if len(pdu) != 5 {
			return nil, illegalValue
		}
		area := map[byte]string{1: family.Coils, 2: family.DiscreteInputs, 3: family.HoldingRegisters, 4: family.InputRegisters}[pdu[0]]
		start, count := binary.BigEndian.Uint16(pdu[1:]), int(binary.BigEndian.Uint16(pdu[3:]))
		most := 125
		if pdu[0] <= 2 {
			most = 2000
		}
		if count < 1 || count > most {
			return nil, illegalValue
		}
		data, ok := s.memory.read(area, int(start), count)
		if !ok {
			return nil, illegalAddress
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
		if !s.memory.write(area, int(binary.BigEndian.Uint16(pdu[1:])), data) {
			return nil, illegalAddress
		}
		return pdu[:5], 0
	case wire.EncapsulatedTransfer:
		if s.identity == "" {
			return nil, illegalFunction
		}
		return append([]byte{wire.EncapsulatedTransfer, 14, 1, 1, 0, 0, 1, 0, byte(len(s.identity))}, s.identity...), 0
	case wire.ReportServerID:
		if s.identity == "" {
			return nil, illegalFunction
		}
		return append(append([]byte{wire.ReportServerID, byte(len(s.identity) + 1)}, s.identity...), 0xFF), 0
	}
	return nil, illegalFunction
}
