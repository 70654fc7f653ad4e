package enip

import (
	"errors"
	"fmt"
	"time"
)

// Casting is to whom the packets of one direction go.
type Casting uint8

// The ways (volume 1, table 3-5.11).
const (
	ToNobody Casting = iota // there is none in this direction
	ToMany                  // multicast
	ToOne                   // point to point
)

// Way is one direction of a cyclic connection, as it is asked for.
type Way struct {
	// ID is the identifier that its packets have; the receiver of multicast, and the sender
	// of all else, takes that of the other end.
	ID       uint32
	Interval time.Duration // in microseconds on the wire
	// Size is in octets, with the sequence count and the header where they are there.
	Size     int
	Casting  Casting
	Priority uint8 // 0 low, 1 high, 2 scheduled, 3 urgent
	Variable bool
	// Redundant is set where further owners may be there as well.
	Redundant bool
}

// Open asks for a cyclic connection, or for one of messages (volume 1, clause 3-5.5.2).
type Open struct {
	Out, In    Way // out of the asking end, and into it
	Serial     uint16
	Vendor     uint16
	Originator uint32
	// Multiplier says after how much silence the connection is dropped: 4 << Multiplier
	// intervals, from 0 to 7.
	Multiplier uint8
	// Class is the transport class, 0, 1 or 3.
	Class uint8
	// Trigger is when the answering end sends: 0 in cycles, 1 on change, 2 when it likes.
	Trigger uint8
	// Server is set where the answering end only answers, as with messages.
	Server bool
	Path   Path
	Large  bool // sizes over 511 octets
	Ticks  [2]uint8
}

// TimesOut is the silence after which a way is dropped.
func (o *Open) TimesOut(w *Way) time.Duration { return w.Interval * 4 << min(o.Multiplier, 7) }

func (w *Way) params(large bool) uint32 {
	upper := uint32(w.Casting)<<13 | uint32(w.Priority&3)<<10
	if w.Variable {
		upper |= 1 << 9
	}
	if w.Redundant {
		upper |= 1 << 15
	}
	if large {
		return upper<<16 | uint32(w.Size)&0xFFFF
	}
	return upper | uint32(w.Size)&0x1FF
}

func parseWay(params uint32, large bool) (w Way) {
	if large {
		w.Size = int(params & 0xFFFF)
		params >>= 16
	} else {
		w.Size = int(params & 0x1FF)
	}
	w.Casting, w.Priority = Casting(params>>13&3), uint8(params>>10&3)
	w.Variable, w.Redundant = params&(1<<9) != 0, params&(1<<15) != 0
	return w
}

// Service is that by which it is asked.
func (o *Open) Service() byte {
	if o.Large {
		return LargeForwardOpen
	}
	return ForwardOpen
}

// Append appends the data of the question.
func (o *Open) Append(dst []byte) []byte {
	dst = append(dst, o.Ticks[0], o.Ticks[1])
	dst = le.AppendUint32(dst, o.Out.ID)
	dst = le.AppendUint32(dst, o.In.ID)
	dst = le.AppendUint16(dst, o.Serial)
	dst = le.AppendUint16(dst, o.Vendor)
	dst = le.AppendUint32(dst, o.Originator)
	dst = append(dst, o.Multiplier, 0, 0, 0)
	for _, w := range []*Way{&o.Out, &o.In} {
		dst = le.AppendUint32(dst, uint32(w.Interval/time.Microsecond))
		if o.Large {
			dst = le.AppendUint32(dst, w.params(true))
		} else {
			dst = le.AppendUint16(dst, uint16(w.params(false)))
		}
	}
	transport := o.Class&0x0F | o.Trigger&7<<4
	if o.Server {
		transport |= 0x80
	}
	dst = append(dst, transport)
	return AppendPath(dst, &o.Path)
}

// ParseOpen reads the data of the question.
func ParseOpen(b []byte, large bool) (o Open, err error) {
	width := 2
	if large {
		width = 4
	}
	if len(b) < 22+2*(4+width)+1 {
		return o, errors.New("the question for a connection is cut short")
	}
	o = Open{Ticks: [2]uint8{b[0], b[1]}, Serial: le.Uint16(b[10:]), Vendor: le.Uint16(b[12:]),
		Originator: le.Uint32(b[14:]), Multiplier: b[18], Large: large}
	ids := [2]uint32{le.Uint32(b[2:]), le.Uint32(b[6:])}
	at := 22
	for i, w := range []*Way{&o.Out, &o.In} {
		params := uint32(le.Uint16(b[at+4:]))
		if large {
			params = le.Uint32(b[at+4:])
		}
		*w = parseWay(params, large)
		w.ID, w.Interval = ids[i], time.Duration(le.Uint32(b[at:]))*time.Microsecond
		at += 4 + width
	}
	o.Class, o.Trigger, o.Server = b[at]&0x0F, b[at]>>4&7, b[at]&0x80 != 0
	var rest []byte
	if o.Path, rest, err = ParsePath(b[at+1:]); err == nil && len(rest) > 0 {
		err = fmt.Errorf("%d octets follow the path", len(rest))
	}
	return o, err
}

