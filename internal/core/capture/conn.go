package capture

import (
	"net/netip"
	"time"

	"ferry/internal/core/serial"
)

// Ending says how a connection came to its end.
type Ending uint8

// The endings.
const (
	Open    Ending = iota // it has not
	Closed                // an end closed it in order
	Torn                  // an end tore it down
	Unheard               // it was never answered
	Turned                // the port turned it away
	Cut                   // the recording ends, or holds too many
)

// Conn is one connection, or the datagrams between two ends.
type Conn struct {
	// Number counts the connections of a recording from 1.
	Number int
	// Ends are the addresses of asker and answerer.
	Ends [2]netip.AddrPort
	// Datagrams is set where it is no connection of TCP.
	Datagrams bool
	// Serial is set where it is a serial line, OneWay where the recording of it does not
	// say who speaks. Format is how the line is set, nil where that is not known, and
	// Name what it is called.
	Serial, OneWay bool
	// Untimed is set where the times of octets are made up.
	Untimed bool
	Format  *serial.Format
	Name    string
	// Speech is what is spoken, one without a protocol for what no family knows; nil until that is settled.
	Speech *Speech
	// Began is when it was first heard of, Greeted when it was accepted; zero where
	// the recording begins later.
	Began, Greeted time.Time
	// First and Last are the packets in which it was first and last heard of.
	First, Last int64
	// LastAt is when it was last heard of, SaidAt when each side last said something.
	LastAt time.Time
	SaidAt [2]time.Time
	// Octets is how many each side said, Pieces in how many segments.
	Octets, Pieces [2]int64
	// Missed is how many octets of each side the recording has not got.
	Missed [2]int64
	// Resent is how often each side had to say something again, LastResent in which
	// packet the last time.
	Resent     [2]int
	LastResent [2]int64
	// Tries is how often it was asked for.
	Tries int
	// Ending is how it ended, EndedBy by which side, EndedIn in which packet, EndedAt
	// when; they are zero where it did not.
	Ending  Ending
	EndedBy Side
	EndedIn int64
	EndedAt time.Time
	// Heard is how many exchanges were heard on it.
	Heard int
	// Notes is for whoever draws conclusions.
	Notes any

	opened  bool // the side that opened it is known
	halves  [2]half
	reader  Reader
	early   []Piece // what was said before it was known what is spoken
	judged  int     // of how many octets of that it was judged last
	settled bool    // it is known what is spoken, or that nobody knows
	turning bool    // its sides change places when the packet is done with
	told    bool    // its end was told
	older   *Conn   // in the order in which they were last heard of
	newer   *Conn
}

// Opened reports whether the recording has the beginning of the connection.
func (c *Conn) Opened() bool { return !c.Began.IsZero() && c.opened && c.Tries > 0 }

// half is what is kept of the stream of one side.
type half struct {
	known bool
	next  uint32    // the sequence number of the next octet
	first time.Time // when the first of those that wait came
	wait  []segment // what came before its turn, in order
	held  int       // octets of them
	acked uint32    // what the other side says it has, up to here
	heard bool      // acked is set
	ended bool
	// repeated is what was said again last, and repeats how often.
	repeated uint32
	repeats  int
}

type segment struct {
	seq    uint32
	octets []byte
	at     time.Time
	number int64
}

// after reports how far sequence number a is after b, modulo 2³² (RFC 9293,
// section 3.4).
func after(a, b uint32) int32 { return int32(a - b) }

// Bounds of what waits for a hole to be filled, of one side.
const (
	mostWaiting    = 64
	mostWaitOctets = 256 << 10
)

// Two segments with the same octets closer than this are one that was recorded
// twice; a hole that is filled sooner was filled by what was overtaken on its way.
const (
	sameSegment = time.Millisecond
	overtaken   = 3 * time.Millisecond
)

// segment takes in what one side sent.
func (a *Assembler) segment(c *Conn, side Side, p *Packet) {
	h := &c.halves[side]
	seq := p.Seq
	if p.Flags&SYN != 0 {
		h.known, h.next = true, seq+1
		return
	}
	if len(p.Payload) == 0 && p.Cut == 0 {
		return
	}
	if !h.known {
		h.known, h.next = true, seq
	}
	octets := p.Payload
	gap := int(after(seq, h.next)) // an int bears its opposite, whatever it is
	switch {
	case gap < 0 && -gap >= len(octets)+p.Cut: // said before
		probe := len(octets)+p.Cut <= 1 && gap == -1
		if !probe && p.At.Sub(c.SaidAt[side]) >= sameSegment {
			h.resent(c, side, p)
		}
		return
	case gap < 0: // partly
		octets = octets[min(-gap, len(octets)):]
	case gap > 0:
		a.early(c, side, p)
		return
	}
	if len(h.wait) > 0 && p.At.Sub(h.first) >= overtaken {
		h.resent(c, side, p)
	}
	h.next += uint32(len(octets))
	a.say(c, Piece{Side: side, Octets: octets, At: p.At, Number: p.Number})
	if p.Cut > 0 {
		h.next += uint32(p.Cut)
		a.lost(c, side, p.Cut)
	}
	a.drain(c, side)
}

