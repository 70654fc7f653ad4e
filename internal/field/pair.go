package field

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"slices"
	"sync"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// SecondStandIns are stand-ins that also play the second address of a pair.
type SecondStandIns interface {
	Second(s *site.Site, link *site.Link) string
}

// Switch is one change from one address of a pair to the other.
type Switch struct {
	AtMs int64  `json:"atMs"`
	To   string `json:"to"` // address and port
	Why  string `json:"why"`
	// StaleMs is for how long no value came; negative until one has.
	StaleMs int64 `json:"staleMs"`
}

// PairState is how the two addresses of a link are.
type PairState struct {
	Link  string   `json:"link"`
	Dials []string `json:"dials"` // the first, and the second
	Used  int      `json:"used"`  // 0 or 1
	// Proved is when the idle one was tried last, 0 for never; Idle is what came of it,
	// and IdleWell whether it was well.
	ProvedMs int64  `json:"provedMs"`
	Idle     string `json:"idle"`
	IdleWell bool   `json:"idleWell"`
	// Switches are the latest, the newest last.
	Switches []Switch `json:"switches"`
	// Local is where other programs reach whichever is used, and LocalTrouble why they
	// do not; Clients counts those that are connected.
	Local        string `json:"local,omitempty"`
	LocalTrouble string `json:"localTrouble,omitempty"`
	Clients      int    `json:"clients"`
}

// keptSwitches bounds the switches of a pair that are remembered, leastApart how soon
// after one the next may follow, which doubles up to mostVain times while none helps.
const (
	keptSwitches = 100
	leastApart   = 500 * time.Millisecond
	mostVain     = 6
)

// pair is the two addresses of one channel. Only one of them is used at a time; the
// idle one is tried now and then over a connection of its own.
type pair struct {
	rule  *site.Redundancy
	dials [2]string

	mu       sync.Mutex
	used     int
	silent   int
	vain     int       // switches since an answer came
	good     time.Time // when an answer came last
	switched time.Time
	badFrom  time.Time // since when no point has been good
	idle     struct {
		at   time.Time
		said string
		well time.Time // since when it has been; zero while it is not
	}
	list    []Switch
	local   string
	trouble string
	clients map[net.Conn]bool // of the local address
}

// dials is where the channel goes now.
func (c *channel) dials() string {
	if c.pair == nil {
		return c.target.Dial
	}
	c.pair.mu.Lock()
	defer c.pair.mu.Unlock()
	return c.pair.dials[c.pair.used]
}

// noted takes in what came of a request, or of an attempt to connect, and says why the
// other address is to be used; empty where it is not.
func (p *pair) noted(reply *Reply, connecting bool, now time.Time) (why string, outage *Outage) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch reply.Outcome {
	case exchange.Answered, exchange.Declined:
		if p.silent = 0; !connecting {
			p.vain = 0
		}
		if n := len(p.list); !connecting && n > 0 && p.list[n-1].StaleMs < 0 {
			s := &p.list[n-1]
			from := p.good
			if from.IsZero() {
				from = time.UnixMilli(s.AtMs)
			}
			s.StaleMs = now.Sub(from).Milliseconds()
			outage = &Outage{FromMs: from.UnixMilli(), ToMs: now.UnixMilli(), Tries: 1,
				Reason: fmt.Sprintf("switched to %s: %s", s.To, s.Why)}
		}
		if !connecting {
			p.good = now
		}
		return "", outage
	case exchange.CalledOff, exchange.NotAllowed, exchange.Garbled, exchange.Sent:
		return "", nil
	}
	if p.rule.Says != "" {
		return "", nil // it alone decides
	}
	if p.silent++; connecting || p.silent >= p.rule.SilentAfter() {
		return reply.Sentence, nil
	}
	return "", nil
}

// turn has the other address used, and reports whether it now is. While neither
// answers, it takes longer each time.
func (p *pair) turn(to int, why string, now time.Time) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.used == to || now.Sub(p.switched) < leastApart<<min(p.vain, mostVain) {
		return false
	}
	p.vain++
	p.used, p.silent, p.switched, p.badFrom = to, 0, now, time.Time{}
	p.idle.at, p.idle.said, p.idle.well = time.Time{}, "", time.Time{}
	p.list = append(p.list, Switch{AtMs: now.UnixMilli(), To: p.dials[to], Why: why, StaleMs: -1})
	if len(p.list) > keptSwitches {
		p.list = slices.Delete(p.list, 0, len(p.list)-keptSwitches)
	}
	for conn := range p.clients {
		_ = conn.Close() // whoever comes again reaches the other
	}
	return true
}

