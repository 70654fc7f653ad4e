package enip

import (
	"errors"
	"net/netip"
	"sync"
	"time"

	family "ferry/internal/core/family/enip"
	"ferry/internal/core/image"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
	target "ferry/internal/target/enip"
	wire "ferry/internal/wire/enip"
)

// Speech begins what Ferry says to one client as an answering end.
func (cyclicDriver) Speech(p *field.Post, c *field.Client) field.Speech {
	at, _ := netip.ParseAddrPort(c.From)
	s := &answering{post: p, at: netip.AddrPortFrom(at.Addr().Unmap(), at.Port())}
	s.end = wire.Endpoint{Grant: func() uint32 { return granted(s.at) }, Identity: s.identity, Message: s.message}
	shared, err := p.Shared(func() (any, func(), error) {
		a := &adapter{post: p, clients: map[netip.AddrPort]*field.Client{}}
		listen, err := netip.ParseAddrPort(p.Listen)
		if err != nil {
			listen = netip.AddrPortFrom(netip.IPv4Unspecified(), 0)
		}
		if a.target, err = target.New(a, listen.Addr(), uint16(family.Cyclic.DatagramPort)); err != nil {
			return nil, nil, err
		}
		return a, func() { _ = a.target.Close() }, nil
	})
	if err == nil {
		s.adapter, _ = shared.(*adapter)
	}
	s.client = c
	return s
}

// granted is a session for a client.
func granted(at netip.AddrPort) uint32 { return 0xFE000000 | uint32(at.Port()) }

// answering answers one client over TCP.
type answering struct {
	post    *field.Post
	client  *field.Client
	at      netip.AddrPort
	end     wire.Endpoint
	adapter *adapter // nil where no port is free for packets
}

// Length is that of the first frame, 0 while not all of it has come.
func (s *answering) Length(came []byte) (int, error) {
	n, err := wire.FrameLen(came)
	if n > len(came) {
		n = 0
	}
	return n, err
}

// Answer answers a frame.
func (s *answering) Answer(dst, request []byte) []byte {
	f, err := wire.ParseFrame(request)
	if err != nil {
		return dst
	}
	reply, silent, _ := s.end.Answer(&f)
	if silent {
		return dst
	}
	if reply.Status != 0 {
		s.client.Refuse()
	}
	return reply.Append(dst)
}

func (s *answering) identity() wire.Identity {
	if s.adapter != nil {
		return s.adapter.Identity()
	}
	return wire.Identity{Name: "Ferry"}
}

// message answers a message of the router.
func (s *answering) message(c *wire.Carried) (answer []byte, more []wire.Item) {
	r, err := wire.ParseRequest(c.Message)
	a := wire.Answer{Service: r.Service}
	switch {
	case err != nil:
		a.Status = 0x04
	case s.adapter == nil:
		a.Status = 0x02
	case r.Path.Class == wire.ClassConnection && (r.Service == wire.ForwardOpen || r.Service == wire.LargeForwardOpen):
		o, err := wire.ParseOpen(r.Data, r.Service == wire.LargeForwardOpen)
		if err != nil {
			a.Status = 0x13
			break
		}
		s.adapter.knows(s.at, s.client)
		a, more = s.adapter.target.Open(&o, s.at, c.Items)
	case r.Path.Class == wire.ClassConnection && r.Service == wire.ForwardClose:
		e, err := wire.ParseClose(r.Data)
		refused := wire.Refused{Serial: e.Serial, Vendor: e.Vendor, Originator: e.Originator}
		switch {
		case err != nil:
			a.Status = 0x13
		case s.adapter.target.End(&e):
			a.Data = (&wire.Closed{Serial: e.Serial, Vendor: e.Vendor, Originator: e.Originator}).Append(nil)
		default:
			a.Status, a.Extended, a.Data = 0x01, []uint16{0x0107}, refused.Append(nil)
		}
	case r.Path.Class == wire.ClassIdentity:
		id := s.identity()
		a.Status, a.Data = wire.AnswerWho(&r, &id)
	case r.Path.Class == wire.ClassAssembly && r.Service == wire.GetSingle:
		s.assembly(&r, &a)
	default:
		a.Status = 0x08
	}
	if a.Status != 0 {
		s.client.Refuse()
	}
	return a.Append(nil), more
}

