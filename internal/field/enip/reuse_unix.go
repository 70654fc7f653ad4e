//go:build unix

package enip

import (
	"net"
	"syscall"
)

// sharing lets another socket have the port of one beside it while fn runs: one that
// hears what is for many.
func sharing(socket *net.UDPConn, fn func() error) error {
	raw, err := socket.SyscallConn()
	if err != nil {
		return err
	}
	set := func(on int) {
		_ = raw.Control(func(fd uintptr) { // where it fails, fn says so
			_ = syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_REUSEADDR, on)
		})
	}
	set(1)
	defer set(0)
	return fn()
}
