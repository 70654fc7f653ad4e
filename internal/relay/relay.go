// Package relay stands between two ends and passes on what each says to the other, at
// once and unchanged, and records it.
package relay

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/serial"
	"ferry/internal/field/ports"
)

// Setup says between which ends a relay stands.
type Setup struct {
	// Near is where who asks is, Far where who answers is.
	Near End `json:"near"`
	Far  End `json:"far"`
	// To is the far end as a person calls it.
	To string `json:"to"`
	// One lets in one caller at a time; Idle ends what has been quiet for so many
	// seconds, 0 for never.
	One  bool `json:"one,omitempty"`
	Idle int  `json:"idle,omitempty"`
	// Allow are addresses and networks: a caller that any of them matches is let in. None
	// lets everybody in.
	Allow []string `json:"allow,omitempty"`
	// Escape are octets, in hexadecimal, at which a caller is ended. They go no further.
	Escape string `json:"escape,omitempty"`
	// Watch has it hear what is said at a serial port, its near end, and say nothing: it
	// has no far end.
	Watch bool `json:"watch,omitempty"`
	// Fault is one that the relay plays, on the bench.
	Fault Fault `json:"fault,omitzero"`
}

// Dial opens the far end. It is asked for each caller.
type Dial func(ctx context.Context) (Far, error)

// Far is the far end of one caller.
type Far = stream

// Said is one thing that happened on a relay.
type Said struct {
	Conn   int // number of the caller, from 1
	At     time.Time
	What   What
	Side   capture.Side
	Octets []byte
}

// What happened.
type What uint8

// The things that happen.
const (
	Spoke  What = iota // a side said something
	Opened             // a caller was passed on
	Shut               // a side closed
	Failed             // the far end did not take the connection
)

// RelayState is how it stands with a relay.
type RelayState struct {
	Setup
	ID      string `json:"id"`
	Open    int    `json:"open"`    // callers now
	Callers int    `json:"callers"` // so far
	Away    int    `json:"away"`    // turned away
	// Sent and Received are octets to the far end and back.
	Sent     int64 `json:"sent"`
	Received int64 `json:"received"`
	// Says is what the counts and the last failure mean, in words; empty for nothing.
	Says string `json:"says,omitempty"`
	// Notes are what is worth knowing of its setup.
	Notes []string `json:"notes"`
	// Shows is the fingerprint of the certificate that callers over TLS are shown.
	Shows string `json:"shows,omitempty"`
	Kept  int    `json:"kept"` // things that are remembered
}

// Bounds of what a relay remembers, and of its callers.
const (
	mostOctets  = 64 << 20
	mostSaid    = 1 << 20
	mostCallers = 64
)

// Relay is a relay at work.
type Relay struct {
	Setup
	ground Ground
	allow  []netip.Prefix
	escape []byte
	spoil  *spoiler
	close  []io.Closer // what it waits at
	wires  [2]*wire    // near and far, where they are serial ports
	called chan stream // far ends that have called, where it is they who do
	shows  string
	ctx    context.Context
	stop   context.CancelFunc
	ended  sync.WaitGroup

	greeting       atomic.Int32 // callers that are not let in yet
	sent, received atomic.Int64
	quick          atomic.Int64 // when something was last said

	mu      sync.Mutex
	open    map[int]func() // ends a caller
	callers int
	away    int
	failed  string
	told    string // by the far end, of itself
	said    []Said
	octets  int
	ends    map[int][2]netip.AddrPort // of callers
}

// Start begins a relay.
func Start(setup Setup, ground Ground) (*Relay, error) {
	r := &Relay{Setup: setup, ground: ground, open: map[int]func(){}, ends: map[int][2]netip.AddrPort{},
		spoil: newSpoiler(setup.Fault)}
	if err := r.check(); err != nil {
		return nil, err
	}
	r.ctx, r.stop = context.WithCancel(context.Background())
	if err := r.begin(); err != nil {
		return nil, errors.Join(err, r.Close())
	}
	return r, nil
}

