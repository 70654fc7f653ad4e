package bacnet

import (
	"fmt"
	"strconv"
	"strings"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/bacnet"
)

// Labels says what the octets of a datagram are. Points, whose places are counted from base on, are put over
// the values that they came from.
func Labels(b []byte, base int, points []exchange.Labelled) []exchange.Field {
	l := &labels{}
	l.datagram(b)
	for i := range l.fields {
		f := &l.fields[i]
		for _, p := range points {
			if f.Role == "data" && p.From-base < f.To && f.From < p.To-base {
				f.Role, f.Point, f.Label, f.Meaning = "point", p.ID, p.Name, strings.TrimSpace(p.Shown+" · "+f.Meaning)
			}
		}
	}
	return l.fields
}

// labels goes through a datagram.
type labels struct{ fields []exchange.Field }

func (l *labels) add(from, to int, label, role, meaning string) {
	if from < to {
		l.fields = append(l.fields, exchange.Field{From: from, To: to, Label: label, Role: role, Meaning: meaning})
	}
}

func (l *labels) broken(b []byte, from int, err error) {
	l.add(from, len(b), "not readable", "broken", err.Error())
}

func (l *labels) datagram(b []byte) {
	link, err := ParseLink(b)
	if err != nil {
		l.broken(b, 0, err)
		return
	}
	l.add(0, 1, "BACnet/IP", "frame", "virtual link layer")
	l.add(1, 2, "function", "frame", link.Function.String())
	l.add(2, 4, "length", "frame", fmt.Sprintf("%d octets", len(b)))
	switch {
	case link.NPDU == nil:
		what := link.Function.String()
		switch link.Function {
		case LinkResult:
			what = fmt.Sprintf("result %04X", link.Result)
		case RegisterForeign:
			what = fmt.Sprintf("for %d s", link.Seconds)
		default:
			if n := len(link.Table); n > 0 {
				what = fmt.Sprintf("%d addresses", n)
			}
		}
		l.add(linkHead, len(b), link.Function.String(), "data", what)
		return
	case link.Function == Forwarded:
		l.add(linkHead, link.NPDUAt, "from", "frame", link.From.String())
	}
	n, err := ParseNetwork(link.NPDU, link.NPDUAt)
	if err != nil {
		l.broken(b, link.NPDUAt, err)
		return
	}
	var parts []string
	if n.To.Network != 0 {
		parts = append(parts, "to "+n.To.words())
	}
	if n.From.Network != 0 {
		parts = append(parts, "from "+n.From.words())
	}
	if n.Expects {
		parts = append(parts, "an answer is expected")
	}
	if parts == nil {
		parts = append(parts, "version 1")
	}
	l.add(link.NPDUAt, n.BodyAt, "network layer", "frame", strings.Join(parts, ", "))
	if !n.Carries {
		l.add(n.BodyAt, len(b), "network message", "data", n.Message.String())
		return
	}
	l.message(b, n.Body, n.BodyAt)
}

// words names a station.
func (s Station) words() string {
	switch {
	case s.Network == EveryNetwork:
		return "all networks"
	case s.Address == "":
		return fmt.Sprintf("all of network %d", s.Network)
	}
	return fmt.Sprintf("station %X of network %d", s.Address, s.Network)
}

var networkMessages = map[NetworkMessage]string{WhoIsRouter: "who is a router to the network",
	IAmRouter: "I am a router to the networks", ICouldBeRouter: "I could be a router to the network",
	RejectToNetwork: "message to the network rejected", RouterBusy: "router busy", RouterAvailable: "router available",
	InitRoutingTable: "set up the routing table", InitRoutingAck: "routing table",
	WhatIsNetwork: "what is the network number", NetworkNumberIs: "the network number is"}

func (m NetworkMessage) String() string {
	if name, known := networkMessages[m]; known {
		return name
	}
	return fmt.Sprintf("message %02X", uint8(m))
}

var (
	kindNames = [...]string{"question", "told to all", "done", "answer", "part acknowledged", "error", "reject",
		"abort"}
	confirmedNames = map[uint8]string{ConfirmedCOV: "ConfirmedCOVNotification", SubscribeCOV: "SubscribeCOV",
		ReadProperty: "ReadProperty", ReadPropertyMultiple: "ReadPropertyMultiple", WriteProperty: "WriteProperty",
		WriteMultiple: "WritePropertyMultiple", ReadRange: "ReadRange", SubscribeCOVProperty: "SubscribeCOVProperty"}
	unconfirmedNames = map[uint8]string{IAm: "I-Am", IHave: "I-Have", UnconfirmedCOV: "UnconfirmedCOVNotification",
		WhoHas: "Who-Has", WhoIs: "Who-Is", TimeSync: "TimeSynchronization", UTCTimeSync: "UTCTimeSynchronization"}
)

