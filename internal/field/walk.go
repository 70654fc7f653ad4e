package field

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net"
	"strings"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/datasheet"
	"ferry/internal/core/exchange"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
)

// walk is one try under way.
type walk struct {
	runner *runner
	route  *route.Route
	name   string
	target string
	// borrowed is the channel of a run, if the try goes over one; lost says why
	// there is no connection.
	borrowed *channel
	lost     Reply
	others   []*runner
	claims   *claims // nil where nobody can be asked who has the station
	// extents are how far structures reach that the map has.
	extents []datasheet.Extent
	// renewed says that the run's connection has ended under a question.
	renewed bool
	// ended says that the try was ended before it could conclude, defect that
	// Ferry failed on what came.
	ended  error
	defect bool
	// manner is in which odd ways the device answered.
	manner exchange.Manner
	// worst is the worst measured time of each job that was read, in milliseconds.
	worst map[*job]float64
}

// guarded walks the stops, and reports whether that came to its end.
func (w *walk) guarded(c *channel, ctx context.Context) bool {
	if w.borrowed == nil {
		return c.guarded("try", func() { w.run(ctx) })
	}
	w.run(ctx)
	return !w.defect
}

func (w *walk) run(ctx context.Context) {
	_, told := w.runner.def.Reports()
	_, asks := w.runner.def.Asks()
	connected := w.dial(ctx)
	if by := w.reported; connected && (asks || told) && w.runner.rules == nil {
		if !told {
			by = w.asked
		}
		if by(ctx); w.route.StopsAt == nil {
			w.known(ctx)
		}
	} else if connected && w.session(ctx) {
		if w.points(ctx) {
			w.pace(ctx)
		}
		w.known(ctx) // last, for it may keep the device busy
	}
	if ctx.Err() != nil {
		w.ended = problem.New("stopped",
			"The try was ended before it could conclude: the run, the mode or the page changed.", "Try again.")
	}
}

// question gives ask the connection, turned to the device of a runner, between
// two requests of whoever owns it. It reports whether there was one.
func (w *walk) question(ctx context.Context, r *runner, ask func(conn Conn)) (had bool) {
	if ctx.Err() != nil || w.defect {
		return false
	}
	if w.borrowed == nil {
		r.channel = w.runner.channel
		if !r.connect(ctx) {
			w.lost = r.channel.lost
			return false
		}
		ask(r.conn())
		return true
	}
	err := w.borrowed.between(ctx, r, func(_ *runner, conn Conn, reply Reply) {
		if had = conn != nil; had {
			ask(conn)
		} else {
			w.lost = reply
		}
	})
	w.defect = err == errDefect
	return had && err == nil
}

func (w *walk) record(operation string, reply *Reply, began time.Time) {
	w.route.Requests++
	w.manner |= reply.Manner
	w.runner.hub.record(w.runner.era, w.runner.exchange(operation, reply, began, time.Since(began)), nil)
}

func (w *walk) onWire() bool { return w.runner.def.Medium == site.SerialLine }

// who names the end that is asked: by its station, where the protocol has such.
func (w *walk) who() string {
	return cmp.Or(w.runner.def.StationWords(w.runner.link.Settings), "the device")
}

// station is the protocol's word for the number of a station.
func (w *walk) station() string {
	s, _ := w.runner.def.Setting(w.runner.def.Station)
	return strings.ToLower(s.Title)
}

// begun is a sentence with a capital letter.
func begun(text string) string { return strings.ToUpper(text[:1]) + text[1:] }

func (w *walk) limit() int { return w.runner.def.Int(w.runner.link.Settings, protocol.KeyWithin) }

