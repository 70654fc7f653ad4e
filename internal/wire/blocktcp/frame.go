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

	"ferry/internal/wire/isotcp"
)

// MostFrame bounds a frame: no device agrees on longer messages.
const MostFrame = 8192

// Frame is isotcp.Frame within that bound.
func Frame(b []byte) (length int, err error) { return isotcp.Frame(b, MostFrame) }

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
		return m, fmt.Errorf("a message of %d octets: its isotcp.Head alone has 10", len(b))
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
	dst = append(isotcp.Begin(dst), 2, isotcp.Data, 0x80, magic, kind, 0, 0, byte(ref>>8), byte(ref), 0, 0, 0, 0)
	if headOf(kind) == 12 {
		dst = append(dst, class, code)
	}
	return dst
}

// messageAt is where a message begins in its frame.
const messageAt = isotcp.Head + 3

// close fills in the lengths of a message that begins at from in dst and whose
// data begin at data.
func closeMessage(dst []byte, from, data int) []byte {
	m := dst[from+messageAt:]
	params := data - from - messageAt - headOf(m[1])
	binary.BigEndian.PutUint16(m[6:], uint16(params))
	binary.BigEndian.PutUint16(m[8:], uint16(len(dst)-data))
	return isotcp.Finish(dst, from)
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