// pairNoted has a channel with two addresses look whether to change.
func (c *channel) pairNoted(r *runner, reply *Reply, connecting bool, now time.Time) {
	if c.pair == nil {
		return
	}
	why, outage := c.pair.noted(reply, connecting, now)
	if outage != nil {
		outage.Link, outage.Device = r.link.ID, r.device.ID
		r.hub.Outage(*outage)
	}
	if why != "" {
		c.turnPair(1-c.pairUsed(), why)
	}
}

func (c *channel) pairUsed() int {
	c.pair.mu.Lock()
	defer c.pair.mu.Unlock()
	return c.pair.used
}

// turnPair changes to an address between two requests, together with the connection, so
// that no order leaves for the one over the other.
func (c *channel) turnPair(to int, why string) {
	c.revise(func() {
		now := time.Now()
		if !c.pair.turn(to, why, now) {
			return
		}
		log.Printf("%s is reached at %s now: %s", c.target.Dial, c.pair.dials[to], why)
		c.hangUp()
		c.retryAt = time.Time{}
		for _, r := range c.runners {
			r.silent = 0
			for _, j := range r.jobs {
				j.due, j.silent = minTime(j.due, now), 0
			}
			r.hub.record(r.era, r.exchange("switch to "+c.pair.dials[to],
				&Reply{Outcome: exchange.Sent, Sentence: why}, now, 0), nil)
		}
	})
}

