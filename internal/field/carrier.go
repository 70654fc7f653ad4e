package field

import (
	"cmp"
	"context"
	"fmt"
	"log"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"ferry/internal/core/crossing"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// carrier is one crossing at work. It is told of new values, and then looks at them
// in a goroutine that ends once there is nothing more to do; in one of a pool, where
// it writes into nothing but what Ferry itself holds. It is the only writer
// of the crossing: the one before it has ended when it begins.
type carrier struct {
	engine *Engine
	of     crossPrint
	ctx    context.Context
	cancel context.CancelFunc
	done   chan struct{}
	x      site.Crossing
	by     string
	flow   *crossing.Flow // whoever runs owns it
	to     *site.Point
	served map[string]*Served // the points that Ferry itself holds
	watch  []string           // points that it looks at: sources, target, what enables it
	sight  crossing.Sight
	quick  bool // it waits for no device
	plain  bool // it has no rule by the clock, and carries one way
	timed  bool // the timer is set
	seen   []crossing.Reading
	// lossless is set where each value of the source is carried, not the last alone: it is reported,
	// and Ferry itself holds the target. Those that wait are in events; from is the source's own time
	// of what is carried.
	lossless bool
	waiting  sync.Mutex
	events   []crossing.Reading
	// commanded is set where clients command the source: then commands alone are carried, those that
	// wait. unknown is set where nobody knows whether the last was.
	commanded bool
	commands  []commanded
	unknown   bool
	from      Origin
	shownAs   string // state and sentence that whoever listens to the target was told of
	timer     *time.Timer
	// turn is resting, running, or running with more to look at.
	turn    atomic.Int32
	unwatch func()
	anew    atomic.Bool // write whatever comes next
	rev     atomic.Uint64

	mu    sync.Mutex
	state CrossingState
	pens  map[string]*pen // by the point that is written
}

const (
	resting int32 = iota
	running
	runningOn
)

// restingCarrier stands for a crossing that is not to carry. The lock is held.
func restingCarrier(e *Engine, x *site.Crossing, of crossPrint, why string) *carrier {
	c := &carrier{engine: e, of: of, x: *x, done: make(chan struct{}), pens: map[string]*pen{},
		state: CrossingState{ID: x.ID, State: why, Sentence: waitingSays[why]}}
	c.ctx, c.cancel = context.WithCancel(e.door.life)
	c.cancel()
	close(c.done)
	c.rev.Store(e.crossRev.Add(1))
	return c
}

// newCarrier starts a crossing after the one before it. The lock is held.
func (e *Engine) newCarrier(x *site.Crossing, of crossPrint, before *carrier) *carrier {
	c := &carrier{engine: e, of: of, x: *x, done: make(chan struct{}), by: "on the bench", pens: map[string]*pen{},
		served: map[string]*Served{}, state: CrossingState{ID: x.ID, State: "idle"}}
	c.ctx, c.cancel = context.WithCancel(e.door.life)
	if r := e.door.releases[x.ID]; r != nil {
		c.by = "released by " + r.By
	} else if e.door.standing != "" {
		c.by = "released by " + e.door.standing
	}
	var from []*site.Point
	for _, id := range c.x.Sources() {
		_, p := e.pointAt(id)
		from = append(from, p)
	}
	_, c.to = e.pointAt(x.To)
	var quality *site.Point
	if x.QualityTo != "" {
		_, quality = e.pointAt(x.QualityTo)
	}
	for id := range x.Points {
		if d, _ := e.pointAt(id); d.Served() && e.serving[d.ID] != nil {
			c.served[id] = e.serving[d.ID].Served
		}
	}
	c.flow = crossing.NewFlow(&c.x, from, c.to, quality)
	c.watch = append(c.x.Sources(), x.To)
	if x.Enable != "" {
		c.watch = append(c.watch, x.Enable)
	}
	c.sight.Sources, c.seen = make([]crossing.Reading, len(from)), make([]crossing.Reading, len(c.watch))
	c.quick = !of.plant
	c.sight.Empty = c.served[x.From] != nil
	c.plain = !x.Beats() && x.AtLeastMs == 0 && x.AtMostMs == 0 && x.PaceMs == 0 && x.PerDay == 0 &&
		x.Both == site.OneWay && x.QualityTo == ""
	c.lossless = c.quick && c.plain && len(from) == 1 && c.served[x.To] != nil && c.served[x.From] == nil &&
		x.Enable == "" && !x.Round
	if source, p := e.pointAt(x.From); c.served[x.From] != nil && len(from) == 1 && x.Both == site.OneWay {
		def, _ := protocol.Named(cmp.Or(p.Map, source.Map))
		c.commanded = def.Commands(p.Address)
	}
	ran := before != nil && before.ctx.Err() == nil
	if before != nil {
		before.end("idle", "")
	}
	c.turn.Store(running)
	c.timer = time.AfterFunc(time.Hour, c.tell)
	c.timer.Stop()
	watched := c.x.Sources()
	if x.Enable != "" {
		watched = append(watched, x.Enable)
	}
	if x.Both != site.OneWay || len(c.x.Way) > 0 || e.reported(x.To) {
		watched = append(watched, x.To)
	}
	c.unwatch = e.Hub.watch(watched, c)
	if c.commanded {
		c.served[x.From].takes(x.From, c, true)
	}
	if x.Round {
		values, rounds := c.unwatch, e.Hub.watchRounds(c.x.Sources(), c)
		c.unwatch = func() { values(); rounds() }
	}
	if before == nil && c.quick {
		e.pool.push(c)
		return c
	}
	go func() {
		if before != nil {
			<-before.done
			c.inherit(before, ran)
		}
		c.run()
	}()
	return c
}

// reported tells whether a point is of an end that tells of it unasked, and may lose what
// it was given. The lock is held.
func (e *Engine) reported(id string) bool {
	d, p := e.pointAt(id)
	link := e.site.LinkOf(d, p)
	if d.Served() || link == nil {
		return false
	}
	_, def, err := DriverOf(link.Protocol)
	if err != nil {
		return false
	}
	_, is := def.Reports()
	return is
}

// inherit takes over what is known of the shores, if the crossing still means the
// same and was at work until now.
func (c *carrier) inherit(before *carrier, ran bool) {
	before.mu.Lock()
	state := before.state
	before.mu.Unlock()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.state = state
	c.rev.Store(c.engine.crossRev.Add(1))
	if ran && before.of.print == c.of.print && before.flow != nil {
		c.flow.Inherit(before.flow)
	}
}

// tell has the carrier look at what there is. It keeps nobody waiting.
func (c *carrier) tell() {
	for {
		switch now := c.turn.Load(); now {
		case resting:
			if c.turn.CompareAndSwap(resting, running) {
				if c.quick {
					c.engine.pool.push(c)
				} else {
					go c.run()
				}
				return
			}
		default:
			if now == runningOn || c.turn.CompareAndSwap(running, runningOn) {
				return
			}
		}
	}
}

// run looks until there is nothing more to look at.
func (c *carrier) run() {
	for {
		c.turn.Store(running)
		if c.ctx.Err() != nil {
			c.finish() // it stays running, so that nothing more comes of it
			return
		}
		c.guarded()
		if c.ctx.Err() == nil && c.turn.CompareAndSwap(running, resting) {
			if c.ctx.Err() != nil { // it was ended in between, by somebody who saw it run
				c.tell()
			}
			return
		}
	}
}

// guarded is step, which a defect does not carry beyond.
func (c *carrier) guarded() {
	defer func() {
		if p := recover(); p != nil {
			log.Printf("crossing %s: %v\n%s", c.x.ID, p, debug.Stack())
			c.turns(c.x.To, Failed, fmt.Sprintf("Ferry failed (%v): a defect of Ferry's own.", p))
			c.say("failed", fmt.Sprintf("Ferry failed (%v): a defect of Ferry's own.", p))
		}
	}()
	c.step()
}

// mostWaiting bounds the values that wait to be carried: behind them the last of all is carried alone.
const mostWaiting = 20_000

// saw has a value of the source wait to be carried. It keeps nobody waiting.
func (c *carrier) saw(point string, r *crossing.Reading) {
	if !c.lossless || point != c.x.From {
		return
	}
	c.waiting.Lock()
	defer c.waiting.Unlock()
	if len(c.events) < mostWaiting {
		c.events = append(c.events, *r)
	}
}

// inOrder carries the values that wait, one after the other.
func (c *carrier) inOrder() {
	for c.lossless && c.ctx.Err() == nil {
		c.waiting.Lock()
		waits := c.events
		c.events = nil
		c.waiting.Unlock()
		if len(waits) == 0 {
			return
		}
		now := time.Now()
		c.look(now)
		for i := range waits {
			c.sight.Sources[0] = waits[i]
			c.from.Arrived, c.from.Source = waits[i].At, waits[i].Source
			acts, _ := c.flow.Look(now, &c.sight) // when to look again follows from the last
			for k := range acts {
				c.do(&acts[k])
			}
		}
	}
}

// step looks at both shores and does what is due.
func (c *carrier) step() {
	if c.anew.Swap(false) {
		c.flow.Forget()
	}
	if c.commanded {
		c.carryCommands()
		return
	}
	c.inOrder()
	for range 4 { // what was written may make more due
		now := time.Now()
		c.look(now)
		acts, next := c.flow.Look(now, &c.sight)
		if len(acts) == 0 {
			c.note()
			c.again(now, next)
			return
		}
		for i := range acts {
			if c.ctx.Err() != nil {
				return
			}
			c.do(&acts[i])
		}
		if c.note(); c.plain && c.flow.State == crossing.Carrying {
			return // nothing more is due before the source comes again
		}
	}
	c.again(time.Now(), time.Now().Add(10*time.Millisecond))
}

// look reads what is known of its points.
func (c *carrier) look(now time.Time) {
	n := len(c.sight.Sources)
	c.engine.Hub.readings(c.watch, c.seen)
	copy(c.sight.Sources, c.seen)
	c.from = Origin{From: c.x.From}
	if n > 0 {
		c.from.Arrived = c.sight.Sources[0].At
	}
	if n == 1 {
		c.from.Source = c.sight.Sources[0].Source
	}
	c.sight.Target = c.seen[n]
	if len(c.seen) > n+1 {
		c.sight.Enable = c.seen[n+1]
	}
	if c.x.PerDay > 0 {
		c.sight.Today, c.sight.Tomorrow = c.engine.worn.today(c.x.To, now)
	}
}

// again has the carrier look again at a time, if it is one.
func (c *carrier) again(now, next time.Time) {
	if next.IsZero() {
		if c.timed {
			c.timed = false
			c.timer.Stop()
		}
		return
	}
	c.timed = true
	c.timer.Reset(max(next.Sub(now), time.Millisecond))
}

// do carries out one act, and tells the flow what came of it.
func (c *carrier) do(a *crossing.Act) {
	began := time.Now()
	if served := c.served[a.Point]; served != nil {
		raw, err := served.Put(a.Point, a.Value, began, c.from)
		if err != nil {
			c.flow.NotWritten(began, a, err.Error()+".", false)
			return
		}
		c.wrote(a, began, raw, served.shown(a.Point, raw))
		return
	}
	ctx, cancel := context.WithTimeout(c.ctx, 10*time.Second)
	defer cancel()
	o, err := c.engine.prepare(a.Point, a.Value, authority{crossing: c.x.ID})
	if err == nil {
		o.note = c.noted(a, o)
		err = c.engine.holds(o)
	}
	if err != nil {
		c.flow.NotWritten(time.Now(), a, problem.From(err, "write").Error(), false)
		return
	}
	if !c.intend(a.Point, c.engine.show(o)) {
		c.flow.NotWritten(time.Now(), a, "Nothing was written: the journal of writes cannot be kept.", false)
		return
	}
	result, err := c.engine.send(ctx, o)
	switch {
	case c.ctx.Err() != nil && result.State == NotWritten: // it was ended, which is no failure
	case err != nil:
		c.flow.NotWritten(time.Now(), a, problem.From(err, "write").Error(), false)
	case !result.OK:
		c.unknown = result.State == NotKnown
		c.flow.NotWritten(time.Now(), a, result.Sentence, result.State == NotKnown)
	default:
		c.wrote(a, began, result.stored, result.Order.New)
		c.mu.Lock()
		p := c.pens[a.Point]
		p.record.Count++
		p.record.Last, p.record.EndMs = result.Order.New, result.AtMs
		p.dirty = true
		c.mu.Unlock()
	}
}

// noted is what goes with the value of an act, nil for nothing.
func (c *carrier) noted(a *crossing.Act, o *order) *protocol.Note {
	if a.Is == "" || !o.def.Notes(o.link.Settings, o.point.Address) {
		return nil
	}
	note := &protocol.Note{Quality: a.Is, Reason: a.Reason, Time: a.From, Unit: o.point.Unit}
	if note.Time.IsZero() {
		note.Time = time.Now()
	}
	if c.x.Tells == site.TellsAll {
		if note.Low, note.High = o.point.Low, o.point.High; o.point.Names != nil {
			note.Text = o.point.Shown(a.Value)
		}
	}
	return note
}

// wrote notes a write that went well.
func (c *carrier) wrote(a *crossing.Act, began time.Time, stored value.Value, shown string) {
	now := time.Now()
	c.flow.Wrote(now, a, stored)
	if !a.Back && !a.Quality {
		c.engine.worn.add(a.Point, now)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if a.Quality {
		return
	}
	s := &c.state
	s.Written, s.AtMs = shown, now.UnixMilli()
	s.WriteMs = millis(now.Sub(began))
	s.WorstWriteMs = max(s.WorstWriteMs, s.WriteMs)
	if !a.From.IsZero() {
		c.engine.had.add(began.Sub(a.From))
		s.FerryMs = millis(began.Sub(a.From))
		s.WorstFerryMs = max(s.WorstFerryMs, s.FerryMs)
	}
}

func millis(d time.Duration) float64 { return float64(d) / float64(time.Millisecond) }

// note has what the crossing does shown, and the changes of it in the journal.
func (c *carrier) note() {
	switch f := c.flow; {
	case c.served[c.x.To] != nil:
	case f.State == crossing.Holding && f.Counts.Carried > 0:
		c.turns(c.x.To, Holding, f.Sentence)
	case f.State == crossing.Failed:
		c.turns(c.x.To, Failed, f.Sentence)
	}
	if served, state := c.served[c.x.To], string(c.flow.State)+c.flow.Sentence; served != nil && state != c.shownAs {
		c.shownAs = state
		served.doubted(c.x.To)
	}
	c.say(string(c.flow.State), c.flow.Sentence)
}

// say changes what is shown, unless the crossing has been ended: then whoever
// ended it said why.
func (c *carrier) say(state, sentence string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.ctx.Err() != nil {
		return
	}
	c.become(state, sentence)
	c.state.Counts, c.state.Count, c.state.Today = c.flow.Counts, c.flow.Counts.Carried, c.sight.Today
}

// become changes the state that is shown. The lock is held.
func (c *carrier) become(state, sentence string) {
	if c.state.State == state && c.state.Sentence == sentence && c.rev.Load() > 0 {
		return
	}
	c.state.State, c.state.Sentence = state, sentence
	c.rev.Store(c.engine.crossRev.Add(1))
}

func (c *carrier) shown() CrossingState {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.state
}

// end ends the crossing, and says why.
func (c *carrier) end(state, sentence string) {
	c.mu.Lock()
	c.cancel()
	c.become(state, sentence)
	c.mu.Unlock()
	if c.commanded {
		c.served[c.x.From].takes(c.x.From, c, false)
	}
	if c.unwatch != nil {
		c.tell()
	}
}
