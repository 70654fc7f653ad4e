package enip

import (
	"encoding/binary"
	"log"
	"math/rand/v2"
	"net"
	"net/netip"
	"runtime/debug"
	"sync"
	"time"

	"golang.org/x/net/ipv4"

	"ferry/internal/bench"
	family "ferry/internal/core/family/enip"
	"ferry/internal/core/protocol"
	"ferry/internal/precise"
	wire "ferry/internal/wire/enip"
)

func init() { bench.Register(family.Cyclic.Name, cyclicSpeech{}) }

type cyclicSpeech struct{ speech }

// Faults are those of a device with cyclic connections, besides those of one that is asked
// explicitly.
func (cyclicSpeech) Faults() []bench.FaultKind {
	tcp := []bench.Place{bench.OverTCP}
	return []bench.FaultKind{
		{Kind: "session", Title: "grants no session", Places: tcp},
		{Kind: "connections", Title: "has no connection free", Places: tcp},
		{Kind: "context", Title: "answers with another context", Places: tcp},
		{Kind: "unrestarted", Title: "was set up and not restarted", Places: tcp},
		{Kind: "set-up", Title: "is in set-up mode", Places: tcp},
		{Kind: "idle", Title: "never says that it is in run", Places: tcp},
		{Kind: "owned", Title: "is owned by another", Places: tcp},
		{Kind: "swallowed", Title: "its multicast is swallowed by a switch", Places: tcp},
		{Kind: "header", Title: "counts the run/idle header the other way", Places: tcp},
		{Kind: "resized", Title: "takes more octets than its list says", Unit: "octets", Default: 4, Least: 1, Most: 200, Places: tcp},
		{Kind: "regiven", Title: "gives more octets than its list says", Unit: "octets", Default: 4, Least: 1, Most: 200, Places: tcp},
		{Kind: "jitter", Title: "sends unevenly", Unit: "ms", Default: 60, Least: 1, Most: 10_000, Places: tcp},
		{Kind: "mute", Title: "stops sending", Places: tcp},
		{Kind: "rekeyed", Title: "is another product", Places: tcp},
		{Kind: "slow-cycle", Title: "cannot send as often", Unit: "ms", Default: 500, Least: 2, Most: 10_000, Places: tcp},
	}
}

// Host begins a device: it answers over TCP, and sends over a UDP port of its own.
func (cyclicSpeech) Host(of *bench.Simulated, fault func() bench.Fault) (bench.Host, error) {
	socket, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		return nil, err
	}
	a := &adapter{device: of, fault: fault, socket: socket, open: map[uint32]*channel{}}
	go a.take()
	return a, nil
}

// adapter is such a device. Its connections are those of all its clients.
type adapter struct {
	device *bench.Simulated
	fault  func() bench.Fault
	socket *net.UDPConn

	mu   sync.Mutex
	open map[uint32]*channel // by the identifier of what comes to it
	next uint32
}

// channel is one cyclic connection.
type channel struct {
	of           *adapter
	ask          wire.Open
	id           uint32 // of what comes to it
	client       netip.Addr
	to           netip.AddrPort
	beat         *precise.Beat
	due          time.Time
	sequence     uint32
	count        uint16
	heard        time.Time
	last         uint32 // sequence number of what came
	some         bool
	outs         bool // it brings outputs
	givesHead    bool
	wantsHead    bool
	gives, takes int
}

var paces precise.Pacer

// Close ends all connections.
func (a *adapter) Close() error {
	a.mu.Lock()
	for id := range a.open {
		a.drop(id)
	}
	a.mu.Unlock()
	return a.socket.Close()
}

// drop ends a connection. The lock is held.
func (a *adapter) drop(id uint32) {
	if c := a.open[id]; c != nil {
		delete(a.open, id)
		paces.Drop(c.beat)
	}
}

// Take has a connection over TCP until that ends.
func (a *adapter) Take(c net.Conn) {
	client, err := netip.ParseAddrPort(c.RemoteAddr().String())
	if err != nil {
		return
	}
	t := &talk{device: a.device, adapter: a, client: client.Addr().Unmap()}
	var came []byte
	room := make([]byte, 4096)
	for turn := 0; ; {
		n, err := t.Length(came)
		if err != nil || len(came) > 1<<17 {
			return
		}
		if n == 0 {
			got, err := c.Read(room)
			if err != nil {
				return
			}
			came = append(came, room[:got]...)
			continue
		}
		turn++
		answer, ends := t.Answer(came[:n:n], a.fault(), turn)
		came = append(came[:0:0], came[n:]...)
		if len(answer) > 0 {
			if _, err := c.Write(answer); err != nil {
				return
			}
		}
		if ends {
			return
		}
	}
}

func (a *adapter) setting(key string) protocol.Scalar {
	return family.Cyclic.Value(a.device.Settings, key)
}

