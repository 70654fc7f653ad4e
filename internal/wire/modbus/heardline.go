package modbus

import (
	"bytes"
	"fmt"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/modbus"
	"ferry/internal/core/serial"
)

func init() {
	for _, s := range []struct {
		protocol string
		framing  Framing
		line     bool
	}{{family.RTUTCP.Name, RTU, false}, {family.RTU.Name, RTU, true}, {family.ASCII.Name, ASCII, true}} {
		recognise := s.framing.recognise
		if !s.line {
			recognise = recogniseStream
		}
		capture.Register(&capture.Speech{Protocol: s.protocol, Serial: s.line, Recognise: recognise,
			AskerOf: s.framing.askerOf,
			New: func(c *capture.Conn, heard func(*capture.Heard)) capture.Reader {
				e := &lineEar{framing: s.framing, oneWay: c.OneWay, own: c.Format, heard: heard}
				if c.Format != nil && !c.Untimed && s.framing == RTU {
					e.silence = time.Duration(family.SilenceMs(*c.Format) * float64(time.Millisecond))
				}
				return e
			},
			Words: words, Question: s.framing.DissectRequest, Answer: s.framing.DissectAnswer, Units: s.framing.units})
	}
	capture.Register(&capture.Speech{Protocol: family.ASCII.Name, Recognise: ASCII.recognise, AskerOf: ASCII.askerOf,
		New: func(_ *capture.Conn, heard func(*capture.Heard)) capture.Reader {
			return &lineEar{framing: ASCII, heard: heard}
		},
		Words: words, Question: ASCII.DissectRequest, Answer: ASCII.DissectAnswer, Units: ASCII.units})
}

// recognise looks for a frame that passes its check: by chance one in 65 536 does.
func (f Framing) recognise(said [2][]byte) capture.Fit {
	for _, b := range said {
		for from := range b {
			if f == ASCII && b[from] != ':' {
				continue
			}
			if n, _ := f.FrameAt(b[from:]); n > 0 {
				return capture.Certain
			}
		}
	}
	return capture.Unsure
}

// recogniseStream is recognise for RTU over a connection, which begins with a frame where the
// recording has its beginning. In the middle of octets of another protocol some frames pass
// their check by chance: that it is this one is likely where frames are most of what was said.
func recogniseStream(said [2][]byte) capture.Fit {
	for _, b := range said {
		if n, _ := RTU.FrameAt(b); n > 0 {
			return capture.Certain
		}
	}
	framed, all := 0, 0
	for _, b := range said {
		all += len(b)
		for len(b) > 0 {
			n, _ := RTU.FrameAt(b)
			framed += n
			b = b[max(1, n):]
		}
	}
	if framed > 0 && 2*framed >= all {
		return capture.Likely
	}
	return capture.Unsure
}

// askerOf tells which side asks by whether a frame can be a request alone, or an answer
// alone.
func (f Framing) askerOf(said [2][]byte) (first, known bool) {
	for side, b := range said {
		for from := range b {
			n, asks := f.FrameAt(b[from:])
			if n == 0 {
				continue
			}
			if answer, _ := f.AnswerLen(b[from:]); f == RTU && answer == n && asks {
				break // it may be both
			}
			return asks == (side == 0), true
		}
	}
	return false, false
}

// lineEar hears the exchanges of frames without numbers of their own: over a line,
// where nobody says who speaks, or over a stream that carries such frames.
type lineEar struct {
	framing Framing
	oneWay  bool           // the recording does not say who speaks
	own     *serial.Format // of the line, nil where it is not known
	heard   func(*capture.Heard)
	in      [2]heardOctets // of each side; all in the first where nobody says
	asked   ask            // without a frame where nothing is asked
	broken  []byte         // came since, and is no answer
	brokeAt capture.Piece
	gone    goneAsk // the last that was given up
	done    goneAsk // the last that was answered
	echo    bool
	units   [256]bool // that have been asked
	out     capture.Heard
	// silence is what tells frames apart, 0 where that is not known or nothing is timed;
	// ended is when the last frame did, and in which packet.
	silence time.Duration
	ended   time.Time
	endedIn int64
	close   bool // the question followed too closely
}

// goneAsk is a question that is over.
type goneAsk struct {
	unit, function byte
	frame          []byte
	at, end        time.Time
	packet         int64
	set            bool
}

// Times of frames without numbers.
const (
	echoWithin = 30 * time.Millisecond  // what comes back sooner and is the same is an echo
	restWithin = 500 * time.Millisecond // the rest of a frame comes sooner
	parted     = 25 * time.Millisecond  // a pause as long is not that of an adapter
	lateWithin = 10 * time.Second       // an answer that comes later is to something else
)

