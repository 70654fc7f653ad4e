package recording

import (
	"fmt"
	"testing"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/rehearsal"
)

// BenchmarkFindings judges a search through a network, of which nobody answers, as often
// as it is looked at while it is read.
func BenchmarkFindings(b *testing.B) {
	a := &actor{Stage: rehearsal.New()}
	r := New(nil)
	for host := range 80 {
		c := a.Dial(controller, fmt.Sprintf("10.20.0.%d:502", host+1))
		for unit := range 247 {
			c.Say(capture.Asker, tcp(a.next(), byte(unit+1), a.read(0, 1)...))
			a.Wait(200 * time.Millisecond)
		}
		c.Close(capture.Asker)
	}
	for i := range a.Packets {
		r.assembler.Packet(&a.Packets[i])
	}
	r.assembler.Finish()
	b.ReportAllocs()
	for b.Loop() {
		if n := len(r.Now().Findings); n != 80 {
			b.Fatal(n)
		}
	}
}
