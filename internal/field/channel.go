package field

import (
	"context"
	"fmt"
	"log"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
)

// wait is the time between two attempts to connect to a device that is away.
const wait = 2 * time.Second

// channel is what serves one request at a time: the connection of one link, or
// a line that several share. While it runs, its loop is the only owner of the
// connection, the runners and their jobs: reads of the timetable, what others
// want to send, and changes of what is asked take turns in it. Nobody else
// waits for it.
type channel struct {
	driver   Driver
	target   Target
	runners  []*runner
	commands chan command

	conn    Conn
	session uint64 // that of the connection, by a number that grows
	// owed is the runner whose last answer is to be taken in once the next request
	// has left: while that is on its way there is time.
	owed     *runner
	overlaps bool
	toward   *runner // whose device it is turned to
	retryAt  time.Time
	lost     Reply // why there is no connection
	// hurry has the next attempt to connect made at once: somebody wants to know.
	hurry atomic.Bool
	// reports is what the connection hands over unasked; nil for nothing.
	reports <-chan Report

	life context.Context // ends loop and connection
	end  context.CancelFunc
	drop context.CancelFunc // ends the connection alone
	done chan struct{}      // closed when the loop has ended, if it was started
	wake chan struct{}      // told of changes
	runs bool               // the loop was started
	// waiting counts those who want to give a command: where there is none, the
	// loop does not look for it.
	waiting atomic.Int32

	mu      sync.Mutex
	changes []func()
	asking  *runner // whose request is under way
	open_   Conn    // the connection, for who breaks a request off

	// shut is told of a link that is let in by nobody, or gets no word, where
	// another may have the only connection.
	shut  func(*runner)
	takes func(point string) bool // whether a value that others ask for is carried on; nil for none
	pair  *pair                   // of addresses of which one is used; nil for one alone
	well  atomic.Int64            // when an answer came last, in nanoseconds since 1970
	// contact is how the last attempt to connect went, nil before the first.
	contact atomic.Pointer[Reply]

	total int       // requests of the timetable so far
	asked func(int) // told the total after each, if set
}

// command is something to be done with the connection between two reads.
type command struct {
	do   func(Conn, Reply) // conn is nil if there is none; the reply says why
	by   *runner
	done chan struct{}
	// ctx ends what is done, together with the channel.
	ctx context.Context
	// failed is set where do ended by a defect of Ferry's own.
	failed *bool
}

// newChannel returns a channel that ends with ctx.
func newChannel(ctx context.Context, driver Driver, target Target) *channel {
	target.Remains = &sync.Map{}
	c := &channel{driver: driver, target: target, commands: make(chan command), wake: make(chan struct{}, 1),
		done: make(chan struct{}), drop: func() {}}
	c.life, c.end = context.WithCancel(ctx)
	return c
}

// add lets a runner ask over the channel. The loop does that, or it does not
// run yet.
func (c *channel) add(r *runner) {
	if r.channel != c { // one that others may see has it already
		r.channel = c
	}
	c.runners = append(c.runners, r)
	r.begin(time.Now())
}

// remove takes a runner out, as add puts it in.
func (c *channel) remove(r *runner) {
	c.runners = slices.DeleteFunc(c.runners, func(each *runner) bool { return each == r })
	if r.reports != nil {
		r.hub.left(r.reports.source)
	}
}

// start runs the loop, once those that are to end before it have ended.
func (c *channel) start(before ...<-chan struct{}) {
	c.runs = true
	go func() {
		defer close(c.done)
		defer c.hangUp()
		defer c.recovered("loop")
		for _, done := range before {
			<-done
		}
		c.loop()
	}()
}

