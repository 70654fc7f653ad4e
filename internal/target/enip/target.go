// Package enip is the answering end of cyclic connections of EtherNet/IP: it takes them,
// sends inputs in cycles and takes outputs in, for a stand-in as for Ferry itself.
package enip

import (
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"net"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/net/ipv4"

	family "ferry/internal/core/family/enip"
	"ferry/internal/core/protocol"
	"ferry/internal/precise"
	wire "ferry/internal/wire/enip"
)

// Device is whose connections they are.
type Device interface {
	// Settings are those of its answering end, and Identity who it is.
	Settings() protocol.Settings
	Identity() wire.Identity
	// Refuses says by which status it takes no connection now, whatever it is set to; 0
	// for none. owned is set where another owns its outputs already, and outs where this
	// one asks for them.
	Refuses(outs, owned bool) (status byte, extended []uint16)
	// Inputs appends so many octets of its inputs. run says whether they are of a program that
	// runs, and sends is false where nothing is sent now; late is by how much too late.
	Inputs(dst []byte, octets int, many bool) (data []byte, run, sends bool, late time.Duration)
	// Configured takes the configuration with which a connection was opened that has one.
	Configured(data []byte)
	// Outputs takes those of a client that is in run, and Lost is told when one with outputs
	// is gone.
	Outputs(client netip.AddrPort, data []byte)
	Lost(client netip.AddrPort)
}

// Target has the connections of a device.
type Target struct {
	device Device
	socket *net.UDPConn

	mu   sync.Mutex
	open map[uint32]*connection // by the identifier of what comes to it
	next int
}

// Most is how many connections a device takes.
const Most = 32

// New begins to answer, with packets through a port of an address: the one that is
// wanted, or a free one where another has it.
func New(d Device, ip netip.Addr, port uint16) (*Target, error) {
	socket, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(ip, port)))
	if err != nil && port != 0 {
		socket, err = net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(ip, 0)))
	}
	if err != nil {
		return nil, err
	}
	t := &Target{device: d, socket: socket, open: map[uint32]*connection{}}
	go t.take()
	return t, nil
}

// Close ends all connections.
func (t *Target) Close() error {
	t.mu.Lock()
	for id := range t.open {
		t.drop(id)
	}
	t.mu.Unlock()
	return t.socket.Close()
}

// Clients lists who has connections.
func (t *Target) Clients() (list []netip.AddrPort) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, c := range t.open {
		list = append(list, c.client)
	}
	return list
}

// connection is one of them.
type connection struct {
	of       *Target
	asked    wire.Open
	settings protocol.Settings // as it was opened
	id       uint32            // of what comes to it
	client   netip.AddrPort
	to       netip.AddrPort
	beat     *precise.Beat
	due      time.Time
	sequence uint32
	count    uint16
	heard    time.Time
	last     uint32 // sequence number of what came
	some     bool
	outs     bool // it brings outputs
	runs     bool // what it brought last was of a client in run
}

// Status is that of the identity of the device: whether it is owned, and what its
// connections do (volume 1, table 5A-2.4: bit 0, and bits 4 to 7).
func (t *Target) Status() (status uint16) {
	const owned, none, running, idle = 1, 3 << 4, 6 << 4, 7 << 4
	t.mu.Lock()
	defer t.mu.Unlock()
	does := uint16(none)
	for _, c := range t.open {
		if does == none {
			does = idle
		}
		if c.runs {
			does = running
		}
		if c.outs {
			status = owned
		}
	}
	return status | does
}

// paces sends the packets of all targets.
var paces precise.Pacer

// drop ends a connection. The lock is held.
func (t *Target) drop(id uint32) {
	c := t.open[id]
	if c == nil {
		return
	}
	delete(t.open, id)
	paces.Drop(c.beat)
	if c.outs {
		t.device.Lost(c.client)
	}
}

// asked is a connection as a question has it.
func asked(o *wire.Open) family.Asked {
	a := family.Asked{Class: int(o.Class), OutOctets: o.Out.Size, InOctets: o.In.Size, InEvery: o.In.Interval,
		Points: o.Path.Points, Config: o.Path.Instance, HasData: o.Path.HasData, Data: o.Path.Data}
	if a.Config < 0 && len(a.Points) == 3 {
		a.Config, a.Points = a.Points[0], a.Points[1:]
	}
	if k := o.Path.Key; k != nil {
		a.Key = &family.Key{Vendor: int(k.Vendor), Type: int(k.Type), Product: int(k.Product), Major: int(k.Major),
			Minor: int(k.Minor)}
		a.Compatible = k.Compatible
	}
	return a
}

