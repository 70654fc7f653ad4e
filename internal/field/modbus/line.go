package modbus

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"sync/atomic"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/field"
	"ferry/internal/field/ports"
	"ferry/internal/precise"
	wire "ferry/internal/wire/modbus"
)

// serialDriver opens a serial port of this machine.
type serialDriver struct{ dissector }

func (d serialDriver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	format := t.Format
	if format.Baud == 0 {
		format = serial.Usual
	}
	port, err := ports.Open(ctx, t.Dial, format)
	var refused *ports.Refused
	if errors.As(err, &refused) {
		return nil, field.Reply{Outcome: refused.Outcome, Sentence: refused.Sentence}
	}
	if err != nil {
		return nil, field.Reply{Outcome: exchange.PortAbsent, Sentence: err.Error()}
	}
	def := protocol.ModbusRTU
	if d.framing == wire.ASCII {
		def = protocol.ModbusASCII
	}
	c := &lineConn{framing: d.framing, def: def, stream: port, format: format, char: format.CharMs(), ctx: ctx}
	if d.framing == wire.RTU {
		c.silence = format.SilenceMs()
	}
	return c.begin(t), field.Reply{Outcome: exchange.Answered}
}

// streamDriver carries serial frames in a TCP stream, where neither characters
// nor silences take time.
type streamDriver struct{ dissector }

func (d streamDriver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	sock, err := dial(ctx, t, protocol.ModbusRTUTCP)
	if err != nil {
		return nil, failure(err, true)
	}
	c := &lineConn{framing: d.framing, def: protocol.ModbusRTUTCP, stream: tcpStream{sock}, ctx: ctx}
	return c.begin(t), field.Reply{Outcome: exchange.Answered}
}

// stream is what octets come from. Read returns 0 and no error when the time
// is up.
type stream interface {
	Read(b []byte, until time.Time) (int, error)
	// Write sends all of b, or fails at that moment.
	Write(b []byte, until time.Time) error
	Close() error
}

type tcpStream struct{ sock net.Conn }

func (s tcpStream) Read(b []byte, until time.Time) (int, error) {
	if err := s.sock.SetReadDeadline(until); err != nil {
		return 0, err
	}
	n, err := s.sock.Read(b)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		err = nil
	}
	return n, err
}

func (s tcpStream) Write(b []byte, until time.Time) error {
	if err := s.sock.SetWriteDeadline(until); err != nil {
		return err
	}
	_, err := s.sock.Write(b)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		err = ports.ErrBlocked
	}
	return err
}

func (s tcpStream) Close() error { return s.sock.Close() }

// rest is how long after its last octet an answer that is not whole is waited
// for: USB adapters hand octets over in lumps of up to 16 ms, and a device that
// is interrupted goes on later than any standard allows.
const rest = 300 * time.Millisecond

// lumps is the longest pause between octets that says nothing.
const lumps = 25 * time.Millisecond

// lineConn is a line with many units on it, one request at a time.
type lineConn struct {
	client
	framing wire.Framing
	def     *protocol.Def
	stream  stream
	format  serial.Format
	char    float64 // ms
	silence float64 // ms between frames
	turn    time.Duration
	ctx     context.Context

	request []byte
	in      []byte
	quiet   time.Time // when the line has been silent for long enough
	echo    bool      // what is sent comes back
	broken  bool

	calledOff atomic.Bool
	owes      []owed             // the oldest first
	lateMs    float64            // how long a late answer took that came since the last reply
	asked     map[byte]time.Time // when each unit was asked last
	others    time.Time          // when another asker was heard last
}

func (c *lineConn) begin(t field.Target) field.Conn {
	c.client.exchange = c.exchange
	c.asked = map[byte]time.Time{}
	c.in = make([]byte, 0, 4*wire.MaxASCII)
	c.quiet = time.Now().Add(ms(c.silence))
	c.Toward(t.Settings)
	return c
}

func ms(x float64) time.Duration { return time.Duration(x * float64(time.Millisecond)) }

func (c *lineConn) Toward(settings map[string]int) {
	c.toward(c.def, settings)
	c.turn = time.Duration(c.def.Value(settings, "turnaroundMs")) * time.Millisecond
}