// resent counts what was said again, the same only once.
func (h *half) resent(c *Conn, side Side, p *Packet) {
	if h.repeats > 0 && h.repeated == p.Seq {
		h.repeats++
		return
	}
	h.repeated, h.repeats = p.Seq, 1
	c.Resent[side]++
	c.LastResent[side] = p.Number
}

// Unconfirmed reports how often a side said its last in vain: how often it was said
// again and never confirmed.
func (c *Conn) Unconfirmed(side Side) int {
	h := &c.halves[side]
	if h.repeats > 0 && h.heard && after(h.acked, h.repeated) <= 0 {
		return h.repeats
	}
	return 0
}

// early keeps a segment that came before its turn.
func (a *Assembler) early(c *Conn, side Side, p *Packet) {
	h := &c.halves[side]
	if h.heard && after(h.acked, h.next) > 0 {
		// The other side has what is missing: it was not recorded.
		a.skip(c, side)
		a.drain(c, side)
		if after(p.Seq, h.next) <= 0 {
			a.segment(c, side, p)
			return
		}
	}
	if len(h.wait) == 0 {
		h.first = p.At
	}
	at := len(h.wait)
	for at > 0 && after(h.wait[at-1].seq, p.Seq) > 0 {
		at--
	}
	if at > 0 && h.wait[at-1].seq == p.Seq && len(h.wait[at-1].octets) >= len(p.Payload) {
		return
	}
	kept := segment{p.Seq, append([]byte(nil), p.Payload...), p.At, p.Number}
	h.wait = append(h.wait, segment{})
	copy(h.wait[at+1:], h.wait[at:])
	h.wait[at] = kept
	h.held += len(kept.octets)
	if len(h.wait) > mostWaiting || h.held > mostWaitOctets {
		a.skip(c, side)
		a.drain(c, side)
	}
}

// skip gives up the hole before the first that waits, or before what the other
// side has.
func (a *Assembler) skip(c *Conn, side Side) {
	h := &c.halves[side]
	to := h.acked
	if len(h.wait) > 0 && (!h.heard || after(h.wait[0].seq, h.acked) < 0 || after(h.acked, h.next) <= 0) {
		to = h.wait[0].seq
	}
	if n := after(to, h.next); n > 0 {
		h.next = to
		a.lost(c, side, int(n))
	}
}

// drain says what waited and now has its turn.
func (a *Assembler) drain(c *Conn, side Side) {
	h := &c.halves[side]
	for len(h.wait) > 0 && after(h.wait[0].seq, h.next) <= 0 {
		s := h.wait[0]
		h.wait = h.wait[1:]
		h.held -= len(s.octets)
		if old := int(after(h.next, s.seq)); old < len(s.octets) {
			h.next += uint32(len(s.octets) - old)
			a.say(c, Piece{Side: side, Octets: s.octets[old:], At: s.at, Number: s.number})
		}
	}
	if len(h.wait) == 0 {
		h.wait = nil
	}
}

// acknowledge takes in what the other side says it has of what side said.
func (a *Assembler) acknowledge(c *Conn, side Side, p *Packet) {
	h := &c.halves[side]
	if !h.heard || after(p.Ack, h.acked) > 0 {
		h.acked, h.heard = p.Ack, true
	}
	// What waits behind a hole that the far end has not: the recorder missed it.
	if len(h.wait) > 0 && h.known && after(h.acked, h.next) > 0 {
		a.skip(c, side)
		a.drain(c, side)
	}
}

func (a *Assembler) lost(c *Conn, side Side, octets int) {
	c.Missed[side] += int64(octets)
	if c.turning {
		side = side.Other()
	}
	if c.reader != nil {
		c.reader.Lost(side, octets)
	}
}

// turn has the two sides change places.
func (c *Conn) turn() {
	c.turning = false
	swap := func(of *[2]int64) { of[0], of[1] = of[1], of[0] }
	for _, of := range []*[2]int64{&c.Octets, &c.Pieces, &c.Missed, &c.LastResent} {
		swap(of)
	}
	c.Ends[0], c.Ends[1] = c.Ends[1], c.Ends[0]
	c.SaidAt[0], c.SaidAt[1] = c.SaidAt[1], c.SaidAt[0]
	c.Resent[0], c.Resent[1] = c.Resent[1], c.Resent[0]
	c.halves[0], c.halves[1] = c.halves[1], c.halves[0]
}
