package field

import (
	"slices"
	"time"

	"ferry/internal/core/exchange"
)

// Tape keeps what went over a connection for one question: every frame with its direction
// and time.
type Tape struct {
	began  time.Time
	frames []exchange.Frame
	anew   bool          // the next is the first over a connection opened anew
	pause  time.Duration // the longest inside an answer
}

// lumps is the longest pause inside an answer that says nothing: what is between parts it.
const lumps = 25 * time.Millisecond

// Begin begins a question: what goes over the connection from now on belongs to it.
func (t *Tape) Begin() { t.began, t.frames, t.pause = time.Now(), nil, 0 }

// Began is when the question began.
func (t *Tape) Began() time.Time { return t.began }

// Anew notes that the far end had ended the connection, and another was opened.
func (t *Tape) Anew() { t.anew = true }

// Out notes octets that went out, In some that came; late are those that answer an earlier
// question.
func (t *Tape) Out(at time.Time, octets []byte) { t.note(true, at, octets, false) }

// In is as Out.
func (t *Tape) In(at time.Time, octets []byte, late bool) { t.note(false, at, octets, late) }

func (t *Tape) note(out bool, at time.Time, octets []byte, late bool) {
	if len(octets) == 0 {
		return
	}
	after := float64(at.Sub(t.began)) / float64(time.Millisecond)
	if n := len(t.frames); n > 0 {
		after = max(after, t.frames[n-1].AfterMs) // an answer may be read before it is seen that its question has left
	}
	t.frames = append(t.frames, exchange.Frame{Out: out, AfterMs: after, Late: late, Anew: t.anew,
		Octets: slices.Clone(octets)})
	t.anew = false
}

// Paused notes that octets came at a time, and that others of the same frame had come
// before.
func (t *Tape) Paused(inside bool, at, before time.Time) {
	if inside {
		t.pause = max(t.pause, at.Sub(before))
	}
}

// Len is how many frames there are, Late notes that those from one on answer an earlier
// question.
func (t *Tape) Len() int { return len(t.frames) }

// Late is as Len.
func (t *Tape) Late(from int) {
	for i := from; i < len(t.frames); i++ {
		t.frames[i].Late = true
	}
}

// Before is how many octets that are not late came before the last frame.
func (t *Tape) Before() (octets int) {
	for i := range max(0, len(t.frames)-1) {
		if f := &t.frames[i]; !f.Out && !f.Late {
			octets += len(f.Octets)
		}
	}
	return octets
}

// Frames are those of the question; they are the receiver's to keep.
func (t *Tape) Frames() []exchange.Frame { return t.frames }

// Manner is in which odd way the answer came.
func (t *Tape) Manner() exchange.Manner {
	if t.pause > lumps {
		return exchange.Pieces
	}
	return 0
}
