package modbus

import (
	"net"
	"runtime"
	"sync/atomic"
	"syscall"
	"time"
)

// prompt is for answers that come sooner than a thread can be put to sleep and
// woken, as those of a controller on the same machine do: they are looked for a
// few times before they are waited for. It costs processor time, so it is done
// only where the last answers came as fast, and by one connection at a time.
type prompt struct {
	raw  syscall.RawConn
	look func(fd uintptr) bool // reads into into, and sets n
	into []byte
	n    int
	fast int // answers in a row that came soon enough; below 0 it is left alone for so many
}

// promptly prepares for a connection; nil where its octets cannot be looked for.
func promptly(c net.Conn) *prompt {
	s, ok := c.(syscall.Conn)
	if !ok {
		return nil
	}
	raw, err := s.SyscallConn()
	if err != nil {
		return nil
	}
	p := &prompt{raw: raw}
	p.look = func(fd uintptr) bool {
		p.n = readNow(fd, p.into)
		return true
	}
	return p
}

const (
	soon   = 60 * time.Microsecond // how long is looked for
	proven = 8                     // answers that must have come as soon before
	resign = -256                  // answers for which it is not tried again once it failed
)

var looking atomic.Bool

// read returns what comes soon, 0 where nothing does.
func (p *prompt) read(b []byte) int {
	if p == nil || p.fast < proven || runtime.NumCPU() < 2 || !looking.CompareAndSwap(false, true) {
		return 0
	}
	defer looking.Store(false)
	p.into, p.n = b, 0
	for until := time.Now().Add(soon); ; {
		for range 4 {
			if err := p.raw.Read(p.look); err != nil || p.n > 0 {
				return p.n // what is wrong shows when it is waited for
			}
		}
		if time.Now().After(until) {
			p.fast = resign
			return 0
		}
	}
}

// took notes how long an answer took.
func (p *prompt) took(d time.Duration) {
	switch {
	case p == nil:
	case d < 2*soon || p.fast < 0:
		p.fast = min(p.fast+1, proven)
	default:
		p.fast = 0
	}
}
