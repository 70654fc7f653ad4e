package capture

import (
	"net/netip"
	"time"
)

// Listener is told what a recording holds, as it goes on.
type Listener interface {
	// Packet is told of each packet, before it is known what comes of it.
	Packet(p *Packet)
	// Opened is told of each connection that was accepted, or is found open.
	Opened(c *Conn)
	// Heard is told of each exchange, and of octets that belong to none.
	Heard(c *Conn, h *Heard)
	// Done is told of each connection when it has ended, or the recording has.
	Done(c *Conn)
}

// mostOpen is how many connections are followed at once.
const mostOpen = 1 << 16

// mostOver is how many are remembered that are over.
const mostOver = 1 << 14

// closing is for how long what is over is remembered, for what still comes of it.
const closing = time.Second

// Assembler puts the packets of a recording together. They are to come in the order
// in which they were recorded; where their times run backwards that does no harm.
type Assembler struct {
	// Packets, Conns and Exchanges count what was there.
	Packets, Exchanges int64
	Conns              int
	// Crowded counts connections that were given up because too many were open.
	Crowded int
	// Backwards counts packets whose time is before that of the one before.
	Backwards int64
	// First and Last are the times of the recording.
	First, Last time.Time

	to     Listener
	open   map[pair]*Conn
	oldest *Conn
	newest *Conn
	recent *Conn // the last that a packet was of
	lines  map[string]*Conn
	over   []*Conn // those that have ended, for what still comes of them
}

// pair names a connection, whichever end speaks: its lower end first.
type pair struct {
	a, b netip.AddrPort
	kind Kind
}

func pairOf(p *Packet) pair {
	if p.From.Compare(p.To) <= 0 {
		return pair{p.From, p.To, p.Kind}
	}
	return pair{p.To, p.From, p.Kind}
}

// NewAssembler returns an assembler that tells l.
func NewAssembler(l Listener) *Assembler { return &Assembler{to: l, open: map[pair]*Conn{}} }

// Packet takes in one packet.
func (a *Assembler) Packet(p *Packet) {
	a.Packets++
	if a.First.IsZero() {
		a.First = p.At
	}
	if p.At.Before(a.Last) {
		a.Backwards++
	} else {
		a.Last = p.At
	}
	a.to.Packet(p)
	a.sweep(p.At)
	if p.Kind == Serial {
		a.heard(p)
		return
	}
	if p.Kind != TCP && p.Kind != UDP {
		return
	}
	c := a.conn(p)
	if c == nil {
		return
	}
	c.Last, c.LastAt = p.Number, p.At
	side := Asker
	if p.From != c.Ends[Asker] {
		side = Answerer
	}
	if p.Kind == UDP {
		a.say(c, Piece{Side: side, Octets: p.Payload, At: p.At, Number: p.Number})
		if p.Cut > 0 {
			a.lost(c, side, p.Cut)
		}
	} else {
		a.handshake(c, side, p)
		a.segment(c, side, p)
		if p.Flags&ACK != 0 {
			a.acknowledge(c, side.Other(), p)
		}
		a.farewell(c, side, p)
	}
	if c.turning {
		c.turn()
	}
}

// conn finds or makes the connection of a packet; nil for what belongs to none.
func (a *Assembler) conn(p *Packet) *Conn {
	if c := a.recent; c != nil && (c.Ends == [2]netip.AddrPort{p.From, p.To} ||
		c.Ends == [2]netip.AddrPort{p.To, p.From}) && c.Datagrams == (p.Kind == UDP) && !a.anew(c, p) {
		a.touch(c)
		return c
	}
	key := pairOf(p)
	c := a.open[key]
	if c != nil && a.anew(c, p) {
		a.end(c)
		c = nil
	}
	if c == nil {
		if p.Kind == TCP && p.Flags&SYN == 0 && (p.Flags&(FIN|RST) != 0 || len(p.Payload) == 0) {
			return nil // the last of something that is over, or of which nothing is known
		}
		c = a.begin(key, p)
	}
	a.touch(c)
	a.recent = c
	return c
}

// anew reports whether a packet begins another connection between the same ends.
func (a *Assembler) anew(c *Conn, p *Packet) bool {
	if p.Kind != TCP || p.Flags&SYN == 0 {
		return c.Datagrams && p.At.Sub(c.LastAt) > time.Hour
	}
	if c.Ending != Open {
		return true
	}
	side := Asker
	if p.From != c.Ends[Asker] {
		side = Answerer
	}
	h := &c.halves[side]
	return h.known && after(p.Seq+1, h.next) != 0 && (c.Octets[0] > 0 || c.Octets[1] > 0 || p.Flags&ACK == 0)
}

func (a *Assembler) begin(key pair, p *Packet) *Conn {
	if len(a.open) >= mostOpen {
		a.Crowded++
		a.end(a.oldest)
	}
	a.Conns++
	c := &Conn{Number: a.Conns, Datagrams: p.Kind == UDP, Began: p.At, First: p.Number,
		Ends: [2]netip.AddrPort{p.From, p.To}}
	// Without its beginning the lower port is taken for that which answers, until what
	// is said tells otherwise.
	switch {
	case p.Kind == TCP && p.Flags&SYN != 0:
		c.opened = true
		if p.Flags&ACK != 0 {
			c.Ends = [2]netip.AddrPort{p.To, p.From}
		}
	case p.From.Port() < p.To.Port():
		c.Ends = [2]netip.AddrPort{p.To, p.From}
	}
	a.open[key] = c
	if p.Kind != TCP || p.Flags&SYN == 0 {
		a.to.Opened(c)
	}
	return c
}

