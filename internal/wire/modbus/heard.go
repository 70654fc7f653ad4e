package modbus

import (
	"encoding/binary"
	"fmt"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/modbus"
)

func init() {
	capture.Register(&capture.Speech{Protocol: family.TCP.Name, Recognise: recogniseTCP, AskerOf: askerOfTCP,
		New:   func(_ *capture.Conn, heard func(*capture.Heard)) capture.Reader { return &tcpEar{heard: heard} },
		Words: words, Question: TCP.DissectRequest, Answer: TCP.DissectAnswer, Units: TCP.units})
}

// units are those that the answer to a read brings: coils come eight to the octet.
func (f Framing) units(request, answer []byte) []byte {
	got, err := f.CheckLeniently(request, answer, Lenience{Unit: true, Transaction: true})
	asked, _ := f.body(request)
	if err != nil || got.Declined || len(asked) < 6 || asked[1] < ReadCoils || asked[1] > ReadInputRegisters {
		return nil
	}
	if asked[1] > ReadDiscreteInputs {
		return got.Data
	}
	bits := make([]byte, int(binary.BigEndian.Uint16(asked[4:])))
	for i := range bits {
		if i/8 < len(got.Data) {
			bits[i] = got.Data[i/8] >> (i % 8) & 1
		}
	}
	return bits
}

// words says what a request asks for: "read 10 holding registers @ 40001".
func words(h *capture.Heard) string {
	text := functionWord(byte(h.Function))
	if h.Range.Count > 0 {
		text += fmt.Sprintf(" @ %s", family.Scheme.Short(block.At(h.Range.Area, h.Range.Start)))
		if h.Range.Count > 1 {
			text += fmt.Sprintf(" ×%d", h.Range.Count)
		}
	}
	return text
}

// recogniseTCP judges what a connection begins with: a header with protocol 0 and a
// length that goes with the function behind it.
func recogniseTCP(said [2][]byte) capture.Fit {
	fit := capture.Not
	for _, b := range said {
		if len(b) == 0 {
			continue
		}
		n, err := FrameLen(b)
		switch {
		case err != nil:
			return capture.Not
		case n == 0 || len(b) < HeaderLen+1:
			fit = max(fit, capture.Unsure)
			continue
		}
		code, pdu := b[HeaderLen], b[HeaderLen:min(n, len(b))]
		switch {
		case code == 0:
			return capture.Not
		case requestLen(pdu) == n-HeaderLen, answerLen(pdu) == n-HeaderLen:
			return capture.Certain
		case functionWords[code&^exceptionFlag] != "" && n <= len(b):
			fit = max(fit, capture.Likely) // the right function, and a length that is not
		case len(b) >= n:
			fit = max(fit, capture.Likely)
		default:
			fit = max(fit, capture.Unsure)
		}
	}
	return fit
}

// askerOfTCP tells questions from answers where their lengths do.
func askerOfTCP(said [2][]byte) (first, known bool) {
	for side, b := range said {
		n, err := FrameLen(b)
		if err != nil || n == 0 || len(b) < n || n <= HeaderLen {
			continue
		}
		pdu := b[HeaderLen:n]
		asks, answers := requestLen(pdu) == len(pdu), answerLen(pdu) == len(pdu)
		if asks != answers {
			return asks == (side == 0), true
		}
	}
	return false, false
}

// Bounds of what one connection keeps.
const (
	mostAsked   = 32
	longestWait = 30 * time.Second
	shortWait   = 100 * time.Millisecond
	pause       = 2 * time.Millisecond // pieces closer than this were parted on their way
)

// ask is a question that waits for its answer.
type ask struct {
	frame   []byte
	at      time.Time
	next    time.Time // when the next was asked, zero if none was
	packet  int64
	again   bool
	missing bool // something was lost since
}

// tcpEar hears the exchanges of one connection.
type tcpEar struct {
	heard  func(*capture.Heard)
	part   [2]partial
	asked  []*ask
	spare  []*ask
	done   [8]answered // of late
	dones  int
	strict bool // a question was heard, and nothing lost since
	out    capture.Heard
}

// answered is a question that has its answer.
type answered struct {
	frame  []byte
	at     time.Time
	packet int64
}

// partial is a frame of which a part has come.
type partial struct {
	octets []byte
	at     time.Time
	number int64
}

