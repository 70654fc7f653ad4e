package judge

import (
	"fmt"
	"math"
	"net/netip"
	"slices"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/finding"
)

// end is what is known of an address at which somebody answers, or ought to.
type end struct {
	at        netip.AddrPort
	protocol  string
	open      int // connections open now
	most      int // and at once
	conns     int
	spoke     bool // there was an exchange
	talks     []*Talk
	stations  map[int]bool // those that ever answered
	quiet     int          // those that never did, as last counted
	served    [4]served    // connections that it answered over last
	unheard   proofs
	unhurried int // tries that waited long enough to count
	turned    proofs
	full      proofs // accepted and closed at once, while others were open
	turnedOn  proofs // turned away while others were open
	torn      proofs
	lost      proofs // torn or closed while an answer was due
	idle      []time.Duration
	idles     proofs
	each      proofs // closed by the answerer after one exchange
	short     proofs // closed by the asker after one exchange, or none
	stalled   proofs
	pieces    int64
	resent    proofs
	ways      []time.Duration // from asking for a connection to its acceptance
	way       proof
}

// served is a connection with when it was answered over first and last.
type served struct {
	conn        int
	first, last time.Time
}

// serve notes that an answer came over a connection.
func (e *end) serve(conn int, at time.Time) {
	oldest := 0
	for i := range e.served {
		if e.served[i].conn == conn {
			e.served[i].last = at
			return
		}
		if e.served[i].last.Before(e.served[oldest].last) {
			oldest = i
		}
	}
	e.served[oldest] = served{conn, at, at}
}

// otherServed reports whether another connection was answered over before a time and
// after it.
func (e *end) otherServed(conn int, at time.Time) bool {
	for _, s := range e.served {
		if s.conn != 0 && s.conn != conn && s.first.Before(at) && s.last.After(at) {
			return true
		}
	}
	return false
}

// mostKept bounds the times that are kept of one kind.
const mostKept = 256

func (j *Judge) end(c *capture.Conn) *end {
	key := endKey{c.Ends[capture.Answerer], c.Datagrams}
	e := j.ends[key]
	if e == nil {
		if len(j.ends) >= mostHosts {
			return nil
		}
		e = &end{at: key.at}
		j.ends[key] = e
	}
	return e
}

// The times by which connections are judged.
const (
	patience  = 2500 * time.Millisecond // a try that was not answered for so long was not answered
	atOnce    = time.Second             // what is closed sooner was not taken
	soonAfter = 150 * time.Millisecond  // closed sooner it was for the answer, later for the quiet
	farAway   = 100 * time.Millisecond  // a way that takes longer is slow
	stillFor  = 5 * time.Second         // quiet for less is nothing
)

// done takes in how a connection went.
func (e *end) done(c *capture.Conn, now time.Time) {
	if c.Speech != nil && c.Speech.Protocol != "" {
		e.protocol = c.Speech.Protocol
	}
	if c.Datagrams {
		return
	}
	what := proof{at: c.Began, packets: [2]int64{c.First, c.EndedIn}}
	switch c.Ending {
	case capture.Unheard:
		what.text = fmt.Sprintf("%s asks %d times to be connected", c.Ends[capture.Asker].Addr(), c.Tries)
		if c.Tries >= 2 || now.Sub(c.Began) >= patience {
			e.unhurried++
		}
		e.unheard.add(what)
		return
	case capture.Turned:
		what.text = c.Ends[capture.Asker].Addr().String() + " is turned away"
		if e.open > 0 && e.spoke {
			e.turnedOn.add(what)
		} else {
			e.turned.add(what)
		}
		return
	}
	e.conns++
	e.pieces += c.Pieces[0] + c.Pieces[1]
	if !c.Greeted.IsZero() && c.Opened() && c.Tries == 1 && len(e.ways) < mostKept {
		e.ways = append(e.ways, c.Greeted.Sub(c.Began))
		e.way = proof{at: c.Began, packets: [2]int64{c.First}}
	}
	unconfirmed := max(c.Unconfirmed(capture.Asker), c.Unconfirmed(capture.Answerer))
	for side, n := range c.Resent {
		if unconfirmed > 0 {
			n-- // the last is no loss: nothing comes through at all
		}
		for range max(n, 0) {
			e.resent.add(proof{at: c.LastAt, packets: [2]int64{c.LastResent[side]}, text: "said again"})
		}
	}
	e.ended(c, unconfirmed)
}

