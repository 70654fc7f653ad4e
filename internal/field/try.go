package field

import (
	"context"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
)

// rounds is how often a try reads every request to measure the pace.
const rounds = 3

// Try walks the five stops of a link for real: over a connection of its own,
// or between two reads where a line that others share is being asked.
func (e *Engine) Try(ctx context.Context, linkID string) (*route.Route, error) {
	e.brieflyPlanned()
	e.mu.Lock()
	s, mode := e.site, e.door.mode
	link := s.Link(linkID)
	if link == nil {
		e.mu.Unlock()
		return nil, problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(linkID)
	}
	r, target, key, err := e.runnerOf(linkID)
	var over *shared
	if err == nil && r.def.Turns != protocol.TurnsOfLink {
		over = e.channels[key]
	}
	var own *channel
	if err == nil && over == nil {
		own = e.channelTo(r, target)
	}
	var others []*runner
	if err == nil && r.def.Turns == protocol.TurnsOfLine {
		others = e.neighbours(link)
	}
	e.mu.Unlock()
	plan := route.Plan(s, link)
	plan.At, plan.Bench = time.Now(), mode == Bench
	if plan.StopsAt != nil && *plan.StopsAt == route.Wire && s.Line(link.Line).Medium == site.Ethernet {
		return plan, nil // an address that cannot be right is not asked
	}
	if err != nil {
		plan.Set(route.Wire, route.Fault, problem.From(err, "dial").Sentence, problem.From(err, "dial").Do)
		return plan, nil
	}
	result := route.New(linkID)
	result.At, result.Bench = plan.At, plan.Bench
	w := walk{runner: r, route: result, name: r.device.Name, target: targetOf(s, link), others: others}
	if over != nil {
		w.borrowed = true
		walking, cancel := context.WithCancel(over.life)
		defer cancel()
		defer context.AfterFunc(ctx, cancel)()
		if err := over.between(ctx, r, func(_ *runner, _ Conn, reply Reply) {
			w.lost = reply
			w.run(walking)
		}); err != nil {
			return nil, err
		}
	} else {
		stop := context.AfterFunc(ctx, own.end)
		r.channel = own
		ok := own.guarded("try", func() { w.run(own.life) })
		stop()
		own.end()
		own.hangUp()
		if !ok {
			return nil, errDefect // what it has seen by then is no verdict
		}
	}
	if w.ended != nil {
		return nil, w.ended
	}
	// What the plan knows explains what the try saw.
	for _, c := range plan.Stops {
		for i := range result.Stops {
			if result.Stops[i].Stop == c.Stop && c.Result != route.NotTried && result.Stops[i].Result != route.NotTried {
				worst := c.Result
				if worst == route.Fault && result.Stops[i].Result == route.Good {
					worst = route.Doubt // it works all the same
				}
				if result.Stops[i].Result == route.Good || result.Stops[i].Result == worst {
					result.Set(c.Stop, worst, strings.TrimSpace(result.Stops[i].Saw+" "+c.Saw), c.Remedy)
				}
			}
		}
	}
	result.Explain(s, link)
	return result, nil
}

// neighbours are the other links of a line, which are asked when one device is
// silent: if they answer, the wire is good. The lock is held.
func (e *Engine) neighbours(link *site.Link) (others []*runner) {
	for i := range e.site.Links {
		other := &e.site.Links[i]
		if other.Line != link.Line || other.ID == link.ID || other.Asking != link.Asking || other.Protocol != link.Protocol || len(others) == 3 {
			continue
		}
		if r, _, _, err := e.runnerOf(other.ID); err == nil && len(r.jobs) > 0 {
			others = append(others, r)
		}
	}
	return others
}

func targetOf(s *site.Site, link *site.Link) string {
	_, def, err := DriverOf(link.Protocol)
	port := s.Device(link.Answering).Port(link.Line)
	if err != nil || port == nil {
		return ""
	}
	if line := s.Line(link.Line); line != nil && line.Medium == site.SerialLine {
		return line.Name
	}
	return net.JoinHostPort(port.Host, strconv.Itoa(def.Value(link.Settings, "port")))
}

