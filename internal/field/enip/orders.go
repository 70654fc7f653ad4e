package enip

import (
	"fmt"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/enip"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// seenOff is how long a write waits to see the next packet leave. Later ones go with the
// cycle all the same: none is sent between, which would be uneven, and the link has more
// to do than to wait.
const seenOff = 30 * time.Millisecond

// WriteItem sets an output, which is sent from the next packet on, or a switch of the
// connection.
func (c *cyclic) WriteItem(to protocol.Wanted, v value.Value, pass field.Pass) field.Reply {
	switch to.Address {
	case family.ConnEnable:
		return c.enable(v.Bool(), pass)
	case family.ConnRun:
		if !c.out.Head() {
			return field.Reply{Outcome: exchange.NotAllowed,
				Sentence: "it has no run/idle header: what is sent is in effect as long as the connection is open"}
		}
	}
	c.mu.Lock()
	is, head := c.open, c.out.Head()
	at := block.Of(to.Address)
	to.Shape.Unit = 8
	codec, err := value.NewCodec(to.Shape)
	c.mu.Unlock()
	switch {
	case !is:
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: "the connection is not open"}
	case to.Address != family.ConnRun && (err != nil || at.Area != family.AreaOut ||
		int(at.Offset)+codec.Width() > len(c.image)):
		return field.Reply{Outcome: exchange.NotAllowed,
			Sentence: fmt.Sprintf("it is not exchanged: the connection carries %d octets", len(c.image))}
	}
	left, refused := field.Let(pass)
	if refused != nil {
		return *refused
	}
	defer left() // from then on it goes with every packet: an output stays until it is changed
	c.mu.Lock()
	if !c.open {
		c.mu.Unlock()
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: "the connection has just ended"}
	}
	said := ""
	if to.Address == family.ConnRun {
		c.state.Run = v.Bool()
		said = map[bool]string{true: "The connection is in run: the device acts on the outputs.",
			false: "The connection is idle: the device does not act on the outputs."}[v.Bool()]
	} else if err := codec.Encode(v, c.image[at.Offset:int(at.Offset)+codec.Width()]); err != nil {
		c.mu.Unlock()
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: err.Error()}
	} else if head && !c.state.Run {
		said = "It is sent, and the device does not act on it: the connection is idle. Set its point Run."
	} else {
		said = fmt.Sprintf("Sent with every packet from now on, every %g ms.", float64(c.every)/1e6)
	}
	now := time.Now()
	c.moved, c.changed = true, true
	gone := make(chan struct{})
	if c.sent != nil {
		gone = c.sent
	} else {
		c.sent = gone
	}
	c.emit(c.outputs(now))
	c.mu.Unlock()
	late := time.NewTimer(seenOff)
	defer late.Stop()
	select {
	case <-gone:
	case <-late.C:
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.open {
		return field.Reply{Outcome: exchange.Closed, Left: true, Sentence: c.ended.Sentence}
	}
	return field.Reply{Outcome: exchange.Answered, Left: true, Sentence: said}
}

// enable opens or closes the connection.
func (c *cyclic) enable(on bool, pass field.Pass) field.Reply {
	c.mu.Lock()
	is := c.open
	c.mu.Unlock()
	switch {
	case on && !is:
		reply := c.opening(pass)
		if reply.OK() {
			c.remember(true)
			reply.Sentence = "The connection is open."
		}
		c.tell(time.Now())
		return reply
	case !on && is:
		left, refused := field.Let(pass)
		if refused != nil {
			return *refused
		}
		defer left()
		c.remember(false)
		c.stop()
		reply := c.Question(false, func() field.Reply {
			a, failed := c.ask(c.ending(), nil)
			if failed != nil {
				return *failed
			}
			if a.Status != 0 {
				return declined(&a)
			}
			return field.Reply{Outcome: exchange.Answered, Left: true, Sentence: "The connection is closed."}
		})
		c.tell(time.Now())
		return reply
	}
	return field.Reply{Outcome: exchange.Answered, Left: true, Sentence: "It is so already."}
}