func (c *lineConn) Usable() bool { return !c.broken && c.ctx.Err() == nil }

func (c *lineConn) Close() error { return c.stream.Close() }

// Break ends the wait for an answer.
func (c *lineConn) Break() { c.calledOff.Store(true) }

// Last returns what was on the wire last, for a report of a defect.
func (c *lineConn) Last() (request, answer []byte) { return c.request, c.in }

// slice is how long octets are waited for before it is asked whether anybody
// still wants them.
const slice = 20 * time.Millisecond

// hear takes octets in until a moment; 0 and no error mean that none came.
func (c *lineConn) hear(b []byte, until time.Time) (int, error) {
	for {
		if c.calledOff.Load() || c.ctx.Err() != nil {
			return 0, errBroken
		}
		next := minTime(until, time.Now().Add(slice))
		n, err := c.stream.Read(b, next)
		if n > 0 || err != nil || next.Equal(until) {
			return n, err
		}
	}
}

// exchange sends the request and waits for its answer.
func (c *lineConn) exchange(pass field.Pass) field.Reply {
	reading := c.pdu[0] <= wire.ReadInputRegisters
	if c.unit == 0 && c.pdu[0] != wire.WriteSingleCoil && c.pdu[0] != wire.WriteSingleRegister && c.pdu[0] != wire.WriteRegisters {
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: "unit 0 is every unit at once: it can be written, but none of them answers"}
	}
	c.calledOff.Store(false)
	if err := c.drain(); err != nil {
		return c.lost(failure(err, false), false)
	}
	c.request = c.framing.AppendFrame(c.request[:0], 0, c.unit, c.pdu...)
	precise.Until(c.quiet)
	left, refused := let(pass)
	if refused != nil {
		refused.Request = c.request
		return *refused
	}
	began := time.Now()
	err := c.stream.Write(c.request, began.Add(sending))
	left()
	if err != nil {
		return c.lost(failure(err, false), true)
	}
	c.asked[c.unit] = began
	sent := began.Add(ms(c.char * float64(len(c.request))))
	if c.unit == 0 {
		// Nobody may speak before every unit has done it, and the port must not
		// be closed while it goes out.
		c.quiet = sent.Add(max(c.turn, ms(c.silence)))
		c.pause(c.quiet)
		return field.Reply{Outcome: exchange.Sent, Left: true, Sentence: "sent to every unit of the line; none answers to that", Request: c.request}
	}
	h := hearing{deadline: sent.Add(c.limit), sent: sent}
	reply, ok, err := c.answer(&h, reading)
	switch {
	case errors.Is(err, errBroken) && c.ctx.Err() == nil:
		c.owe(sent)
		reply = failure(err, false)
		reply.Request = c.request
	case err != nil:
		return c.lost(failure(err, false), true)
	case ok:
		reply.ThinkMs = max(0, float64(h.first.Sub(sent))/1e6-c.char-c.silence)
		if h.pause > lumps {
			reply.Cause, reply.Sentence = exchange.InPieces, fmt.Sprintf("the answer came in pieces, with a pause of %d ms", h.pause.Milliseconds())
		}
		c.settle(&h, &reply)
	default:
		reply = c.failed(&h)
	}
	c.quiet = time.Now().Add(ms(c.silence))
	reply.SentAt, reply.Left = began, true
	if reply.LateMs == 0 {
		reply.LateMs = c.lateMs
	}
	if c.lateMs = 0; reply.OK() && reply.Doubt == "" && time.Since(c.others) < foreign {
		reply.Cause, reply.Doubt = exchange.Others, "somebody else asks on this line too: the answer may be to a question of theirs"
	}
	return reply
}

// pause waits for a moment, unless the connection ends before.
func (c *lineConn) pause(until time.Time) {
	timer := time.NewTimer(time.Until(until))
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-c.ctx.Done():
	}
}