// check takes the setup in.
func (r *Relay) check() (err error) {
	if err := r.Near.check(); err != nil {
		return fmt.Errorf("the asking end: %w", err)
	}
	if r.Watch && r.Near.How != SerialAt {
		return errors.New("what is only heard comes over a serial port")
	}
	if r.ground.Far == nil && !r.Watch {
		if err := r.Far.check(); err != nil {
			return fmt.Errorf("the answering end: %w", err)
		}
	}
	if (r.Near.How == Datagrams) != (r.Far.How == Datagrams) {
		return errors.New("datagrams are passed on as datagrams alone: have both ends be such")
	}
	for _, text := range r.Allow {
		p, err := parsePrefix(strings.TrimSpace(text))
		if err != nil {
			return fmt.Errorf("who is let in: %w", err)
		}
		r.allow = append(r.allow, p)
	}
	if r.Idle < 0 || r.Idle > 7*24*3600 {
		return errors.New("the time without a word is to be from 0, for never, to 7 days")
	}
	if r.escape, err = hex.DecodeString(strings.ReplaceAll(r.Escape, " ", "")); err != nil || len(r.escape) > 16 {
		return errors.New("what ends a caller is up to 16 octets in hexadecimal, such as 2B 2B 2B")
	}
	return r.Fault.check()
}

func parsePrefix(text string) (netip.Prefix, error) {
	if a, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(a, a.BitLen()), nil
	}
	p, err := netip.ParsePrefix(text)
	if err != nil {
		return p, fmt.Errorf("%q is neither an address nor a network as 10.20.0.0/24", text)
	}
	return p, nil
}

// begin waits at both ends for what comes.
func (r *Relay) begin() error {
	for i, e := range []*End{&r.Setup.Near, &r.Setup.Far} {
		if e.How == SerialAt && (i == 0 || r.ground.Far == nil && !r.Watch) {
			r.wires[i] = newWire(r.ctx, e.At, *e.Format, ports.Open, func(err error) { r.fail(err.Error()) })
		}
		if (e.Speaks == TLS || e.Speaks == WithUser) && e.How == Listen {
			if r.ground.Certificate == nil {
				return errors.New("there is no certificate to show")
			}
			pair, err := r.ground.Certificate()
			if err != nil {
				return fmt.Errorf("there is no certificate to show: %w", err)
			}
			r.shows = fingerprint(pair.Certificate[0])
		}
	}
	if r.ground.Far == nil && !r.Watch && r.Setup.Far.How == Listen {
		l, err := r.listen(&r.Setup.Far)
		if err != nil {
			return err
		}
		r.called = make(chan stream)
		r.ended.Go(func() { r.accept(l, &r.Setup.Far, r.takeFar) })
	}
	switch r.Near.How {
	case Listen:
		l, err := r.listen(&r.Setup.Near)
		if err != nil {
			return err
		}
		r.ended.Go(func() { r.accept(l, &r.Setup.Near, r.takeNear) })
	case Datagrams:
		at, err := net.ResolveUDPAddr("udp", r.Near.At)
		if err != nil {
			return err
		}
		socket, err := net.ListenUDP("udp", at)
		if err != nil {
			return err
		}
		r.close = append(r.close, socket)
		r.Setup.Near.At = socket.LocalAddr().String()
		d := &datagrams{socket: socket, from: map[netip.AddrPort]*gram{}}
		r.ended.Go(func() { d.take(func(g *gram) bool { return r.takeNear(g) }) })
	case Call, SerialAt:
		r.ended.Go(r.keepNear)
	}
	return nil
}

func (r *Relay) listen(e *End) (net.Listener, error) {
	l, err := net.Listen("tcp", e.At)
	if err != nil {
		return nil, err
	}
	r.close = append(r.close, l)
	e.At = l.Addr().String()
	return l, nil
}

// Close ends the relay and all its callers.
func (r *Relay) Close() (err error) {
	r.stop()
	for _, c := range r.close {
		err = errors.Join(err, c.Close())
	}
	r.mu.Lock()
	for _, end := range r.open {
		end()
	}
	r.mu.Unlock()
	r.ended.Wait()
	return err
}