// Said implements capture.Reader.
func (e *tcpEar) Said(p capture.Piece) {
	part := &e.part[p.Side]
	b := p.Octets
	paused := false
	if len(part.octets) > 0 {
		part.octets = append(part.octets, b...)
		b = part.octets
		paused = p.At.Sub(part.at) >= pause
	}
	from := 0
	for from < len(b) {
		n, err := FrameLen(b[from:])
		if err != nil {
			e.nonsense(p, b[from:], err.Error())
			from = len(b)
			break
		}
		if n == 0 || len(b)-from < n {
			break
		}
		e.frame(p, b[from:from+n], paused)
		from, paused = from+n, false
	}
	rest := b[from:]
	if len(part.octets) == 0 && len(rest) > 0 {
		part.at, part.number = p.At, p.Number
	}
	part.octets = append(part.octets[:0], rest...)
}

func (e *tcpEar) frame(p capture.Piece, frame []byte, paused bool) {
	if len(frame) <= HeaderLen {
		e.stray(p, frame, "it has no function")
		return
	}
	if p.Side == capture.Asker {
		e.question(p, frame)
	} else {
		e.answer(p, frame, paused)
	}
}

// question keeps a question until its answer comes.
func (e *tcpEar) question(p capture.Piece, frame []byte) {
	e.strict = true
	again := false
	if n := len(e.asked); n > 0 {
		last := e.asked[n-1]
		last.next = p.At
		again = string(last.frame[HeaderLen-1:]) == string(frame[HeaderLen-1:])
	}
	for len(e.asked) > 0 && (len(e.asked) >= mostAsked || p.At.Sub(e.asked[0].at) > longestWait) {
		e.unanswered(e.asked[0], exchange.NoAnswer)
		e.drop(0)
	}
	var a *ask
	if n := len(e.spare); n > 0 {
		a, e.spare = e.spare[n-1], e.spare[:n-1]
	} else {
		a = &ask{}
	}
	*a = ask{frame: append(a.frame[:0], frame...), at: p.At, packet: p.Number, again: again}
	e.asked = append(e.asked, a)
}

func (e *tcpEar) drop(i int) {
	e.spare = append(e.spare, e.asked[i])
	e.asked = append(e.asked[:i], e.asked[i+1:]...)
}

// answer finds the question of an answer.
func (e *tcpEar) answer(p capture.Piece, frame []byte, paused bool) {
	transaction := Transaction(frame)
	at := -1
	for i, a := range e.asked {
		if Transaction(a.frame) == transaction {
			at = i
			break
		}
	}
	if at < 0 {
		at = e.misnumbered(p, frame, transaction)
		if at < 0 {
			return
		}
	}
	a := e.asked[at]
	h := e.begin(a)
	h.Answered, h.AnsweredIn, h.Answer = p.At, p.Number, frame
	h.Outcome = exchange.Answered
	if paused {
		h.Manner |= exchange.Pieces
	}
	if at < len(e.asked)-1 {
		h.Overtaken, h.GaveUp = true, a.next.Sub(a.at)
	}
	got, err := TCP.CheckLeniently(a.frame, frame, Lenience{Unit: true, Transaction: true})
	switch {
	case err != nil:
		h.Outcome, h.Broken = exchange.Garbled, err.Error()
		if frame[HeaderLen-1] != a.frame[HeaderLen-1] && Transaction(frame) == Transaction(a.frame) {
			h.Cause = exchange.OtherStation
		}
	case got.Declined:
		h.Outcome, h.Code = exchange.Declined, got.Exception
	case !h.Write:
		h.Data = got.Data
	}
	if err == nil && frame[HeaderLen-1] != a.frame[HeaderLen-1] {
		h.Manner |= exchange.OddStation
	}
	if err == nil && transaction != Transaction(a.frame) {
		h.Manner |= exchange.NoTransaction
	}
	done := &e.done[e.dones%len(e.done)]
	*done = answered{append(done.frame[:0], a.frame...), a.at, a.packet}
	e.dones++
	e.heard(h)
	e.drop(at)
}

// misnumbered judges an answer under a transaction that nobody waits for, and
// returns the question that it is an answer to all the same; -1 for none.
func (e *tcpEar) misnumbered(p capture.Piece, frame []byte, transaction uint16) int {
	for i := range min(e.dones, len(e.done)) {
		done := &e.done[i]
		if Transaction(done.frame) != transaction || transaction == 0 || done.frame[HeaderLen-1] != frame[HeaderLen-1] {
			continue
		}
		h := e.begin(&ask{frame: done.frame, at: done.at, packet: done.packet})
		h.Answered, h.AnsweredIn, h.Answer, h.Cause = p.At, p.Number, frame, exchange.TwoStations
		h.Stray = "the question was answered before"
		e.heard(h)
		return -1
	}
	if !e.strict || len(e.asked) == 0 || e.asked[0].missing {
		e.stray(p, frame, "its question is not in the recording")
		return -1
	}
	if transaction == 0 && len(e.asked) == 1 {
		return 0
	}
	first := e.asked[0]
	h := e.begin(first)
	h.Answered, h.AnsweredIn, h.Answer, h.Outcome = p.At, p.Number, frame, exchange.Garbled
	h.Broken = fmt.Sprintf("it answers transaction %d and %d was asked", transaction, Transaction(first.frame))
	e.heard(h)
	e.drop(0)
	return -1
}