// keyFits compares an electronic key with who the device is; 0 is that it fits.
func keyFits(k *wire.Key, id *wire.Identity) (extended uint16) {
	if k == nil {
		return 0
	}
	asked := family.Key{Vendor: int(k.Vendor), Type: int(k.Type), Product: int(k.Product), Major: int(k.Major), Minor: int(k.Minor)}
	return asked.Fits(family.Key{Vendor: int(id.Vendor), Type: int(id.Type), Product: int(id.Product), Major: int(id.Major), Minor: int(id.Minor)},
		k.Compatible)
}

// connect opens a cyclic connection, or says why not (volume 1, table 3-5.29).
func (a *adapter) connect(t *talk, o *wire.Open, answer *wire.Answer, fault bench.Fault) {
	refuse := func(extended ...uint16) {
		answer.Status, answer.Extended = 0x01, extended
		answer.Data = (&wire.Refused{Serial: o.Serial, Vendor: o.Vendor, Originator: o.Originator}).Append(nil)
	}
	id := t.identity(fault)
	c := &channel{of: a, ask: *o, client: t.client, gives: a.setting(family.KeyInOctets).Int(), takes: a.setting(family.KeyOutOctets).Int(),
		givesHead: a.setting(family.KeyInHead).On(), wantsHead: a.setting(family.KeyOutHead).On()}
	switch fault.Kind {
	case "header":
		c.wantsHead = !c.wantsHead
	case "resized":
		c.takes += fault.Value
	case "regiven":
		c.gives += fault.Value
	}
	extra := 0
	if o.Class == 1 {
		extra = 2
	}
	head := func(has bool) int {
		if has {
			return 4
		}
		return 0
	}
	wantsOut, wantsIn := c.takes+head(c.wantsHead)+extra, c.gives+head(c.givesHead)+extra
	heartbeat := o.Out.Size <= extra
	points := o.Path.Points
	least := time.Duration(a.setting(family.KeyLeast).Int()) * time.Millisecond
	if fault.Kind == "slow-cycle" {
		least = time.Duration(fault.Value) * time.Millisecond
	}
	wants, size := a.setting(family.KeyWants).Text(), a.setting(family.KeyWantsSize).Int()
	at := o.Path.Instance
	if at < 0 && len(points) == 3 {
		at, points = points[0], points[1:]
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	owned := fault.Kind == "owned"
	for _, other := range a.open {
		owned = owned || other.outs
	}
	switch extended := keyFits(o.Path.Key, &id); {
	case fault.Kind == "set-up":
		answer.Status = 0x10
	case fault.Kind == "unrestarted":
		refuse(0x0110)
	case fault.Kind == "connections" || len(a.open) >= mostOpen:
		refuse(0x0113)
	case o.Class > 1:
		refuse(0x0103)
	case extended != 0:
		refuse(extended)
	case len(points) != 2:
		refuse(0x0117)
	case points[0] != a.setting(family.KeyOutInstance).Int():
		refuse(0x012A)
	case points[1] != a.setting(family.KeyInInstance).Int():
		refuse(0x012B)
	case at > 0 && at != a.setting(family.KeyConfigAt).Int():
		refuse(0x0129)
	case wants == family.ConfigEmpty && (!o.Path.HasData || len(o.Path.Data) > 0), wants == family.ConfigData && (!o.Path.HasData || len(o.Path.Data) != size+size%2),
		wants == family.ConfigNone && o.Path.HasData && len(o.Path.Data) > 0:
		refuse(0x0126, uint16(size))
	case !heartbeat && owned:
		refuse(0x0106)
	case !heartbeat && o.Out.Size != wantsOut:
		refuse(0x0127, uint16(wantsOut))
	case o.In.Size != wantsIn:
		refuse(0x0128, uint16(wantsIn))
	case o.In.Interval < least:
		us := uint32(least / time.Microsecond)
		refuse(0x0111, uint16(us), uint16(us>>16))
	default:
		c.outs = !heartbeat && c.takes > 0
		a.begin(t, c, answer)
	}
}

// begin takes a connection. The lock is held.
func (a *adapter) begin(t *talk, c *channel, answer *wire.Answer) {
	a.next++
	c.id = rand.Uint32()&0x00FFFFFF | 0xC0000000
	in := c.ask.In.ID
	port := uint16(2222)
	for _, item := range t.items {
		if at, err := wire.ParseSocket(item.Data); err == nil && item.Type == wire.ItemSocketTO && at.Port() != 0 {
			port = at.Port()
		}
	}
	c.to = netip.AddrPortFrom(c.client, port)
	here, _ := netip.ParseAddrPort(a.socket.LocalAddr().String())
	t.more = append(t.more, wire.Item{Type: wire.ItemSocketOT, Data: wire.AppendSocket(nil, netip.AddrPortFrom(netip.IPv4Unspecified(), here.Port()))})
	if c.ask.In.Casting == wire.ToMany {
		in = rand.Uint32()&0x00FFFFFF | 0xD0000000
		c.to = netip.AddrPortFrom(netip.AddrFrom4([4]byte{239, 192, 1, byte(32 + a.next%200)}), port)
		t.more = append(t.more, wire.Item{Type: wire.ItemSocketTO, Data: wire.AppendSocket(nil, c.to)})
		_ = ipv4.NewPacketConn(a.socket).SetMulticastInterface(&net.Interface{Index: 1}) // loopback, where it is the first as usual
	}
	c.ask.In.ID = in
	now := time.Now()
	c.heard, c.due = now, now
	a.open[c.id] = c
	answer.Data = (&wire.Opened{Out: c.id, In: in, Serial: c.ask.Serial, Vendor: c.ask.Vendor, Originator: c.ask.Originator,
		OutEvery: c.ask.Out.Interval, InEvery: c.ask.In.Interval}).Append(nil)
	// The first packet goes once the answer has.
	c.beat = &precise.Beat{Due: now.Add(2 * time.Millisecond), Act: c.act}
	paces.Add(c.beat)
}

// assembly is the data of an instance (volume 1, clause 5A-5: attribute 3, its size 4).
func (a *adapter) assembly(instance int) (data []byte, ok bool) {
	area, size := family.AreaIn, a.setting(family.KeyInOctets).Int()
	switch instance {
	case a.setting(family.KeyInInstance).Int():
	case a.setting(family.KeyOutInstance).Int():
		area, size = family.AreaOut, a.setting(family.KeyOutOctets).Int()
	default:
		return nil, false
	}
	data, _ = a.device.Memory.Read(area, 0, min(size, a.device.Memory.Units(area)))
	return append(data, make([]byte, size-len(data))...), true
}

// disconnect ends a connection by its number; false is that it has none such.
func (a *adapter) disconnect(e *wire.Close) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	for id, c := range a.open {
		if c.ask.Serial == e.Serial && c.ask.Vendor == e.Vendor && c.ask.Originator == e.Originator {
			a.drop(id)
			return true
		}
	}
	return false
}

