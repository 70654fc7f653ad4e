package modbus

import (
	"encoding/binary"

	family "ferry/internal/core/family/modbus"
)

// The exception codes of this package (application protocol specification,
// clause 7).
const (
	IllegalFunction  = 1
	IllegalAddress   = 2
	IllegalValue     = 3
	DeviceFailure    = 4
	TargetNotReached = 11 // gateway target device failed to respond
)

// Memory is what an answering end answers from. Units come in whole octets: a
// coil takes one, 0 or 1. An exception of 0 is that it went well.
type Memory interface {
	// Read appends units of an area to dst.
	Read(dst []byte, area string, start, count int) (data []byte, exception byte)
	// Change has units of an area changed, all of them or none.
	Change(area string, start, count int, change func(octets []byte)) (exception byte)
	// Identity is who the device says it is; empty where it does not tell.
	Identity() string
}

// mostRead and mostWritten bound the units of one request, by function code
// (application protocol specification, clause 6).
var (
	mostRead    = map[byte]int{1: 2000, 2: 2000, 3: 125, 4: 125, ReadWriteRegisters: 125}
	mostWritten = map[byte]int{WriteCoils: 1968, WriteRegisters: 123, ReadWriteRegisters: 121}
)

// AppendAnswer appends the data unit of the answer to that of a request, an
// exception where the request cannot be carried out. pdu has at least its
// function code.
func AppendAnswer(dst, pdu []byte, m Memory) []byte {
	start := len(dst)
	answer, exception := carryOut(dst, pdu, m)
	if exception != 0 {
		return append(dst[:start], pdu[0]|exceptionFlag, exception)
	}
	return answer
}

func carryOut(dst, pdu []byte, m Memory) (answer []byte, exception byte) {
	switch pdu[0] {
	case ReadCoils, ReadDiscreteInputs, ReadHoldingRegisters, ReadInputRegisters:
		if len(pdu) != 5 {
			return nil, IllegalValue
		}
		return appendRead(append(dst, pdu[0]), pdu[0], pdu[1:], m)
	case WriteSingleCoil, WriteSingleRegister:
		if len(pdu) != 5 || pdu[0] == WriteSingleCoil && (pdu[3] != 0 && pdu[3] != 0xFF || pdu[4] != 0) {
			return nil, IllegalValue
		}
		area, data := family.HoldingRegisters, pdu[3:5]
		if pdu[0] == WriteSingleCoil {
			area, data = family.Coils, []byte{pdu[3] & 1}
		}
		return append(dst, pdu...), m.Change(area, word(pdu[1:]), 1, func(octets []byte) { copy(octets, data) })
	case WriteCoils, WriteRegisters:
		if len(pdu) < 6 {
			return nil, IllegalValue
		}
		return append(dst, pdu[:5]...), change(pdu[0], pdu[1:], m)
	case MaskWriteRegister:
		if len(pdu) != 7 {
			return nil, IllegalValue
		}
		and, or := binary.BigEndian.Uint16(pdu[3:]), binary.BigEndian.Uint16(pdu[5:])
		return append(dst, pdu...), m.Change(family.HoldingRegisters, word(pdu[1:]), 1, func(octets []byte) {
			binary.BigEndian.PutUint16(octets, binary.BigEndian.Uint16(octets)&and|or&^and)
		})
	case ReadWriteRegisters:
		if len(pdu) < 10 {
			return nil, IllegalValue
		}
		// The write comes first, and is not carried out where the read will be refused;
		// what it writes may be what is read.
		_, exception := appendRead(nil, pdu[0], pdu[1:5], m)
		if exception != 0 && (exception != TargetNotReached || !overlap(pdu[1:5], pdu[5:9])) {
			return nil, exception
		}
		if exception := change(pdu[0], pdu[5:], m); exception != 0 {
			return nil, exception
		}
		return appendRead(append(dst, pdu[0]), pdu[0], pdu[1:5], m)
	case EncapsulatedTransfer:
		if len(pdu) != 4 || pdu[1] != 14 || m.Identity() == "" {
			return nil, IllegalFunction
		}
		if pdu[2] < 1 || pdu[2] > 4 {
			return nil, IllegalValue
		}
		if pdu[3] != 0 {
			return nil, IllegalAddress
		}
		who := m.Identity()
		who = who[:min(len(who), 240)]
		return append(append(dst, EncapsulatedTransfer, 14, pdu[2], 1, 0, 0, 1, 0, byte(len(who))), who...), 0
	case ReportServerID:
		who := m.Identity()
		if who == "" {
			return nil, IllegalFunction
		}
		who = who[:min(len(who), 240)]
		return append(append(append(dst, ReportServerID, byte(len(who)+1)), who...), 0xFF), 0
	}
	return nil, IllegalFunction
}

// overlap reports whether two runs, of a start and a count each, have a unit in
// common.
func overlap(a, b []byte) bool { return word(a) < word(b)+word(b[2:]) && word(b) < word(a)+word(a[2:]) }

func word(b []byte) int { return int(binary.BigEndian.Uint16(b)) }

// appendRead appends the count of octets and the octets of a read, whose run of
// units has its start and count at the head of at.
func appendRead(dst []byte, function byte, at []byte, m Memory) ([]byte, byte) {
	start, count := word(at), word(at[2:])
	if count < 1 || count > mostRead[function] {
		return nil, IllegalValue
	}
	if start+count > 1<<16 {
		return nil, IllegalAddress
	}
	area := areaOf(function)
	dst = append(dst, 0)
	from := len(dst)
	dst, exception := m.Read(dst, area, start, count)
	if exception != 0 {
		return nil, exception
	}
	if area == family.Coils || area == family.DiscreteInputs {
		dst = pack(dst, from)
	}
	dst[from-1] = byte(len(dst) - from)
	return dst, 0
}

// pack puts bits, one to an octet from a place on, eight to the octet.
func pack(dst []byte, from int) []byte {
	bits := dst[from:]
	for i, bit := range bits {
		if i%8 == 0 {
			dst[from+i/8] = bit & 1 // its own octet has been read
			continue
		}
		dst[from+i/8] |= (bit & 1) << (i % 8)
	}
	return dst[:from+(len(bits)+7)/8]
}

// change carries out a write of several units, whose start, count, count of
// octets and octets stand in at.
func change(function byte, at []byte, m Memory) (exception byte) {
	start, count, size, data := word(at), word(at[2:]), int(at[4]), at[5:]
	want := 2 * count
	if function == WriteCoils {
		want = (count + 7) / 8
	}
	if count < 1 || count > mostWritten[function] || size != want || len(data) != size {
		return IllegalValue
	}
	if start+count > 1<<16 {
		return IllegalAddress
	}
	if function != WriteCoils {
		return m.Change(family.HoldingRegisters, start, count, func(octets []byte) { copy(octets, data) })
	}
	return m.Change(family.Coils, start, count, func(octets []byte) {
		for i := range octets {
			octets[i] = data[i/8] >> (i % 8) & 1
		}
	})
}