// Open answers the question for a connection; items came with it, and more go with the
// answer.
func (t *Target) Open(o *wire.Open, client netip.AddrPort, items []wire.Item) (answer wire.Answer, more []wire.Item) {
	answer.Service = o.Service()
	a := asked(o)
	who := t.device.Identity()
	is := family.Key{Vendor: int(who.Vendor), Type: int(who.Type), Product: int(who.Product), Major: int(who.Major),
		Minor: int(who.Minor)}
	t.mu.Lock()
	defer t.mu.Unlock()
	owned := false
	for _, other := range t.open {
		owned = owned || other.outs
		if other.asked.Serial == o.Serial && other.asked.Vendor == o.Vendor && other.asked.Originator == o.Originator {
			answer.Status, answer.Extended = 0x01, []uint16{0x0100}
		}
	}
	settings := t.device.Settings()
	if answer.Status == 0 {
		answer.Status, answer.Extended = t.device.Refuses(!a.Listens(), owned)
	}
	if answer.Status == 0 && len(t.open) >= Most {
		answer.Status, answer.Extended = 0x01, []uint16{0x0113}
	}
	if answer.Status == 0 {
		answer.Status, answer.Extended = family.Takes(settings, is, &a)
	}
	if answer.Status == 0 && !a.Listens() && owned {
		answer.Status, answer.Extended = 0x01, []uint16{0x0106}
	}
	if answer.Status != 0 {
		answer.Data = (&wire.Refused{Serial: o.Serial, Vendor: o.Vendor, Originator: o.Originator}).Append(nil)
		return answer, nil
	}
	return t.begin(o, &a, settings, client, items)
}

// The least and the greatest identifiers that a target gives.
const (
	ofOutputs   = 0xC0000000
	ofMulticast = 0xD0000000
	ofOne       = 0x00FFFFFF
)

func (t *Target) begin(o *wire.Open, a *family.Asked, settings protocol.Settings, client netip.AddrPort,
	items []wire.Item) (answer wire.Answer, more []wire.Item) {
	t.next++
	c := &connection{of: t, asked: *o, settings: settings, id: rand.Uint32()&ofOne | ofOutputs, client: client,
		outs: !a.Listens() && family.Cyclic.Int(settings, family.KeyOutOctets) > 0}
	port := uint16(family.Cyclic.DatagramPort)
	for _, item := range items {
		if at, err := wire.ParseSocket(item.Data); err == nil && item.Type == wire.ItemSocketTO && at.Port() != 0 {
			port = at.Port()
		}
	}
	c.to = netip.AddrPortFrom(client.Addr(), port) // to no other machine than the one that asks
	here, _ := netip.ParseAddrPort(t.socket.LocalAddr().String())
	more = append(more, wire.Item{Type: wire.ItemSocketOT,
		Data: wire.AppendSocket(nil, netip.AddrPortFrom(netip.IPv4Unspecified(), here.Port()))})
	if o.In.Casting == wire.ToMany {
		c.asked.In.ID = rand.Uint32()&ofOne | ofMulticast
		c.to = netip.AddrPortFrom(groupOf(here.Addr(), t.next), port)
		more = append(more, wire.Item{Type: wire.ItemSocketTO, Data: wire.AppendSocket(nil, c.to)})
		if here.Addr().IsLoopback() {
			_ = ipv4.NewPacketConn(t.socket).SetMulticastInterface(loopback())
		}
	}
	if a.HasData {
		t.device.Configured(a.Data)
	}
	now := time.Now()
	c.heard, c.due = now, now
	t.open[c.id] = c
	answer = wire.Answer{Service: o.Service(), Data: (&wire.Opened{Out: c.id, In: c.asked.In.ID, Serial: o.Serial,
		Vendor: o.Vendor, Originator: o.Originator, OutEvery: o.Out.Interval, InEvery: o.In.Interval}).Append(nil)}
	// The first packet goes once the answer has.
	c.beat = &precise.Beat{Due: now.Add(2 * time.Millisecond), Act: c.act}
	paces.Add(c.beat)
	return answer, more
}

