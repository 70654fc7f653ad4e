package field

import (
	"context"
	"slices"
	"time"

	"ferry/internal/core/exchange"
)

// wait is the time between two attempts to connect to a device that is away.
const wait = 2 * time.Second

// channel is what serves one request at a time: the connection of one link, or
// a line that several share. While it runs, its loop is the only owner of the
// connection: reads of the timetable and what others want to send take turns
// in it.
type channel struct {
	driver   Driver
	target   Target
	runners  []*runner
	commands chan command

	conn    Conn
	retryAt time.Time
	lost    Reply // why there is no connection

	life  context.Context // ends the connection
	end   context.CancelFunc
	loops context.Context    // of the loop, while it runs
	stop  context.CancelFunc // ends the loop
	drop  context.CancelFunc // ends the connection alone
	done  chan struct{}      // closed when the loop has ended
	total int                // requests of the timetable so far
	asked func(int)          // told the total after each, if set
}

// command is something to be done with the connection between two reads.
type command struct {
	do   func(Conn, Reply) // conn is nil if there is none; the reply says why
	by   *runner
	done chan struct{}
	// cancel, if set, is called when the loop is to end: for what takes long.
	cancel context.CancelFunc
}

func newChannel(driver Driver, target Target) *channel {
	c := &channel{driver: driver, target: target, commands: make(chan command), drop: func() {}}
	c.life, c.end = context.WithCancel(context.Background())
	return c
}

// add lets a runner ask over the channel. The loop must not run.
func (c *channel) add(r *runner) {
	if r.channel != nil && r.channel != c {
		r.channel.end()
	}
	r.channel = c
	c.runners = append(c.runners, r)
}

// remove takes a runner out. The loop must not run.
func (c *channel) remove(r *runner) {
	for i := range c.runners {
		if c.runners[i] == r {
			c.runners = append(c.runners[:i:i], c.runners[i+1:]...)
			return
		}
	}
}

// start runs the loop. Requests that are new are due by their offsets from now.
func (c *channel) start() {
	c.loops, c.stop = context.WithCancel(c.life)
	c.done = make(chan struct{})
	now := time.Now()
	for _, r := range c.runners {
		for i := range r.jobs {
			if j := &r.jobs[i]; j.due.IsZero() {
				j.due = now.Add(time.Duration(j.OffsetMs * float64(time.Millisecond)))
			}
		}
	}
	go c.loop(c.loops)
}

// halt ends the loop after the request under way and keeps the connection.
func (c *channel) halt() {
	if c.stop != nil {
		c.stop()
		<-c.done
		c.stop, c.loops = nil, nil
	}
}

// close ends loop and connection at once.
func (c *channel) close() {
	c.end()
	c.halt()
	c.hangUp()
}

func (c *channel) loop(ctx context.Context) {
	defer close(c.done)
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		now := time.Now()
		r, next := c.next(now)
		if next == nil {
			timer.Reset(time.Hour)
		} else if pause := next.due.Sub(now); pause > 0 {
			timer.Reset(pause)
		} else {
			select {
			case <-ctx.Done():
				return
			case cmd := <-c.commands:
				c.carryOut(ctx, cmd)
			default:
				due := r.dueWith(next, now)
				r.ask(c.life, due, now)
				if c.total += len(due); c.asked != nil {
					c.asked(c.total)
				}
			}
			continue
		}
		select {
		case <-ctx.Done():
			return
		case cmd := <-c.commands:
			c.carryOut(ctx, cmd)
		case <-timer.C:
		}
	}
}

// next returns, of the jobs that are due, the one whose deadline comes first, as
// the timetable plans it; if none is due, the one that will be first. nil if
// none ever is.
func (c *channel) next(now time.Time) (by *runner, first *job) {
	for _, r := range c.runners {
		for i := range r.jobs {
			if j := &r.jobs[i]; !j.done && (first == nil || j.before(first, now)) {
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
		for i := range r.jobs {
			if j := &r.jobs[i]; j != first && !j.done && !j.due.After(now) {
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

func (c *channel) hangUp() {
	if c.conn != nil {
		_ = c.conn.Close() // it is being given up; how it ends changes nothing
		c.conn = nil
		c.drop()
	}
}

// open makes sure that there is a connection, turned to the device of a runner.
func (c *channel) open(ctx context.Context, r *runner) bool {
	if c.conn == nil || !c.conn.Usable() {
		c.hangUp()
		now := time.Now()
		if now.Before(c.retryAt) {
			return false
		}
		target := c.target
		target.Settings = r.link.Settings
		// The connection outlives the one who asks first; connecting ends with
		// that one, or with the loop.
		var own context.Context
		own, c.drop = context.WithCancel(c.life)
		stop := context.AfterFunc(ctx, c.drop)
		if c.loops != nil {
			unloop := context.AfterFunc(c.loops, c.drop)
			defer unloop()
		}
		conn, reply := c.driver.Dial(own, target)
		stop()
		if conn == nil {
			c.drop()
			if ctx.Err() != nil || c.life.Err() != nil || c.loops != nil && c.loops.Err() != nil {
				return false
			}
			c.lost, c.retryAt = reply, time.Now().Add(wait)
			for _, each := range c.runners {
				each.hub.record(each.exchange("connect to "+each.device.Name, &reply, now, time.Since(now)), nil)
				each.hub.fail(each.points, reply.Sentence)
			}
			return false
		}
		c.conn = conn
	}
	c.conn.Toward(r.link.Settings)
	return true
}

func (c *channel) carryOut(ctx context.Context, cmd command) {
	defer close(cmd.done)
	if cmd.cancel != nil {
		defer context.AfterFunc(ctx, cmd.cancel)()
	}
	cmd.by.channel = c
	if c.open(ctx, cmd.by) {
		cmd.do(c.conn, Reply{Outcome: exchange.Answered})
		return
	}
	cmd.do(nil, c.lost)
}
