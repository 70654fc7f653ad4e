package enip

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/enip"
	"ferry/internal/field"
	wire "ferry/internal/wire/enip"
)

// opening asks for the connection, and begins to send.
func (c *cyclic) opening(pass field.Pass) field.Reply {
	reply := c.Question(false, func() field.Reply { return c.opened(pass) })
	if !reply.OK() {
		c.fail(&reply)
	}
	return reply
}

// priorities are those of a connection (volume 1, table 3-5.11).
var priorities = map[string]uint8{"low": 0, "high": 1, "scheduled": 2, "urgent": 3}

func (c *cyclic) opened(pass field.Pass) field.Reply {
	local, err := netip.ParseAddrPort(c.LocalAddr())
	peer, err2 := netip.ParseAddrPort(c.PeerAddr())
	if err != nil || err2 != nil {
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: "it is known by no address to which packets can be sent"}
	}
	port := family.Cyclic.Int(c.settings, family.KeyCyclicPort)
	if c.mouth == nil {
		if c.mouth, err = mouthAt(local.Addr(), port); err != nil {
			return field.Reply{Outcome: exchange.NotAllowed, Sentence: "no port of this machine is free for its packets: " +
				err.Error()}
		}
	}
	c.peer = peer.Addr().Unmap()
	open, err := c.request()
	if err != nil {
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: err.Error()}
	}
	r := wire.Request{Service: open.Service(), Path: wire.PathTo(wire.ClassConnection, 1, -1), Data: open.Append(nil)}
	c.mouth.listen(open.In.ID, c)
	here := netip.AddrPortFrom(netip.IPv4Unspecified(), c.mouth.at.Port())
	f, failed := c.exchange(&wire.Frame{Command: wire.SendRRData, Data: wire.AppendUnconnected(nil, r.Append(nil),
		wire.Item{Type: wire.ItemSocketTO, Data: wire.AppendSocket(nil, here)})}, pass)
	reply := field.Reply{Outcome: exchange.Answered, Left: true}
	if failed != nil {
		reply = *failed
	} else {
		c.Answered()
		reply = c.takeOpened(&f, open)
	}
	if !reply.OK() {
		c.mouth.forget(open.In.ID, c)
	}
	return reply
}

// request is the question for the connection.
func (c *cyclic) request() (*wire.Open, error) {
	s, def := c.settings, family.Cyclic
	c.openSerial = uint16(serials.Add(1))
	way := func(w *family.Way) wire.Way {
		return wire.Way{Interval: time.Duration(w.EveryMs) * time.Millisecond, Size: w.Size(c.counted), Casting: wire.ToOne,
			Priority: priorities[def.Value(s, family.KeyPriority).Text()],
			Variable: def.Value(s, family.KeyLength).Text() == "variable"}
	}
	open := &wire.Open{Out: way(&c.out), In: way(&c.in), Serial: c.openSerial, Vendor: originator, Originator: self,
		Ticks: [2]uint8{7, 16}}
	if c.counted {
		open.Class = 1
	}
	if def.Value(s, family.KeyInCast).Text() == "many" {
		open.In.Casting = wire.ToMany
	}
	for n := family.Multiplier(s); n > 4; n /= 2 {
		open.Multiplier++
	}
	open.Large = open.Out.Size > 511 || open.In.Size > 511
	open.In.ID = rand.Uint32()
	config := def.Int(s, family.KeyConfigAt)
	p := wire.Path{Class: wire.ClassAssembly, Instance: -1, Attribute: -1, Ports: c.route,
		Points: []int{def.Int(s, family.KeyOutInstance), def.Int(s, family.KeyInInstance)}}
	switch def.Value(s, family.KeyConfig).Text() {
	case family.ConfigNone:
		if config > 0 {
			p.Instance = config
		}
	case family.ConfigEmpty:
		p.Instance, p.HasData = config, true
	case family.ConfigData:
		data, err := family.ConfigOctets(s)
		if err != nil {
			return nil, err
		}
		if len(data)%2 == 1 {
			data = append(data, 0)
		}
		p.Instance, p.HasData, p.Data = config, true, data
	}
	if use := def.Value(s, family.KeyKey).Text(); use != family.KeyOff {
		k := family.KeyOf(s)
		p.Key = &wire.Key{Vendor: uint16(k.Vendor), Type: uint16(k.Type), Product: uint16(k.Product), Major: uint8(k.Major),
			Minor: uint8(k.Minor), Compatible: use == family.KeyCompatible}
	}
	open.Path = p
	return open, nil
}

