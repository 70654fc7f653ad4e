package iec61850

import (
	"encoding/binary"
	"fmt"
	"strings"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/wire/isotcp"
)

// Labels says what octets are that hold frames of the transport, one behind the other. Points are put
// over the values that they came from.
func Labels(b []byte, points []exchange.Labelled) []exchange.Field {
	l := &labels{b: b}
	var message []byte
	var places []int
	for from := 0; from < len(b); {
		n, err := isotcp.Frame(b[from:], 1<<16)
		if err != nil || n == 0 {
			why := "the frame is cut short"
			if err != nil {
				why = err.Error()
			}
			l.add(from, len(b), "no frame", "broken", why)
			break
		}
		rest, last := l.transport(from, n)
		for i := rest; i < from+n; i++ {
			message, places = append(message, b[i]), append(places, i)
		}
		if from += n; last && len(message) > 0 {
			l.message(message, places)
			message, places = nil, nil
		}
	}
	for i := range l.fields {
		f := &l.fields[i]
		for _, p := range points {
			if f.Role == "data" && p.From < f.To && f.From < p.To {
				f.Role, f.Point, f.Label, f.Meaning = "point", p.ID, p.Name, strings.TrimSpace(p.Shown+" · "+f.Meaning)
			}
		}
	}
	return l.fields
}

// labels goes through frames.
type labels struct {
	b      []byte
	fields []exchange.Field
}

func (l *labels) add(from, to int, label, role, meaning string) {
	if from < to {
		l.fields = append(l.fields, exchange.Field{From: from, To: to, Label: label, Role: role, Meaning: meaning})
	}
}

// transport labels the heads of a frame, and returns where its message begins and whether that ends.
func (l *labels) transport(from, n int) (rest int, last bool) {
	l.add(from, from+4, "RFC 1006", "frame", fmt.Sprintf("version 3, %d octets", n))
	t, err := isotcp.ParseTPDU(l.b[from : from+n])
	if err != nil {
		l.add(from+4, from+n, "no TPDU", "broken", err.Error())
		return from + n, false
	}
	rest = from + n - len(t.Rest)
	kind := map[byte]string{isotcp.ConnectRequest: "connect", isotcp.ConnectConfirm: "connected",
		isotcp.Disconnect: "disconnect", isotcp.Data: "data", isotcp.Error: "error"}[t.Kind]
	if t.Kind == isotcp.Data && t.Last {
		kind += ", the last of the message"
	}
	l.add(from+4, rest, "transport", "frame", kind)
	return rest, t.Last && t.Kind == isotcp.Data
}

// spdus are the kinds of the session.
var spdus = map[byte]string{sessionConnect: "connect", sessionAccept: "accept", sessionRefuse: "refuse",
	sessionFinish: "finish", sessionDisconnect: "disconnect", sessionAbort: "abort"}

// message labels a message; places say where each of its octets stands.
func (l *labels) message(b []byte, places []int) {
	put := func(from, to int, label, role, meaning string) {
		for from < to && from < len(places) { // it may be parted by the heads of frames
			end := from + 1
			for end < to && end < len(places) && places[end] == places[end-1]+1 {
				end++
			}
			l.add(places[from], places[end-1]+1, label, role, meaning)
			from = end
		}
	}
	h, err := Hear(b)
	switch {
	case err != nil:
		put(0, len(b), "no message", "broken", err.Error())
		return
	case h.From == 0:
		put(0, 1, "session", "frame", spdus[b[0]])
		at := strings.Index(string(b), string(h.MMS))
		if h.MMS == nil || at <= 0 {
			put(1, len(b), "session", "frame", h.Why)
			return
		}
		put(1, at, "session, presentation, association", "frame", "in their usual forms")
		d := &describer{put: put}
		d.walk(b, at, at+len(h.MMS), "", 0)
		put(at+len(h.MMS), len(b), "association", "frame", "")
		return
	}
	put(0, 4, "session", "frame", "data")
	put(4, h.From, "presentation", "frame", "in the context of MMS")
	d := &describer{put: put}
	d.walk(b, h.From, h.From+len(h.MMS), "", 0)
	put(h.From+len(h.MMS), len(b), "octets", "broken", "behind the message")
}

