package modbus

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	family "ferry/internal/core/family/modbus"

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
	def := family.RTU
	if d.framing == wire.ASCII {
		def = family.ASCII
	}
	c := &lineConn{framing: d.framing, def: def, stream: port, format: format, char: format.CharMs(), ctx: ctx}
	if d.framing == wire.RTU {
		c.silence = family.SilenceMs(format)
	}
	return c.begin(t), field.Reply{Outcome: exchange.Answered}
}

// streamDriver carries serial frames in a TCP stream, where neither characters
// nor silences take time.
type streamDriver struct{ dissector }

func (d streamDriver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	sock, err := socket(ctx, t, family.RTUTCP)
	if err != nil {
		return nil, field.Failure(err, true)
	}
	c := &lineConn{framing: d.framing, def: family.RTUTCP, stream: field.TCPStream{Now: sock.Conn, Shut: sock.Close},
		sock: sock, ctx: ctx}
	return c.begin(t), field.Reply{Outcome: exchange.Answered}
}

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
	stream  field.Stream
	sock    *field.Socket // below the stream, where it is TCP
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
	suspected time.Time          // when one may have been, among octets that are no frame
	began     time.Time          // when it was opened
	drained   bool               // what lay there before anything was asked has been taken away
}

func (c *lineConn) begin(t field.Target) field.Conn {
	c.client.exchange = c.exchange
	c.asked, c.began = map[byte]time.Time{}, time.Now()
	c.in = make([]byte, 0, 4*wire.MaxASCII)
	c.quiet = time.Now().Add(ms(c.silence))
	c.Toward(t.Settings)
	return c
}

func ms(x float64) time.Duration { return time.Duration(x * float64(time.Millisecond)) }

func (c *lineConn) Toward(settings protocol.Settings) {
	c.toward(c.def, settings)
	c.turn = time.Duration(c.def.Int(settings, "turnaroundMs")) * time.Millisecond
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
			return 0, field.ErrCalledOff
		}
		next := minTime(until, time.Now().Add(slice))
		n, err := c.stream.Read(b, next)
		if n > 0 || err != nil || next.Equal(until) {
			return n, err
		}
	}
}

// exchange sends the request and waits for its answer. Over TCP a read is sent
// once more where the far end had gone.
func (c *lineConn) exchange(pass field.Pass) field.Reply {
	if c.sock == nil {
		reply, _ := c.once(pass)
		return reply
	}
	if _, err := c.sock.Ready(); err != nil {
		reply := c.lost(field.Failure(err, true), false)
		reply.Request = nil
		return reply
	}
	reply, err := c.once(pass)
	if err != nil && len(c.in) == 0 && pass == nil && c.pdu[0] <= wire.ReadInputRegisters && c.sock.Again(err) {
		c.broken = false
		reply, _ = c.once(nil)
	}
	if reply.Outcome == exchange.Answered || reply.Outcome == exchange.Declined {
		reply.Manner |= c.sock.Manner & (exchange.HangsUp | exchange.Dozes)
		reply.HungUpAt = c.sock.HungUpAt()
		c.sock.Answered(time.Now())
	}
	return reply
}

