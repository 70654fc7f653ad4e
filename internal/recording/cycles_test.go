package recording

import (
	"encoding/binary"
	"net/netip"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/rehearsal"
	"ferry/internal/wire/enip"
)

func init() { others = append(others, cyclics...) }

// cyclics are scenes of cyclic connections, whose packets go beside those of TCP.
var cyclics = []scene{
	{"a cyclic connection", "", func(a *actor) {
		y := a.cyclic(enip.ToOne)
		y.run(3*time.Second, 1)
		y.end()
	}},
	{"a cyclic connection that is idle, with zeros", "", func(a *actor) {
		y := a.cyclic(enip.ToMany)
		y.dose = 0
		y.run(8*time.Second, 0)
		y.end()
	}},
	{"a cyclic connection whose beginning is not recorded", "", func(a *actor) {
		y := &cyclicScene{a: a, ids: [2]uint32{7, 8}, every: [2]time.Duration{20 * time.Millisecond, 50 * time.Millisecond},
			dose: 300, to: a.group(enip.ToOne)}
		y.run(3*time.Second, 1)
	}},
	{"inputs that come unevenly", "interval-jitter", func(a *actor) {
		y := a.cyclic(enip.ToOne)
		y.late = []time.Duration{30, 40, 60}[a.way] * time.Millisecond
		y.run(4*time.Second, 1)
		y.end()
	}},
	{"inputs that stop", "cyclic-timeout", func(a *actor) {
		y := a.cyclic(enip.ToOne)
		y.run(2*time.Second, 1)
		y.silent = true
		y.run([]time.Duration{400, 900, 3000}[a.way]*time.Millisecond, 1)
		if a.way == 1 { // and come again
			y.silent = false
			y.run(time.Second, 1)
		}
	}},
	{"a connection over which nothing comes", "cyclic-timeout", func(a *actor) {
		y := a.cyclic(enip.ToOne)
		y.silent = true
		y.run(time.Duration(2+a.way)*time.Second, 0)
	}},
	{"multicast that a switch swallows", "multicast-lost", func(a *actor) {
		y := a.cyclic(enip.ToMany)
		y.silent = true
		y.run(time.Duration(2+a.way)*time.Second, 0)
	}},
	{"outputs that are never in run", "never-run", func(a *actor) {
		y := a.cyclic(enip.ToOne)
		y.dose = uint16(100 * (a.way + 1))
		y.run(9*time.Second, 0)
		y.end()
	}},
	{"packets of another size than was agreed", "size-differs", func(a *actor) {
		y := a.cyclic(enip.ToOne)
		y.more = []int{4, 2, -4}[a.way]
		y.run(2*time.Second, 1)
		y.end()
	}},
	{"a size that is refused", "size-differs", func(a *actor) {
		c := a.session()
		for i := range 4 {
			a.forwardOpen(c, enip.ToOne, []uint16{0x0127, 0x0128, 0x0126}[a.way], uint16(i))
			a.Wait(2 * time.Second)
		}
	}},
	{"outputs that another owns", "two-writers", func(a *actor) {
		c := a.session()
		for i := range 3 + a.way {
			a.forwardOpen(c, enip.ToOne, 0x0106, uint16(i))
			a.Wait(2 * time.Second)
		}
	}},
	{"inputs of which some are missing", "sequence-gap", func(a *actor) {
		y := a.cyclic(enip.ToOne)
		y.drop = 6 + 4*a.way
		y.run(4*time.Second, 1)
		y.end()
	}},
}

// cyclicScene is a cyclic connection on the stage: 0 is towards the device, 1 from it.
type cyclicScene struct {
	a        *actor
	conn     *rehearsal.Conn
	ids      [2]uint32
	every    [2]time.Duration
	sequence [2]uint32
	to       netip.AddrPort // to whom the device sends
	dose     uint16
	late     time.Duration // by how much a packet from the device may be late
	silent   bool
	more     int // octets that the device sends beyond what was agreed
	drop     int // of so many packets one is missing
	serial   uint16
}

const reactor = "192.0.2.71"

func (a *actor) group(casting enip.Casting) netip.AddrPort {
	if casting == enip.ToMany {
		return netip.MustParseAddrPort("239.192.1.32:2222")
	}
	return netip.MustParseAddrPort(controller + ":2222")
}

// cyclic opens a connection: 4 octets of outputs with a header, 8 of inputs.
func (a *actor) cyclic(casting enip.Casting) *cyclicScene {
	y := &cyclicScene{a: a, conn: a.session(), every: [2]time.Duration{20 * time.Millisecond, 50 * time.Millisecond},
		dose: 300, to: a.group(casting)}
	y.ids, y.serial = a.forwardOpen(y.conn, casting, 0, 1), 1
	return y
}

