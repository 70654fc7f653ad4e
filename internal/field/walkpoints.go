package field

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
)

// points decides the stop Points: every request is read once; one that is
// declined is taken apart until what can be read is.
func (w *walk) points(ctx context.Context) bool {
	r := w.runner
	if len(r.jobs) == 0 {
		w.route.Set(route.Points, route.Doubt, "The map has no point to read.",
			"Enter or paste the points of the device.")
		return false
	}
	w.worst = map[*job]float64{}
	var failed, silent []*job
	var why Reply
	queue := slices.Clone(r.jobs)
	for i := 0; i < len(queue); i++ {
		j := queue[i]
		reply, ok := w.read(ctx, j)
		if ctx.Err() != nil {
			return false
		}
		if whole, rest := r.parted(j, &reply); len(rest) > 0 {
			if whole != nil {
				w.worst[whole] = w.worst[j]
			}
			queue = append(queue, rest...)
			continue
		}
		if reply.OK() {
			continue
		}
		why = reply
		if !ok {
			if silent = append(silent, j); len(silent) > 2 || reply.Outcome != exchange.NoAnswer {
				break
			}
			continue
		}
		failed = append(failed, j)
	}
	for _, j := range append(failed, silent...) {
		if runs, _ := r.items(j); len(runs) > 1 {
			s := searching{r: r, j: j, give: func(ask func(Conn)) bool { return w.question(ctx, r, ask) }}
			facts, found := s.find(runs)
			if found {
				s.settle(facts, found)
				w.route.Requests++
			}
		}
	}
	if len(silent) > 0 && ctx.Err() == nil {
		for _, j := range r.jobs { // what is still silent after that
			if _, timed := w.worst[j]; timed || j.searchAt.After(time.Now().Add(time.Hour)) ||
				slices.Contains(failed, j) {
				continue
			}
			if reply, ok := w.read(ctx, j); !ok && ctx.Err() == nil {
				w.route.Set(route.Points, route.Fault,
					fmt.Sprintf("%s was asked and then: %s.", j.Operation, reply.Sentence),
					"The device answers otherwise. Ask for less at once, or slower.")
				return false
			}
		}
	}
	return w.judgePoints(ctx, failed, why)
}

// judgePoints says which points cannot be read, and how the others must be.
func (w *walk) judgePoints(ctx context.Context, failed []*job, why Reply) bool {
	r := w.runner
	var names []string
	var refused *job
	for _, j := range r.jobs {
		if _, timed := w.worst[j]; timed {
			continue
		}
		if _, ok := w.read(ctx, j); ok && w.worst[j] > 0 {
			continue
		}
		if ctx.Err() != nil {
			return false
		}
		refused = j
		for _, id := range j.Points {
			p := pointOf(r.device, id)
			names = append(names, fmt.Sprintf("%s (%s)", p.Name, r.def.Scheme.Short(p.Address)))
		}
	}
	habits := strings.Join(r.hub.habitWords(r.link.ID, r.device), " ")
	if len(names) > 0 {
		saw := fmt.Sprintf("Refused, %d of %d points: %s.", len(names), len(r.points), listed(names))
		remedy := why.Sentence
		if why.Outcome == exchange.Declined {
			said := r.def.Decline(why.Code)
			remedy, w.route.Explained = said.Means+" "+said.Causes, said.Access
			w.question(ctx, r, func(conn Conn) {
				more, ok := conn.(Explainer)
				if !ok {
					return
				}
				if e := more.Explain(refused.Ranges[0], why.Code); e.Remedy != "" {
					saw, remedy, w.route.Explained = saw+" "+e.Saw, e.Remedy, e.Access
				}
			})
		}
		if other := w.elsewhere(ctx, refused); other != "" {
			saw += " " + other
			remedy = "Move the points to that table: the manual's numbers mean it."
		} else if len(names) < len(r.points) {
			saw += " The others are read."
		}
		w.route.Set(route.Points, route.Fault, strings.TrimSpace(saw+" "+habits), remedy)
		return false
	}
	saw := w.allRead()
	w.route.Set(route.Points, route.Good, strings.TrimSpace(saw+" "+habits), "")
	w.sizes(ctx, saw)
	return true
}

// sizes compares how far structures reach in the map with how large their areas
// are in the device: a layout that was changed is often a longer one, and every
// value behind the change is read at a wrong place.
func (w *walk) sizes(ctx context.Context, saw string) {
	var other []string
	for _, e := range w.extents {
		w.question(ctx, w.runner, func(conn Conn) {
			ask, ok := conn.(Sizer)
			if !ok {
				return
			}
			units, ok := ask.Size(e.Area)
			area, known := block.AreaOf(w.runner.def.Scheme, e.Area)
			if ok && known && units != e.End {
				other = append(other, fmt.Sprintf("%s has %d bytes in the device, and with %s in the map it has %d",
					area.Title, units*area.Octets(), e.Name, e.End*area.Octets()))
			}
		})
	}
	if len(other) > 0 {
		w.route.Set(route.Points, route.Doubt, saw+" But "+strings.Join(other, "; ")+".",
			"The layout was changed since the declarations were exported: values behind the change are read at "+
				"wrong places. Export them anew and bring them in.")
	}
}

