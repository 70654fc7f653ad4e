//go:build !linux

package bench

import (
	"errors"
	"io"
	"net"
	"strconv"
)

func loopback(port int) string { return net.JoinHostPort("127.0.0.1", strconv.Itoa(port)) }

// blackHole cannot be made here: a device that is switched off refuses the
// connection in place of swallowing it.
func blackHole(int) (io.Closer, error) {
	return nil, errors.New("this system drops no connection attempts")
}

// heldPort cannot be made here: the port of a server that is stopped is free for
// any program.
func heldPort(int) (io.Closer, error) {
	return nil, errors.New("this system holds no port that nobody listens on")
}
