package bench

import (
	"io"
	"time"

	"ferry/internal/core/serial"
	"ferry/internal/pipe"
)

// terminal is the far end of a simulated serial port.
type terminal interface {
	io.Closer
	// name is the path by which the near end is opened.
	name() string
	// take waits for octets from the near end; open is false where nobody has it
	// open. give hands octets to it.
	take(b []byte, wait time.Duration) (n int, open bool)
	give(b []byte)
	// near is what the near end was opened with.
	near() serial.Format
}

// inProcess is a simulated port that this program alone can open.
type inProcess struct{ *pipe.Pipe }

func newPipe() (terminal, error) { return inProcess{pipe.New()}, nil }

func (p inProcess) name() string { return p.Name }

func (p inProcess) take(b []byte, wait time.Duration) (int, bool) { return p.Take(b, wait) }

func (p inProcess) give(b []byte) { p.Give(b) }

func (p inProcess) near() serial.Format { return p.Format() }
