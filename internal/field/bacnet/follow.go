package bacnet

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
	wire "ferry/internal/wire/bacnet"
)

// following is what is wanted of a device. It is made whole and then not changed.
type following struct {
	wanted []protocol.Wanted
	// groups are points that are asked for together.
	groups []*group
	// told are the points of each object whose changes the device tells, process is what its reports bear.
	told    map[wire.ObjectID][]sought
	process uint32
	renew   time.Time // when the subscriptions are renewed
	tells   *telling
}

// group are points of one pace.
type group struct {
	every  time.Duration
	due    time.Time
	wanted []protocol.Wanted
	what   string
	beside bool // they are told of as well
}

// Follow reads what is wanted, subscribes to what the device tells where the settings want that, and asks for
// the rest at its pace.
func (c *conn) Follow(wanted []protocol.Wanted) (reply field.Reply, refused []field.Refusal) {
	reply = c.owned(func(ctx context.Context) field.Reply {
		samples, reply := c.items(ctx, wanted)
		if !reply.OK() {
			return reply
		}
		f := &following{wanted: wanted, told: map[wire.ObjectID][]sought{}}
		out := map[string]bool{}
		for _, s := range samples {
			if s.Code != 0 {
				refused = append(refused, field.Refusal{ID: s.ID, Code: s.Code, Sentence: s.Reason})
				out[s.ID] = true
			}
		}
		samples = slices.DeleteFunc(samples, func(s field.Sampled) bool { return s.Code != 0 })
		c.hand(field.Report{At: time.Now(), Operation: "read all", Samples: samples, Own: true})
		left := slices.DeleteFunc(slices.Clone(wanted), func(w protocol.Wanted) bool { return out[w.ID] })
		if how := family.IP.Value(c.settings, family.KeyTold).Text(); how != family.ToldAsked && !c.target.Trial {
			if left, reply = c.subscribe(ctx, f, left, how == family.ToldConfirmed); !reply.OK() {
				return reply
			}
		}
		f.plan(left, time.Duration(family.IP.Int(c.settings, family.KeyCheck))*time.Second, time.Now())
		c.mu.Lock()
		old := c.follows
		c.follows, c.hears = f, f
		c.mu.Unlock()
		c.unsubscribe(old, f)
		return field.Reply{Outcome: exchange.Answered}
	})
	return reply, refused
}

// plan has points asked for: those that the device does not tell at their pace, the others beside.
func (f *following) plan(left []protocol.Wanted, beside time.Duration, now time.Time) {
	paces, by := family.Paced(left)
	for _, pace := range paces {
		every := time.Duration(family.Every(pace)) * time.Millisecond
		f.groups = append(f.groups, &group{every: every, due: now.Add(every), wanted: by[pace],
			what: fmt.Sprintf("read %d objects", len(by[pace]))})
	}
	var told []protocol.Wanted
	for _, list := range f.told {
		for i := range list {
			told = append(told, list[i].Wanted)
		}
	}
	if len(told) > 0 {
		slices.SortFunc(told, func(a, b protocol.Wanted) int { return family.Scheme.Compare(a.Address, b.Address) })
		f.groups = append(f.groups, &group{every: beside, due: now.Add(beside), wanted: told, beside: true,
			what: fmt.Sprintf("read %d objects beside", len(told))})
	}
}

// subscribe asks to be told of changes; left are those of which the device does not tell. One that takes no
// more subscriptions, or none, is asked for no more of them.
func (c *conn) subscribe(ctx context.Context, f *following, wanted []protocol.Wanted,
	confirmed bool) (left []protocol.Wanted, reply field.Reply) {
	process, ok := c.remember("process", uint32(0)).(uint32)
	if !ok || process == 0 {
		process = 1 + rand.Uint32N(1<<22)
		c.keep("process", process)
	}
	f.process = process
	list, _ := seek(wanted)
	f.tells = newTelling(list)
	c.mu.Lock()
	c.hears = f // reports come as soon as it is asked for
	c.mu.Unlock()
	no := map[wire.ObjectID]bool{}
	refusals := 0
	for _, s := range list {
		object := wire.ID(uint16(s.place.Type), s.place.Instance)
		if s.place.Property != family.PresentValue || no[object] || refusals >= mostRefusals {
			left = append(left, s.Wanted)
			continue
		}
		if f.told[object] == nil {
			if reply = c.wish(ctx, f.process, object, confirmed); reply.Outcome == exchange.Declined {
				no[object] = true
				refusals++
				if reply.Code == family.RejectCode(family.RejectUnknownService) {
					refusals = mostRefusals
				}
				left = append(left, s.Wanted)
				continue
			}
			if !reply.OK() {
				return nil, reply
			}
			refusals = 0
		}
		c.mu.Lock()
		f.told[object] = append(f.told[object], s)
		c.mu.Unlock()
	}
	c.mu.Lock()
	f.tells.begun(time.Now())
	c.mu.Unlock()
	f.renew = time.Now().Add(c.lifetime() / 2)
	return left, field.Reply{Outcome: exchange.Answered}
}

