// Package bench holds simulated devices that stand in for real ones: servers
// on loopback with values that live, and faults that can be switched on.
package bench

import (
	"errors"
	"io"
	"log"
	"net"
	"runtime/debug"
	"slices"
	"sync"
	"time"
)

// Server is one simulated device on the network.
type Server struct {
	Simulated
	speech Speech

	mu       sync.Mutex
	port     int
	listener net.Listener
	blocker  io.Closer // keeps the port without answering, while switched off
	conns    map[net.Conn]struct{}
	fault    Fault
	answers  int
	closed   bool
	host     Host // nil where a speech answers
	// packets and mouth are those of a device that answers datagrams, nil elsewhere.
	packets *net.UDPConn
	mouth   Mouth
	// served is the client that is served, where that is one at a time.
	served net.Conn
}

// newServer starts a device on a free loopback port, or on want if it is not 0.
func newServer(want int, speech Speech, device Simulated) (*Server, error) {
	s := &Server{Simulated: device, speech: speech, conns: map[net.Conn]struct{}{}, port: want}
	if h, ok := speech.(Hosted); ok {
		host, err := h.Host(&s.Simulated, s.Fault)
		if err != nil {
			return nil, err
		}
		s.host = host
	}
	if d, ok := speech.(Datagrammed); ok {
		mouth, err := d.Mouth(&s.Simulated, s.Fault, s.sendPacket)
		if err != nil {
			return nil, err
		}
		s.mouth = mouth
	}
	if err := s.listen(); err != nil {
		return nil, errors.Join(err, s.ends())
	}
	return s, nil
}

// Addr returns where the device listens, or would.
func (s *Server) Addr() string { return loopback(s.port) }

// ends ends what is behind the port.
func (s *Server) ends() (err error) {
	if s.host != nil {
		err = s.host.Close()
	}
	if s.mouth != nil {
		err = errors.Join(err, s.mouth.Close())
	}
	return err
}

func (s *Server) listen() error {
	if s.mouth != nil {
		return s.listenPackets()
	}
	l, err := net.Listen("tcp", loopback(s.port))
	if err != nil {
		return err
	}
	s.listener, s.port = l, l.Addr().(*net.TCPAddr).Port
	go s.accept(l)
	return nil
}

// SetFault switches a fault on, or off with the zero Fault. Open connections
// are dropped when the fault concerns connecting.
func (s *Server) SetFault(f Fault) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return net.ErrClosed
	}
	s.fault, s.answers = f, 0
	s.Memory.freeze(f.Kind == "freeze")
	if s.mouth != nil {
		return s.setPackets(f.Kind == "stop")
	}
	down := f.Kind == "stop" || f.Kind == "off"
	if down || f.Kind == "refuse" || f.Kind == "dozes" || f.Kind == "slow-first" {
		for c := range s.conns {
			abort(c)
		}
	}
	if s.blocker != nil {
		if err := s.blocker.Close(); err != nil {
			return err
		}
		s.blocker = nil
	}
	if down && s.listener != nil {
		if err := s.listener.Close(); err != nil {
			return err
		}
		s.listener = nil
	}
	if f.Kind == "stop" {
		// Where the port cannot be held it is as free as that of any program
		// that has ended.
		if held, err := heldPort(s.port); err == nil {
			s.blocker = held
		}
	}
	if f.Kind == "off" {
		b, err := blackHole(s.port)
		if err != nil {
			return err
		}
		s.blocker = b
	}
	if !down && s.listener == nil {
		err := s.listen()
		for range 40 { // another program may have the port for a moment
			if err == nil {
				break
			}
			time.Sleep(100 * time.Millisecond)
			err = s.listen()
		}
		return err
	}
	return nil
}

// setPackets has the device hear datagrams, or none. The lock is held.
func (s *Server) setPackets(stopped bool) error {
	if stopped && s.packets != nil {
		err := s.packets.Close()
		s.packets = nil
		return err
	}
	if !stopped && s.packets == nil {
		return s.listenPackets()
	}
	return nil
}

// Fault returns the fault that is on.
func (s *Server) Fault() Fault {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.fault
}

// Close stops the device for good.
func (s *Server) Close() error {
	s.mu.Lock()
	s.closed = true
	for c := range s.conns {
		abort(c)
	}
	var errs []error
	if s.listener != nil {
		errs = append(errs, s.listener.Close())
	}
	if s.blocker != nil {
		errs = append(errs, s.blocker.Close())
	}
	if s.packets != nil {
		errs = append(errs, s.packets.Close())
	}
	s.mu.Unlock()
	// What is behind waits for its clients, and these for the lock.
	return errors.Join(append(errs, s.ends())...)
}

// abort ends a connection with a reset rather than in order.
func abort(c net.Conn) {
	if tcp, ok := c.(*net.TCPConn); ok {
		_ = tcp.SetLinger(0) // a connection that is gone already needs no reset
	}
	_ = c.Close()
}