// ServiceName is a service as the standard writes it.
func ServiceName(kind Kind, service uint8) string {
	names := confirmedNames
	if kind == Unconfirmed {
		names = unconfirmedNames
	}
	if name, known := names[service]; known {
		return name
	}
	return fmt.Sprintf("service %d", service)
}

func (l *labels) message(b, body []byte, from int) {
	m, err := ParseMessage(body, from)
	if err != nil {
		l.broken(b, from, err)
		return
	}
	meaning := kindNames[m.Kind]
	switch m.Kind {
	case Confirmed, ComplexAck, SimpleAck, ErrorAnswer:
		meaning = fmt.Sprintf("%s, number %d: %s", ServiceName(m.Kind, m.Service), m.Invoke, meaning)
	case Unconfirmed:
		meaning = ServiceName(m.Kind, m.Service)
	case SegmentAck:
		meaning = fmt.Sprintf("number %d: %s, up to %d, window %d", m.Invoke, meaning, m.Number, m.Window)
	case Reject:
		meaning = fmt.Sprintf("number %d: %s", m.Invoke, family.Words(family.RejectCode(m.Reason)))
	case Abort:
		meaning = fmt.Sprintf("number %d: %s", m.Invoke, family.Words(family.AbortCode(m.Reason)))
	}
	to := m.BodyAt
	if to == 0 {
		to = len(b)
	}
	l.add(from, to, "application", "frame", meaning)
	if len(m.Body) == 0 {
		return
	}
	if m.Segmented {
		l.add(m.BodyAt, len(b), fmt.Sprintf("part %d", m.Number), "data", "of an answer in parts")
		return
	}
	l.tags(b, m.Body, m.BodyAt)
}

// tags labels what lies in the tags of a service. The number of a context tag says what it is only together
// with the service: objects have four octets, and properties follow them.
func (l *labels) tags(b, body []byte, from int) {
	r := &reader{body, from}
	depth := 0
	for len(r.b) > 0 {
		e, err := r.next()
		if err != nil {
			l.broken(b, r.from, err)
			return
		}
		switch {
		case e.Opens:
			l.add(e.From, e.To(), fmt.Sprintf("opens %d", e.Number), "frame", "")
			depth++
		case e.Closes:
			l.add(e.From, e.To(), fmt.Sprintf("closes %d", e.Number), "frame", "")
			depth--
		case e.Context:
			l.add(e.From, e.To(), fmt.Sprintf("tag %d", e.Number), "frame", contextWords(&e, depth))
		default:
			v, err := valueOf(&e)
			if err != nil {
				l.add(e.From, e.To(), "value", "broken", err.Error())
				continue
			}
			l.add(e.From, e.To(), tagNames[v.Tag], "data", v.String())
		}
	}
}

// contextWords is what a context tag holds, as far as that can be told.
func contextWords(e *Element, depth int) string {
	n, err := uintOf(e.Content)
	switch {
	case err != nil:
		return fmt.Sprintf("%X", e.Content)
	case len(e.Content) == 4 && e.Number <= 2:
		o := ObjectID(n)
		return fmt.Sprintf("%s:%d", family.Type(o.Type()).Name(), o.Instance())
	case depth == 0 && e.Number == 1, depth > 0 && (e.Number == 0 || e.Number == 2):
		if name := family.Property(n).Name(); name != strconv.FormatUint(n, 10) {
			return name
		}
	}
	return strconv.FormatUint(n, 10)
}

var tagNames = [...]string{"null", "boolean", "unsigned", "signed", "real", "double", "octets", "text", "bits",
	"enumerated", "date", "time",
	"object"}

// String is a value as people read it.
func (v *Value) String() string {
	if v.Opaque {
		return fmt.Sprintf("%X", v.Text)
	}
	switch v.Tag {
	case TagNull:
		return "null"
	case TagBoolean:
		return []string{"false", "true"}[min(v.Uint, 1)]
	case TagUnsigned, TagEnumerated:
		return strconv.FormatUint(v.Uint, 10)
	case TagSigned:
		return strconv.FormatInt(v.Int, 10)
	case TagReal:
		return strconv.FormatFloat(v.Float, 'g', -1, 32)
	case TagDouble:
		return strconv.FormatFloat(v.Float, 'g', -1, 64)
	case TagText:
		return strconv.Quote(v.Text)
	case TagBits:
		var s strings.Builder
		for i := range v.Size {
			if v.Bit(i) {
				s.WriteByte('1')
			} else {
				s.WriteByte('0')
			}
		}
		return s.String()
	case TagObject:
		return fmt.Sprintf("%s:%d", family.Type(v.Object.Type()).Name(), v.Object.Instance())
	case TagDate:
		return fmt.Sprintf("%04d-%02d-%02d", 1900+int(v.Date.Year), v.Date.Month, v.Date.Day)
	case TagTime:
		return fmt.Sprintf("%02d:%02d:%02d.%02d", v.Time.Hour, v.Time.Minute, v.Time.Second, v.Time.Hundredths)
	}
	return fmt.Sprintf("%X", v.Text)
}
