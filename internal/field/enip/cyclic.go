package enip

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/enip"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/precise"
	wire "ferry/internal/wire/enip"
)

func init() { field.Register(family.Cyclic.Name, cyclicDriver{}) }

type cyclicDriver struct{ driver }

func (d cyclicDriver) Dissect(frames []exchange.Frame, points []exchange.Labelled) [][]exchange.Field {
	if len(frames) == 0 || !frames[0].Datagram {
		return d.driver.Dissect(frames, points)
	}
	list := make([][]exchange.Field, len(frames))
	last := len(frames) - 1
	for last >= 0 && frames[last].Out {
		last--
	}
	for i, f := range frames {
		if i == last { // the values are those of the last that came
			list[i] = wire.Labels(f.Octets, points)
		} else {
			list[i] = wire.Labels(f.Octets, nil)
		}
	}
	return list
}

// Dial connects, asks for a session, and who the device is. The cyclic connection is
// opened by Follow.
func (d cyclicDriver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	def := family.Cyclic
	route, err := family.ParseRoute(def.Value(t.Settings, family.KeyRoute).Text())
	if err != nil {
		return nil, field.Reply{Outcome: exchange.NotAllowed, Sentence: "the route cannot be read: " + err.Error()}
	}
	c := &cyclic{conn: &conn{route: route}, plant: t.Plant, remains: t.Remains, settings: t.Settings, in: family.WayIn(t.Settings),
		out: family.WayOut(t.Settings), counted: family.Counted(t.Settings), reports: make(chan field.Report, waiting),
		ended: field.Reply{Outcome: exchange.Closed, Sentence: "the connection was closed"}}
	c.image = make([]byte, c.out.Octets())
	c.state.Enabled = !c.silent()
	if c.remains != nil {
		if on, was := c.remains.Load(keyOff); was && !(c.silent() && on.(bool)) {
			c.state.Enabled = on.(bool) // what was ordered for one connection is not for the next in the plant
		}
	}
	c.Length = wire.FrameLen
	limit := time.Duration(def.Int(t.Settings, protocol.KeyWithin)) * time.Millisecond
	reply := c.Open(ctx, t, limit, c.greeted)
	if !reply.OK() {
		return nil, reply
	}
	return c, reply
}

// waiting is how many reports may wait to be taken in. What comes on top is left out: it
// is a sign of life all the same.
const waiting = 512

// paces sends the packets of all connections.
var paces precise.Pacer

// cyclic is a cyclic connection, over UDP, with the session over which it is opened and
// ended. What is asked over the session has one owner at a time; packets come and go
// meanwhile.
type cyclic struct {
	*conn
	plant    bool
	remains  *sync.Map
	settings protocol.Settings
	in, out  family.Way
	counted  bool
	reports  chan field.Report

	// Of the owner alone.
	mouth      *mouth
	peer       netip.Addr     // whose packets are taken
	group      netip.AddrPort // of multicast
	openSerial uint16

	mu           sync.Mutex
	toID, fromID uint32 // identifiers of what goes out, and of what comes in
	open         bool
	asked        bool // the far end has opened it, and has not been asked to end it
	closed       bool // its reports are
	ended        field.Reply
	beat         *precise.Beat
	to           netip.AddrPort
	state        family.State
	image        []byte // of the outputs
	points       []standing
	outward      []standing
	known        []standing // of the connection itself

	every, lasts      time.Duration // between two packets out, and the silence after which it is dropped
	inEvery           time.Duration
	nextOut, nextTell time.Time
	begun, heard      time.Time
	sequence          uint32 // of the packets that went
	count             uint16
	moved             bool // the outputs have changed since the last packet
	lastSequence      uint32
	some              bool          // something has come
	sent              chan struct{} // closed with the next packet out
	gone              []exchange.Frame
	lastIn            []field.Sampled // what the last packet held that came
	goneAt            time.Time
	gaps              spread // of what comes in
	gapsOut           spread
	lastOut           time.Time
	changed           bool // the state has
}

// standing is a point with where it is.
type standing struct {
	protocol.Wanted
	at    block.Place
	codec value.Codec
}

// silent reports whether what is sent is in effect at once and nobody has ordered that:
// outputs without a header, in the plant.
func (c *cyclic) silent() bool { return c.plant && c.out.Octets() > 0 && !c.out.Head() }

func (c *cyclic) Toward(s protocol.Settings) {
	c.Limit = time.Duration(family.Cyclic.Int(s, protocol.KeyWithin)) * time.Millisecond
}

