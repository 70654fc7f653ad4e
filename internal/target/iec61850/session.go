package iec61850

import (
	"errors"
	"io"
	"net"
	"slices"
	"sync"
	"time"

	wire "ferry/internal/wire/iec61850"
	"ferry/internal/wire/isotcp"
)

// session is a conversation with a client.
type session struct {
	server *Server
	conn   net.Conn
	size   isotcp.Size

	mu      sync.Mutex
	waiting [][]byte
	octets  int // of what waits, or is being sent
	room    sync.Cond
	over    bool
	woken   chan struct{}
	ended   chan struct{}
}

// Bounds of what waits for a client that does not take it: in octets behind which its next question is not
// answered before it takes some, and behind which it is hung up on.
const (
	mostWaiting = 1 << 20
	mostQueued  = 32 << 20
	within      = 10 * time.Second
)

// queue has a message sent; a client that takes none any more is hung up on.
func (c *session) queue(mms []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.octets >= mostQueued {
		_ = c.conn.Close() // its loop ends it
		return
	}
	c.waiting = append(c.waiting, mms)
	c.octets += len(mms)
	select {
	case c.woken <- struct{}{}:
	default:
	}
}

// taken notes that the client has taken so many octets, or that it is over.
func (c *session) taken(octets int, over bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.octets -= octets
	c.over = c.over || over
	c.room.Broadcast()
}

// waits until there is room for the answer to a further question.
func (c *session) waits() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for c.octets > mostWaiting && !c.over {
		c.room.Wait()
	}
}

// writes sends what waits until the conversation ends.
func (c *session) writes() {
	defer c.taken(0, true)
	var octets []byte
	taken := 0
	for {
		c.mu.Lock()
		list := c.waiting
		c.waiting = nil
		c.mu.Unlock()
		if len(list) == 0 {
			select {
			case <-c.ended:
				return
			case <-c.woken:
			}
			continue
		}
		octets, taken = octets[:0], 0
		for i, mms := range list {
			octets = isotcp.AppendData(octets, wire.Speak(mms), c.size)
			taken += len(mms)
			if len(octets) < 1<<16 && i < len(list)-1 {
				continue
			}
			if c.conn.SetWriteDeadline(time.Now().Add(within)) != nil {
				return
			}
			if _, err := c.conn.Write(octets); err != nil {
				_ = c.conn.Close() // the loop that reads ends it
				return
			}
			c.taken(taken, false)
			octets, taken = octets[:0], 0
		}
	}
}

// Take answers a client until the connection ends.
func (s *Server) Take(conn net.Conn) {
	c := &session{server: s, conn: conn, size: isotcp.Size8192, woken: make(chan struct{}, 1), ended: make(chan struct{})}
	c.room.L = &c.mu
	s.mu.Lock()
	if s.closed {
		s.mu.Unlock()
		return
	}
	s.sessions[c] = true
	s.mu.Unlock()
	var writer sync.WaitGroup
	writer.Go(c.writes)
	_ = c.converse() // how it ended is the client's to know
	close(c.ended)
	_ = conn.Close()
	writer.Wait()
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.sessions, c)
	for _, r := range s.space.reports {
		if r.reserved == c {
			r.stop()
		}
	}
	for _, d := range s.space.domains {
		for _, e := range d.items {
			if e.of != nil && e.of.control != nil && e.of.control.selected == c {
				e.of.control.selected = nil
			}
		}
	}
}

// frame reads a frame of the transport.
func frame(conn net.Conn, held *[]byte) (isotcp.TPDU, error) {
	buf := make([]byte, 4096)
	for {
		n, err := isotcp.Frame(*held, 1<<16)
		if err != nil {
			return isotcp.TPDU{}, err
		}
		if n > 0 {
			t, err := isotcp.ParseTPDU((*held)[:n])
			t.Rest = slices.Clone(t.Rest)
			*held = append((*held)[:0], (*held)[n:]...)
			return t, err
		}
		got, err := conn.Read(buf)
		if err != nil {
			return isotcp.TPDU{}, err
		}
		*held = append(*held, buf[:got]...)
	}
}

var errOver = errors.New("the conversation is over")

// converse takes the connection, the association, and then question after question.
func (c *session) converse() error {
	var held, message []byte
	t, err := frame(c.conn, &held)
	if err != nil {
		return err
	}
	if t.Kind != isotcp.ConnectRequest {
		return errors.New("it does not begin with a connection of the transport")
	}
	if t.Size >= isotcp.Size(7) && t.Size < c.size {
		c.size = t.Size
	}
	if _, err := c.conn.Write(isotcp.AppendConfirm(nil, t.Calling, t.Called, c.size)); err != nil {
		return err
	}
	for {
		c.waits()
		if t, err = frame(c.conn, &held); err != nil {
			return err
		}
		if t.Kind != isotcp.Data {
			return io.EOF
		}
		if message = append(message, t.Rest...); len(message) > wire.MostMessage {
			return errors.New("a message without end")
		}
		if !t.Last {
			continue
		}
		h, err := wire.Hear(message)
		message = nil
		switch {
		case err != nil:
			return err
		case h.Ends:
			return errOver
		case h.Associates:
			i := wire.DefaultInitiation()
			i.Size = max(1000, min(i.Size, h.Initiation.Size))
			i.Outstanding = max(1, min(i.Outstanding, h.Initiation.Outstanding))
			octets := isotcp.AppendData(nil, wire.Accept(i), c.size)
			if _, err := c.conn.Write(octets); err != nil {
				return err
			}
			continue
		}
		m, err := wire.ParseMessage(h.MMS)
		if err != nil {
			c.queue(wire.Rejection(m.Invoke))
			continue
		}
		switch m.Kind {
		case wire.ConcludeRequest:
			c.queue(wire.Conclusion(wire.ConcludeResponse))
			time.Sleep(20 * time.Millisecond) // it is on its way before the connection ends
			return errOver
		case wire.Request:
			answer, refused := c.answer(&m)
			if c.server.config.Asked != nil {
				c.server.config.Asked(c.conn, refused)
			}
			if answer != nil { // else it comes once it is known
				c.queue(answer)
			}
		}
	}
}
