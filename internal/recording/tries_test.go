package recording

import (
	"math/rand/v2"
	"testing"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/rehearsal"
)

// TestTries: what is asked again for want of an answer is the next try of one question, which
// knows the first, also where the exchanges are put into the order of time.
func TestTries(t *testing.T) {
	a := &actor{Stage: rehearsal.New(), rnd: rand.New(rand.NewPCG(1, 2))}
	c := a.Dial(controller, skid)
	a.polls(c, 1, 3)
	for i := range 3 {
		ask := tcp(a.next(), 1, a.read(40, 2)...)
		if i < 2 {
			c.Say(capture.Asker, ask)
			a.Wait(time.Second)
			continue
		}
		c.Talk(ask, tcp(a.transaction, 1, a.registers(2)...), time.Millisecond)
	}
	a.polls(c, 1, 3)
	x, err := NewIndex(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(x.Close)
	assembler := capture.NewAssembler(x)
	for i := range a.Packets {
		assembler.Packet(&a.Packets[i])
	}
	assembler.Finish()
	if err := x.Settle(); err != nil {
		t.Fatal(err)
	}
	var tries []int
	first := -1
	if err := x.each(0, func(i int, r *Row) bool {
		if r.Range.Start != 40 {
			if r.Try != 1 || r.First != i {
				t.Errorf("row %d is try %d of %d", i, r.Try, r.First)
			}
			return true
		}
		if r.Try == 1 {
			first = i
		}
		if r.First != first {
			t.Errorf("row %d has its first try at %d, not at %d", i, r.First, first)
		}
		tries = append(tries, r.Try)
		return true
	}); err != nil {
		t.Fatal(err)
	}
	if len(tries) != 3 || tries[0] != 1 || tries[1] != 2 || tries[2] != 3 {
		t.Errorf("tries are %v", tries)
	}
}
