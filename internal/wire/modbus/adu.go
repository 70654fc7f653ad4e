// Package modbus turns Modbus TCP frames into meaning and back. Its readers
// are tolerant: what is broken is reported with its place, not thrown away.
//
// A frame (application data unit, Modbus Messaging on TCP/IP Implementation
// Guide V1.0b, clause 3.1.3) is
//
//	octets 0-1  transaction identifier, echoed by the server
//	octets 2-3  protocol identifier, 0
//	octets 4-5  length of what follows, unit included: 2 to 254
//	octet  6    unit identifier
//	octet  7    function code; 0x80 is added to it in an exception
//	octets 8-   data of the function
//
// All numbers are big-endian.
package modbus

import (
	"encoding/binary"
	"fmt"

	"ferry/internal/core/address"
)

// Sizes of a frame in octets.
const (
	HeaderLen = 7
	MaxADU    = 260 // 7 + 253, implementation guide clause 3.1.2
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
	WriteRegisters       = 16
	ReportServerID       = 17
	EncapsulatedTransfer = 43 // with MEI type 14: read device identification
)

// exceptionFlag is added to the function code of an exception.
const exceptionFlag = 0x80

// ReadFunction returns the function code that reads an area.
func ReadFunction(area string) byte {
	switch area {
	case address.Coils:
		return ReadCoils
	case address.DiscreteInputs:
		return ReadDiscreteInputs
	case address.InputRegisters:
		return ReadInputRegisters
	}
	return ReadHoldingRegisters
}

// AppendFrame appends a frame around a protocol data unit.
func AppendFrame(dst []byte, transaction uint16, unit byte, pdu ...byte) []byte {
	dst = binary.BigEndian.AppendUint16(dst, transaction)
	dst = append(dst, 0, 0)
	dst = binary.BigEndian.AppendUint16(dst, uint16(len(pdu)+1))
	dst = append(dst, unit)
	return append(dst, pdu...)
}

// AppendRead appends a request for count units of an area from start on.
func AppendRead(dst []byte, transaction uint16, unit byte, area string, start uint16, count int) []byte {
	return AppendFrame(dst, transaction, unit, ReadFunction(area), byte(start>>8), byte(start), byte(count>>8), byte(count))
}

// AppendWriteCoil appends a request to set a coil.
func AppendWriteCoil(dst []byte, transaction uint16, unit byte, at uint16, on bool) []byte {
	state := byte(0)
	if on {
		state = 0xFF
	}
	return AppendFrame(dst, transaction, unit, WriteSingleCoil, byte(at>>8), byte(at), state, 0)
}

// AppendWriteRegisters appends a request to write whole registers: function 6
// for one, 16 for more. len(data) must be even, 2 to 246.
func AppendWriteRegisters(dst []byte, transaction uint16, unit byte, start uint16, data []byte) []byte {
	if len(data) == 2 {
		return AppendFrame(dst, transaction, unit, WriteSingleRegister, byte(start>>8), byte(start), data[0], data[1])
	}
	count := len(data) / 2
	pdu := append([]byte{WriteRegisters, byte(start >> 8), byte(start), byte(count >> 8), byte(count), byte(len(data))}, data...)
	return AppendFrame(dst, transaction, unit, pdu...)
}

// Broken says what makes a frame invalid, and where in it.
type Broken struct {
	From, To int    // octets of the frame; To is exclusive
	What     string // as a clause: "the length field says 3 octets follow and 5 do"
}

func (b *Broken) Error() string { return b.What }

// FrameLen returns the length of the frame that starts with b, or 0 if b is
// too short to tell. It fails if b cannot be the start of a frame: what
// follows on the stream then has no known beginning.
func FrameLen(b []byte) (int, error) {
	if len(b) >= 4 && (b[2] != 0 || b[3] != 0) {
		return 0, &Broken{2, 4, fmt.Sprintf("the protocol identifier is %d where Modbus has 0", binary.BigEndian.Uint16(b[2:]))}
	}
	if len(b) < 6 {
		return 0, nil
	}
	length := int(binary.BigEndian.Uint16(b[4:]))
	if length < 2 || length > MaxADU-6 {
		return 0, &Broken{4, 6, fmt.Sprintf("the length field says %d octets, and a frame has 2 to 254", length)}
	}
	return 6 + length, nil
}

// Transaction returns the transaction identifier of a frame of at least two
// octets.
func Transaction(frame []byte) uint16 { return binary.BigEndian.Uint16(frame) }

// Answer is what a checked answer says.
type Answer struct {
	// Exception is the exception code, 0 for a normal answer.
	Exception int
	// Data is the data of a read, or of an identification, inside the frame.
	Data []byte
}

// Check compares a whole answer with its request and returns what it says.
// A *Broken error means that it is no valid answer to that request, and that
// none of its data may be used.
func Check(request, answer []byte) (Answer, error) {
	n, err := FrameLen(answer)
	if err != nil {
		return Answer{}, err
	}
	if len(request) < HeaderLen+1 || n == 0 || len(answer) < HeaderLen+1 {
		return Answer{}, &Broken{0, len(answer), fmt.Sprintf("%d octets are too few for an answer", len(answer))}
	}
	if n != len(answer) {
		return Answer{}, &Broken{4, 6, fmt.Sprintf("the length field says %d octets follow and %d do", n-6, len(answer)-6)}
	}
	if asked, got := Transaction(request), Transaction(answer); asked != got {
		return Answer{}, &Broken{0, 2, fmt.Sprintf("it answers transaction %d and %d was asked", got, asked)}
	}
	if request[6] != answer[6] {
		return Answer{}, &Broken{6, 7, fmt.Sprintf("unit %d answers and unit %d was asked", answer[6], request[6])}
	}
	asked, got := request[7], answer[7]
	if got == asked|exceptionFlag {
		if len(answer) != HeaderLen+2 {
			return Answer{}, &Broken{8, len(answer), fmt.Sprintf("an exception has one octet of code and this has %d", len(answer)-HeaderLen-1)}
		}
		return Answer{Exception: int(answer[8])}, nil
	}
	if got != asked {
		return Answer{}, &Broken{7, 8, fmt.Sprintf("function %d answers and function %d was asked", got, asked)}
	}
	return checkData(request, answer)
}

func checkData(request, answer []byte) (Answer, error) {
	body := answer[8:]
	switch answer[7] {
	case ReadCoils, ReadDiscreteInputs, ReadHoldingRegisters, ReadInputRegisters:
		if len(request) < 12 {
			return Answer{}, &Broken{0, len(answer), "the request is cut short, so the answer cannot be judged"}
		}
		want := 2 * int(binary.BigEndian.Uint16(request[10:]))
		if answer[7] <= ReadDiscreteInputs {
			want = (want/2 + 7) / 8
		}
		if len(body) < 1 || int(body[0]) != want || len(body)-1 != want {
			says := 0
			if len(body) > 0 {
				says = int(body[0])
			}
			return Answer{}, &Broken{8, len(answer), fmt.Sprintf("%d octets of data were asked for; it announces %d and brings %d", want, says, max(len(body)-1, 0))}
		}
		return Answer{Data: body[1:]}, nil
	case WriteSingleCoil, WriteSingleRegister, WriteRegisters:
		if len(body) != 4 || len(request) < 12 || string(body) != string(request[8:12]) {
			return Answer{}, &Broken{8, len(answer), "the answer to a write must echo its address and value, and this does not"}
		}
	}
	return Answer{Data: body}, nil
}