// Context ends with the relay.
func (r *Relay) Context() context.Context { return r.ctx }

// accept takes calls of an end, until the relay ends.
func (r *Relay) accept(l net.Listener, end *End, take func(stream) bool) {
	for {
		c, err := l.Accept()
		if err != nil {
			if r.ctx.Err() != nil {
				return
			}
			time.Sleep(50 * time.Millisecond) // too many files are open: it may pass
			continue
		}
		if !r.lets(addressOf(c.RemoteAddr()).Addr()) || r.full() && end == &r.Setup.Near ||
			r.greeting.Load() >= mostCallers {
			r.turnAway("")
			_ = c.Close()
			continue
		}
		r.greeting.Add(1)
		r.ended.Go(func() {
			stop := context.AfterFunc(r.ctx, func() { _ = c.Close() })
			defer stop()
			s, err := end.answer(c, &r.ground, r.setFar)
			r.greeting.Add(-1)
			if err != nil {
				r.turnAway(err.Error())
				_ = c.Close()
				return
			}
			if !take(s) {
				_ = s.Close()
			}
		})
	}
}

// setFar has the serial port at the other end take a format that a caller wishes.
func (r *Relay) setFar(f serial.Format) serial.Format {
	if r.wires[1] == nil {
		return f // there is no port to be set: it is as it was wished
	}
	return r.wires[1].set(f)
}

func (r *Relay) full() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.open) >= mostCallers || r.One && len(r.open) > 0
}

func (r *Relay) turnAway(why string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.away++; why != "" {
		r.failed = "A caller was turned away: " + why + "."
	}
}

// lets reports whether a caller is let in.
func (r *Relay) lets(a netip.Addr) bool {
	return len(r.allow) == 0 || slices.ContainsFunc(r.allow, func(p netip.Prefix) bool { return p.Contains(a) })
}

// takeNear passes a caller on, if there is room for it.
func (r *Relay) takeNear(near stream) bool {
	if !r.lets(near.At().Addr()) && r.Near.How == Datagrams {
		r.turnAway("")
		return false
	}
	r.mu.Lock()
	if r.ctx.Err() != nil || len(r.open) >= mostCallers || r.One && len(r.open) > 0 {
		r.away++
		r.mu.Unlock()
		return false
	}
	r.callers++
	n := r.callers
	r.open[n] = func() { _ = near.Close() }
	r.mu.Unlock()
	r.ended.Go(func() { r.carry(n, near) })
	return true
}

// takeFar gives a far end that has called to a caller that waits for one.
func (r *Relay) takeFar(far stream) bool {
	select {
	case r.called <- far:
		return true
	case <-r.ctx.Done():
		return false
	}
}

// again is how long it is until an end is called again that was not there.
const again = 2 * time.Second

// keepNear calls the asking end, or opens its serial port, and does so anew whenever it
// has ended.
func (r *Relay) keepNear() {
	for r.ctx.Err() == nil {
		var near stream
		var err error
		if r.Near.How == SerialAt {
			near, err = r.wires[0].join(nearPort)
		} else {
			near, _, err = r.Near.call(r.ctx, &r.ground)
		}
		if err != nil {
			r.fail("The asking end is not reached: " + err.Error() + ".")
		} else {
			r.mu.Lock()
			r.callers++
			n := r.callers
			r.open[n] = func() { _ = near.Close() }
			r.mu.Unlock()
			r.carry(n, near)
		}
		select {
		case <-r.ctx.Done():
		case <-time.After(again):
		}
	}
}

func (r *Relay) fail(why string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.failed = why
}

