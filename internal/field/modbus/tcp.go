package modbus

import (
	"context"
	"errors"
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
	batch       []byte // requests that are under way together
	ends        []int  // where each of them ends
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
	if lost := c.send(c.request); lost != nil {
		return *lost
	}
	stale := 0
	for {
		frame, err := c.frame()
		if err != nil {
			return c.silent(err, stale)
		}
		// An answer to one of the requests that were given up before this
		// one is late, not wrong: wait on for ours.
		if behind := c.transaction - wire.Transaction(frame); behind > 0 && behind < 64 {
			stale++
			continue
		}
		reply, err := judge(wire.TCP, c.request, frame)
		if err != nil {
			return c.lost(c.garbled(err, frame))
		}
		return reply
	}
}

// send writes one or more requests, whose answers have the time limit from now
// on. It returns a reply where that fails.
func (c *conn) send(requests []byte) *field.Reply {
	if err := c.sock.SetDeadline(time.Now().Add(c.limit)); err != nil || c.ctx.Err() != nil {
		reply := c.lost(field.Reply{Outcome: exchange.Closed, Sentence: "the run was stopped"})
		return &reply
	}
	if _, err := c.sock.Write(requests); err != nil {
		reply := c.lost(failure(err, false))
		return &reply
	}
	return nil
}

// frame returns the next whole frame, which is valid until the next call. A
// *wire.Broken error means that the stream has lost its beginning.
func (c *conn) frame() ([]byte, error) {
	copy(c.in[:], c.in[c.taken:c.have])
	c.have -= c.taken
	c.taken = 0
	for {
		size, err := wire.FrameLen(c.in[:c.have])
		if err != nil {
			return nil, err
		}
		if size > 0 && c.have >= size {
			c.taken = size
			return c.in[:size], nil
		}
		n, err := c.sock.Read(c.in[c.have:])
		c.have += n
		if err != nil {
			return nil, err
		}
	}
}

// ReadMany keeps several requests under way; answers are known by their
// transaction (messaging guide, clause 4.2.2).
func (c *conn) ReadMany(reads []field.ReadOrder, came func(i int, reply field.Reply)) {
	first := c.transaction + 1
	c.batch, c.ends = c.batch[:0], append(c.ends[:0], 0)
	for _, r := range reads {
		c.transaction++
		c.pdu = wire.ReadPDU(c.pdu[:0], r.Area, uint16(r.Start), r.Count)
		c.batch = wire.TCP.AppendFrame(c.batch, c.transaction, c.unit, c.pdu...)
		c.ends = append(c.ends, len(c.batch))
	}
	request := func(i int) []byte { return c.batch[c.ends[i]:c.ends[i+1]:c.ends[i+1]] }
	owed := make([]bool, len(reads))
	failed := func(of func() field.Reply) {
		for i := range reads {
			if !owed[i] {
				c.request = request(i)
				came(i, of())
			}
		}
		c.request = nil // it lies in the batch
	}
	if lost := c.send(c.batch); lost != nil {
		failed(func() field.Reply { return *lost })
		return
	}
	for open := len(reads); open > 0; {
		frame, err := c.frame()
		if err != nil {
			failed(func() field.Reply { return c.silent(err, 0) })
			return
		}
		i := int(wire.Transaction(frame) - first)
		if behind := c.transaction - wire.Transaction(frame); i >= len(reads) && behind < 64+uint16(len(reads)) {
			continue // late: it answers a request that was given up
		}
		if i >= len(reads) || owed[i] {
			err := fmt.Errorf("it answers transaction %d, which was not asked", wire.Transaction(frame))
			failed(func() field.Reply { return c.lost(c.garbled(err, frame)) })
			return
		}
		reply, err := judge(wire.TCP, request(i), frame)
		if err != nil {
			failed(func() field.Reply { return c.lost(c.garbled(err, frame)) })
			return
		}
		if reply.OK() {
			reply.Data = c.spread(reads[i].Area, reads[i].Count, reply.Data)
		}
		owed[i] = true
		open--
		came(i, reply)
	}
}

// silent ends an exchange for which reading failed. What had arrived by then
// is shown, so that a frame cut short is told apart from silence.
func (c *conn) silent(err error, stale int) field.Reply {
	var broken *wire.Broken
	if errors.As(err, &broken) {
		return c.lost(c.garbled(err, c.in[:c.have]))
	}
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
