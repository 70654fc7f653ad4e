package capture

import (
	"slices"
	"strings"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
)

// Piece is what one side said at one time.
type Piece struct {
	Side   Side
	Octets []byte // only there during the call
	At     time.Time
	Number int64 // of its packet
}

// Heard is an exchange as somebody heard it who is neither of its ends, or octets
// that belong to none. It and its octets are only there during the call.
type Heard struct {
	// Station is the number by which the asker tells those apart who answer there; -1
	// where there is none.
	Station int
	// Function is the family's number of what is asked for, Range the units that it
	// is about, if it is about such.
	Function int
	Range    block.Range
	Write    bool
	// More are further runs of units that one question is about, with what was answered to
	// each.
	More []Part
	// Asked and Answered are when, zero for what was not heard.
	Asked, Answered time.Time
	Outcome         exchange.Outcome
	Cause           exchange.Cause
	// Code is the error code of a refusal.
	Code   int
	Manner exchange.Manner
	// Overtaken is set where the next was asked before this was answered, GaveUp
	// after what time.
	Overtaken bool
	GaveUp    time.Duration
	// OverLimit is set where more is asked for than the protocol allows at once.
	OverLimit bool
	// ToAll is set where every station is asked at once.
	ToAll bool
	// Again is set where the same was asked just before and got no answer.
	Again bool
	// Greets is set where it is about the connection or the session over it: an answer to
	// it says nothing of those to other questions.
	Greets bool
	// Close is set where it follows what was said before without the silence that tells
	// frames apart.
	Close bool
	// Late is set where the same exchange was told of before, as not answered.
	Late bool
	// Broken says what is wrong with the answer: as a clause.
	Broken string
	// Request and Answer are the octets, Data those of the units read or written.
	Request, Answer, Data []byte
	// AskedIn and AnsweredIn are the packets, 0 for none.
	AskedIn, AnsweredIn int64
	// Report is set for what is told without being asked for each.
	Report *Report
	// Refusals are parts of what was asked for that were refused, where others were answered. Optional is set where
	// who answers need not know what is asked for: that it is refused says nothing.
	Refusals []Refusal
	Optional bool
	// Remarks are what else it shows.
	Remarks []Remark
	// Named are places that were asked for by their names, with what was answered.
	Named []Named
	// Opening is set where it opens or ends a connection over which packets go by
	// themselves, and Cycle where it is such a packet.
	Opening *Opening
	Cycle   *Cycle
	// Stray is why octets of Answer (or Request) belong to no exchange; empty for an
	// exchange.
	Stray string
}

// Named is a place with a name, and the octets that say what stands there. They are only
// there during the call.
type Named struct {
	Name    string
	Payload []byte
}

// Refusal is a place that was refused, with the error code of that.
type Refusal struct {
	Name string
	Code int
}

// Part is one of several runs of units that a question is about, with its data.
type Part struct {
	Range block.Range
	Data  []byte
}

// Latency is the time from question to answer; 0 where there is none.
func (h *Heard) Latency() time.Duration {
	if h.Answered.IsZero() || h.Asked.IsZero() {
		return 0
	}
	return h.Answered.Sub(h.Asked)
}

// Reader makes exchanges of what is said on one connection.
type Reader interface {
	// Said takes in what was said.
	Said(Piece)
	// Lost is told where octets of a side are missing.
	Lost(side Side, octets int)
	// Finish is told that nothing more comes, and when the last was heard.
	Finish(c *Conn, at time.Time)
}

// Fit says how well octets fit a speech.
type Fit uint8

// How well octets may fit.
const (
	Not    Fit = iota
	Unsure     // more octets are needed
	Likely
	Certain
)

