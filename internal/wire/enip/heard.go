package enip

import (
	"encoding/binary"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/enip"
)

func init() {
	capture.Register(&capture.Speech{Protocol: family.Explicit.Name, Recognise: recognise,
		New: func(_ *capture.Conn, heard func(*capture.Heard)) capture.Reader {
			return &ear{waiting: capture.Waiting{Heard: heard}}
		},
		Words: func(h *capture.Heard) string {
			if r, err := requestIn(h.Request); err == nil {
				return r.Says()
			}
			if word, ok := commandWords[uint16(h.Function>>8)]; ok && h.Function >= 1<<8 {
				return word
			}
			return serviceWord(byte(h.Function), &Path{Class: -1})
		},
		Question: func(b []byte) []exchange.Field { return Labels(b, nil) },
		Answer:   func(_, b []byte, points []exchange.Labelled) []exchange.Field { return Labels(b, points) }})
}

// recognise looks for frames of the encapsulation.
func recognise(said [2][]byte) capture.Fit {
	fit := capture.Not
	for _, b := range said {
		switch n, err := FrameLen(b); {
		case len(b) == 0 || err != nil:
		case n == 0 || len(b) < HeadLen:
			fit = max(fit, capture.Unsure)
		case le.Uint16(b) == Register && n == HeadLen+4:
			return capture.Certain
		case le.Uint32(b[20:]) == 0 && le.Uint16(b) != Nop:
			fit = max(fit, capture.Likely)
		}
	}
	return fit
}

// requestIn is the question that a frame holds.
func requestIn(frame []byte) (r Request, err error) {
	f, err := ParseFrame(frame)
	if err != nil {
		return r, err
	}
	c, err := ParseCarried(f.Data)
	if err != nil {
		return r, err
	}
	if r, err = ParseRequest(c.Message); err != nil || r.Service != ReadPart || r.Path.Class != ClassConnection {
		return r, err
	}
	// What is passed on is what is meant.
	if b := r.Data; len(b) >= 4 && len(b) >= 4+int(le.Uint16(b[2:])) {
		if inner, bad := ParseRequest(b[4 : 4+int(le.Uint16(b[2:]))]); bad == nil {
			return inner, nil
		}
	}
	return r, nil
}

// ear hears the exchanges of one connection.
type ear struct {
	waiting capture.Waiting
	frames  [2]capture.Frames
	last    capture.Piece // that the answerer said, without its octets
	paused  bool
}

// pause is the shortest inside a frame that was not made on its way.
const pause = 2 * time.Millisecond

// Said implements capture.Reader.
func (e *ear) Said(p capture.Piece) {
	e.paused = p.Side == capture.Answerer && len(e.frames[p.Side].Rest()) > 0 && p.At.Sub(e.last.At) >= pause
	e.frames[p.Side].Take(p.Octets, FrameLen, func(b []byte) {
		e.frame(p, b)
		e.paused = false
	}, func(octets []byte, err error) { e.waiting.Broken(p, octets, err.Error()) })
	if p.Side == capture.Answerer {
		e.last = p
		e.last.Octets = nil
	}
}

// ofConnection marks the references of messages over connections, which count for
// themselves.
const ofConnection = 1 << 63

func (e *ear) frame(p capture.Piece, b []byte) {
	f, err := ParseFrame(b)
	if err != nil {
		e.waiting.Broken(p, b, err.Error())
		return
	}
	ref := binary.LittleEndian.Uint64(f.Context[:]) &^ ofConnection
	var carried Carried
	if f.Command == SendRRData || f.Command == SendUnitData {
		if carried, err = ParseCarried(f.Data); err != nil && f.Status == 0 {
			e.waiting.Broken(p, b, err.Error())
			return
		}
		if carried.Connected {
			ref = ofConnection | uint64(carried.Count)
		}
	}
	if p.Side == capture.Asker {
		h := capture.Heard{Station: -1, Function: int(f.Command) << 8, Asked: p.At, AskedIn: p.Number, Request: b}
		switch f.Command {
		case Nop, Unregister:
			h.Outcome = exchange.Sent
			e.waiting.Alone(&h)
			return
		case Register:
			h.Greets = true
		case SendRRData, SendUnitData:
			if r, err := requestIn(b); err == nil {
				h.Function = int(r.Service)
				h.Write = r.Service == SetSingle || r.Service == WriteTag || r.Service == WritePart
			}
		}
		e.waiting.Ask(ref, &h)
		return
	}
	e.waiting.Answer(ref, p, b, func(h *capture.Heard) {
		if e.paused {
			h.Manner |= exchange.Pieces
		}
		if f.Status != 0 {
			h.Outcome, h.Code = exchange.Declined, family.OfSession(f.Status)
			return
		}
		if carried.Message == nil {
			return
		}
		a, err := ParseAnswer(carried.Message)
		asked, bad := requestIn(h.Request)
		switch {
		case err != nil:
			h.Outcome, h.Broken = exchange.Garbled, err.Error()
		case bad == nil && a.Service != asked.Service && a.Service != ReadPart:
			h.Outcome, h.Broken = exchange.Garbled, "it answers another service than was asked"
		case a.Status != 0 && a.Status != partial:
			if h.Code = family.CodeOf(a.Status, a.Extended); a.Status == embedded {
				h.Code = e.firstOf(&a)
			}
			if h.Code != 0 {
				h.Outcome = exchange.Declined
			}
		}
	})
}

// General status codes that do not refuse all of a question.
const (
	partial  = 0x06
	embedded = 0x1E
)

// firstOf is the first refusal among the answers to several questions; 0 for none.
func (e *ear) firstOf(a *Answer) int {
	list, err := ParseMultiple(a.Data)
	if err != nil {
		return int(a.Status)
	}
	for _, b := range list {
		if one, err := ParseAnswer(b); err == nil && one.Status != 0 {
			return family.CodeOf(one.Status, one.Extended)
		}
	}
	return 0
}

// Lost implements capture.Reader.
func (e *ear) Lost(side capture.Side, _ int) {
	e.frames[side].Drop()
	e.waiting.Lost()
}

// Finish implements capture.Reader.
func (e *ear) Finish(c *capture.Conn, at time.Time) {
	e.waiting.Torn(c, e.last, e.frames[capture.Answerer].Rest())
	e.waiting.Finish(c, at)
}
