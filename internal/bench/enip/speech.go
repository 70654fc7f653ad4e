// Package enip is how a simulated device answers explicit messages of EtherNet/IP: a
// controller with tags, or a device with objects.
package enip

import (
	"cmp"
	"encoding/binary"
	"net/netip"

	"ferry/internal/bench"
	family "ferry/internal/core/family/enip"
	wire "ferry/internal/wire/enip"
)

func init() { bench.Register(family.Explicit.Name, speech{}) }

type speech struct{}

// Faults of a device that is asked explicitly.
func (speech) Faults() []bench.FaultKind {
	tcp := []bench.Place{bench.OverTCP}
	return []bench.FaultKind{
		{Kind: "session", Title: "grants no session", Places: tcp},
		{Kind: "retyped", Title: "has its tags with other types", Places: tcp},
		{Kind: "renamed", Title: "has other tags", Places: tcp},
		{Kind: "setup", Title: "is being set up: nothing can be written", Places: tcp},
		{Kind: "connections", Title: "has no connection free", Places: tcp},
		{Kind: "context", Title: "answers with another context", Places: tcp},
		{Kind: "singly", Title: "takes one question in a message", Places: tcp, Habit: true},
	}
}

func (speech) Talk(of *bench.Simulated) bench.Talk { return &talk{device: of} }

// talk is one connection.
type talk struct {
	device  *bench.Simulated
	session uint32
	// open are connections for messages, by the identifier that they have here; what comes
	// back has that of the asking end.
	open map[uint32]*opened
	next uint32
	// adapter has the cyclic connections, where the device takes such; client is who asks,
	// items came with the message, and more go with the answer.
	adapter *adapter
	client  netip.AddrPort
	items   []wire.Item
	more    []wire.Item
}

type opened struct {
	back   uint32
	serial uint16
	count  uint16
	answer []byte // to the last message, for who asks again
}

func (t *talk) Length(came []byte) (int, error) {
	n, err := wire.FrameLen(came)
	if err != nil || n > len(came) {
		return 0, err
	}
	return n, nil
}

func (t *talk) Answer(request []byte, fault bench.Fault, _ int) (answer []byte, ends bool) {
	f, err := wire.ParseFrame(request)
	if err != nil {
		return nil, true
	}
	e := wire.Endpoint{Session: t.session, Identity: func() wire.Identity { return t.identity(fault) },
		Grant: func() uint32 {
			if fault.Kind == "session" {
				return 0
			}
			return 0x5EA00001
		},
		Message: func(c *wire.Carried) ([]byte, []wire.Item) {
			t.items, t.more = c.Items, nil
			return t.message(c.Message, fault), t.more
		},
		Connected: func(c *wire.Carried) ([]byte, bool) {
			o := t.open[c.Connection]
			if o == nil {
				return nil, false
			}
			if o.answer == nil || o.count != c.Count {
				o.answer, o.count = t.message(c.Message, fault), c.Count
			}
			return wire.AppendConnected(nil, o.back, c.Count, o.answer), true
		}}
	reply, silent, ends := e.Answer(&f)
	if t.session = e.Session; silent {
		return nil, ends
	}
	if fault.Kind == "context" && f.Command == wire.SendRRData {
		reply.Context[0] ^= 0xFF
	}
	answer = reply.Append(nil)
	switch fault.Kind {
	case "garbage":
		answer = bench.Garbage(len(answer))
	case "short":
		answer = answer[:len(answer)-2]
	case "long":
		answer = append(answer, 0xDE, 0xAD)
	}
	return answer, false
}

// identity is who the device is: of a made-up vendor.
func (t *talk) identity(fault bench.Fault) wire.Identity {
	name := cmp.Or(t.device.Identity, "simulated device")
	serial := uint32(0)
	for _, c := range []byte(name) {
		serial = serial*31 + uint32(c)
	}
	is := family.Key{Vendor: 0x04D2, Type: 14, Product: len(name), Major: 1, Minor: 4}
	if t.adapter != nil {
		is.Type = 43
		if stated, ok := family.IdentityOf(t.adapter.setting(family.KeyIdentity).Text()); ok {
			is = stated
		}
	}
	status := uint16(0x0030) // without cyclic connections
	if t.adapter != nil {
		status = t.adapter.target.Status()
	}
	if fault.Kind == "rekeyed" {
		is.Product++
	}
	return wire.Identity{Vendor: uint16(is.Vendor), Type: uint16(is.Type), Product: uint16(is.Product),
		Major: uint8(is.Major), Minor: uint8(is.Minor),
		Status: status, Serial: serial, Name: name[:min(len(name), 32)], State: 3}
}

