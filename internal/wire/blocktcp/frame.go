// Package blocktcp turns block access over ISO-on-TCP into octets and back.
//
// A frame on the stream is, most significant octet first:
//
//	3, 0, length of 16 bits                   RFC 1006, clause 6
//	length, kind, …                           a TPDU of ISO 8073, class 0
//	32, kind, 0 0, reference of 16 bits,      the head of a message
//	parameter octets, data octets (16 bits each), and with an answer
//	error class, error code
//	parameters, data
//
// The readers take whatever comes: what is broken is an error that says so.
package blocktcp

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

// MostFrame bounds a frame: no device agrees on longer messages.
const MostFrame = 8192

// head is the length of the head of RFC 1006.
const head = 4

// Frame returns the length of the frame at the beginning of b, 0 if not enough
// has come to tell or the rest is missing.
func Frame(b []byte) (length int, err error) {
	if len(b) > 0 && b[0] != 3 {
		return 0, fmt.Errorf("what comes does not begin with version 3 of RFC 1006 but with %02X", b[0])
	}
	if len(b) < head {
		return 0, nil
	}
	length = int(binary.BigEndian.Uint16(b[2:]))
	if length < head+2 || length > MostFrame {
		return 0, fmt.Errorf("a frame of %d octets: from %d to %d can be", length, head+2, MostFrame)
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
	// none.
	Calling, Called uint16
}

// ParseTPDU takes a whole frame apart.
func ParseTPDU(frame []byte) (TPDU, error) {
	length, err := Frame(frame)
	if err != nil {
		return TPDU{}, err
	}
	if length == 0 {
		return TPDU{}, errors.New("the frame is cut short")
	}
	body := frame[head:length]
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

// begin appends a head of RFC 1006, whose length finish fills in.
func begin(dst []byte) []byte { return append(dst, 3, 0, 0, 0) }

func finish(dst []byte, from int) []byte {
	binary.BigEndian.PutUint16(dst[from+2:], uint16(len(dst)-from))
	return dst
}

// AppendConnect appends a request to connect between two selectors (ISO 8073,
// clause 13.3): class 0, TPDUs of up to 1024 octets.
func AppendConnect(dst []byte, calling, called uint16) []byte {
	return appendConnect(dst, ConnectRequest, 0, 1, calling, called)
}

// AppendConfirm appends the answer that takes a connection.
func AppendConfirm(dst []byte, calling, called uint16) []byte {
	return appendConnect(dst, ConnectConfirm, 1, 6, calling, called)
}

func appendConnect(dst []byte, kind byte, to, from, calling, called uint16) []byte {
	at := len(dst)
	dst = append(begin(dst), 17, kind, byte(to>>8), byte(to), byte(from>>8), byte(from), 0,
		0xC0, 1, 10, 0xC1, 2, byte(calling>>8), byte(calling), 0xC2, 2, byte(called>>8), byte(called))
	return finish(dst, at)
}

// AppendDisconnect appends the answer that refuses a connection.
func AppendDisconnect(dst []byte, reason byte) []byte {
	at := len(dst)
	return finish(append(begin(dst), 6, Disconnect, 0, 1, 0, 0, reason), at)
}

// Kinds of message.
const (
	Job      = 1
	Ack      = 2
	AckData  = 3
	UserData = 7
)

// Functions of jobs.
const (
	Read  = 0x04
	Write = 0x05
	Setup = 0xF0
)

// magic begins every message.
const magic = 0x32

// Message is a message, taken apart.
type Message struct {
	Kind        byte
	Ref         uint16
	Class, Code byte // of an answer, both 0 for none
	Params      []byte
	Data        []byte
}

// headOf is the length of the head of a kind of message.
func headOf(kind byte) int {
	if kind == Ack || kind == AckData {
		return 12
	}
	return 10
}

// ParseMessage takes a message apart.
func ParseMessage(b []byte) (m Message, err error) {
	if len(b) < 10 {
		return m, fmt.Errorf("a message of %d octets: its head alone has 10", len(b))
	}
	if b[0] != magic {
		return m, fmt.Errorf("a message that begins with %02X, not with %02X", b[0], magic)
	}
	m.Kind, m.Ref = b[1], binary.BigEndian.Uint16(b[4:])
	if m.Kind != Job && m.Kind != Ack && m.Kind != AckData && m.Kind != UserData {
		return m, fmt.Errorf("a message of kind %d, which is not known", m.Kind)
	}
	from := headOf(m.Kind)
	if len(b) < from {
		return m, fmt.Errorf("the head of the answer is cut short after %d octets", len(b))
	}
	if from == 12 {
		m.Class, m.Code = b[10], b[11]
	}
	params, data := int(binary.BigEndian.Uint16(b[6:])), int(binary.BigEndian.Uint16(b[8:]))
	if from+params+data != len(b) {
		return m, fmt.Errorf("the message says %d octets of parameters and %d of data, and has %d", params, data,
			len(b)-from)
	}
	m.Params, m.Data = b[from:from+params], b[from+params:]
	return m, nil
}

// appendHead appends the frame's heads and the head of a message, whose lengths
// close fills in.
func appendHead(dst []byte, kind byte, ref uint16, class, code byte) []byte {
	dst = append(begin(dst), 2, Data, 0x80, magic, kind, 0, 0, byte(ref>>8), byte(ref), 0, 0, 0, 0)
	if headOf(kind) == 12 {
		dst = append(dst, class, code)
	}
	return dst
}

// messageAt is where a message begins in its frame.
const messageAt = head + 3

// close fills in the lengths of a message that begins at from in dst and whose
// data begin at data.
func closeMessage(dst []byte, from, data int) []byte {
	m := dst[from+messageAt:]
	params := data - from - messageAt - headOf(m[1])
	binary.BigEndian.PutUint16(m[6:], uint16(params))
	binary.BigEndian.PutUint16(m[8:], uint16(len(dst)-data))
	return finish(dst, from)
}

// AppendSetup appends a request to set the session up: how many jobs at once
// and how long a message may be.
func AppendSetup(dst []byte, ref uint16, jobs, size int) []byte {
	return appendSetup(dst, Job, ref, jobs, size)
}

// AppendSetupAnswer appends the answer to it.
func AppendSetupAnswer(dst []byte, ref uint16, jobs, size int) []byte {
	return appendSetup(dst, AckData, ref, jobs, size)
}

func appendSetup(dst []byte, kind byte, ref uint16, jobs, size int) []byte {
	at := len(dst)
	dst = append(appendHead(dst, kind, ref, 0, 0), Setup, 0, byte(jobs>>8), byte(jobs), byte(jobs>>8), byte(jobs),
		byte(size>>8), byte(size))
	return closeMessage(dst, at, len(dst))
}

// ParseSetup reads what a set-up message asks for or agrees to.
func ParseSetup(m *Message) (jobs, size int, err error) {
	if len(m.Params) < 8 || m.Params[0] != Setup {
		return 0, 0, errors.New("it is no message that sets a session up")
	}
	jobs, size = int(binary.BigEndian.Uint16(m.Params[4:])), int(binary.BigEndian.Uint16(m.Params[6:]))
	if jobs < 1 || size < 112 || size > MostFrame-messageAt {
		return 0, 0, fmt.Errorf("it agrees to %d jobs and messages of %d octets, which cannot be", jobs, size)
	}
	return jobs, size, nil
}

// AppendRefusal appends an answer that refuses a job as a whole.
func AppendRefusal(dst []byte, ref uint16, class, code byte) []byte {
	at := len(dst)
	dst = appendHead(dst, Ack, ref, class, code)
	return closeMessage(dst, at, len(dst))
}
