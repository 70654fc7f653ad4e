package modbus

import (
	"bytes"
	"fmt"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/serial"
	"ferry/internal/field"
	wire "ferry/internal/wire/modbus"
)

// failed says what became of an exchange without a right answer.
func (c *lineConn) failed(h *hearing) field.Reply {
	if len(c.in) == 0 {
		reply := field.Reply{Outcome: exchange.NoAnswer, Request: c.request,
			Sentence: fmt.Sprintf("nothing came back within %d ms", c.limit.Milliseconds())}
		if h.echoed {
			reply.Cause, reply.Sentence = exchange.Echo,
				reply.Sentence+" but the request itself: the adapter hears what it sends"
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
				return exchange.OtherStation, "", fmt.Sprintf("unit %d answers in the place of unit %d", unit, c.unit)
			}
			if len(c.in) > whole {
				return exchange.TwoStations, "",
					fmt.Sprintf("a right answer came and %d octets more: two units answer to number %d",
						len(c.in)-whole, c.unit)
			}
		}
	}
	heads := c.heads()
	head := bytes.HasPrefix(c.in, heads[0].Octets) || bytes.HasPrefix(c.in, heads[1].Octets)
	if head && whole > 0 && len(c.in) > whole {
		return exchange.TwoStations, "",
			fmt.Sprintf("the answer begins as it should and %d octets come too many: two units talk at once",
				len(c.in)-whole)
	}
	if head && whole > len(c.in) {
		return exchange.CutShort, "",
			fmt.Sprintf("%d octets came and the other %d of the answer did not", len(c.in), whole-len(c.in))
	}
	if !head && c.char > 0 {
		if guesses := serial.Explain(c.in, heads[:], c.format); len(guesses) > 0 && guesses[0].Share >= 0.6 {
			return exchange.Format, guesses[0].Format.String(),
				fmt.Sprintf("%d octets came and none pass: they look like %s, and this end is set to %s", len(c.in),
					guesses[0].Format, c.format)
		}
	}
	if _, err := judge(c.framing, c.request, c.in, wire.Lenience{}); err != nil {
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
