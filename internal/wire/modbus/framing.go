package modbus

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
)

// Framing is a way of putting data units on the wire.
type Framing int

// The framings.
const (
	// TCP is the frame of the Messaging on TCP/IP guide, clause 3.1.3:
	//
	//	octets 0-1  transaction identifier, echoed by the server
	//	octets 2-3  protocol identifier, 0
	//	octets 4-5  length of what follows, unit included: 2 to 254
	//	octet  6    unit identifier
	//	octets 7-   data unit
	TCP Framing = iota
	// RTU is the frame of the serial line guide V1.02, clause 2.5.1:
	//
	//	octet  0    unit
	//	octets 1-   data unit
	//	last two    cyclic redundancy check, low octet first
	RTU
	// ASCII is that of clause 2.5.2: a colon, unit, data unit and longitudinal
	// redundancy check as two hexadecimal digits an octet, and CR LF.
	ASCII
)

// Sizes of frames in octets.
const (
	HeaderLen = 7
	MaxADU    = 260 // over TCP, 7 + 253, messaging guide clause 3.1.2
	MaxRTU    = 256 // serial line guide, clause 2.5.1
	MaxASCII  = 513 // clause 2.5.2: 1 + 2·252 + 2·2 + 4 characters
)

// AppendFrame appends a frame around a data unit. Only TCP has a transaction.
func (f Framing) AppendFrame(dst []byte, transaction uint16, unit byte, pdu ...byte) []byte {
	switch f {
	case RTU:
		from := len(dst)
		dst = append(append(dst, unit), pdu...)
		return binary.LittleEndian.AppendUint16(dst, CRC(dst[from:]))
	case ASCII:
		sum := unit
		for _, b := range pdu {
			sum += b
		}
		dst = append(dst, ':')
		for _, b := range append(append([]byte{unit}, pdu...), -sum) {
			dst = append(dst, digits[b>>4], digits[b&15])
		}
		return append(dst, '\r', '\n')
	}
	dst = binary.BigEndian.AppendUint16(dst, transaction)
	dst = append(dst, 0, 0)
	dst = binary.BigEndian.AppendUint16(dst, uint16(len(pdu)+1))
	dst = append(dst, unit)
	return append(dst, pdu...)
}

const digits = "0123456789ABCDEF"

// crcTable is that of the polynomial 0xA001, the reverse of x¹⁶ + x¹⁵ + x² + 1
// (serial line guide, clause 6.2.2).
var crcTable = func() (table [256]uint16) {
	for i := range table {
		crc := uint16(i)
		for range 8 {
			if crc&1 == 1 {
				crc = crc>>1 ^ 0xA001
			} else {
				crc >>= 1
			}
		}
		table[i] = crc
	}
	return table
}()

// CRC is the cyclic redundancy check of an RTU frame. It goes out low octet
// first.
func CRC(b []byte) uint16 {
	crc := uint16(0xFFFF)
	for _, v := range b {
		crc = crc>>8 ^ crcTable[byte(crc)^v]
	}
	return crc
}

// FrameLen returns the length of the TCP frame that starts with b, or 0 if b
// is too short to tell. It fails if b cannot be the start of a frame: what
// follows on the stream then has no known beginning.
func FrameLen(b []byte) (int, error) {
	n, broken := frameLen(b)
	if broken != nil {
		return 0, broken
	}
	return n, nil
}

