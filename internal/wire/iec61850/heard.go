package iec61850

import (
	"fmt"
	"strings"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/iec61850"
	"ferry/internal/wire/isotcp"
)

func init() {
	capture.Register(&capture.Speech{Protocol: family.MMS.Name, Recognise: recognise, AskerOf: askerOf,
		New: func(_ *capture.Conn, heard func(*capture.Heard)) capture.Reader {
			return &ear{waiting: capture.Waiting{Heard: heard, Overlaps: true}, numbers: map[string]uint64{}}
		},
		Words: func(h *capture.Heard) string {
			if h.Function >= int(ofConnection) {
				return "beginning of the conversation"
			}
			return Service(h.Function).String()
		},
		Question: func(b []byte) []exchange.Field { return Labels(b, nil) },
		Answer:   func(_, b []byte, points []exchange.Labelled) []exchange.Field { return Labels(b, points) }})
}

// mostFrame bounds a frame of the transport.
const mostFrame = 1 << 16

// recognise looks for the session under MMS in frames of the transport: others connect like it, too.
func recognise(said [2][]byte) capture.Fit {
	fit := capture.Not
	for _, b := range said {
		if len(b) == 0 || b[0] != 3 {
			continue
		}
		fit = max(fit, capture.Unsure)
		for len(b) > 0 {
			n, err := isotcp.Frame(b, mostFrame)
			if err != nil {
				return capture.Not
			}
			if n == 0 {
				break
			}
			t, err := isotcp.ParseTPDU(b[:n])
			if err != nil {
				return capture.Not
			}
			if _, err := Hear(t.Rest); t.Kind == isotcp.Data && err == nil {
				return capture.Certain
			}
			b = b[n:]
		}
	}
	return fit
}

// askerOf finds the side that connects, or asks.
func askerOf(said [2][]byte) (first, known bool) {
	for side, b := range said {
		n, err := isotcp.Frame(b, mostFrame)
		if err != nil || n == 0 {
			continue
		}
		t, err := isotcp.ParseTPDU(b[:n])
		if err != nil {
			continue
		}
		switch t.Kind {
		case isotcp.ConnectRequest:
			return side == 0, true
		case isotcp.ConnectConfirm:
			return side == 1, true
		}
		if h, err := Hear(t.Rest); err == nil && h.MMS != nil && !h.Associates && !h.Accepts {
			if m, err := ParseMessage(h.MMS); err == nil {
				return (m.Kind == Request) == (side == 0), true
			}
		}
	}
	return false, false
}

// ear hears the exchanges of one connection.
type ear struct {
	waiting capture.Waiting
	frames  [2]capture.Frames
	message [2][]byte // that is under way, without the heads of frames
	octets  [2][]byte // and with them
	// numbers are the sequence numbers of reports, by their identities.
	numbers map[string]uint64
}

// The references of what begins a conversation, and the function that stands for it.
const (
	ofConnection = 1 << 40
	ofSession    = 1<<40 + 1
)

// mostReports bounds the reports whose numbers are followed.
const mostReports = 1000

// Said implements capture.Reader.
func (e *ear) Said(p capture.Piece) {
	e.frames[p.Side].Take(p.Octets, func(b []byte) (int, error) { return isotcp.Frame(b, mostFrame) },
		func(frame []byte) { e.frame(p, frame) },
		func(octets []byte, err error) { e.waiting.Broken(p, octets, err.Error()) })
}

func (e *ear) frame(p capture.Piece, frame []byte) {
	t, err := isotcp.ParseTPDU(frame)
	if err != nil {
		e.waiting.Broken(p, frame, err.Error())
		return
	}
	switch t.Kind {
	case isotcp.ConnectRequest:
		e.waiting.Ask(ofConnection, &capture.Heard{Station: -1, Function: ofConnection, Greets: true, Asked: p.At,
			AskedIn: p.Number, Request: frame})
		return
	case isotcp.ConnectConfirm:
		e.waiting.Answer(ofConnection, p, frame, func(*capture.Heard) {})
		return
	case isotcp.Disconnect, isotcp.Error:
		e.waiting.Answer(ofConnection, p, frame, func(h *capture.Heard) {
			h.Outcome, h.Code = exchange.Declined,
				family.ServiceCode(8, int(t.Reason))
		})
		return
	}
	e.message[p.Side] = append(e.message[p.Side], t.Rest...)
	e.octets[p.Side] = append(e.octets[p.Side], frame...)
	if !t.Last && len(e.message[p.Side]) <= MostMessage {
		return
	}
	message, octets := e.message[p.Side], e.octets[p.Side]
	e.message[p.Side], e.octets[p.Side] = nil, nil
	h, err := Hear(message)
	switch {
	case err != nil:
		e.waiting.Broken(p, octets, err.Error())
	case h.Associates:
		e.waiting.Ask(ofSession, &capture.Heard{Station: -1, Function: ofSession, Greets: true, Asked: p.At,
			AskedIn: p.Number, Request: octets})
	case h.Accepts:
		e.waiting.Answer(ofSession, p, octets, func(of *capture.Heard) {
			if h.Why != "" {
				of.Outcome, of.Code = exchange.Declined, family.ServiceCode(8, 0)
			}
		})
	case h.Ends:
		e.waiting.Alone(&capture.Heard{Station: -1, Function: ofSession, Greets: true, Outcome: exchange.Sent,
			Asked: p.At, AskedIn: p.Number, Request: octets})
	default:
		e.said(p, &h, octets)
	}
}

