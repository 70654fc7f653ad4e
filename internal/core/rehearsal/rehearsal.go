// Package rehearsal makes recordings: connections that are opened, used, spoilt and
// ended as a script says, in packets as a recorder would have seen them. Tests and
// benchmarks stand on it, so that what ought to be found is known.
package rehearsal

import (
	"net/netip"
	"time"

	"ferry/internal/core/capture"
)

// Stage is where it plays: it has a clock, and keeps the packets.
type Stage struct {
	Now     time.Time
	Packets []capture.Packet
	// Way is the time from one end to the other and back, as the recorder sees it,
	// beside that of the asker.
	Way  time.Duration
	port uint16
	seq  uint32
}

// New returns a stage, in the morning of a day at the hatchery.
func New() *Stage {
	return &Stage{Now: time.Date(2026, 3, 2, 6, 0, 0, 0, time.UTC), Way: 400 * time.Microsecond, port: 49152, seq: 1000}
}

// Wait lets time pass.
func (s *Stage) Wait(d time.Duration) { s.Now = s.Now.Add(d) }

// Put records a packet now.
func (s *Stage) Put(p capture.Packet) {
	p.Number, p.At = int64(len(s.Packets)+1), s.Now
	s.Packets = append(s.Packets, p)
}

// Play hands all packets to an assembler, and ends it.
func (s *Stage) Play(to capture.Listener) *capture.Assembler {
	a := capture.NewAssembler(to)
	for i := range s.Packets {
		a.Packet(&s.Packets[i])
	}
	a.Finish()
	return a
}

// Conn is a connection on the stage.
type Conn struct {
	stage *Stage
	ends  [2]netip.AddrPort
	seq   [2]uint32
}

// End is an address with a port: "192.0.2.21:502".
func End(text string) netip.AddrPort { return netip.MustParseAddrPort(text) }

// from is the end of a new connection of an asker.
func (s *Stage) from(asker string) netip.AddrPort {
	s.port++
	if s.port < 49152 {
		s.port = 49152
	}
	return netip.AddrPortFrom(netip.MustParseAddr(asker), s.port)
}

// Begin has an asker ask for a connection, and nothing come of it yet.
func (s *Stage) Begin(asker, answerer string) *Conn {
	return s.begin(s.from(asker), End(answerer))
}

func (s *Stage) begin(from, to netip.AddrPort) *Conn {
	s.seq += 100_000
	c := &Conn{stage: s, ends: [2]netip.AddrPort{from, to}, seq: [2]uint32{s.seq, s.seq * 7}}
	c.Segment(capture.Asker, capture.SYN, nil)
	return c
}

// Dial opens a connection.
func (s *Stage) Dial(asker, answerer string) *Conn { return s.greet(s.Begin(asker, answerer)) }

// DialBetween opens a connection between two ends with their ports.
func (s *Stage) DialBetween(from, to netip.AddrPort) *Conn { return s.greet(s.begin(from, to)) }

// greet has the far end accept.
func (s *Stage) greet(c *Conn) *Conn {
	c.seq[0]++
	s.Wait(s.Way)
	c.Segment(capture.Answerer, capture.SYN|capture.ACK, nil)
	c.seq[1]++
	s.Wait(50 * time.Microsecond)
	c.Segment(capture.Asker, capture.ACK, nil)
	return c
}

// Again repeats the asking for a connection, as a system does that gets no answer.
func (c *Conn) Again() { c.Segment(capture.Asker, capture.SYN, nil) }

// Segment records a segment, without moving on.
func (c *Conn) Segment(side capture.Side, flags capture.Flags, octets []byte) {
	c.At(side, flags, c.seq[side], octets)
}

// At records a segment at a place of the stream.
func (c *Conn) At(side capture.Side, flags capture.Flags, seq uint32, octets []byte) {
	p := capture.Packet{Kind: capture.TCP, From: c.ends[side], To: c.ends[side.Other()], Flags: flags, Seq: seq,
		Payload: octets, Whole: 54 + len(octets)}
	if flags&(capture.SYN|capture.ACK) != capture.SYN {
		p.Flags |= capture.ACK
		p.Ack = c.seq[side.Other()]
	}
	c.stage.Put(p)
}

// Say has a side say something.
func (c *Conn) Say(side capture.Side, octets []byte) {
	c.Segment(side, capture.PSH, octets)
	c.seq[side] += uint32(len(octets))
}

// Miss has a side say something that is not recorded.
func (c *Conn) Miss(side capture.Side, octets []byte) { c.seq[side] += uint32(len(octets)) }

// Repeat has a side say its last octets again, so many of them.
func (c *Conn) Repeat(side capture.Side, octets []byte) {
	c.At(side, capture.PSH, c.seq[side]-uint32(len(octets)), octets)
}

// Seq is where a side is in its stream.
func (c *Conn) Seq(side capture.Side) uint32 { return c.seq[side] }

// Talk has the asker ask, and the answerer answer after a time; an answer of nil is
// none.
func (c *Conn) Talk(request, answer []byte, after time.Duration) {
	c.Say(capture.Asker, request)
	if answer == nil {
		return
	}
	c.stage.Wait(after)
	c.Say(capture.Answerer, answer)
	c.stage.Wait(100 * time.Microsecond)
	c.Segment(capture.Asker, 0, nil)
}

// Close has a side close in order, and the other follow.
func (c *Conn) Close(side capture.Side) {
	c.Segment(side, capture.FIN, nil)
	c.seq[side]++
	c.stage.Wait(100 * time.Microsecond)
	c.Segment(side.Other(), capture.FIN, nil)
	c.seq[side.Other()]++
	c.stage.Wait(50 * time.Microsecond)
	c.Segment(side, 0, nil)
}

// Reset has a side tear the connection down.
func (c *Conn) Reset(side capture.Side) { c.Segment(side, capture.RST, nil) }

// Ask has a host ask who has an address.
func (s *Stage) Ask(host, wanted string) {
	s.Put(capture.Packet{Kind: capture.WhoHas, From: netip.AddrPortFrom(netip.MustParseAddr(host), 0),
		To: netip.AddrPortFrom(netip.MustParseAddr(wanted), 0), Whole: 42})
}
