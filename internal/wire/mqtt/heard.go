package mqtt

import (
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/mqtt"
)

// The control packets (MQTT 3.1.1, clause 2.2.1; MQTT 5, clause 2.1.2).
const (
	connect = 1 + iota
	connectAck
	publish
	publishAck
	publishReceived
	publishRelease
	publishComplete
	subscribe
	subscribeAck
	unsubscribe
	unsubscribeAck
	ping
	pong
	disconnect
)

var packetWords = map[int]string{connect: "connect", publish: "publish", publishAck: "acknowledge",
	publishReceived: "received", publishRelease: "release", publishComplete: "complete", subscribe: "subscribe",
	unsubscribe: "unsubscribe", ping: "sign of life", disconnect: "disconnect"}

func init() {
	capture.Register(&capture.Speech{Protocol: family.TCP.Name, Recognise: recognise, AskerOf: askerOf,
		New: func(_ *capture.Conn, heard func(*capture.Heard)) capture.Reader {
			return &ear{waiting: capture.Waiting{Heard: heard}, due: map[uint16]due{}}
		},
		Covers:   family.Covers,
		Words:    func(h *capture.Heard) string { return packetWords[h.Function] },
		Question: func(b []byte) []exchange.Field { return labels(b) },
		Answer:   func(_, b []byte, _ []exchange.Labelled) []exchange.Field { return labels(b) }})
}

// mostPacket bounds what is put together of one packet, in octets. Longer ones go by.
const mostPacket = 1 << 20

// packetLen returns the length of the packet that begins with b: a first octet, and the
// octets that follow in up to four of seven bits, the lowest first (MQTT 5, clause 1.5.5).
func packetLen(b []byte) (int, error) {
	if len(b) == 0 {
		return 0, nil
	}
	if kind := b[0] >> 4; kind < connect || kind > disconnect+1 {
		return 0, fmt.Errorf("no packet begins with %02X", b[0])
	}
	n, shift := 0, 0
	for i, c := range b[1:] {
		if i == 4 {
			return 0, errors.New("the length of the packet has more than four octets")
		}
		n |= int(c&0x7F) << shift
		if shift += 7; c&0x80 == 0 {
			if n > mostPacket {
				return 0, fmt.Errorf("a packet of %d octets is longer than is looked at", n)
			}
			return 2 + i + n, nil
		}
	}
	return 0, nil
}

// body is what follows the head of a packet.
func body(b []byte) []byte {
	i := 1
	for i < len(b) && b[i]&0x80 != 0 {
		i++
	}
	return b[min(i+1, len(b)):]
}

// text reads a string of two octets of length (clause 1.5.4), and what follows it.
func text(b []byte) (s string, rest []byte, ok bool) {
	if len(b) < 2 {
		return "", nil, false
	}
	n := int(binary.BigEndian.Uint16(b))
	if len(b) < 2+n {
		return "", nil, false
	}
	return string(b[2 : 2+n]), b[2+n:], true
}

// recognise looks for the packet that every connection begins with.
func recognise(said [2][]byte) capture.Fit {
	fit := capture.Not
	for _, b := range said {
		if len(b) == 0 {
			continue
		}
		if b[0] != connect<<4 {
			continue
		}
		name, _, ok := text(body(b))
		switch {
		case ok && (name == "MQTT" || name == "MQIsdp"):
			return capture.Certain
		case !ok && len(b) < 10:
			fit = capture.Unsure
		}
	}
	return fit
}

func askerOf(said [2][]byte) (first, known bool) {
	return len(said[0]) > 0 && said[0][0] == connect<<4, true
}

// ear hears the exchanges of one connection.
type ear struct {
	waiting capture.Waiting
	frames  [2]capture.Frames
	version byte
	due     map[uint16]due // what the broker told and is to be confirmed, by number
	last    time.Time
}

// due is a message that is to be confirmed.
type due struct {
	at     time.Time
	packet int64
	topic  string
}

// Of what is to be confirmed: how many are remembered, and after what time one that is
// not is said to be so.
const (
	mostDue      = 1000
	confirmLimit = 5 * time.Second
)

// Said implements capture.Reader.
func (e *ear) Said(p capture.Piece) {
	e.frames[p.Side].Take(p.Octets, packetLen, func(b []byte) { e.packet(p, b) },
		func(octets []byte, err error) { e.waiting.Stray(p, octets, err.Error()) })
}

// The references of exchanges that have no number of their own.
const (
	ofConnect = 1 << 16
	ofPing    = 1 << 17
)