// dial decides the stops Wire and Address, as far as connecting tells: a
// serial port can be opened with nobody at its far end.
func (w *walk) dial(ctx context.Context) bool {
	began := time.Now()
	var connected bool
	if w.borrowed == nil {
		var conn Conn
		w.runner.channel.target.Trial = true // it is the try's own
		target := w.runner.channel.target
		target.Settings = w.runner.link.Settings
		if conn, w.lost = w.runner.channel.driver.Dial(ctx, target); conn != nil {
			w.runner.channel.conn, w.runner.channel.toward = conn, nil
			connected, w.lost = true, Reply{}
		}
	} else {
		w.borrowed.hurry.Store(true)
		connected = w.question(ctx, w.runner, func(Conn) {})
	}
	took := ms(time.Since(began))
	if connected {
		if !w.onWire() {
			host, port, _ := net.SplitHostPort(w.target)
			saw := fmt.Sprintf("%s answers after %s.", host, took)
			if w.borrowed != nil {
				saw = fmt.Sprintf("%s answers: the run has its connection.", host)
			}
			w.route.Set(route.Wire, route.Good, saw, "")
			w.route.Set(route.Address, route.Good, w.answersAt(port), "")
		}
		return true
	}
	w.record("connect to "+w.name, &w.lost, began)
	w.unconnected(took)
	return false
}

// answersAt says that somebody is there at a port, turned that nobody is.
func (w *walk) answersAt(port string) string {
	if w.runner.def.Datagrams {
		return fmt.Sprintf("Port %s answers.", port)
	}
	return fmt.Sprintf("Port %s takes the connection.", port)
}

func (w *walk) turned(host, port string) string {
	if w.runner.def.Datagrams {
		return fmt.Sprintf("%s sends back that nobody listens on port %s.", host, port)
	}
	return fmt.Sprintf("%s refuses the connection: nobody listens on port %s.", host, port)
}

// unconnected says why there is no connection.
func (w *walk) unconnected(took string) {
	host, port, _ := net.SplitHostPort(w.target)
	if w.lost.Stop == route.Session {
		w.route.Set(route.Wire, route.Good, fmt.Sprintf("%s answers after %s.", host, took), "")
		w.route.Set(route.Address, route.Good, w.answersAt(port), "")
		w.refused(&w.lost)
		return
	}
	switch w.lost.Outcome {
	case exchange.PortAbsent:
		w.route.Set(route.Wire, route.Fault, sentence(w.lost.Sentence),
			"Plug the adapter in, or choose another port in the panel of the line.")
	case exchange.PortOwned:
		w.route.Set(route.Wire, route.Fault, sentence(w.lost.Sentence),
			"Close that program, or choose another port in the panel of the line.")
	case exchange.PortDenied:
		w.route.Set(route.Wire, route.Fault, sentence(w.lost.Sentence),
			"Have the user put into that group, and log in anew.")
	case exchange.NotAllowed:
		w.route.Set(route.Wire, route.Fault, "It was not asked: "+w.lost.Sentence+".",
			"Enter the device's real address.")
	case exchange.NoSuchName:
		w.route.Set(route.Wire, route.Fault, sentence(w.lost.Sentence),
			"Compare how the name is written, or give the address in numbers: names need a name server that "+
				"knows them.")
	case exchange.Refused:
		w.route.Set(route.Wire, route.Good, fmt.Sprintf("%s answers after %s.", host, took), "")
		w.route.Set(route.Address, route.Fault,
			w.turned(host, port),
			"Start the server task in the device, and compare the port at both ends. A firewall may refuse in its "+
				"place, and so may a device whose only connection is taken.")
	case exchange.Reset:
		w.route.Set(route.Wire, route.Good, fmt.Sprintf("%s answers after %s.", host, took), "")
		w.route.Set(route.Address, route.Good, w.answersAt(port), "")
		w.tornDown()
	default:
		w.route.Set(route.Wire, route.Fault,
			fmt.Sprintf("Nothing came back from %s within %s: %s.", host, took, w.lost.Sentence),
			"Check power, cable and address, and that this machine is in the same subnet. A firewall may swallow "+
				"the port without a word.")
	}
}

