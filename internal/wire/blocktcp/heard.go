package blocktcp

import (
	"fmt"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/blocktcp"
)

func init() {
	capture.Register(&capture.Speech{Protocol: family.Def.Name, Recognise: recognise,
		New: func(_ *capture.Conn, heard func(*capture.Heard)) capture.Reader {
			return &ear{waiting: capture.Waiting{Heard: heard}}
		},
		Words: words, Question: DissectRequest, Answer: DissectAnswer})
}

// connecting is the reference of a request to connect, which has none of its own.
const connecting = 1 << 16

// words says what a job asks for.
func words(h *capture.Heard) string {
	switch {
	case h.Function == ConnectRequest:
		return "connect"
	case h.Range.Count > 0:
		verb := "read"
		if h.Write {
			verb = "write"
		}
		return fmt.Sprintf("%s %s ×%d", verb, family.Scheme.Short(block.At(h.Range.Area, h.Range.Start)), h.Range.Count)
	}
	return functionWord(byte(h.Function))
}

// recognise looks for the head of RFC 1006 around what ISO 8073 knows, and for a message
// of this family in it.
func recognise(said [2][]byte) capture.Fit {
	fit := capture.Not
	for _, b := range said {
		if len(b) == 0 {
			continue
		}
		if b[0] != 3 || len(b) > 1 && b[1] != 0 {
			return capture.Not
		}
		fit = capture.Unsure
		for len(b) > 0 {
			n, err := Frame(b)
			if err != nil {
				return capture.Not
			}
			if n == 0 {
				break
			}
			t, err := ParseTPDU(b[:n])
			if err != nil {
				return capture.Not
			}
			// Others connect like that too: what they say then tells.
			if t.Kind == Data {
				if _, err := ParseMessage(t.Rest); err == nil {
					return capture.Certain
				}
			} else if t.Kind == Disconnect {
				return capture.Likely
			}
			b = b[n:]
		}
	}
	return fit
}

// ear hears the exchanges of one connection.
type ear struct {
	waiting capture.Waiting
	frames  [2]capture.Frames
}

// Said implements capture.Reader.
func (e *ear) Said(p capture.Piece) {
	e.frames[p.Side].Take(p.Octets, Frame, func(frame []byte) { e.frame(p, frame) },
		func(octets []byte, err error) { e.waiting.Stray(p, octets, err.Error()) })
}

func (e *ear) frame(p capture.Piece, frame []byte) {
	t, err := ParseTPDU(frame)
	if err != nil {
		e.waiting.Stray(p, frame, err.Error())
		return
	}
	switch t.Kind {
	case ConnectRequest:
		e.waiting.Ask(connecting, &capture.Heard{Station: -1, Function: ConnectRequest, Asked: p.At, AskedIn: p.Number,
			Request: frame})
	case ConnectConfirm:
		e.waiting.Answer(connecting, p, frame, func(*capture.Heard) {})
	case Disconnect:
		e.waiting.Answer(connecting, p, frame, func(h *capture.Heard) {
			h.Outcome, h.Code = exchange.Declined, 0x10000|int(t.Reason)
		})
	case Data:
		e.message(p, frame, t.Rest)
	}
}

func (e *ear) message(p capture.Piece, frame, rest []byte) {
	m, err := ParseMessage(rest)
	if err != nil {
		e.waiting.Stray(p, frame, err.Error())
		return
	}
	if p.Side == capture.Asker {
		h := capture.Heard{Station: -1, Asked: p.At, AskedIn: p.Number, Request: frame}
		if len(m.Params) > 0 {
			h.Function = int(m.Params[0])
		}
		if items, data, err := ParseItems(&m); err == nil && len(items) > 0 {
			h.Range, h.Write = items[0].Range, m.Params[0] == Write
			if h.Write && len(data) > 0 {
				h.Data = data[0]
			}
		}
		e.waiting.Ask(uint64(m.Ref), &h)
		return
	}
	e.waiting.Answer(uint64(m.Ref), p, frame, func(h *capture.Heard) {
		if m.Class != 0 || m.Code != 0 {
			h.Outcome, h.Code = exchange.Declined, family.CodeOf(m.Class, m.Code)
			return
		}
		e.items(h, &m)
	})
}

// items looks at what came of each item.
func (e *ear) items(h *capture.Heard, m *Message) {
	if h.Write {
		if code, err := ParseWrite(m); err == nil && code != family.Done {
			h.Outcome, h.Code = exchange.Declined, int(code)
		}
		return
	}
	asked, err := ParseTPDU(h.Request)
	if err != nil || h.Function != Read {
		return
	}
	job, err := ParseMessage(asked.Rest)
	if err != nil {
		return
	}
	items, _, err := ParseItems(&job)
	if err != nil {
		return
	}
	data, refused, err := ParseRead(nil, m, items, nil)
	if err != nil {
		h.Outcome, h.Broken = exchange.Garbled, err.Error()
		return
	}
	for _, code := range refused {
		if code != 0 {
			h.Outcome, h.Code = exchange.Declined, code
			return
		}
	}
	if h.Data = data; len(items) > 0 {
		h.Data = data[:min(len(data), items[0].Count)]
	}
}

// Lost implements capture.Reader.
func (e *ear) Lost(side capture.Side, _ int) {
	e.frames[side].Drop()
	e.waiting.Lost()
}

// Finish implements capture.Reader.
func (e *ear) Finish(c *capture.Conn, at time.Time) { e.waiting.Finish(c, at) }
