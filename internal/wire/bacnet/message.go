package bacnet

import (
	"fmt"
)

// Message is one of the application (clause 20.1).
type Message struct {
	Kind Kind
	// Segmented is set for a part of a message, Follows where there are more; Number is its place, from 0
	// on, Window how many are sent or taken at a time.
	Segmented, Follows bool
	Number, Window     uint8
	// TakesSegments is set in a question whose sender takes an answer in parts, Server in what the
	// answering end says of parts, or of an end; Refused in an acknowledgement of a part that was not the next.
	TakesSegments, Server, Refused bool
	// MostSegments and MostOctets are what the sender of a question takes, 0 segments for not said.
	MostSegments, MostOctets int
	// Invoke numbers a question and what answers it.
	Invoke  uint8
	Service uint8 // of questions, answers and errors
	Reason  uint8 // of a reject or an abort
	// Body is what the service has, BodyAt where it begins.
	Body   []byte
	BodyAt int
}

// Kind is what a message is.
type Kind uint8

// The kinds (clause 20.1.2).
const (
	Confirmed   Kind = 0 // a question
	Unconfirmed Kind = 1
	SimpleAck   Kind = 2
	ComplexAck  Kind = 3
	SegmentAck  Kind = 4
	ErrorAnswer Kind = 5
	Reject      Kind = 6
	Abort       Kind = 7
)

// Services that are confirmed (clause 21, BACnetConfirmedServiceChoice).
const (
	ConfirmedCOV         = 1
	SubscribeCOV         = 5
	ReadProperty         = 12
	ReadPropertyMultiple = 14
	WriteProperty        = 15
	WriteMultiple        = 16
	ReadRange            = 26
	SubscribeCOVProperty = 28
)

// Services that are not (BACnetUnconfirmedServiceChoice).
const (
	IAm            = 0
	IHave          = 1
	UnconfirmedCOV = 2
	WhoHas         = 7
	WhoIs          = 8
	TimeSync       = 6
	UTCTimeSync    = 9
)

// segmentsTaken are how many segments are taken, by the code for them (clause 20.1.2.4); 65 stands for more
// than 64.
var segmentsTaken = [8]int{0, 2, 4, 8, 16, 32, 64, 65}

// octetsTaken are the octets of a message that are taken, by the code (clause 20.1.2.5).
var octetsTaken = [16]int{50, 128, 206, 480, 1024, 1476}

// MostOctets is the longest message over BACnet/IP.
const MostOctets = 1476

// sizeCode is the code for how many octets are taken: the greatest that is no more.
func sizeCode(octets int) byte {
	code := byte(0)
	for i, n := range octetsTaken {
		if n > 0 && n <= octets {
			code = byte(i)
		}
	}
	return code
}

func segmentsCode(segments int) byte {
	code := byte(0)
	for i, n := range segmentsTaken {
		if n <= segments {
			code = byte(i)
		}
	}
	return code
}

// ParseMessage reads a message; from is where it begins.
func ParseMessage(b []byte, from int) (m Message, err error) {
	if len(b) == 0 {
		return m, fmt.Errorf("the message of the application is missing")
	}
	flags := b[0]
	m.Kind = Kind(flags >> 4)
	at := 1
	need := func(n int) bool {
		if len(b) < at+n {
			err = fmt.Errorf("a message of the application of %d octets is cut short", len(b))
			return false
		}
		return true
	}
	segments := func() bool {
		if !m.Segmented {
			return true
		}
		if !need(2) {
			return false
		}
		m.Number, m.Window = b[at], b[at+1]
		at += 2
		return true
	}
	switch m.Kind {
	case Confirmed:
		m.Segmented, m.Follows, m.TakesSegments = flags&8 != 0, flags&4 != 0, flags&2 != 0
		if !need(2) {
			return m, err
		}
		m.MostSegments, m.MostOctets, m.Invoke = segmentsTaken[b[1]>>4&7], octetsTaken[b[1]&15], b[2]
		if at = 3; !segments() || !need(1) {
			return m, err
		}
		m.Service = b[at]
		at++
	case Unconfirmed:
		if !need(1) {
			return m, err
		}
		m.Service = b[at]
		at++
	case SimpleAck, ErrorAnswer:
		if !need(2) {
			return m, err
		}
		m.Invoke, m.Service = b[1], b[2]
		at = 3
	case ComplexAck:
		m.Segmented, m.Follows = flags&8 != 0, flags&4 != 0
		if !need(1) {
			return m, err
		}
		m.Invoke = b[1]
		if at = 2; !segments() || !need(1) {
			return m, err
		}
		m.Service = b[at]
		at++
	case SegmentAck:
		m.Refused, m.Server = flags&2 != 0, flags&1 != 0
		if !need(3) {
			return m, err
		}
		m.Invoke, m.Number, m.Window = b[1], b[2], b[3]
		at = 4
	case Reject, Abort:
		m.Server = m.Kind == Abort && flags&1 != 0
		if !need(2) {
			return m, err
		}
		m.Invoke, m.Reason = b[1], b[2]
		at = 3
	default:
		return m, fmt.Errorf("a message of the application of kind %d, which is not known", m.Kind)
	}
	m.Body, m.BodyAt = b[at:], from+at
	return m, nil
}

// Append appends the message.
func (m *Message) Append(dst []byte) []byte {
	flags := byte(m.Kind) << 4
	set := func(bit byte, on bool) {
		if on {
			flags |= bit
		}
	}
	switch m.Kind {
	case Confirmed:
		set(8, m.Segmented)
		set(4, m.Follows)
		set(2, m.TakesSegments)
		dst = append(dst, flags, segmentsCode(m.MostSegments)<<4|sizeCode(m.MostOctets), m.Invoke)
	case Unconfirmed:
		return append(append(dst, flags, m.Service), m.Body...)
	case SimpleAck, ErrorAnswer:
		return append(append(dst, flags, m.Invoke, m.Service), m.Body...)
	case ComplexAck:
		set(8, m.Segmented)
		set(4, m.Follows)
		dst = append(dst, flags, m.Invoke)
	case SegmentAck:
		set(2, m.Refused)
		set(1, m.Server)
		return append(dst, flags, m.Invoke, m.Number, m.Window)
	case Reject, Abort:
		set(1, m.Kind == Abort && m.Server)
		return append(dst, flags, m.Invoke, m.Reason)
	}
	if m.Segmented {
		dst = append(dst, m.Number, m.Window)
	}
	return append(append(dst, m.Service), m.Body...)
}

// Failure is what an error says (clause 20.1.7; 21, Error): its class and code.
type Failure struct{ Class, Code uint32 }

// AppendFailure appends one.
func AppendFailure(b []byte, f Failure) []byte {
	for _, n := range []uint32{f.Class, f.Code} {
		v := Enumerated(uint64(n))
		b = v.Append(b)
	}
	return b
}

// ParseFailure reads the body of an error. Some services have it inside tag 0.
func ParseFailure(b []byte, from int) (f Failure, err error) {
	r := &reader{b, from}
	if e, _, err := next(b, from); err == nil && e.Opens && e.Number == 0 {
		_, _ = r.next() // it was read a moment ago
	}
	for _, into := range []*uint32{&f.Class, &f.Code} {
		e, err := r.next()
		if err != nil {
			return f, err
		}
		v, err := valueOf(&e)
		if err != nil || e.Context || v.Tag != TagEnumerated {
			return f, fmt.Errorf("the error at octet %d does not say its class and its code", e.From)
		}
		*into = uint32(min(v.Uint, 1<<32-1))
	}
	return f, nil
}