func minTime(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// keepPair watches over the two addresses of a channel for as long as that lives.
func (c *channel) keepPair(e *Engine, r *runner) {
	defer unharmed("a pair of addresses")
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	var lastTry time.Time
	for {
		select {
		case <-c.life.Done():
			return
		case now := <-tick.C:
			c.obey(e, now)
			c.allBad(r, now)
			if now.Sub(lastTry) >= c.pair.rule.Every() {
				lastTry = now
				c.tryIdle(r)
			}
			c.goBack(now)
		}
	}
}

// obey follows the point that says which address is used, if there is one.
func (c *channel) obey(e *Engine, _ time.Time) {
	if c.pair.rule.Says == "" {
		return
	}
	live, _ := e.Hub.Point(c.pair.rule.Says)
	if live.Quality != value.Good {
		return
	}
	to := 0
	if live.Value.Bool() {
		to = 1
	}
	if to != c.pairUsed() {
		c.turnPair(to, "the point that says so is "+map[int]string{0: "off", 1: "on"}[to])
	}
}

// allBad changes where no point has been good for a while, if that is a reason.
func (c *channel) allBad(r *runner, now time.Time) {
	if !c.pair.rule.Bad || c.pair.rule.Says != "" {
		return
	}
	good := len(r.points) == 0
	for _, id := range r.points {
		if quality, _, _ := r.hub.brief(id); quality == value.Good || quality == value.NotRead || quality == "" {
			good = true
			break
		}
	}
	c.pair.mu.Lock()
	switch {
	case good:
		c.pair.badFrom = time.Time{}
	case c.pair.badFrom.IsZero():
		c.pair.badFrom = now
	}
	since := c.pair.badFrom
	c.pair.mu.Unlock()
	if !since.IsZero() && now.Sub(since) >= site.PairBad {
		c.turnPair(1-c.pairUsed(), "none of its points has been good")
	}
}

// goBack returns to the first address once that has been well for long enough.
func (c *channel) goBack(now time.Time) {
	p := c.pair
	p.mu.Lock()
	back := p.used == 1 && p.rule.BackS > 0 && p.rule.Says == "" && !p.idle.well.IsZero() &&
		now.Sub(p.idle.well) >= time.Duration(p.rule.BackS)*time.Second
	p.mu.Unlock()
	if back {
		c.turnPair(0, fmt.Sprintf("the first has been well again for %d s", p.rule.BackS))
	}
}

// tryIdle proves the address that is not used: it connects, and reads one unit where
// something is read.
func (c *channel) tryIdle(r *runner) {
	c.pair.mu.Lock()
	idle := 1 - c.pair.used
	c.pair.mu.Unlock()
	target := c.target
	target.Dial = c.pair.dials[idle]
	if second, ok := r.def.Second(r.link.Settings); ok {
		target.Settings = second // a session of its own does not throw out the other
	}
	ctx, cancel := context.WithTimeout(c.life, 5*time.Second)
	defer cancel()
	conn, reply := c.driver.Dial(ctx, target)
	if conn != nil {
		if at := firstRange(r); at != nil {
			stop := context.AfterFunc(ctx, conn.Break)
			reply = Ask(conn, []block.Range{*at})
			stop()
		}
		_ = conn.Close() // it has told what it can
	}
	now := time.Now()
	c.pair.mu.Lock()
	defer c.pair.mu.Unlock()
	if c.pair.used == idle || ctx.Err() != nil && c.life.Err() != nil {
		return // it is used by now
	}
	c.pair.idle.at, c.pair.idle.said = now, reply.Sentence
	if reply.OK() || reply.Outcome == exchange.Declined {
		if c.pair.idle.said = "it answers"; c.pair.idle.well.IsZero() {
			c.pair.idle.well = now
		}
	} else {
		c.pair.idle.well = time.Time{}
	}
}

// firstRange is the first unit that a runner reads, nil where it reads none by units.
func firstRange(r *runner) *block.Range {
	for _, j := range r.jobs {
		if len(j.Ranges) > 0 {
			return &block.Range{Area: j.Ranges[0].Area, Start: j.Ranges[0].Start, Count: 1}
		}
	}
	return nil
}

// relay lets other programs reach whichever address is used, at one of this machine.
func (c *channel) relay(listen string) {
	p := c.pair
	p.mu.Lock()
	p.local = listen
	p.mu.Unlock()
	for c.life.Err() == nil {
		l, err := net.Listen("tcp", listen)
		p.mu.Lock()
		if p.trouble = ""; err != nil {
			p.trouble = notListening(listen, err)
		}
		p.mu.Unlock()
		if err != nil {
			select {
			case <-c.life.Done():
			case <-time.After(2 * time.Second):
			}
			continue
		}
		stop := context.AfterFunc(c.life, func() { _ = l.Close() })
		for {
			conn, err := l.Accept()
			if errors.Is(err, net.ErrClosed) || c.life.Err() != nil {
				break
			}
			if err != nil {
				time.Sleep(20 * time.Millisecond)
				continue
			}
			go c.pass(conn)
		}
		stop()
	}
}

// relayAt is where the local address of a pair is: on the bench, one of the bench's. The
// lock is held.
func (e *Engine) relayAt(rule *site.Redundancy, link *site.Link) string {
	if e.door.mode != Bench {
		return rule.Local
	}
	host, _, _ := net.SplitHostPort(rule.Local) // a site holds none that cannot be split
	return e.standIns.Post(&site.Port{Line: link.Line, Host: host + " " + rule.Local, Protocol: link.Protocol})
}

// mostThrough bounds the programs that use a local address at once.
const mostThrough = 64

// pass carries the octets of one program to the address that is used, and back.
func (c *channel) pass(near net.Conn) {
	defer near.Close()
	dialer := net.Dialer{Timeout: 3 * time.Second, Control: c.target.Control}
	far, err := dialer.DialContext(c.life, "tcp", c.dials())
	if err != nil {
		return // it is hung up on, as the device would
	}
	defer far.Close()
	p := c.pair
	p.mu.Lock()
	full := len(p.clients) >= mostThrough || far.RemoteAddr().String() != p.dials[p.used]
	if !full {
		p.clients[near] = true
	}
	p.mu.Unlock()
	if full {
		return
	}
	defer func() {
		p.mu.Lock()
		delete(p.clients, near)
		p.mu.Unlock()
	}()
	defer context.AfterFunc(c.life, func() { _, _ = near.Close(), far.Close() })()
	done := make(chan struct{}, 2)
	for _, way := range [2][2]net.Conn{{near, far}, {far, near}} {
		go func() {
			_, _ = io.Copy(way[0], way[1]) // whoever ends it ends both
			done <- struct{}{}
		}()
	}
	<-done
}

// Pairs returns how the links with two addresses are, as far as they run.
func (e *Engine) Pairs() []PairState {
	e.mu.Lock()
	defer e.mu.Unlock()
	list := []PairState{}
	for i := range e.site.Links {
		id := e.site.Links[i].ID
		c := e.channels[e.keys[id]]
		if e.runners[id] == nil || c == nil || c.pair == nil {
			continue
		}
		p := c.pair
		p.mu.Lock()
		s := PairState{Link: id, Dials: p.dials[:], Used: p.used, Idle: p.idle.said, IdleWell: !p.idle.well.IsZero(),
			Switches: slices.Clone(p.list), Local: p.local, LocalTrouble: p.trouble, Clients: len(p.clients)}
		if !p.idle.at.IsZero() {
			s.ProvedMs = p.idle.at.UnixMilli()
		}
		if s.Switches == nil {
			s.Switches = []Switch{}
		}
		p.mu.Unlock()
		list = append(list, s)
	}
	return list
}
