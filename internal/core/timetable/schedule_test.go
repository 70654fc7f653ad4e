package timetable

import (
	"math"
	"testing"
)

// TestSchedule: offsets and worst responses on a resource that serves one
// request at a time, worked out by hand.
func TestSchedule(t *testing.T) {
	type row struct {
		paceMs            int
		ms, offset, slack float64
	}
	for _, c := range []struct {
		name string
		rows []row
	}{
		{"alone", []row{{1000, 10, 0, 990}}},
		{"a slower one goes behind", []row{{100, 10, 0, 90}, {1000, 50, 10, 950}}},
		// Under way from 10 to 160, it makes the one that is due at 100 wait.
		{"a long one blocks", []row{{100, 10, 0, 30}, {1000, 150, 10, 850}}},
		{"slow ones go into different beats",
			[]row{{100, 10, 0, 90}, {300, 40, 10, 260}, {300, 30, 110, 270}, {300, 20, 210, 280}}},
		{"once comes behind the first round", []row{{100, 10, 0, 90}, {0, 30, 10, 0}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			var requests []Request
			r := resource{}
			for i, row := range c.rows {
				requests = append(requests, Request{PaceMs: row.paceMs, DeviceMs: row.ms})
				r.tasks = append(r.tasks, task{request: i, periodMs: float64(row.paceMs), ms: row.ms})
			}
			r.spread(requests, 0)
			r.simulate(requests)
			for i, q := range requests {
				if math.Abs(q.OffsetMs-c.rows[i].offset) > 1e-9 || math.Abs(q.SlackMs-c.rows[i].slack) > 1e-9 {
					t.Errorf("request %d begins at %g ms with a slack of %g ms, want %g and %g", i, q.OffsetMs,
						q.SlackMs, c.rows[i].offset, c.rows[i].slack)
				}
			}
		})
	}
	requests := []Request{{PaceMs: 100}, {PaceMs: 100}}
	full := resource{tasks: []task{{request: 0, periodMs: 100, ms: 60}, {request: 1, periodMs: 100, ms: 60}}}
	full.spread(requests, 0)
	full.simulate(requests)
	if requests[0].SlackMs >= 0 || requests[1].SlackMs >= 0 {
		t.Errorf("a resource that is 120 %% full leaves %g and %g ms", requests[0].SlackMs, requests[1].SlackMs)
	}
}

func TestSampling(t *testing.T) {
	for _, c := range []struct {
		pace, change int
		want         Sampled
	}{{250, 1000, Seen}, {251, 1000, Barely}, {500, 1000, Barely}, {501, 1000, Missed}, {0, 1000, Missed}} {
		if got, sees, trusts := Sampling(c.pace, c.change); got != c.want || sees != c.change/2 ||
			trusts != c.change/4 {
			t.Errorf("%d ms for a change every %d ms is %s (%d, %d), want %s", c.pace, c.change, got, sees, trusts,
				c.want)
		}
	}
}

// TestAtOnce: a connection with two places serves two requests side by side.
func TestAtOnce(t *testing.T) {
	requests := []Request{{PaceMs: 100}, {PaceMs: 100}, {PaceMs: 100}}
	two := resource{atOnce: 2}
	for i := range requests {
		two.tasks = append(two.tasks, task{request: i, periodMs: 100, ms: 60})
	}
	two.spread(requests, 0)
	two.simulate(requests)
	for i, q := range requests {
		if q.SlackMs < 0 || q.ResponseMs > 100 {
			t.Errorf("request %d is answered after %g ms: three of 60 ms fit into two places every 100 ms", i,
				q.ResponseMs)
		}
	}
}
