package precise

import (
	"net"
	"net/netip"
	"sync/atomic"
	"time"
)

// Arrivals reads the packets of a socket, each with the time at which it arrived at this
// machine: where that is short of time it is read later, and did not come later. Where the
// system does not tell, it is the time of reading.
type Arrivals struct {
	socket  *net.UDPConn
	stamped bool
	told    []byte
	reached atomic.Int64 // when the packet arrived that was read last, in nanoseconds since 1970
}

// usualLate bounds by how much later than it arrived a packet is read: beyond it the clock
// was set meanwhile.
const usualLate = 5 * time.Second

// NewArrivals begins to note when packets arrive.
func NewArrivals(socket *net.UDPConn) *Arrivals {
	return &Arrivals{socket: socket, stamped: stamps(socket), told: make([]byte, 128)}
}

// Read reads a packet.
func (a *Arrivals) Read(room []byte) (n int, from netip.AddrPort, at time.Time, err error) {
	var told int
	n, told, _, from, err = a.socket.ReadMsgUDPAddrPort(room, a.told)
	at = time.Now()
	if a.stamped && err == nil {
		if stamp, ok := stampOf(a.told[:told]); ok {
			if late := at.Round(0).Sub(stamp); late > 0 && late < usualLate {
				at = at.Add(-late) // by the clock that nobody sets
			}
		}
	}
	if err == nil {
		a.reached.Store(at.UnixNano())
	}
	return n, from, at, err
}

// Behind reports whether a packet may have arrived before a time that has not been read yet.
func (a *Arrivals) Behind(t time.Time) bool {
	return a.reached.Load() < t.UnixNano() && waits(a.socket)
}