// takeOpened reads the answer, and begins.
func (c *cyclic) takeOpened(f *wire.Frame, open *wire.Open) field.Reply {
	if f.Status != 0 {
		return *c.Lost(field.Reply{Outcome: exchange.Declined, Code: family.OfSession(f.Status), Left: true,
			Sentence: "it does not take the frame: " + family.Explicit.Decline(family.OfSession(f.Status)).Title})
	}
	carried, err := wire.ParseCarried(f.Data)
	var a wire.Answer
	if err == nil {
		a, err = wire.ParseAnswer(carried.Message)
	}
	if err == nil && a.Service != open.Service() {
		err = fmt.Errorf("it answers service %02X, and %02X was asked", a.Service, open.Service())
	}
	if err != nil {
		return c.Garbled(err)
	}
	if a.Status != 0 {
		return c.declined(&a)
	}
	opened, err := wire.ParseOpened(a.Data)
	if err == nil && (opened.Serial != open.Serial || opened.Vendor != open.Vendor ||
		opened.Originator != open.Originator) {
		err = fmt.Errorf("it opens the connection with the number %d, and %d was asked for", opened.Serial, open.Serial)
	}
	if err != nil {
		return c.Garbled(err)
	}
	if why := unkept(open, &opened); why != "" {
		c.start(netip.AddrPortFrom(c.peer, 1), open.In.ID, &opened) // so that it is ended
		c.stop()
		c.endOf(c.ending())
		return field.Reply{Outcome: exchange.Garbled, Left: true, Sentence: why}
	}
	from := opened.In
	if open.In.Casting == wire.ToMany {
		if reply := c.enter(&carried); !reply.OK() {
			return reply
		}
	} else if from != open.In.ID {
		from = open.In.ID // it is this end's to say
	}
	to := netip.AddrPortFrom(c.peer, uint16(family.Cyclic.Int(c.settings, family.KeyCyclicPort)))
	if at, ok := carried.SocketOf(wire.ItemSocketOT); ok && at.Port() != 0 {
		to = netip.AddrPortFrom(c.peer, at.Port()) // to no other machine than the one that was asked
	}
	c.mouth.listen(from, c)
	c.start(to, from, &opened)
	return field.Reply{Outcome: exchange.Answered, Left: true}
}

// slack is by how much more than was asked for a device may round an interval.
const slack = 20 * time.Millisecond

// unkept says why the intervals of an answer are none that were asked for: by them silence
// would be taken for life. Empty where they are.
func unkept(asked *wire.Open, is *wire.Opened) string {
	for _, way := range []struct {
		word     string
		was, now time.Duration
	}{{"towards it", asked.Out.Interval, is.OutEvery}, {"from it", asked.In.Interval, is.InEvery}} {
		if way.now > 2*way.was+slack {
			return fmt.Sprintf("it opens the connection with an interval of %g ms %s, and %g ms was asked for",
				float64(way.now)/1e6, way.word, float64(way.was)/1e6)
		}
	}
	return ""
}

// declined puts a refusal in words, with what the device says it wants (volume 1, table
// 3-5.29).
func (c *cyclic) declined(a *wire.Answer) field.Reply {
	reply := declined(a)
	if len(a.Extended) < 2 {
		return reply
	}
	switch says := int(a.Extended[1]); a.Extended[0] {
	case 0x0127, 0x0128, 0x0126, 0x0109:
		reply.Sentence += fmt.Sprintf("; it says that the size is %d", says)
	case 0x0111, 0x011B:
		us := uint32(a.Extended[1])
		if len(a.Extended) > 2 {
			us |= uint32(a.Extended[2]) << 16
		}
		reply.Sentence += fmt.Sprintf("; it says that it can every %g ms", float64(us)/1000)
	}
	return reply
}

// enter joins the group to which the device sends.
func (c *cyclic) enter(carried *wire.Carried) field.Reply {
	at, ok := carried.SocketOf(wire.ItemSocketTO)
	if !ok || !at.Addr().IsMulticast() {
		return c.Garbled(fmt.Errorf("it sends to many, and does not say to which group"))
	}
	if err := c.mouth.join(at); err != nil {
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: "the group " + at.Addr().String() +
			" cannot be entered: " + err.Error()}
	}
	c.group = at
	return field.Reply{Outcome: exchange.Answered}
}

// start begins to send, and to wait for what comes.
func (c *cyclic) start(to netip.AddrPort, from uint32, opened *wire.Opened) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := time.Now()
	outEvery, inEvery := opened.OutEvery, opened.InEvery
	c.toID, c.fromID, c.asked = opened.Out, from, true
	if outEvery < time.Millisecond/2 {
		outEvery = time.Duration(c.out.EveryMs) * time.Millisecond
	}
	if inEvery < time.Millisecond/2 {
		inEvery = time.Duration(c.in.EveryMs) * time.Millisecond
	}
	c.to, c.every, c.inEvery, c.lasts = to, outEvery, inEvery, inEvery*time.Duration(family.Multiplier(c.settings))
	c.open, c.begun, c.heard, c.nextOut, c.nextTell = true, now, now, now, now.Add(tellEvery)
	c.sequence, c.count, c.some, c.moved = 0, 0, false, true
	c.gaps, c.gapsOut, c.lastOut = spread{}, spread{}, time.Time{}
	c.state.Connected, c.state.Run, c.state.FarRuns, c.state.Status, c.state.Extended, c.state.Error = true, false, false,
		0, 0, ""
	c.changed = true
	if c.beat != nil {
		paces.Hurry(c.beat, now)
	}
}

// ending is the question to end the connection.
func (c *cyclic) ending() *wire.Request {
	s := family.Cyclic
	end := wire.Close{Ticks: [2]uint8{7, 16}, Serial: c.openSerial, Vendor: originator, Originator: self,
		Path: wire.Path{Class: wire.ClassAssembly, Instance: -1, Attribute: -1, Ports: c.route,
			Points: []int{s.Int(c.settings, family.KeyOutInstance), s.Int(c.settings, family.KeyInInstance)}}}
	if at := s.Int(c.settings, family.KeyConfigAt); at > 0 {
		end.Path.Instance = at
	}
	return &wire.Request{Service: wire.ForwardClose, Path: wire.PathTo(wire.ClassConnection, 1, -1), Data: end.Append(nil)}
}