// mostRefusals is after how many refusals in a row a device is asked for no more subscriptions.
const mostRefusals = 8

func (c *conn) lifetime() time.Duration {
	return time.Duration(family.IP.Int(c.settings, family.KeyLifetime)) * time.Second
}

func (c *conn) wish(ctx context.Context, process uint32, object wire.ObjectID, confirmed bool) field.Reply {
	w := wire.Subscription{Process: process, Object: object, Confirms: confirmed,
		Seconds: uint32(c.lifetime() / time.Second)}
	_, reply := c.ask(ctx, wire.SubscribeCOV, w.Append(nil), false)
	return reply
}

// mostCancelled bounds the subscriptions that are cancelled at the end; others run out.
const mostCancelled = 200

// unsubscribe ends the subscriptions that were taken, but those of another following, as far as that can be
// done at once: nobody waits for the answers.
func (c *conn) unsubscribe(old, but *following) {
	if old == nil || !c.Usable() {
		return
	}
	sent := 0
	for object := range old.told {
		if but != nil && but.told[object] != nil {
			continue
		}
		if sent++; sent > mostCancelled {
			return
		}
		w := wire.Subscription{Process: old.process, Object: object, Cancels: true}
		m := wire.Message{Kind: wire.Confirmed, Invoke: uint8(sent), Service: wire.SubscribeCOV, Body: w.Append(nil),
			MostOctets: wire.MostOctets}
		_ = c.socket.send(question{c.to, c.behind, uint8(sent)}, &m, false) // it is a courtesy
	}
}

// polls asks for what is due until the connection ends.
func (c *conn) polls() {
	const looks = 100 * time.Millisecond // at the latest whether something else is wanted
	timer := time.NewTimer(looks)
	defer timer.Stop()
	for {
		select {
		case <-c.ended:
			return
		case <-c.life.Done():
			return
		case <-timer.C:
		}
		next := looks
		c.mu.Lock()
		f := c.follows
		c.mu.Unlock()
		if f != nil {
			next = min(looks, c.duties(f))
		}
		timer.Reset(max(next, time.Millisecond))
	}
}

// duties does what is due, and returns in how long something is again.
func (c *conn) duties(f *following) time.Duration {
	now := time.Now()
	next := time.Hour
	for _, g := range f.groups {
		if !now.Before(g.due) {
			if !c.poll(f, g) {
				return next
			}
			g.due = g.due.Add(g.every)
			if late := time.Now(); g.due.Before(late) {
				g.due = late // it takes longer than its pace
			}
		}
		next = min(next, time.Until(g.due))
	}
	if !f.renew.IsZero() && !now.Before(f.renew) {
		c.renewAll(f)
	}
	return next
}

// poll asks for a group; a device that is silent has gone.
func (c *conn) poll(f *following, g *group) bool {
	if !c.turn.Hold(c.life, c.ended) {
		return false
	}
	report := field.Report{At: time.Now(), Operation: g.what}
	var reply field.Reply
	report.Samples, reply = c.items(c.life, g.wanted)
	c.turn.Release(&reply)
	report.Frames = reply.Frames
	for _, f := range reply.Frames {
		if !f.Out {
			report.Octets = append(report.Octets, f.Octets...)
		}
	}
	switch {
	case reply.OK():
	case reply.Outcome == exchange.CalledOff || !c.Usable():
		return false
	default:
		report.Failed = &reply
		c.hand(report)
		if reply.Outcome == exchange.NoAnswer {
			c.finish(field.Reply{Outcome: exchange.NoAnswer, Sentence: reply.Sentence})
			return false
		}
		return true
	}
	c.hand(report)
	if g.beside {
		c.compares(f, report.Samples, g.every)
	}
	return true
}

