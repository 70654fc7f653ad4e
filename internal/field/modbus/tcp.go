package modbus

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ferry/internal/core/block"
	family "ferry/internal/core/family/modbus"

	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
	wire "ferry/internal/wire/modbus"
)

type tcpDriver struct{ dissector }

func (tcpDriver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	sock, err := socket(ctx, t, family.TCP)
	if err != nil {
		return nil, field.Failure(err, true)
	}
	c := &conn{sock: sock, ctx: ctx, dial: t.Dial}
	before, next := goOn(t.Dial)
	c.earlier, c.owed, c.transaction, sock.Manner = before.transaction, before.owes, next, before.manner|t.Manner
	c.first = c.transaction
	c.client.exchange = c.exchange
	c.Toward(t.Settings)
	return c, field.Reply{Outcome: exchange.Answered}
}

// socket opens a connection by the time limit of a link.
func socket(ctx context.Context, t field.Target, def *protocol.Def) (*field.Socket, error) {
	return field.NewSocket(ctx, t, time.Duration(def.Int(t.Settings, "timeoutMs"))*time.Millisecond, nil)
}

// places is what is remembered of each place that was dialled. Transactions go
// on from one connection to the next, so that an answer to a request over an
// earlier one, which a gateway may still deliver, is known as such.
var (
	placesMu sync.Mutex
	places   = map[string]place{}
)

type place struct {
	transaction uint16
	manner      exchange.Manner
	owes        int // questions that were not answered
}

// mostPlaces bounds the places that are remembered.
const mostPlaces = 8192

// goOn returns what is remembered of a place, and the transaction to go on from.
func goOn(dial string) (p place, next uint16) {
	placesMu.Lock()
	defer placesMu.Unlock()
	p, ok := places[dial]
	if !ok {
		p.transaction = uint16(rand.Uint32()) // an earlier Ferry may have asked there
	}
	return p, p.transaction + 1<<12
}

func remember(dial string, p place) {
	placesMu.Lock()
	defer placesMu.Unlock()
	if len(places) >= mostPlaces {
		clear(places)
	}
	places[dial] = p
}

type conn struct {
	client
	sock        *field.Socket
	ctx         context.Context
	dial        string
	came, now   time.Time   // when the frames before the last, and the last, were whole
	heard       time.Time   // when octets came last
	prompt      *prompt     // of the connection, nil where there is none
	calledOff   atomic.Bool // Break was called
	transaction uint16
	first       uint16
	earlier     uint16            // last transaction of the connection before
	sent        [recent]time.Time // when each of the last requests went out, by its transaction
	request     []byte
	before      []byte // the request before, for its octets
	sentFn      func() // called when a request has left
	batch       []byte // requests that are under way together
	ends        []int  // where each of them ends
	in          [2 * wire.MaxADU]byte
	have        int           // octets in in that belong to no frame taken yet
	taken       int           // octets of the frame that the last reply points to
	pieces      time.Duration // the longest pause inside it
	broken      bool
	owed        int      // questions over the connection before that were not answered
	owes        int      // and over this one
	timed       net.Conn // for which readUntil and writeUntil were set
	readUntil   time.Time
	writeUntil  time.Time
	suspect     bool // the connection before was given up with a question unanswered
}

func (c *conn) Toward(settings protocol.Settings) { c.toward(family.TCP, settings) }

func (c *conn) Usable() bool { return !c.broken && c.ctx.Err() == nil }

// recent is how many requests back an answer is known as late.
const recent = 64

// Break ends the wait for an answer.
func (c *conn) Break() {
	c.calledOff.Store(true)
	_ = c.sock.Conn().SetReadDeadline(time.Unix(1, 0)) // a connection that has gone needs no end
}

// OnSent has fn called whenever a request has left, while its answer is on its
// way; the reply before is valid until then.
func (c *conn) OnSent(fn func()) { c.sentFn = fn }

// Last returns what was on the wire last, for a report of a defect.
func (c *conn) Last() (request, answer []byte) { return c.request, c.in[:c.have] }

func (c *conn) Close() error {
	remember(c.dial, place{c.transaction, c.sock.Manner, c.owes})
	return c.sock.Close()
}

