package field

import (
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/habit"
)

// restGather is how long after a link was found to be silent for itself it is
// not asked again whether another has its connection.
const restGather = 5 * time.Minute

// gather finds out whether a link gets no answer because another link of the run
// has the only connection that the device serves: it is asked once over
// that one. If it answers there, all links to the place share a connection from
// then on.
func (e *Engine) gather(r *runner) {
	defer unharmed("finding out who has the connection")
	e.mu.Lock()
	other := e.neighbour(r)
	var trial *runner
	if other != nil {
		trial, _, _, _ = e.runnerOf(r.link.ID) // r itself belongs to its loop
	}
	e.mu.Unlock()
	if trial == nil || len(trial.jobs) == 0 {
		return
	}
	answered := false
	err := other.channel.between(other.channel.life, trial, func(_ *runner, conn Conn, _ Reply) {
		if conn == nil {
			return
		}
		began := time.Now()
		j := trial.jobs[0]
		reply, _ := trial.put(conn, j)
		answered = reply.OK() || reply.Outcome == exchange.Declined
		e := trial.exchange(j.Operation, &reply, began, time.Since(began))
		e.Ranges = j.Ranges
		trial.hub.record(trial.era, e, nil)
	})
	if err != nil || !answered { // its silence is its own
		return
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	dial := r.channel.target.Dial
	e.single[dial] = true
	for id, each := range e.runners {
		if each.link.Protocol != r.link.Protocol || each.channel.target.Dial != dial {
			continue
		}
		each.hub.learn(each.era, id, each.place, func(d *habit.Device) { d.OneConnection = true })
		e.halt(id)
	}
	if e.planOf == e.site {
		e.reconcile()
	}
}

// neighbour is another link of the run to the same place that is answered, if
// the link may ask about it now. The lock is held.
func (e *Engine) neighbour(r *runner) *runner {
	if e.runners[r.link.ID] != r || time.Now().Before(r.gatherAt) {
		return nil
	}
	r.gatherAt = time.Now().Add(restGather)
	for _, other := range e.runners {
		if other.channel != r.channel && other.link.Protocol == r.link.Protocol &&
			other.channel.target.Dial == r.channel.target.Dial &&
			time.Since(time.Unix(0, other.channel.well.Load())) < wait {
			return other
		}
	}
	r.gatherAt = time.Now().Add(wait)
	return nil
}