// refused says what a refusal at the stop Session means.
func (w *walk) refused(reply *Reply) {
	if reply.Outcome != exchange.Declined {
		w.route.Set(route.Session, route.Fault, "What comes back is no answer: "+reply.Sentence+".",
			"Check that this port speaks the protocol, and that nothing between alters the bytes.")
		return
	}
	why := w.runner.def.Decline(reply.Code)
	w.route.Explained = why.Access
	w.route.Set(route.Session, route.Fault, why.Means+" ("+reply.Sentence+")", why.Causes)
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
		"It allows only certain addresses, or "+w.taken())
}

// taken says what to do about a device that may have no connection left.
func (w *walk) taken() string {
	if w.borrowed != nil {
		return "it has restarted: look at its display and its access list."
	}
	return "all its connections are taken: close other clients, then look in its access list."
}

// session decides the stop Session: does the unit answer, and who is it.
func (w *walk) session(ctx context.Context) bool {
	reply := w.plainRead(ctx)
	if w.manner&exchange.SlowFirst != 0 {
		// Is it slow but for the first time?
		if reply = w.plainRead(ctx); reply.Outcome == exchange.NoAnswer {
			w.manner &^= exchange.SlowFirst
		}
	}
	if w.onWire() || w.runner.def.Turns == protocol.TurnsOfAddress {
		if !w.overLine(ctx, &reply) {
			return false
		}
	}
	switch reply.Outcome {
	case exchange.Answered, exchange.Declined:
		if why := w.runner.def.Decline(reply.Code); reply.Outcome == exchange.Declined && (why.Beyond || why.Session) {
			w.refused(&reply)
			return false
		}
		w.route.Set(route.Session, route.Good, begun(w.who())+" answers.", "")
		return true
	case exchange.Reset:
		w.tornDown()
	case exchange.Closed:
		w.route.Set(route.Session, route.Fault, w.name+" hangs up in place of an answer.",
			"Look for a limit on connections or an access list in the device. Perhaps "+w.taken())
	case exchange.NoAnswer:
		if w.late(ctx, &reply) {
			return false
		}
		remedy := "A device that serves one client at a time lets others wait without a word: is another " +
			"connected to it?"
		if w.runner.def.Station != "" {
			remedy = fmt.Sprintf("Compare the %s number: most devices stay silent for any but their own. %s",
				w.station(), remedy)
		}
		w.route.Set(route.Session, route.Fault,
			fmt.Sprintf("The connection stands, but %s says nothing within %d ms.", w.who(), w.limit()), remedy)
	case exchange.Refused, exchange.Unreached:
		w.lost = reply
		w.unconnected("")
	default:
		w.route.Set(route.Session, route.Fault, "What comes back is no answer: "+reply.Sentence+".",
			"Check that this port speaks the protocol, and that nothing between alters the bytes.")
	}
	return false
}

// known says that the unit answers, and asks it who it is. Many devices do not
// know that question: whatever becomes of it decides nothing.
func (w *walk) known(ctx context.Context) {
	saw := begun(w.who()) + " answers. It does not say who it is."
	w.question(ctx, w.runner, func(conn Conn) {
		asks, ok := conn.(Identifier)
		if !ok {
			return
		}
		began := time.Now()
		who, by, reply := asks.Identify()
		reply.Optional = true
		if w.record("who is there, by "+by, &reply, began); who != "" {
			w.route.Identity = who
			saw = fmt.Sprintf("%s answers and says it is %s (%s).", begun(w.who()), who, by)
		}
	})
	for _, m := range exchange.Manners {
		if w.manner&m.Is != 0 {
			saw += " It " + m.Does + ", and is well all the same. " + m.Copes
		}
	}
	if others := w.claims.others(ctx); len(others) > 0 {
		w.route.Requests++
		w.route.Set(route.Session, route.Doubt, fmt.Sprintf("%s But it is there twice: %s says that it has the same %s.", saw,
			strings.Join(others, " and "), w.station()),
			fmt.Sprintf("Give one of them another %s: whoever asks all for it gets either. If both are one device "+
				"with two addresses, it is well.", w.station()))
		return
	}
	w.route.Set(route.Session, route.Good, saw, "")
}