// reach opens the far end for a caller.
func (r *Relay) reach() (stream, error) {
	if r.ground.Far != nil {
		return r.ground.Far(r.ctx)
	}
	switch e := &r.Setup.Far; e.How {
	case SerialAt:
		return r.wires[1].join(farPort)
	case Datagrams:
		c, err := net.Dial("udp", e.At)
		if err != nil {
			return nil, err
		}
		return udp{c.(*net.UDPConn), addressOf(c.RemoteAddr())}, nil
	case Listen:
		wait := time.NewTimer(farWithin)
		defer wait.Stop()
		select {
		case far := <-r.called:
			return far, nil
		case <-wait.C:
			return nil, errors.New("it has not called")
		case <-r.ctx.Done():
			return nil, r.ctx.Err()
		}
	default:
		far, note, err := e.call(r.ctx, &r.ground)
		r.mu.Lock()
		r.told = note
		r.mu.Unlock()
		return far, err
	}
}

// farWithin is how long a caller waits for a far end that is to call.
const farWithin = 30 * time.Second

// carry passes on what one caller and the far end say to each other.
func (r *Relay) carry(n int, near stream) {
	defer func() {
		_ = near.Close()
		r.mu.Lock()
		delete(r.open, n)
		r.mu.Unlock()
	}()
	if r.Watch {
		r.hear(n, near)
		return
	}
	far, err := r.reach()
	if err != nil {
		r.note(Said{Conn: n, At: time.Now(), What: Failed}, "The far end does not take the connection: "+err.Error()+".")
		return
	}
	r.mu.Lock()
	r.ends[n] = [2]netip.AddrPort{near.At(), far.At()}
	r.open[n] = func() { _, _ = near.Close(), far.Close() }
	over := r.ctx.Err() != nil
	r.mu.Unlock()
	if over {
		_ = far.Close()
		return
	}
	r.note(Said{Conn: n, At: time.Now(), What: Opened}, "")
	r.quick.Store(time.Now().UnixNano())
	var both sync.WaitGroup
	both.Go(func() { r.pass(n, capture.Asker, near, far, &r.sent) })
	both.Go(func() { r.pass(n, capture.Answerer, far, near, &r.received) })
	done := make(chan struct{})
	if r.Idle > 0 {
		r.ended.Go(func() { r.watch(done, near, far) })
	}
	both.Wait()
	close(done)
	_ = far.Close() // it is closed already, unless both ended in order
}

// hear notes what is said at a serial port until it is closed, and says nothing.
func (r *Relay) hear(n int, near stream) {
	r.mu.Lock()
	r.ends[n], r.failed = [2]netip.AddrPort{nearPort, farPort}, ""
	r.mu.Unlock()
	for buf := make([]byte, 4096); ; {
		got, err := near.Read(buf)
		if got > 0 {
			r.received.Add(int64(got))
			r.note(Said{Conn: n, At: time.Now(), Octets: slices.Clone(buf[:got])}, "")
		}
		if err != nil {
			return
		}
	}
}

// watch ends what has been quiet for too long.
func (r *Relay) watch(done chan struct{}, near, far stream) {
	limit := time.Duration(r.Idle) * time.Second
	tick := time.NewTicker(limit / 4)
	defer tick.Stop()
	for {
		select {
		case <-done:
			return
		case now := <-tick.C:
			if now.Sub(time.Unix(0, r.quick.Load())) >= limit {
				_, _ = near.Close(), far.Close()
				return
			}
		}
	}
}

// pass hands on what one side says, until it ends; then the other is ended too.
func (r *Relay) pass(n int, side capture.Side, from io.Reader, to io.WriteCloser, count *atomic.Int64) {
	buf := make([]byte, 64<<10)
	var tail []byte // of what a caller said, as far as an escape may begin in it
	for {
		got, err := from.Read(buf)
		if got > 0 {
			at := time.Now()
			said := buf[:got]
			if side == capture.Asker && len(r.escape) > 0 {
				if tail, said = r.escaped(tail, said); said == nil {
					err = io.ErrClosedPipe
				}
			}
			failed := r.spoil.write(r.ctx, side, to, said, at, func(at time.Time, gone []byte) {
				count.Add(int64(len(gone)))
				r.note(Said{Conn: n, At: at, Side: side, Octets: slices.Clone(gone)}, "")
			})
			r.quick.Store(at.UnixNano())
			err = errors.Join(err, failed)
		}
		if err != nil {
			r.note(Said{Conn: n, At: time.Now(), What: Shut, Side: side}, "")
			if half, ok := to.(interface{ CloseWrite() error }); ok && errors.Is(err, io.EOF) {
				_ = half.CloseWrite() // the other side may still have something to say
				return
			}
			_ = to.Close()
			return
		}
	}
}

