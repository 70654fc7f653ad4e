package relay

import (
	"context"
	"errors"
	"io"
	"net"
	"net/netip"
	"sync"
	"time"

	"ferry/internal/core/serial"
	"ferry/internal/field/ports"
)

// Serial ports have no address: these stand for them in recordings.
var (
	nearPort = netip.MustParseAddrPort("127.0.1.1:1")
	farPort  = netip.MustParseAddrPort("127.0.1.2:2")
)

// opener is who opens a serial port of this machine.
type opener func(ctx context.Context, path string, f serial.Format) (*ports.Port, error)

// wire is a serial port that several callers may share: each hears what comes, and what
// any of them says goes out, one piece after the other.
type wire struct {
	ctx    context.Context
	path   string
	open   opener
	broken func(error)

	writing sync.Mutex // held while octets go out, and while the port is opened anew
	port    *ports.Port

	mu      sync.Mutex
	format  serial.Format
	callers map[*onWire]bool
	ended   chan struct{} // closed once nobody reads the port any more
}

// onWire is one caller on a wire.
type onWire struct {
	wire *wire
	at   netip.AddrPort
	came chan []byte
	rest []byte
	done chan struct{}
	once sync.Once
}

// heardWaiting is how many pieces wait for a caller that is slow.
const heardWaiting = 1024

func newWire(ctx context.Context, path string, f serial.Format, open opener, broken func(error)) *wire {
	return &wire{ctx: ctx, path: path, format: f, open: open, broken: broken, callers: map[*onWire]bool{}}
}

// join has a caller share the port, which is opened for the first.
func (w *wire) join(at netip.AddrPort) (*onWire, error) {
	w.writing.Lock()
	defer w.writing.Unlock()
	if w.port == nil {
		w.mu.Lock()
		format := w.format
		w.mu.Unlock()
		ctx, cancel := context.WithTimeout(w.ctx, connectWithin)
		defer cancel()
		port, err := w.open(ctx, w.path, format)
		if err != nil {
			return nil, err
		}
		w.port, w.ended = port, make(chan struct{})
		go w.read(port, w.ended)
	}
	c := &onWire{wire: w, at: at, came: make(chan []byte, heardWaiting), done: make(chan struct{})}
	w.mu.Lock()
	w.callers[c] = true
	w.mu.Unlock()
	return c, nil
}

// read hands on what comes over the port, at once.
func (w *wire) read(port *ports.Port, ended chan struct{}) {
	buf := make([]byte, 4096)
	for {
		n, err := port.Read(buf, time.Now().Add(50*time.Millisecond))
		w.mu.Lock()
		if n > 0 {
			for c := range w.callers {
				select {
				case c.came <- append([]byte(nil), buf[:n]...):
				default: // one that takes nothing keeps nobody waiting
				}
			}
		}
		left := len(w.callers) == 0
		w.mu.Unlock()
		if err != nil {
			w.broken(err)
			w.mu.Lock()
			for c := range w.callers {
				c.once.Do(func() { close(c.done) })
			}
			clear(w.callers)
			w.mu.Unlock()
			left = true
		}
		if left {
			close(ended) // before the lock: who sets the port has it, and waits for this
			w.writing.Lock()
			if w.port == port {
				_ = port.Close() // it is given back however it ended
				w.port = nil
			}
			w.writing.Unlock()
			return
		}
	}
}

// set opens the port in another format, for whoever shares it.
func (w *wire) set(f serial.Format) serial.Format {
	w.mu.Lock()
	is := w.format
	if is == f {
		w.mu.Unlock()
		return is
	}
	w.format = f
	w.mu.Unlock()
	w.writing.Lock()
	defer w.writing.Unlock()
	if w.port == nil {
		return f
	}
	// Whoever reads it ends with it, and begins anew.
	port, ended := w.port, w.ended
	w.port = nil
	w.mu.Lock()
	callers := w.callers
	w.callers = map[*onWire]bool{}
	w.mu.Unlock()
	<-ended
	_ = port.Close()
	ctx, cancel := context.WithTimeout(w.ctx, connectWithin)
	defer cancel()
	again, err := w.open(ctx, w.path, f)
	w.mu.Lock()
	w.callers = callers
	for c := range callers {
		select {
		case <-c.done: // it left meanwhile
			delete(callers, c)
		default:
		}
	}
	w.mu.Unlock()
	if err != nil {
		w.broken(err)
		w.mu.Lock()
		for c := range w.callers {
			c.once.Do(func() { close(c.done) })
		}
		clear(w.callers)
		w.mu.Unlock()
		return is
	}
	w.port, w.ended = again, make(chan struct{})
	go w.read(again, w.ended)
	return f
}

