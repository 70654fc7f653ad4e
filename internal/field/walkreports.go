package field

import (
	"context"
	"fmt"
	"maps"
	"strings"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/value"
)

// How long a try listens to an end that reports: for what is due in that time,
// and a little, but never longer than a person waits; and how long at a time, so
// that a write comes between.
const (
	listenLeast = 500 * time.Millisecond
	listenMost  = 8 * time.Second
	listenTurn  = 100 * time.Millisecond
)

// reported walks the stops Session, Points and Pace of a link whose device
// reports: it is told what is wanted, and then listened to.
func (w *walk) reported(ctx context.Context) {
	r := w.runner
	if w.borrowed != nil {
		r = w.running()
	}
	if r == nil || r.reports == nil {
		return // the run has ended in between
	}
	if w.borrowed == nil {
		defer r.hub.left(r.reports.source)
	}
	began := time.Now()
	if reply := w.tell(ctx, r, began); !reply.OK() {
		w.notTaken(&reply, began)
		return
	}
	w.route.Requests++
	g := &told{reporting: r.reports}
	ended, quiet := w.listen(ctx, r, g)
	if ctx.Err() != nil {
		return
	}
	took := time.Since(began)
	switch {
	case ended != nil:
		w.route.Set(route.Session, route.Fault,
			fmt.Sprintf("%s took what is wanted, and ended the connection after %s: %s.", w.name, ms(took),
				ended.Sentence),
			"Look for a limit on connections or an access list in the device. Perhaps "+w.taken())
		return
	case g.messages == 0 && quiet:
		w.route.Set(route.Session, route.Fault,
			fmt.Sprintf("The connection stands, but %s gives no sign of life within %d ms.", w.who(),
				g.source.after.Load()),
			"Look whether the device is in run mode, and whether another end has taken what it reports.")
		return
	}
	talks := begun(w.who()) + " takes what is wanted of it."
	if len(g.refused) > 0 {
		talks = begun(w.who()) + " talks with this end."
	}
	w.route.Set(route.Session, route.Good, talks, "")
	if w.reportedPoints(r, g, took) {
		w.reportedPace(r, g, took)
	}
}

// told is what came of a device up to the last turn: a copy of what its loop
// counts on.
type told struct {
	*reporting
	refused  []Refusal
	counts   map[string]int
	messages int
	packets  int
}

func (t *told) copy() {
	t.refused, t.counts = t.reporting.refused, maps.Clone(t.reporting.counts)
	t.messages, t.packets = t.reporting.messages, t.reporting.packets
}

// tell says what is wanted, over a new connection where the one that there was
// has ended.
func (w *walk) tell(ctx context.Context, r *runner, began time.Time) (reply Reply) {
	for range 2 {
		if !w.question(ctx, r, func(conn Conn) {
			c, ok := conn.(Reporter)
			if !ok {
				return
			}
			reply = r.follow(c, began)
			r.reports.over, r.reports.messages, r.reports.packets = conn, 0, 0
			clear(r.reports.counts)
		}) {
			return w.lost
		}
		if reply.Outcome != exchange.Closed && reply.Outcome != exchange.Reset {
			break
		}
		r.channel.hurry.Store(true)
	}
	return reply
}

// latest is the last exchange of a runner's link.
func (w *walk) latest(r *runner) exchange.Exchange {
	if list := r.hub.Exchanges(0, 1, r.link.ID); len(list) > 0 {
		return list[0]
	}
	return exchange.Exchange{}
}

// running is the runner of the run over whose channel the try goes.
func (w *walk) running() (r *runner) {
	_ = w.borrowed.between(w.borrowed.life, w.runner, func(*runner, Conn, Reply) {
		for _, each := range w.borrowed.runners {
			if each.link.ID == w.runner.link.ID {
				r = each
			}
		}
	})
	return r
}

// notTaken says why an end that reports was not listened to.
func (w *walk) notTaken(reply *Reply, began time.Time) {
	switch {
	case w.lost.Outcome != "":
		w.unconnected(ms(time.Since(began)))
	case reply.Outcome == exchange.NoAnswer && reply.Cause != "":
		w.route.Set(route.Session, route.Fault, begun(reply.Sentence)+".", w.compared())
	case reply.Outcome == exchange.NoAnswer:
		w.route.Set(route.Session, route.Fault,
			fmt.Sprintf("The connection stands, but %s says nothing within %d ms.", w.who(), w.limit()), w.compared()+
				"A device that serves one client at a time lets others wait without a word: is another connected to it?")
	default:
		w.refused(reply)
	}
}

// compared says which settings decide whether a station answers; empty where there are no stations.
func (w *walk) compared() string {
	if w.runner.def.Station == "" {
		return ""
	}
	var list []string
	for i := range w.runner.def.Settings {
		if s := &w.runner.def.Settings[i]; s.Stop == string(route.Session) && s.End == protocol.BothEnds {
			list = append(list, fmt.Sprintf("%s %s", strings.ToLower(s.Title),
				w.runner.def.Value(w.runner.link.Settings, s.Key)))
		}
	}
	return "Compare with the device: " + strings.Join(list, ", ") + ". Most stay silent for any but their own. "
}