// greeted asks for a session, and who the device is.
func (c *cyclic) greeted() field.Reply {
	if reply := c.begin(); !reply.OK() {
		return reply
	}
	a, failed := c.ask(&wire.Request{Service: wire.GetAll, Path: wire.PathTo(wire.ClassIdentity, 1, -1)}, nil)
	if failed != nil {
		return *failed
	}
	if id, _, err := wire.ParseWho(a.Data); err == nil && a.Status == 0 {
		c.mu.Lock()
		c.state.Vendor, c.state.Name = id.Vendor, id.Name
		c.mu.Unlock()
	}
	return field.Reply{Outcome: exchange.Answered, Left: true}
}

// Usable reports whether packets go, or the session can be asked.
func (c *cyclic) Usable() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return !c.closed && !c.Over() && (c.open || c.conn.Usable())
}

// Reports hands over what comes.
func (c *cyclic) Reports() <-chan field.Report { return c.reports }

// Ended says how the connection ended.
func (c *cyclic) Ended() field.Reply {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.ended
}

// Follow opens the connection, the first time, and says which points are wanted of it.
func (c *cyclic) Follow(wanted []protocol.Wanted) (field.Reply, []field.Refusal) {
	refused := c.lay(wanted)
	c.mu.Lock()
	is, wants := c.open, c.state.Enabled
	c.mu.Unlock()
	reply := field.Reply{Outcome: exchange.Answered}
	switch {
	case is:
	case wants:
		reply = c.opening(nil)
		if reply.Outcome == exchange.Declined && len(wanted) > 0 {
			// The session stands, and what is known of the connection is told.
			refused = c.none(wanted, &reply)
			reply.Outcome, reply.Sentence = exchange.Answered, ""
		}
	case c.silent():
		refused = c.none(wanted, &field.Reply{Sentence: "its outputs have no run/idle header, so that what is sent takes effect " +
			"at once: write the point Enabled of the connection to open it"})
	default:
		refused = c.none(wanted, &field.Reply{Sentence: "the connection is switched off: write its point Enabled"})
	}
	if reply.OK() {
		c.beats()
		c.tell(time.Now())
	}
	return reply, refused
}

// none refuses all points that a connection carries which is not there.
func (c *cyclic) none(wanted []protocol.Wanted, why *field.Reply) (refused []field.Refusal) {
	for i := range wanted {
		if block.Of(wanted[i].Address).Area != family.AreaConn {
			refused = append(refused, field.Refusal{ID: wanted[i].ID, Code: why.Code, Sentence: why.Sentence})
		}
	}
	return refused
}

// keyOff is under what the channel keeps that the connection was switched off, or on.
const keyOff = "switched"

// remember keeps a switch for the connections that follow.
func (c *cyclic) remember(on bool) {
	if c.remains != nil {
		c.remains.Store(keyOff, on)
	}
	c.mu.Lock()
	c.state.Enabled, c.changed = on, true
	c.mu.Unlock()
}

// beats has the pacer look after the connection.
func (c *cyclic) beats() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.beat == nil && !c.closed {
		now := time.Now()
		c.nextTell = now.Add(c.tellsOff())
		c.beat = &precise.Beat{Due: now, Act: c.act}
		paces.Add(c.beat)
	}
}