// act sends what is due, and drops the connection after too long a silence.
func (c *channel) act(now time.Time) time.Time {
	a := c.of
	fault := a.fault()
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.open[c.id] != c {
		return time.Time{}
	}
	limit := c.ask.TimesOut(&c.ask.Out)
	if !c.some {
		limit = max(limit, 10*time.Second) // until the first has come (volume 1, clause 3-4.6.1)
	}
	if now.Sub(c.heard) > limit {
		a.drop(c.id)
		return time.Time{}
	}
	if fault.Kind != "mute" && fault.Kind != "off" && fault.Kind != "stop" && fault.Kind != "silent" {
		c.send(fault)
	}
	c.due = c.due.Add(c.ask.In.Interval)
	if now.Sub(c.due) > c.ask.In.Interval {
		c.due = now.Add(c.ask.In.Interval)
	}
	if fault.Kind == "jitter" {
		return c.due.Add(time.Duration(rand.IntN(fault.Value+1)) * time.Millisecond)
	}
	return c.due
}

func (c *channel) send(fault bench.Fault) {
	if fault.Kind == "swallowed" && c.ask.In.Casting == wire.ToMany {
		return
	}
	data, _ := c.of.device.Memory.Read(family.AreaIn, 0, min(c.gives, c.of.device.Memory.Units(family.AreaIn)))
	data = append(data, make([]byte, c.gives-len(data))...)
	c.sequence++
	c.count++
	p := wire.Cyclic{Connection: c.ask.In.ID, Sequence: c.sequence}
	if c.ask.Class == 1 {
		p.Data = binary.LittleEndian.AppendUint16(p.Data, c.count)
	}
	if c.givesHead {
		run := byte(1)
		if fault.Kind == "idle" {
			run = 0
		}
		p.Data = append(p.Data, run, 0, 0, 0)
	}
	p.Data = append(p.Data, data...)
	_, _ = c.of.socket.WriteToUDPAddrPort(wire.AppendCyclic(nil, &p), c.to) // who is gone hears nothing
}

// take takes outputs in until the device is closed.
func (a *adapter) take() {
	defer func() {
		if p := recover(); p != nil { // of a defect here: nothing more is taken in
			log.Printf("stand-in: %v\n%s", p, debug.Stack())
		}
	}()
	room := make([]byte, 1<<16)
	for {
		n, from, err := a.socket.ReadFromUDPAddrPort(room)
		if err != nil {
			return
		}
		if p, err := wire.ParseCyclic(room[:n]); err == nil {
			a.came(&p, from.Addr().Unmap())
		}
	}
}

func (a *adapter) came(p *wire.Cyclic, from netip.Addr) {
	a.mu.Lock()
	defer a.mu.Unlock()
	c := a.open[p.Connection]
	if c == nil || c.client != from || c.some && int32(p.Sequence-c.last) <= 0 {
		return
	}
	data := p.Data
	if c.ask.Class == 1 && len(data) >= 2 {
		data = data[2:]
	}
	runs := true
	if c.wantsHead && c.outs && len(data) >= 4 {
		runs, data = data[0]&1 == 1, data[4:]
	}
	c.heard, c.last, c.some = time.Now(), p.Sequence, true
	if c.outs && runs && len(data) == c.takes {
		a.device.Memory.Write(family.AreaOut, 0, data[:min(len(data), a.device.Memory.Units(family.AreaOut))])
	}
}