// ended judges how an accepted connection came to its end.
func (e *end) ended(c *capture.Conn, unconfirmed int) {
	said := c.SaidAt[0]
	if c.SaidAt[1].After(said) {
		said = c.SaidAt[1]
	}
	asker := c.Ends[capture.Asker].Addr()
	due := c.SaidAt[capture.Asker].After(c.SaidAt[capture.Answerer])
	what := proof{at: c.EndedAt, packets: [2]int64{c.EndedIn}}
	switch {
	case unconfirmed >= 2:
		what.at, what.packets[0] = said, c.LastResent[0]
		what.text = fmt.Sprintf("said %d times more and never confirmed", unconfirmed)
		e.stalled.add(what)
	case c.Ending == capture.Open, c.Ending == capture.Cut:
	case (c.Speech == nil || c.Speech.Protocol == "") && c.Octets[0]+c.Octets[1] > 0:
		// How a protocol ends that nobody here knows says nothing.
	case c.EndedBy == capture.Asker:
		if c.Heard <= 1 && c.Opened() && c.Ending == capture.Closed {
			what.text = fmt.Sprintf("%s closes after %d exchanges", asker, c.Heard)
			e.short.add(what)
		}
	case c.Speech != nil && c.Speech.Covers != nil && c.Heard > 1:
		// A session is kept, however quiet it is: there are signs of life for that.
		what.text = fmt.Sprintf("ended %s after the last word", long(c.EndedAt.Sub(said)))
		e.lost.add(what)
	case !said.IsZero() && due && c.Heard > 0 || !said.IsZero() && due && c.Ending == capture.Torn:
		what.text = fmt.Sprintf("ended %s after a question", long(c.EndedAt.Sub(said)))
		e.lost.add(what)
	case c.Octets[capture.Answerer] == 0 && c.EndedAt.Sub(c.Began) < atOnce && e.open > 1:
		what.text = fmt.Sprintf("%s is let in and closed %s later, with %d connections open", asker,
			long(c.EndedAt.Sub(c.Began)), e.open)
		e.full.add(what)
	case c.Heard == 1 && c.Opened() && c.EndedAt.Sub(said) < soonAfter:
		e.each.add(what)
	case c.EndedAt.Sub(said) >= soonAfter && !said.IsZero():
		if len(e.idle) < mostKept {
			e.idle = append(e.idle, c.EndedAt.Sub(said))
		}
		what.text = fmt.Sprintf("closed after %s without a word", long(c.EndedAt.Sub(said)))
		e.idles.add(what)
	case c.Ending == capture.Torn:
		what.text = "torn down"
		e.torn.add(what)
	}
}

