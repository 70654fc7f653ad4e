package field

import (
	"errors"
	"net"
	"os"
	"time"
)

// Stream is what octets come from, and go to: a serial port, or a connection in its place.
type Stream interface {
	// Read returns 0 and no error when the time is up.
	Read(b []byte, until time.Time) (int, error)
	// Write sends all of b, or fails at that moment.
	Write(b []byte, until time.Time) error
	Close() error
}

// ErrBlocked is returned by Write where the octets do not leave.
var ErrBlocked = errors.New("the connection takes no octets any more: nobody at its far end takes them")

// TCPStream is a Stream over a connection, which may be another each time.
type TCPStream struct {
	Now  func() net.Conn
	Shut func() error
}

// Read is as in Stream.
func (s TCPStream) Read(b []byte, until time.Time) (int, error) {
	if err := s.Now().SetReadDeadline(until); err != nil {
		return 0, err
	}
	n, err := s.Now().Read(b)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		err = nil
	}
	return n, err
}

// Write is as in Stream.
func (s TCPStream) Write(b []byte, until time.Time) error {
	if err := s.Now().SetWriteDeadline(until); err != nil {
		return err
	}
	_, err := s.Now().Write(b)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		err = ErrBlocked
	}
	return err
}

// Close is as in Stream.
func (s TCPStream) Close() error { return s.Shut() }
