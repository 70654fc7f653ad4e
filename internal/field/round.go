package field

import (
	"maps"
	"slices"
	"time"
)

// round is what is asked of a link at one pace: it is over once each of its requests
// has been asked, answered or not.
type round struct {
	// count is from 1, before the first is over that somebody wants to know of; the lock
	// of the hub guards it.
	count uint64
	asked uint64 // the same, for the runner
}

// roundsOf has the points of a runner know in which round they are read.
func (r *runner) roundsOf() {
	r.rounds = map[time.Duration]*round{}
	r.hub.mu.Lock()
	defer r.hub.mu.Unlock()
	for _, j := range r.jobs {
		of := r.roundAt(j.pace)
		for t := range j.follows {
			t.round = of
		}
	}
}

func (r *runner) roundAt(pace time.Duration) *round {
	of := r.rounds[pace]
	if of == nil {
		of = &round{count: 1, asked: 1}
		r.rounds[pace] = of
	}
	return of
}

// follows goes through the points that a job reads.
func (j *job) follows(yield func(*track) bool) {
	for i := range j.parts {
		if t := j.parts[i].track; t != nil && !j.parts[i].power && !yield(t) {
			return
		}
	}
	for t := range maps.Values(j.tracks) {
		if t != nil && !yield(t) {
			return
		}
	}
}

// asked notes that a job was asked, and ends the round with the last of them: whoever
// carries whole rounds is told.
func (r *runner) asked(j *job) {
	of := r.roundAt(j.pace)
	j.round = of.asked
	for _, other := range slices.Backward(r.jobs) { // the last is hardly ever asked before the others
		if other.pace == j.pace && other.round != of.asked {
			return
		}
	}
	of.asked++
	if r.hub.rounders.Load() == 0 {
		return // nobody wants to know, and the next request need not wait
	}
	r.channel.takeIn() // its last answer belongs to it
	r.hub.mu.Lock()
	defer r.hub.mu.Unlock()
	if of.count++; r.era != r.hub.era {
		return
	}
	for _, each := range r.jobs {
		if each.pace != j.pace {
			continue
		}
		for t := range each.follows {
			for _, w := range t.rounders {
				w.tell()
			}
		}
	}
}

// watchRounds has somebody told whenever a round is over in which one of the points is
// read; the returned function ends that.
func (h *Hub) watchRounds(points []string, told watcher) (end func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.rounders.Add(1)
	for _, id := range points {
		if t := h.points[id]; t != nil {
			t.rounders = append(t.rounders, told)
		}
	}
	return func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		h.rounders.Add(-1)
		for _, id := range points {
			if t := h.points[id]; t != nil {
				t.rounders = slices.DeleteFunc(t.rounders, func(w watcher) bool { return w == told })
			}
		}
	}
}
