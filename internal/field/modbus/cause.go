package modbus

import (
	"fmt"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/serial"
	"ferry/internal/field"
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
	if reply.Cause, reply.Looks, reply.Sentence = c.framing.Cause(c.request, c.in,
		c.known()); time.Since(c.others) < foreign {
		reply.Cause, reply.Looks = exchange.Others, ""
		reply.Sentence += "; somebody else asks on this line too"
	}
	return reply
}

// known is how the port is set, if it is known.
func (c *lineConn) known() *serial.Format {
	if c.char > 0 {
		return &c.format
	}
	return nil
}