// elsewhere says whether what was refused is answered in another area of units
// of the same width.
func (w *walk) elsewhere(ctx context.Context, j *job) (says string) {
	r := w.runner
	runs, _ := r.items(j)
	from := j.Ranges[0]
	tables, ok := r.def.Rules.(protocol.Tables)
	if !ok {
		return ""
	}
	for _, key := range tables.Alike(from.Area) {
		area, ok := block.AreaOf(r.def.Scheme, key)
		if !ok {
			continue
		}
		w.question(ctx, r, func(conn Conn) {
			began := time.Now()
			there := []block.Range{rangeOf(area.Key, runs[0])}
			reply := Ask(conn, there)
			w.record(r.rules.Operation(there), &reply, began)
			if reply.OK() {
				own, _ := block.AreaOf(r.def.Scheme, from.Area)
				says = fmt.Sprintf("The device answers at the same place among the %s, and the map has them "+
					"among the %s.", strings.ToLower(area.Title), strings.ToLower(own.Title))
			}
		})
		if says != "" {
			return says
		}
	}
	return ""
}

func pointOf(d *site.Device, id string) *site.Point {
	for i := range d.Points {
		if d.Points[i].ID == id {
			return &d.Points[i]
		}
	}
	return &site.Point{}
}

// read sends one job, takes its values in, and keeps its worst time. ok is
// false if the device did not answer at all.
func (w *walk) read(ctx context.Context, j *job) (reply Reply, ok bool) {
	r := w.runner
	for tried := 0; tried < max(1, r.tries); tried++ {
		if !w.question(ctx, r, func(conn Conn) {
			began := time.Now()
			var samples []Sampled
			reply, samples = w.runner.put(conn, j)
			w.keep(j, &reply, began, samples)
		}) {
			return Reply{Outcome: exchange.Closed, Sentence: "the connection ended"}, false
		}
		if w.outlived(&reply) {
			tried--
			continue
		}
		if reply.OK() || reply.Outcome == exchange.Declined || tried+1 >= r.tries || ctx.Err() != nil {
			break // it is tried as often as the run would
		}
	}
	return reply, reply.OK() || reply.Outcome == exchange.Declined
}

func (w *walk) keep(j *job, reply *Reply, began time.Time, samples []Sampled) {
	took := time.Since(began)
	w.route.Requests++
	w.manner |= reply.Manner
	if reply.OK() {
		w.worst[j] = max(w.worst[j], float64(took)/float64(time.Millisecond))
	}
	if j.wanted == nil {
		w.runner.note(j.Ranges, reply, began, j.parts...)
		return
	}
	e := w.runner.exchange(j.Operation, reply, began, took)
	if e.Points = len(j.wanted); reply.OK() {
		w.runner.answer(e, j, samples)
	} else {
		w.runner.hub.record(w.runner.era, e, nil)
	}
}

// pace decides the stop Pace from a few measured rounds: the time of one round
// of everything must fit into the fastest pace, and the load below one. Only
// what was read is timed.
func (w *walk) pace(ctx context.Context) {
	r := w.runner
	for range rounds - 1 {
		for _, j := range r.jobs {
			if reply, ok := w.read(ctx, j); !ok {
				w.route.Set(route.Pace, route.Fault, "Asked again, the device gave up: "+reply.Sentence+".",
					"Ask slower.")
				return
			}
		}
	}
	load, fastest, round, timed := 0.0, 0, 0.0, 0
	for _, j := range r.jobs {
		if w.worst[j] == 0 {
			continue
		}
		timed++
		round += w.worst[j]
		if pace := j.PaceMs; pace > 0 {
			load += w.worst[j] / float64(pace)
			if fastest == 0 || pace < fastest {
				fastest = pace
			}
		}
	}
	saw := fmt.Sprintf("A round of %d requests takes %.1f ms at worst of %d; the connection is %.0f %% full.", timed,
		round, rounds, 100*load)
	switch {
	case load > 1:
		w.route.Set(route.Pace, route.Fault, saw+" The pace cannot hold.", "Read slower what can wait.")
	case fastest > 0 && round > float64(fastest):
		w.route.Set(route.Pace, route.Doubt, saw+fmt.Sprintf(" That is longer than the fastest pace, %d ms.", fastest),
			"Give fewer points the fast pace.")
	default:
		w.route.Set(route.Pace, route.Good, saw, "")
	}
}

// allRead says that every point was read.
func (w *walk) allRead() string {
	points, requests := len(w.runner.points), len(w.runner.jobs)
	switch {
	case points == 1:
		return "Its one point was read."
	case requests == 1:
		return fmt.Sprintf("All %d points were read, in one request.", points)
	}
	return fmt.Sprintf("All %d points were read, in %d requests.", points, requests)
}