// answer waits for the answer to the request that was sent. ok is false where
// none came that passes; an error means that the wait ended otherwise.
func (c *lineConn) answer(h *hearing, reading bool) (reply field.Reply, ok bool, err error) {
	for {
		n, err := c.hear(c.in[len(c.in):cap(c.in)], h.until(c))
		if err != nil {
			return reply, false, err
		}
		if n == 0 || len(c.in)+n == cap(c.in) {
			return reply, false, nil
		}
		c.in = c.in[:len(c.in)+n]
		h.came(time.Now())
		for len(c.in) > 0 {
			if c.stripEcho(h, reading) {
				break
			}
			whole, _ := c.framing.AnswerLen(c.in)
			if whole > 0 && len(c.in) >= whole {
				if reply, err := judge(c.framing, c.request, c.in[:whole]); err == nil && (len(c.in) == whole || c.isRequest(c.in[whole:]) || c.owesLike(c.in[:whole])) {
					return reply, true, nil
				}
			}
			if n := c.notOurs(); n > 0 {
				c.in = c.in[:copy(c.in, c.in[n:])]
				h.last, h.first = time.Time{}, time.Time{}
				if len(c.in) > 0 {
					h.came(time.Now())
				}
				continue
			}
			if whole > 0 && len(c.in) >= whole {
				h.closing = true // it is wrong: hear it to its end
			}
			break
		}
	}
}

// isRequest reports whether b is a whole request of somebody else's.
func (c *lineConn) isRequest(b []byte) bool {
	n, asked := c.frameAt(b)
	if n == 0 || !asked || bytes.Equal(b[:n], c.request) {
		return false
	}
	_, pdu, err := c.framing.Open(b[:n])
	is := err == nil && pdu[0] <= wire.ReadInputRegisters
	if is {
		c.others = time.Now()
	}
	return is
}

// notOurs returns the length of the frame at the beginning of what came, if it
// is a late answer of another unit, or belongs to another asker; else 0.
func (c *lineConn) notOurs() int {
	n, asked := c.frameAt(c.in)
	if n == 0 {
		return 0
	}
	if asked && c.isRequest(c.in[:n]) {
		return n
	}
	unit, pdu, err := c.framing.Open(c.in[:n])
	if err != nil || unit == c.unit {
		return 0
	}
	if c.paid(unit, pdu) || time.Since(c.others) < foreign {
		return n
	}
	return 0
}

// foreign is for how long a frame of another asker makes answers doubtful.
const foreign = 30 * time.Second

// owed is an answer that did not come in time. It may come yet, and looks like
// the answer to a later question: a serial frame says nothing of the question
// that it belongs to.
type owed struct {
	unit, function byte
	length         int // of the data unit
	request        string
	sent           time.Time
	checks         int // answers since, behind which nothing more came
}

// forgotten is after how long an answer is no longer expected, mostOwed how
// many of them are remembered.
const (
	forgotten = 30 * time.Second
	mostOwed  = 64
)

// owe notes that the request under way was not answered in time.
func (c *lineConn) owe(sent time.Time) {
	if len(c.owes) >= mostOwed {
		c.owes = slices.Delete(c.owes, 0, mostOwed/2)
	}
	c.owes = append(c.owes, owed{unit: c.unit, function: c.pdu[0], length: c.answerLength(), request: string(c.request), sent: sent})
}

// answerLength is the length of the data unit that answers the request, 0 where
// it depends on the device.
func (c *lineConn) answerLength() int {
	switch {
	case c.pdu[0] <= wire.ReadDiscreteInputs:
		return 2 + (int(c.pdu[3])<<8+int(c.pdu[4])+7)/8
	case c.pdu[0] <= wire.ReadInputRegisters:
		return 2 + 2*(int(c.pdu[3])<<8|int(c.pdu[4]))
	case c.pdu[0] == wire.EncapsulatedTransfer, c.pdu[0] == wire.ReportServerID:
		return 0
	}
	return 5
}

func (o *owed) matches(unit byte, pdu []byte) bool {
	const exception = 0x80
	if o.unit != unit || o.function != pdu[0]&^exception || time.Since(o.sent) > forgotten {
		return false
	}
	return pdu[0]&exception != 0 || o.length == 0 || o.length == len(pdu)
}

// paid takes a frame that nobody waits for as the oldest answer that is owed,
// and reports whether it can be one.
func (c *lineConn) paid(unit byte, pdu []byte) bool {
	i := slices.IndexFunc(c.owes, func(o owed) bool { return o.matches(unit, pdu) })
	if i < 0 {
		return false
	}
	c.lateMs = max(c.lateMs, float64(time.Since(c.owes[i].sent))/1e6)
	c.owes = slices.Delete(c.owes, i, i+1)
	return true
}

