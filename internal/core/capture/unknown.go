package capture

import "time"

// Plain is why octets are strays that no family knows: they are counted, timed and
// shown, and nothing is concluded from them.
const Plain = "in no protocol that Ferry knows"

// Sealed is why octets are strays that are under TLS.
const Sealed = "under TLS: what it says stays secret"

// unknown is the speech of what nobody knows.
var unknown = &Speech{New: func(_ *Conn, heard func(*Heard)) Reader { return &plainEar{heard: heard, why: Plain} }}

// mostPlain bounds the pieces that are told of on one connection.
const mostPlain = 500

// plainEar tells of what was said as it came.
type plainEar struct {
	heard func(*Heard)
	why   string
	told  int
	out   Heard
}

// Said implements Reader.
func (e *plainEar) Said(p Piece) {
	if e.told >= mostPlain || len(p.Octets) == 0 {
		return
	}
	e.told++
	e.out = Heard{Station: -1, Stray: e.why}
	if p.Side == Asker {
		e.out.Asked, e.out.AskedIn, e.out.Request = p.At, p.Number, p.Octets
	} else {
		e.out.Answered, e.out.AnsweredIn, e.out.Answer = p.At, p.Number, p.Octets
	}
	e.heard(&e.out)
}

// Lost implements Reader.
func (e *plainEar) Lost(Side, int) {}

// Finish implements Reader.
func (e *plainEar) Finish(*Conn, time.Time) {}
