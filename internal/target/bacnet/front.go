package bacnet

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"sync"
	"time"

	wire "ferry/internal/wire/bacnet"
)

// Front is a place at which devices answer: one that has the address itself, and others in networks behind it,
// to which it is the router. Devices of other subnets may have their broadcasts brought by it.
type Front struct {
	carrier Carrier

	mu      sync.Mutex
	devices map[wire.Station]*Server
	foreign map[netip.AddrPort]foreigner
	peers   []netip.AddrPort // who do the same in other subnets
}

// Carrier carries datagrams: Send to one place, Broadcast to all of this subnet. Twice, where it is there, is told who
// else says that it has the instance of a device here.
type Carrier struct {
	Send      func(to netip.AddrPort, datagram []byte)
	Broadcast func(datagram []byte)
	Twice     func(s *Server, from netip.AddrPort, behind wire.Station)
}

// foreigner is a device of another subnet that has its broadcasts brought.
type foreigner struct {
	seconds uint16
	until   time.Time
}

// Bounds of what is kept for foreign devices.
const (
	mostForeign    = 128
	graceOfForeign = 30 * time.Second // annex J.5.2.3
)

// NewFront returns a place without devices.
func NewFront(c Carrier) *Front {
	return &Front{carrier: c, devices: map[wire.Station]*Server{}, foreign: map[netip.AddrPort]foreigner{}}
}

// Put has a device answer here, as its station; Remove has it answer no more.
func (f *Front) Put(s *Server) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.devices[s.station] = s
}

// Remove is as Put.
func (f *Front) Remove(s *Server) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.devices[s.station] == s {
		delete(f.devices, s.station)
	}
}

// Join has broadcasts brought to others who do the same in their subnets, and theirs taken (annex J.4.5).
func (f *Front) Join(peers []netip.AddrPort) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.peers = peers
}

// joined lists them.
func (f *Front) joined() []netip.AddrPort {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.peers
}

// Announce tells all networks that a device is there.
func (f *Front) Announce(s *Server) { f.toAll(s.station, s.presence()) }

// Seek asks all networks who else has the instance of a device here.
func (f *Front) Seek(s *Server) {
	is := s.instance()
	m := wire.Message{Kind: wire.Unconfirmed, Service: wire.WhoIs,
		Body: wire.AppendWhoIs(nil, wire.Range{First: is, Last: is})}
	f.toAll(s.station, m.Append(nil))
}

// toAll sends a message to all networks.
func (f *Front) toAll(from wire.Station, body []byte) {
	n := wire.Network{To: wire.Station{Network: wire.EveryNetwork}, From: from, Carries: true, Body: body}
	octets := n.Append(nil)
	f.carrier.Broadcast((&wire.Link{Function: wire.Broadcast, NPDU: octets}).Append(nil))
	f.spread(netip.AddrPort{}, netip.AddrPort{}, &wire.Link{NPDU: octets}, false)
}

// Hear takes a datagram. What is none of BACnet/IP is left alone.
func (f *Front) Hear(from netip.AddrPort, datagram []byte) {
	l, err := wire.ParseLink(datagram)
	if err != nil {
		return
	}
	switch l.Function {
	case wire.Unicast:
		f.network(from, &l, false)
	case wire.Broadcast:
		f.spread(from, from, &l, false)
		f.network(from, &l, true)
	case wire.Distribute:
		if !f.knows(from) {
			f.result(from, wire.DistributeRefused)
			return
		}
		f.spread(from, from, &l, true)
		f.network(from, &l, true)
	case wire.Forwarded:
		if !l.From.IsValid() || !l.From.Addr().IsValid() {
			return
		}
		if slices.Contains(f.joined(), from) { // it is of another subnet, and goes to all of this one
			f.brings(l.From, from, &l, f.foreigners())
			f.carrier.Broadcast(datagram)
		}
		f.network(l.From, &l, true)
	case wire.RegisterForeign, wire.DeleteForeign:
		f.result(from, f.registers(from, &l))
	case wire.ReadForeign:
		answer := wire.Link{Function: wire.ReadForeignAck, Table: f.foreigners()}
		f.carrier.Send(from, answer.Append(nil))
	case wire.ReadTable:
		answer := wire.Link{Function: wire.ReadTableAck}
		for _, at := range f.joined() {
			answer.Table = append(answer.Table, wire.Entry{At: at, Mask: [4]byte{255, 255, 255, 255}})
		}
		f.carrier.Send(from, answer.Append(nil))
	case wire.WriteTable:
		f.result(from, wire.WriteTableRefused)
	}
}

func (f *Front) result(to netip.AddrPort, result uint16) {
	f.carrier.Send(to, (&wire.Link{Function: wire.LinkResult, Result: result}).Append(nil))
}

// registers takes a foreign device, or gives one up.
func (f *Front) registers(from netip.AddrPort, l *wire.Link) (result uint16) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.sweep()
	if l.Function == wire.DeleteForeign {
		if _, known := f.foreign[l.Table[0].At]; !known {
			return wire.DeleteForeignRefused
		}
		delete(f.foreign, l.Table[0].At)
		return wire.LinkDone
	}
	if len(f.foreign) >= mostForeign && f.foreign[from].until.IsZero() {
		return wire.RegisterRefused
	}
	f.foreign[from] = foreigner{l.Seconds, time.Now().Add(time.Duration(l.Seconds)*time.Second + graceOfForeign)}
	return wire.LinkDone
}

