package blocktcp

import (
	"fmt"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/blocktcp"
	"ferry/internal/wire/isotcp"
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
	case h.Function == isotcp.ConnectRequest:
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
// of this family in it. Where one side speaks so, it does not matter what the other
// makes of it.
func recognise(said [2][]byte) capture.Fit {
	fit := capture.Not
	for _, b := range said {
		fit = max(fit, speaks(b))
	}
	return fit
}

func speaks(b []byte) capture.Fit {
	if len(b) == 0 || b[0] != 3 || len(b) > 1 && b[1] != 0 {
		return capture.Not
	}
	for len(b) > 0 {
		n, err := Frame(b)
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
		// Others connect like that too: what they say then tells, and for whom it is.
		switch _, err := ParseMessage(t.Rest); {
		case t.Kind == isotcp.Data && err == nil:
			return capture.Certain
		case t.Kind == isotcp.Disconnect, t.Kind == isotcp.ConnectRequest && family.IsSelector(t.Called):
			return capture.Likely
		}
		b = b[n:]
	}
	return capture.Unsure
}

// ear hears the exchanges of one connection.
type ear struct {
	waiting capture.Waiting
	frames  [2]capture.Frames
	last    [2]capture.Piece // that each side said, without its octets
	paused  bool             // inside the frame that is looked at
	more    []capture.Part   // room for those of a question
	parts   [2][]byte        // of a message that is not whole yet, as frames
	message [2][]byte        // and as what they hold
}

// pause is the shortest inside a frame that was not made on its way.
const pause = 2 * time.Millisecond

// mostParts bounds a message of several parts, in octets.
const mostParts = 1 << 16

// Said implements capture.Reader.
func (e *ear) Said(p capture.Piece) {
	e.paused = len(e.frames[p.Side].Rest()) > 0 && p.At.Sub(e.last[p.Side].At) >= pause
	e.frames[p.Side].Take(p.Octets, Frame, func(frame []byte) {
		e.frame(p, frame)
		e.paused = false
	}, func(octets []byte, err error) { e.waiting.Broken(p, octets, err.Error()) })
	e.last[p.Side] = p
	e.last[p.Side].Octets = nil
}

func (e *ear) frame(p capture.Piece, frame []byte) {
	t, err := isotcp.ParseTPDU(frame)
	if err != nil {
		e.waiting.Broken(p, frame, err.Error())
		return
	}
	switch t.Kind {
	case isotcp.ConnectRequest:
		e.waiting.Ask(connecting, &capture.Heard{Station: -1, Function: isotcp.ConnectRequest, Greets: true, Asked: p.At,
			AskedIn: p.Number, Request: frame})
	case isotcp.ConnectConfirm:
		e.waiting.Answer(connecting, p, frame, func(*capture.Heard) {})
	case isotcp.Disconnect:
		e.waiting.Answer(connecting, p, frame, func(h *capture.Heard) {
			h.Outcome, h.Code = exchange.Declined, 0x10000|int(t.Reason)
		})
	case isotcp.Data:
		e.part(p, frame, &t)
	}
}

// part takes in a part of a message, which is looked at once it is whole.
func (e *ear) part(p capture.Piece, frame []byte, t *isotcp.TPDU) {
	if t.Last && len(e.parts[p.Side]) == 0 {
		e.whole(p, frame, t.Rest)
		return
	}
	e.parts[p.Side] = append(e.parts[p.Side], frame...)
	e.message[p.Side] = append(e.message[p.Side], t.Rest...)
	frames := e.parts[p.Side]
	switch {
	case len(frames) > mostParts:
		e.waiting.Broken(p, frames[:mostParts/16], "the message does not end")
	case t.Last:
		e.whole(p, frames, e.message[p.Side])
	default:
		return
	}
	e.parts[p.Side], e.message[p.Side] = frames[:0], e.message[p.Side][:0]
}

// askedSize is how long messages may be by the question that sets a session up; 0 where it
// is none.
func askedSize(request []byte) int {
	t, err := isotcp.ParseTPDU(request)
	if err != nil {
		return 0
	}
	m, err := ParseMessage(t.Rest)
	if err != nil {
		return 0
	}
	_, size, _ := ParseSetup(&m)
	return size
}

func (e *ear) whole(p capture.Piece, frame, rest []byte) {
	m, err := ParseMessage(rest)
	if err != nil {
		e.waiting.Broken(p, frame, err.Error())
		return
	}
	if p.Side == capture.Asker {
		h := capture.Heard{Station: -1, Asked: p.At, AskedIn: p.Number, Request: frame}
		if len(m.Params) > 0 {
			h.Function = int(m.Params[0])
			h.Greets = h.Function == Setup
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
		if e.paused {
			h.Manner |= exchange.Pieces
		}
		if m.Class != 0 || m.Code != 0 {
			h.Outcome, h.Code = exchange.Declined, family.CodeOf(m.Class, m.Code)
			return
		}
		if h.Function == Setup {
			_, agreed, bad := ParseSetup(&m)
			if asked := askedSize(h.Request); bad == nil && agreed < min(asked, family.UsualSize) {
				h.Manner |= exchange.Small
			}
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
	asked, err := isotcp.ParseTPDU(h.Request)
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
	e.more = e.more[:0]
	for i, it := range items {
		n := min(len(data), it.Count)
		got := data[:n]
		data = data[n:]
		switch code := codeAt(refused, i); {
		case code != 0:
			if h.Outcome != exchange.Declined {
				h.Outcome, h.Code, h.Range, h.Data = exchange.Declined, code, it.Range, nil
			}
		case i == 0 && len(items) == 1:
			h.Data = got
		default:
			e.more = append(e.more, capture.Part{Range: it.Range, Data: got})
		}
	}
	if h.Outcome != exchange.Declined && len(e.more) > 0 {
		h.Range, h.Data = e.more[0].Range, e.more[0].Data
		h.More = e.more[1:]
		return
	}
	h.More = e.more
}

// codeAt is by which code an item was refused; 0 for none.
func codeAt(refused []int, i int) int {
	if i < len(refused) {
		return refused[i]
	}
	return 0
}

// Lost implements capture.Reader.
func (e *ear) Lost(side capture.Side, _ int) {
	e.frames[side].Drop()
	e.parts[side], e.message[side] = nil, nil
	e.waiting.Lost()
}

// Finish implements capture.Reader.
func (e *ear) Finish(c *capture.Conn, at time.Time) {
	side := capture.Answerer
	e.waiting.Torn(c, e.last[side], append(e.parts[side], e.frames[side].Rest()...))
	e.waiting.Finish(c, at)
}