// TryTarget walks the stops of a target that belongs to no site, as the
// command line does. The device's map may be empty.
func TryTarget(ctx context.Context, link *site.Link, device *site.Device, target Target) (*route.Route, error) {
	r, err := alone(link, device, target)
	if err != nil {
		return nil, err
	}
	c := r.channel
	defer c.hangUp()
	defer c.end()
	defer context.AfterFunc(ctx, c.end)()
	result := route.New(link.ID)
	result.At = time.Now()
	w := walk{runner: r, route: result, name: device.Name, target: target.Dial}
	if !c.guarded("try", func() { w.run(c.life) }) {
		return nil, errDefect
	}
	return result, nil
}

// walk is one try under way.
type walk struct {
	runner *runner
	route  *route.Route
	name   string
	target string
	// borrowed is set where the connection belongs to a run; lost then says
	// why there is none.
	borrowed bool
	lost     Reply
	others   []*runner
	// ended says that the try was ended before it could conclude.
	ended error
	// worst is the worst measured time of each job, in milliseconds.
	worst []float64
}

func (w *walk) run(ctx context.Context) {
	if w.dial(ctx) && w.session(ctx) && w.points(ctx) {
		w.pace(ctx)
	}
	if ctx.Err() != nil {
		w.ended = problem.New("stopped", "The try was ended before it could conclude: the run, the mode or the page changed.", "Try again.")
	}
}

func (w *walk) record(operation string, reply *Reply, began time.Time) {
	w.route.Requests++
	w.runner.hub.record(w.runner.era, w.runner.exchange(operation, reply, began, time.Since(began)), nil)
}

func (w *walk) onWire() bool { return w.runner.def.Medium == site.SerialLine }

// dial decides the stops Wire and Address, as far as connecting tells: a
// serial port can be opened with nobody at its far end.
func (w *walk) dial(ctx context.Context) bool {
	began := time.Now()
	if w.borrowed {
		w.runner.connect(ctx)
	} else {
		var conn Conn
		target := w.runner.channel.target
		target.Settings = w.runner.link.Settings
		if conn, w.lost = w.runner.channel.driver.Dial(ctx, target); conn != nil {
			w.runner.channel.conn = conn
		}
	}
	took := ms(time.Since(began))
	if w.runner.conn() != nil {
		if !w.onWire() {
			host, port, _ := net.SplitHostPort(w.target)
			w.route.Set(route.Wire, route.Good, fmt.Sprintf("%s answers after %s.", host, took), "")
			w.route.Set(route.Address, route.Good, fmt.Sprintf("Port %s takes the connection.", port), "")
		}
		return true
	}
	w.record("connect to "+w.name, &w.lost, began)
	host, port, _ := net.SplitHostPort(w.target)
	switch w.lost.Outcome {
	case exchange.PortAbsent:
		w.route.Set(route.Wire, route.Fault, sentence(w.lost.Sentence), "Plug the adapter in, or choose another port in the panel of the line.")
	case exchange.PortOwned:
		w.route.Set(route.Wire, route.Fault, sentence(w.lost.Sentence), "Close that program, or choose another port in the panel of the line.")
	case exchange.PortDenied:
		w.route.Set(route.Wire, route.Fault, sentence(w.lost.Sentence), "Have the user put into that group, and log in anew.")
	case exchange.NotAllowed:
		w.route.Set(route.Wire, route.Fault, "It was not asked: "+w.lost.Sentence+".", "Enter the device's real address.")
	case exchange.Refused:
		w.route.Set(route.Wire, route.Good, fmt.Sprintf("%s answers after %s.", host, took), "")
		w.route.Set(route.Address, route.Fault, fmt.Sprintf("%s refuses the connection: nobody listens on port %s.", host, port),
			"Start the server task in the device, and compare the port at both ends. A firewall may refuse in its place.")
	case exchange.Reset:
		w.route.Set(route.Wire, route.Good, fmt.Sprintf("%s answers after %s.", host, took), "")
		w.route.Set(route.Address, route.Good, fmt.Sprintf("Port %s takes the connection.", port), "")
		w.tornDown()
	default:
		w.route.Set(route.Wire, route.Fault, fmt.Sprintf("Nothing came back from %s within %s: %s.", host, took, w.lost.Sentence),
			"Check power, cable and address, and that this machine is in the same subnet. A firewall may swallow the port without a word.")
	}
	return false
}

