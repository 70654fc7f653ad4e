package enip

import (
	"errors"
	"net"
	"net/netip"
	"sync"
	"time"

	"ferry/internal/precise"
	wire "ferry/internal/wire/enip"
)

// mouth is a UDP socket through which packets of cyclic connections come and go. All
// connections from one address of this machine share it, as the standard has one port for
// them.
type mouth struct {
	key    netip.AddrPort
	socket *net.UDPConn
	came   *precise.Arrivals
	at     netip.AddrPort // where it really is

	mu      sync.Mutex
	conns   map[uint32]*cyclic // by the identifier of what comes in
	groups  map[netip.AddrPort]*group
	users   int
	strange uint64 // packets of nobody's
}

var mouths = struct {
	sync.Mutex
	at map[netip.AddrPort]*mouth
}{at: map[netip.AddrPort]*mouth{}}

// heldPackets is how many octets may wait to be taken in.
const heldPackets = 4 << 20

// mouthAt returns the socket of an address. Where another program has its port, it gets a
// free one.
func mouthAt(ip netip.Addr, port int) (*mouth, error) {
	key := netip.AddrPortFrom(ip.Unmap(), uint16(port))
	mouths.Lock()
	defer mouths.Unlock()
	if m := mouths.at[key]; m != nil {
		m.users++
		return m, nil
	}
	socket, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(key))
	if err != nil {
		if socket, err = net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(key.Addr(), 0))); err != nil {
			return nil, err
		}
	}
	_ = socket.SetReadBuffer(heldPackets) // what the system gives of it is enough for most
	at, _ := netip.ParseAddrPort(socket.LocalAddr().String())
	m := &mouth{key: key, socket: socket, came: precise.NewArrivals(socket), at: at, conns: map[uint32]*cyclic{},
		groups: map[netip.AddrPort]*group{}, users: 1}
	mouths.at[key] = m
	go m.take(m.came)
	return m, nil
}

// leave gives the socket back; with its last user it is closed.
func (m *mouth) leave() {
	mouths.Lock()
	defer mouths.Unlock()
	if m.users--; m.users == 0 {
		delete(mouths.at, m.key)
		_ = m.socket.Close() // nothing is lost that was still under way
	}
}

// take hands each packet to its connection until the socket is closed. What is of none is
// dropped at once: anybody can send here.
func (m *mouth) take(arrivals *precise.Arrivals) {
	room := make([]byte, 1<<16)
	for {
		n, from, now, err := arrivals.Read(room)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			continue // a port that is not reachable is told so: of that nobody is the worse
		}
		p, err := wire.ParseCyclic(room[:n])
		if err != nil {
			continue
		}
		m.mu.Lock()
		c := m.conns[p.Connection]
		if c == nil || c.peer != from.Addr().Unmap() {
			m.strange++
			c = nil
		}
		m.mu.Unlock()
		if c != nil {
			c.came(&p, room[:n], now)
		}
	}
}

// listen has packets with an identifier go to a connection.
func (m *mouth) listen(id uint32, c *cyclic) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.conns[id] = c
}

func (m *mouth) forget(id uint32, c *cyclic) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.conns[id] == c {
		delete(m.conns, id)
	}
}

// group is a multicast group that is listened to, at a socket of its own: one that is bound
// to an address of this machine hears nothing that is for many.
type group struct {
	socket *net.UDPConn
	came   *precise.Arrivals
	users  int
}

// join enters a multicast group at the interface of the socket.
func (m *mouth) join(at netip.AddrPort) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if g := m.groups[at]; g != nil {
		g.users++
		return nil
	}
	var socket *net.UDPConn
	err := sharing(m.socket, func() (err error) {
		socket, err = net.ListenMulticastUDP("udp4", interfaceOf(m.at.Addr()), net.UDPAddrFromAddrPort(at))
		return err
	})
	if err != nil {
		return err
	}
	_ = socket.SetReadBuffer(heldPackets)
	g := &group{socket, precise.NewArrivals(socket), 1}
	m.groups[at] = g
	go m.take(g.came)
	return nil
}

// behind reports whether a packet may have arrived before a time, for this address or a
// group, that has not been taken in yet: this machine is short of time then.
func (m *mouth) behind(t time.Time, group netip.AddrPort) bool {
	if group.IsValid() {
		m.mu.Lock()
		g := m.groups[group]
		m.mu.Unlock()
		return g != nil && g.came.Behind(t)
	}
	return m.came.Behind(t)
}

func (m *mouth) part(at netip.AddrPort) {
	m.mu.Lock()
	defer m.mu.Unlock()
	g := m.groups[at]
	if g == nil {
		return
	}
	if g.users--; g.users == 0 {
		delete(m.groups, at)
		_ = g.socket.Close()
	}
}

// interfaceOf is that which has an address; nil for none, which is the usual one.
func interfaceOf(ip netip.Addr) *net.Interface {
	list, err := net.Interfaces()
	if err != nil {
		return nil
	}
	for i := range list {
		addresses, err := list[i].Addrs()
		if err != nil {
			continue
		}
		for _, a := range addresses {
			if prefix, err := netip.ParsePrefix(a.String()); err == nil && prefix.Addr() == ip {
				return &list[i]
			}
		}
	}
	return nil
}
