package relay

import (
	"context"
	"net"
	"net/netip"
	"time"
)

// connectWithin bounds the wait for the far end.
const connectWithin = 5 * time.Second

// tcpFar is a far end over TCP; at is its address in recordings.
type tcpFar struct {
	*net.TCPConn
	at netip.AddrPort
}

func (f tcpFar) At() netip.AddrPort { return f.at }

// TCP dials an address. at is what stands in recordings, where that is another: on the
// bench a stand-in is dialled in the place of the device.
func TCP(address string, at netip.AddrPort) Dial {
	return func(ctx context.Context) (Far, error) {
		dialer := net.Dialer{Timeout: connectWithin}
		c, err := dialer.DialContext(ctx, "tcp", address)
		if err != nil {
			return nil, err
		}
		if !at.IsValid() {
			at = c.RemoteAddr().(*net.TCPAddr).AddrPort()
		}
		return tcpFar{c.(*net.TCPConn), at}, nil
	}
}
