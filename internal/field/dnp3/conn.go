// Package dnp3 asks outstations of DNP3: it polls their classes, confirms their events, sets their
// clocks and operates their outputs.
package dnp3

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/dnp3"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/field"
	"ferry/internal/field/ports"
	wire "ferry/internal/wire/dnp3"
)

func init() {
	field.Register(family.TCP.Name, driver{family.TCP})
	field.Register(family.Serial.Name, driver{family.Serial})
}

type driver struct{ def *protocol.Def }

func (d driver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	stream, reply := d.open(ctx, &t)
	if stream == nil {
		return nil, reply
	}
	c := &conn{def: d.def, trial: t.Trial, stream: stream, outbox: field.NewOutbox(mostQueued),
		turn: make(chan struct{}, 1), breaks: make(chan struct{}, 1), wakes: make(chan struct{}, 1),
		stations: map[uint16]*station{}}
	c.life, c.cancel = context.WithCancel(ctx)
	c.Toward(t.Settings)
	c.stop = context.AfterFunc(ctx, func() {
		c.finish(field.Reply{Outcome: exchange.Closed, Sentence: "the connection was ended here"})
	})
	go c.read()
	go c.outbox.Run(c.life)
	go c.pace()
	return c, field.Reply{Outcome: exchange.Answered}
}

// open opens what octets go over.
func (d driver) open(ctx context.Context, t *field.Target) (field.Stream, field.Reply) {
	if d.def == family.TCP {
		limit := time.Duration(d.def.Int(t.Settings, protocol.KeyWithin)) * time.Millisecond
		dialer := net.Dialer{Timeout: max(limit, 1500*time.Millisecond), Control: t.Control}
		over, err := dialer.DialContext(ctx, "tcp", t.Dial)
		if err != nil {
			return nil, field.Failure(err, true)
		}
		return field.TCPStream{Now: func() net.Conn { return over }, Shut: over.Close}, field.Reply{}
	}
	format := t.Format
	if format.Baud == 0 {
		format = serial.Usual
	}
	port, err := ports.Open(ctx, t.Dial, format)
	var refused *ports.Refused
	switch {
	case errors.As(err, &refused):
		return nil, field.Reply{Outcome: refused.Outcome, Sentence: refused.Sentence}
	case err != nil:
		return nil, field.Reply{Outcome: exchange.PortAbsent, Sentence: err.Error()}
	}
	return port, field.Reply{}
}

// conn is a connection to an outstation, or to all that share a line or an address. Three loops
// belong to it: one takes in what comes, one asks what is due, and one hands reports over.
type conn struct {
	def    *protocol.Def
	trial  bool // nothing is confirmed, enabled, cleared or set
	stream field.Stream
	life   context.Context
	cancel context.CancelFunc
	stop   func() bool
	over   atomic.Bool
	// turn is held by who asks: one question is under way at a time.
	turn   chan struct{}
	breaks chan struct{}
	wakes  chan struct{} // tells who asks what is due that something else may be

	writing sync.Mutex // of the stream

	mu       sync.Mutex
	stations map[uint16]*station
	now      *station // to whom it is turned
	said     field.Reply
	// strange is what came last from a station that was not asked, or that is not for this one.
	strange string
	// spoiled counts frames that failed their checks since somebody asked.
	spoiled int
	rest    []byte // of them
	last    []byte // the octets that were taken in last

	outbox *field.Outbox
}

// mostQueued bounds the reports that wait: behind them nothing is confirmed any more.
const mostQueued = 4096

// Toward turns the connection to an outstation.
func (c *conn) Toward(settings protocol.Settings) {
	c.mu.Lock()
	defer c.mu.Unlock()
	to := uint16(c.def.Int(settings, family.KeyOutstation))
	s := c.stations[to]
	if s == nil {
		s = newStation(c, to)
		c.stations[to] = s
	}
	s.set(settings)
	c.now = s
}

// toward is the outstation to which it is turned.
func (c *conn) toward() *station {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now
}

// Break ends the question under way.
func (c *conn) Break() {
	select {
	case c.breaks <- struct{}{}:
	default:
	}
}

func (c *conn) Usable() bool { return !c.over.Load() }