// once sends the request once. The error is why the stream failed, if it did.
func (c *lineConn) once(pass field.Pass) (field.Reply, error) {
	reading := c.pdu[0] <= wire.ReadInputRegisters
	if c.unit == 0 && c.pdu[0] != wire.WriteSingleCoil && c.pdu[0] != wire.WriteSingleRegister &&
		c.pdu[0] != wire.WriteRegisters {
		return field.Reply{Outcome: exchange.NotAllowed,
			Sentence: "unit 0 is every unit at once: it can be written, but none of them answers"}, nil
	}
	c.calledOff.Store(false)
	err := c.drain()
	if err == nil {
		err = c.clear()
	}
	if errors.Is(err, field.ErrCalledOff) && c.ctx.Err() == nil {
		return field.Failure(err, false), nil // nothing was sent
	}
	if err != nil {
		return c.lost(field.Failure(err, false), false), err
	}
	c.request = c.framing.AppendFrame(c.request[:0], 0, c.unit, c.pdu...)
	precise.Until(c.quiet)
	left, refused := field.Let(pass)
	if refused != nil {
		refused.Request = c.request
		return *refused, nil
	}
	began := time.Now()
	err = c.stream.Write(c.request, began.Add(field.Sending))
	left()
	if err != nil {
		return c.lost(field.Failure(err, false), true), err
	}
	c.asked[c.unit] = began
	sent := began.Add(ms(c.char * float64(len(c.request))))
	if c.unit == 0 {
		// Nobody may speak before every unit has done it, and the port must not
		// be closed while it goes out.
		c.quiet = sent.Add(max(c.turn, ms(c.silence)))
		c.pause(c.quiet)
		return field.Reply{Outcome: exchange.Sent, Left: true,
			Sentence: "sent to every unit of the line; none answers to that", Request: c.request}, nil
	}
	h := hearing{deadline: sent.Add(c.limit), sent: sent}
	reply, ok, err := c.answer(&h, reading)
	switch {
	case errors.Is(err, field.ErrCalledOff) && c.ctx.Err() == nil:
		c.owe(sent)
		reply = field.Failure(err, false)
		reply.Request = c.request
	case err != nil:
		return c.lost(field.Failure(err, false), true), err
	case ok:
		reply.ThinkMs = max(0, float64(h.first.Sub(sent))/1e6-c.char-c.silence)
		if h.pause > lumps {
			reply.Cause, reply.Sentence = exchange.InPieces,
				fmt.Sprintf("the answer came in pieces, with a pause of %d ms", h.pause.Milliseconds())
			if at := h.split; at > 0 && at < len(reply.Answer) {
				reply.Frames = []exchange.Frame{{Out: true, Octets: reply.Request},
					{AfterMs: float64(h.before.Sub(sent)) / 1e6, Octets: reply.Answer[:at]},
					{AfterMs: float64(h.last.Sub(sent)) / 1e6, Octets: reply.Answer[at:]}}
			}
		}
		if h.echoed && reply.Cause == "" {
			reply.Cause = exchange.Echo
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
		reply.Cause, reply.Doubt = exchange.Others,
			"somebody else asks on this line too: the answer may be to a question of theirs"
	}
	return reply, nil
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
		over, have := n == 0, len(c.in)+n
		if have == 0 || have == cap(c.in) {
			return reply, false, nil
		}
		if c.in = c.in[:have]; !over {
			h.came(time.Now(), have-n)
		}
		for len(c.in) > 0 {
			if c.stripEcho(h, reading) {
				break
			}
			whole, _ := c.framing.AnswerLen(c.in)
			if whole > 0 && len(c.in) >= whole {
				if reply, err := judge(c.framing, c.request, c.in[:whole], wire.Lenience{}); err == nil &&
					(len(c.in) == whole || c.isRequest(c.in[whole:], over) || c.owesLike(c.in[:whole])) {
					return reply, true, nil
				}
			}
			if n := c.notOurs(over); n > 0 {
				c.in = c.in[:copy(c.in, c.in[n:])]
				h.last, h.first = time.Time{}, time.Time{}
				if len(c.in) > 0 {
					h.came(time.Now(), 0)
				}
				continue
			}
			if whole > 0 && len(c.in) >= whole {
				h.closing = true // it is wrong: hear it to its end
			}
			break
		}
		if over && len(c.in) == have {
			return reply, false, nil
		}
	}
}

// hearing is what is known of an answer under way.
type hearing struct {
	sent, deadline time.Time
	first, last    time.Time
	pause          time.Duration // the longest between two arrivals
	split          int           // how much had come before it
	before         time.Time     // and when
	closing        bool
	echoed         bool
}

// came notes that something came, where so much had come before.
func (h *hearing) came(now time.Time, had int) {
	if h.first.IsZero() {
		h.first = now
	} else if pause := now.Sub(h.last); pause > h.pause {
		h.pause, h.split, h.before = pause, had, h.last
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
			h.came(time.Now(), 0)
			return false
		}
	}
	return true
}

func (c *lineConn) lost(reply field.Reply, left bool) field.Reply {
	c.broken = true
	reply.Request, reply.Left = c.request, left
	if c.ctx.Err() != nil {
		reply.Sentence = "the run was stopped"
	}
	return reply
}

func minTime(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}