// Speech is how exchanges of a protocol are heard.
type Speech struct {
	// Protocol is its name in package protocol.
	Protocol string
	// Datagrams is set where each piece stands for itself.
	Datagrams bool
	// Serial is set where it is spoken on serial lines, and not over a network.
	Serial bool
	// Recognise judges the first octets that each side said.
	Recognise func(said [2][]byte) Fit
	// AskerOf tells from the first octets of a connection which of its sides asks;
	// false for the second. It is only asked where the recording does not tell.
	AskerOf func(said [2][]byte) (first, known bool)
	// New returns a reader.
	New func(c *Conn, heard func(*Heard)) Reader
	// Words says what is asked for, in words.
	Words func(h *Heard) string
	// Question and Answer label octets.
	Question func(request []byte) []exchange.Field
	Answer   func(request, answer []byte, points []exchange.Labelled) []exchange.Field
	// Covers reports whether what is subscribed to holds a name; nil where nothing is
	// subscribed to.
	Covers func(filter, name string) bool
	// Units are those that an answer brings, each in whole octets; nil for none.
	Units func(request, answer []byte) []byte
}

var speeches []*Speech

// Register adds a speech.
func Register(s *Speech) {
	speeches = append(speeches, s)
	slices.SortFunc(speeches, func(a, b *Speech) int { return strings.Compare(a.Protocol, b.Protocol) })
}

// Speeches lists those registered, by protocol.
func Speeches() []*Speech { return speeches }

// Bounds of what is kept of a connection until it is known what is spoken, and how many pieces are judged one by one:
// after those, it is judged again whenever a quarter more has come.
const (
	mostEarly       = 512
	mostEarlyOctets = 2048
	oneByOne        = 24
)

// say hands on what was said.
func (a *Assembler) say(c *Conn, p Piece) {
	if len(p.Octets) == 0 {
		return
	}
	c.Octets[p.Side] += int64(len(p.Octets))
	c.Pieces[p.Side]++
	c.SaidAt[p.Side] = p.At
	switch {
	case c.reader != nil:
		if c.turning {
			p.Side = p.Side.Other()
		}
		c.reader.Said(p)
	case !c.settled:
		a.recognise(c, p)
	}
}

// recognise finds out what is spoken.
func (a *Assembler) recognise(c *Conn, p Piece) {
	total := len(p.Octets)
	for _, e := range c.early {
		total += len(e.Octets)
	}
	full := len(c.early) >= mostEarly || total > mostEarlyOctets || len(p.Octets) == 0
	if len(c.early) >= oneByOne && !full && total < c.judged+c.judged/4 {
		p.Octets = append([]byte(nil), p.Octets...)
		c.early = append(c.early, p)
		return
	}
	c.judged = total
	var said [2][]byte
	if len(c.early) == 0 {
		said[p.Side] = p.Octets
	} else {
		for _, e := range append(c.early, p) {
			said[e.Side] = append(said[e.Side], e.Octets...)
		}
	}
	best, fit, open := (*Speech)(nil), Not, false
	var may []*Speech
	for _, s := range speeches {
		if s.Datagrams != c.Datagrams || s.Serial != c.Serial {
			continue
		}
		f := s.Recognise(said)
		open = open || f == Unsure
		if f > fit && f != Unsure {
			best, fit = s, f
		}
		if f == Unsure {
			may = append(may, s)
		}
	}
	if fit != Certain && !full && (open || fit == Likely) {
		p.Octets = append([]byte(nil), p.Octets...)
		c.early = append(c.early, p)
		return
	}
	if best == nil && len(may) == 1 && len(p.Octets) == 0 {
		best = may[0] // more will not come
	}
	a.settle(c, best, said)
	early := c.early
	c.early = nil
	if c.reader == nil {
		return
	}
	for _, e := range append(early, p) {
		if c.turning {
			e.Side = e.Side.Other()
		}
		c.reader.Said(e)
	}
}

// settle decides on what is spoken.
func (a *Assembler) settle(c *Conn, s *Speech, said [2][]byte) {
	c.settled = true
	if s == nil {
		s = unknown
	}
	c.Speech = s
	if !c.opened && s.AskerOf != nil {
		if first, known := s.AskerOf(said); known && !first {
			c.turning = true
		}
	}
	c.opened = true
	c.reader = s.New(c, func(h *Heard) {
		if h.Stray == "" && !h.Late {
			c.Heard++
			a.Exchanges++
		}
		a.to.Heard(c, h)
	})
}