// Opened is the answer that takes a connection: its identifiers and the intervals as they
// are.
type Opened struct {
	Out, In    uint32
	Serial     uint16
	Vendor     uint16
	Originator uint32
	// OutEvery and InEvery are the actual intervals.
	OutEvery, InEvery time.Duration
	Reply             []byte // of the application
}

// Append appends its data.
func (o *Opened) Append(dst []byte) []byte {
	dst = le.AppendUint32(dst, o.Out)
	dst = le.AppendUint32(dst, o.In)
	dst = le.AppendUint16(dst, o.Serial)
	dst = le.AppendUint16(dst, o.Vendor)
	dst = le.AppendUint32(dst, o.Originator)
	dst = le.AppendUint32(dst, uint32(o.OutEvery/time.Microsecond))
	dst = le.AppendUint32(dst, uint32(o.InEvery/time.Microsecond))
	dst = append(dst, byte(len(o.Reply)/2), 0)
	return append(dst, o.Reply...)
}

// ParseOpened reads the answer that takes a connection.
func ParseOpened(b []byte) (o Opened, err error) {
	if len(b) < 26 {
		return o, errors.New("the answer to the question for a connection is cut short")
	}
	o = Opened{Out: le.Uint32(b), In: le.Uint32(b[4:]), Serial: le.Uint16(b[8:]), Vendor: le.Uint16(b[10:]),
		Originator: le.Uint32(b[12:]), OutEvery: time.Duration(le.Uint32(b[16:])) * time.Microsecond,
		InEvery: time.Duration(le.Uint32(b[20:])) * time.Microsecond}
	n := 26 + 2*int(b[24])
	if len(b) < n {
		return o, errors.New("what the application answers is cut short")
	}
	o.Reply = b[26:n]
	return o, nil
}

// Close ends a connection (volume 1, clause 3-5.5.3).
type Close struct {
	Ticks      [2]uint8
	Serial     uint16
	Vendor     uint16
	Originator uint32
	Path       Path
}

// Append appends the data of the question. Its path has a reserved octet behind its length.
func (c *Close) Append(dst []byte) []byte {
	dst = append(dst, c.Ticks[0], c.Ticks[1])
	dst = le.AppendUint16(dst, c.Serial)
	dst = le.AppendUint16(dst, c.Vendor)
	dst = le.AppendUint32(dst, c.Originator)
	path := AppendPath(nil, &c.Path)
	dst = append(dst, path[0], 0)
	return append(dst, path[1:]...)
}

// ParseClose reads the data of the question.
func ParseClose(b []byte) (c Close, err error) {
	if len(b) < 12 || len(b) < 12+2*int(b[10]) {
		return c, errors.New("the question to end a connection is cut short")
	}
	c = Close{Ticks: [2]uint8{b[0], b[1]}, Serial: le.Uint16(b[2:]), Vendor: le.Uint16(b[4:]),
		Originator: le.Uint32(b[6:])}
	c.Path, err = parseSegments(b[12 : 12+2*int(b[10])])
	return c, err
}

// Refused is the answer that refuses to open or end a connection: which it was about, and
// how much of the path, in words, was not understood.
type Refused struct {
	Serial     uint16
	Vendor     uint16
	Originator uint32
	PathLeft   uint8
}

// Append appends its data.
func (r *Refused) Append(dst []byte) []byte {
	dst = le.AppendUint16(dst, r.Serial)
	dst = le.AppendUint16(dst, r.Vendor)
	dst = le.AppendUint32(dst, r.Originator)
	return append(dst, r.PathLeft, 0)
}

// Closed is the answer to the end of a connection.
type Closed struct {
	Serial     uint16
	Vendor     uint16
	Originator uint32
}

// Append appends its data, without anything of the application.
func (c *Closed) Append(dst []byte) []byte {
	dst = le.AppendUint16(dst, c.Serial)
	dst = le.AppendUint16(dst, c.Vendor)
	dst = le.AppendUint32(dst, c.Originator)
	return append(dst, 0, 0)
}
