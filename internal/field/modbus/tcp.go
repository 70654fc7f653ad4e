package modbus

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"sync"
	"sync/atomic"
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
	c := &conn{sock: sock, ctx: ctx, dial: t.Dial}
	c.earlier, c.transaction = goOn(t.Dial)
	c.first = c.transaction
	c.client.exchange = c.exchange
	c.stop = context.AfterFunc(ctx, func() { _ = sock.SetDeadline(time.Unix(1, 0)) })
	c.Toward(t.Settings)
	return c, field.Reply{Outcome: exchange.Answered}
}

// dial opens a TCP connection. Connecting may take longer than answering: a
// lost first segment is sent again only after a second.
func dial(ctx context.Context, t field.Target, def *protocol.Def) (net.Conn, error) {
	limit := time.Duration(def.Value(t.Settings, "timeoutMs")) * time.Millisecond
	dialer := net.Dialer{Timeout: max(limit, 1500*time.Millisecond), Control: t.Control}
	return dialer.DialContext(ctx, "tcp", t.Dial)
}

// transactions are the last transaction number of each place that was dialled.
// They go on from one connection to the next, so that an answer to a request
// over an earlier one, which a gateway may still deliver, is known as such.
var (
	transactionsMu sync.Mutex
	transactions   = map[string]uint16{}
)

// mostPlaces bounds the places whose numbers are remembered.
const mostPlaces = 8192

// goOn returns the last number of the connection before, and the one to go on
// from.
func goOn(dial string) (earlier, next uint16) {
	transactionsMu.Lock()
	defer transactionsMu.Unlock()
	last, ok := transactions[dial]
	if !ok {
		last = uint16(rand.Uint32()) // an earlier Ferry may have asked there
	}
	return last, last + 1<<12
}

func remember(dial string, last uint16) {
	transactionsMu.Lock()
	defer transactionsMu.Unlock()
	if len(transactions) >= mostPlaces {
		clear(transactions)
	}
	transactions[dial] = last
}

