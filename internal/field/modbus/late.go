package modbus

import (
	"fmt"
	"slices"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/field"
	wire "ferry/internal/wire/modbus"
)

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
		for i := range c.owes {
			c.owes[i].checks = patience // it is no longer known how many are to come
		}
	}
	c.owes = append(c.owes,
		owed{unit: c.unit, function: c.pdu[0], length: c.answerLength(), request: string(c.request), sent: sent})
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
	if f := c.owes[i].function; f != wire.EncapsulatedTransfer && f != wire.ReportServerID {
		c.lateMs = max(c.lateMs, float64(time.Since(c.owes[i].sent))/1e6)
	}
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
		another, err := judge(c.framing, c.request, next[:whole], wire.Lenience{})
		if err != nil {
			break
		}
		frames++
		rest += whole
		another.ThinkMs = reply.ThinkMs
		*reply = another
	}
	alike := true
	for i := range mine {
		alike = alike && mine[i].request == string(c.request)
	}
	if frames > len(mine) {
		reply.LateMs = float64(delay) / 1e6
		if reply.Cause == "" {
			reply.Cause = exchange.Late
		}
		if !alike {
			// A gateway may have let them overtake each other.
			reply.Doubt = "the late answer to a question before came with it, and a frame says nothing of its question"
		}
		return
	}
	if !alike {
		reply.Cause = exchange.Late
		reply.Doubt = fmt.Sprintf("it may be the late answer to a question before: one was not answered within %d ms",
			c.limit.Milliseconds())
	}
	// As many are still to come as were asked for and did not; if answers come in
	// the order of their questions, those of the last.
	mine = append(mine, owed{unit: c.unit, function: c.pdu[0], length: c.answerLength(), request: string(c.request),
		sent: h.sent, checks: mine[len(mine)-1].checks})
	for _, o := range mine[frames:] {
		o.checks++
		c.owes = append(c.owes, o)
	}
}

// patience is how many answers in a row may be doubted before the unit is left
// in peace for once, until whatever it owes must have come.
const patience = 2

// over is after how long nothing that was asked before can come any more.
func (c *lineConn) over() time.Duration { return max(time.Second, 4*c.limit) }

// clear listens, before a request is sent that could be answered by what is owed
// from another, until that must have come. It is done where looking at the
// answers has not told.
func (c *lineConn) clear() error {
	request := c.framing.AppendFrame(nil, 0, c.unit, c.pdu...)
	mine := func(o owed) bool {
		return o.unit == c.unit && o.function == c.pdu[0] && o.length == c.answerLength() &&
			o.request != string(request)
	}
	if !slices.ContainsFunc(c.owes, func(o owed) bool { return o.checks >= patience && mine(o) }) {
		return nil
	}
	if time.Since(c.asked[c.unit]) > c.late() {
		c.owes = slices.DeleteFunc(c.owes, mine)
		return nil
	}
	// What counts is how long the line was listened to, not how late it is: where
	// this machine stood still, so may have an adapter or a gateway on it.
	most := 5 * c.over() // on a line on which somebody else speaks it never ends
	for left := c.over(); left > 0; left, most = left-slice, most-slice {
		if most <= 0 {
			return nil // what is owed stays owed, and what comes is doubted
		}
		n, err := c.hear(c.in[:cap(c.in)], time.Now().Add(slice))
		if err != nil {
			return err
		}
		if n > 0 { // frames may come in pieces; what matters is when they end
			left = c.over()
		}
	}
	c.owes = slices.DeleteFunc(c.owes, mine)
	return nil
}