// assembly gives the data of an instance (volume 1, clause 5A-5: attribute 3, its size 4).
func (s *answering) assembly(r *wire.Request, a *wire.Answer) {
	d, settings := s.adapter.device(), s.adapter.Settings()
	area, size := family.AreaIn, family.Cyclic.Int(settings, family.KeyInOctets)
	switch r.Path.Instance {
	case family.Cyclic.Int(settings, family.KeyInInstance):
	case family.Cyclic.Int(settings, family.KeyOutInstance):
		area, size = family.AreaOut, family.Cyclic.Int(settings, family.KeyOutOctets)
	default:
		a.Status = 0x16
		return
	}
	switch r.Path.Attribute {
	case 3:
		if d == nil || size == 0 {
			return
		}
		held, refusal := d.Read(s.client, nil, area, 0, min(size, d.Units(area)))
		if refusal != image.None && refusal != image.NoPlace {
			a.Status = 0x10
			return
		}
		a.Data = append(held, make([]byte, size-len(held))...)
	case 4:
		a.Data = []byte{byte(size), byte(size >> 8)}
	default:
		a.Status = 0x14
	}
}

// adapter is a device that Ferry is, with its cyclic connections.
type adapter struct {
	post   *field.Post
	target *target.Target

	mu      sync.Mutex
	clients map[netip.AddrPort]*field.Client // who has asked for connections
}

// mostKnown bounds those of whom is known that they have asked.
const mostKnown = 1000

func (a *adapter) knows(at netip.AddrPort, c *field.Client) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if len(a.clients) >= mostKnown {
		clear(a.clients) // who has connections still is known by its address
	}
	a.clients[at] = c
}

func (a *adapter) device() *field.Served { return a.post.End(0) }

// Settings are those of the device.
func (a *adapter) Settings() protocol.Settings {
	if d := a.device(); d != nil {
		return d.Settings(family.Cyclic.Name)
	}
	return nil
}

// Identity is who the plan says that the device is; without that a made-up one of no
// vendor.
func (a *adapter) Identity() wire.Identity {
	id := wire.Identity{Type: 43, Product: 1, Major: 1, Minor: 1, Status: a.target.Status(), State: 3, Name: "Ferry"}
	d := a.device()
	if d == nil {
		return id
	}
	name := d.Name()
	id.Name = name[:min(len(name), 32)]
	if is, ok := family.IdentityOf(family.Cyclic.Value(a.Settings(), family.KeyIdentity).Text()); ok {
		id.Vendor, id.Type, id.Product, id.Major, id.Minor = uint16(is.Vendor), uint16(is.Type), uint16(is.Product),
			uint8(is.Major), uint8(is.Minor)
	}
	return id
}

var errNothing = errors.New("nothing is carried into it yet")

// Refuses refuses connections while there is nothing to give, and outputs where clients may
// write nothing.
func (a *adapter) Refuses(outs, _ bool) (status byte, extended []uint16) {
	d := a.device()
	switch {
	case d == nil:
		return 0x10, nil
	case outs && d.ReadOnly():
		return 0x0F, nil
	}
	if _, err := a.inputs(d, nil, d.Units(family.AreaIn)); err != nil {
		return 0x10, nil // a point has no value yet
	}
	return 0, nil
}

func (a *adapter) inputs(d *field.Served, dst []byte, octets int) ([]byte, error) {
	if octets == 0 {
		return dst, nil
	}
	data, refusal := d.Read(nil, dst, family.AreaIn, 0, octets)
	if refusal != image.None {
		return dst, errNothing
	}
	return data, nil
}

// Inputs gives what crossings have carried into the inputs. Where a point has lost its value
// the inputs are idle.
func (a *adapter) Inputs(dst []byte, octets int, _ bool) (data []byte, run, sends bool, late time.Duration) {
	d := a.device()
	if d == nil {
		return dst, false, false, 0
	}
	at := len(dst)
	data, err := a.inputs(d, dst, min(octets, d.Units(family.AreaIn)))
	if err != nil {
		data = dst
	}
	return append(data, make([]byte, octets-(len(data)-at))...), err == nil, true, 0
}

// Configured leaves a configuration aside: its size has been looked at, and nothing here
// is set by it.
func (a *adapter) Configured([]byte) {}

// Outputs takes what a client sends in run.
func (a *adapter) Outputs(client netip.AddrPort, data []byte) {
	d := a.device()
	if d == nil {
		return
	}
	a.mu.Lock()
	c := a.clients[client]
	if c == nil {
		c = &field.Client{From: client.String(), Since: time.Now()}
		a.clients[client] = c
	}
	a.mu.Unlock()
	d.Replace(c, family.AreaOut, data)
}

// Lost leaves the outputs as they are: what they stand for is the plant's to say.
func (a *adapter) Lost(netip.AddrPort) {}