type conn struct {
	client
	sock        net.Conn
	ctx         context.Context
	dial        string
	stop        func() bool
	came, now   time.Time   // when the frames before the last, and the last, were whole
	calledOff   atomic.Bool // Break was called
	transaction uint16
	first       uint16
	earlier     uint16            // last transaction of the connection before
	sent        [recent]time.Time // when each of the last requests went out, by its transaction
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

// recent is how many requests back an answer is known as late.
const recent = 64

// Break ends the wait for an answer.
func (c *conn) Break() {
	c.calledOff.Store(true)
	_ = c.sock.SetReadDeadline(time.Unix(1, 0)) // a connection that has gone needs no end
}

// Last returns what was on the wire last, for a report of a defect.
func (c *conn) Last() (request, answer []byte) { return c.request, c.in[:c.have] }

func (c *conn) Close() error {
	c.stop()
	remember(c.dial, c.transaction)
	return c.sock.Close()
}

// exchange sends the request and waits for its answer.
func (c *conn) exchange(pass field.Pass) field.Reply {
	c.transaction++
	c.request = wire.TCP.AppendFrame(c.request[:0], c.transaction, c.unit, c.pdu...)
	if lost := c.send(c.request, pass); lost != nil {
		return *lost
	}
	late, stale := 0.0, 0
	for {
		frame, err := c.frame()
		if err != nil {
			reply := c.silent(err, stale, late)
			reply.LateMs = late
			return reply
		}
		// An answer to one of the requests that were given up before this
		// one is late, not wrong: wait on for ours.
		if ms, is := c.late(frame); is {
			late = max(late, ms)
			stale++
			continue
		}
		reply, err := judge(wire.TCP, c.request, frame)
		if err != nil {
			reply = c.lost(c.garbled(err, frame))
		}
		reply.LateMs, reply.Left = late, true
		return reply
	}
}

// late reports whether a frame answers a request before the one under way, and
// how long the device took for it, 0 for not known.
func (c *conn) late(frame []byte) (float64, bool) {
	behind := c.transaction - wire.Transaction(frame)
	if c.earlier-wire.Transaction(frame) < recent && c.transaction-c.first < 1<<10 {
		return 0, true // of the connection before this one
	}
	if behind == 0 || behind >= recent {
		return 0, false
	}
	at := c.sent[wire.Transaction(frame)%recent]
	if at.IsZero() {
		return 0, true
	}
	if c.came.After(at) {
		at = c.came // until then the device was busy with the one before
	}
	return float64(c.now.Sub(at)) / 1e6, true
}

// send writes one or more requests, whose answers have the time limit from now
// on. It returns a reply where that fails.
func (c *conn) send(requests []byte, pass field.Pass) *field.Reply {
	c.calledOff.Store(false)
	now := time.Now()
	err := errors.Join(c.sock.SetReadDeadline(now.Add(c.limit)), c.sock.SetWriteDeadline(now.Add(sending)))
	if err != nil || c.ctx.Err() != nil {
		reply := c.lost(field.Reply{Outcome: exchange.Closed, Sentence: "the run was stopped"})
		return &reply
	}
	left, refused := let(pass)
	if refused != nil {
		refused.Request = c.request
		return refused
	}
	n, err := c.sock.Write(requests)
	left()
	if err != nil {
		reply := failure(err, false)
		if errors.Is(err, os.ErrDeadlineExceeded) {
			reply = field.Reply{Outcome: exchange.Closed, Sentence: "the far end takes no octets any more"}
		}
		reply = c.lost(reply)
		reply.Left = n > 0
		return &reply
	}
	c.sent[c.transaction%recent] = now
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
			c.came, c.now = c.now, time.Now()
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
		c.sent[c.transaction%recent] = time.Now()
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
	if lost := c.send(c.batch, nil); lost != nil {
		failed(func() field.Reply { return *lost })
		return
	}
	late := 0.0
	for open := len(reads); open > 0; {
		frame, err := c.frame()
		if err != nil {
			failed(func() field.Reply { return c.silent(err, 0, late) })
			return
		}
		i := int(wire.Transaction(frame) - first)
		if ms, is := c.late(frame); i >= len(reads) && is {
			late = max(late, ms)
			continue // it answers a request that was given up
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
		reply.LateMs, late = late, 0
		came(i, reply)
	}
}

// silent ends an exchange for which reading failed. What had arrived by then
// is shown, so that a frame cut short is told apart from silence.
func (c *conn) silent(err error, stale int, late float64) field.Reply {
	var broken *wire.Broken
	if errors.As(err, &broken) {
		return c.lost(c.garbled(err, c.in[:c.have]))
	}
	if errors.Is(err, os.ErrDeadlineExceeded) && (c.calledOff.Load() || c.ctx.Err() != nil) {
		err = errBroken
	}
	reply := failure(err, false)
	switch {
	case reply.Outcome == exchange.CalledOff:
	case c.have > 0:
		reply = c.garbled(fmt.Errorf("%d octets came and the rest of the frame did not", c.have), c.in[:c.have])
	case late > 0 && reply.Outcome == exchange.NoAnswer:
		reply.Cause = exchange.Late
	case stale > 0 && reply.Outcome == exchange.NoAnswer:
		reply = c.garbled(fmt.Errorf("%d answers to earlier requests came, none to this one", stale), nil)
	}
	reply.Request, reply.Left = c.request, true
	if reply.Outcome == exchange.NoAnswer {
		reply.Sentence = fmt.Sprintf("no answer came within %d ms", c.limit.Milliseconds())
		if reply.Cause == exchange.Late {
			reply.Sentence += fmt.Sprintf("; one to an earlier request came after %.0f ms", late)
		}
	}
	if reply.Outcome == exchange.NoAnswer || reply.Outcome == exchange.CalledOff && c.have == 0 {
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
	reply.Left = true
	return reply
}