// exchange sends the request and waits for its answer.
func (c *conn) exchange(pass field.Pass) field.Reply {
	if lost := c.ready(); lost != nil {
		return *lost
	}
	reply, err := c.once(pass)
	if err != nil && pass == nil && c.pdu[0] <= wire.ReadInputRegisters && c.sock.Again(err) {
		// It was a read, and the far end had gone before it came: a second one
		// does no harm.
		c.anew()
		asked, began := slices.Clone(c.request), time.Now()
		if reply, _ = c.once(nil); reply.OK() {
			if reply.Cause == "" {
				reply.Cause = c.sock.Redone()
			}
			reply.Frames = []exchange.Frame{{Out: true, Octets: asked}, {Out: true, Anew: true, Octets: reply.Request},
				{AfterMs: float64(time.Since(began)) / 1e6, Octets: reply.Answer}}
		}
	}
	return reply
}

// once sends the request once. The error is why the connection failed, if it did
// before any octet of an answer came.
func (c *conn) once(pass field.Pass) (field.Reply, error) {
	c.transaction++
	// The reply before may not have been looked at yet, and points to its request.
	c.request, c.before = wire.TCP.AppendFrame(c.before[:0], c.transaction, c.unit, c.pdu...), c.request
	lost, err := c.send(c.request, pass)
	if c.sentFn != nil { // sent or not, the buffer before is needed next
		c.sentFn()
	}
	if lost != nil {
		return *lost, err
	}
	late, stale, wrong := 0.0, 0, 0
	began := time.Now()
	var strays []exchange.Frame // answers to earlier requests
	for {
		frame, err := c.frame()
		if err != nil {
			reply := c.silent(err, stale, wrong, late)
			withLate(&reply, strays, began)
			if reply.LateMs = late; c.optional() {
				c.sent[c.transaction%recent] = time.Time{} // its answer is owed by nobody
			}
			if c.have > 0 {
				err = nil
			}
			return reply, err
		}
		// An answer to one of the requests that were given up before this
		// one is late, not wrong: wait on for ours.
		if ms, is := c.late(frame); is {
			if len(strays) < mostStrays {
				strays = append(strays, exchange.Frame{AfterMs: float64(time.Since(began)) / 1e6, Late: true,
					Octets: slices.Clone(frame)})
			}
			if late = max(late, ms); c.owes+c.owed > 0 {
				stale++
			} else {
				wrong++ // what it answers was answered before
			}
			if c.owes = max(0, c.owes-1); c.owes == 0 {
				c.owed = max(0, c.owed-1)
			}
			continue
		}
		reply, err := c.judge(c.request, frame)
		if err != nil {
			reply = c.lost(c.garbled(err, frame))
		}
		reply.LateMs, reply.Left = late, true
		withLate(&reply, strays, began)
		return reply, nil
	}
}

// mostStrays bounds the late answers that are shown with one exchange.
const mostStrays = 4

// withLate puts answers to earlier requests among the frames of a reply.
func withLate(reply *field.Reply, strays []exchange.Frame, began time.Time) {
	if len(strays) == 0 {
		return
	}
	reply.Frames = append([]exchange.Frame{{Out: true, Octets: reply.Request}}, strays...)
	if len(reply.Answer) > 0 {
		reply.Frames = append(reply.Frames,
			exchange.Frame{AfterMs: float64(time.Since(began)) / 1e6, Octets: reply.Answer})
	}
}

// ready makes sure that there is a connection to ask over. Where a device
// answers without transactions, one that still owes an answer is no good.
func (c *conn) ready() *field.Reply {
	anew, err := c.sock.Ready()
	if !anew && err == nil && c.owes > 0 && c.sock.Manner&exchange.NoTransaction != 0 {
		c.suspect = true
		anew, err = true, c.sock.Reopen()
	}
	if anew {
		c.anew()
	}
	if err != nil {
		reply := c.lost(field.Failure(err, true))
		reply.Request, reply.Left = nil, false
		return &reply
	}
	return nil
}

// anew forgets what belonged to the connection before.
func (c *conn) anew() {
	c.have, c.taken, c.owes, c.broken = 0, 0, 0, false
	c.sent = [recent]time.Time{}
}

