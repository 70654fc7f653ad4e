// Package dnp3 reads and writes the octets of DNP3 (IEEE 1815): frames of the link, segments of
// the transport function, and fragments of the application.
package dnp3

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Frame is a frame of the data link layer (clause 9.2). It is 05 64, the octets from Control on
// without checks in 1, Control in 1, To and From in 2 each, a check of these 8 octets in 2, and
// Data in blocks of 16 octets, each with a check of its own behind it.
type Frame struct {
	// Control: 0x80 is set by the master, 0x40 by who asks; 0x20 and 0x10 count frames that are
	// confirmed; the rest is a Link function.
	Control  byte
	To, From uint16
	Data     []byte // at most MostData octets
}

// Functions of the link (clause 9.2.4.1.3), of who asks and of who answers.
const (
	ResetLink       = 0x0
	TestLink        = 0x2
	ConfirmedData   = 0x3
	UnconfirmedData = 0x4
	AskLinkStatus   = 0x9

	Ack          = 0x0
	Nack         = 0x1
	LinkStatus   = 0xB
	NotSupported = 0xF
)

// Bits of Control.
const (
	FromMaster = 0x80
	Primary    = 0x40
	Count      = 0x20
	Counts     = 0x10 // of who answers: it takes no more data now
)

// MostData is how many octets of data a frame has at most.
const MostData = 250

const (
	headOctets  = 10
	blockOctets = 16
)

// Function is the link function of a frame.
func (f *Frame) Function() byte { return f.Control & 0x0F }

// Asks reports whether a frame is of who asks.
func (f *Frame) Asks() bool { return f.Control&Primary != 0 }

// Append puts the octets of a frame behind others. It fails where the data is too long.
func (f *Frame) Append(b []byte) ([]byte, error) {
	if len(f.Data) > MostData {
		return nil, fmt.Errorf("a frame of %d octets of data: it has %d at most", len(f.Data), MostData)
	}
	at := len(b)
	b = append(b, 0x05, 0x64, byte(5+len(f.Data)), f.Control)
	b = binary.LittleEndian.AppendUint16(b, f.To)
	b = binary.LittleEndian.AppendUint16(b, f.From)
	b = binary.LittleEndian.AppendUint16(b, check(b[at:]))
	for data := f.Data; len(data) > 0; {
		n := min(len(data), blockOctets)
		b = append(b, data[:n]...)
		b = binary.LittleEndian.AppendUint16(b, check(data[:n]))
		data = data[n:]
	}
	return b, nil
}

// ErrCheck is that of a frame whose octets are not what its checks say.
var ErrCheck = errors.New("the check of the frame is wrong")

// Length is how many octets a frame has in all, by its first three.
func Length(head []byte) (int, error) {
	if len(head) < 3 {
		return 0, io.ErrUnexpectedEOF
	}
	if head[0] != 0x05 || head[1] != 0x64 || head[2] < 5 {
		return 0, fmt.Errorf("it begins with % X: it is no frame", head[:3])
	}
	data := int(head[2]) - 5
	return headOctets + data + 2*((data+blockOctets-1)/blockOctets), nil
}

// Read reads a frame out of all of its octets. The data is a copy.
func Read(b []byte) (f Frame, err error) {
	n, err := Length(b)
	switch {
	case err != nil:
		return f, err
	case len(b) != n:
		return f, fmt.Errorf("the frame has %d octets, and says %d", len(b), n)
	case check(b[:8]) != binary.LittleEndian.Uint16(b[8:]):
		return f, ErrCheck
	}
	f = Frame{Control: b[3], To: binary.LittleEndian.Uint16(b[4:]), From: binary.LittleEndian.Uint16(b[6:])}
	for b = b[headOctets:]; len(b) > 0; {
		k := min(len(b)-2, blockOctets)
		if check(b[:k]) != binary.LittleEndian.Uint16(b[k:]) {
			return f, ErrCheck
		}
		f.Data = append(f.Data, b[:k]...)
		b = b[k+2:]
	}
	return f, nil
}

// check is the check of octets: the remainder by x16 + x13 + x12 + x11 + x10 + x8 + x6 + x5 + x2 + 1,
// the lowest bit first, all bits turned over (clause 9.2.5).
func check(b []byte) uint16 {
	crc := uint16(0)
	for _, octet := range b {
		crc = crc>>8 ^ checks[byte(crc)^octet]
	}
	return ^crc
}

var checks = func() (table [256]uint16) {
	for i := range table {
		crc := uint16(i)
		for range 8 {
			if crc&1 != 0 {
				crc = crc>>1 ^ 0xA6BC
			} else {
				crc >>= 1
			}
		}
		table[i] = crc
	}
	return table
}()

// Places is where the data of a frame stands among its octets: octet i of it at Places(i), behind
// the header and the checks of the blocks before it.
func Places(i int) int { return headOctets + i + 2*(i/blockOctets) }

// Find finds the first frame among octets: f is nil where its checks are wrong. octets are its own,
// nil where none is whole yet, and rest is what is behind it, or may be the beginning of one.
func Find(b []byte) (f *Frame, octets, rest []byte) {
	for len(b) > 0 {
		at := bytes.IndexByte(b, 0x05)
		if at < 0 {
			return nil, nil, nil
		}
		b = b[at:]
		n, err := Length(b)
		switch {
		case err == io.ErrUnexpectedEOF:
			if len(b) == 2 && b[1] != 0x64 {
				b = b[1:]
				continue
			}
			return nil, nil, b
		case err != nil:
			b = b[1:]
			continue
		case len(b) >= headOctets && check(b[:8]) != binary.LittleEndian.Uint16(b[8:]):
			return nil, b[:2], b[2:] // what is behind may begin a frame
		case len(b) < n:
			return nil, nil, b
		}
		frame, err := Read(b[:n])
		if err != nil {
			return nil, b[:n], b[n:]
		}
		return &frame, b[:n], b[n:]
	}
	return nil, nil, nil
}