// Said implements capture.Reader.
func (e *lineEar) Said(p capture.Piece) {
	for octets := p.Octets; len(octets) > 0; {
		n := min(len(octets), 2*MaxASCII) // what waits stays short, however much comes at once
		p.Octets, octets = octets[:n], octets[n:]
		e.said(p)
	}
}

func (e *lineEar) said(p capture.Piece) {
	side := p.Side
	if e.oneWay {
		side = 0
	}
	in := &e.in[side]
	if n := len(in.octets); n > 0 && p.At.Sub(in.of(n-1).At) > restWithin {
		e.over(in, p.Side)
	}
	in.add(p)
	e.take(in, p.Side, false)
}

// over is told that nothing more belongs to what came.
func (e *lineEar) over(in *heardOctets, side capture.Side) {
	if e.take(in, side, true); len(in.octets) > 0 {
		e.spoilt(in, len(in.octets))
	}
}

// take makes frames of what came; over says that nothing more comes.
func (e *lineEar) take(in *heardOctets, side capture.Side, over bool) {
	for len(in.octets) > 0 {
		from, n, asks := e.find(in.octets, side, over)
		if n == 0 {
			if over := len(in.octets) - MaxASCII; over > 0 {
				e.spoilt(in, over)
			}
			return
		}
		if from > 0 {
			e.spoilt(in, from)
		}
		frame := bytes.Clone(in.octets[:n])
		first, last, paused := in.of(0), in.of(n-1), in.paused(n)
		in.drop(n)
		if asks {
			// As it is timed by its first octets' arrival, what is clearly too close is so for sure.
			e.close = e.silence > 0 && !e.ended.IsZero() &&
				(first.Number == e.endedIn || first.At.Sub(e.ended) < e.silence*3/4)
			e.question(last, first, frame)
		} else {
			e.answer(last, frame, paused)
		}
		e.ended, e.endedIn = last.At, last.Number
	}
}

// spoilt takes octets off that are in no frame.
func (e *lineEar) spoilt(in *heardOctets, n int) {
	lost, first := in.octets[:n], in.of(0)
	if len(e.asked.frame) > 0 && len(e.broken) < MaxASCII {
		if len(e.broken) == 0 {
			e.brokeAt = first
		}
		e.broken = append(e.broken, lost...)
	} else {
		e.out = capture.Heard{Station: -1, Answered: first.At, AnsweredIn: first.Number, Answer: lost,
			Stray: "it is no frame", Cause: exchange.Noise}
		e.heard(&e.out)
	}
	in.drop(n)
}

// question begins an exchange, and ends the one before.
func (e *lineEar) question(p, first capture.Piece, frame []byte) {
	again := false
	if back := &e.in[capture.Answerer]; !e.oneWay && len(back.octets) > 0 {
		e.spoilt(back, len(back.octets)) // the rest of it would have come before the next question
	}
	if len(e.asked.frame) > 0 {
		again = bytes.Equal(frame, e.asked.frame)
		if again && p.At.Sub(e.asked.at) < echoWithin && len(e.broken) == 0 {
			e.echo = true
			return
		}
		e.giveUp(p.At)
	}
	unit, pdu, _ := e.framing.Open(frame)
	e.asked = ask{frame: frame, at: first.At, packet: first.Number, again: again}
	e.units[unit] = true
	if unit == 0 && len(pdu) > 0 {
		h := e.begin()
		h.Outcome, h.ToAll = exchange.Sent, true
		e.heard(h)
		e.asked = ask{}
	}
}

// begin fills in what the question says.
func (e *lineEar) begin() *capture.Heard {
	unit, pdu, _ := e.framing.Open(e.asked.frame)
	e.out = capture.Heard{Station: int(unit), Asked: e.asked.at, AskedIn: e.asked.packet, Request: e.asked.frame,
		Again: e.asked.again, Close: e.close}
	if e.echo {
		e.out.Cause = exchange.Echo
	}
	if len(pdu) > 0 {
		askedFor(&e.out, pdu)
	}
	return &e.out
}