// Close ends the connection; what waits to be handed over is given up.
func (c *conn) Close() error {
	c.stop()
	c.finish(field.Reply{Outcome: exchange.Closed, Sentence: "the connection was ended here"})
	c.cancel()
	return nil
}

// finish ends the connection, once, and says how it ended. What has come is handed over still.
func (c *conn) finish(reply field.Reply) {
	c.mu.Lock()
	if c.over.Load() {
		c.mu.Unlock()
		return
	}
	c.said = reply
	c.over.Store(true)
	c.mu.Unlock()
	_ = c.stream.Close() // it has ended, or is being given up
	c.outbox.Shut()
	c.wake(c.wakes)
	c.Break()
}

func (c *conn) wake(who chan struct{}) {
	select {
	case who <- struct{}{}:
	default:
	}
}

// Reports and Ended are as in field.Reporter.
func (c *conn) Reports() <-chan field.Report { return c.outbox.Reports() }

// Ended is as Reports.
func (c *conn) Ended() field.Reply {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.said
}

// hand has a report handed over; false is that too many wait.
func (c *conn) hand(report field.Report) bool { return c.outbox.Put(report) }

// Last are the octets that came last, for the record of a defect.
func (c *conn) Last() (request, answer []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return nil, append([]byte{}, c.last...)
}

// slice is how long is waited for octets at a time.
const slice = 200 * time.Millisecond

// mostHeld bounds the octets in which no frame is found.
const mostHeld = 8 * wire.MostData

// read takes in frames until the connection ends.
func (c *conn) read() {
	var held []byte
	buf := make([]byte, 4096)
	for c.life.Err() == nil && !c.over.Load() {
		n, err := c.stream.Read(buf, time.Now().Add(slice))
		if err != nil {
			reply := field.Failure(err, false)
			if errors.Is(err, io.EOF) {
				reply.Sentence = "the outstation ended the connection"
			}
			c.finish(reply)
			return
		}
		if n == 0 {
			continue
		}
		at := time.Now()
		c.mu.Lock()
		c.last = append(c.last[:0], buf[:n]...)
		c.mu.Unlock()
		held = append(held, buf[:n]...)
		for {
			frame, octets, rest := wire.Find(held)
			if octets == nil {
				if held = rest; len(held) > mostHeld {
					held = held[len(held)-mostHeld:]
				}
				break
			}
			held = rest
			c.take(frame, octets, at)
		}
	}
}

// take takes in a frame, nil for one whose checks are wrong.
func (c *conn) take(f *wire.Frame, octets []byte, at time.Time) {
	c.mu.Lock()
	if f == nil {
		c.spoiled++
		if c.rest = append(c.rest, octets...); len(c.rest) > mostHeld {
			c.rest = c.rest[:mostHeld]
		}
		c.mu.Unlock()
		return
	}
	s := c.stations[f.From]
	switch {
	case f.Control&wire.FromMaster != 0: // of this end, come back, or of another master
		c.strange = fmt.Sprintf("a master with the address %d asks there, too", f.From)
		if c.stations[f.To] != nil && int(f.From) == c.stations[f.To].master() {
			c.strange = "what was sent came back"
		}
		s = nil
	case s == nil:
		c.strange = fmt.Sprintf("outstation %d answers, which was not asked", f.From)
	case int(f.To) != s.master():
		c.strange = fmt.Sprintf("outstation %d speaks to a master with the address %d, and this one has %d", f.From, f.To,
			s.master())
		s = nil
	}
	c.mu.Unlock()
	if s != nil {
		s.take(f, octets, at)
	}
}

// send sends frames, one behind the other.
func (c *conn) send(octets []byte) error {
	c.writing.Lock()
	defer c.writing.Unlock()
	if c.over.Load() {
		return net.ErrClosed
	}
	err := c.stream.Write(octets, time.Now().Add(sending(c.def)))
	if err != nil {
		c.finish(field.Failure(err, false))
	}
	return err
}

// sending bounds how long octets may take to leave: a serial line takes its time.
func sending(def *protocol.Def) time.Duration {
	if def == family.Serial {
		return 5 * time.Second
	}
	return 2 * time.Second
}