func (c *onWire) At() netip.AddrPort { return c.at }

// Read waits for what comes over the port.
func (c *onWire) Read(b []byte) (int, error) {
	if len(c.rest) == 0 {
		select {
		case c.rest = <-c.came:
		case <-c.done:
			return 0, io.EOF
		}
	}
	n := copy(b, c.rest)
	c.rest = c.rest[n:]
	return n, nil
}

// Write sends octets over the port, all of them one after the other.
func (c *onWire) Write(b []byte) (int, error) {
	w := c.wire
	w.writing.Lock()
	defer w.writing.Unlock()
	if w.port == nil {
		return 0, errors.New("the serial port is no longer open")
	}
	w.mu.Lock()
	char := w.format.CharMs()
	w.mu.Unlock()
	// As long as the octets take on the line, and some.
	until := time.Now().Add(2*time.Second + time.Duration(3*char*float64(len(b))*float64(time.Millisecond)))
	if err := w.port.Write(b, until); err != nil {
		return 0, err
	}
	return len(b), nil
}

// Close has the caller leave. The port is closed after the last.
func (c *onWire) Close() error {
	c.once.Do(func() { close(c.done) })
	c.wire.mu.Lock()
	defer c.wire.mu.Unlock()
	delete(c.wire.callers, c)
	return nil
}

// datagrams is a socket that several callers send to; each is one caller, until it has
// been quiet for a minute.
type datagrams struct {
	socket *net.UDPConn
	mu     sync.Mutex
	from   map[netip.AddrPort]*gram
}

// quietDatagrams is how long a caller of datagrams may be quiet before it is a new one.
const quietDatagrams = time.Minute

// gram is one caller of datagrams: each Read is one, and each Write.
type gram struct {
	of   *datagrams
	at   netip.AddrPort
	came chan []byte
	done chan struct{}
	once sync.Once
}

// take hands on datagrams to their callers, new ones to begin, until the socket is closed.
func (d *datagrams) take(begin func(*gram) bool) {
	buf := make([]byte, 65536)
	for {
		n, addr, err := d.socket.ReadFromUDPAddrPort(buf)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			continue // of one that is no longer there
		}
		at := netip.AddrPortFrom(addr.Addr().Unmap(), addr.Port())
		d.mu.Lock()
		g := d.from[at]
		if g == nil {
			g = &gram{of: d, at: at, came: make(chan []byte, heardWaiting), done: make(chan struct{})}
			d.from[at] = g
			d.mu.Unlock()
			if !begin(g) {
				_ = g.Close()
				continue
			}
		} else {
			d.mu.Unlock()
		}
		select {
		case g.came <- append([]byte(nil), buf[:n]...):
		default: // as a network would
		}
	}
}

func (g *gram) At() netip.AddrPort { return g.at }

func (g *gram) Read(b []byte) (int, error) {
	quiet := time.NewTimer(quietDatagrams)
	defer quiet.Stop()
	select {
	case data := <-g.came:
		return copy(b, data), nil
	case <-g.done:
	case <-quiet.C:
	}
	return 0, io.EOF
}

func (g *gram) Write(b []byte) (int, error) { return g.of.socket.WriteToUDPAddrPort(b, g.at) }

func (g *gram) Close() error {
	g.once.Do(func() { close(g.done) })
	g.of.mu.Lock()
	defer g.of.mu.Unlock()
	if g.of.from[g.at] == g {
		delete(g.of.from, g.at)
	}
	return nil
}

// udp is a far end of datagrams.
type udp struct {
	*net.UDPConn
	at netip.AddrPort
}

func (u udp) At() netip.AddrPort { return u.at }