// giveUp ends the exchange without a right answer; now is zero at the end.
func (e *lineEar) giveUp(now time.Time) {
	h := e.begin()
	h.Outcome = exchange.NoAnswer
	if !now.IsZero() {
		h.GaveUp = now.Sub(e.asked.at)
	}
	if len(e.broken) > 0 {
		h.Outcome, h.Answer = exchange.Garbled, e.broken
		h.Answered, h.AnsweredIn = e.brokeAt.At, e.brokeAt.Number
		h.Cause, _, h.Broken = e.framing.Cause(e.asked.frame, e.broken, e.own)
	}
	unit, pdu, _ := e.framing.Open(e.asked.frame)
	e.gone = goneAsk{unit: unit, function: pdu[0], frame: e.asked.frame, at: e.asked.at, end: now,
		packet: e.asked.packet, set: h.Outcome == exchange.NoAnswer}
	if !e.asked.missing {
		e.heard(h)
	}
	e.asked, e.broken, e.echo = ask{}, nil, false
}

// answer finds the question of an answer: the one that waits, or one given up before.
func (e *lineEar) answer(p capture.Piece, frame []byte, paused time.Duration) {
	unit, pdu, _ := e.framing.Open(frame)
	if len(e.asked.frame) == 0 {
		e.second(p, frame, unit, pdu)
		return
	}
	h := e.begin()
	got, err := e.framing.CheckLeniently(e.asked.frame, frame, Lenience{})
	if err != nil && e.gone.set && p.At.Sub(e.gone.at) < lateWithin {
		if late, lateErr := e.framing.Check(e.gone.frame, frame); lateErr == nil {
			e.late(p, frame, late)
			return
		}
	}
	h.Answered, h.AnsweredIn, h.Answer, h.Outcome = p.At, p.Number, frame, exchange.Answered
	switch {
	case err != nil:
		h.Outcome, h.Broken, h.Cause = exchange.Garbled, err.Error(), exchange.Noise
		if unit != byte(h.Station) {
			h.Cause = exchange.OtherStation
		}
	case len(e.broken) > 0:
		// Something came before the right answer: another spoke at the same time.
		h.Cause = exchange.Noise
		h.Broken = fmt.Sprintf("%d octets came before the answer", len(e.broken))
	case paused >= parted:
		h.Cause = exchange.InPieces
	}
	if err == nil && got.Declined {
		h.Outcome, h.Code = exchange.Declined, got.Exception
	} else if err == nil && !h.Write {
		h.Data = got.Data
	}
	e.heard(h)
	e.done = goneAsk{unit: unit, function: pdu[0], frame: e.asked.frame, at: e.asked.at, end: p.At, set: true}
	e.asked, e.broken, e.echo = ask{}, nil, false
}

// late is told of an answer to the question that was given up.
func (e *lineEar) late(p capture.Piece, frame []byte, got Answer) {
	waiting := e.asked
	e.asked = ask{frame: e.gone.frame, at: e.gone.at, packet: e.gone.packet}
	h := e.begin()
	h.Answered, h.AnsweredIn, h.Answer = p.At, p.Number, frame
	h.Outcome, h.Overtaken, h.GaveUp = exchange.Answered, true, e.gone.end.Sub(e.gone.at)
	h.Late = true
	if got.Declined {
		h.Outcome, h.Code = exchange.Declined, got.Exception
	}
	e.heard(h)
	e.asked, e.gone.set = waiting, false
}

// second judges an answer that nobody waits for.
func (e *lineEar) second(p capture.Piece, frame []byte, unit byte, pdu []byte) {
	h := &e.out
	*h = capture.Heard{Station: int(unit), Function: int(pdu[0] &^ exceptionFlag), Answered: p.At, AnsweredIn: p.Number,
		Answer: frame, Stray: "its question is not in the recording"}
	switch {
	case e.gone.set && e.gone.unit == unit && p.At.Sub(e.gone.at) < lateWithin:
		got, err := e.framing.Check(e.gone.frame, frame)
		if err == nil {
			e.late(p, frame, got)
			return
		}
	case e.done.set && e.done.unit == unit && e.done.function == pdu[0]&^exceptionFlag &&
		p.At.Sub(e.done.end) < restWithin:
		h.Cause, h.Stray = exchange.TwoStations, "the question was answered before"
	}
	e.heard(h)
}

// Lost implements capture.Reader.
func (e *lineEar) Lost(side capture.Side, _ int) {
	e.in[side].drop(len(e.in[side].octets))
	e.asked.missing = true
}

// Finish implements capture.Reader.
func (e *lineEar) Finish(c *capture.Conn, at time.Time) {
	for side := range e.in {
		if len(e.in[side].octets) > 0 {
			e.over(&e.in[side], capture.Side(side))
		}
	}
	if len(e.asked.frame) > 0 && at.Sub(e.asked.at) >= time.Second {
		e.giveUp(time.Time{})
	}
}
