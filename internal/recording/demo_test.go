package recording

import (
	"math/rand/v2"
	"os"
	"testing"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/rehearsal"
)

// hatchery plays ten minutes of the hatchery's network with several things wrong.
func hatchery() *rehearsal.Stage {
	a := &actor{Stage: rehearsal.New(), rnd: rand.New(rand.NewPCG(3, 9))}
	skidConn := a.Dial(controller, skid)
	gate := a.Dial(controller, gateway)
	var stranger *rehearsal.Conn
	for i := range 600 {
		began := a.Now
		id := a.next()
		skidConn.Talk(tcp(id, 1, a.read(0, 12)...), tcp(id, 1, a.registers(12)...), a.think())
		for _, unit := range []byte{13, 14, 15} {
			id := a.next()
			request, answer := tcp(id, unit, a.read(0, 12)...), tcp(id, unit, a.registers(12)...)
			gate.Talk(request, answer, a.think())
			if unit == 13 && i%10 == 4 {
				a.Wait(4 * time.Millisecond)
				gate.Say(capture.Answerer, tcp(id, unit, a.registers(12)...))
			}
		}
		if i%3 == 0 {
			id := a.next()
			gate.Talk(tcp(id, 15, a.read(24, 30)...), tcp(id, 15, 0x83, 2), a.think())
			id = a.next()
			gate.Talk(tcp(id, 15, a.read(24, 2)...), tcp(id, 15, a.registers(2)...), a.think())
		}
		if i%5 == 2 {
			gate.Say(capture.Asker, tcp(a.next(), 41, a.read(0, 4)...))
		}
		if i > 200 && i%2 == 0 {
			if stranger == nil {
				stranger = a.Dial("192.0.2.77", skid)
			}
			id := a.next()
			stranger.Talk(tcp(id, 1, a.read(0, 12)...), tcp(id, 1, a.registers(12)...), a.think())
		}
		if i%150 == 30 {
			c := a.Begin(controller, "192.0.2.44:502")
			a.Wait(100 * time.Millisecond)
			c.Again()
			a.Wait(100 * time.Millisecond)
			c.Again()
		}
		a.Now = began.Add(time.Second)
	}
	return a.Stage
}

func TestHatcheryFile(t *testing.T) {
	if out := os.Getenv("FERRY_HATCHERY"); out != "" {
		if err := os.WriteFile(out, written(t, hatchery()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}