func (s *Server) accept(l net.Listener) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		s.mu.Lock()
		if s.closed || s.fault.Kind == "refuse" || s.listener != l {
			s.mu.Unlock()
			abort(c)
			continue
		}
		s.conns[c] = struct{}{}
		s.mu.Unlock()
		go s.serve(c)
	}
}

func (s *Server) serve(c net.Conn) {
	defer func() {
		if p := recover(); p != nil { // of a defect here: whoever asks finds the connection closed
			log.Printf("stand-in on port %d: %v\n%s", s.port, p, debug.Stack())
		}
		s.mu.Lock()
		delete(s.conns, c)
		s.mu.Unlock()
		_ = c.Close() // both ends may have closed it already
	}()
	if s.host != nil {
		s.host.Take(&faulty{Conn: c, of: s})
		return
	}
	talk := s.speech.Talk(&s.Simulated)
	var turns sync.Mutex // Answer and Push
	if pusher, ok := talk.(Pusher); ok {
		ended := make(chan struct{})
		defer close(ended)
		go s.push(c, pusher, &turns, ended)
	}
	var buf []byte
	for answers := 0; ; {
		if !s.turnOf(c) {
			return
		}
		size, err := talk.Length(buf)
		if err != nil {
			return
		}
		if size == 0 {
			if len(buf) > mostAsked {
				return
			}
			buf = slices.Grow(buf, 512)
			if err := c.SetReadDeadline(s.patience()); err != nil {
				return
			}
			n, err := c.Read(buf[len(buf):cap(buf)])
			if err != nil || n == 0 {
				return
			}
			buf = buf[:len(buf)+n]
			continue
		}
		request := append([]byte(nil), buf[:size]...)
		buf = buf[:copy(buf, buf[size:])]
		s.mu.Lock()
		fault := s.fault
		s.answers++
		turn := s.answers
		s.mu.Unlock()
		pause := s.Think
		if fault.Kind == "delay" {
			pause = time.Duration(fault.Value) * time.Millisecond
		}
		turns.Lock()
		answer, ends := talk.Answer(request, fault, turn)
		turns.Unlock()
		switch {
		case fault.Kind == "drop" && turn%4 == 0:
			return
		case fault.Kind == "silent", answer == nil && !ends:
			continue
		}
		answers++
		if fault.Kind == "slow-first" && answers == 1 {
			pause = time.Duration(fault.Value) * time.Millisecond
		}
		time.Sleep(pause)
		if fault.Kind == "pieces" && len(answer) > 2 {
			if _, err := c.Write(answer[:len(answer)/2]); err != nil {
				return
			}
			time.Sleep(time.Duration(fault.Value) * time.Millisecond)
			answer = answer[len(answer)/2:]
		}
		if _, err := c.Write(answer); err != nil || ends || fault.Kind == "hangs-up" {
			return
		}
	}
}

// turnOf waits until a client may be served: at once, unless the device serves one at a
// time and another was before it. False is that the client has gone, or the device.
func (s *Server) turnOf(c net.Conn) bool {
	for {
		s.mu.Lock()
		_, there := s.conns[c]
		if s.fault.Kind != "one-client" {
			s.served = nil
		} else if _, busy := s.conns[s.served]; s.served == nil || !busy {
			s.served = c
		}
		mine := s.served == nil || s.served == c
		s.mu.Unlock()
		if mine || !there {
			return there
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// patience is until when a client may be quiet.
func (s *Server) patience() time.Time {
	if fault := s.Fault(); fault.Kind == "dozes" {
		return time.Now().Add(time.Duration(fault.Value) * time.Millisecond)
	}
	return time.Time{}
}

// faulty is a connection of a host, over which what it says goes by the fault that
// is on.
type faulty struct {
	net.Conn
	of    *Server
	turns int
}

func (c *faulty) Write(b []byte) (int, error) {
	switch fault := c.of.Fault(); fault.Kind {
	case "silent":
		return len(b), nil
	case "delay":
		time.Sleep(time.Duration(fault.Value) * time.Millisecond)
	case "garbage":
		if _, err := c.Conn.Write(Garbage(len(b))); err != nil {
			return 0, err
		}
		return len(b), nil
	case "drop":
		if c.turns++; c.turns%4 == 0 {
			abort(c.Conn)
			return 0, net.ErrClosed
		}
	}
	return c.Conn.Write(b)
}

// push sends what a talk has to send by itself until the connection has ended.
// A write is whole: the answer to a question does not come in between.
func (s *Server) push(c net.Conn, talk Pusher, turns *sync.Mutex, ended <-chan struct{}) {
	for {
		turns.Lock()
		octets, again := talk.Push(time.Now(), s.Fault())
		turns.Unlock()
		if len(octets) > 0 {
			if _, err := c.Write(octets); err != nil {
				return
			}
		}
		select {
		case <-ended:
			return
		case <-time.After(again):
		}
	}
}

// mostAsked bounds a request.
const mostAsked = 1 << 16
