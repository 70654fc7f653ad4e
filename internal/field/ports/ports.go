// Package ports opens the serial ports of this machine, and says who has them.
package ports

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"runtime"
	"slices"
	"sync"
	"syscall"
	"time"

	bug "go.bug.st/serial"

	"ferry/internal/core/exchange"
	"ferry/internal/core/serial"
	"ferry/internal/pipe"
)

// Port is an open serial port. It is closed only when nobody reads or writes any more: what the system knows a port by
// is soon known for another file, and whoever still wrote would write there.
type Port struct {
	port device
	free func()

	mu     sync.Mutex
	users  int // who read or write just now
	closed bool
	gone   chan struct{} // closed once the port is
	failed error         // why it could not be closed
}

func newPort(d device, free func()) *Port {
	return &Port{port: d, free: free, gone: make(chan struct{})}
}

// device is a port of the system, or a simulated one inside this program.
type device interface {
	SetReadTimeout(d time.Duration) error
	Read(b []byte) (int, error)
	Write(b []byte) (int, error)
	Close() error
}

// patience is how long Open waits for a port that this program has open itself.
const patience = 20 * time.Second

var (
	mu   sync.Mutex
	held = map[string]chan struct{}{} // by path, full while it is open here
)

// take waits until nobody in this program has the port.
func take(ctx context.Context, path string) (free func(), ok bool) {
	mu.Lock()
	turn := held[path]
	if turn == nil {
		turn = make(chan struct{}, 1)
		held[path] = turn
	}
	mu.Unlock()
	timer := time.NewTimer(patience)
	defer timer.Stop()
	select {
	case turn <- struct{}{}:
		return sync.OnceFunc(func() { <-turn }), true
	case <-ctx.Done():
	case <-timer.C:
	}
	return nil, false
}

// Refused says why a port could not be opened.
type Refused struct {
	Outcome  exchange.Outcome // PortAbsent, PortOwned or PortDenied
	Sentence string
}

func (r *Refused) Error() string { return r.Sentence }

// Open opens a port in a format, for its caller alone: another in this program
// who wants it waits for a while.
func Open(ctx context.Context, path string, f serial.Format) (*Port, error) {
	if pipe.Is(path) {
		free, ok := take(ctx, path)
		if !ok {
			return nil, &Refused{exchange.PortOwned,
				"Ferry itself has " + path + " open: a run, a try or a sweep is under way"}
		}
		near, err := pipe.Open(path, f)
		if err != nil {
			free()
			return nil, &Refused{exchange.PortAbsent, err.Error()}
		}
		return newPort(near, free), nil
	}
	if info, err := os.Stat(path); runtime.GOOS != "windows" && errors.Is(err, fs.ErrNotExist) {
		return nil, &Refused{exchange.PortAbsent, "this machine has no port " + path}
	} else if runtime.GOOS != "windows" && err == nil && info.Mode()&fs.ModeCharDevice == 0 {
		return nil, &Refused{exchange.PortAbsent, path + " is no serial port"}
	}
	if by := Owner(path); by != "" {
		return nil, &Refused{exchange.PortOwned, by + " has " + path + " open"}
	}
	free, ok := take(ctx, path)
	if !ok {
		return nil, &Refused{exchange.PortOwned,
			"Ferry itself has " + path + " open: a run, a try or a sweep is under way"}
	}
	p, err := open(path, f)
	if err != nil {
		free()
		return nil, err
	}
	return newPort(p, free), nil
}

func open(path string, f serial.Format) (bug.Port, error) {
	mode := &bug.Mode{BaudRate: f.Baud, DataBits: f.Data,
		Parity: map[serial.Parity]bug.Parity{serial.None: bug.NoParity, serial.Even: bug.EvenParity,
			serial.Odd: bug.OddParity}[f.Parity], StopBits: bug.OneStopBit}
	if f.Stop == 2 {
		mode.StopBits = bug.TwoStopBits
	}
	p, err := bug.Open(path, mode)
	var known *bug.PortError
	switch {
	case err == nil:
		return p, nil
	case errors.Is(err, syscall.EACCES), errors.Is(err, syscall.EPERM),
		errors.As(err, &known) && known.Code() == bug.PermissionDenied:
		return nil, &Refused{exchange.PortDenied,
			"this user may not open " + path + ": on most systems the group dialout may"}
	case errors.Is(err, syscall.EBUSY), errors.As(err, &known) && known.Code() == bug.PortBusy:
		return nil, &Refused{exchange.PortOwned, "another program has " + path + " open"}
	}
	return nil, &Refused{exchange.PortAbsent, fmt.Sprintf("%s could not be opened: %s", path, err)}
}