func (e *ear) packet(p capture.Piece, b []byte) {
	kind, rest := int(b[0]>>4), body(b)
	question := capture.Heard{Station: -1, Function: kind, Asked: p.At, AskedIn: p.Number, Request: b}
	number := func() uint64 {
		if len(rest) < 2 {
			return 0
		}
		return uint64(binary.BigEndian.Uint16(rest))
	}
	plain := func(*capture.Heard) {}
	e.last = p.At
	switch kind {
	case connect:
		if _, after, ok := text(rest); ok && len(after) > 0 {
			e.version = after[0]
		}
		e.waiting.Ask(ofConnect, &question)
	case connectAck:
		e.waiting.Answer(ofConnect, p, b, func(h *capture.Heard) {
			if len(rest) >= 2 && rest[1] != 0 {
				h.Outcome, h.Code = exchange.Declined, int(rest[1])
			}
		})
	case publish:
		e.published(p, b, rest, &question)
	case publishAck, publishReceived:
		if p.Side == capture.Asker {
			delete(e.due, uint16(number()))
		} else {
			e.waiting.Answer(number(), p, b, func(h *capture.Heard) {
				if len(rest) >= 3 && rest[2] >= 0x80 {
					h.Outcome, h.Code = exchange.Declined, int(rest[2])
				}
			})
		}
	case subscribe, unsubscribe:
		e.waiting.Ask(number(), &question)
	case subscribeAck:
		e.waiting.Answer(number(), p, b, func(h *capture.Heard) {
			if len(rest) > 2 && rest[len(rest)-1] >= 0x80 {
				h.Outcome, h.Code = exchange.Declined, int(rest[len(rest)-1])
			} else if filter, ok := e.filterOf(body(h.Request)); ok {
				h.Report = &capture.Report{Way: capture.Wants, Name: filter}
			}
		})
	case unsubscribeAck:
		e.waiting.Answer(number(), p, b, plain)
	case ping:
		e.waiting.Ask(ofPing, &question)
	case pong:
		e.waiting.Answer(ofPing, p, b, plain)
	case disconnect:
		question.Outcome = exchange.Sent
		if p.Side == capture.Answerer {
			question = capture.Heard{Station: -1, Function: kind, Answered: p.At, AnsweredIn: p.Number, Answer: b,
				Outcome: exchange.Reported}
			if len(rest) > 0 && rest[0] >= 0x80 {
				question.Outcome, question.Code = exchange.Declined, int(rest[0])
			}
		}
		e.waiting.Alone(&question)
	}
}

// published is told of a message, to the broker or from it.
func (e *ear) published(p capture.Piece, b, rest []byte, question *capture.Heard) {
	question.Write = true
	topic, after, ok := text(rest)
	service := b[0] >> 1 & 3
	report := &capture.Report{Way: capture.Gives, Name: topic}
	payload := after
	if service > 0 && len(after) >= 2 {
		payload = after[2:]
	}
	e.numbered(report, payload)
	if p.Side == capture.Answerer {
		report.Way = capture.Brings
		if service > 0 && len(after) >= 2 && len(e.due) < mostDue {
			e.due[binary.BigEndian.Uint16(after)] = due{p.At, p.Number, topic}
		}
		e.waiting.Alone(&capture.Heard{Station: -1, Function: publish, Answered: p.At, AnsweredIn: p.Number, Answer: b,
			Outcome: exchange.Reported, Report: report})
		return
	}
	question.Report = report
	if service == 0 || !ok || len(after) < 2 {
		question.Outcome = exchange.Sent
		e.waiting.Alone(question)
		return
	}
	e.waiting.Ask(uint64(binary.BigEndian.Uint16(after)), question)
}

// filterOf is the first that a subscription names (MQTT 5, clause 3.8).
func (e *ear) filterOf(rest []byte) (filter string, ok bool) {
	if len(rest) < 2 {
		return "", false
	}
	rest = rest[2:]
	if e.version >= 5 { // properties, after their length
		n, shift, i := 0, 0, 0
		for ; i < len(rest) && i < 4; i++ {
			n |= int(rest[i]&0x7F) << shift
			if shift += 7; rest[i]&0x80 == 0 {
				i++
				break
			}
		}
		if n+i > len(rest) {
			return "", false
		}
		rest = rest[n+i:]
	}
	filter, _, ok = text(rest)
	return strings.TrimPrefix(filter, "$share/"), ok && !strings.HasPrefix(filter, "$share/")
}

// numbered takes the number out of a message of Sparkplug B: those of one node follow each
// other (clause 6.4.6), from 0 with its birth.
func (e *ear) numbered(r *capture.Report, payload []byte) {
	parts := strings.Split(r.Name, "/")
	if e.version >= 5 || len(parts) < 4 || parts[0] != "spBv1.0" || parts[2] == "NDEATH" || parts[2] == "NCMD" ||
		parts[2] == "DCMD" {
		return
	}
	p, err := ParsePayload(payload)
	if err != nil || !p.HasSeq {
		return
	}
	r.Series, r.Number, r.Modulus = parts[1]+"/"+parts[3], int(p.Seq), 256
	r.Begins = parts[2] == "NBIRTH"
}

// Lost implements capture.Reader.
func (e *ear) Lost(side capture.Side, _ int) {
	e.frames[side].Drop()
	e.waiting.Lost()
	clear(e.due) // they may have been confirmed in what is missing
}

// Finish implements capture.Reader.
func (e *ear) Finish(c *capture.Conn, at time.Time) {
	for _, number := range slices.Sorted(maps.Keys(e.due)) {
		d := e.due[number]
		if e.last.Sub(d.at) < confirmLimit {
			continue
		}
		e.waiting.Heard(&capture.Heard{Station: -1, Function: publish, Answered: d.at, AnsweredIn: d.packet,
			Stray: "it was to be confirmed and was not", Report: &capture.Report{Way: capture.Unconfirmed, Name: d.topic}})
	}
	e.waiting.Finish(c, at)
}

// labels says what the octets of a packet are.
func labels(b []byte) []exchange.Field {
	if len(b) < 2 {
		return nil
	}
	kind := int(b[0] >> 4)
	rest := body(b)
	at := len(b) - len(rest)
	fields := []exchange.Field{{From: 0, To: 1, Label: "packet", Role: "frame", Meaning: packetWords[kind]},
		{From: 1, To: at, Label: "octets follow", Role: "frame", Meaning: strconv.Itoa(len(rest))}}
	if kind == publish {
		if topic, after, ok := text(rest); ok {
			fields = append(fields, exchange.Field{From: at, To: len(b) - len(after), Label: "topic", Role: "data",
				Meaning: strings.ToValidUTF8(topic, "?")})
			at = len(b) - len(after)
		}
	}
	if at < len(b) {
		fields = append(fields, exchange.Field{From: at, To: len(b), Label: "content", Role: "data"})
	}
	return fields
}