// touch makes a connection the one heard of last.
func (a *Assembler) touch(c *Conn) {
	if a.newest == c {
		return
	}
	a.unlink(c)
	c.older, c.newer = a.newest, nil
	if a.newest != nil {
		a.newest.newer = c
	} else {
		a.oldest = c
	}
	a.newest = c
}

func (a *Assembler) unlink(c *Conn) {
	if c.older != nil {
		c.older.newer = c.newer
	} else if a.oldest == c {
		a.oldest = c.newer
	}
	if c.newer != nil {
		c.newer.older = c.older
	} else if a.newest == c {
		a.newest = c.older
	}
	c.older, c.newer = nil, nil
}

// handshake follows how a connection is asked for and accepted.
func (a *Assembler) handshake(c *Conn, side Side, p *Packet) {
	switch {
	case p.Flags&(SYN|ACK) == SYN && side == Asker:
		c.Tries++
	case p.Flags&(SYN|ACK) == SYN|ACK && c.Greeted.IsZero():
		c.Greeted = p.At
		a.to.Opened(c)
	}
}

// farewell follows how it ends.
func (a *Assembler) farewell(c *Conn, side Side, p *Packet) {
	switch {
	case p.Flags&RST != 0 && c.Ending == Open:
		c.Ending = Torn
		if c.Tries > 0 && c.Greeted.IsZero() && side == Answerer {
			c.Ending = Turned
		}
		c.EndedBy, c.EndedIn, c.EndedAt = side, p.Number, p.At
		a.finish(c, p.At)
	case p.Flags&FIN != 0:
		if h := &c.halves[side]; !h.ended {
			h.ended = true
			if p.Seq+uint32(len(p.Payload)+p.Cut) == h.next {
				h.next++
			}
		}
		if c.Ending == Open {
			c.Ending, c.EndedBy, c.EndedIn, c.EndedAt = Closed, side, p.Number, p.At
		}
		if c.halves[0].ended && c.halves[1].ended {
			a.finish(c, p.At)
		}
	}
}

// finish tells the reader, once.
func (a *Assembler) finish(c *Conn, at time.Time) {
	if !c.settled && len(c.early) > 0 {
		a.recognise(c, Piece{At: at}) // more will not come
	}
	if c.turning {
		c.turn()
	}
	if c.reader != nil {
		c.reader.Finish(c, at)
		c.reader = nil
	}
	c.settled, c.early = true, nil
	if c.Ending != Open && c.Ending != Cut && !c.told {
		a.over = append(a.over, c)
	}
}

// end forgets a connection and tells of it.
func (a *Assembler) end(c *Conn) {
	if c.told {
		return
	}
	c.told = true
	if !c.Serial {
		delete(a.open, pairOf(&Packet{From: c.Ends[0], To: c.Ends[1], Kind: c.kind()}))
	}
	a.unlink(c)
	if a.recent == c {
		a.recent = nil
	}
	if c.Ending == Open {
		c.Ending = Cut
		if c.Tries > 0 && c.Greeted.IsZero() {
			c.Ending = Unheard
		}
	}
	at := c.LastAt
	if c.Ending == Cut {
		at = a.Last
	}
	a.finish(c, at)
	a.to.Done(c)
}

func (c *Conn) kind() Kind {
	if c.Datagrams {
		return UDP
	}
	return TCP
}

// sweep forgets what has been over for a while.
func (a *Assembler) sweep(now time.Time) {
	for len(a.over) > 0 && (now.Sub(a.over[0].LastAt) > closing || len(a.over) > mostOver) {
		c := a.over[0]
		a.over = a.over[1:]
		a.end(c)
	}
}

// Finish ends what is still open. Nothing may come after it.
func (a *Assembler) Finish() {
	for a.oldest != nil {
		a.end(a.oldest)
	}
}

// mostLines bounds the serial lines of a recording.
const mostLines = 256

// heard takes in what was heard on a serial line.
func (a *Assembler) heard(p *Packet) {
	c := a.lines[p.Line]
	if c == nil {
		if len(a.lines) >= mostLines {
			a.Crowded++
			return
		}
		a.Conns++
		c = &Conn{Number: a.Conns, Serial: true, OneWay: p.OneWay, Untimed: p.Untimed, Format: p.Format, Name: p.Line,
			opened: p.OneWay, Began: p.At, First: p.Number}
		if a.lines == nil {
			a.lines = map[string]*Conn{}
		}
		a.lines[p.Line] = c
		a.to.Opened(c)
	}
	a.touch(c)
	c.Last, c.LastAt = p.Number, p.At
	a.say(c, Piece{Side: p.Side, Octets: p.Payload, At: p.At, Number: p.Number})
	if c.turning {
		c.turn()
	}
}