// late reports whether the unit answers when it is given more time, and then
// says how long it takes.
func (w *walk) late(ctx context.Context, reply *Reply) bool {
	took := reply.LateMs
	r := *w.runner
	link := *r.link
	link.Settings = maps.Clone(link.Settings)
	if link.Settings == nil {
		link.Settings = protocol.Settings{}
	}
	link.Settings[protocol.KeyWithin] = protocol.OfInt(max(3000, 4*w.limit()))
	r.link = &link
	for range 2 { // at the first it may still be busy with what was asked before
		answered := false
		w.question(ctx, &r, func(conn Conn) {
			began := time.Now()
			if got := w.ask(conn, firstOf(r.jobs), began); got.OK() || got.Outcome == exchange.Declined {
				took, answered = float64(time.Since(began))/1e6, true
			}
		})
		if !answered {
			break
		}
	}
	w.question(ctx, w.runner, func(Conn) {}) // it has its own limit again
	if took <= float64(w.limit()) {
		return false
	}
	w.route.Set(route.Session, route.Fault,
		fmt.Sprintf("%s answers, but only after %.0f ms, and this end waits %d ms: what comes later is taken "+
			"for nothing.", begun(w.who()), took, w.limit()),
		fmt.Sprintf("Give it more time: “Answer within” %d ms would do. Then look at the device's load, and at what "+
			"lies between.", (int(took*1.5)/100+1)*100))
	return true
}

// firstOf is the job that a plain read is made of, nil for none.
func firstOf(jobs []*job) *job {
	if len(jobs) == 0 {
		return nil
	}
	return jobs[0]
}

// ask reads the first value that a job names, or without a job the first unit
// that any area has, until one tells that the unit is there.
func (w *walk) ask(conn Conn, j *job, began time.Time) (reply Reply) {
	r := w.runner
	if j != nil {
		runs, _ := r.items(j)
		first := []block.Range{rangeOf(j.Ranges[0].Area, runs[0])}
		reply = Ask(conn, first)
		w.record(r.rules.Operation(first), &reply, began)
		return reply
	}
	for _, area := range r.def.Areas {
		if area.Key == "" || area.UnitBits != 16 {
			continue
		}
		first := []block.Range{{Area: area.Key, Count: 1}}
		reply = Ask(conn, first)
		w.record(r.rules.Operation(first), &reply, began)
		if reply.Outcome != exchange.NoAnswer || !conn.Usable() {
			return reply
		}
		began = time.Now()
	}
	return reply
}

// outlived reports, once, that a question ended with the connection that the run
// had before: that does not tell how the device takes a new one, which the next
// question opens.
func (w *walk) outlived(reply *Reply) bool {
	if w.borrowed == nil || w.renewed || reply.Outcome != exchange.Reset && reply.Outcome != exchange.Closed {
		return false
	}
	w.renewed = true
	return true
}

// plainRead asks for a value that the map names, of one area after the other
// until the unit answers: some stay silent on a function they do not know.
func (w *walk) plainRead(ctx context.Context) (reply Reply) {
	asked := map[string]bool{}
	jobs := w.runner.jobs
	if len(jobs) == 0 {
		jobs = []*job{nil}
	}
	for _, j := range jobs {
		if j != nil && asked[j.Ranges[0].Area] {
			continue
		}
		if j != nil {
			asked[j.Ranges[0].Area] = true
		}
		for again := 0; again < w.runner.tries; again++ {
			if !w.question(ctx, w.runner, func(conn Conn) { reply = w.ask(conn, j, time.Now()) }) {
				reply = w.lost
			}
			if w.outlived(&reply) {
				again--
				continue
			}
			if w.onWire() || reply.Outcome == exchange.Answered || reply.Outcome == exchange.Declined ||
				reply.Outcome == exchange.Garbled || ctx.Err() != nil {
				break // over a line, what odd answers mean is found out elsewhere
			}
		}
		if reply.Outcome != exchange.NoAnswer {
			return reply
		}
	}
	return reply
}

func ms(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d)/float64(time.Millisecond)) }
