package relay

import (
	"context"
	"net"
	"net/netip"
	"time"
)

// connectWithin bounds the wait for the far end.
const connectWithin = 5 * time.Second

// Dialled dials an address. at is what stands in recordings, where that is another: on the
// bench a stand-in is dialled in the place of the device.
func Dialled(address string, at netip.AddrPort) Dial {
	return func(ctx context.Context) (Far, error) {
		dialer := net.Dialer{Timeout: connectWithin}
		c, err := dialer.DialContext(ctx, "tcp", address)
		if err != nil {
			return nil, err
		}
		if !at.IsValid() {
			return tcp{c, addressOf(c.RemoteAddr())}, nil
		}
		return tcp{c, at}, nil
	}
}
