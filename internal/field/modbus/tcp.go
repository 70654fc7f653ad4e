package modbus

import (
	"context"
	"encoding/binary"
	"fmt"
	"net"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
	wire "ferry/internal/wire/modbus"
)

type tcpDriver struct{ dissector }

func (tcpDriver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	sock, err := dial(ctx, t, protocol.ModbusTCP)
	if err != nil {
		return nil, failure(err, true)
	}
	c := &conn{sock: sock, ctx: ctx}
	c.client.exchange = c.exchange
	c.stop = context.AfterFunc(ctx, func() { _ = sock.SetDeadline(time.Unix(1, 0)) })
	c.Toward(t.Settings)
	return c, field.Reply{Outcome: exchange.Answered}
}

// dial opens a TCP connection. Connecting may take longer than answering: a
// lost first segment is sent again only after a second.
func dial(ctx context.Context, t field.Target, def *protocol.Def) (net.Conn, error) {
	limit := time.Duration(def.Value(t.Settings, "timeoutMs")) * time.Millisecond
	dialer := net.Dialer{Timeout: max(limit, 1500*time.Millisecond)}
	return dialer.DialContext(ctx, "tcp", t.Dial)
}

type conn struct {
	client
	sock        net.Conn
	ctx         context.Context
	stop        func() bool
	transaction uint16
	request     []byte
	in          [2 * wire.MaxADU]byte
	have        int // octets in in that belong to no frame taken yet
	taken       int // octets of the frame that the last reply points to
	broken      bool
}

func (c *conn) Toward(settings map[string]int) { c.toward(protocol.ModbusTCP, settings) }

func (c *conn) Usable() bool { return !c.broken && c.ctx.Err() == nil }

func (c *conn) Close() error {
	c.stop()
	return c.sock.Close()
}

// exchange sends the request and waits for its answer.
func (c *conn) exchange() field.Reply {
	c.transaction++
	c.request = wire.TCP.AppendFrame(c.request[:0], c.transaction, c.unit, c.pdu...)
	copy(c.in[:], c.in[c.taken:c.have])
	c.have -= c.taken
	c.taken = 0
	if err := c.sock.SetDeadline(time.Now().Add(c.limit)); err != nil || c.ctx.Err() != nil {
		return c.lost(field.Reply{Outcome: exchange.Closed, Sentence: "the run was stopped"})
	}
	if _, err := c.sock.Write(c.request); err != nil {
		return c.lost(failure(err, false))
	}
	stale := 0
	for {
		size, err := wire.FrameLen(c.in[:c.have])
		if err != nil {
			return c.lost(c.garbled(err, c.in[:c.have]))
		}
		if size == 0 || c.have < size {
			n, err := c.sock.Read(c.in[c.have:])
			c.have += n
			if err != nil {
				return c.silent(err, stale)
			}
			continue
		}
		frame := c.in[:size]
		// An answer to one of the requests that were given up before this
		// one is late, not wrong: wait on for ours.
		if behind := c.transaction - binary.BigEndian.Uint16(frame); behind > 0 && behind < 64 {
			stale++
			copy(c.in[:], c.in[size:c.have])
			c.have -= size
			continue
		}
		c.taken = size
		reply, err := judge(wire.TCP, c.request, frame)
		if err != nil {
			return c.lost(c.garbled(err, frame))
		}
		return reply
	}
}

// silent ends an exchange for which reading failed. What had arrived by then
// is shown, so that a frame cut short is told apart from silence.
func (c *conn) silent(err error, stale int) field.Reply {
	reply := failure(err, false)
	switch {
	case c.have > 0:
		reply = c.garbled(fmt.Errorf("%d octets came and the rest of the frame did not", c.have), c.in[:c.have])
	case stale > 0 && reply.Outcome == exchange.NoAnswer:
		reply = c.garbled(fmt.Errorf("%d answers to earlier requests came, none to this one", stale), nil)
	}
	reply.Request = c.request
	if reply.Outcome == exchange.NoAnswer {
		return reply // the connection stands; a late answer is recognised by its transaction
	}
	return c.lost(reply)
}

func (c *conn) garbled(err error, frame []byte) field.Reply {
	return field.Reply{Outcome: exchange.Garbled, Sentence: err.Error(), Request: c.request, Answer: frame}
}

// lost marks the connection as one that can carry no further request.
func (c *conn) lost(reply field.Reply) field.Reply {
	c.broken = true
	if reply.Request == nil {
		reply.Request = c.request
	}
	return reply
}
