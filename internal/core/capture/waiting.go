package capture

import (
	"fmt"
	"slices"
	"time"

	"ferry/internal/core/exchange"
)

// Waiting keeps the questions of one connection until their answers come, for speeches
// whose answers say what they are to.
type Waiting struct {
	Heard func(*Heard)
	// Overlaps is set where whoever asks does not wait for the answer before the next.
	Overlaps bool

	asked []*waits
	spare []*waits
	out   Heard
	whole bool // a question was heard, and nothing was lost since
	// done are the references that were answered last, next the oldest of them.
	done []uint64
	next int
}

type waits struct {
	ref     uint64
	heard   Heard
	request []byte
	data    []byte
	missing bool
}

// Bounds of what waits on one connection, and for how long.
const (
	mostWaits    = 64
	longestWaits = 30 * time.Second
	shortest     = 100 * time.Millisecond
)

// Ask keeps a question under its reference. Its octets are copied.
func (w *Waiting) Ask(ref uint64, h *Heard) {
	w.whole = true
	if n := len(w.asked); n > 0 && w.asked[n-1].heard.GaveUp == 0 && !w.Overlaps {
		w.asked[n-1].heard.GaveUp = h.Asked.Sub(w.asked[n-1].heard.Asked)
	}
	for len(w.asked) > 0 && (len(w.asked) >= mostWaits || h.Asked.Sub(w.asked[0].heard.Asked) > longestWaits) {
		w.none(w.asked[0], exchange.NoAnswer)
		w.drop(0)
	}
	of := &waits{}
	if n := len(w.spare); n > 0 {
		of, w.spare = w.spare[n-1], w.spare[:n-1]
	}
	*of = waits{ref: ref, heard: *h, request: append(of.request[:0], h.Request...), data: append(of.data[:0], h.Data...)}
	w.asked = append(w.asked, of)
}

func (w *Waiting) drop(i int) {
	w.spare = append(w.spare, w.asked[i])
	w.asked = append(w.asked[:i], w.asked[i+1:]...)
}

// Answer ends the exchange of a reference; fill says what the answer is. It reports
// false where nothing waits under that reference: one that was never asked answers what
// waits wrongly, and what was answered already is told of as strays.
func (w *Waiting) Answer(ref uint64, p Piece, answer []byte, fill func(*Heard)) bool {
	for i, of := range w.asked {
		if of.ref != ref {
			continue
		}
		w.out = of.heard
		h := &w.out
		h.Request, h.Data = of.request, of.data
		h.Answered, h.AnsweredIn, h.Answer, h.Outcome = p.At, p.Number, answer, exchange.Answered
		h.Overtaken = i < len(w.asked)-1 && !w.Overlaps
		fill(h)
		w.Heard(h)
		w.drop(i)
		if len(w.done) < mostWaits {
			w.done = append(w.done, ref)
		} else {
			w.done[w.next] = ref
			w.next = (w.next + 1) % mostWaits
		}
		return true
	}
	switch {
	case !w.whole:
		w.Stray(p, answer, "its question is not in the recording")
	case slices.Contains(w.done, ref):
		w.Stray(p, answer, "its question was answered already")
	default:
		w.Broken(p, answer, fmt.Sprintf("it answers question %d, which was not asked", ref))
	}
	return false
}

// Broken is told of what the answerer says that is no answer to anything: where a question
// waits it is what came in place of its answer.
func (w *Waiting) Broken(p Piece, octets []byte, why string) { w.BrokenBy(p, octets, why, "") }

// BrokenBy is Broken with the cause, where that has a name.
func (w *Waiting) BrokenBy(p Piece, octets []byte, why string, cause exchange.Cause) {
	if len(w.asked) == 0 || p.Side == Asker {
		w.Stray(p, octets, why)
		return
	}
	of := w.asked[0]
	w.out = of.heard
	h := &w.out
	h.Request, h.Data = of.request, nil
	h.Answered, h.AnsweredIn, h.Answer, h.Outcome, h.Broken = p.At, p.Number, octets, exchange.Garbled, why
	h.Cause = cause
	w.Heard(h)
	w.drop(0)
}

// Alone tells of an exchange that needs no answer, or of a report.
func (w *Waiting) Alone(h *Heard) { w.Heard(h) }

// Torn is told, before Finish, of what the answerer had begun to say when the connection
// ended.
func (w *Waiting) Torn(c *Conn, p Piece, rest []byte) {
	if len(rest) > 0 && (c.Ending == Closed || c.Ending == Torn) {
		w.Broken(p, rest, "the rest of it does not come")
	}
}

// Stray tells of octets that belong to no exchange.
func (w *Waiting) Stray(p Piece, octets []byte, why string) {
	w.out = Heard{Station: -1, Stray: why}
	if p.Side == Asker {
		w.out.Asked, w.out.AskedIn, w.out.Request = p.At, p.Number, octets
	} else {
		w.out.Answered, w.out.AnsweredIn, w.out.Answer = p.At, p.Number, octets
	}
	w.Heard(&w.out)
}

// Lost is told where octets are missing: what waits may have been answered.
func (w *Waiting) Lost() {
	for _, of := range w.asked {
		of.missing = true
	}
	w.whole = false
}

func (w *Waiting) none(of *waits, outcome exchange.Outcome) {
	if of.missing {
		return
	}
	w.out = of.heard
	w.out.Request, w.out.Data, w.out.Outcome = of.request, of.data, outcome
	w.Heard(&w.out)
}

// Finish ends what still waits, as the connection ended.
func (w *Waiting) Finish(c *Conn, at time.Time) {
	for _, of := range w.asked {
		waited := at.Sub(of.heard.Asked)
		switch {
		case c.Unconfirmed(Asker) >= 2:
			w.none(of, exchange.Unreached)
		case c.EndedBy == Answerer && c.Ending == Torn:
			w.none(of, exchange.Reset)
		case c.EndedBy == Answerer && c.Ending == Closed:
			w.none(of, exchange.Closed)
		case waited >= shortest && c.Ending != Cut, waited >= time.Second:
			w.none(of, exchange.NoAnswer)
		}
	}
	w.asked = nil
}

// Frames cuts the octets of one side into frames. length returns that of the frame which
// begins with b, 0 if b is too short to tell, and an error where none can begin there.
type Frames struct {
	octets []byte
}

// Take hands each whole frame to each; what is no frame goes to broken, with all behind
// it.
func (f *Frames) Take(b []byte, length func([]byte) (int, error), each func([]byte), broken func([]byte, error)) {
	if len(f.octets) > 0 {
		f.octets = append(f.octets, b...)
		b = f.octets
	}
	from := 0
	for from < len(b) {
		n, err := length(b[from:])
		if err != nil {
			broken(b[from:], err)
			from = len(b)
			break
		}
		if n == 0 || len(b)-from < n {
			break
		}
		each(b[from : from+n])
		from += n
	}
	f.octets = append(f.octets[:0], b[from:]...)
}

// Rest is what has come of a frame that is not whole yet.
func (f *Frames) Rest() []byte { return f.octets }

// Drop forgets what has come of a frame.
func (f *Frames) Drop() { f.octets = f.octets[:0] }
