package field

import (
	"context"
	"fmt"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// wants makes a job of a request that asks for places by their names.
func (r *runner) wants(j *job, points map[string]*site.Point) {
	j.tracks = map[string]*track{}
	for _, id := range j.Points {
		if p := points[id]; p != nil {
			j.wanted = append(j.wanted, p.Wanted())
			j.tracks[id] = r.hub.track(id)
			r.points = append(r.points, id)
		}
	}
	r.jobs = append(r.jobs, j)
}

// put sends the question of a job.
func (r *runner) put(conn Conn, j *job) (Reply, []Sampled) {
	if j.wanted != nil {
		return askItems(conn, j.wanted)
	}
	return Ask(conn, j.Ranges), nil
}

// answer takes in what came of a question for places by their names. A place of
// which nothing came at all is told.
func (r *runner) answer(e *exchange.Exchange, j *job, samples []Sampled) {
	came := make(map[string]bool, len(samples))
	for _, s := range samples {
		came[s.ID] = true
		if j.tracks[s.ID] != nil {
			e.Samples = append(e.Samples,
				exchange.Sample{Point: s.ID, Value: s.Value, From: s.From, To: s.To, Time: s.Time})
		}
	}
	r.parts(e, samples)
	r.hub.record(r.era, e, nil)
	_, in := exchange.Sides(e.Frames)
	r.hub.answered(r.era, j.tracks, &Report{At: e.At.Add(time.Duration(e.LatencyMs * float64(time.Millisecond))),
		Octets: in, Samples: samples})
	for _, w := range j.wanted {
		if !came[w.ID] {
			r.hub.fail(r.era, []string{w.ID}, "the answer says nothing of it")
		}
	}
}

// parts says of an answer that some of it was refused, or is of another type.
func (r *runner) parts(e *exchange.Exchange, samples []Sampled) {
	refused, first := 0, (*Sampled)(nil)
	for i := range samples {
		s := &samples[i]
		if s.Cause != "" && e.Cause == "" && e.Outcome == exchange.Answered {
			e.Cause, e.Sentence = s.Cause, r.nameOf(s.ID)+": "+s.Reason
		}
		if s.Code == 0 {
			continue
		}
		if refused++; first == nil {
			first = s
		}
	}
	if first != nil && e.Outcome == exchange.Answered {
		e.Outcome, e.Cause, e.Code = exchange.Declined, exchange.Unwanted, first.Code
		e.Sentence = fmt.Sprintf("%d of %d are refused, first %s: %s", refused, len(samples), r.nameOf(first.ID),
			first.Reason)
	}
}

// answered takes in the samples of an answer.
func (h *Hub) answered(era uint64, tracks map[string]*track, report *Report) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if era != h.era {
		return
	}
	for i := range report.Samples {
		s := &report.Samples[i]
		if t := tracks[s.ID]; t != nil && !t.gone {
			h.arrive(t, s, report, report.At.UnixMilli())
		}
	}
}

// readItem asks for the place of an order, and takes in what comes.
func (r *runner) readItem(conn Conn, o *order) (value.Value, Reply) {
	wanted := o.point.Wanted()
	began := time.Now()
	reply, samples := askItems(conn, []protocol.Wanted{wanted})
	operation := "read " + r.def.Scheme.Short(wanted.Address)
	if asks, ok := r.def.Asks(); ok {
		operation = asks.Asking([]protocol.Wanted{wanted})
	}
	e := r.exchange(operation, &reply, began, time.Since(began))
	e.Points = 1
	j := &job{wanted: []protocol.Wanted{wanted}, tracks: map[string]*track{wanted.ID: r.hub.reading(o.point)}}
	if !reply.OK() {
		r.hub.record(r.era, e, nil)
		return value.Value{}, reply
	}
	r.answer(e, j, samples)
	for _, s := range samples {
		if s.ID != wanted.ID {
			continue
		}
		v, err := value.As(s.Value, wanted.Shape)
		if err == nil && s.Quality != value.Bad {
			return v, reply
		}
		why := s.Reason
		if err != nil {
			why = err.Error()
		}
		return value.Value{}, Reply{Outcome: exchange.Garbled, Sentence: why}
	}
	return value.Value{}, Reply{Outcome: exchange.Garbled, Sentence: "the answer says nothing of it"}
}

// asked walks the stops Session, Points and Pace of a link whose device is asked
// for places by their names.
func (w *walk) asked(ctx context.Context) {
	r := w.runner
	w.worst = map[*job]float64{}
	var wrong []string
	why, code := "", 0
	for _, j := range r.jobs {
		reply, ok := w.read(ctx, j)
		if ctx.Err() != nil {
			return
		}
		if !ok || reply.Outcome == exchange.Declined && r.def.Decline(reply.Code).Session {
			w.unanswered(&reply)
			return
		}
		if code = reply.Code; reply.Outcome == exchange.Declined {
			why = reply.Sentence
		}
		for _, want := range j.wanted {
			live, _ := r.hub.Point(want.ID)
			if reply.Outcome == exchange.Declined || live.Quality == value.Bad {
				wrong = append(wrong, w.label(r, want.ID))
				if why == "" {
					why = live.Reason
				}
			}
		}
	}
	w.route.Set(route.Session, route.Good, begun(w.who())+" answers.", "")
	switch {
	case len(r.jobs) == 0:
		w.route.Set(route.Points, route.Doubt, "The map has no point to read.",
			"Enter or paste the points of the device.")
		return
	case len(wrong) > 0:
		remedy := sentence(why)
		if code != 0 {
			said := r.def.Decline(code)
			remedy, w.route.Explained = said.Means+" "+said.Causes, said.Access
		}
		w.route.Set(route.Points, route.Fault,
			fmt.Sprintf("Not to be had, %d of %d points: %s.", len(wrong), len(r.points), listed(wrong)), remedy)
		return
	}
	w.route.Set(route.Points, route.Good, w.allRead(), "")
	w.pace(ctx)
}

// unanswered says why the session brings nothing.
func (w *walk) unanswered(reply *Reply) {
	switch {
	case w.lost.Outcome != "":
		w.unconnected("")
	case reply.Outcome == exchange.NoAnswer:
		w.route.Set(route.Session, route.Fault,
			fmt.Sprintf("The connection stands, but %s says nothing within %d ms.", w.who(), w.limit()), w.compared()+
				"A device that serves one client at a time lets others wait without a word: is another connected to it?")
	case reply.Outcome == exchange.Reset || reply.Outcome == exchange.Closed:
		w.tornDown()
	default:
		w.refused(reply)
	}
}