// escaped looks for the octets that end a caller. What may be their beginning has gone
// on already; said is nil once they are there in full.
func (r *Relay) escaped(tail, said []byte) (next, goes []byte) {
	all := append(tail, said...)
	if bytes.Contains(all, r.escape) {
		return nil, nil
	}
	return slices.Clone(all[max(0, len(all)-len(r.escape)+1):]), said
}

// note remembers what happened, and forgets the oldest where it becomes too much.
func (r *Relay) note(s Said, failed string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if failed != "" {
		r.failed = failed
	} else if s.What == Opened {
		r.failed = ""
	}
	r.said = append(r.said, s)
	r.octets += len(s.Octets)
	for drop := 0; len(r.said) > mostSaid || r.octets > mostOctets; drop++ {
		r.octets -= len(r.said[0].Octets)
		r.said = r.said[1:]
	}
}

// State is how it stands.
func (r *Relay) State() RelayState {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := RelayState{Setup: r.Setup, Open: len(r.open), Callers: r.callers, Away: r.away, Sent: r.sent.Load(),
		Received: r.received.Load(), Kept: len(r.said), Notes: r.Setup.notes(), Shows: r.shows}
	switch {
	case r.failed != "":
		s.Says = r.failed
	case r.Watch && s.Received == 0:
		s.Says = "Nothing is heard yet: nobody speaks on the line, or this port does not hear it."
	case r.Watch:
	case r.told != "":
		s.Says = r.told
	case s.Sent > 0 && s.Received == 0:
		s.Says = "Octets go out and none come back: look at the path behind the far end, and at its wires."
	case s.Sent == 0 && s.Received > 0:
		s.Says = "Octets come in and nobody asks: the far end speaks by itself, or the caller's own do not arrive here."
	}
	return s
}

// notes are what is worth knowing of a setup.
func (s *Setup) notes() []string {
	notes := []string{}
	if s.Escape != "" {
		notes = append(notes,
			"A caller whose data holds the escape is ended, and the escape is eaten: with a protocol whose "+
				"octets can be anything, such as one of frames, leave it empty.")
	}
	if s.Idle > 0 {
		notes = append(notes, fmt.Sprintf("What asks less often than every %d s is hung up on between two requests.", s.Idle))
	}
	for i, e := range []End{s.Near, s.Far} {
		if e.How != SerialAt || e.Gender == "" {
			continue
		}
		notes = append(notes,
			fmt.Sprintf("The serial port of this machine is a DTE: the cable to the %s end, which is a %s, is %s.",
				[]string{"asking", "answering"}[i], strings.ToUpper(e.Gender), serial.Cable("dte", e.Gender)))
	}
	if !s.One && !s.Watch && s.Far.How == SerialAt {
		notes = append(notes,
			"Callers share the serial port: each hears what is answered to the others, and two that ask at once "+
				"spoil each other's answers. Let in one at a time, unless they take turns.")
	}
	return notes
}

// Said is what happened so far, as far as it is remembered, and the ends of each caller.
func (r *Relay) Said() ([]Said, map[int][2]netip.AddrPort) {
	r.mu.Lock()
	defer r.mu.Unlock()
	ends := make(map[int][2]netip.AddrPort, len(r.ends))
	for n, e := range r.ends {
		ends[n] = e
	}
	// What was passed on is noted afterwards: an answer may have come by then.
	said := slices.Clone(r.said)
	slices.SortStableFunc(said, func(a, b Said) int { return a.At.Compare(b.At) })
	return said, ends
}
