package bacnet

import (
	"fmt"
	"hash/fnv"
	"net/netip"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/bacnet"
)

func init() {
	capture.Register(&capture.Speech{Protocol: family.IP.Name, Datagrams: true, Recognise: recognise,
		New: func(c *capture.Conn, heard func(*capture.Heard)) capture.Reader {
			return &ear{conn: c, waiting: capture.Waiting{Heard: heard, Overlaps: true}, parts: map[uint64]*part{}}
		},
		Words:    func(h *capture.Heard) string { return functionWords(h.Function) },
		Question: func(b []byte) []exchange.Field { return Labels(b, 0, nil) },
		Answer:   func(_, b []byte, points []exchange.Labelled) []exchange.Field { return Labels(b, 0, points) }})
}

// Functions are services; those that are not confirmed, and messages of the layers below, have marks.
const (
	ofUnconfirmed = 1 << 8
	ofNetwork     = 1 << 9
	ofLink        = 1 << 10
)

func functionWords(f int) string {
	switch {
	case f&ofLink != 0:
		return LinkFunction(f).String()
	case f&ofNetwork != 0:
		return NetworkMessage(f).String()
	case f&ofUnconfirmed != 0:
		return ServiceName(Unconfirmed, uint8(f))
	}
	return ServiceName(Confirmed, uint8(f))
}

// recognise looks for datagrams of the link layer with a message of the network layer inside.
func recognise(said [2][]byte) capture.Fit {
	fit := capture.Not
	for _, b := range said {
		if len(b) < linkHead || b[0] != linkType {
			continue
		}
		// Of several that came one after the other the first tells.
		n := int(b[2])<<8 | int(b[3])
		if n > len(b) || n < linkHead {
			continue
		}
		l, err := ParseLink(b[:n])
		if err != nil {
			continue
		}
		if l.NPDU == nil {
			fit = max(fit, capture.Likely)
			continue
		}
		if _, err := ParseNetwork(l.NPDU, l.NPDUAt); err == nil {
			return capture.Certain
		}
	}
	return fit
}

// ear hears what two ends say to each other, of which either may ask.
type ear struct {
	conn    *capture.Conn
	waiting capture.Waiting
	parts   map[uint64]*part
	// announced counts how often a device said that it is there since a time.
	announced int
	since     time.Time
}

// part is an answer in parts that is under way.
type part struct {
	octets []byte
	body   []byte
	at     int
}

// Bounds of answers in parts, and from how many announcements a second on they are a storm.
const (
	mostParts    = 64
	mostPartSize = 8 << 20
	stormFrom    = 20
)

// ref tells questions apart: by who asks, from where behind it, and the number.
func ref(side capture.Side, behind Station, invoke uint8) uint64 {
	h := fnv.New32a()
	_, _ = h.Write([]byte(behind.Address)) // it does not fail
	return uint64(side)<<60 | uint64(behind.Network)<<40 | uint64(h.Sum32())<<8 | uint64(invoke)
}

// Said implements capture.Reader.
func (e *ear) Said(p capture.Piece) {
	l, err := ParseLink(p.Octets)
	if err != nil {
		e.waiting.Stray(p, p.Octets, err.Error())
		return
	}
	if l.NPDU == nil {
		e.linked(p, &l)
		return
	}
	n, err := ParseNetwork(l.NPDU, l.NPDUAt)
	if err != nil {
		e.waiting.Stray(p, p.Octets, err.Error())
		return
	}
	if !n.Carries {
		of := e.told(p, ofNetwork|int(n.Message), n.Message.String())
		if n.Message == RejectToNetwork {
			of.Remarks = append(of.Remarks, capture.Remark{Kind: capture.Troubled, Name: "it knows no way to a network number"})
		}
		e.waiting.Alone(&of)
		return
	}
	m, err := ParseMessage(n.Body, n.BodyAt)
	if err != nil {
		e.waiting.Stray(p, p.Octets, err.Error())
		return
	}
	e.message(p, &l, &n, &m)
}

// told is something that goes without a question.
func (e *ear) told(p capture.Piece, function int, name string) capture.Heard {
	of := capture.Heard{Station: -1, Function: function, Outcome: exchange.Reported,
		Report: &capture.Report{Way: capture.Brings, Name: name}}
	if p.Side == capture.Asker {
		of.Asked, of.AskedIn, of.Request = p.At, p.Number, p.Octets
		of.Report.Way = capture.Gives
	} else {
		of.Answered, of.AnsweredIn, of.Answer = p.At, p.Number, p.Octets
	}
	return of
}

