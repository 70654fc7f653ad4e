package iec61850

import (
	"bytes"
	"errors"
	"fmt"
)

// The layers between the transport and MMS, in the forms that IEC 61850-8-1, annex E, has them.

// SPDUs of the session (ISO 8327-1, clause 8.3).
const (
	sessionConnect    = 0x0D
	sessionAccept     = 0x0E
	sessionRefuse     = 0x0C
	sessionFinish     = 0x09
	sessionDisconnect = 0x0A
	sessionAbort      = 0x19
	sessionData       = 0x01
	userDataItem      = 0xC1
)

// Selectors are those of session and presentation, of who calls and who is called.
type Selectors struct{ Session, Presentation []byte }

// usualSelectors are those of most devices.
var usualSelectors = Selectors{[]byte{0, 1}, []byte{0, 0, 0, 1}}

// Object identifiers: the association control, MMS, the rules of BER, and MMS as application context.
var (
	oidACSE = []byte{0x52, 0x01, 0x00, 0x01}
	oidMMS  = []byte{0x28, 0xCA, 0x22, 0x02, 0x01}
	oidBER  = []byte{0x51, 0x01}
	oidUse  = []byte{0x28, 0xCA, 0x22, 0x02, 0x03}
)

// The contexts of the presentation.
const (
	contextACSE = 1
	contextMMS  = 3
)

// Initiation is what both ends agree on at first (ISO 9506-2, Initiate).
type Initiation struct {
	Size        int // octets of the longest message
	Outstanding int // questions at a time
	Nesting     int // of structures in each other
}

// DefaultInitiation is what Ferry asks for.
func DefaultInitiation() Initiation { return Initiation{65_000, mostOutstanding, mostDepth} }

// services are those that Ferry speaks, of the bits of ISO 9506-2, ServiceSupportOptions: the names,
// identity, reads, writes, types and lists, reports, and the conclusion.
var services = func() []byte {
	b := make([]byte, 12)
	b[0] = 3 // bits unused at the end: there are 85
	for _, bit := range []int{1, 2, 4, 5, 6, 12, 79, 83} {
		b[1+bit/8] |= 0x80 >> (bit % 8)
	}
	return b
}()

// octets are those of an initiation of a kind.
func (i *Initiation) octets(kind Kind) []byte {
	detail := wrap(0xA4, whole(0x80, 1), wrap(0x81, []byte{5, 0xF1, 0x00}), wrap(0x82, services))
	return wrap(byte(kind), whole(0x80, int64(i.Size)), whole(0x81, int64(i.Outstanding)),
		whole(0x82, int64(i.Outstanding)), whole(0x83, int64(i.Nesting)), detail)
}

// readInitiation reads what is in an initiation.
func readInitiation(b []byte) (i Initiation) {
	for tag, into := range map[uint32]*int{0x80: &i.Size, 0x81: &i.Outstanding, 0x83: &i.Nesting} {
		if c, err := find(b, tag); err == nil {
			v, _ := intOf(c) // what is not said is nothing
			*into = int(v)
		}
	}
	return i
}

// Associate asks for a conversation.
func Associate(i Initiation, s Selectors) []byte {
	if len(s.Session) == 0 {
		s = usualSelectors
	}
	mms := i.octets(InitiateRequest)
	aarq := wrap(0x60, wrap(0xA1, wrap(0x06, oidUse)), external(mms))
	contexts := wrap(0xA4, contextOf(contextACSE, oidACSE), contextOf(contextMMS, oidMMS))
	cp := wrap(0x31, wrap(0xA0, whole(0x80, 1)), wrap(0xA2, wrap(0x81, usualSelectors.Presentation),
		wrap(0x82, s.Presentation), contexts, presented(contextACSE, aarq)))
	head := append([]byte{5, 6, 0x13, 1, 0, 0x16, 1, 2, 0x14, 2, 0, 2}, item(0x33, usualSelectors.Session)...)
	return session(sessionConnect, append(append(head, item(0x34, s.Session)...), item(userDataItem, cp)...))
}

// Accept takes it.
func Accept(i Initiation) []byte {
	mms := i.octets(InitiateResponse)
	aare := wrap(0x61, wrap(0xA1, wrap(0x06, oidUse)), wrap(0xA2, whole(0x02, 0)),
		wrap(0xA3, wrap(0xA1, whole(0x02, 0))), external(mms))
	taken := wrap(sequenceTag, whole(0x80, 0), wrap(0x81, oidBER))
	cpa := wrap(0x31, wrap(0xA0, whole(0x80, 1)), wrap(0xA2, wrap(0x83, usualSelectors.Presentation),
		wrap(0xA5, taken, taken), presented(contextACSE, aare)))
	head := append([]byte{5, 6, 0x13, 1, 0, 0x16, 1, 2, 0x14, 2, 0, 2}, item(0x34, usualSelectors.Session)...)
	return session(sessionAccept, append(head, item(userDataItem, cpa)...))
}

func contextOf(id int64, abstract []byte) []byte {
	return wrap(sequenceTag, whole(0x02, id), wrap(0x06, abstract), wrap(sequenceTag, wrap(0x06, oidBER)))
}

// external puts the octets of MMS into the user information of the association.
func external(mms []byte) []byte {
	return wrap(0xBE, wrap(0x28, wrap(0x06, oidBER), whole(0x02, contextMMS), wrap(0xA0, mms)))
}