// sentence makes a sentence of a clause.
func sentence(clause string) string {
	if clause == "" {
		return ""
	}
	return strings.ToUpper(clause[:1]) + clause[1:] + "."
}

func (w *walk) tornDown() {
	w.route.Set(route.Session, route.Fault, w.name+" takes the connection and tears it down at once.",
		"It may have all its connections taken, or allow only certain addresses. Close other clients, then look in its access list.")
}

// session decides the stop Session: does the unit answer, and who is it.
func (w *walk) session(ctx context.Context) bool {
	began := time.Now()
	who, by, reply := w.runner.conn().Identify()
	w.record("who is there, by "+by, &reply, began)
	if reply.Outcome != exchange.Answered && reply.Outcome != exchange.Declined {
		// Some devices hang up on a question they do not know, or ignore it:
		// only a plain read tells whether the unit is there.
		if plain, ok := w.plainRead(ctx); ok {
			reply = plain
		}
	}
	unit := w.runner.def.Value(w.runner.link.Settings, "unit")
	if w.onWire() || w.runner.def.Turns == protocol.TurnsOfAddress {
		if !w.overLine(ctx, &reply) {
			return false
		}
	}
	switch reply.Outcome {
	case exchange.Answered, exchange.Declined:
		if who != "" {
			w.route.Identity = who
			w.route.Set(route.Session, route.Good, fmt.Sprintf("Unit %d answers and says it is %s (%s).", unit, who, by), "")
		} else {
			w.route.Set(route.Session, route.Good, fmt.Sprintf("Unit %d answers. It does not say who it is.", unit), "")
		}
		if code := reply.Code; reply.Outcome == exchange.Declined && (code == 10 || code == 11) {
			why := w.runner.def.Decline(code)
			w.route.Set(route.Session, route.Fault, why.Means+" ("+reply.Sentence+")", why.Causes)
			return false
		}
		return true
	case exchange.Reset:
		w.tornDown()
	case exchange.Closed:
		w.route.Set(route.Session, route.Fault, w.name+" hangs up in place of an answer.",
			"Look for a limit on connections or an access list in the device, and close other clients.")
	case exchange.NoAnswer:
		w.route.Set(route.Session, route.Fault, fmt.Sprintf("The connection stands, but unit %d says nothing within %d ms.", unit, w.runner.def.Value(w.runner.link.Settings, "timeoutMs")),
			"Compare the unit number: most devices stay silent for any but their own. Then give it more time.")
	default:
		w.route.Set(route.Session, route.Fault, "What comes back is no answer: "+reply.Sentence+".",
			"Check that this port speaks the protocol, and that nothing between alters the bytes.")
	}
	return false
}

// plainRead asks for the first unit that the map names; ok says whether the
// unit answered at all.
func (w *walk) plainRead(ctx context.Context) (reply Reply, ok bool) {
	r := w.runner
	if len(r.jobs) == 0 || !r.connect(ctx) {
		return reply, false
	}
	area, start := r.jobs[0].Area, r.jobs[0].Start
	began := time.Now()
	reply = r.conn().Read(area, start, 1)
	w.record(r.def.Operation(area, start, 1), &reply, began)
	return reply, reply.OK() || reply.Outcome == exchange.Declined
}