// linked is told of a message of the link layer.
func (e *ear) linked(p capture.Piece, l *Link) {
	of := e.told(p, ofLink|int(l.Function), l.Function.String())
	if l.Function == LinkResult && l.Result != LinkDone {
		of.Remarks = append(of.Remarks, capture.Remark{Kind: capture.Troubled,
			Name: fmt.Sprintf("it refuses what was asked of the link layer (result %04X): broadcasts are not brought",
				l.Result)})
	}
	e.waiting.Alone(&of)
}

func (e *ear) message(p capture.Piece, l *Link, n *Network, m *Message) {
	switch m.Kind {
	case Confirmed:
		of := capture.Heard{Station: -1, Function: int(m.Service), Asked: p.At, AskedIn: p.Number, Request: p.Octets,
			Write: m.Service == WriteProperty}
		if m.Service == ConfirmedCOV {
			e.changed(&of, m)
		}
		e.waiting.Ask(ref(p.Side, n.From, m.Invoke), &of)
	case SimpleAck, ErrorAnswer, Reject, Abort:
		e.answered(p, n, m, p.Octets)
	case ComplexAck:
		if m.Segmented {
			e.part(p, n, m)
			return
		}
		e.answered(p, n, m, p.Octets)
	case SegmentAck:
		// It belongs to an answer in parts.
	case Unconfirmed:
		of := e.told(p, ofUnconfirmed|int(m.Service), ServiceName(Unconfirmed, m.Service))
		switch m.Service {
		case IAm:
			e.announces(&of, p, l, n, m)
		case UnconfirmedCOV:
			e.changed(&of, m)
		}
		e.waiting.Alone(&of)
	}
}

// part keeps a part of an answer until all of it is there.
func (e *ear) part(p capture.Piece, n *Network, m *Message) {
	key := ref(p.Side.Other(), n.To, m.Invoke)
	of := e.parts[key]
	if of == nil || m.Number == 0 {
		if len(e.parts) >= mostParts {
			clear(e.parts)
		}
		of = &part{at: m.BodyAt}
		e.parts[key] = of
	}
	if len(of.body) < mostPartSize {
		of.octets, of.body = append(of.octets, p.Octets...), append(of.body, m.Body...)
	}
	if m.Follows {
		return
	}
	delete(e.parts, key)
	whole := *m
	whole.Segmented, whole.Body = false, of.body
	e.answered(p, n, &whole, of.octets)
}

// answered ends an exchange.
func (e *ear) answered(p capture.Piece, n *Network, m *Message, octets []byte) {
	e.waiting.Answer(ref(p.Side.Other(), n.To, m.Invoke), p, octets, func(of *capture.Heard) {
		switch m.Kind {
		case ErrorAnswer:
			of.Outcome = exchange.Declined
			f, err := ParseFailure(m.Body, m.BodyAt)
			if err != nil {
				of.Outcome, of.Broken = exchange.Garbled, err.Error()
				return
			}
			of.Code = family.ErrorCode(f.Class, f.Code)
			of.Optional = m.Service == ReadProperty && f == noProperty && optional(asked(of.Request).Property)
		case Reject:
			of.Outcome, of.Code = exchange.Declined, family.RejectCode(m.Reason)
		case Abort:
			of.Outcome, of.Code = exchange.Declined, family.AbortCode(m.Reason)
		case ComplexAck:
			e.read(of, m)
		}
	})
}

// noProperty is the error that an object has no such property (clause 18.3).
var noProperty = Failure{Class: 2, Code: 32}

// optional reports whether objects may lack a property without anything being wrong: who lists a device asks for many.
func optional(p uint32) bool {
	switch family.Property(p) {
	case family.PresentValue, family.StatusFlags, family.ObjectIdentifier, family.ObjectName, family.ObjectType,
		family.ObjectList:
		return false
	}
	return true
}

// asked is what a datagram asks for with ReadProperty; of none for any other.
func asked(datagram []byte) (ref Reference) {
	l, err := ParseLink(datagram)
	if err != nil {
		return ref
	}
	n, err := ParseNetwork(l.NPDU, l.NPDUAt)
	if err != nil {
		return ref
	}
	if m, err := ParseMessage(n.Body, n.BodyAt); err == nil {
		ref, _ = ParseReadProperty(m.Body, m.BodyAt) // what cannot be read is of none
	}
	return ref
}