// presented puts octets into a context of the presentation.
func presented(id int64, b []byte) []byte {
	return wrap(0x61, wrap(sequenceTag, whole(0x02, id), wrap(0xA0, b)))
}

// item is a parameter of the session: a code, a length in one octet or three, and its octets.
func item(code byte, b []byte) []byte {
	if len(b) < 255 {
		return append([]byte{code, byte(len(b))}, b...)
	}
	return append([]byte{code, 255, byte(len(b) >> 8), byte(len(b))}, b...)
}

func session(kind byte, b []byte) []byte { return item(kind, b) }

// Speak wraps a message of MMS for the transport.
func Speak(mms []byte) []byte {
	return append([]byte{sessionData, 0, sessionData, 0}, presented(contextMMS, mms)...)
}

// Heard is what came over the transport, unwrapped.
type Heard struct {
	// Associates is set for a beginning, Accepts for the answer that takes it, Ends for the end of the
	// conversation, and Why says in words why where it is refused or broken off.
	Associates, Accepts, Ends bool
	Initiation                Initiation
	Why                       string
	// MMS are the octets of a message, From is where they begin.
	MMS  []byte
	From int
}

// Hear unwraps what came over the transport.
func Hear(b []byte) (h Heard, err error) {
	if len(b) < 2 {
		return h, errors.New("an SPDU is cut short")
	}
	switch b[0] {
	case sessionData:
		return hearData(b)
	case sessionConnect, sessionAccept:
		h.Associates, h.Accepts = b[0] == sessionConnect, b[0] == sessionAccept
		return h, h.associated(b)
	case sessionRefuse:
		return Heard{Ends: true, Why: "the session is refused"}, nil
	case sessionAbort:
		return Heard{Ends: true, Why: "the session was broken off"}, nil
	case sessionFinish, sessionDisconnect:
		return Heard{Ends: true}, nil
	}
	return h, fmt.Errorf("an SPDU of kind %02X, which is none of those in use", b[0])
}

// hearData unwraps a message.
func hearData(b []byte) (h Heard, err error) {
	if len(b) < 4 || b[1] != 0 || b[2] != sessionData || b[3] != 0 {
		return h, errors.New("the session does not begin with the tokens and the data that it has")
	}
	at := 4
	e, _, err := next(b[at:])
	if err != nil {
		return h, err
	}
	if e.tag != 0x61 {
		return h, fmt.Errorf("a presentation of tag %02X", e.tag)
	}
	at += e.head
	if e, _, err = next(e.content); err != nil {
		return h, err
	}
	at += e.head
	inner := e.content
	for len(inner) > 0 {
		of, rest, err := next(inner)
		if err != nil {
			return h, err
		}
		switch of.tag {
		case 0x02:
			if id, err := intOf(of.content); err != nil || id != contextMMS {
				return h, fmt.Errorf("it speaks in context %X, and MMS is %d", of.content, contextMMS)
			}
		case 0xA0:
			h.MMS, h.From = of.content, at+of.head
			return h, nil
		}
		at += len(inner) - len(rest)
		inner = rest
	}
	return h, errors.New("the presentation holds no message")
}

// associated reads the beginning of a conversation, or the answer to it.
func (h *Heard) associated(b []byte) error {
	_, body, err := sessionItem(b)
	if err != nil {
		return err
	}
	var data []byte
	for len(body) > 0 {
		n, value, err := sessionItem(body)
		if err != nil {
			return err
		}
		if body[0] == userDataItem {
			data = value
		}
		body = body[n:]
	}
	if data == nil {
		return errors.New("the session has no user data")
	}
	aare, err := way(data, 0x31, 0xA2, 0x61, sequenceTag, 0xA0)
	if err != nil {
		return fmt.Errorf("the presentation: %w", err)
	}
	tag, kind := uint32(0x60), uint32(InitiateRequest)
	if h.Accepts {
		tag, kind = 0x61, uint32(InitiateResponse)
	}
	inner, err := find(aare, tag)
	if err != nil {
		return fmt.Errorf("the association: %w", err)
	}
	if result, err := way(inner, 0xA2, 0x02); h.Accepts && err == nil && !bytes.Equal(result, []byte{0}) {
		h.Why = "the association is refused"
		return nil
	}
	mms, err := way(inner, 0xBE, 0x28, 0xA0)
	if err != nil {
		return fmt.Errorf("the association: %w", err)
	}
	initiated, err := find(mms, kind)
	if err != nil {
		h.Why = "MMS is refused"
		return nil
	}
	h.Initiation, h.MMS = readInitiation(initiated), mms
	return nil
}

// sessionItem reads a parameter, and returns how many octets it has in all.
func sessionItem(b []byte) (n int, value []byte, err error) {
	if len(b) < 2 {
		return 0, nil, errors.New("a parameter of the session is cut short")
	}
	size, head := int(b[1]), 2
	if size == 255 {
		if len(b) < 4 {
			return 0, nil, errors.New("a parameter of the session is cut short")
		}
		size, head = int(b[2])<<8|int(b[3]), 4
	}
	if head+size > len(b) {
		return 0, nil, fmt.Errorf("a parameter of the session says %d octets, and has %d", size, len(b)-head)
	}
	return head + size, b[head : head+size], nil
}