// describer goes through the elements of MMS.
type describer struct {
	put func(from, to int, label, role, meaning string)
}

var messageWords = map[uint32]string{uint32(Request): "question", uint32(Response): "answer", uint32(Error): "refusal",
	uint32(Unconfirmed): "report", uint32(Reject): "rejection", uint32(InitiateRequest): "initiate",
	uint32(InitiateResponse): "initiated", uint32(InitiateError): "not initiated", uint32(ConcludeRequest): "conclude",
	uint32(ConcludeResponse): "concluded"}

// String is a service in words.
func (s Service) String() string {
	words := map[Service]string{GetNameList: "list of names", Identify: "identify", Read: "read", Write: "write",
		GetTypeOf: "type of a variable", GetMembersOf: "members of a data set", Report: "report"}
	if word, ok := words[s]; ok {
		return word
	}
	return fmt.Sprintf("service %d", int(s))
}

// values are the tags of data without parts.
var valueWords = map[uint32]string{tagBoolean: "boolean", tagBits: "bits", tagInteger: "whole number",
	tagUnsigned: "whole number", tagFloat: "number", tagOctets: "octets", tagVisible: "text", tagMMSString: "text",
	tagUTC: "time", tagBinary: "time"}

// walk labels the elements from one octet to another: heads of those with parts, the others whole.
func (d *describer) walk(b []byte, from, to int, in string, depth int) {
	for from < to {
		e, rest, err := next(b[from:to])
		if err != nil || depth > 2*mostDepth {
			why := "it lies too deep"
			if err != nil {
				why = err.Error()
			}
			d.put(from, to, "no element", "broken", why)
			return
		}
		end := to - len(rest)
		body := from + e.head
		switch word := messageWords[e.tag]; {
		case depth == 0 && word != "":
			d.put(from, body, "MMS", "frame", word)
			d.walk(b, body, end, word, depth+1)
		case depth == 1 && (in == "question" || in == "answer") && e.tag != invokeTag:
			service := Service(e.tag & serviceMask)
			d.put(from, body, "service", "frame", service.String())
			d.walk(b, body, end, service.String(), depth+1)
		case e.tag == invokeTag && depth == 1:
			v, _ := uintOf(e.content) // a number that is too long is shown by its octets
			d.put(from, end, "number", "frame", fmt.Sprint(v))
		case e.tag == identifierTag:
			d.put(from, end, "name", "frame", string(e.content))
		case e.tag&constructed != 0 && e.tag < 0x100:
			d.put(from, body, "element", "frame", fmt.Sprintf("%02X, %d octets", e.tag, len(e.content)))
			d.walk(b, body, end, in, depth+1)
		case valueWords[e.tag] != "" && (in == "answer" || in == "read" || in == "write" || in == "report"):
			d.put(from, end, valueWords[e.tag], "data", said(b[from:end]))
		default:
			d.put(from, end, "element", "frame", fmt.Sprintf("%02X: %s", e.tag, spelled(e.content)))
		}
		from = end
	}
}

// said is a value in words.
func said(b []byte) string {
	d, _, err := ReadData(b, 0)
	if err != nil {
		return err.Error()
	}
	switch b[0] {
	case tagBoolean:
		return fmt.Sprint(d.Int != 0)
	case tagInteger, tagUnsigned:
		return fmt.Sprint(d.Int)
	case tagFloat:
		return fmt.Sprint(d.Float)
	case tagUTC, tagBinary:
		return d.Time.Format(time.RFC3339Nano)
	case tagBits:
		var bits strings.Builder
		for i := range min(d.Size, 64) {
			bits.WriteByte('0' + byte(d.Bits>>i&1))
		}
		return bits.String()
	}
	return spelled([]byte(d.Text))
}

// spelled is octets as text where they are that, and as a number where they are few.
func spelled(b []byte) string {
	text := string(b)
	if len(b) > 0 && strings.IndexFunc(text, func(r rune) bool { return r < ' ' || r > '~' }) < 0 {
		return text
	}
	if len(b) > 0 && len(b) <= 8 {
		octets := append(make([]byte, 8-len(b)), b...)
		return fmt.Sprint(binary.BigEndian.Uint64(octets))
	}
	return fmt.Sprintf("%d octets", len(b))
}
