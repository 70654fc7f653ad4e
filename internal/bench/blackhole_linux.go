package bench

import (
	"io"
	"net"
	"strconv"
	"syscall"
)

func loopback(port int) string { return net.JoinHostPort("127.0.0.1", strconv.Itoa(port)) }

// hole is a port that lets connection attempts die unanswered, as a machine
// does that is switched off: a listener that never accepts and whose queue is
// full, so that the kernel drops whatever else knocks.
type hole struct {
	fd    int
	queue []int
}

func (h hole) Close() error {
	for _, fd := range h.queue {
		_ = syscall.Close(fd) // unconnected sockets have nothing to lose
	}
	return syscall.Close(h.fd)
}

func blackHole(port int) (io.Closer, error) {
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	at := &syscall.SockaddrInet4{Port: port, Addr: [4]byte{127, 0, 0, 1}}
	err = syscall.SetsockoptInt(fd, syscall.SOL_SOCKET, syscall.SO_REUSEADDR, 1)
	if err == nil {
		err = syscall.Bind(fd, at)
	}
	if err == nil {
		err = syscall.Listen(fd, 0)
	}
	if err != nil {
		_ = syscall.Close(fd) // the first error is the one that tells
		return nil, err
	}
	h := hole{fd: fd}
	if bound, err := syscall.Getsockname(fd); err == nil {
		if in4, ok := bound.(*syscall.SockaddrInet4); ok {
			at.Port = in4.Port
		}
	}
	// A backlog of 0 holds one connection; a few more fill what the kernel
	// grants on top.
	for range 3 {
		q, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM|syscall.SOCK_NONBLOCK|syscall.SOCK_CLOEXEC, 0)
		if err != nil {
			return h, nil
		}
		_ = syscall.Connect(q, at) // in progress, and to stay so
		h.queue = append(h.queue, q)
	}
	return h, nil
}

// heldPort is a port on which nobody listens and that nobody else can take
// meanwhile: who knocks is refused.
func heldPort(port int) (io.Closer, error) {
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	if err := syscall.Bind(fd, &syscall.SockaddrInet4{Port: port, Addr: [4]byte{127, 0, 0, 1}}); err != nil {
		_ = syscall.Close(fd) // the first error is the one that tells
		return nil, err
	}
	return hole{fd: fd}, nil
}