// said is told of a message of MMS.
func (e *ear) said(p capture.Piece, h *Heard, octets []byte) {
	m, err := ParseMessage(h.MMS)
	switch {
	case err != nil:
		e.waiting.Broken(p, octets, err.Error())
	case m.Kind == Request:
		of := capture.Heard{Station: -1, Function: int(m.Service), Asked: p.At, AskedIn: p.Number, Request: octets,
			Optional: m.Service == Identify}
		if m.Service == Write {
			if names, _, err := ReadWrite(m.Body); err == nil {
				for _, n := range names {
					of.Write = of.Write || !strings.Contains(n.Item, "$RP$") && !strings.Contains(n.Item, "$BR$")
				}
			}
		}
		e.waiting.Ask(uint64(m.Invoke), &of)
	case m.Kind == Response || m.Kind == Error || m.Kind == Reject:
		e.waiting.Answer(uint64(m.Invoke), p, octets, func(of *capture.Heard) { answered(of, &m) })
	case m.Kind == Unconfirmed:
		e.reported(p, &m, octets)
	}
}

// answered fills in what a question was answered.
func answered(of *capture.Heard, m *Message) {
	switch {
	case m.Kind == Error:
		of.Outcome, of.Code = exchange.Declined, family.ServiceCode(m.Class, m.Code)
		return
	case m.Kind == Reject:
		of.Outcome, of.Code = exchange.Declined, family.ServiceCode(4, 1)
		return
	case m.Service == Write:
		if list, err := ReadWritten(m.Body); err == nil {
			for _, refused := range list {
				if refused >= 0 {
					of.Outcome, of.Code = exchange.Declined, family.AccessCode(refused)
				}
			}
		}
		return
	case m.Service != Read:
		return
	}
	list, err := ReadResults(m.Body, 0)
	if err != nil {
		of.Outcome, of.Broken = exchange.Garbled, err.Error()
		return
	}
	refused := 0
	for i := range list {
		if list[i].Refused >= 0 {
			refused++
			of.Code = family.AccessCode(list[i].Refused)
			if len(of.Refusals) < mostRefusals {
				of.Refusals = append(of.Refusals, capture.Refusal{Name: fmt.Sprintf("value %d of %d", i+1, len(list)),
					Code: of.Code})
			}
		}
		doubts(of, &list[i].Data)
	}
	if refused == len(list) && refused > 0 {
		of.Outcome, of.Refusals = exchange.Declined, nil
	} else {
		of.Code = 0
	}
}

// mostRefusals bounds what is told of one answer.
const mostRefusals = 20

// doubts notes values that their server does not call good: a quality stands beside them.
func doubts(of *capture.Heard, d *Data) {
	for i := range d.Parts {
		p := &d.Parts[i]
		if p.Kind == family.BitString && p.Size == 13 {
			if q, why := family.Quality(p.Bits).Means(); q != "good" && len(of.Remarks) < 10 {
				of.Remarks = append(of.Remarks, capture.Remark{Kind: capture.Uncertain,
					Name: strings.TrimPrefix(why, "the server says: ")})
			}
			continue
		}
		doubts(of, p)
	}
}

// reported is told of a report.
func (e *ear) reported(p capture.Piece, m *Message, octets []byte) {
	of := capture.Heard{Station: -1, Function: int(Report), Answered: p.At, AnsweredIn: p.Number, Answer: octets,
		Outcome: exchange.Reported, Report: &capture.Report{Way: capture.Brings, Name: "report"}}
	names, list, err := ReadReport(m.Body, 0)
	if err != nil {
		of.Outcome, of.Broken = exchange.Garbled, err.Error()
	}
	if len(names) == 1 && names[0].Item == "RPT" && len(list) >= 3 {
		id, options := list[0].Data.Text, list[1].Data.Bits
		of.Report.Name = id
		at := 2
		if options&(1<<1) != 0 { // numbered (IEC 61850-8-1, clause 17.2)
			number := uint64(list[at].Data.Int)
			if next, known := e.numbers[id]; known && number != next && number != 0 {
				of.Remarks = append(of.Remarks, capture.Remark{Kind: capture.Skipped, Name: "report " + id})
			}
			if len(e.numbers) < mostReports || number > 0 {
				e.numbers[id] = (number + 1) & 0xFFFF
			}
			at++
		}
		for bit := 2; bit <= 6 && at < len(list); bit++ {
			if bit == 3 || bit == 5 || options&(1<<bit) == 0 {
				continue
			}
			if bit == 6 && list[at].Data.Int != 0 {
				of.Remarks = append(of.Remarks, capture.Remark{Kind: capture.Overrun, Name: "the buffer of report " + id})
			}
			at++
		}
		for i := range list {
			doubts(&of, &list[i].Data)
		}
	}
	e.waiting.Alone(&of)
}

// Lost implements capture.Reader.
func (e *ear) Lost(side capture.Side, _ int) {
	e.frames[side].Drop()
	e.message[side], e.octets[side] = nil, nil
	e.waiting.Lost()
}

// Finish implements capture.Reader.
func (e *ear) Finish(c *capture.Conn, at time.Time) {
	e.waiting.Torn(c, capture.Piece{Side: capture.Answerer, At: at}, e.frames[capture.Answerer].Rest())
	e.waiting.Finish(c, at)
}