// owesLike reports whether the unit of a frame owes an answer that looks like it.
func (c *lineConn) owesLike(frame []byte) bool {
	unit, pdu, err := c.framing.Open(frame)
	return err == nil && slices.ContainsFunc(c.owes, func(o owed) bool { return o.matches(unit, pdu) })
}

// settle finds out whether an answer belongs to its request, where the unit
// still owes others like it: the line is listened to until those must have come.
// What comes last is the answer to what was asked last.
func (c *lineConn) settle(h *hearing, reply *field.Reply) {
	_, pdu, err := c.framing.Open(reply.Answer)
	if err != nil {
		return
	}
	var mine []owed
	c.owes = slices.DeleteFunc(c.owes, func(o owed) bool {
		is := o.matches(c.unit, pdu)
		if is {
			mine = append(mine, o)
		}
		return is || time.Since(o.sent) > forgotten
	})
	if len(mine) == 0 {
		return
	}
	delay := time.Since(mine[0].sent)
	until := h.sent.Add(min(delay*5/4+50*time.Millisecond, 2*c.limit+100*time.Millisecond, 2*time.Second))
	frames := 1
	rest := len(reply.Answer)
	for frames <= len(mine) {
		next := c.in[rest:]
		whole, _ := c.framing.AnswerLen(next)
		if whole == 0 || len(next) < whole {
			n, err := c.hear(c.in[len(c.in):cap(c.in)], until)
			if err != nil || n == 0 {
				break
			}
			c.in = c.in[:len(c.in)+n]
			continue
		}
		another, err := judge(c.framing, c.request, next[:whole])
		if err != nil {
			break
		}
		frames++
		rest += whole
		another.ThinkMs = reply.ThinkMs
		*reply = another
	}
	if frames > len(mine) {
		reply.LateMs = float64(delay) / 1e6
		if reply.Cause == "" {
			reply.Cause = exchange.Late
		}
		return
	}
	alike := true
	for i := range mine {
		alike = alike && mine[i].request == string(c.request)
	}
	if !alike {
		reply.Cause = exchange.Late
		reply.Doubt = fmt.Sprintf("it may be the late answer to a question before: one was not answered within %d ms", c.limit.Milliseconds())
	}
	// If it was, the answer to this request is still to come.
	open := owed{unit: c.unit, function: c.pdu[0], length: c.answerLength(), request: string(c.request), sent: h.sent, checks: mine[len(mine)-1].checks + 1}
	if open.checks < 2 {
		c.owes = append(c.owes, open)
	}
}

// hearing is what is known of an answer under way.
type hearing struct {
	sent, deadline time.Time
	first, last    time.Time
	pause          time.Duration // the longest between two arrivals
	closing        bool
	echoed         bool
}

func (h *hearing) came(now time.Time) {
	if h.first.IsZero() {
		h.first = now
	} else {
		h.pause = max(h.pause, now.Sub(h.last))
	}
	h.last = now
}

// until is how long to wait for the next octets.
func (h *hearing) until(c *lineConn) time.Time {
	switch {
	case h.last.IsZero():
		return h.deadline
	case h.closing:
		return h.last.Add(max(ms(4*c.silence), 20*time.Millisecond))
	case c.framing == wire.ASCII:
		return h.last.Add(time.Second) // serial line guide, clause 2.5.2.1
	}
	return h.last.Add(rest + ms(20*c.char))
}

// stripEcho takes the own request away that some adapters hand back. While what
// has come may still become one, it reports true.
func (c *lineConn) stripEcho(h *hearing, reading bool) bool {
	if h.echoed || !reading && !c.echo {
		return false
	}
	n := min(len(c.in), len(c.request))
	if !bytes.Equal(c.in[:n], c.request[:n]) {
		return false
	}
	if n == len(c.request) {
		c.in = c.in[:copy(c.in, c.in[n:])]
		c.echo, h.echoed = true, true
		h.first, h.last, h.pause = time.Time{}, time.Time{}, 0
		if len(c.in) > 0 {
			h.came(time.Now())
			return false
		}
	}
	return true
}