// groupOf is a multicast group for a connection, by the address of the device (volume 2,
// clause 3-5.3 gives each host its own; the range is 239.192.0.0/14).
func groupOf(ip netip.Addr, n int) netip.Addr {
	a := ip.As4()
	host := uint32(a[2])<<8 | uint32(a[3])
	low := host*32 + uint32(n%32)
	return netip.AddrFrom4([4]byte{239, 192 + byte(low>>16)&3, byte(low >> 8), byte(low)})
}

// loopback is the interface of this machine to itself; nil for the usual one.
func loopback() *net.Interface {
	list, err := net.Interfaces()
	if err != nil {
		return nil
	}
	for i := range list {
		if list[i].Flags&net.FlagLoopback != 0 {
			return &list[i]
		}
	}
	return nil
}

// End ends a connection by its number; false is that there is none such.
func (t *Target) End(e *wire.Close) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	for id, c := range t.open {
		if c.asked.Serial == e.Serial && c.asked.Vendor == e.Vendor && c.asked.Originator == e.Originator {
			t.drop(id)
			return true
		}
	}
	return false
}

// firstWithin is how long the first packet of outputs may take at least (volume 1, clause
// 3-4.6.1).
const firstWithin = 10 * time.Second

// act sends what is due, and drops the connection after too long a silence.
func (c *connection) act(now time.Time) time.Time {
	t := c.of
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.open[c.id] != c {
		return time.Time{}
	}
	limit := c.asked.TimesOut(&c.asked.Out)
	if !c.some {
		limit = max(limit, firstWithin)
	}
	if now.Sub(c.heard) > limit {
		t.drop(c.id)
		return time.Time{}
	}
	late := c.send()
	c.due = c.due.Add(c.asked.In.Interval)
	if now.Sub(c.due) > c.asked.In.Interval {
		c.due = now.Add(c.asked.In.Interval)
	}
	return c.due.Add(late)
}

// send sends the inputs.
func (c *connection) send() (late time.Duration) {
	s := c.settings
	head := family.Cyclic.Value(s, family.KeyInHead).On()
	size := c.asked.In.Size
	p := wire.Cyclic{Connection: c.asked.In.ID, Sequence: c.sequence + 1}
	if c.asked.Class == 1 {
		p.Data = binary.LittleEndian.AppendUint16(p.Data, c.count+1)
	}
	at := len(p.Data)
	if head {
		p.Data = append(p.Data, 0, 0, 0, 0)
	}
	data, run, sends, late := c.of.device.Inputs(p.Data, size-len(p.Data), c.asked.In.Casting == wire.ToMany)
	if !sends {
		return late
	}
	if p.Data = data; head && run {
		p.Data[at] = 1
	}
	c.sequence++
	c.count++
	_, _ = c.of.socket.WriteToUDPAddrPort(wire.AppendCyclic(nil, &p), c.to) // who is gone hears nothing
	return late
}

// take takes outputs in until the target is closed.
func (t *Target) take() {
	room := make([]byte, 1<<16)
	for {
		n, from, err := t.socket.ReadFromUDPAddrPort(room)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			continue // a port that is not reachable is told so
		}
		if p, err := wire.ParseCyclic(room[:n]); err == nil {
			t.came(&p, from.Addr().Unmap())
		}
	}
}

func (t *Target) came(p *wire.Cyclic, from netip.Addr) {
	t.mu.Lock()
	defer t.mu.Unlock()
	c := t.open[p.Connection]
	if c == nil || c.client.Addr() != from || c.some && int32(p.Sequence-c.last) <= 0 || len(p.Data) != c.asked.Out.Size {
		return
	}
	data := p.Data
	if c.asked.Class == 1 {
		if len(data) < 2 {
			return
		}
		data = data[2:]
	}
	runs := true
	if c.outs && family.Cyclic.Value(c.settings, family.KeyOutHead).On() {
		if len(data) < 4 {
			return
		}
		runs, data = data[0]&1 == 1, data[4:]
	}
	c.heard, c.last, c.some, c.runs = time.Now(), p.Sequence, true, c.outs && runs
	if c.outs && runs {
		t.device.Outputs(c.client, data)
	}
}