// renewAll renews the subscriptions. What the device no longer tells of is asked for from then on.
func (c *conn) renewAll(f *following) {
	confirmed := family.IP.Value(c.settings, family.KeyTold).Text() == family.ToldConfirmed
	next := &following{wanted: f.wanted, process: f.process, tells: f.tells, told: map[wire.ObjectID][]sought{}}
	var left []protocol.Wanted
	for _, g := range f.groups {
		if !g.beside {
			left = append(left, g.wanted...)
		}
	}
	c.mu.Lock()
	f.tells.begins = true
	c.mu.Unlock()
	for object, list := range f.told {
		if !c.turn.Hold(c.life, c.ended) {
			return
		}
		at := time.Now()
		reply := c.wish(c.life, f.process, object, confirmed)
		c.turn.Release(&reply)
		switch {
		case reply.Outcome == exchange.NoAnswer:
			c.finish(field.Reply{Outcome: exchange.NoAnswer, Sentence: reply.Sentence})
			return
		case reply.Outcome == exchange.Declined:
			reply.Cause = exchange.Unwanted
			c.hand(field.Report{At: at, Operation: "subscribe anew to " + place(whole(object, family.PresentValue)).String(),
				Failed: &reply, Frames: reply.Frames})
			for i := range list {
				left = append(left, list[i].Wanted)
			}
		default:
			next.told[object] = list
		}
	}
	now := time.Now()
	if next.renew = now.Add(c.lifetime() / 2); len(next.told) == len(f.told) {
		next.groups = f.groups
	} else {
		next.plan(left, time.Duration(family.IP.Int(c.settings, family.KeyCheck))*time.Second, now)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	f.tells.begun(now)
	if c.follows == f { // else something else is wanted by now
		c.follows, c.hears = next, next
	}
}

// heard takes what nobody asked for: reports of changes, and devices that say that they are there.
func (c *conn) heard(from netip.AddrPort, n *wire.Network, m *wire.Message, datagram []byte) {
	at := time.Now()
	switch {
	case m.Kind == wire.Unconfirmed && m.Service == wire.IAm:
		if p, err := wire.ParseIAm(m.Body, m.BodyAt); err == nil {
			c.stormed(at, datagram)
			note(c.present, found{from, n.From, p, datagram})
		}
	case m.Kind == wire.Unconfirmed && m.Service == wire.UnconfirmedCOV,
		m.Kind == wire.Confirmed && m.Service == wire.ConfirmedCOV:
		c.told(from, n, m, at, datagram)
	case m.Kind == wire.Confirmed:
		_ = c.socket.send(question{from, n.From, m.Invoke}, &wire.Message{Kind: wire.Reject, Invoke: m.Invoke,
			Reason: family.RejectUnknownService}, false)
	}
}

// From how many announcements a second on they are a storm, and how often that is told.
const (
	stormFrom  = 20
	stormEvery = 5 * time.Second
)

// stormed counts what says that somebody is there. It is the reader's alone.
func (c *conn) stormed(at time.Time, datagram []byte) {
	if at.Sub(c.storm.since) > time.Second {
		c.storm.since, c.storm.count = at, 0
	}
	if c.storm.count++; c.storm.count != stormFrom || at.Sub(c.storm.told) < stormEvery {
		return
	}
	c.storm.told = at
	reply := field.Reply{Outcome: exchange.Answered, Cause: exchange.Flooded,
		Sentence: fmt.Sprintf("more than %d times a second", stormFrom)}
	c.hand(field.Report{At: at, Operation: "I-Am, again and again", Failed: &reply,
		Frames: []exchange.Frame{{Octets: datagram}}})
}

// told takes a report of a change. One of a subscription that is none of this connection is refused, so that
// the device gives it up.
func (c *conn) told(from netip.AddrPort, n *wire.Network, m *wire.Message, at time.Time, datagram []byte) {
	answer := wire.Message{Kind: wire.SimpleAck, Invoke: m.Invoke, Service: m.Service}
	change, err := wire.ParseChange(m.Body, m.BodyAt)
	report := field.Report{At: at, Octets: datagram}
	c.mu.Lock()
	f := c.hears
	var points []sought
	if f != nil && err == nil {
		points = f.told[change.Object]
	}
	c.mu.Unlock()
	switch {
	case err != nil:
		report.Operation, report.Wrong = "report of a change", err.Error()
		answer = wire.Message{Kind: wire.Reject, Invoke: m.Invoke, Reason: 4}
	case f == nil || change.Process != f.process || from.Addr() != c.to.Addr() || n.From != c.behind ||
		change.Device.Instance() != c.device:
		if m.Kind == wire.Confirmed {
			answer = wire.Message{Kind: wire.ErrorAnswer, Invoke: m.Invoke, Service: m.Service,
				Body: wire.AppendFailure(nil, wire.Failure{Class: classServices, Code: unknownWish})}
			_ = c.socket.send(question{from, n.From, m.Invoke}, &answer, false)
		}
		return
	default:
		report.Operation = "report of " + place(whole(change.Object, family.PresentValue)).String()
		report.Samples = sampledChange(c, points, &change)
		c.mu.Lock()
		f.tells.reported(report.Samples, at)
		c.mu.Unlock()
	}
	if m.Kind == wire.Confirmed {
		_ = c.socket.send(question{from, n.From, m.Invoke}, &answer, false) // else it comes again
	}
	c.hand(report)
}

// sampledChange are the values of a report.
func sampledChange(c *conn, points []sought, change *wire.Change) (samples []field.Sampled) {
	var flags *wire.Value
	for i := range change.Values {
		if t := &change.Values[i]; family.Property(t.Property) == family.StatusFlags && len(t.Values) == 1 {
			flags = &t.Values[0]
		}
	}
	for i := range change.Values {
		t := &change.Values[i]
		if family.Property(t.Property) != family.PresentValue || t.Index >= 0 || len(t.Values) == 0 {
			continue
		}
		for k := range points {
			s := field.Sampled{ID: points[k].ID, From: t.Values[0].From, To: t.Values[len(t.Values)-1].To}
			if flags != nil {
				s.Quality, s.Reason = judged(flags)
			}
			c.fill(&s, &points[k], t.Values)
			samples = append(samples, s)
		}
	}
	return samples
}