// path judges the way to one end.
func (j *Judge) path(e *end) (found []finding.Finding) {
	name := j.named(e.at, -1)
	add := func(code string, severity finding.Severity, sure float64, ps *proofs, title, sentence, remedy, other string) {
		f := finding.Finding{Code: code, Severity: severity, Sure: sure, Count: ps.n, Subject: j.subject(e.at, -1),
			Title: title, Sentence: sentence, Remedy: remedy, Else: other}
		ps.into(&f)
		found = append(found, f)
	}
	h := j.host(e.at.Addr())
	reached := e.conns > 0
	silent := e.unhurried > 0 && !reached && e.turned.n == 0
	switch {
	case (silent || h.gone.n > 0 && !reached && e.unheard.n > 0) && !h.spoke:
		ps := e.unheard
		sentence := fmt.Sprintf("Nothing ever comes back from %s: it was asked for %d connections.", e.at.Addr(),
			e.unheard.n)
		remedy := "Look whether it is switched on and plugged in, and compare its address and mask with the plan. From " +
			"another network look at the way there."
		switch {
		case h.gone.n > 0:
			sentence += " A router says: " + h.why + "."
			ps.kept = append(slices.Clone(h.gone.kept), ps.kept...)
		case h.lookup.n > 0 && !h.known:
			sentence += fmt.Sprintf(" On its own network nobody has that address: it was looked for %d times.", h.lookup.n)
			ps.kept = append(slices.Clone(h.lookup.kept), ps.kept...)
		}
		add("host-silent", finding.Fault, 0.95, &ps, name+" is not there", sentence, remedy,
			"A firewall that drops what it does not let through looks the same from here.")
	case silent:
		add("port-silent", finding.Fault, 0.9, &e.unheard, fmt.Sprintf("Port %d of %s gives no answer", e.at.Port(), name),
			fmt.Sprintf("The host speaks, but of %d tries to connect to port %d none was answered, nor turned away.",
				e.unheard.n, e.at.Port()),
			"A firewall on the way or in the device drops it: let the port through, or use the port that is open.",
			"The device is too busy to take a connection, or has as many as it can.")
	case e.turned.n > 0 && !e.spoke:
		add("port-refused", finding.Fault, 1, &e.turned, fmt.Sprintf("%s turns away port %d", name, e.at.Port()),
			fmt.Sprintf("The host is there and says that nothing listens on port %d: %d tries.", e.at.Port(), e.turned.n),
			"Switch the service on in the device, or correct the port number at the asking end.",
			"The device has as many connections as it can, or does not let this address in.")
	case e.turned.n > 0:
		add("port-refused", finding.Doubt, 0.9, &e.turned,
			fmt.Sprintf("%s turned connections away for a while", name),
			fmt.Sprintf("%d tries to connect to port %d were turned away, %d connections were taken.", e.turned.n,
				e.at.Port(), e.conns), "Look whether the device was restarted then.", "")
	}
	if n := e.full.n + e.turnedOn.n; n > 0 {
		ps := e.full
		if ps.n == 0 {
			ps = e.turnedOn
		}
		ps.n = n
		add("connection-limit", finding.Fault, 0.8, &ps, name+" takes no more connections",
			fmt.Sprintf("%d further connections were closed at once or turned away while others were open; at most %d "+
				"were at a time.", n, e.most),
			"Close what need not be connected (a second tool, a panel), or raise the number that the device allows.",
			"The device lets in only certain addresses.")
	}
	found = append(found, j.drops(e, name)...)
	return append(found, j.manySilent(e)...)
}

// drops judges how accepted connections end, and what gets lost on them.
func (j *Judge) drops(e *end, name string) (found []finding.Finding) {
	add := func(code string, severity finding.Severity, sure float64, ps *proofs, title, sentence, remedy, other string) {
		f := finding.Finding{Code: code, Severity: severity, Sure: sure, Count: ps.n, Subject: j.subject(e.at, -1),
			Title: title, Sentence: sentence, Remedy: remedy, Else: other}
		ps.into(&f)
		if manner, is := map[string]string{"hangs-up": "hangs-up", "idle-close": "dozes"}[code]; is {
			j.fixManner(&f, manner)
		}
		found = append(found, f)
	}
	if e.stalled.n > 0 {
		add("stalled", finding.Fault, 0.9, &e.stalled, name+" went away without a word",
			fmt.Sprintf("On %d connections what was said is repeated and never confirmed: the way or the other end was "+
				"gone, and nobody said so.", e.stalled.n),
			"Look at cable, switch and power of the device at that time. Have the asking end give up after a time of "+
				"its own.", "")
	}
	if usual, same := alike(e.idle); same && len(e.idle) >= 2 {
		add("idle-close", finding.Note, 0.9, &e.idles, fmt.Sprintf("%s closes what is quiet", name),
			fmt.Sprintf("It closed %d connections, each after about %s without a word.", len(e.idle), long(usual)),
			fmt.Sprintf("Ask at least every %s, or have the asking end open it anew for the next question.",
				long(usual*8/10)), "A firewall on the way that forgets what is quiet.")
	} else if n := e.idles.n; n > 0 && !same {
		add("connection-dropped", finding.Doubt, 0.6, &e.idles, name+" closes connections",
			fmt.Sprintf("It closed %d connections, after different times.", n),
			"Look at the device's log, and whether it was restarted.", "")
	}
	if e.each.n >= 3 && e.each.n*5 >= e.conns*4 && !e.refusing() {
		add("hangs-up", finding.Note, 0.95, &e.each, name+" closes after each answer",
			fmt.Sprintf("%d of %d connections were closed by it after one answer.", e.each.n, e.conns),
			"That is its way. Opening anew takes time: ask less often, or have the device keep the connection.", "")
	}
	if n := e.lost.n + e.torn.n; n > 0 {
		ps := e.lost
		if ps.n == 0 {
			ps = e.torn
		}
		ps.n = n
		severity := finding.Doubt
		if e.lost.n > 1 {
			severity = finding.Fault
		}
		add("connection-dropped", severity, 0.9, &ps, name+" drops connections",
			fmt.Sprintf("It ended %d of %d connections, %d of them while an answer was due.", n, e.conns, e.lost.n),
			"Look at the device's log, its load and its power supply; compare with what was asked just before.",
			"A firewall on the way that ends what it does not know.")
	}
	if e.short.n >= 10 && e.short.n*5 >= e.conns*4 {
		add("connection-churn", finding.Doubt, 0.9, &e.short, "A connection to "+name+" for every question",
			fmt.Sprintf("%d of %d connections were closed by the asking end after one exchange or none.", e.short.n,
				e.conns),
			"Have the asking end keep its connection open: opening one takes longer than asking, and a device has few.",
			"")
	}
	if e.resent.n >= 3 && float64(e.resent.n) > 0.005*float64(e.pieces) {
		add("packet-loss", finding.Doubt, 0.9, &e.resent, "Packets get lost on the way to "+name,
			fmt.Sprintf("%d of %d segments had to be sent again (%.1f %%).", e.resent.n, e.pieces,
				100*float64(e.resent.n)/float64(e.pieces)),
			"Look at cables, connectors and the counters of the switch; a duplex that differs at both ends does this, "+
				"and so does radio.", "")
	}
	if usual := median(e.ways); usual >= farAway {
		ps := proofs{n: len(e.ways), kept: []proof{e.way}}
		add("slow-path", finding.Doubt, 0.8, &ps, "The way to "+name+" is slow",
			fmt.Sprintf("From asking for a connection to its acceptance it takes %s.", long(usual)),
			"Every exchange takes at least as long: ask for more at once, several at a time, or less often.",
			"The device itself takes long to accept.")
	}
	return found
}

