package capture

import (
	"encoding/binary"
	"fmt"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
)

// secured is the speech of connections under TLS, of which only the beginning can be read:
// whether it comes about, and who breaks it off (RFC 8446 and RFC 5246). What is said over
// it stays secret.
var secured = &Speech{Recognise: beginsSecured, AskerOf: greetsSecured,
	New: func(_ *Conn, heard func(*Heard)) Reader {
		return &securedEar{plain: plainEar{heard: heard, why: Sealed}}
	},
	Words: func(*Heard) string { return "set TLS up" }}

func init() { Register(secured) }

// Records of TLS: type, version of 16 bits, length of 16 bits, octets (RFC 8446, clause
// 5.1).
const (
	recordHead      = 5
	recordCipher    = 20
	recordAlert     = 21
	recordHandshake = 22
	recordData      = 23
	mostRecord      = 1<<14 + 256
	// sealedAlert is how long an alert is that is encrypted in version 1.3: level,
	// description, its type, and 16 octets of check.
	sealedAlert = 2 + 1 + 16
)

func recordLen(b []byte) (int, error) {
	if len(b) > 0 && (b[0] < recordCipher || b[0] > recordData) || len(b) > 1 && b[1] != 3 {
		return 0, fmt.Errorf("no record of TLS begins with %02X", b[0])
	}
	if len(b) < recordHead {
		return 0, nil
	}
	n := int(binary.BigEndian.Uint16(b[3:]))
	if n > mostRecord {
		return 0, fmt.Errorf("a record of %d octets: %d are the most", n, mostRecord)
	}
	return recordHead + n, nil
}

// hello reports whether octets begin with the first message of a handshake: of the asking
// end 1, of the answering end 2.
func hello(b []byte, of byte) bool {
	return len(b) > recordHead+3 && b[0] == recordHandshake && b[1] == 3 && b[2] <= 4 && b[recordHead] == of
}

func beginsSecured(said [2][]byte) Fit {
	for _, b := range said {
		if hello(b, 1) {
			return Certain
		}
	}
	return Not
}

func greetsSecured(said [2][]byte) (first, known bool) {
	return hello(said[0], 1), hello(said[0], 1) || hello(said[1], 1)
}

// securedEar follows a handshake.
type securedEar struct {
	plain  plainEar
	frames [2]Frames
	began  Piece
	hello  []byte
	sealed [2]int // encrypted records of each side
	since  int    // those of the answerer since the asker's first that is no alert
	last   [2]struct {
		kind byte
		len  int
	}
	alert  string // what was said in clear
	by     Side
	broken bool // octets came that are no records
	heard  bool
	answer Piece
}

// Said implements Reader.
func (e *securedEar) Said(p Piece) {
	e.plain.Said(p)
	e.frames[p.Side].Take(p.Octets, recordLen, func(r []byte) { e.record(p, r) }, func([]byte, error) { e.broken = true })
	if p.Side == Answerer && e.answer.At.IsZero() {
		e.answer = p
		e.answer.Octets = nil
	}
}

func (e *securedEar) record(p Piece, r []byte) {
	body := r[recordHead:]
	switch {
	case r[0] == recordHandshake && e.hello == nil && p.Side == Asker:
		e.began = p
		e.began.Octets, e.hello = nil, append([]byte{}, r...)
	case r[0] == recordAlert && len(body) == 2 && body[0] == 2:
		e.alert, e.by = AlertWords(int(body[1])), p.Side
	case r[0] == recordData:
		e.sealed[p.Side]++
		if p.Side == Asker && len(body) != sealedAlert {
			e.since = 0
		} else if p.Side == Answerer {
			e.since++
		}
	case r[0] == recordCipher: // of version 1.2, or for show
	}
	e.last[p.Side].kind, e.last[p.Side].len = r[0], len(body)
}

// Lost implements Reader: nothing can be told any more.
func (e *securedEar) Lost(Side, int) { e.broken = true }

// Finish implements Reader.
func (e *securedEar) Finish(c *Conn, at time.Time) {
	if e.heard || e.hello == nil || e.broken {
		return
	}
	e.heard = true
	h := Heard{Station: -1, Function: recordHandshake, Greets: true, Asked: e.began.At, AskedIn: e.began.Number,
		Request: e.hello, Outcome: exchange.Answered, Answered: e.answer.At, AnsweredIn: e.answer.Number}
	ended := c.Ending == Closed || c.Ending == Torn
	who := map[Side]string{Asker: "the asking end", Answerer: "the answering end"}
	why := ""
	alone := func(side Side) bool { return e.last[side].kind == recordData && e.last[side].len == sealedAlert }
	switch {
	case e.alert != "":
		why = who[e.by] + " says: " + e.alert
	case !ended:
	case e.answer.At.IsZero():
		h.Outcome = exchange.NoAnswer
	case e.sealed[Asker] == 1 && alone(Asker):
		why = "the asking end breaks it off once it has seen the certificate of the other"
	case e.sealed[Asker] >= 1 && e.since == 1 && alone(Answerer):
		why = "the answering end breaks it off once it has seen what the asking end has to show"
	case e.sealed[Asker] == 0 && e.last[Asker].kind != recordCipher:
		why = who[c.EndedBy] + " ends the connection in the middle of it"
	}
	if why != "" {
		h.Outcome, h.Cause, h.Broken = exchange.Garbled, exchange.Insecure, why
	}
	e.plain.heard(&h)
}

// alerts are those by which an end says that TLS does not come about (RFC 8446, clause 6).
var alerts = map[int]protocol.Declined{
	40: {Title: "handshake failure", Means: "Both ends have nothing in common, or a certificate is wanted and not shown.",
		Causes: "Compare the versions of TLS that both allow, and whether the other end wants a certificate of this one."},
	42: {Title: "bad certificate", Means: "The certificate is damaged, or signed wrongly.",
		Causes: "Make it anew, and look whether the whole chain is sent."},
	43: {Title: "unsupported certificate", Means: "The certificate is of a kind that is not taken.",
		Causes: "Make one with another kind of key."},
	44: {Title: "certificate revoked", Means: "The certificate was called back.", Causes: "Have a new one made."},
	45: {Title: "certificate expired", Means: "The certificate is not valid at this time.",
		Causes: "Look at its dates, and at the clocks of both ends."},
	46: {Title: "certificate unknown", Means: "The certificate is not accepted for another reason.",
		Causes: "Compare its name with the address that is asked, and what it may be used for."},
	48: {Title: "unknown certificate authority", Means: "Nobody who is trusted signed the certificate.",
		Causes: "Name the certificate of the other end, or of who signed it, where this end says whom it trusts."},
	70: {Title: "protocol version", Means: "The version of TLS is not supported.",
		Causes: "Allow version 1.2 or 1.3 at both ends."},
	80: {Title: "internal error", Means: "The other end failed.", Causes: "Look at its log."},
	112: {Title: "unrecognised name", Means: "It has no certificate for the name that it is asked by.",
		Causes: "Ask by the name that its certificate is for."},
	116: {Title: "certificate required", Means: "A certificate of the asking end is wanted, and none was shown.",
		Causes: "Give this end a certificate that the other knows."},
}

// AlertWords says what an alert of TLS means.
func AlertWords(code int) string {
	if d, ok := alerts[code]; ok {
		return fmt.Sprintf("%s (alert %d)", d.Title, code)
	}
	return fmt.Sprintf("alert %d", code)
}

// Alerts are the alerts of TLS that have a name, and what each means.
func Alerts() map[int]protocol.Declined { return alerts }
