package modbus

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
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
	Write(b []byte) error
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

func (s tcpStream) Write(b []byte) error {
	if err := s.sock.SetWriteDeadline(time.Now().Add(5 * time.Second)); err != nil {
		return err
	}
	_, err := s.sock.Write(b)
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
	missed  []byte    // unit, function and length of an answer that never came
	broken  bool
}

func (c *lineConn) begin(t field.Target) field.Conn {
	c.client.exchange = c.exchange
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

// exchange sends the request and waits for its answer.
func (c *lineConn) exchange() field.Reply {
	reading := c.pdu[0] <= wire.ReadInputRegisters
	if c.unit == 0 && c.framing != wire.TCP && c.pdu[0] != wire.WriteSingleCoil && c.pdu[0] != wire.WriteSingleRegister && c.pdu[0] != wire.WriteRegisters {
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: "unit 0 is every unit at once: it can be written, but none of them answers"}
	}
	c.request = c.framing.AppendFrame(c.request[:0], 0, c.unit, c.pdu...)
	if err := c.drain(); err != nil {
		return c.lost(failure(err, false))
	}
	precise.Until(c.quiet)
	began := time.Now()
	if err := c.stream.Write(c.request); err != nil {
		return c.lost(failure(err, false))
	}
	sent := began.Add(ms(c.char * float64(len(c.request))))
	if c.unit == 0 {
		// Nobody may speak before every unit has done it, and the port must not
		// be closed while it goes out.
		c.quiet = sent.Add(max(c.turn, ms(c.silence)))
		time.Sleep(time.Until(c.quiet))
		return field.Reply{Outcome: exchange.Sent, Sentence: "sent to every unit of the line; none answers to that", Request: c.request}
	}
	h := hearing{deadline: sent.Add(c.limit), sent: sent}
	for {
		n, err := c.stream.Read(c.in[len(c.in):cap(c.in)], h.until(c))
		if err != nil {
			return c.lost(failure(err, false))
		}
		now := time.Now()
		if n == 0 || len(c.in)+n == cap(c.in) {
			break
		}
		c.in = c.in[:len(c.in)+n]
		h.came(now)
		if c.stripEcho(&h, reading) {
			continue
		}
		whole, _ := c.framing.AnswerLen(c.in)
		if whole == 0 || len(c.in) < whole {
			continue
		}
		if reply, err := judge(c.framing, c.request, c.in[:whole]); err == nil && len(c.in) == whole {
			c.quiet, c.missed = now.Add(ms(c.silence)), nil
			reply.SentAt = began
			reply.ThinkMs = max(0, float64(h.first.Sub(sent))/1e6-c.char-c.silence)
			if h.pause > lumps {
				reply.Cause, reply.Sentence = exchange.InPieces, fmt.Sprintf("the answer came in pieces, with a pause of %d ms", h.pause.Milliseconds())
			}
			return reply
		}
		if c.isLate(whole) {
			c.in = c.in[:copy(c.in, c.in[whole:])]
			h.last, h.first = time.Time{}, time.Time{}
			continue
		}
		h.closing = true // it is wrong: hear it to its end
	}
	c.quiet = time.Now().Add(ms(c.silence))
	reply := c.failed(&h)
	reply.SentAt = began
	return reply
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

// isLate reports whether the frame of the given length is the answer to an
// earlier request that was given up: RTU has no transaction to know it by, but
// unit, function and length of what is still owed are known.
func (c *lineConn) isLate(whole int) bool {
	unit, pdu, err := c.framing.Open(c.in[:whole])
	return err == nil && len(c.missed) == 3 && unit != c.unit && unit == c.missed[0] && pdu[0] == c.missed[1] && byte(len(pdu)) == c.missed[2]
}

// drain drops what came since the last exchange: late answers and what others
// said.
func (c *lineConn) drain() error {
	c.in = c.in[:0]
	for {
		n, err := c.stream.Read(c.in[:cap(c.in)], time.Now())
		if n == 0 || err != nil {
			return err
		}
		c.quiet = time.Now().Add(ms(c.silence))
	}
}

// failed says what became of an exchange without a right answer.
func (c *lineConn) failed(h *hearing) field.Reply {
	if len(c.in) == 0 {
		reply := field.Reply{Outcome: exchange.NoAnswer, Request: c.request, Sentence: fmt.Sprintf("nothing came back within %d ms", c.limit.Milliseconds())}
		if h.echoed {
			reply.Cause, reply.Sentence = exchange.Echo, reply.Sentence+" but the request itself: the adapter hears what it sends"
		}
		count := 2
		if c.pdu[0] <= wire.ReadInputRegisters {
			units := int(c.pdu[3])<<8 | int(c.pdu[4])
			if count += 2 * units; c.pdu[0] <= wire.ReadDiscreteInputs {
				count = 2 + (units+7)/8
			}
		}
		c.missed = append(c.missed[:0], c.unit, c.pdu[0], byte(count))
		return reply
	}
	reply := field.Reply{Outcome: exchange.Garbled, Request: c.request, Answer: c.in}
	reply.Cause, reply.Looks, reply.Sentence = c.cause()
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

func (c *lineConn) lost(reply field.Reply) field.Reply {
	c.broken = true
	reply.Request = c.request
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
	for end := began.Add(d); time.Now().Before(end) && ctx.Err() == nil; {
		n, err := c.stream.Read(buf, minTime(end, time.Now().Add(50*time.Millisecond)))
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