// fewSilent is how many silent stations behind one address are told of one by one.
const fewSilent = 5

// silent lists the stations that were asked and never said anything.
func (e *end) silent() (stations []int) {
	for _, t := range e.talks {
		if t.none.n > 0 && t.Answered+t.Declined+t.Garbled == 0 {
			stations = append(stations, t.Key.Station)
		}
	}
	slices.Sort(stations)
	return slices.Compact(stations)
}

// manySilent tells of many stations behind one address that never said anything, as a
// search leaves them.
func (j *Judge) manySilent(e *end) (found []finding.Finding) {
	stations := e.silent()
	e.quiet = len(stations)
	if len(stations) <= fewSilent {
		return nil
	}
	f := finding.Finding{Code: "no-answer", Severity: finding.Doubt, Sure: 0.9, Count: len(stations),
		Subject: j.subject(e.at, -1), Title: fmt.Sprintf("%d numbers at %s never answer", len(stations), j.named(e.at, -1)),
		Sentence: fmt.Sprintf("From %d to %d nobody answered under %d of the numbers that were asked.", stations[0],
			stations[len(stations)-1], len(stations)),
		Remedy: "Where that was a search, nothing is wrong. Where devices ought to be there, look at the power of the " +
			"line, and at its wires to the gateway."}
	for _, t := range e.talks {
		if t.none.n > 0 && len(f.Evidence) < mostProofs {
			one := proofs{n: 1, kept: t.none.kept[:min(1, len(t.none.kept))]}
			one.into(&f)
		}
	}
	return []finding.Finding{f}
}

// refusing reports whether who answers there refuses all that is asked: that it then
// ends the connection follows.
func (e *end) refusing() bool {
	refused := false
	for _, t := range e.talks {
		if t.Answered > 0 {
			return false
		}
		refused = refused || t.Declined > 0
	}
	return refused
}

// median of some times; 0 for none.
func median(list []time.Duration) time.Duration {
	if len(list) == 0 {
		return 0
	}
	list = slices.Sorted(slices.Values(list))
	return list[len(list)/2]
}

// alike reports whether some times are one and the same, within a tenth, but for a sixth
// of them.
func alike(list []time.Duration) (usual time.Duration, same bool) {
	usual = median(list)
	others := 0
	for _, d := range list {
		if math.Abs(float64(d-usual)) > 0.1*float64(usual) {
			others++
		}
	}
	return usual, len(list) > 0 && others*6 <= len(list)
}
