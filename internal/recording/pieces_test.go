package recording

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/rehearsal"
)

// cut has the octets of each segment come in several, of up to so many octets.
func cut(packets []capture.Packet, most int) (list []capture.Packet) {
	random := rand.New(rand.NewPCG(5, uint64(most)))
	for _, p := range packets {
		for rest := p.Payload; ; {
			n := len(rest)
			if p.Kind == capture.TCP && p.Cut == 0 {
				n = min(n, 1+random.IntN(most))
			}
			piece := p
			piece.Payload, piece.Number = rest[:n], int64(len(list)+1)
			list = append(list, piece)
			if rest = rest[n:]; len(rest) == 0 {
				break
			}
			p.Seq += uint32(n)
			p.At = p.At.Add(20 * time.Microsecond)
		}
	}
	return list
}

// TestPieces: in whichever segments the octets of a connection come, the same exchanges are heard in every family and
// the same is found of them.
func TestPieces(t *testing.T) {
	judged := func(packets []capture.Packet) (string, int64) {
		r := New(nil)
		for i := range packets {
			r.assembler.Packet(&packets[i])
		}
		got := r.Finish()
		return codes(got.Findings), got.Exchanges
	}
	for _, s := range append(append([]scene{}, scenes...), others...) {
		if strings.Contains(s.name, "missed") || strings.Contains(s.name, "overtake") || s.name == "stalled" {
			continue // what counts there are the segments
		}
		a := &actor{Stage: rehearsal.New(), rnd: rand.New(rand.NewPCG(7, 0))}
		s.play(a)
		a.Wait(3 * time.Second)
		a.Ask(panel, panel)
		want, exchanges := judged(a.Packets)
		for _, most := range []int{1, 2, 3, 5, 9, 20, 60, 400} {
			if got, n := judged(cut(a.Packets, most)); got != want || n != exchanges {
				t.Errorf("%s, up to %d octets at once: %d exchanges and %q, want %d and %q", s.name, most, n, got, exchanges, want)
			}
		}
	}
}

// TestNobodysOctets: of connections with octets of any kind none is taken for a protocol of ours, but by chance.
func TestNobodysOctets(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 1))
	taken := map[string]int{}
	const connections = 400
	for range connections {
		stage := rehearsal.New()
		c := stage.Dial(controller, "192.0.2.33:9000")
		for range 8 {
			for _, side := range []capture.Side{capture.Asker, capture.Answerer} {
				said := make([]byte, 20+random.IntN(300))
				for i := range said {
					said[i] = byte(random.Uint32())
				}
				c.Say(side, said)
				stage.Wait(10 * time.Millisecond)
			}
		}
		c.Close(capture.Asker)
		r := New(nil)
		for i := range stage.Packets {
			r.assembler.Packet(&stage.Packets[i])
		}
		r.Finish()
		for _, talk := range r.judge.Talks {
			taken[talk.Protocol]++
		}
	}
	for protocol, n := range taken {
		if protocol != "" && n > 2 {
			t.Errorf("%d of %d connections are said to speak %s", n, connections, protocol)
		}
	}
}