// judge is wire's judgement of a frame with what the manners of devices allow
// over TCP: the connection tells who answers, and where nothing else is owed the
// frame can answer but one question.
func (c *conn) judge(request, frame []byte) (field.Reply, error) {
	may := wire.Lenience{Unit: true, Transaction: c.owes == 0 && len(c.ends) <= 2}
	reply, err := judge(wire.TCP, request, frame, may)
	if err != nil {
		return reply, err
	}
	if frame[6] != c.unit {
		c.sock.Manner |= exchange.OddStation
		reply.Manner |= exchange.OddStation
	}
	if wire.Transaction(frame) == 0 && wire.Transaction(request) != 0 {
		c.sock.Manner |= exchange.NoTransaction
		reply.Manner |= exchange.NoTransaction
		if c.suspect && c.sock.Answers == 0 {
			reply.Doubt = "it may be the late answer to a question before: the device answers without transactions, " +
				"and one stayed unanswered"
		}
		c.suspect = false
	}
	if c.pieces > lumps {
		reply.Manner |= exchange.Pieces
	}
	if c.sock.Answers == 0 && c.now.Sub(c.sent[wire.Transaction(request)%recent]) > c.limit {
		reply.Manner |= exchange.SlowFirst
	}
	reply.Manner |= c.sock.Manner & (exchange.HangsUp | exchange.Dozes)
	reply.HungUpAt = c.sock.HungUpAt()
	c.sock.Answered(c.now)
	c.prompt.took(c.now.Sub(c.sent[wire.Transaction(request)%recent]))
	return reply, nil
}