// revise has the loop carry out a change between two requests. A request of
// one of the given runners that is under way is broken off.
func (c *channel) revise(change func(), broken ...*runner) {
	c.mu.Lock()
	c.changes = append(c.changes, change)
	if c.open_ != nil && slices.Contains(broken, c.asking) {
		c.open_.Break()
	}
	c.mu.Unlock()
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// revised carries out the changes that wait.
func (c *channel) revised() {
	c.mu.Lock()
	changes := c.changes
	c.changes = nil
	c.mu.Unlock()
	if len(changes) > 0 {
		c.takeIn()
	}
	for _, change := range changes {
		change()
	}
}

// owns notes whose request is under way, for revise.
func (c *channel) owns(r *runner) {
	c.mu.Lock()
	c.asking, c.open_ = r, c.conn
	c.mu.Unlock()
}

// recovered keeps a defect in the handling of one device from ending the
// program: its own connection is given up, with the octets on record.
func (c *channel) recovered(what string) {
	p := recover()
	if p == nil {
		return
	}
	c.broken(what, p)
	c.end()
}

// broken records a defect with what was on the wire.
func (c *channel) broken(what string, p any) {
	text := fmt.Sprintf("Ferry failed on what came (%v): a defect of Ferry's own; the connection is given up", p)
	log.Printf("%s of %s: %v\n%s", what, c.target.Dial, p, debug.Stack())
	for _, r := range c.runners {
		reply := Reply{Outcome: exchange.Garbled, Sentence: text}
		if k, ok := c.conn.(interface {
			Last() (request, answer []byte)
		}); ok {
			reply.Request, reply.Answer = k.Last()
			log.Printf("request % X, answer % X", reply.Request, reply.Answer)
		}
		r.hub.record(r.era, r.exchange(what, &reply, time.Now(), 0), nil)
		r.hub.fail(r.era, r.points, text)
	}
}

// guarded runs fn and reports whether it came to its end; where it panics, the
// connection is closed and the loop goes on with a new one after a while.
func (c *channel) guarded(what string, fn func()) (ok bool) {
	defer func() {
		if p := recover(); p != nil {
			ok = false
			c.broken(what, p)
			c.hangUp()
			c.lost = Reply{Outcome: exchange.Garbled, Sentence: "Ferry failed on what came"}
			c.retryAt = time.Now().Add(10 * wait)
			for _, r := range c.runners {
				for _, j := range r.jobs {
					j.due = maxTime(j.due, c.retryAt)
				}
			}
		}
	}()
	fn()
	return true
}

func (c *channel) loop() {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		c.revised()
		now := time.Now()
		listenAt := c.listen(now)
		r, next := c.next(now)
		if next == nil {
			c.takeIn()
			timer.Reset(listenAt.Sub(now))
		} else if pause := next.due.Sub(now); pause > 0 {
			c.takeIn()
			timer.Reset(min(pause, listenAt.Sub(now)))
		} else {
			if c.waiting.Load() > 0 {
				select {
				case cmd := <-c.commands:
					c.carryOut(cmd)
					continue
				default: // it has not come to it yet, or has been served
				}
			}
			if c.life.Err() != nil {
				return
			}
			c.reported()
			due := r.dueWith(next, now)
			c.guarded("run", func() { r.ask(c.life, due, now) })
			if c.total += len(due); c.asked != nil {
				c.asked(c.total)
			}
			continue
		}
		select {
		case <-c.life.Done():
			return
		case cmd := <-c.commands:
			c.carryOut(cmd)
		case report, open := <-c.reports:
			c.guarded("report", func() { c.came(&report, open) })
		case <-c.wake:
		case <-timer.C:
		}
	}
}

// next returns, of the jobs that are due, the one whose deadline comes first, as
// the timetable plans it; if none is due, the one that will be first. nil if
// none ever is.
func (c *channel) next(now time.Time) (by *runner, first *job) {
	for _, r := range c.runners {
		for _, j := range r.jobs {
			if !j.done && !j.searched && (first == nil || j.before(first, now)) {
				by, first = r, j
			}
		}
	}
	return by, first
}

// dueWith returns a job with the others of its link that are due and may be
// under way with it, in the order of their deadlines.
func (r *runner) dueWith(first *job, now time.Time) []*job {
	r.due = append(r.due[:0], first)
	if r.atOnce > 1 {
		for _, j := range r.jobs {
			if j != first && !j.done && !j.searched && !j.due.After(now) {
				r.due = append(r.due, j)
			}
		}
		slices.SortStableFunc(r.due[1:], func(a, b *job) int {
			return a.due.Add(a.deadline()).Compare(b.due.Add(b.deadline()))
		})
		r.due = r.due[:min(len(r.due), r.atOnce)]
	}
	return r.due
}

// before reports whether j is to be asked before other.
func (j *job) before(other *job, now time.Time) bool {
	if j.due.After(now) || other.due.After(now) {
		return j.due.Before(other.due)
	}
	return j.due.Add(j.deadline()).Before(other.due.Add(other.deadline()))
}

