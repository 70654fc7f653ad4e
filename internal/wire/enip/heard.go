package enip

import (
	"encoding/binary"
	"fmt"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/enip"
)

func init() {
	capture.Register(&capture.Speech{Protocol: family.Cyclic.Name, Datagrams: true, Recognise: recogniseCyclic,
		New: func(_ *capture.Conn, heard func(*capture.Heard)) capture.Reader {
			return &cyclicEar{heard}
		},
		Words:    func(*capture.Heard) string { return "cyclic data" },
		Question: func(b []byte) []exchange.Field { return Labels(b, nil) },
		Answer:   func(_, b []byte, points []exchange.Labelled) []exchange.Field { return Labels(b, points) }})
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
				h.Write = r.Service == SetSingle || r.Service == WriteTag || r.Service == WritePart ||
					r.Service == ModifyTag && len(r.Path.Names) > 0
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
		case bad == nil && asked.Service == Multiple && a.Status == notKnown:
			h.Manner |= exchange.Singly // it is asked one by one then
		case a.Status != 0 && a.Status != partial:
			if h.Code = family.CodeOf(a.Status, a.Extended); a.Status == embedded {
				h.Code = e.firstOf(&a)
			}
			if h.Code != 0 {
				h.Outcome = exchange.Declined
			}
		case bad == nil:
			h.Opening = openingOf(&asked, &a)
		}
		if err == nil && bad == nil {
			h.Named = namedIn(&asked, &a, 0)
		}
	})
}

// mostNested is how deep questions may be in one another.
const mostNested = 2

// namedIn lists the tags that were read, each with its type and value.
func namedIn(asked *Request, a *Answer, depth int) (list []capture.Named) {
	switch {
	case asked.Service == ReadTag && a.Status == 0 && len(asked.Path.Names) > 0:
		return []capture.Named{{Name: asked.Path.String(), Payload: a.Data}}
	case asked.Service == Multiple && (a.Status == 0 || a.Status == embedded) && depth < mostNested:
		questions, err := ParseMultiple(asked.Data)
		answers, err2 := ParseMultiple(a.Data)
		if err != nil || err2 != nil || len(questions) != len(answers) {
			return nil
		}
		for i := range questions {
			r, err := ParseRequest(questions[i])
			one, err2 := ParseAnswer(answers[i])
			if err == nil && err2 == nil {
				list = append(list, namedIn(&r, &one, depth+1)...)
			}
		}
	}
	return list
}

// openingOf is what an answer says of a cyclic connection; nil where it is about none.
func openingOf(asked *Request, a *Answer) *capture.Opening {
	name := func(serial, vendor uint16, originator uint32) string {
		return fmt.Sprintf("%04x/%04x/%08x", serial, vendor, originator)
	}
	switch {
	case asked.Path.Class != ClassConnection:
	case asked.Service == ForwardClose:
		if c, err := ParseClose(asked.Data); err == nil {
			return &capture.Opening{Name: name(c.Serial, c.Vendor, c.Originator), Ends: true}
		}
	case asked.Service == ForwardOpen || asked.Service == LargeForwardOpen:
		o, err := ParseOpen(asked.Data, asked.Service == LargeForwardOpen)
		opened, err2 := ParseOpened(a.Data)
		if err != nil || err2 != nil || o.Class > 1 {
			return nil
		}
		way := func(w *Way, id uint32, every time.Duration) capture.CycleWay {
			size := w.Size
			if w.Variable {
				size = 0 // each packet may have another
			}
			return capture.CycleWay{ID: id, Every: every, Octets: size, Drops: every * 4 << min(o.Multiplier, 7),
				Many: w.Casting == ToMany}
		}
		return &capture.Opening{Name: name(o.Serial, o.Vendor, o.Originator),
			Ways: [2]capture.CycleWay{way(&o.Out, opened.Out, opened.OutEvery), way(&o.In, opened.In, opened.InEvery)}}
	}
	return nil
}

// recogniseCyclic looks for packets of cyclic connections.
func recogniseCyclic(said [2][]byte) capture.Fit {
	for _, b := range said {
		if len(b) < 2 {
			continue
		}
		// Of several packets that came one after the other the first tells.
		items, _, err := ParseItems(b)
		if err == nil && len(itemOf(items, ItemSequencedAddress)) == 8 && itemOf(items, ItemConnectedData) != nil {
			return capture.Certain
		}
	}
	return capture.Not
}

// cyclicEar hears packets of cyclic connections.
type cyclicEar struct{ heard func(*capture.Heard) }

// Said implements capture.Reader.
func (e *cyclicEar) Said(p capture.Piece) {
	h := capture.Heard{Station: -1, Outcome: exchange.Reported}
	if p.Side == capture.Asker {
		h.Asked, h.AskedIn, h.Request = p.At, p.Number, p.Octets
		h.Outcome = exchange.Sent
	} else {
		h.Answered, h.AnsweredIn, h.Answer = p.At, p.Number, p.Octets
	}
	c, err := ParseCyclic(p.Octets)
	if err != nil {
		h.Stray = err.Error()
	} else {
		data := c.Data
		if len(data) >= 2 {
			data = data[2:] // class 0, which has no sequence count, is hardly ever used
		}
		h.Cycle = &capture.Cycle{ID: c.Connection, Sequence: c.Sequence, Octets: len(c.Data), Data: data}
	}
	e.heard(&h)
}

// Lost implements capture.Reader.
func (e *cyclicEar) Lost(capture.Side, int) {}

// Finish implements capture.Reader.
func (e *cyclicEar) Finish(*capture.Conn, time.Time) {}

// General status codes that do not refuse all of a question.
const (
	partial  = 0x06
	notKnown = 0x08
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