// late reports whether a frame answers a request before the one under way, and
// how long the device took for it, 0 for not known.
func (c *conn) late(frame []byte) (float64, bool) {
	if wire.Transaction(frame) == 0 && c.sock.Manner&exchange.NoTransaction != 0 {
		return 0, false // it says nothing
	}
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

// first is how much more time the first question over a connection is given:
// some devices begin a task for it.
const first = 1500 * time.Millisecond

// send writes one or more requests, whose answers have the time limit from now
// on. It returns a reply where that fails, and why.
func (c *conn) send(requests []byte, pass field.Pass) (*field.Reply, error) {
	now, limit := time.Now(), c.limit
	if c.sock.Answers == 0 && c.owes == 0 && pass == nil {
		limit += first
	}
	sock := c.sock.Conn()
	err := c.deadlines(now, limit)
	if err != nil || c.ctx.Err() != nil {
		reply := c.lost(field.Reply{Outcome: exchange.Closed, Sentence: "the run was stopped"})
		return &reply, nil
	}
	left, refused := field.Let(pass)
	if refused != nil {
		refused.Request = c.request
		return refused, nil
	}
	n, err := sock.Write(requests)
	left()
	if err != nil {
		reply := field.Failure(err, false)
		if errors.Is(err, os.ErrDeadlineExceeded) {
			reply = field.Reply{Outcome: exchange.Closed, Sentence: "the far end takes no octets any more"}
		}
		reply = c.lost(reply)
		reply.Left = n > 0
		return &reply, err
	}
	c.sent[c.transaction%recent] = now
	return nil, nil
}

// deadlines gives reading so long from now on, and writing as long as octets may
// take to leave. What was set a moment ago is good enough: setting a timer for
// each of thousands of requests a second costs more than the rest of sending one.
func (c *conn) deadlines(now time.Time, limit time.Duration) (err error) {
	sock := c.sock.Conn()
	broken := c.calledOff.Swap(false)
	if left := c.readUntil.Sub(now); broken || left < limit || left > limit+limit/50 || sock != c.timed {
		c.readUntil = now.Add(limit + limit/50)
		err = sock.SetReadDeadline(c.readUntil)
	}
	if left := c.writeUntil.Sub(now); left < field.Sending/2 || sock != c.timed {
		c.writeUntil = now.Add(field.Sending)
		err = errors.Join(err, sock.SetWriteDeadline(c.writeUntil))
	}
	if sock != c.timed {
		c.timed, c.prompt = sock, promptly(sock)
	}
	return err
}

// frame returns the next whole frame, which is valid until the next call. A
// *wire.Broken error means that the stream has lost its beginning.
func (c *conn) frame() ([]byte, error) {
	copy(c.in[:], c.in[c.taken:c.have])
	c.have -= c.taken
	c.taken, c.pieces = 0, 0
	since := c.have
	for {
		size, err := wire.FrameLen(c.in[:c.have])
		if err != nil {
			return nil, err
		}
		if size > 0 && c.have >= size {
			c.came, c.now = c.now, c.heard
			c.taken = size
			return c.in[:size], nil
		}
		n := c.prompt.read(c.in[c.have:])
		if n == 0 {
			n, err = c.sock.Conn().Read(c.in[c.have:])
		}
		if n > 0 {
			now := time.Now()
			if c.have > since {
				c.pieces = max(c.pieces, now.Sub(c.heard))
			}
			c.heard = now
		}
		c.have += n
		if err != nil {
			return nil, err
		}
	}
}

// ReadMany keeps several requests under way; answers are known by their
// transaction (messaging guide, clause 4.2.2).
func (c *conn) ReadMany(reads [][]block.Range, came func(i int, reply field.Reply)) {
	oneByOne := func(which func(i int) bool) {
		for i, r := range reads {
			if which(i) {
				came(i, c.Read(r))
			}
		}
	}
	if c.sock.Manner&(exchange.NoTransaction|exchange.HangsUp) != 0 {
		oneByOne(func(int) bool { return true })
		return
	}
	if c.sock.Answers == 0 { // how it answers is not known yet
		came(0, c.Read(reads[0]))
		if reads = reads[1:]; len(reads) > 0 {
			c.ReadMany(reads, func(i int, reply field.Reply) { came(i+1, reply) })
		}
		return
	}
	if lost := c.ready(); lost != nil {
		for i := range reads {
			came(i, *lost)
		}
		return
	}
	first := c.transaction + 1
	c.batch, c.ends = c.batch[:0], append(c.ends[:0], 0)
	for _, r := range reads {
		c.transaction++
		c.pdu = wire.ReadPDU(c.pdu[:0], r[0].Area, uint16(r[0].Start), r[0].Count)
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
	defer func() { c.ends = c.ends[:0] }()
	if lost, _ := c.send(c.batch, nil); lost != nil {
		failed(func() field.Reply { return *lost })
		return
	}
	late := 0.0
	for open := len(reads); open > 0; {
		frame, err := c.frame()
		if err != nil {
			if c.have == 0 && c.sock.Again(err) {
				c.anew()
				oneByOne(func(i int) bool { return !owed[i] })
				return
			}
			failed(func() field.Reply { return c.silent(err, 0, 0, late) })
			return
		}
		i := int(wire.Transaction(frame) - first)
		if ms, is := c.late(frame); i >= len(reads) && is {
			late = max(late, ms)
			c.owes = max(0, c.owes-1)
			continue // it answers a request that was given up
		}
		if i >= len(reads) || owed[i] {
			err := fmt.Errorf("it answers transaction %d, which was not asked", wire.Transaction(frame))
			failed(func() field.Reply { return c.lost(c.garbled(err, frame)) })
			return
		}
		reply, err := c.judge(request(i), frame)
		if err != nil {
			failed(func() field.Reply { return c.lost(c.garbled(err, frame)) })
			return
		}
		if reply.OK() {
			reply.Data = c.spread(reads[i][0].Area, reads[i][0].Count, reply.Data)
		}
		owed[i] = true
		open--
		reply.LateMs, late = late, 0
		came(i, reply)
	}
}

// silent ends an exchange for which reading failed. What had arrived by then
// is shown, so that a frame cut short is told apart from silence.
func (c *conn) silent(err error, stale, wrong int, late float64) field.Reply {
	c.readUntil = time.Time{} // whoever broke it off may have set another
	var broken *wire.Broken
	if errors.As(err, &broken) {
		return c.lost(c.garbled(err, c.in[:c.have]))
	}
	if errors.Is(err, os.ErrDeadlineExceeded) && (c.calledOff.Load() || c.ctx.Err() != nil) {
		err = field.ErrCalledOff
	}
	reply := field.Failure(err, false)
	switch {
	case reply.Outcome == exchange.CalledOff:
	case c.have > 0:
		reply = c.garbled(fmt.Errorf("%d octets came and the rest of the frame did not", c.have), c.in[:c.have])
	case late > 0 && reply.Outcome == exchange.NoAnswer:
		reply.Cause = exchange.Late
	case stale > 0 && reply.Outcome == exchange.NoAnswer:
		reply.Cause = exchange.Late
	case wrong > 0 && reply.Outcome == exchange.NoAnswer:
		reply = c.garbled(fmt.Errorf("%d answers to earlier requests came, none to this one", wrong), nil)
	}
	reply.Request, reply.Left = c.request, true
	if reply.Outcome == exchange.NoAnswer {
		reply.Sentence = fmt.Sprintf("no answer came within %d ms", c.limit.Milliseconds())
		if reply.Cause == exchange.Late {
			reply.Sentence += "; " + earlier(stale, late)
		}
	}
	if reply.Outcome == exchange.NoAnswer || reply.Outcome == exchange.CalledOff && c.have == 0 {
		c.owes++
		return reply // the connection stands; a late answer is recognised by its transaction
	}
	return c.lost(reply)
}

// earlier says what came of earlier requests.
func earlier(stale int, late float64) string {
	if late > 0 {
		return fmt.Sprintf("one to an earlier request came after %.0f ms", late)
	}
	return fmt.Sprintf("%d to earlier requests came", stale)
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