// deadline is how long after it is due a job must be done; for one that is read
// once, there is no hurry.
func (j *job) deadline() time.Duration {
	if j.pace == 0 {
		return time.Hour
	}
	return j.pace
}

// takeIn takes in the answer that waits for it.
func (c *channel) takeIn() {
	r := c.owed
	if r == nil {
		return
	}
	c.owed = nil
	r.hub.record(r.era, &r.told, r.toldParts)
}

func (c *channel) hangUp() {
	c.takeIn()
	c.overlaps = false
	if c.conn == nil {
		return
	}
	c.heardBefore()
	c.mu.Lock()
	c.open_ = nil
	c.mu.Unlock()
	_ = c.conn.Close() // it is being given up; how it ends changes nothing
	c.conn, c.reports = nil, nil
	for _, r := range c.runners {
		if r.reports != nil {
			r.hub.left(r.reports.source)
		}
	}
	c.drop()
}

// open makes sure that there is a connection, turned to the device of a runner.
func (c *channel) open(ctx context.Context, r *runner) bool {
	c.heardOut()
	if c.conn == nil || !c.conn.Usable() {
		c.hangUp()
		now := time.Now()
		if !c.hurry.Swap(false) && now.Before(c.retryAt) {
			return false
		}
		target := c.target
		target.Settings, target.Dial = r.link.Settings, c.dials()
		// The connection outlives the one who asks first; connecting ends with
		// that one.
		var own context.Context
		own, c.drop = context.WithCancel(c.life)
		stop := context.AfterFunc(ctx, c.drop)
		conn, reply := c.driver.Dial(own, target)
		stop()
		if conn == nil {
			c.drop()
			if ctx.Err() != nil || c.life.Err() != nil {
				return false
			}
			c.lost, c.retryAt = reply, time.Now().Add(wait)
			c.contact.Store(&reply)
			c.letIn(r, &reply, time.Now())
			c.pairNoted(r, &reply, true, time.Now())
			for _, each := range c.runners {
				e := each.exchange("connect to "+each.device.Name, &reply, now, time.Since(now))
				e.Connecting = true
				each.hub.record(each.era, e, nil)
				if c.runs && each.reports != nil {
					each.hub.away(each.era, e, now)
				}
				each.hub.fail(each.era, each.points, reply.Sentence)
			}
			return false
		}
		if asked, ok := conn.(Commandable); ok && c.takes != nil {
			asked.OnCommand(c.takes)
		}
		if len(reply.Frames) > 0 {
			e := r.exchange("connect to "+r.device.Name, &reply, now, time.Since(now))
			e.Connecting = true
			r.hub.record(r.era, e, nil)
		}
		c.conn, c.toward, c.session = conn, nil, r.hub.nextSession()
		c.contact.Store(&Reply{Outcome: exchange.Answered})
		if o, ok := conn.(Overlapping); ok && c.runs {
			o.OnSent(c.takeIn)
			c.overlaps = true
		}
	}
	c.owns(r)
	if c.toward != r {
		c.conn.Toward(r.link.Settings)
		c.toward = r
	}
	return true
}

// letIn notes whether the far end answered, and asks whether it serves another
// connection where it does not.
func (c *channel) letIn(r *runner, reply *Reply, now time.Time) {
	switch reply.Outcome {
	case exchange.Answered, exchange.Declined:
		c.well.Store(now.UnixNano())
	case exchange.Refused, exchange.Reset, exchange.Closed, exchange.NoAnswer:
		if c.shut != nil && r.def.Turns == protocol.TurnsOfLink && now.Sub(time.Unix(0, c.well.Load())) > wait {
			go c.shut(r)
		}
	}
}

func (c *channel) carryOut(cmd command) {
	defer close(cmd.done)
	c.takeIn()
	*cmd.failed = !c.guarded("command", func() { c.do(cmd.ctx, cmd.by, cmd.do) })
}

// do hands the connection to fn. When ctx ends, what is under way is broken
// off.
func (c *channel) do(ctx context.Context, r *runner, fn func(Conn, Reply)) {
	if r.channel != c {
		r.channel = c
	}
	if ctx.Err() != nil {
		fn(nil, Reply{Outcome: exchange.NotAllowed, Sentence: "it was called off"})
		return
	}
	if !c.open(ctx, r) {
		fn(nil, c.lost)
		return
	}
	defer context.AfterFunc(ctx, c.conn.Break)()
	fn(c.conn, Reply{Outcome: exchange.Answered})
}