// lay works out where the points are, and which are not exchanged.
func (c *cyclic) lay(wanted []protocol.Wanted) (refused []field.Refusal) {
	sizes := map[string]int{family.AreaIn: c.in.Octets(), family.AreaOut: c.out.Octets()}
	lists := map[string][]standing{}
	for _, w := range wanted {
		at := block.Of(w.Address)
		if at.Area == family.AreaConn {
			if _, ok := (&family.State{}).At(w.Address); !ok {
				refused = append(refused, field.Refusal{ID: w.ID, Sentence: "the connection tells nothing there"})
				continue
			}
			lists[at.Area] = append(lists[at.Area], standing{Wanted: w, at: at})
			continue
		}
		w.Shape.Unit = 8
		codec, err := value.NewCodec(w.Shape)
		end := int(at.Offset) + block.Units(w.Shape, 8)
		switch size, known := sizes[at.Area]; {
		case !known || err != nil:
			refused = append(refused, field.Refusal{ID: w.ID, Sentence: fmt.Sprintf("it has no place in an assembly: %v", err)})
		case end > size:
			refused = append(refused, field.Refusal{ID: w.ID,
				Sentence: fmt.Sprintf("octet %d is not exchanged: the connection carries %d", end-1, size)})
		default:
			lists[at.Area] = append(lists[at.Area], standing{w, at, codec})
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.points, c.outward, c.known = lists[family.AreaIn], lists[family.AreaOut], lists[family.AreaConn]
	c.changed = true
	if c.open {
		c.emit(c.outputs(time.Now()))
	}
	return refused
}

// fail notes why the connection is not there.
func (c *cyclic) fail(reply *field.Reply) {
	c.mu.Lock()
	defer c.mu.Unlock()
	status, extended := family.StatusOf(reply.Code)
	c.state.Connected, c.state.Status, c.state.Extended, c.state.Error = false, uint16(status), extended, reply.Sentence
	c.changed = true
}

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
			return field.Reply{Outcome: exchange.NotAllowed, Sentence: "no port of this machine is free for its packets: " + err.Error()}
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
			Priority: priorities[def.Value(s, family.KeyPriority).Text()], Variable: def.Value(s, family.KeyLength).Text() == "variable"}
	}
	open := &wire.Open{Out: way(&c.out), In: way(&c.in), Serial: c.openSerial, Vendor: originator, Originator: self, Ticks: [2]uint8{7, 16}}
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
	if err == nil && (opened.Serial != open.Serial || opened.Vendor != open.Vendor || opened.Originator != open.Originator) {
		err = fmt.Errorf("it opens the connection with the number %d, and %d was asked for", opened.Serial, open.Serial)
	}
	if err != nil {
		return c.Garbled(err)
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
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: "the group " + at.Addr().String() + " cannot be entered: " + err.Error()}
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
	c.state.Connected, c.state.Run, c.state.FarRuns, c.state.Status, c.state.Extended, c.state.Error = true, false, false, 0, 0, ""
	c.changed = true
	if c.beat != nil {
		paces.Hurry(c.beat, now)
	}
}

// tellEvery is how often the state is told while it does not change otherwise.
const tellEvery = time.Second

// grace is how long the first packet may take at least: some devices begin to send late.
const grace = time.Second

// act sends what is due and looks whether anything still comes; it runs on the pacer.
func (c *cyclic) act(now time.Time) time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		return time.Time{}
	}
	lasts := c.lasts
	if !c.some {
		lasts = max(lasts, grace)
	}
	switch {
	case !c.open:
		if c.changed || !now.Before(c.nextTell) {
			c.nextTell = now.Add(c.tellsOff())
			c.tellLocked(now)
		}
		return c.nextTell
	}
	if now.Sub(c.heard) >= lasts {
		c.timedOut(now, lasts)
		return time.Time{}
	}
	if !now.Before(c.nextOut) {
		c.send(now)
		if c.nextOut = c.nextOut.Add(c.every); now.Sub(c.nextOut) > c.every {
			c.nextOut = now.Add(c.every) // it was held up: what was missed is not made up for
		}
	}
	if !now.Before(c.nextTell) {
		c.nextTell, c.changed = now.Add(tellEvery), true
	}
	if c.changed {
		c.tellLocked(now)
	}
	next := c.nextOut
	for _, t := range []time.Time{c.heard.Add(lasts), c.nextTell} {
		if t.Before(next) {
			next = t
		}
	}
	return next
}

// tellsOff is how often the state is told while the connection is not there: so often
// that nobody takes the session for gone.
func (c *cyclic) tellsOff() time.Duration {
	return min(tellEvery, time.Duration(family.Multiplier(c.settings)*c.in.EveryMs)*time.Millisecond/3)
}

// send sends the outputs. The lock is held.
func (c *cyclic) send(now time.Time) {
	c.sequence++
	if c.moved || c.counted {
		c.count++
	}
	p := wire.Cyclic{Connection: c.toID, Sequence: c.sequence}
	if c.counted {
		p.Data = binary.LittleEndian.AppendUint16(p.Data, c.count)
	}
	if c.out.Head() {
		var head [4]byte
		if c.state.Run {
			head[0] = 1
		}
		p.Data = append(p.Data, head[:]...)
	}
	p.Data = append(p.Data, c.image...)
	octets := wire.AppendCyclic(nil, &p)
	_, err := c.mouth.socket.WriteToUDPAddrPort(octets, c.to)
	if err == nil {
		c.state.Sent++
	}
	if !c.lastOut.IsZero() {
		c.gapsOut.add(now.Sub(c.lastOut))
	}
	c.lastOut = now
	c.keep(now, true, octets)
	c.moved = false
	if c.sent != nil {
		close(c.sent)
		c.sent = nil
	}
}