// listen takes in what comes until every point has come, or is overdue. ended is
// set where the connection ended, quiet where a sign of life was due.
func (w *walk) listen(ctx context.Context, r *runner, g *told) (ended *Reply, quiet bool) {
	enough := listenLeast + time.Duration(g.source.after.Load())*time.Millisecond
	for _, each := range g.wanted {
		enough = max(enough, 2*time.Duration(each.PaceMs)*time.Millisecond)
	}
	began := time.Now()
	for ctx.Err() == nil && ended == nil {
		took := time.Since(began)
		all := len(g.counts)+len(g.refused) >= len(g.wanted) && g.messages > 0
		if took > min(enough, listenMost) || all && took > listenLeast {
			break
		}
		if !w.question(ctx, r, func(conn Conn) {
			if c, ok := conn.(Reporter); ok && r.reports.over == conn {
				ended = w.hear(ctx, r, c)
				g.copy()
				return
			}
			last := w.latest(r) // the run has given the connection up
			ended = &Reply{Outcome: last.Outcome, Cause: last.Cause, Sentence: last.Sentence}
		}) {
			ended = &w.lost
		}
	}
	if ended != nil && ended.Cause == exchange.Quiet {
		return nil, true
	}
	after := time.Duration(g.source.after.Load()) * time.Millisecond
	return ended, after > 0 && time.Since(began) > after
}

// hear takes in what comes in one turn.
func (w *walk) hear(ctx context.Context, r *runner, conn Reporter) (ended *Reply) {
	turn := time.NewTimer(listenTurn)
	defer turn.Stop()
	for {
		select {
		case report, open := <-conn.Reports():
			if !open {
				reply := conn.Ended()
				return &reply
			}
			r.came(&report)
		case <-turn.C:
			return nil
		case <-ctx.Done():
			return nil
		}
	}
}

// reportedPoints decides the stop Points: what was refused, came as another type,
// or did not come.
func (w *walk) reportedPoints(r *runner, g *told, took time.Duration) bool {
	if len(g.wanted) == 0 {
		w.route.Set(route.Points, route.Doubt, "The map has no point to be told of.",
			"Enter or paste the points of the device.")
		return false
	}
	refused := map[string]bool{}
	var wrong, missing []string
	why := ""
	for _, each := range g.refused {
		refused[each.ID] = true
		wrong = append(wrong, w.label(r, each.ID))
		if why == "" {
			why = each.Sentence
		}
	}
	for _, each := range g.wanted {
		live, _ := r.hub.Point(each.ID)
		switch {
		case refused[each.ID]:
		case g.counts[each.ID] == 0:
			missing = append(missing, w.label(r, each.ID))
		case live.Quality == value.Bad:
			wrong = append(wrong, w.label(r, each.ID))
			if why == "" {
				why = live.Reason
			}
		}
	}
	switch {
	case len(wrong) > 0:
		saw := fmt.Sprintf("Not to be had, %d of %d points: %s.", len(wrong), len(g.wanted), listed(wrong))
		remedy := sentence(why)
		if len(g.refused) > 0 && g.refused[0].Code != 0 {
			said := r.def.Decline(g.refused[0].Code)
			saw += " " + w.name + " says: " + why + "."
			remedy, w.route.Explained = said.Means+" "+said.Causes, said.Access
		}
		w.route.Set(route.Points, route.Fault, saw, remedy)
		return false
	case len(missing) > 0:
		remedy := "What is reported on change may not have changed yet: move the input, or compare how the name is written."
		if _, cyclic := r.def.Faces(); cyclic {
			remedy = "State the instances and the sizes of both ends: nothing comes before a connection is open."
		}
		w.route.Set(route.Points, route.Doubt,
			fmt.Sprintf("%d of %d points came within %.1f s; not yet: %s.", len(g.wanted)-len(missing), len(g.wanted),
				took.Seconds(), listed(missing)), remedy)
		return true
	}
	says := fmt.Sprintf("All %d points came.", len(g.wanted))
	if len(g.wanted) == 1 {
		says = "Its one point came."
	}
	w.route.Set(route.Points, route.Good, says, "")
	return true
}

func (w *walk) label(r *runner, id string) string {
	p := pointOf(r.device, id)
	return fmt.Sprintf("%s (%s)", p.Name, r.def.Scheme.Short(p.Address))
}

// listed names the first few.
func listed(names []string) string {
	shown := names[:min(len(names), 4)]
	if more := len(names) - len(shown); more > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(shown, ", "), more)
	}
	return strings.Join(shown, ", ")
}

// reportedPace decides the stop Pace from how often values came that come in
// cycles; one that is reported on change has no pace to hold.
func (w *walk) reportedPace(r *runner, g *told, took time.Duration) {
	rules, _ := r.def.Reports()
	saw := fmt.Sprintf("%d messages came in %.1f s.", g.packets, took.Seconds())
	if g.packets == 0 {
		saw = fmt.Sprintf("The values came at the first question; none was due again within %.1f s.", took.Seconds())
	}
	for _, load := range rules.Expected(r.link.Settings, g.wanted) {
		if load.Event || load.Sent || load.PeriodMs <= 0 || float64(took.Milliseconds()) < 3*load.PeriodMs {
			continue
		}
		for _, id := range load.Points {
			each := float64(took.Milliseconds()) / float64(max(1, g.counts[id]))
			if g.counts[id] > 0 && each > 1.5*load.PeriodMs {
				w.route.Set(route.Pace, route.Doubt,
					fmt.Sprintf("%s %s came every %.0f ms, and is to come every %.0f ms.", saw, w.label(r, id), each,
						load.PeriodMs),
					"Look at what the device revised the interval to, and at its load.")
				return
			}
		}
	}
	w.route.Set(route.Pace, route.Good, saw, "")
}