// drain takes in what came since the last exchange: late answers, and what
// others said.
func (c *lineConn) drain() error {
	c.in = c.in[:0]
	for {
		n, err := c.stream.Read(c.in[len(c.in):cap(c.in)], time.Now())
		if err != nil {
			return err
		}
		if n == 0 {
			break
		}
		c.quiet = time.Now().Add(ms(c.silence))
		if c.in = c.in[:len(c.in)+n]; len(c.in) == cap(c.in) {
			c.overheard(c.in)
			c.in = c.in[:0]
		}
	}
	c.overheard(c.in)
	c.in = c.in[:0]
	return nil
}

// stranger is after how long without a question of ours a unit that answers
// answers somebody else.
const stranger = time.Minute

// overheard finds the frames in octets that nobody here waited for.
func (c *lineConn) overheard(b []byte) {
	for at := 0; at < len(b); {
		n, asked := c.frameAt(b[at:])
		if n == 0 {
			at++
			continue
		}
		frame := b[at : at+n]
		at += n
		if asked && c.isRequest(frame) {
			continue
		}
		if unit, pdu, err := c.framing.Open(frame); err == nil && !bytes.Equal(frame, c.request) && !c.paid(unit, pdu) {
			if last, ok := c.asked[unit]; !ok || time.Since(last) > stranger {
				c.others = time.Now()
			}
		}
	}
}

// failed says what became of an exchange without a right answer.
func (c *lineConn) failed(h *hearing) field.Reply {
	if len(c.in) == 0 {
		reply := field.Reply{Outcome: exchange.NoAnswer, Request: c.request, Sentence: fmt.Sprintf("nothing came back within %d ms", c.limit.Milliseconds())}
		if h.echoed {
			reply.Cause, reply.Sentence = exchange.Echo, reply.Sentence+" but the request itself: the adapter hears what it sends"
		}
		c.owe(h.sent)
		if c.lateMs > 0 {
			reply.Cause = exchange.Late
			reply.Sentence += fmt.Sprintf("; the answer to an earlier request came after up to %.0f ms", c.lateMs)
		} else if time.Since(c.others) < foreign {
			reply.Cause = exchange.Others
			reply.Sentence += "; somebody else asks on this line too"
		}
		return reply
	}
	reply := field.Reply{Outcome: exchange.Garbled, Request: c.request, Answer: c.in}
	if reply.Cause, reply.Looks, reply.Sentence = c.cause(); time.Since(c.others) < foreign {
		reply.Cause, reply.Looks = exchange.Others, ""
		reply.Sentence += "; somebody else asks on this line too"
	}
	return reply
}

// cause tells what an answer that does not pass looks like.
func (c *lineConn) cause() (cause exchange.Cause, looks, says string) {
	whole, _ := c.framing.AnswerLen(c.in)
	if whole > 0 && whole <= len(c.in) {
		if unit, _, err := c.framing.Open(c.in[:whole]); err == nil {
			if unit != c.unit {
				return exchange.OtherUnit, "", fmt.Sprintf("unit %d answers in the place of unit %d", unit, c.unit)
			}
			if len(c.in) > whole {
				return exchange.TwoUnits, "", fmt.Sprintf("a right answer came and %d octets more: two units answer to number %d", len(c.in)-whole, c.unit)
			}
		}
	}
	heads := c.heads()
	head := bytes.HasPrefix(c.in, heads[0].Octets) || bytes.HasPrefix(c.in, heads[1].Octets)
	if head && whole > 0 && len(c.in) > whole {
		return exchange.TwoUnits, "", fmt.Sprintf("the answer begins as it should and %d octets come too many: two units talk at once", len(c.in)-whole)
	}
	if head && whole > len(c.in) {
		return exchange.CutShort, "", fmt.Sprintf("%d octets came and the other %d of the answer did not", len(c.in), whole-len(c.in))
	}
	if !head && c.char > 0 {
		if guesses := serial.Explain(c.in, heads[:], c.format); len(guesses) > 0 && guesses[0].Share >= 0.6 {
			return exchange.Format, guesses[0].Format.String(), fmt.Sprintf("%d octets came and none pass: they look like %s, and this end is set to %s", len(c.in), guesses[0].Format, c.format)
		}
	}
	if _, err := judge(c.framing, c.request, c.in); err != nil {
		return exchange.Noise, "", fmt.Sprintf("%d octets came and do not pass: %s", len(c.in), err)
	}
	return exchange.Noise, "", fmt.Sprintf("%d octets came that are no answer", len(c.in))
}