// Read waits for octets until a moment; 0 and no error mean that none came.
func (p *Port) Read(b []byte, until time.Time) (int, error) {
	if !p.enter() {
		return 0, ErrClosed
	}
	defer p.leave()
	if err := p.port.SetReadTimeout(max(0, time.Until(until))); err != nil {
		return 0, err
	}
	return p.port.Read(b)
}

// ErrBlocked is returned by Write where the octets do not leave.
var ErrBlocked = errors.New("the port takes no octets any more: nobody at its far end takes them")

// ErrClosed is returned of a port that was closed.
var ErrClosed = errors.New("the port was closed")

// enter notes that somebody reads or writes, unless the port is closed, leave that it is over.
func (p *Port) enter() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed {
		return false
	}
	p.users++
	return true
}

func (p *Port) leave() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.users--; p.closed && p.users == 0 {
		p.shut()
	}
}

// shut closes what the system has. The lock is held.
func (p *Port) shut() {
	p.failed = p.port.Close()
	p.free()
	close(p.gone)
}

// Write sends all of b, or gives up at a moment. After that the port can only
// be closed.
func (p *Port) Write(b []byte, until time.Time) error {
	if !p.enter() {
		return ErrClosed
	}
	b = slices.Clone(b) // it may be given up while it is sent
	sent := make(chan error, 1)
	go func() {
		defer p.leave()
		sent <- p.send(b)
	}()
	timer := time.NewTimer(time.Until(until))
	defer timer.Stop()
	select {
	case err := <-sent:
		return err
	case <-timer.C:
		return ErrBlocked
	}
}

// send sends all of b, or what leaves until the port is closed.
func (p *Port) send(b []byte) error {
	for len(b) > 0 {
		n, err := p.port.Write(b[:min(len(b), chunk)])
		if err != nil {
			return err
		}
		p.mu.Lock()
		closed := p.closed
		p.mu.Unlock()
		if b = b[n:]; closed && len(b) > 0 {
			return ErrClosed
		}
	}
	return nil
}

// closesWithin is how long Close waits for who reads or writes, chunk is how many octets are written at once: when what
// waits in the port is thrown away, there is room for so many.
const (
	closesWithin = 500 * time.Millisecond
	chunk        = 64
)

// Close gives the port back. Octets that do not leave are thrown away; where even that does not end a write, the
// port is closed when that ends.
func (p *Port) Close() error {
	p.mu.Lock()
	if p.closed {
		p.mu.Unlock()
		return nil
	}
	if p.closed = true; p.users == 0 {
		p.shut()
		p.mu.Unlock()
		return p.failed
	}
	p.mu.Unlock()
	if flushes, ok := p.port.(interface{ ResetOutputBuffer() error }); ok {
		_ = flushes.ResetOutputBuffer() // a port that has gone has nothing to throw away
	}
	timer := time.NewTimer(closesWithin)
	defer timer.Stop()
	select {
	case <-p.gone:
		return p.failed
	case <-timer.C:
		return ErrBlocked
	}
}

// Info is one serial port of this machine.
type Info struct {
	Path string `json:"path"`
	// Owner is the program that has it open, empty for none.
	Owner string `json:"owner"`
	// Trouble says why it cannot be used, empty if it can.
	Trouble string `json:"trouble"`
}

// List returns the serial ports of this machine.
func List() ([]Info, error) {
	names, err := bug.GetPortsList()
	if err != nil {
		return nil, fmt.Errorf("the serial ports could not be listed: %w", err)
	}
	slices.Sort(names)
	list := []Info{}
	for _, name := range names {
		info := Info{Path: name, Owner: Owner(name)}
		info.Trouble = trouble(name)
		list = append(list, info)
	}
	return list, nil
}
