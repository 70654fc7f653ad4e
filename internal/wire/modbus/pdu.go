// Package modbus turns Modbus frames into meaning and back, over TCP, as RTU
// and as ASCII. Its readers are tolerant: what is broken is reported with its
// place, not thrown away.
//
// What all of the family carry is a protocol data unit (application protocol
// specification V1.1b3, clause 4): a function code, to which 0x80 is added in
// an exception, and the data of the function. A Framing puts it on the wire.
// All numbers are big-endian.
package modbus

import (
	"encoding/binary"
	"fmt"

	family "ferry/internal/core/family/modbus"
)

// The function codes of this package (application protocol specification,
// clause 6).
const (
	ReadCoils            = 1
	ReadDiscreteInputs   = 2
	ReadHoldingRegisters = 3
	ReadInputRegisters   = 4
	WriteSingleCoil      = 5
	WriteSingleRegister  = 6
	WriteCoils           = 15
	WriteRegisters       = 16
	ReportServerID       = 17
	MaskWriteRegister    = 22
	ReadWriteRegisters   = 23
	EncapsulatedTransfer = 43 // with MEI type 14: read device identification
)

// exceptionFlag is added to the function code of an exception.
const exceptionFlag = 0x80

// ReadFunction returns the function code that reads an area.
func ReadFunction(area string) byte {
	switch area {
	case family.Coils:
		return ReadCoils
	case family.DiscreteInputs:
		return ReadDiscreteInputs
	case family.InputRegisters:
		return ReadInputRegisters
	}
	return ReadHoldingRegisters
}

// ReadPDU appends a request for count units of an area from start on.
func ReadPDU(dst []byte, area string, start uint16, count int) []byte {
	return append(dst, ReadFunction(area), byte(start>>8), byte(start), byte(count>>8), byte(count))
}

// WriteCoilPDU appends a request to set a coil.
func WriteCoilPDU(dst []byte, at uint16, on bool) []byte {
	state := byte(0)
	if on {
		state = 0xFF
	}
	return append(dst, WriteSingleCoil, byte(at>>8), byte(at), state, 0)
}

// WriteRegistersPDU appends a request to write whole registers: function 6 for
// one, 16 for more. len(data) must be even, 2 to 246.
func WriteRegistersPDU(dst []byte, start uint16, data []byte) []byte {
	if len(data) == 2 {
		return append(dst, WriteSingleRegister, byte(start>>8), byte(start), data[0], data[1])
	}
	count := len(data) / 2
	dst = append(dst, WriteRegisters, byte(start>>8), byte(start), byte(count>>8), byte(count), byte(len(data)))
	return append(dst, data...)
}

// IdentifyPDU appends a request for the basic device identification: function
// 43, MEI type 14, read device ID code 1, from object 0 on (application
// protocol specification, clause 6.21).
func IdentifyPDU(dst []byte) []byte { return append(dst, EncapsulatedTransfer, 14, 1, 0) }

// ReportIDPDU appends a request for the server id (function 17).
func ReportIDPDU(dst []byte) []byte { return append(dst, ReportServerID) }

// Broken says what makes a frame invalid, and where in it.
type Broken struct {
	From, To int    // octets of the frame; To is exclusive
	What     string // as a clause: "the length field says 3 octets follow and 5 do"
}

func (b *Broken) Error() string { return b.What }

// Answer is what a checked answer says.
type Answer struct {
	// Declined is set in an exception; Exception is its code then. The standard
	// has no code 0, and there are devices that send it.
	Declined  bool
	Exception int
	// Data is the data of a read, or of an identification.
	Data []byte
}

// checkPDU compares the data unit of an answer with that of its request. The
// places of an error count from the function code.
func checkPDU(asked, got []byte) (Answer, *Broken) {
	if len(asked) == 0 || len(got) == 0 {
		return Answer{}, &Broken{0, len(got), fmt.Sprintf("%d octets are too few for an answer", len(got))}
	}
	if got[0] == asked[0]|exceptionFlag {
		if len(got) != 2 {
			return Answer{}, &Broken{1, len(got),
				fmt.Sprintf("an exception has one octet of code and this has %d", len(got)-1)}
		}
		return Answer{Declined: true, Exception: int(got[1])}, nil
	}
	if got[0] != asked[0] {
		return Answer{}, &Broken{0, 1, fmt.Sprintf("function %d answers and function %d was asked", got[0], asked[0])}
	}
	body := got[1:]
	switch got[0] {
	case ReadCoils, ReadDiscreteInputs, ReadHoldingRegisters, ReadInputRegisters:
		if len(asked) < 5 {
			return Answer{}, &Broken{0, len(got), "the request is cut short, so the answer cannot be judged"}
		}
		want := 2 * int(binary.BigEndian.Uint16(asked[3:]))
		if got[0] <= ReadDiscreteInputs {
			want = (want/2 + 7) / 8
		}
		if len(body) < 1 || int(body[0]) != want || len(body)-1 != want {
			says := 0
			if len(body) > 0 {
				says = int(body[0])
			}
			return Answer{}, &Broken{1, len(got),
				fmt.Sprintf("%d octets of data were asked for; it announces %d and brings %d", want, says,
					max(len(body)-1, 0))}
		}
		return Answer{Data: body[1:]}, nil
	case WriteSingleCoil, WriteSingleRegister, WriteRegisters:
		if len(body) != 4 || len(asked) < 5 || string(body) != string(asked[1:5]) {
			return Answer{}, &Broken{1, len(got),
				"the answer to a write must echo its address and value, and this does not"}
		}
	}
	return Answer{Data: body}, nil
}

// answerLen returns the length of the data unit that starts with b and answers
// the function asked, or 0 if b does not tell yet.
func answerLen(b []byte) int {
	if len(b) == 0 {
		return 0
	}
	switch {
	case b[0]&exceptionFlag != 0:
		return 2
	case b[0] >= ReadCoils && b[0] <= ReadInputRegisters, b[0] == ReportServerID:
		if len(b) > 1 {
			return 2 + int(b[1])
		}
	case b[0] == WriteSingleCoil, b[0] == WriteSingleRegister, b[0] == WriteRegisters:
		return 5
	case b[0] == EncapsulatedTransfer:
		if len(b) < 7 {
			return 0
		}
		n := 7
		for range int(b[6]) {
			if len(b) < n+2 {
				return 0
			}
			n += 2 + int(b[n+1])
		}
		return n
	}
	return 0
}

// requestLen is answerLen for requests.
func requestLen(b []byte) int {
	if len(b) == 0 {
		return 0
	}
	switch b[0] {
	case ReadCoils, ReadDiscreteInputs, ReadHoldingRegisters, ReadInputRegisters, WriteSingleCoil, WriteSingleRegister:
		return 5
	case WriteRegisters, WriteCoils:
		if len(b) > 5 {
			return 6 + int(b[5])
		}
	case MaskWriteRegister:
		return 7
	case ReadWriteRegisters:
		if len(b) > 9 {
			return 10 + int(b[9])
		}
	case ReportServerID:
		return 1
	case EncapsulatedTransfer:
		return 4
	}
	return 0
}