// mostRefusals bounds what is told of one answer.
const mostRefusals = 20

// read looks into an answer: at what is refused in it, and at values that their device calls faulty.
func (e *ear) read(of *capture.Heard, m *Message) {
	var results []Result
	switch m.Service {
	case ReadProperty:
		ref, values, err := ParseReadAnswer(m.Body, m.BodyAt)
		if err != nil {
			of.Outcome, of.Broken = exchange.Garbled, err.Error()
			return
		}
		results = []Result{{Reference: ref, Values: values}}
	case ReadPropertyMultiple:
		var err error
		if results, err = ParseMultipleAnswer(m.Body, m.BodyAt); err != nil {
			of.Outcome, of.Broken = exchange.Garbled, err.Error()
			return
		}
	}
	for i := range results {
		r := &results[i]
		if f := r.Failed; f != nil && !(*f == noProperty && optional(r.Property)) && len(of.Refusals) < mostRefusals {
			name := fmt.Sprintf("%s:%d.%s", family.Type(r.Object.Type()).Name(), r.Object.Instance(),
				family.Property(r.Property).Name())
			of.Refusals = append(of.Refusals, capture.Refusal{Name: name, Code: family.ErrorCode(f.Class, f.Code)})
		}
		if family.Property(r.Property) == family.StatusFlags && len(r.Values) == 1 {
			doubts(of, r.Object, &r.Values[0])
		}
	}
}

// doubts notes an object that its device calls faulty.
func doubts(of *capture.Heard, o ObjectID, flags *Value) {
	if flags.Tag == TagBits && flags.Bit(1) && len(of.Remarks) < 10 {
		of.Remarks = append(of.Remarks, capture.Remark{Kind: capture.Uncertain,
			Name: fmt.Sprintf("%s:%d has a fault", family.Type(o.Type()).Name(), o.Instance())})
	}
}

// changed looks into a report of a change.
func (e *ear) changed(of *capture.Heard, m *Message) {
	c, err := ParseChange(m.Body, m.BodyAt)
	if err != nil {
		of.Outcome, of.Broken = exchange.Garbled, err.Error()
		return
	}
	if of.Report != nil {
		of.Report.Name = fmt.Sprintf("%s:%d", family.Type(c.Object.Type()).Name(), c.Object.Instance())
	}
	for i := range c.Values {
		if t := &c.Values[i]; family.Property(t.Property) == family.StatusFlags && len(t.Values) == 1 {
			doubts(of, c.Object, &t.Values[0])
		}
	}
}

// announces notes that a device says that it is there, and from where.
func (e *ear) announces(of *capture.Heard, p capture.Piece, l *Link, n *Network, m *Message) {
	is, err := ParseIAm(m.Body, m.BodyAt)
	if err != nil {
		of.Outcome, of.Broken = exchange.Garbled, err.Error()
		return
	}
	from := e.conn.Ends[p.Side]
	if l.Function == Forwarded {
		from = l.From
	}
	of.Report.Name = fmt.Sprintf("device %d", is.Device.Instance())
	of.Remarks = append(of.Remarks, capture.Remark{Kind: capture.Claimed, Name: fmt.Sprintf("device instance %d",
		is.Device.Instance()), Text: placeWords(from, n.From)})
	if e.announced++; p.At.Sub(e.since) > time.Second {
		e.announced, e.since = 1, p.At
	}
	if e.announced == stormFrom {
		of.Remarks = append(of.Remarks, capture.Remark{Kind: capture.Flooded,
			Name: fmt.Sprintf("that device %d is there", is.Device.Instance())})
	}
}

// placeWords is where a device is.
func placeWords(at netip.AddrPort, behind Station) string {
	if behind.Network == 0 {
		return at.Addr().String()
	}
	return fmt.Sprintf("%s, network %d station %X", at.Addr(), behind.Network, behind.Address)
}

// Lost implements capture.Reader.
func (e *ear) Lost(capture.Side, int) { e.waiting.Lost() }

// Finish implements capture.Reader.
func (e *ear) Finish(c *capture.Conn, at time.Time) { e.waiting.Finish(c, at) }