// Of the packets that went and came: they are recorded several at a time.
const (
	mostGone    = 40
	longestGone = 250 * time.Millisecond
)

// keep has a packet recorded. The lock is held.
func (c *cyclic) keep(now time.Time, out bool, octets []byte) {
	if len(c.gone) == 0 {
		c.goneAt = now
	}
	c.gone = append(c.gone, exchange.Frame{Out: out, Datagram: true, AfterMs: float64(now.Sub(c.goneAt)) / 1e6, Octets: octets})
	if len(c.gone) >= mostGone || now.Sub(c.goneAt) > longestGone {
		c.record()
	}
}

// record hands over what went and came. The lock is held.
func (c *cyclic) record() {
	if len(c.gone) == 0 {
		return
	}
	in := 0
	for i := range c.gone {
		if !c.gone[i].Out {
			in++
		}
	}
	state := ""
	if c.out.Head() {
		state = map[bool]string{true: ", run", false: ", idle"}[c.state.Run]
	}
	c.emit(field.Report{At: c.goneAt, Operation: fmt.Sprintf("cyclic data, %d in and %d out%s", in, len(c.gone)-in, state), Frames: c.gone,
		Aside: true, Samples: c.lastIn})
	c.gone, c.lastIn = nil, nil
}

// emit hands a report over, if there is room. The lock is held.
func (c *cyclic) emit(r field.Report) {
	if c.closed {
		return
	}
	select {
	case c.reports <- r:
	default:
	}
}

// came takes a packet in.
func (c *cyclic) came(p *wire.Cyclic, octets []byte, now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.open || p.Connection != c.fromID {
		return
	}
	if step := int32(p.Sequence - c.lastSequence); c.some && step <= 0 && step > -staleMost {
		return // it came twice, or was overtaken
	} else if c.some && step > 1 {
		c.state.Missed += uint32(step - 1)
	}
	data := p.Data
	if c.counted {
		if len(data) < 2 {
			c.wrong(octets, now, "the sequence count is missing")
			return
		}
		data = data[2:]
	}
	runs := true
	if c.in.Head() {
		if len(data) < 4 {
			c.wrong(octets, now, "the run/idle header is missing")
			return
		}
		runs, data = data[0]&1 == 1, data[4:]
	}
	if len(data) != c.in.Octets() && family.Cyclic.Value(c.settings, family.KeyLength).Text() != "variable" || len(data) > c.in.Octets() {
		c.wrong(octets, now, fmt.Sprintf("it brings %d octets of data, and the connection was opened for %d", len(data), c.in.Octets()))
		return
	}
	if c.some {
		c.gaps.add(now.Sub(c.heard))
	}
	if runs != c.state.FarRuns {
		c.state.FarRuns, c.changed = runs, true
	}
	c.heard, c.some, c.lastSequence = now, true, p.Sequence
	c.state.Received++
	kept := append([]byte(nil), octets...)
	base := cap(octets) - cap(data) // the data is a part of the packet
	r := field.Report{At: now, Operation: fmt.Sprintf("inputs, %d octets", len(data)), Own: true, Octets: kept,
		Samples: make([]field.Sampled, 0, len(c.points))}
	for i := range c.points {
		pt := &c.points[i]
		s := field.Sampled{ID: pt.ID, From: base + int(pt.at.Offset)}
		s.To = s.From + pt.codec.Width()
		if s.To > base+len(data) {
			s.Quality, s.Reason, s.From, s.To = value.Bad, "it is beyond what came", 0, 0
		} else if v, err := pt.codec.Decode(data[pt.at.Offset:], value.Value{}); err != nil {
			s.Quality, s.Reason = value.Bad, err.Error()
		} else if s.Value = v; !runs {
			s.Quality, s.Reason = value.Doubtful, "the far end says that it is idle"
		}
		r.Samples = append(r.Samples, s)
	}
	c.emit(r)
	c.lastIn = r.Samples
	c.keep(now, false, kept)
}

// staleMost is how far behind a sequence number counts as old; further it is that of an
// end that began anew.
const staleMost = 1 << 16

// wrong tells of a packet that is not what the connection was opened for. The lock is held.
func (c *cyclic) wrong(octets []byte, now time.Time, why string) {
	c.state.Error, c.changed = why, true
	c.emit(field.Report{At: now, Operation: "inputs", Wrong: why,
		Frames: []exchange.Frame{{Datagram: true, Octets: append([]byte(nil), octets...)}}})
}

