//go:build !unix

package field

import "net"

// hungUp cannot be told here without taking octets from the connection: it
// shows when the next question fails.
func hungUp(net.Conn) bool { return false }