// begin fills in what a question says.
func (e *tcpEar) begin(a *ask) *capture.Heard {
	e.out = capture.Heard{Station: int(a.frame[HeaderLen-1]), Asked: a.at, AskedIn: a.packet, Request: a.frame,
		Again: a.again}
	askedFor(&e.out, a.frame[HeaderLen:])
	return &e.out
}

// askedFor fills in what the data unit of a request asks for.
func askedFor(h *capture.Heard, pdu []byte) {
	h.Function = int(pdu[0])
	h.Optional = pdu[0] == EncapsulatedTransfer || pdu[0] == ReportServerID // many do not know who they are
	h.Write = pdu[0] == WriteSingleCoil || pdu[0] == WriteSingleRegister || pdu[0] == WriteCoils ||
		pdu[0] == WriteRegisters || pdu[0] == MaskWriteRegister || pdu[0] == ReadWriteRegisters
	if len(pdu) < 5 {
		return
	}
	h.Range = block.Range{Area: areaOf(pdu[0]), Start: uint32(binary.BigEndian.Uint16(pdu[1:]))}
	switch pdu[0] {
	case WriteSingleCoil, WriteSingleRegister, MaskWriteRegister:
		h.Range.Count, h.Data = 1, pdu[3:5]
	case ReadCoils, ReadDiscreteInputs, ReadHoldingRegisters, ReadInputRegisters, WriteCoils, WriteRegisters:
		h.Range.Count = int(binary.BigEndian.Uint16(pdu[3:]))
		if h.Write && len(pdu) > 6 {
			h.Data = pdu[6:]
		}
		most := mostRead[pdu[0]] + mostWritten[pdu[0]]
		h.OverLimit = h.Range.Count > most || h.Range.Count == 0
	case ReadWriteRegisters:
		if len(pdu) >= 9 {
			h.Range = block.Range{Area: family.HoldingRegisters, Start: uint32(binary.BigEndian.Uint16(pdu[5:])),
				Count: int(binary.BigEndian.Uint16(pdu[7:]))}
		}
	default:
		h.Range = block.Range{}
	}
}

func (e *tcpEar) unanswered(a *ask, outcome exchange.Outcome) {
	if a.missing {
		return // the answer may be what is not in the recording
	}
	h := e.begin(a)
	h.Outcome = outcome
	if !a.next.IsZero() {
		h.GaveUp = a.next.Sub(a.at)
	}
	e.heard(h)
}

// nonsense is what is no frame: where something was asked, it is what came in the place
// of the answer.
func (e *tcpEar) nonsense(p capture.Piece, octets []byte, why string) {
	if p.Side == capture.Asker || len(e.asked) == 0 || e.asked[0].missing {
		e.stray(p, octets, why)
		return
	}
	h := e.begin(e.asked[0])
	h.Answered, h.AnsweredIn, h.Answer, h.Outcome, h.Broken = p.At, p.Number, octets, exchange.Garbled, why
	e.heard(h)
	e.drop(0)
}

func (e *tcpEar) stray(p capture.Piece, octets []byte, why string) {
	e.out = capture.Heard{Station: -1, Answered: p.At, AnsweredIn: p.Number, Answer: octets, Stray: why}
	if p.Side == capture.Asker {
		e.out = capture.Heard{Station: -1, Asked: p.At, AskedIn: p.Number, Request: octets, Stray: why}
	}
	e.heard(&e.out)
}

// Lost implements capture.Reader.
func (e *tcpEar) Lost(side capture.Side, _ int) {
	e.part[side].octets = e.part[side].octets[:0]
	for _, a := range e.asked {
		a.missing = true
	}
	e.strict = false
}

// Finish implements capture.Reader.
func (e *tcpEar) Finish(c *capture.Conn, at time.Time) {
	for _, a := range e.asked {
		waited := at.Sub(a.at)
		switch {
		case c.Unconfirmed(capture.Asker) >= 2:
			e.unanswered(a, exchange.Unreached)
		case c.EndedBy == capture.Answerer && c.Ending == capture.Torn:
			e.unanswered(a, exchange.Reset)
		case c.EndedBy == capture.Answerer && c.Ending == capture.Closed:
			e.unanswered(a, exchange.Closed)
		case waited >= shortWait && c.Ending != capture.Cut, waited >= time.Second:
			e.unanswered(a, exchange.NoAnswer)
		}
	}
	e.asked = nil
}
