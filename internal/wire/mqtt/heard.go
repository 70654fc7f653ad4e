package mqtt

import (
	"encoding/binary"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/mqtt"
)

func init() {
	capture.Register(&capture.Speech{Protocol: family.TCP.Name, Recognise: recognise, AskerOf: askerOf,
		New: func(_ *capture.Conn, heard func(*capture.Heard)) capture.Reader {
			return &ear{waiting: capture.Waiting{Heard: heard, Overlaps: true}, due: map[uint16]due{}}
		},
		Covers:   family.Covers,
		Words:    func(h *capture.Heard) string { return packetWords[h.Function] },
		Question: func(b []byte) []exchange.Field { return Labels(b) },
		Answer:   func(_, b []byte, _ []exchange.Labelled) []exchange.Field { return Labels(b) }})
}

// recognise looks for the packet that every connection begins with, or for messages
// between whole packets where the recording begins later.
func recognise(said [2][]byte) capture.Fit {
	fit, told := capture.Not, false
	for _, b := range said {
		if len(b) == 0 {
			continue
		}
		if Kind(b) == Connect {
			name, _, ok := text(body(b))
			switch {
			case ok && (name == "MQTT" || name == "MQIsdp"):
				return capture.Certain
			case !ok && len(b) < 10:
				fit = capture.Unsure
			}
			continue
		}
		tells, sound := sounds(b)
		if !sound {
			return capture.Not
		}
		told = told || tells
	}
	if told {
		return capture.Likely
	}
	return fit
}

// sounds reports whether octets are nothing but packets, the last of which need not be
// whole, and whether there is a message among them.
func sounds(b []byte) (tells, sound bool) {
	for len(b) > 0 {
		n, err := heardLen(b)
		flags := b[0] & 0x0F
		switch Kind(b) {
		case Publish:
			if flags>>1&3 == 3 {
				return false, false
			}
		case PublishRelease, Subscribe, Unsubscribe:
			if flags != 2 {
				return false, false
			}
		default:
			if flags != 0 {
				return false, false
			}
		}
		if err != nil {
			return false, false
		}
		if n == 0 || n > len(b) {
			return tells, true
		}
		if Kind(b) == Publish {
			topic := Topic(b[:n])
			if topic == "" && n < 6 || !utf8.ValidString(topic) || strings.ContainsFunc(topic, func(r rune) bool {
				return r < ' ' || r == '+' || r == '#'
			}) {
				return false, false
			}
			tells = true
		}
		b = b[n:]
	}
	return tells, true
}

// askerOf looks for what clients alone say, or brokers.
func askerOf(said [2][]byte) (first, known bool) {
	for side, b := range said {
		for len(b) > 0 {
			switch Kind(b) {
			case Connect, Subscribe, Unsubscribe, Ping:
				return side == 0, true
			case ConnectAck, SubscribeAck, UnsubscribeAck, Pong:
				return side == 1, true
			}
			n, err := heardLen(b)
			if err != nil || n == 0 || n > len(b) {
				break
			}
			b = b[n:]
		}
	}
	return false, false
}

// heardLen is Frame for what is heard.
func heardLen(b []byte) (int, error) { return Frame(b, mostPacket) }