// outputs are the samples of what is sent. The lock is held.
func (c *cyclic) outputs(now time.Time) field.Report {
	r := field.Report{At: now, Operation: "outputs as they are sent", Own: true, Octets: append([]byte(nil), c.image...)}
	for i := range c.outward {
		pt := &c.outward[i]
		s := field.Sampled{ID: pt.ID, From: int(pt.at.Offset), To: int(pt.at.Offset) + pt.codec.Width()}
		v, err := pt.codec.Decode(c.image[pt.at.Offset:], value.Value{})
		if s.Value = v; err != nil {
			s.Quality, s.Reason = value.Bad, err.Error()
		}
		r.Samples = append(r.Samples, s)
	}
	return r
}

// tell hands over the outputs and the state.
func (c *cyclic) tell(now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.emit(c.outputs(now))
	c.tellLocked(now)
}

func (c *cyclic) tellLocked(now time.Time) {
	c.changed = false
	c.state.InMs, c.state.InJitterMs = c.gaps.of(c.inEvery)
	c.state.OutMs, c.state.OutJitterMs = c.gapsOut.of(c.every)
	r := field.Report{At: now, Operation: "state of the connection", Own: true}
	if !c.open {
		for i := range c.points {
			r.Samples = append(r.Samples, field.Sampled{ID: c.points[i].ID, Quality: value.Bad, Reason: c.why()})
		}
	}
	for i := range c.known {
		v, _ := c.state.At(c.known[i].Address)
		r.Samples = append(r.Samples, field.Sampled{ID: c.known[i].ID, Value: v})
	}
	if len(r.Samples) > 0 || !c.open {
		c.emit(r)
	}
}

// why says why the connection is not there. The lock is held.
func (c *cyclic) why() string {
	if !c.state.Enabled {
		return "the connection is switched off"
	}
	return cmp.Or(c.state.Error, "the connection is not open")
}

// timedOut ends the connection for want of packets. The lock is held.
func (c *cyclic) timedOut(now time.Time, lasts time.Duration) {
	c.state.Connected, c.open = false, false
	c.state.Status, c.state.Extended = 0x01, 0x0203
	c.state.Error = fmt.Sprintf("nothing came for %d ms: the connection timed out", lasts.Milliseconds())
	c.ended = field.Reply{Outcome: exchange.NoAnswer, Cause: exchange.Quiet, Sentence: c.state.Error}
	if !c.some {
		c.ended.Sentence = fmt.Sprintf("the connection was opened, and not one packet came within %d ms", lasts.Milliseconds())
		if c.group.IsValid() {
			c.ended.Sentence += fmt.Sprintf(": what it sends to the group %s does not arrive", c.group.Addr())
		}
		c.state.Error = c.ended.Sentence
	}
	c.record()
	c.tellLocked(now)
	c.finish()
}

// finish closes the reports. The lock is held.
func (c *cyclic) finish() {
	if !c.closed {
		c.closed = true
		close(c.reports)
	}
	if c.sent != nil {
		close(c.sent)
		c.sent = nil
	}
}