func (a *actor) forwardOpen(c *rehearsal.Conn, casting enip.Casting, refused, serial uint16) (ids [2]uint32) {
	ids = [2]uint32{0xC0000000 | uint32(serial), 0xA0000000 | uint32(serial)}
	o := enip.Open{Out: enip.Way{Interval: 20 * time.Millisecond, Size: 10, Casting: enip.ToOne},
		In: enip.Way{ID: ids[1], Interval: 50 * time.Millisecond,
			Size: 10, Casting: casting}, Serial: serial, Vendor: 1, Originator: 2, Class: 1,
		Path: enip.Path{Class: enip.ClassAssembly, Instance: 170,
			Attribute: -1, Points: []int{160, 150}}}
	r := enip.Request{Service: enip.ForwardOpen, Path: enip.PathTo(enip.ClassConnection, 1, -1), Data: o.Append(nil)}
	answer := enip.Answer{Service: enip.ForwardOpen}
	if refused != 0 {
		answer.Status, answer.Extended = 1, []uint16{refused, 24}
		answer.Data = (&enip.Refused{Serial: serial, Vendor: 1, Originator: 2}).Append(nil)
	} else {
		answer.Data = (&enip.Opened{Out: ids[0], In: ids[1], Serial: serial, Vendor: 1, Originator: 2,
			OutEvery: 20 * time.Millisecond, InEvery: 50 * time.Millisecond}).Append(nil)
	}
	a.said(c, uint64(serial)+100, &r, &answer)
	return ids
}

// said is a question of the router with its answer.
func (a *actor) said(c *rehearsal.Conn, number uint64, r *enip.Request, answer *enip.Answer) {
	frame := func(message []byte) []byte {
		f := enip.Frame{Command: enip.SendRRData, Session: 0x5EA, Data: enip.AppendUnconnected(nil, message)}
		binary.LittleEndian.PutUint64(f.Context[:], number)
		return f.Append(nil)
	}
	c.Talk(frame(r.Append(nil)), frame(answer.Append(nil)), a.think())
}

func (y *cyclicScene) end() {
	e := enip.Close{Serial: y.serial, Vendor: 1, Originator: 2, Path: enip.Path{Class: enip.ClassAssembly, Instance: 170,
		Attribute: -1, Points: []int{160, 150}}}
	r := enip.Request{Service: enip.ForwardClose, Path: enip.PathTo(enip.ClassConnection, 1, -1), Data: e.Append(nil)}
	y.a.said(y.conn, 999, &r, &enip.Answer{Service: enip.ForwardClose,
		Data: (&enip.Closed{Serial: y.serial, Vendor: 1, Originator: 2}).Append(nil)})
}

// run has packets go both ways for a while.
func (y *cyclicScene) run(d time.Duration, run byte) {
	ends := y.a.Now.Add(d)
	due := [2]time.Time{y.a.Now, y.a.Now.Add(3 * time.Millisecond)}
	next := due
	for y.a.Now.Before(ends) {
		way := 0
		if next[1].Before(next[0]) {
			way = 1
		}
		y.a.Wait(max(0, next[way].Sub(y.a.Now)))
		y.sequence[way]++
		skipped := way == 1 && (y.silent || y.drop > 0 && y.sequence[1]%uint32(y.drop) == 0)
		if !skipped {
			y.send(way, run)
		}
		due[way] = due[way].Add(y.every[way])
		next[way] = due[way]
		if way == 1 && y.late > 0 && y.sequence[1]%2 == 0 {
			next[way] = due[way].Add(y.late)
		}
	}
}

func (y *cyclicScene) send(way int, run byte) {
	p := enip.Cyclic{Connection: y.ids[way], Sequence: y.sequence[way]}
	p.Data = binary.LittleEndian.AppendUint16(p.Data, uint16(y.sequence[way]))
	device := netip.MustParseAddrPort(reactor + ":2222")
	packet := capture.Packet{Kind: capture.UDP, From: netip.MustParseAddrPort(controller + ":2222"), To: device}
	if way == 0 {
		p.Data = append(p.Data, run, 0, 0, 0)
		p.Data = binary.LittleEndian.AppendUint16(p.Data, y.dose)
		p.Data = append(p.Data, 0, 0)
	} else {
		packet.From, packet.To = device, y.to
		p.Data = append(p.Data, make([]byte, 8+y.more)...)
		p.Data[2] = byte(y.sequence[way] / 7)
	}
	packet.Payload = enip.AppendCyclic(nil, &p)
	packet.Whole = len(packet.Payload)
	y.a.Put(packet)
}