// ear hears the exchanges of one connection.
type ear struct {
	waiting capture.Waiting
	frames  [2]capture.Frames
	version byte
	due     map[uint16]due // what the broker told and is to be confirmed, by number
	last    time.Time
	// lastPiece is what the broker said last, without its octets.
	lastPiece capture.Piece
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
	if p.Side == capture.Answerer {
		e.lastPiece = p
		e.lastPiece.Octets = nil
	}
	e.frames[p.Side].Take(p.Octets, heardLen, func(b []byte) { e.packet(p, b) },
		func(octets []byte, err error) { e.waiting.Broken(p, octets, err.Error()) })
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
	case Connect:
		if _, after, ok := text(rest); ok && len(after) > 0 {
			e.version = after[0]
		}
		question.Greets = true
		e.waiting.Ask(ofConnect, &question)
	case ConnectAck:
		e.waiting.Answer(ofConnect, p, b, func(h *capture.Heard) {
			if len(rest) >= 2 && rest[1] != 0 {
				h.Outcome, h.Code = exchange.Declined, int(rest[1])
			}
		})
	case Publish:
		e.published(p, b, rest, &question)
	case PublishAck, PublishReceived:
		if p.Side == capture.Asker {
			delete(e.due, uint16(number()))
		} else {
			e.waiting.Answer(number(), p, b, func(h *capture.Heard) {
				if len(rest) >= 3 && rest[2] >= 0x80 {
					h.Outcome, h.Code = exchange.Declined, int(rest[2])
				}
			})
		}
	case Subscribe, Unsubscribe:
		e.waiting.Ask(number(), &question)
	case SubscribeAck:
		e.waiting.Answer(number(), p, b, func(h *capture.Heard) {
			if len(rest) > 2 && rest[len(rest)-1] >= 0x80 {
				h.Outcome, h.Code = exchange.Declined, int(rest[len(rest)-1])
			} else if filters := e.filtersOf(body(h.Request), 1); len(filters) > 0 {
				h.Report = &capture.Report{Way: capture.Wants, Name: filters[0], Others: filters[1:]}
				for _, filter := range filters {
					if host, ok := HostOfState(filter); ok && !strings.ContainsAny(host, "+#") {
						h.Report.Of, h.Report.Life = host, capture.Awaited
					}
				}
			}
		})
	case UnsubscribeAck:
		e.waiting.Answer(number(), p, b, func(h *capture.Heard) {
			if filters := e.filtersOf(body(h.Request), 0); len(filters) > 0 {
				h.Report = &capture.Report{Way: capture.Leaves, Name: filters[0], Others: filters[1:]}
			}
		})
	case Ping:
		e.waiting.Ask(ofPing, &question)
	case Pong:
		e.waiting.Answer(ofPing, p, b, plain)
	case Disconnect:
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
	report.Payload, report.Kept = payloadOf(b, e.version), b[0]&1 != 0 && p.Side == capture.Answerer
	e.sparkplug(report, report.Payload)
	if p.Side == capture.Answerer {
		report.Way = capture.Brings
		if service > 0 && len(after) >= 2 && len(e.due) < mostDue {
			e.due[binary.BigEndian.Uint16(after)] = due{p.At, p.Number, topic}
		}
		e.waiting.Alone(&capture.Heard{Station: -1, Function: Publish, Answered: p.At, AnsweredIn: p.Number, Answer: b,
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

// mostFilters bounds those that are looked at of one subscription.
const mostFilters = 1000

// filtersOf are those that a subscription names (MQTT 5, clause 3.8).
func (e *ear) filtersOf(rest []byte, behind int) (filters []string) {
	if len(rest) < 2 {
		return nil
	}
	rest = rest[2:]
	if e.version >= 5 {
		n, ok := properties(rest)
		if !ok {
			return nil
		}
		rest = rest[n:]
	}
	for len(rest) > 0 && len(filters) < mostFilters {
		filter, after, ok := text(rest)
		if !ok || len(after) < behind {
			break
		}
		if rest = after[behind:]; !strings.HasPrefix(filter, "$share/") {
			filters = append(filters, filter)
		}
	}
	return filters
}

// sparkplug takes out of a message of Sparkplug B what it says of its node: its number,
// as those of one node follow each other (clause 6.4.6) from 0 with its birth, its time,
// and whether it lives.
func (e *ear) sparkplug(r *capture.Report, payload []byte) {
	if host, ok := HostOfState(r.Name); ok {
		r.Of = host
		state, err := ParseState(payload)
		switch {
		case err != nil:
			r.Broken = "it is no state of a host: " + err.Error()
		case state.Online:
			r.Life = capture.Born
		default:
			r.Life = capture.Gone
		}
		return
	}
	parts := strings.Split(r.Name, "/")
	if len(parts) < 4 || len(parts) > 5 || parts[0] != "spBv1.0" {
		return
	}
	node := parts[1] + "/" + parts[3]
	p, err := ParsePayload(payload)
	if err != nil {
		r.Broken = "it is none of Sparkplug B: " + err.Error()
		return
	}
	if ms := p.Time; ms > 0 || len(p.Metrics) > 0 {
		if n := len(p.Metrics); n > 0 && p.Metrics[n-1].Time > 0 {
			ms = p.Metrics[n-1].Time
		}
		if ms > 0 && ms < 1<<50 {
			r.Sent = time.UnixMilli(int64(ms))
		}
	}
	switch parts[2] {
	case "NCMD", "DCMD":
		r.Sent = time.Time{}
		if len(p.Metrics) > 0 && p.Metrics[0].Name == "Node Control/Rebirth" {
			r.Of, r.Life = node, capture.Called
		}
		return
	case "NDEATH":
		r.Sent = time.Time{} // it was made when the session began
		r.Of, r.Life = node, capture.Gone
		return
	case "NBIRTH":
		r.Of, r.Life, r.Begins = node, capture.Born, true
	default:
		r.Of, r.Life = node, capture.Tells
	}
	if p.HasSeq {
		r.Series, r.Number, r.Modulus = node, int(p.Seq), 256
	}
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
		e.waiting.Heard(&capture.Heard{Station: -1, Function: Publish, Answered: d.at, AnsweredIn: d.packet,
			Stray: "it was to be confirmed and was not", Report: &capture.Report{Way: capture.Unconfirmed, Name: d.topic}})
	}
	e.waiting.Torn(c, e.lastPiece, e.frames[capture.Answerer].Rest())
	e.waiting.Finish(c, at)
}