// heads returns how an answer, and a refusal, must begin.
func (c *lineConn) heads() [2]serial.Head {
	answer, length := []byte{c.unit, c.pdu[0]}, 2
	switch {
	case c.pdu[0] <= wire.ReadDiscreteInputs:
		answer = append(answer, byte((int(c.pdu[3])<<8+int(c.pdu[4])+7)/8))
		length = 3 + int(answer[2])
	case c.pdu[0] <= wire.ReadInputRegisters:
		answer = append(answer, 2*c.pdu[4])
		length = 3 + int(answer[2])
	case c.pdu[0] == wire.EncapsulatedTransfer, c.pdu[0] == wire.ReportServerID:
		length = 0 // it depends on the device
	default:
		answer = append(answer, c.pdu[1:min(4, len(c.pdu))]...)
		length = 6
	}
	refusal := []byte{c.unit, c.pdu[0] | 0x80}
	frame := func(head []byte, octets int) serial.Head {
		if octets == 0 {
			return serial.Head{Octets: head}
		}
		if c.framing == wire.ASCII {
			return serial.Head{Octets: fmt.Appendf([]byte{':'}, "%X", head), Length: 2*octets + 5}
		}
		return serial.Head{Octets: head, Length: octets + 2}
	}
	return [2]serial.Head{frame(answer, length), frame(refusal, 3)}
}

func (c *lineConn) lost(reply field.Reply, left bool) field.Reply {
	c.broken = true
	reply.Request, reply.Left = c.request, left
	if c.ctx.Err() != nil {
		reply.Sentence = "the run was stopped"
	}
	return reply
}

// Listen takes in what others say, and tells requests from answers by which of
// them a frame can be.
func (c *lineConn) Listen(ctx context.Context, d time.Duration) field.Heard {
	heard := field.Heard{Units: []int{}}
	began := time.Now()
	var all []byte
	buf := make([]byte, 512)
	for end := began.Add(d); time.Now().Before(end) && ctx.Err() == nil && c.ctx.Err() == nil; {
		n, err := c.stream.Read(buf, minTime(end, time.Now().Add(slice)))
		if err != nil {
			c.broken = true
			break
		}
		all = append(all, buf[:n]...)
	}
	heard.Ms, heard.Octets = float64(time.Since(began))/1e6, len(all)
	seen := map[byte]bool{}
	for at := 0; at < len(all); {
		n, asked := c.frameAt(all[at:])
		if n == 0 {
			at++
			continue
		}
		unit, _, _ := c.framing.Open(all[at : at+n])
		heard.Frames++
		if asked {
			heard.Asked++
		}
		if !seen[unit] {
			seen[unit] = true
			heard.Units = append(heard.Units, int(unit))
		}
		at += n
	}
	switch {
	case heard.Octets == 0:
		heard.Sentence = "Nobody speaks."
	case heard.Frames == 0:
		heard.Sentence = fmt.Sprintf("%d octets came and no frame passes its check: somebody speaks with other settings, or another protocol.", heard.Octets)
	case heard.Asked > 0:
		heard.Sentence = fmt.Sprintf("Somebody asks here already: %d frames, %d of them requests. Two askers on one line collide.", heard.Frames, heard.Asked)
	default:
		heard.Sentence = fmt.Sprintf("%d frames came and none of them is a request.", heard.Frames)
	}
	c.quiet = time.Now().Add(ms(c.silence))
	return heard
}

// frameAt returns the length of the frame that b begins with, 0 if there is
// none, and whether it is a request.
func (c *lineConn) frameAt(b []byte) (n int, asked bool) {
	for _, of := range []struct {
		length func([]byte) (int, error)
		asked  bool
	}{{c.framing.RequestLen, true}, {c.framing.AnswerLen, false}} {
		n, err := of.length(b)
		if err != nil || n == 0 || n > len(b) {
			continue
		}
		if _, _, err := c.framing.Open(b[:n]); err == nil {
			return n, of.asked
		}
	}
	return 0, false
}

func minTime(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}