// message answers a message of the router.
func (t *talk) message(m []byte, fault bench.Fault) []byte {
	r, err := wire.ParseRequest(m)
	a := wire.Answer{Service: r.Service}
	if err != nil {
		a.Status = 0x04
		return a.Append(nil)
	}
	switch {
	case r.Service == wire.Multiple && r.Path.Class == wire.ClassRouter:
		t.several(&r, &a, fault)
	case r.Service == wire.ReadPart && r.Path.Class == wire.ClassConnection:
		return t.passedOn(&r, &a, fault)
	case r.Path.Class == wire.ClassConnection && (r.Service == wire.ForwardOpen || r.Service == wire.LargeForwardOpen):
		t.connect(&r, &a, fault)
	case r.Path.Class == wire.ClassConnection && r.Service == wire.ForwardClose:
		t.disconnect(&r, &a)
	case len(r.Path.Names) > 0:
		t.tag(&r, &a, fault)
	case r.Service == wire.ListTags && r.Path.Class == wire.ClassSymbol:
		t.tags(&r, &a)
	default:
		t.object(&r, &a, fault)
	}
	return a.Append(nil)
}

// several answers several questions in one message.
func (t *talk) several(r *wire.Request, a *wire.Answer, fault bench.Fault) {
	messages, err := wire.ParseMultiple(r.Data)
	switch {
	case fault.Kind == "singly":
		a.Status = 0x08
		return
	case err != nil:
		a.Status = 0x13
		return
	}
	var list [][]byte
	for _, m := range messages {
		answer := t.message(m, fault)
		if answer[2] != 0 {
			a.Status = 0x1E
		}
		list = append(list, answer)
	}
	a.Data = wire.AppendMultiple(nil, list...)
}

// mostOpen is how many connections for messages a client may have.
const mostOpen = 4

// connect opens a connection for messages.
func (t *talk) connect(r *wire.Request, a *wire.Answer, fault bench.Fault) {
	o, err := wire.ParseOpen(r.Data, r.Service == wire.LargeForwardOpen)
	refuse := func(extended uint16) {
		a.Status, a.Extended = 0x01, []uint16{extended}
		a.Data = (&wire.Refused{Serial: o.Serial, Vendor: o.Vendor, Originator: o.Originator}).Append(nil)
	}
	switch {
	case err != nil:
		a.Status = 0x13
	case t.adapter != nil && o.Class < 2:
		*a, t.more = t.adapter.target.Open(&o, t.client, t.items)
	case fault.Kind == "connections" || len(t.open) >= mostOpen:
		refuse(0x0113)
	case o.Class != 3 || o.Path.Class != wire.ClassRouter:
		refuse(0x0103)
	case len(o.Path.Ports) > 1 || len(o.Path.Ports) == 1 && o.Path.Ports[0] != [2]int{1, 0}:
		refuse(0x0312)
	default:
		if t.open == nil {
			t.open = map[uint32]*opened{}
		}
		t.next++
		id := 0xB0000000 | t.next
		t.open[id] = &opened{back: o.In.ID, serial: o.Serial}
		a.Data = (&wire.Opened{Out: id, In: o.In.ID, Serial: o.Serial, Vendor: o.Vendor, Originator: o.Originator,
			OutEvery: o.Out.Interval, InEvery: o.In.Interval}).Append(nil)
	}
}

// disconnect ends one.
func (t *talk) disconnect(r *wire.Request, a *wire.Answer) {
	c, err := wire.ParseClose(r.Data)
	if err != nil {
		a.Status = 0x13
		return
	}
	if t.adapter != nil && t.adapter.target.End(&c) {
		a.Data = (&wire.Closed{Serial: c.Serial, Vendor: c.Vendor, Originator: c.Originator}).Append(nil)
		return
	}
	for id, o := range t.open {
		if o.serial == c.Serial {
			delete(t.open, id)
			a.Data = (&wire.Closed{Serial: c.Serial, Vendor: c.Vendor, Originator: c.Originator}).Append(nil)
			return
		}
	}
	a.Status, a.Extended = 0x01, []uint16{0x0107}
	a.Data = (&wire.Refused{Serial: c.Serial, Vendor: c.Vendor, Originator: c.Originator}).Append(nil)
}

// passedOn answers a question that is to go on to a module: there is the one in slot 0.
func (t *talk) passedOn(r *wire.Request, a *wire.Answer, fault bench.Fault) []byte {
	le := binary.LittleEndian
	if len(r.Data) < 4 || len(r.Data) < 4+int(le.Uint16(r.Data[2:])) {
		a.Status = 0x13
		return a.Append(nil)
	}
	n := int(le.Uint16(r.Data[2:]))
	route := r.Data[4+n+n%2:]
	if len(route) != 4 || route[2] != 1 || route[3] != 0 {
		a.Status, a.Extended = 0x01, []uint16{0x0312}
		return a.Append(nil)
	}
	return t.message(r.Data[4:4+n], fault)
}
