// Package pipe is serial ports inside this program: the near end is opened by its
// name as any other port is, the far end is played by the bench. It stands in
// where the system has no pseudo-terminals.
package pipe

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"ferry/internal/core/serial"
)

// Prefix begins the name of every such port.
const Prefix = "bench:"

var (
	mu    sync.Mutex
	ports = map[string]*Pipe{}
	last  int
)

// Pipe is one such port, and its far end.
type Pipe struct {
	Name string

	mu       sync.Mutex
	format   serial.Format
	open     bool
	closed   bool
	out, in  []byte        // from the near end, and to it
	outCame  chan struct{} // told of octets from the near end
	inCame   chan struct{} // told of octets to it
	readWait time.Duration
}

// most bounds the octets that wait in one direction.
const most = 1 << 16

// New makes a port that can then be opened.
func New() *Pipe {
	mu.Lock()
	defer mu.Unlock()
	last++
	p := &Pipe{Name: fmt.Sprint(Prefix, last), format: serial.Usual, outCame: make(chan struct{}, 1),
		inCame: make(chan struct{}, 1)}
	ports[p.Name] = p
	return p
}

// Is reports whether a name is that of such a port.
func Is(name string) bool { return strings.HasPrefix(name, Prefix) }

// Near is the near end of an open port.
type Near struct{ p *Pipe }

// Open opens a port in a format.
func Open(name string, f serial.Format) (*Near, error) {
	mu.Lock()
	p := ports[name]
	mu.Unlock()
	if p == nil {
		return nil, errors.New("there is no such simulated port")
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.format, p.open, p.out, p.in = f, true, nil, nil
	return &Near{p}, nil
}

func told(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// SetReadTimeout bounds how long Read waits.
func (n *Near) SetReadTimeout(d time.Duration) error {
	n.p.readWait = d // Read and this are called by its one owner
	return nil
}

// Read waits for octets; 0 and no error mean that none came in time.
func (n *Near) Read(b []byte) (int, error) { return take(n.p, &n.p.in, n.p.inCame, b, n.p.readWait) }

// Write sends octets to the far end.
func (n *Near) Write(b []byte) (int, error) {
	n.p.mu.Lock()
	if n.p.closed || !n.p.open {
		n.p.mu.Unlock()
		return 0, errors.New("the simulated port is closed")
	}
	n.p.out = append(n.p.out, b...)
	n.p.out = n.p.out[max(0, len(n.p.out)-most):]
	n.p.mu.Unlock()
	told(n.p.outCame)
	return len(b), nil
}

// Close closes the near end; it can be opened again.
func (n *Near) Close() error {
	n.p.mu.Lock()
	defer n.p.mu.Unlock()
	n.p.open = false
	return nil
}

func take(p *Pipe, from *[]byte, came chan struct{}, b []byte, wait time.Duration) (int, error) {
	timer := time.NewTimer(max(0, wait))
	defer timer.Stop()
	for {
		p.mu.Lock()
		n := copy(b, *from)
		*from = (*from)[n:]
		closed := p.closed
		p.mu.Unlock()
		if n > 0 {
			return n, nil
		}
		if closed {
			return 0, errors.New("the simulated port is gone")
		}
		select {
		case <-came:
		case <-timer.C:
			return 0, nil
		}
	}
}

// Take waits for octets that the near end sent. open is false where nobody has
// it open.
func (p *Pipe) Take(b []byte, wait time.Duration) (n int, open bool) {
	p.mu.Lock()
	open = p.open
	p.mu.Unlock()
	if !open {
		return 0, false
	}
	n, _ = take(p, &p.out, p.outCame, b, wait)
	return n, true
}

// Give hands octets to the near end.
func (p *Pipe) Give(b []byte) {
	p.mu.Lock()
	if p.open {
		p.in = append(p.in, b...)
		p.in = p.in[max(0, len(p.in)-most):]
	}
	p.mu.Unlock()
	told(p.inCame)
}

// Format is what the near end was opened with.
func (p *Pipe) Format() serial.Format {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.format
}

// Close takes the port away.
func (p *Pipe) Close() error {
	mu.Lock()
	delete(ports, p.Name)
	mu.Unlock()
	p.mu.Lock()
	p.closed = true
	p.mu.Unlock()
	told(p.inCame)
	told(p.outCame)
	return nil
}
