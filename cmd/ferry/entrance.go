package main

import (
	"crypto/tls"
	"net"
	"sync"
)

// entrance is the one listener of a Ferry that serves one site after another:
// whoever comes is handed to the site that is open, and waits while another is
// being opened.
type entrance struct {
	net.Listener
	came chan net.Conn
	gone chan struct{} // closed when the listener is
	err  error
}

func newEntrance(l net.Listener) *entrance {
	e := &entrance{Listener: l, came: make(chan net.Conn), gone: make(chan struct{})}
	go func() {
		defer close(e.gone)
		for {
			c, err := l.Accept()
			if err != nil {
				e.err = err
				return
			}
			e.came <- c
		}
	}()
	return e
}

// next is the listener of the next site.
func (e *entrance) next(secured *tls.Config) net.Listener {
	l := &turn{entrance: e, closed: make(chan struct{})}
	if secured != nil {
		return tls.NewListener(l, secured)
	}
	return l
}

// turn is the listener of one site. Closing it leaves the entrance open.
type turn struct {
	*entrance
	once   sync.Once
	closed chan struct{}
}

// Accept waits for who comes next.
func (t *turn) Accept() (net.Conn, error) {
	select {
	case <-t.closed:
		return nil, net.ErrClosed
	default:
	}
	select {
	case c := <-t.came:
		return c, nil
	case <-t.closed:
		return nil, net.ErrClosed
	case <-t.gone:
		return nil, t.err
	}
}

// Close ends the turn.
func (t *turn) Close() error {
	t.once.Do(func() { close(t.closed) })
	return nil
}
