package mqtt

import (
	"fmt"
	"net"
)

// mostPacket bounds a packet that a broker may send: the libraries read whole packets,
// of up to 256 MB, before anybody can say no.
const mostPacket = 4 << 20

// limited is a connection over which no packet comes that is longer (MQTT 3.1.1, clause
// 2.2: a first octet, and the rest of the length in one to four octets of seven bits).
type limited struct {
	net.Conn
	left   int // octets to come of the packet under way
	shift  uint
	length int
	head   bool // the first octet of one has come, and its length not yet whole
}

func (l *limited) Read(b []byte) (int, error) {
	n, err := l.Conn.Read(b)
	for rest := b[:n]; len(rest) > 0; {
		switch {
		case l.left > 0:
			passed := min(l.left, len(rest))
			l.left -= passed
			rest = rest[passed:]
		case !l.head:
			l.head, l.length, l.shift = true, 0, 0
			rest = rest[1:]
		default:
			l.length |= int(rest[0]&0x7F) << l.shift
			more := rest[0]&0x80 != 0
			rest = rest[1:]
			if l.shift += 7; more && l.shift < 28 {
				continue
			}
			if l.length > mostPacket || more {
				_ = l.Conn.Close() // nothing that follows could be made out
				return 0, fmt.Errorf("the broker sends a packet of %d octets: %d are the most", l.length, mostPacket)
			}
			l.head, l.left = false, l.length
		}
	}
	return n, err
}
