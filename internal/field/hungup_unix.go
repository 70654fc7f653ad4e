//go:build unix

package field

import (
	"errors"
	"net"
	"syscall"
)

// hungUp reports whether the far end has ended a connection, without waiting
// and without taking anything from it.
func hungUp(c net.Conn) (gone bool) {
	sc, ok := c.(syscall.Conn)
	if !ok {
		return false
	}
	raw, err := sc.SyscallConn()
	if err != nil {
		return true // it is closed
	}
	var one [1]byte
	err = raw.Control(func(fd uintptr) {
		n, _, err := syscall.Recvfrom(int(fd), one[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
		gone = err == nil && n == 0 || err != nil && !errors.Is(err, syscall.EAGAIN) && !errors.Is(err, syscall.EINTR)
	})
	return gone || err != nil
}