// sweep gives up foreign devices whose time is over. The lock is held.
func (f *Front) sweep() {
	now := time.Now()
	for at, each := range f.foreign {
		if now.After(each.until) {
			delete(f.foreign, at)
		}
	}
}

func (f *Front) knows(at netip.AddrPort) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.sweep()
	_, known := f.foreign[at]
	return known
}

func (f *Front) foreigners() (table []wire.Entry) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.sweep()
	for at, each := range f.foreign {
		left := max(0, time.Until(each.until)/time.Second)
		table = append(table, wire.Entry{At: at, Seconds: each.seconds, Left: uint16(min(left, 65535))})
	}
	slices.SortFunc(table, func(a, b wire.Entry) int { return a.At.Compare(b.At) })
	return table
}

// spread brings a broadcast to the foreign devices but the one from which it came, and to other subnets, and one
// of theirs to this subnet (annex J.4.5).
func (f *Front) spread(from, but netip.AddrPort, l *wire.Link, here bool) {
	b := f.brings(from, but, l, append(f.foreigners(), entries(f.joined())...))
	if here {
		f.carrier.Broadcast(b)
	}
}

func entries(list []netip.AddrPort) (table []wire.Entry) {
	for _, at := range list {
		table = append(table, wire.Entry{At: at})
	}
	return table
}

// brings sends a broadcast to some places, but not to where it came from, and returns it as it is sent.
func (f *Front) brings(from, but netip.AddrPort, l *wire.Link, table []wire.Entry) []byte {
	b := (&wire.Link{Function: wire.Forwarded, From: from, NPDU: l.NPDU}).Append(nil)
	for i := range table {
		if at := table[i].At; at != but && at != from {
			f.carrier.Send(at, b)
		}
	}
	return b
}

// network takes what is in a message of the link.
func (f *Front) network(from netip.AddrPort, l *wire.Link, all bool) {
	n, err := wire.ParseNetwork(l.NPDU, l.NPDUAt)
	if err != nil {
		return
	}
	if !n.Carries {
		f.routes(from, &n)
		return
	}
	m, err := wire.ParseMessage(n.Body, n.BodyAt)
	if err != nil {
		return
	}
	hear, known := f.meant(&n)
	if !known && !all {
		f.rejects(from, n.To.Network)
		return
	}
	all = all || n.To.Network != 0 && n.To.Address == ""
	if m.Kind == wire.Unconfirmed && m.Service == wire.IAm && f.carrier.Twice != nil {
		f.claimed(from, &n, &m)
	}
	for _, s := range hear {
		s.hear(asker{from, n.From, m.Invoke}, &m, all)
	}
}

// claimed hears that somebody has an instance.
func (f *Front) claimed(from netip.AddrPort, n *wire.Network, m *wire.Message) {
	is, err := wire.ParseIAm(m.Body, m.BodyAt)
	if err != nil {
		return
	}
	f.mu.Lock()
	var same []*Server
	for _, s := range f.devices {
		if s.instance() == is.Device.Instance() {
			same = append(same, s)
		}
	}
	f.mu.Unlock()
	for _, s := range same {
		f.carrier.Twice(s, from, n.From)
	}
}

// meant lists the devices that a message goes to; known is whether there is such a network.
func (f *Front) meant(n *wire.Network) (list []*Server, known bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if s := f.devices[n.To]; s != nil {
		return []*Server{s}, true
	}
	known = n.To.Network == 0 || n.To.Network == wire.EveryNetwork
	for station, s := range f.devices {
		inside := station.Network == n.To.Network
		known = known || inside
		if n.To.Network == wire.EveryNetwork || inside && n.To.Address == "" {
			list = append(list, s)
		}
	}
	return list, known
}

// routes answers what is asked of a router (clause 6.4).
func (f *Front) routes(from netip.AddrPort, n *wire.Network) {
	if n.Message != wire.WhoIsRouter {
		return
	}
	var numbers []uint16
	sought := n.Networks()
	f.mu.Lock()
	for station := range f.devices {
		if station.Network != 0 && !slices.Contains(numbers, station.Network) &&
			(len(sought) == 0 || slices.Contains(sought, station.Network)) {
			numbers = append(numbers, station.Network)
		}
	}
	f.mu.Unlock()
	if len(numbers) == 0 {
		return
	}
	slices.Sort(numbers)
	answer := wire.Network{Message: wire.IAmRouter}
	for _, number := range numbers {
		answer.Body = binary.BigEndian.AppendUint16(answer.Body, number)
	}
	octets := answer.Append(nil)
	f.carrier.Broadcast((&wire.Link{Function: wire.Broadcast, NPDU: octets}).Append(nil))
	f.carrier.Send(from, (&wire.Link{Function: wire.Unicast, NPDU: octets}).Append(nil)) // who asks may hear no broadcast
}

// noRoute is the reason that there is no way to a network (clause 6.4.4).
const noRoute = 1

func (f *Front) rejects(to netip.AddrPort, network uint16) {
	n := wire.Network{Message: wire.RejectToNetwork, Body: binary.BigEndian.AppendUint16([]byte{noRoute}, network)}
	f.carrier.Send(to, (&wire.Link{Function: wire.Unicast, NPDU: n.Append(nil)}).Append(nil))
}
