package bench

import (
	"errors"
	"os"
	"time"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"

	"ferry/internal/core/serial"
)

// pseudoTerminal is a simulated port that every program of this machine can
// open.
type pseudoTerminal struct {
	path   string
	master *os.File
	fd     int
}

// newTerminal makes a simulated port.
var newTerminal = func() (terminal, error) {
	master, far, err := pty.Open()
	if err != nil {
		return nil, err
	}
	t := &pseudoTerminal{path: far.Name(), master: master, fd: int(master.Fd())}
	if err := far.Close(); err != nil {
		return nil, errors.Join(err, master.Close())
	}
	return t, nil
}

func (t *pseudoTerminal) name() string { return t.path }

func (t *pseudoTerminal) Close() error { return t.master.Close() }

func (t *pseudoTerminal) give(b []byte) { _, _ = unix.Write(t.fd, b) } // nobody may be listening any more

func (t *pseudoTerminal) take(b []byte, wait time.Duration) (n int, open bool) {
	polled := []unix.PollFd{{Fd: int32(t.fd), Events: unix.POLLIN}}
	if n, err := unix.Poll(polled, int(wait/time.Millisecond)); n == 0 || err != nil {
		return 0, true
	}
	if polled[0].Revents&unix.POLLIN == 0 {
		return 0, false
	}
	n, err := unix.Read(t.fd, b)
	if err != nil {
		return 0, true
	}
	return max(0, n), true
}

// near returns what the near end was opened with. Its parity cannot be read
// from the flags that a pseudo-terminal drops, but from the check of it, which
// goes with it.
func (t *pseudoTerminal) near() serial.Format {
	f := serial.Usual
	flags, err := unix.IoctlGetTermios(t.fd, unix.TCGETS2)
	if err != nil {
		return f
	}
	f.Baud, f.Parity = int(flags.Ospeed), serial.None
	if flags.Iflag&unix.INPCK != 0 {
		if f.Parity = serial.Even; flags.Cflag&unix.PARODD != 0 {
			f.Parity = serial.Odd
		}
	}
	if flags.Cflag&unix.CSTOPB != 0 {
		f.Stop = 2
	}
	if f.Check() != nil {
		return serial.Usual
	}
	return f
}
