package timetable

import (
	"math"
	"testing"
)

// TestSchedule: worst responses on a connection that serves one request at a
// time, worked out by hand.
func TestSchedule(t *testing.T) {
	type row struct {
		paceMs int
		ms     float64
		slack  float64
	}
	for _, c := range []struct {
		name string
		rows []row
		load float64
	}{
		{"alone", []row{{1000, 10, 990}}, 0.01},
		// The slower request may just have begun: 10 + 50. The slower one
		// waits for the faster, once in its 60 ms.
		{"a slower one blocks", []row{{100, 10, 40}, {1000, 50, 940}}, 0.15},
		// Two of one pace wait for each other and for the slow one: 10 + 80 +
		// 20 is past the pace, so the other is due again: 130. The slow one
		// meets two rounds of both: 80 + 2×(10+20).
		{"equals", []row{{100, 10, -30}, {100, 20, -20}, {1000, 80, 860}}, 0.38},
		{"once costs no load, yet blocks", []row{{100, 10, 60}, {0, 30, 0}}, 0.1},
	} {
		t.Run(c.name, func(t *testing.T) {
			var requests []Request
			for _, r := range c.rows {
				requests = append(requests, Request{PaceMs: r.paceMs, DeviceMs: r.ms})
			}
			load := schedule(requests)
			if math.Abs(load.Utilisation-c.load) > 1e-9 {
				t.Errorf("utilisation %g, want %g", load.Utilisation, c.load)
			}
			at := 0.0
			for i, r := range requests {
				if math.Abs(r.SlackMs-c.rows[i].slack) > 1e-9 {
					t.Errorf("request %d has a slack of %g ms, want %g", i, r.SlackMs, c.rows[i].slack)
				}
				if r.OffsetMs != at {
					t.Errorf("request %d begins at %g ms, want %g", i, r.OffsetMs, at)
				}
				at += r.PlannedMs()
			}
		})
	}
}
