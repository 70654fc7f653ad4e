package timetable

import (
	"cmp"
	"math"
	"slices"
)

// resource serves one request at a time: a serial line, or a connection. A
// connection may be allowed more at once.
type resource struct {
	silence float64 // that must follow whatever is sent, in milliseconds
	line    string
	atOnce  int
	tasks   []task
	cyclic  float64 // utilisation by what nobody requests
}

// task is what takes a resource's time again and again.
type task struct {
	request  int     // in the plan, -1 for a write and for cyclic traffic
	periodMs float64 // 0 for once
	ms       float64 // for which it holds the resource, at worst
	after    float64 // of these, the silence that follows
	offsetMs float64
	cyclic   bool
}

// buckets bounds how far ahead the load is spread: more beats of the fastest
// pace than that are taken for alike.
const buckets = 4096

// mostPhase is how much later a resource begins than another at most: a person
// who starts a run wants to see values soon.
const mostPhase = 250.0

// phase spreads the resources of a site, so that they do not all ask in the same
// instant: the fractions of multiples of the golden section lie apart however
// many there are.
func phase(index int, beat float64) float64 {
	const golden = 0.6180339887498949
	_, fraction := math.Modf(float64(index) * golden)
	return math.Floor(fraction * min(beat, mostPhase))
}

// spread gives every task an offset so that not all are due at once. Those of
// the fastest pace follow each other; each slower one goes into the beat of the
// fastest pace that is least full over all of its turns.
func (r *resource) spread(requests []Request, index int) {
	order := make([]int, len(r.tasks))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		x, y := &r.tasks[a], &r.tasks[b]
		return cmp.Or(cmp.Compare(r.weight(x), r.weight(y)), cmp.Compare(y.ms, x.ms))
	})
	if len(order) == 0 {
		return
	}
	beat := r.tasks[order[0]].periodMs
	longest := beat
	for _, i := range order {
		longest = max(longest, r.tasks[i].periodMs)
	}
	n := 1
	if beat > 0 {
		n = int(min(buckets, math.Ceil(longest/beat)))
	}
	full := make([]float64, n)
	share := func(t *task) float64 { return t.ms / float64(max(1, r.atOnce)) }
	for _, i := range order {
		t := &r.tasks[i]
		switch {
		case t.periodMs == 0, t.periodMs == beat:
			// Once comes in the first beat, behind what repeats.
			t.offsetMs = full[0]
			if t.periodMs == 0 {
				full[0] += share(t)
				break
			}
			for k := range full {
				full[k] += share(t)
			}
		default:
			every := min(n, max(1, int(t.periodMs/beat)))
			best, least := 0, math.Inf(1)
			for phase := range every {
				most := 0.0
				for k := phase; k < n; k += every {
					most = max(most, full[k])
				}
				if most < least-1e-9 {
					best, least = phase, most
				}
			}
			t.offsetMs = float64(best)*beat + full[best]
			for k := best; k < n; k += every {
				full[k] += share(t)
			}
		}
		t.offsetMs += phase(index, beat)
		if t.request >= 0 {
			requests[t.request].OffsetMs = t.offsetMs
		}
	}
}

func (r *resource) weight(t *task) float64 {
	if t.periodMs == 0 {
		return onceWeightMs
	}
	return t.periodMs
}

// turns bounds how many turns of the tasks of one resource are played through.
const turns = 20_000

// simulate plays the resource through until every combination of turns has been
// seen once, or for as many turns as can be borne, with every device at its
// worst, and notes the responses. What is due is asked in the order of the
// deadlines, as the run does; what is under way is not given up.
func (r *resource) simulate(requests []Request) {
	horizon := r.horizon()
	best := make([]float64, len(r.tasks))
	worst := make([]float64, len(r.tasks))
	future, ready := make(turnHeap, 0, len(r.tasks)), make(turnHeap, 0, len(r.tasks))
	load := 0.0
	for i := range r.tasks {
		best[i] = math.Inf(1)
		t := &r.tasks[i]
		future.push(turn{i, t.offsetMs, t.offsetMs})
		load += t.ms / r.weight(t) / float64(max(1, r.atOnce))
	}
	most := turns
	if load > 1 {
		most, horizon = 4*len(r.tasks)+200, math.Inf(1) // it only gets later
	}
	free := make([]float64, max(1, r.atOnce)) // when each place is free again
	now := 0.0
	for range most {
		place := 0
		for i := range free {
			if free[i] < free[place] {
				place = i
			}
		}
		now = max(now, free[place])
		if len(ready) == 0 {
			if len(future) == 0 || future[0].due > horizon {
				break
			}
			now = max(now, future[0].due)
		}
		for len(future) > 0 && future[0].due <= now+1e-9 {
			next := future.pop()
			t := &r.tasks[next.task]
			ready.push(turn{next.task, next.due + r.weight(t), next.due})
			if t.periodMs > 0 {
				future.push(turn{next.task, next.due + t.periodMs, next.due + t.periodMs})
			}
		}
		next := ready.pop()
		t := &r.tasks[next.task]
		free[place] = now + t.ms
		response := free[place] - t.after - next.due
		best[next.task], worst[next.task] = min(best[next.task], response), max(worst[next.task], response)
	}
	// What never had its turn is at least as late as the end.
	for _, left := range ready {
		worst[left.task] = max(worst[left.task], now-left.due)
		best[left.task] = min(best[left.task], worst[left.task])
	}
	for i := range r.tasks {
		t := &r.tasks[i]
		if t.request < 0 || requests[t.request].PaceMs == 0 {
			continue
		}
		q := &requests[t.request]
		if worst[i] == 0 {
			worst[i], best[i] = t.ms, t.ms
		}
		q.ResponseMs = finite(worst[i])
		q.JitterMs = finite(worst[i] - best[i])
		q.SlackMs = float64(q.PaceMs) - q.ResponseMs
		q.OldestMs = float64(q.PaceMs) + q.ResponseMs
	}
}

// horizon is how long the resource is played: through the common multiple of
// its periods, and the longest offset before it.
func (r *resource) horizon() float64 {
	common, offset := 1, 0.0
	for i := range r.tasks {
		offset = max(offset, r.tasks[i].offsetMs)
		if p := int(r.tasks[i].periodMs); p > 0 {
			if common = common / gcd(common, p) * p; common > 24*3600_000 {
				common = 24 * 3600_000
			}
		}
	}
	return offset + float64(common)
}

func gcd(a, b int) int {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}

// turn is one time at which a task is due.
type turn struct {
	task int
	// order is what a heap goes by: when it is due, or its deadline.
	order, due float64
}

// turnHeap is a binary heap of turns, the least order first, of two alike the
// one due first. (container/heap would allocate for each.)
type turnHeap []turn

func (h turnHeap) before(i, j int) bool {
	return h[i].order < h[j].order || h[i].order == h[j].order && h[i].due < h[j].due
}

func (h *turnHeap) push(t turn) {
	*h = append(*h, t)
	list := *h
	for i := len(list) - 1; i > 0; {
		up := (i - 1) / 2
		if !list.before(i, up) {
			return
		}
		list[i], list[up] = list[up], list[i]
		i = up
	}
}

func (h *turnHeap) pop() turn {
	list := *h
	first := list[0]
	last := len(list) - 1
	list[0] = list[last]
	list = list[:last]
	*h = list
	for i := 0; ; {
		down := 2*i + 1
		if down+1 < last && list.before(down+1, down) {
			down++
		}
		if down >= last || !list.before(down, i) {
			return first
		}
		list[i], list[down] = list[down], list[i]
		i = down
	}
}