// points decides the stop Points: every request is read once; one that is
// declined is taken apart, point by point.
func (w *walk) points(ctx context.Context) bool {
	r := w.runner
	if len(r.jobs) == 0 {
		w.route.Set(route.Points, route.Doubt, "The map has no point to read.", "Enter or paste the points of the device.")
		return false
	}
	w.worst = make([]float64, len(r.jobs))
	read, total := 0, len(r.points)
	var failed []string
	var why string
	for i := range r.jobs {
		reply, ok := w.read(ctx, i)
		if !ok {
			w.route.Set(route.Points, route.Fault, fmt.Sprintf("%s was asked and then: %s.", r.jobs[i].Operation, reply.Sentence),
				"The device answered before. Ask for less at once, or slower.")
			return false
		}
		if reply.OK() {
			read += len(r.jobs[i].Points)
			continue
		}
		why = r.def.Decline(reply.Code).Means + " " + r.def.Decline(reply.Code).Causes
		for _, id := range r.jobs[i].Points {
			p := pointOf(r.device, id)
			area, _ := address.AreaOf(r.def.Scheme, p.Address.Area)
			began := time.Now()
			single := r.conn().Read(p.Address.Area, p.Address.Offset, p.Units(area.UnitBits))
			w.record(r.def.Operation(p.Address.Area, p.Address.Offset, p.Units(area.UnitBits)), &single, began)
			if single.OK() {
				read++
			} else {
				failed = append(failed, fmt.Sprintf("%s (%s)", p.Name, r.def.Scheme.Short(p.Address)))
			}
			if !r.conn().Usable() && !r.connect(ctx) {
				break
			}
		}
	}
	switch {
	case len(failed) > 0:
		shown := failed[:min(len(failed), 4)]
		more := ""
		if len(failed) > len(shown) {
			more = fmt.Sprintf(" and %d more", len(failed)-len(shown))
		}
		w.route.Set(route.Points, route.Fault, fmt.Sprintf("Refused, %d of %d points: %s%s.", len(failed), total, strings.Join(shown, ", "), more), why)
		return false
	case why != "":
		w.route.Set(route.Points, route.Doubt, fmt.Sprintf("All %d points can be read alone, but not in the requests that join them.", total),
			"The device takes shorter requests, or none across its gaps: set its limit, or forbid bridging.")
		return true
	}
	w.route.Set(route.Points, route.Good, fmt.Sprintf("All %d points were read with %d requests.", read, len(r.jobs)), "")
	return true
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
func (w *walk) read(ctx context.Context, i int) (Reply, bool) {
	r := w.runner
	j := &r.jobs[i]
	if ctx.Err() != nil || !r.connect(ctx) {
		return Reply{Outcome: exchange.Closed, Sentence: "the connection ended"}, false
	}
	began := time.Now()
	reply := r.conn().Read(j.Area, j.Start, j.Count)
	for again := 1; again < r.tries && reply.Outcome == exchange.NoAnswer && r.conn().Usable() && ctx.Err() == nil; again++ {
		w.record(j.Operation, &reply, began) // as often as the run would try
		began = time.Now()
		reply = r.conn().Read(j.Area, j.Start, j.Count)
	}
	took := time.Since(began)
	w.route.Requests++
	e := r.exchange(j.Operation, &reply, began, took)
	e.Points, e.Area, e.Start, e.Count = len(j.parts), j.Area, j.Start, j.Count
	var parts []part
	if reply.OK() {
		parts = j.parts
		w.worst[i] = max(w.worst[i], float64(took)/float64(time.Millisecond))
	}
	r.hub.record(r.era, e, parts)
	return reply, reply.OK() || reply.Outcome == exchange.Declined
}

// pace decides the stop Pace from a few measured rounds: the time of one round
// of everything must fit into the fastest pace, and the load below one.
func (w *walk) pace(ctx context.Context) {
	r := w.runner
	for range rounds - 1 {
		for i := range r.jobs {
			if reply, ok := w.read(ctx, i); !ok {
				w.route.Set(route.Pace, route.Fault, "Asked again, the device gave up: "+reply.Sentence+".", "Ask slower.")
				return
			}
		}
	}
	load, fastest, round := 0.0, 0, 0.0
	for i := range r.jobs {
		round += w.worst[i]
		if pace := r.jobs[i].PaceMs; pace > 0 {
			load += w.worst[i] / float64(pace)
			if fastest == 0 || pace < fastest {
				fastest = pace
			}
		}
	}
	saw := fmt.Sprintf("A round of %d requests takes %.1f ms at worst of %d; the connection is %.0f %% full.", len(r.jobs), round, rounds, 100*load)
	switch {
	case load > 1:
		w.route.Set(route.Pace, route.Fault, saw+" The pace cannot hold.", "Read slower what can wait.")
	case fastest > 0 && round > float64(fastest):
		w.route.Set(route.Pace, route.Doubt, saw+fmt.Sprintf(" That is longer than the fastest pace, %d ms.", fastest), "Give fewer points the fast pace.")
	default:
		w.route.Set(route.Pace, route.Good, saw, "")
	}
}

func ms(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d)/float64(time.Millisecond)) }