func frameLen(b []byte) (int, *Broken) {
	if len(b) >= 4 && (b[2] != 0 || b[3] != 0) {
		return 0, &Broken{2, 4,
			fmt.Sprintf("the protocol identifier is %d where Modbus has 0", binary.BigEndian.Uint16(b[2:]))}
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

// AnswerLen returns the length of the answer that starts with b, or 0 if b
// does not tell yet. Serial frames have no length of their own: it follows
// from the function.
func (f Framing) AnswerLen(b []byte) (int, error) { return f.lengthOf(b, answerLen) }

// RequestLen is AnswerLen for requests.
func (f Framing) RequestLen(b []byte) (int, error) { return f.lengthOf(b, requestLen) }

func (f Framing) lengthOf(b []byte, unitLen func([]byte) int) (int, error) {
	switch f {
	case RTU:
		if len(b) < 2 {
			return 0, nil
		}
		if n := unitLen(b[1:]); n > 0 {
			return 1 + n + 2, nil
		}
		return 0, nil
	case ASCII:
		for i, c := range b {
			if c == '\n' {
				return i + 1, nil
			}
		}
		return 0, nil
	}
	return FrameLen(b)
}

// Transaction returns the transaction identifier of a TCP frame of at least
// two octets.
func Transaction(frame []byte) uint16 { return binary.BigEndian.Uint16(frame) }

// body returns unit and data unit of a frame as far as they are there, and
// what is wrong with the frame around them.
func (f Framing) body(b []byte) ([]byte, *Broken) {
	few := func() *Broken { return &Broken{0, len(b), fmt.Sprintf("%d octets are too few for an answer", len(b))} }
	switch f {
	case RTU:
		if len(b) < 4 {
			return nil, few()
		}
		body, tail := b[:len(b)-2], b[len(b)-2:]
		if crc := CRC(body); crc != binary.LittleEndian.Uint16(tail) {
			return body, &Broken{len(body), len(b),
				fmt.Sprintf("the check is %02X %02X and the octets give %02X %02X", tail[0], tail[1], byte(crc),
					byte(crc>>8))}
		}
		return body, nil
	case ASCII:
		if len(b) < 9 {
			return nil, few()
		}
		if b[0] != ':' {
			return nil, &Broken{0, 1, fmt.Sprintf("it begins with 0x%02X where a colon belongs", b[0])}
		}
		if string(b[len(b)-2:]) != "\r\n" {
			return nil, &Broken{len(b) - 2, len(b), "it does not end with CR LF"}
		}
		octets := make([]byte, (len(b)-3)/2)
		if n, err := hex.Decode(octets, b[1:len(b)-2]); err != nil {
			return nil, &Broken{1 + 2*n, min(3+2*n, len(b)), "what stands there is no pair of hexadecimal digits"}
		}
		sum := byte(0)
		for _, v := range octets {
			sum += v
		}
		last := len(octets) - 1
		if sum != 0 {
			return octets[:last], &Broken{len(b) - 4, len(b) - 2,
				fmt.Sprintf("the check is %02X and the octets give %02X", octets[last], octets[last]-sum)}
		}
		return octets[:last], nil
	}
	n, broken := frameLen(b)
	switch {
	case broken != nil:
	case len(b) < HeaderLen+1:
		broken = few()
	case n != len(b):
		broken = &Broken{4, 6, fmt.Sprintf("the length field says %d octets follow and %d do", n-6, len(b)-6)}
	}
	return b[min(6, len(b)):], broken
}

// place returns where octet i of unit and data unit stands in a frame.
func (f Framing) place(i int) int {
	switch f {
	case RTU:
		return i
	case ASCII:
		return 1 + 2*i
	}
	return 6 + i
}

// Open returns unit and data unit of a whole frame that passes its own check.
func (f Framing) Open(frame []byte) (unit byte, pdu []byte, err error) {
	body, broken := f.body(frame)
	if broken != nil {
		return 0, nil, broken
	}
	return body[0], body[1:], nil
}

// Lenience is in what an answer may differ from what the standard wants. Over
// TCP the connection and the transaction say whose answer it is; the messaging
// guide, clause 4.4.1.2, has servers without a serial side ignore the unit, and
// some then answer under 0 or 255.
type Lenience struct {
	Unit        bool // the unit of the answer may be 0 or 255
	Transaction bool // the transaction of the answer may be 0
}

// Check compares a whole answer with its request and returns what it says.
// A *Broken error means that it is no valid answer to that request, and that
// none of its data may be used.
func (f Framing) Check(request, answer []byte) (Answer, error) {
	return f.CheckLeniently(request, answer, Lenience{})
}

// CheckLeniently is Check for devices that are known for their manners.
func (f Framing) CheckLeniently(request, answer []byte, may Lenience) (Answer, error) {
	got, broken := f.body(answer)
	if broken != nil {
		return Answer{}, broken
	}
	asked, wrong := f.body(request)
	if wrong != nil || len(got) < 2 {
		return Answer{}, &Broken{0, len(answer), fmt.Sprintf("%d octets are too few for an answer", len(answer))}
	}
	if f == TCP && Transaction(request) != Transaction(answer) && !(may.Transaction && Transaction(answer) == 0) {
		return Answer{}, &Broken{0, 2,
			fmt.Sprintf("it answers transaction %d and %d was asked", Transaction(answer), Transaction(request))}
	}
	if asked[0] != got[0] && !(may.Unit && (got[0] == 0 || got[0] == 255)) {
		return Answer{}, &Broken{f.place(0), f.place(1),
			fmt.Sprintf("unit %d answers and unit %d was asked", got[0], asked[0])}
	}
	a, broken := checkPDU(asked[1:], got[1:])
	if broken != nil {
		return Answer{}, &Broken{f.place(1 + broken.From), min(f.place(1+broken.To), len(answer)), broken.What}
	}
	return a, nil
}
