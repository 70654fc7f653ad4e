package precise

import (
	"net"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// stamps has the system note when each packet arrives.
func stamps(socket *net.UDPConn) (done bool) {
	raw, err := socket.SyscallConn()
	if err != nil {
		return false
	}
	err = raw.Control(func(fd uintptr) {
		done = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1) == nil
	})
	return done && err == nil
}

// stampOf is the time that stands beside a packet.
func stampOf(told []byte) (time.Time, bool) {
	for len(told) >= unix.CmsgLen(0) {
		head, data, rest, err := unix.ParseOneSocketControlMessage(told)
		if err != nil {
			return time.Time{}, false
		}
		var spec unix.Timespec
		if head.Level == unix.SOL_SOCKET && head.Type == unix.SCM_TIMESTAMPNS && len(data) >= int(unsafe.Sizeof(spec)) {
			copy(unsafe.Slice((*byte)(unsafe.Pointer(&spec)), unsafe.Sizeof(spec)), data) // as the system lays it out
			return time.Unix(spec.Unix()), true
		}
		told = rest
	}
	return time.Time{}, false
}

// waits reports whether a packet waits to be read.
func waits(socket *net.UDPConn) (is bool) {
	raw, err := socket.SyscallConn()
	if err != nil {
		return false
	}
	err = raw.Control(func(fd uintptr) {
		polled := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}
		n, err := unix.Poll(polled, 0)
		is = err == nil && n > 0
	})
	return is && err == nil
}
