// Package relay stands between two ends and passes on what each says to the other, at
// once and unchanged, and records it.
package relay

import (
	"context"
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
)

// Setup says between which ends a relay stands.
type Setup struct {
	// Listen is where callers are waited for: an address and a port.
	Listen string `json:"listen"`
	// To is where they are passed on to, as a person calls it.
	To string `json:"to"`
	// One lets in one caller at a time; Idle ends what has been quiet for so many
	// seconds, 0 for never.
	One  bool `json:"one,omitempty"`
	Idle int  `json:"idle,omitempty"`
	// Allow are addresses and networks: a caller that any of them matches is let in. None
	// lets everybody in.
	Allow []string `json:"allow,omitempty"`
}

// Dial opens the far end. It is asked for each caller.
type Dial func(ctx context.Context) (Far, error)

// Far is the far end of one caller.
type Far interface {
	io.ReadWriteCloser
	// At is its address, as it stands in recordings.
	At() netip.AddrPort
}

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
	Kept int    `json:"kept"` // things that are remembered
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
	dial   Dial
	allow  []netip.Prefix
	listen net.Listener
	ctx    context.Context
	stop   context.CancelFunc
	ended  sync.WaitGroup

	sent, received atomic.Int64
	quick          atomic.Int64 // when something was last said

	mu      sync.Mutex
	open    map[int]func() // ends a caller
	callers int
	away    int
	failed  string
	said    []Said
	octets  int
	ends    map[int][2]netip.AddrPort // of callers
}

// Start begins to listen.
func Start(setup Setup, dial Dial) (*Relay, error) {
	r := &Relay{Setup: setup, dial: dial, open: map[int]func(){}, ends: map[int][2]netip.AddrPort{}}
	for _, text := range setup.Allow {
		p, err := parsePrefix(strings.TrimSpace(text))
		if err != nil {
			return nil, fmt.Errorf("who is let in: %w", err)
		}
		r.allow = append(r.allow, p)
	}
	if setup.Idle < 0 {
		return nil, errors.New("the time without a word cannot be less than none")
	}
	l, err := net.Listen("tcp", setup.Listen)
	if err != nil {
		return nil, err
	}
	r.listen = l
	r.Setup.Listen = l.Addr().String()
	r.ctx, r.stop = context.WithCancel(context.Background())
	r.ended.Go(r.accept)
	return r, nil
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

// Close ends the relay and all its callers.
func (r *Relay) Close() error {
	r.stop()
	err := r.listen.Close()
	r.mu.Lock()
	for _, end := range r.open {
		end()
	}
	r.mu.Unlock()
	r.ended.Wait()
	return err
}

func (r *Relay) accept() {
	for {
		c, err := r.listen.Accept()
		if err != nil {
			if r.ctx.Err() != nil {
				return
			}
			time.Sleep(50 * time.Millisecond) // too many files are open: it may pass
			continue
		}
		at := c.RemoteAddr().(*net.TCPAddr).AddrPort()
		at = netip.AddrPortFrom(at.Addr().Unmap(), at.Port())
		r.mu.Lock()
		full := len(r.open) >= mostCallers || r.One && len(r.open) > 0
		if full || !r.lets(at.Addr()) {
			r.away++
			r.mu.Unlock()
			_ = c.Close()
			continue
		}
		r.callers++
		n := r.callers
		r.open[n] = func() { _ = c.Close() }
		r.mu.Unlock()
		r.ended.Go(func() { r.carry(n, c, at) })
	}
}

// lets reports whether a caller is let in.
func (r *Relay) lets(a netip.Addr) bool {
	return len(r.allow) == 0 || slices.ContainsFunc(r.allow, func(p netip.Prefix) bool { return p.Contains(a) })
}

// carry passes on what one caller and the far end say to each other.
func (r *Relay) carry(n int, near net.Conn, from netip.AddrPort) {
	defer func() {
		_ = near.Close()
		r.mu.Lock()
		delete(r.open, n)
		r.mu.Unlock()
	}()
	far, err := r.dial(r.ctx)
	if err != nil {
		r.note(Said{Conn: n, At: time.Now(), What: Failed}, err.Error())
		return
	}
	r.mu.Lock()
	r.ends[n] = [2]netip.AddrPort{from, far.At()}
	r.open[n] = func() { _, _ = near.Close(), far.Close() }
	r.mu.Unlock()
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
}

// watch ends what has been quiet for too long.
func (r *Relay) watch(done chan struct{}, near net.Conn, far Far) {
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
	buf := make([]byte, 32<<10)
	for {
		got, err := from.Read(buf)
		if got > 0 {
			at := time.Now()
			_, failed := to.Write(buf[:got])
			r.quick.Store(at.UnixNano())
			count.Add(int64(got))
			r.note(Said{Conn: n, At: at, Side: side, Octets: slices.Clone(buf[:got])}, "")
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
		Received: r.received.Load(), Kept: len(r.said)}
	switch {
	case r.failed != "":
		s.Says = "The far end does not take the connection: " + r.failed + "."
	case s.Sent > 0 && s.Received == 0:
		s.Says = "Octets go out and none come back: look at the path behind the far end, and at its wires."
	case s.Sent == 0 && s.Received > 0:
		s.Says = "Octets come in and nobody asks: the far end speaks by itself, or the caller's own do not arrive here."
	}
	return s
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