// stop ends the sending, and returns whether there was any.
func (c *cyclic) stop() bool {
	c.mu.Lock()
	was := c.asked
	c.open, c.asked = false, false
	c.state.Connected, c.state.Run, c.state.FarRuns = false, false, false
	c.record()
	c.mu.Unlock()
	if c.mouth != nil {
		c.mouth.forget(c.fromID, c)
		if c.group.IsValid() {
			c.mouth.part(c.group)
			c.group = netip.AddrPort{}
		}
	}
	return was
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

// Close ends the connection and the session.
func (c *cyclic) Close() error {
	if c.stop() && c.session != 0 {
		c.Bye(c.around(c.ending()).Append(nil))
	}
	c.mu.Lock()
	c.finish()
	if c.beat != nil {
		paces.Drop(c.beat)
	}
	c.mu.Unlock()
	if c.mouth != nil {
		c.mouth.leave()
		c.mouth = nil
	}
	return c.conn.Close()
}

// sendsWithin is how long a write waits for the next packet; where the interval is longer,
// one is sent at once.
const sendsWithin = 100 * time.Millisecond

// WriteItem sets an output, which is sent from the next packet on, or a switch of the
// connection.
func (c *cyclic) WriteItem(to protocol.Wanted, v value.Value, pass field.Pass) field.Reply {
	switch to.Address {
	case family.ConnEnable:
		return c.enable(v.Bool(), pass)
	case family.ConnRun:
		if !c.out.Head() {
			return field.Reply{Outcome: exchange.NotAllowed, Sentence: "it has no run/idle header: what is sent is in effect as long as the connection is open"}
		}
	}
	c.mu.Lock()
	is, head := c.open, c.out.Head()
	at := block.Of(to.Address)
	to.Shape.Unit = 8
	codec, err := value.NewCodec(to.Shape)
	c.mu.Unlock()
	switch {
	case !is:
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: "the connection is not open"}
	case to.Address != family.ConnRun && (err != nil || at.Area != family.AreaOut || int(at.Offset)+codec.Width() > len(c.image)):
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: fmt.Sprintf("it is not exchanged: the connection carries %d octets", len(c.image))}
	}
	left, refused := field.Let(pass)
	if refused != nil {
		return *refused
	}
	defer left()
	c.mu.Lock()
	if !c.open {
		c.mu.Unlock()
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: "the connection has just ended"}
	}
	said := ""
	if to.Address == family.ConnRun {
		c.state.Run = v.Bool()
		said = map[bool]string{true: "The connection is in run: the device acts on the outputs.",
			false: "The connection is idle: the device does not act on the outputs."}[v.Bool()]
	} else if err := codec.Encode(v, c.image[at.Offset:int(at.Offset)+codec.Width()]); err != nil {
		c.mu.Unlock()
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: err.Error()}
	} else if head && !c.state.Run {
		said = "It is sent, and the device does not act on it: the connection is idle. Set its point Run."
	} else {
		said = fmt.Sprintf("Sent with every packet from now on, every %g ms.", float64(c.every)/1e6)
	}
	now := time.Now()
	c.moved, c.changed = true, true
	gone := make(chan struct{})
	if c.sent != nil {
		gone = c.sent
	} else {
		c.sent = gone
	}
	soon := c.every > sendsWithin
	if soon {
		c.nextOut = now
	}
	beat := c.beat
	c.emit(c.outputs(now))
	c.mu.Unlock()
	if soon {
		paces.Hurry(beat, now)
	}
	late := time.NewTimer(2*sendsWithin + field.Sending)
	defer late.Stop()
	select {
	case <-gone:
	case <-late.C:
		return field.Reply{Outcome: exchange.NoAnswer, Left: true, Sentence: "no packet has left within " + sendsWithin.String()}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.open {
		return field.Reply{Outcome: exchange.Closed, Left: true, Sentence: c.ended.Sentence}
	}
	return field.Reply{Outcome: exchange.Answered, Left: true, Sentence: said}
}

// enable opens or closes the connection.
func (c *cyclic) enable(on bool, pass field.Pass) field.Reply {
	c.mu.Lock()
	is := c.open
	c.mu.Unlock()
	switch {
	case on && !is:
		reply := c.opening(pass)
		if reply.OK() {
			c.remember(true)
			reply.Sentence = "The connection is open."
		}
		c.tell(time.Now())
		return reply
	case !on && is:
		left, refused := field.Let(pass)
		if refused != nil {
			return *refused
		}
		defer left()
		c.remember(false)
		c.stop()
		reply := c.Question(false, func() field.Reply {
			a, failed := c.ask(c.ending(), nil)
			if failed != nil {
				return *failed
			}
			if a.Status != 0 {
				return declined(&a)
			}
			return field.Reply{Outcome: exchange.Answered, Left: true, Sentence: "The connection is closed."}
		})
		c.tell(time.Now())
		return reply
	}
	return field.Reply{Outcome: exchange.Answered, Left: true, Sentence: "It is so already."}
}

// spread keeps the last gaps between packets.
type spread struct {
	gaps [spreadMost]time.Duration
	n    int
}

const spreadMost = 200

func (s *spread) add(d time.Duration) { s.gaps[s.n%spreadMost], s.n = d, s.n+1 }

// of is the mean gap, and how far 99 of 100 are from the interval, in milliseconds.
func (s *spread) of(every time.Duration) (mean, jitter float32) {
	n := min(s.n, spreadMost)
	if n == 0 {
		return 0, 0
	}
	total, off := time.Duration(0), make([]float64, 0, n)
	for _, g := range s.gaps[:n] {
		total += g
		off = append(off, float64(max(g-every, every-g)))
	}
	return float32(float64(total) / float64(n) / 1e6), float32(percentile(off) / 1e6)
}

// percentile is the 99th of some numbers.
func percentile(list []float64) float64 {
	slices.Sort(list)
	return list[min(len(list)-1, len(list)*99/100)]
}
