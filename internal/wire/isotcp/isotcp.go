// Package isotcp has the transport of ISO 8073, class 0, over TCP (RFC 1006): what several protocols
// stand on.
//
// A frame on the stream is, most significant octet first:
//
//	3, 0, length of 16 bits                   RFC 1006, clause 6
//	length, kind, …                           a TPDU of ISO 8073, class 0
package isotcp

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// Kinds of TPDU, ISO 8073, clause 13.
const (
	ConnectRequest = 0xE0
	ConnectConfirm = 0xD0
	Disconnect     = 0x80
	Data           = 0xF0
	Error          = 0x70
)

// Head is the length of the head of RFC 1006.
const Head = 4

// Frame returns the length of the frame at the beginning of b, 0 if not enough has come to tell or the
// rest is missing. One longer than most is an error.
func Frame(b []byte, most int) (length int, err error) {
	if len(b) > 0 && b[0] != 3 {
		return 0, fmt.Errorf("what comes does not begin with version 3 of RFC 1006 but with %02X", b[0])
	}
	if len(b) < Head {
		return 0, nil
	}
	length = int(binary.BigEndian.Uint16(b[2:]))
	if length < Head+2 || length > most {
		return 0, fmt.Errorf("a frame of %d octets: from %d to %d can be", length, Head+2, most)
	}
	if len(b) < length {
		return 0, nil
	}
	return length, nil
}

// TPDU is a frame of the transport, taken apart.
type TPDU struct {
	Kind byte
	// Rest is what follows the head of the TPDU: a message, or a part of one.
	Rest []byte
	// Last is set for the last part of a message.
	Last bool
	// Reason is why a connection is refused or ended, ISO 8073, clause 13.5.3.
	Reason byte
	// Calling and Called are the selectors of a request to connect, 0 if it has
	// none, and Size the longest TPDU that it names, 0 for none.
	Calling, Called uint16
	Size            Size
}

// ParseTPDU takes a whole frame apart.
func ParseTPDU(frame []byte) (TPDU, error) {
	length, err := Frame(frame, len(frame))
	if err != nil {
		return TPDU{}, err
	}
	if length == 0 {
		return TPDU{}, errors.New("the frame is cut short")
	}
	body := frame[Head:length]
	n := int(body[0])
	if n < 1 || 1+n > len(body) {
		return TPDU{}, fmt.Errorf("the head of the TPDU says %d octets and has %d", n, len(body)-1)
	}
	t := TPDU{Kind: body[1] & 0xF0, Rest: body[1+n:]}
	switch t.Kind {
	case Data:
		if n < 2 {
			return t, errors.New("a data TPDU without its number")
		}
		t.Last = body[2]&0x80 != 0
	case Disconnect:
		if n >= 6 {
			t.Reason = body[6]
		}
	case Error:
		if n >= 4 {
			t.Reason = body[4]
		}
	case ConnectRequest, ConnectConfirm:
		if n < 6 {
			return t, errors.New("a request to connect is cut short")
		}
		for rest := body[7 : 1+n]; len(rest) >= 2 && len(rest) >= 2+int(rest[1]); rest = rest[2+int(rest[1]):] {
			value := rest[2 : 2+int(rest[1])]
			if rest[0] == 0xC0 && len(value) == 1 {
				t.Size = Size(value[0])
			}
			if len(value) != 2 {
				continue
			}
			switch rest[0] {
			case 0xC1:
				t.Calling = binary.BigEndian.Uint16(value)
			case 0xC2:
				t.Called = binary.BigEndian.Uint16(value)
			}
		}
	default:
		return t, fmt.Errorf("a TPDU of kind %02X, which class 0 does not have", body[1])
	}
	return t, nil
}

// Begin appends a head of RFC 1006, whose length Finish fills in from where it began.
func Begin(dst []byte) []byte { return append(dst, 3, 0, 0, 0) }

// Finish is as Begin.
func Finish(dst []byte, from int) []byte {
	binary.BigEndian.PutUint16(dst[from+2:], uint16(len(dst)-from))
	return dst
}

// Size is a power of two, as which the longest TPDU is negotiated, head included.
type Size byte

// The sizes in use.
const (
	Size1024 Size = 10
	Size8192 Size = 13
)

// AppendConnect appends a request to connect between two selectors (ISO 8073, clause 13.3), class 0.
func AppendConnect(dst []byte, calling, called uint16, size Size) []byte {
	return appendConnect(dst, ConnectRequest, 0, 1, calling, called, size)
}

// AppendConfirm appends the answer that takes a connection.
func AppendConfirm(dst []byte, calling, called uint16, size Size) []byte {
	return appendConnect(dst, ConnectConfirm, 1, 6, calling, called, size)
}

func appendConnect(dst []byte, kind byte, to, from, calling, called uint16, size Size) []byte {
	at := len(dst)
	dst = append(Begin(dst), 17, kind, byte(to>>8), byte(to), byte(from>>8), byte(from), 0,
		0xC0, 1, byte(size), 0xC1, 2, byte(calling>>8), byte(calling), 0xC2, 2, byte(called>>8), byte(called))
	return Finish(dst, at)
}

// AppendDisconnect appends the answer that refuses a connection.
func AppendDisconnect(dst []byte, reason byte) []byte {
	at := len(dst)
	return Finish(append(Begin(dst), 6, Disconnect, 0, 1, 0, 0, reason), at)
}

// AppendData appends a message in TPDUs of up to so many octets each, heads included.
func AppendData(dst, message []byte, size Size) []byte {
	const dataHead = 3
	for first := true; first || len(message) > 0; first = false {
		n := min(len(message), 1<<size-dataHead)
		last := byte(0)
		if n == len(message) {
			last = 0x80
		}
		at := len(dst)
		dst = Finish(append(append(Begin(dst), 2, Data, last), message[:n]...), at)
		message = message[n:]
	}
	return dst
}
