package field

import (
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"ferry/internal/core/diagnose"
	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// source is an end that reports. How old its values may be is its own to say: a
// point that is reported on change is not old for being quiet, as long as the
// end gives signs of life. It belongs to the hub.
type source struct {
	// after is for how many milliseconds nothing at all may come, 0 for ever, and then of values
	// is made what silent says.
	after  atomic.Int64
	silent value.Quality
	heard  int64 // when anything came last, in milliseconds since 1970; 0 while it is not connected
	quiet  bool  // nothing came for longer than it may
	tracks []*track
	// cyclic is set where what comes is what stands there, moved or not.
	cyclic bool
	// session is the connection over which they are reported, by a number that grows; 0
	// before the first.
	session uint64
}

// expect sets for how long nothing may come.
func (s *source) expect(l protocol.Lapse) {
	s.after.Store(int64(l.AfterMs))
	s.silent = l.Quality
}

// reporting is what a runner has to do with an end that reports.
type reporting struct {
	link, device string
	source       *source
	numbered     string // how the far end numbered its names last
	wanted       []protocol.Wanted
	tracks       map[string]*track
	again        time.Time // when those that were refused are asked for again; zero for never
	// rests is until when a station is left alone that was silent, where others share the connection.
	rests time.Time
	pause time.Duration
	since time.Time // when it was told of them last
	over  Conn      // the connection that was told of them
	// refused are the points that the device does not report; counts says how many
	// values came of each of the others, in so many messages.
	refused  []Refusal
	counts   map[string]int
	messages int
	packets  int // that went over the wire
}

// askAgain is how long after a refusal points are asked for again: soon at first,
// and at the latest before what is known of them is too old to count.
const (
	askAgain      = 3 * time.Second
	askAgainAtEnd = 2 * diagnose.Window / 3
)

// reportsOf prepares the points of a device for being reported; nil where the
// protocol does not report.
func (r *runner) reportsOf() *reporting {
	rules, ok := r.def.Reports()
	if !ok {
		return nil
	}
	g := &reporting{link: r.link.ID, device: r.device.ID, tracks: map[string]*track{}, counts: map[string]int{},
		source: &source{}}
	g.source.expect(rules.Lapse(r.link.Settings))
	_, g.source.cyclic = r.def.Image(r.link.Settings, "")
	asked := map[string]bool{}
	for _, id := range r.points {
		asked[id] = true
	}
	for i := range r.device.Points {
		p := &r.device.Points[i]
		if p.Access == site.WriteOnly || p.Address.IsZero() || asked[p.ID] {
			continue
		}
		t := r.hub.track(p.ID)
		g.wanted = append(g.wanted, p.Wanted())
		g.tracks[p.ID] = t
		g.source.tracks = append(g.source.tracks, t)
		r.points = append(r.points, p.ID)
	}
	return g
}

// follow tells a device which points are wanted of it.
func (r *runner) follow(conn Reporter, now time.Time) Reply {
	g := r.reports
	r.hub.sourced(g.source)
	reply, refused := conn.Follow(g.wanted)
	what := fmt.Sprintf("ask to be told of %d points", len(g.wanted))
	var granted map[string]string
	if revising, ok := conn.(Reviser); ok && reply.OK() {
		settings, said, points := revising.Revised()
		granted = points
		if rules, ok := r.def.Reports(); ok {
			g.source.after.Store(int64(rules.Lapse(settings).AfterMs))
		}
		what += said
	}
	e := r.exchange(what, &reply, now, time.Since(now))
	if e.Points = len(g.wanted); reply.OK() && len(refused) > 0 {
		e.Outcome, e.Cause, e.Code, e.Sentence = exchange.Declined, exchange.Unwanted, refused[0].Code,
			fmt.Sprintf("%d of %d are not reported, first %s: %s", len(refused), len(g.wanted),
				r.nameOf(refused[0].ID), refused[0].Sentence)
	}
	r.hub.record(r.era, e, nil)
	if !reply.OK() {
		r.hub.away(r.era, e, now)
		return reply
	}
	how := ""
	if numbers, ok := conn.(Numberer); ok {
		is := numbers.Numbering()
		if g.numbered != "" && g.numbered != is {
			how = "it came back with other numbers for its names"
		}
		g.numbered = is
	}
	r.hub.returned(r.era, r.link.ID, time.Now(), how)
	r.hub.alive(g.source, time.Now())
	r.hub.again(g.source, r.channel.session, granted)
	g.refused = refused
	for _, each := range refused {
		r.hub.fail(r.era, []string{each.ID}, each.Sentence)
	}
	if g.again = (time.Time{}); len(refused) > 0 {
		g.pause = min(max(askAgain, 2*g.pause), askAgainAtEnd)
		g.again = time.Now().Add(g.pause)
	} else {
		g.pause = 0
	}
	return reply
}

// station is the number of its device among those that share a connection.
func (r *runner) station() int {
	n, _ := r.def.StationOf(r.link.Settings)
	return n
}

func (r *runner) nameOf(id string) string { return pointOf(r.device, id).Name }

// came takes in a report.
func (r *runner) came(report *Report) {
	g := r.reports
	if report.Of > 0 && report.Of-1 != r.station() || report.Aside && len(report.Frames) == 0 {
		return
	}
	if report.Failed != nil {
		report.Failed.Frames = report.Frames
		r.hub.record(r.era, r.exchange(report.Operation, report.Failed, report.At, time.Since(report.At)), nil)
		return
	}
	e := &exchange.Exchange{Link: r.link.ID, Device: r.device.ID, At: report.At, Operation: report.Operation,
		Outcome: exchange.Reported, Frames: append(r.frames[:0], exchange.Frame{Octets: report.Octets})}
	if report.Aside {
		g.packets += len(report.Frames)
		e.Outcome, e.Frames = exchange.Answered, report.Frames
		e.LatencyMs = report.Frames[len(report.Frames)-1].AfterMs
		switch in := func(f exchange.Frame) bool { return !f.Out }; {
		case !slices.ContainsFunc(report.Frames, in):
			e.Outcome = exchange.Sent
		case report.Frames[0].Datagram || !slices.ContainsFunc(report.Frames, func(f exchange.Frame) bool { return f.Out }):
			e.Outcome, e.LatencyMs = exchange.Reported, 0
		}
		for _, s := range report.Samples {
			if g.tracks[s.ID] != nil {
				e.Samples = append(e.Samples, exchange.Sample{Point: s.ID, Value: s.Value, From: s.From, To: s.To, Time: s.Time})
			}
		}
		e.Points = len(e.Samples)
		r.hub.record(r.era, e, nil)
		return
	}
	if n := len(report.Frames); n > 0 {
		if e.Frames = report.Frames; e.Frames[0].Out &&
			slices.ContainsFunc(e.Frames, func(f exchange.Frame) bool { return !f.Out }) {
			e.Outcome, e.LatencyMs = exchange.Answered, e.Frames[n-1].AfterMs // the connection asked by itself
		}
	}
	if report.Wrong != "" {
		e.Outcome, e.Sentence = exchange.Garbled, report.Wrong
		r.hub.record(r.era, e, nil)
		return
	}
	if g.messages++; !report.Own {
		g.packets++
	}
	for _, s := range report.Samples {
		if g.tracks[s.ID] == nil {
			continue // it was wanted before the site changed
		}
		g.counts[s.ID]++
		e.Points++
		e.Samples = append(e.Samples, exchange.Sample{Point: s.ID, Value: s.Value, From: s.From, To: s.To,
			Time: s.Time})
	}
	if !report.Own {
		r.hub.record(r.era, e, nil)
	}
	r.hub.reported(r.era, g, report)
}

// listen makes sure that the ends of a channel that report are listened to, and
// says when it wants to look again, in an hour at the latest.
func (c *channel) listen(now time.Time) (next time.Time) {
	next = now.Add(time.Hour)
	for _, r := range c.runners {
		if r.reports == nil {
			continue
		}
		at := next
		if !c.guarded("listen", func() { at = c.listenTo(r, now) }) {
			at = c.retryAt
		}
		if at.Before(next) {
			next = at
		}
	}
	return next
}

func (c *channel) listenTo(r *runner, now time.Time) time.Time {
	g := r.reports
	waits := len(c.reports) > 0 // something has come, and this machine is behind
	if now.Before(g.rests) {
		return g.rests
	}
	if c.conn != nil && c.conn.Usable() && g.over == c.conn && !waits && r.hub.lapsed(g.source, now) {
		c.lost = Reply{Outcome: exchange.NoAnswer, Cause: exchange.Quiet,
			Sentence: fmt.Sprintf("nothing came for more than %d ms", g.source.after.Load())}
		e := r.exchange("wait for a sign of life", &c.lost, now, 0)
		r.hub.record(r.era, e, nil)
		r.hub.away(r.era, e, r.hub.heardLast(g.source))
		lost := c.lost
		c.contact.Store(&lost)
		if c.shares() { // the others on it go on
			g.over, g.rests = nil, now.Add(wait)
			return g.rests
		}
		c.hangUp() // it may be a connection that only this end still has
		c.retryAt = now.Add(wait)
		return c.retryAt
	}
	again := !g.again.IsZero() && !now.Before(g.again)
	if c.conn == nil || !c.conn.Usable() || g.over != c.conn || again {
		if !c.open(c.life, r) {
			return c.retryAt
		}
		conn, ok := c.conn.(Reporter)
		if !ok {
			return now.Add(time.Hour)
		}
		g.over, c.reports = c.conn, conn.Reports()
		now = time.Now() // what went to connect was before
		if reply := r.follow(conn, now); !reply.OK() {
			c.contact.Store(&reply)
			r.hub.fail(r.era, r.points, reply.Sentence)
			if c.shares() && c.conn.Usable() {
				g.over, g.rests = nil, time.Now().Add(max(wait, silentShare*time.Since(now)))
				return g.rests
			}
			c.hangUp()
			c.retryAt = now.Add(wait)
			return c.retryAt
		}
		g.since = now
	}
	next := now.Add(time.Hour)
	if ms := g.source.after.Load(); ms > 0 {
		next = now.Add(time.Duration(ms)*time.Millisecond/2 + time.Millisecond)
	}
	if !g.again.IsZero() && g.again.Before(next) {
		next = g.again
	}
	return next
}

// silentShare bounds what a silent station costs those that share its connection: it is left alone for
// so many times as long as it was waited for.
const silentShare = 5

// shares reports whether several stations that report share the connection.
func (c *channel) shares() bool {
	n := 0
	for _, r := range c.runners {
		if r.reports != nil {
			n++
		}
	}
	return n > 1
}

// inTurn is how many reports are taken in between two requests: neither keeps the
// other waiting.
const inTurn = 16

// reported takes in the reports that wait, if there are any.
func (c *channel) reported() {
	for range inTurn {
		select {
		case report, open := <-c.reports:
			c.guarded("report", func() { c.came(&report, open) })
		default:
			return
		}
	}
}

// came takes in what a connection hands over: a report, or that it has ended.
func (c *channel) came(report *Report, open bool) {
	c.takeIn()
	if open {
		for _, r := range c.runners {
			if r.reports != nil && r.reports.over == c.conn {
				r.came(report)
			}
		}
		return
	}
	conn, ok := c.conn.(Reporter)
	c.reports = nil
	if !ok {
		return
	}
	ended := conn.Ended()
	c.contact.Store(&ended)
	c.hangUp()
	for _, r := range c.runners {
		if r.reports != nil {
			if time.Since(r.reports.since) < wait { // one that ends soon is not opened again at once
				c.lost, c.retryAt = ended, time.Now().Add(wait)
			}
			e := r.exchange("listen to "+r.device.Name, &ended, time.Now(), 0)
			r.hub.record(r.era, e, nil)
			if c.runs && c.life.Err() == nil {
				r.hub.away(r.era, e, e.At)
			}
			r.hub.fail(r.era, r.points, ended.Sentence)
		}
	}
}

// endsWithin is how long after a connection can carry nothing more it may take until it
// has said how it ended.
const endsWithin = 100 * time.Millisecond

// heardBefore takes in what has come before a connection is given up: it may be gone at the far end.
func (c *channel) heardBefore() {
	for {
		select {
		case report, open := <-c.reports:
			if open {
				c.came(&report, true)
				continue
			}
			c.reports = nil
		default:
		}
		return
	}
}

// heardOut takes in what a connection that has ended still hands over, and how it ended.
func (c *channel) heardOut() {
	if c.conn == nil || c.conn.Usable() || c.reports == nil {
		return
	}
	late := time.NewTimer(endsWithin)
	defer late.Stop()
	for c.reports != nil {
		select {
		case report, open := <-c.reports:
			c.came(&report, open)
		case <-late.C:
			return
		}
	}
}
