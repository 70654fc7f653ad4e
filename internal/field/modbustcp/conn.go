// Package modbustcp is the driver of Modbus TCP: one connection, one request
// outstanding.
package modbustcp

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"syscall"
	"time"

	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
	wire "ferry/internal/wire/modbus"
)

func init() { field.Register(protocol.ModbusTCP.Name, driver{}) }

type driver struct{}

func (driver) Dissect(request, answer []byte, points []exchange.Labelled) (asked, answered []exchange.Field) {
	asked = wire.DissectRequest(request)
	if len(answer) > 0 {
		answered = wire.DissectAnswer(request, answer, points)
	}
	return asked, answered
}

func (driver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	def := protocol.ModbusTCP
	limit := time.Duration(def.Value(t.Settings, "timeoutMs")) * time.Millisecond
	// Connecting may take longer than answering: a lost first segment is
	// sent again only after a second.
	dialer := net.Dialer{Timeout: max(limit, 1500*time.Millisecond)}
	sock, err := dialer.DialContext(ctx, "tcp", t.Dial)
	if err != nil {
		return nil, failure(err, true)
	}
	c := &conn{sock: sock, unit: byte(def.Value(t.Settings, "unit")), limit: limit}
	c.stop = context.AfterFunc(ctx, func() { _ = sock.SetDeadline(time.Unix(1, 0)) })
	c.ctx = ctx
	return c, field.Reply{Outcome: exchange.Answered}
}

// failure says in words how a connection failed.
func failure(err error, dialling bool) field.Reply {
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return field.Reply{Outcome: exchange.Refused, Sentence: "the connection was refused: the machine is there, but nothing listens on that port"}
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		return field.Reply{Outcome: exchange.Reset, Sentence: "the far end tore the connection down"}
	case errors.Is(err, io.EOF):
		return field.Reply{Outcome: exchange.Closed, Sentence: "the far end closed the connection instead of answering"}
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return field.Reply{Outcome: exchange.Unreached, Sentence: "there is no way to that address from this machine"}
	case dialling:
		return field.Reply{Outcome: exchange.Unreached, Sentence: "the address gave no answer to the connection attempt"}
	case errors.Is(err, os.ErrDeadlineExceeded):
		return field.Reply{Outcome: exchange.NoAnswer, Sentence: "no answer came in time"}
	}
	return field.Reply{Outcome: exchange.Closed, Sentence: err.Error()}
}

type conn struct {
	sock        net.Conn
	ctx         context.Context
	stop        func() bool
	unit        byte
	limit       time.Duration
	transaction uint16
	request     []byte
	in          [2 * wire.MaxADU]byte
	have        int // octets in in that belong to no frame taken yet
	taken       int // octets of the frame that the last reply points to
	bits        []byte
	broken      bool
}

func (c *conn) Usable() bool { return !c.broken && c.ctx.Err() == nil }

func (c *conn) Close() error {
	c.stop()
	return c.sock.Close()
}

func (c *conn) next() uint16 {
	c.transaction++
	return c.transaction
}

func (c *conn) Read(area string, start uint32, count int) field.Reply {
	c.request = wire.AppendRead(c.request[:0], c.next(), c.unit, area, uint16(start), count)
	reply := c.exchange()
	if reply.OK() && (area == address.Coils || area == address.DiscreteInputs) {
		c.bits = c.bits[:0]
		for i := range count {
			c.bits = append(c.bits, reply.Data[i/8]>>(i%8)&1)
		}
		reply.Data = c.bits
	}
	return reply
}

func (c *conn) Write(at address.Address, data []byte) field.Reply {
	if at.Area == address.Coils {
		c.request = wire.AppendWriteCoil(c.request[:0], c.next(), c.unit, uint16(at.Offset), data[0] != 0)
	} else {
		c.request = wire.AppendWriteRegisters(c.request[:0], c.next(), c.unit, uint16(at.Offset), data)
	}
	return c.exchange()
}

func (c *conn) Identify() (text, by string, reply field.Reply) {
	c.request = wire.AppendIdentify(c.request[:0], c.next(), c.unit)
	if reply = c.exchange(); reply.OK() {
		if text, ok := wire.ParseIdentity(reply.Data); ok {
			return text, "function 43/14", reply
		}
	} else if reply.Outcome != exchange.Declined {
		return "", "function 43/14", reply
	}
	c.request = wire.AppendReportID(c.request[:0], c.next(), c.unit)
	if reply = c.exchange(); reply.OK() {
		if text, ok := wire.ParseServerID(reply.Data); ok {
			return text, "function 17", reply
		}
	} else if reply.Outcome != exchange.Declined {
		return "", "function 17", reply
	}
	reply = c.Read(address.HoldingRegisters, 0, 1)
	return "", "a one-register read", reply
}

// exchange sends the request and waits for its answer.
func (c *conn) exchange() field.Reply {
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
		answer, err := wire.Check(c.request, frame)
		if err != nil {
			reply := c.garbled(err, frame)
			return c.lost(reply)
		}
		reply := field.Reply{Outcome: exchange.Answered, Data: answer.Data, Request: c.request, Answer: frame}
		if answer.Exception != 0 {
			why := protocol.ModbusTCP.Decline(answer.Exception)
			reply.Outcome, reply.Code, reply.Data = exchange.Declined, answer.Exception, nil
			reply.Sentence = fmt.Sprintf("exception %d, %s", answer.Exception, why.Title)
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
