package field

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"log"
	"maps"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"ferry/internal/core/crossing"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// CrossingState is what a crossing did last.
type CrossingState struct {
	ID string `json:"id"`
	// State is carrying, holding (the source has no good value, the target keeps
	// its last), failed, waiting (not released on the plant) or idle.
	State    string `json:"state"`
	Sentence string `json:"sentence,omitempty"`
	Written  string `json:"written"`
	Count    int    `json:"count"`
	AtMs     int64  `json:"atMs"`
}

// carrier is one crossing at work: a goroutine that writes its target whenever
// its source has moved. It is the only writer of the crossing: the one before
// it has ended when it begins.
type carrier struct {
	print  string
	ctx    context.Context
	cancel context.CancelFunc
	done   chan struct{}
	x      site.Crossing

	mu    sync.Mutex
	state CrossingState
	// last is what was written last, kept from one carrier to the next while
	// the crossing means the same.
	last value.Value
	// record is that of the journal for as long as the state stays the same;
	// dirty is set while the journal does not have it as it is.
	record *Record
	dirty  bool
}

// crossingPrint changes when anything changes that decides what a crossing
// writes, and where. The lock is held.
func (e *Engine) crossingPrint(id string) crossPrint {
	if e.crossPrintsOf != e.site { // it is still being planned
		e.crossPrints, e.crossPrintsOf = crossingPrints(e.site), e.site
	}
	return e.crossPrints[id]
}

// crossPrint is the print of a crossing with the links that it needs, or the
// devices that Ferry is.
type crossPrint struct{ print, from, to string }

// crossingPrints works out the print of every crossing of a site; one without
// both its ends has none.
func crossingPrints(s *site.Site) map[string]crossPrint {
	type end struct {
		device *site.Device
		point  *site.Point
	}
	ends := map[string]end{}
	for i := range s.Crossings {
		ends[s.Crossings[i].From], ends[s.Crossings[i].To] = end{}, end{}
	}
	if len(ends) > 0 {
		for i := range s.Devices {
			for j := range s.Devices[i].Points {
				p := &s.Devices[i].Points[j]
				if _, is := ends[p.ID]; is {
					ends[p.ID] = end{&s.Devices[i], p}
				}
			}
		}
	}
	prints := make(map[string]crossPrint, len(s.Crossings))
	for i := range s.Crossings {
		x := s.Crossings[i]
		parts := []any{nil}
		var links []string
		for _, id := range []string{x.From, x.To} {
			at := ends[id]
			if at.point == nil {
				break
			}
			if at.device.Served() {
				links = append(links, servedKey(at.device.ID))
				parts = append(parts, readOnly(at.point), at.device.ID, nil, at.device.Map)
				continue
			}
			link := s.LinkOf(at.device, at.point)
			if link == nil {
				break
			}
			plain := *link
			plain.Remark = ""
			links = append(links, link.ID)
			parts = append(parts, readOnly(at.point), plain, at.device.PortFor(link), at.device.Map)
		}
		if len(parts) < 9 {
			continue
		}
		x.Remark, x.Deadband = "", 0 // which decides when it writes, not what
		parts[0] = x
		data, err := json.Marshal(parts)
		if err != nil {
			data = []byte(err.Error())
		}
		prints[x.ID] = crossPrint{string(data), links[0], links[1]}
	}
	return prints
}

// wanted says whether a crossing is to write now, and if not, why. The lock is
// held.
func (e *Engine) wanted(x *site.Crossing, of crossPrint) (yes bool, why string) {
	if x.Off || of.print == "" || !e.up(of.from) || !e.up(of.to) {
		return false, "idle"
	}
	if e.door.mode == Plant && !isServed(of.to) { // what Ferry itself holds is no write to a plant
		r := e.door.releases[x.ID]
		if r != nil && r.print != of.print {
			delete(e.door.releases, x.ID) // it was released as it was before
			r = nil
		}
		if !r.holds(time.Now()) {
			return false, "waiting"
		}
	}
	return true, ""
}

// servedKey stands in a crossPrint for the link where Ferry itself is the device.
func servedKey(device string) string { return "\x00" + device }

func isServed(key string) bool { return key[0] == 0 }

// up reports whether that runs which a crossing needs on one side. The lock is
// held.
func (e *Engine) up(key string) bool {
	if isServed(key) {
		return e.serving[key[1:]] != nil
	}
	return e.runners[key] != nil
}

// carry lets the crossings follow the site, what runs, and what is released.
// One that goes on as before is left alone. The lock is held.
func (e *Engine) carry() {
	there := map[string]bool{}
	for i := range e.site.Crossings {
		x := e.site.Crossings[i]
		there[x.ID] = true
		of := e.crossingPrint(x.ID)
		print, old := of.print, e.carriers[x.ID]
		yes, why := e.wanted(&x, of)
		running := old != nil && old.ctx.Err() == nil
		switch {
		case yes && running && old.print == print && old.x.Deadband == x.Deadband:
		case yes:
			e.carriers[x.ID] = e.newCarrier(x, print, old)
		case old != nil:
			old.mu.Lock()
			old.cancel()
			old.state.State, old.state.Sentence = why, waitingSays[why]
			old.mu.Unlock()
		case why == "waiting":
			c := &carrier{print: print, x: x, done: make(chan struct{}),
				state: CrossingState{ID: x.ID, State: why, Sentence: waitingSays[why]}}
			c.ctx, c.cancel = context.WithCancel(e.door.life)
			c.cancel()
			close(c.done)
			e.carriers[x.ID] = c
		}
	}
	for id, c := range e.carriers {
		if !there[id] {
			c.cancel()
			delete(e.carriers, id)
		}
	}
}

var waitingSays = map[string]string{"waiting": "It writes nothing on the plant until it is released by name."}

// newCarrier starts a crossing after the one before it. The lock is held.
func (e *Engine) newCarrier(x site.Crossing, print string, before *carrier) *carrier {
	c := &carrier{print: print, x: x, done: make(chan struct{}), state: CrossingState{ID: x.ID, State: "idle"}}
	c.ctx, c.cancel = context.WithCancel(e.door.life)
	told := make(chan struct{}, 1)
	unwatch := e.Hub.watch([]string{x.From}, told)
	by := "on the bench"
	if r := e.door.releases[x.ID]; r != nil {
		by = "released by " + r.By
	}
	if before != nil {
		before.cancel()
	}
	go func() {
		defer close(c.done)
		defer unwatch()
		defer func() {
			if p := recover(); p != nil {
				log.Printf("crossing %s: %v\n%s", x.ID, p, debug.Stack())
				c.fail(e, fmt.Sprintf("Ferry failed (%v): a defect of Ferry's own.", p))
			}
		}()
		if before != nil {
			<-before.done
			c.inherit(before)
		}
		for {
			c.step(e, by)
			select {
			case <-c.ctx.Done():
				c.finish(e)
				return
			case <-told:
			}
		}
	}()
	return c
}

// inherit takes over what was written last, if the crossing still means the
// same.
func (c *carrier) inherit(before *carrier) {
	before.mu.Lock()
	last, state := before.last, before.state
	before.mu.Unlock()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.state = state
	if before.print == c.print {
		c.last = last
	}
}

// step writes the target if the source has moved far enough.
func (c *carrier) step(e *Engine, by string) {
	source, _ := e.Hub.Point(c.x.From)
	switch source.Quality {
	case value.Good:
	case value.Bad, value.Doubtful:
		c.hold(e, "The source has no good value ("+source.Reason+"); the target keeps its last.")
		return
	default:
		return
	}
	to := e.point(c.x.To)
	if to == nil || c.ctx.Err() != nil {
		return
	}
	carried, err := crossing.Carry(&c.x, to, source.Value)
	if err != nil {
		c.fail(e, err.Error()+".")
		return
	}
	c.mu.Lock()
	last := c.last
	c.mu.Unlock()
	if !crossing.Due(&c.x, last, carried) {
		c.set(func(s *CrossingState) { s.State, s.Sentence = "carrying", "" })
		return
	}
	if served := e.servedOf(c.x.To); served != nil {
		c.put(served, to, carried)
		return
	}
	ctx, cancel := context.WithTimeout(c.ctx, 10*time.Second)
	defer cancel()
	o, err := e.prepare(c.x.To, carried, authority{crossing: c.x.ID})
	if err == nil {
		err = e.holds(o)
	}
	if err != nil {
		c.fail(e, problem.From(err, "write").Error())
		return
	}
	shown := e.show(o)
	if !c.intend(e, by, shown) {
		return
	}
	result, err := e.send(ctx, o)
	if c.ctx.Err() != nil && result.State == NotWritten {
		return // it was ended, which is no failure
	}
	if err != nil {
		c.fail(e, problem.From(err, "write").Error())
		return
	}
	if !result.OK {
		if result.State == NotKnown {
			c.mu.Lock()
			c.last = value.Value{} // whatever stands there now is written over with the next value
			c.mu.Unlock()
		}
		c.fail(e, result.Sentence)
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.last = carried
	s := &c.state
	if s.Written, s.AtMs = result.Order.New, result.AtMs; c.ctx.Err() == nil {
		s.State, s.Sentence = "carrying", ""
	}
	s.Count++
	c.record.Count++
	c.record.Last, c.record.EndMs = result.Order.New, result.AtMs
	c.dirty = true
}

// put has Ferry itself hold the value for those who ask it.
func (c *carrier) put(served *Served, to *site.Point, carried value.Value) {
	now := time.Now()
	raw, err := served.Put(to.ID, carried, now)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.ctx.Err() != nil {
		return
	}
	if err != nil {
		c.state.State, c.state.Sentence = "failed", err.Error()+"."
		return
	}
	c.last = carried
	c.state.State, c.state.Sentence = "carrying", ""
	c.state.Written, c.state.AtMs = to.Shown(to.Scale().Apply(raw)), now.UnixMilli()
	c.state.Count++
}

// servedOf returns the device of a point where Ferry is it.
func (e *Engine) servedOf(point string) *Served {
	e.mu.Lock()
	defer e.mu.Unlock()
	if d, _ := e.pointAt(point); d != nil && e.serving[d.ID] != nil {
		return e.serving[d.ID].Served
	}
	return nil
}

// intend makes sure that the journal has a record of the crossing carrying,
// before the first value goes.
func (c *carrier) intend(e *Engine, by string, shown WriteOrder) bool {
	c.mu.Lock()
	had := c.record != nil && c.record.State == Carrying
	c.mu.Unlock()
	if had {
		return true
	}
	r := &Record{Who: "crossing, " + by, Crossing: c.x.ID, State: Carrying, Order: shown, AtMs: time.Now().UnixMilli()}
	if !c.replace(e, r) {
		c.fail(e, "Nothing was written: the journal of writes cannot be kept.")
		return false
	}
	return true
}

// replace closes the record that the journal has and begins another.
func (c *carrier) replace(e *Engine, r *Record) bool {
	c.mu.Lock()
	old := c.record
	c.record, c.dirty = nil, false
	c.mu.Unlock()
	if old != nil {
		old.EndMs = max(old.EndMs, old.AtMs)
		e.over(old)
	}
	if err := e.Journal.Intend(context.Background(), r); err != nil {
		log.Printf("crossing %s: the journal of writes: %v", c.x.ID, err)
		return false
	}
	c.mu.Lock()
	c.record = r
	c.mu.Unlock()
	return true
}

// turn notes a change of state in the journal; while it stays the same, its
// record counts.
func (c *carrier) turn(e *Engine, state WriteState, sentence string) {
	c.mu.Lock()
	r := c.record
	if r != nil && r.State == state {
		r.Sentence = sentence
		r.Count++
		r.EndMs, c.dirty = time.Now().UnixMilli(), true
		c.mu.Unlock()
		return
	}
	c.mu.Unlock()
	next := &Record{Who: "crossing", Crossing: c.x.ID, State: state, Sentence: sentence, AtMs: time.Now().UnixMilli(),
		EndMs: time.Now().UnixMilli(), Count: 1}
	if r != nil {
		next.Who, next.Order = r.Who, r.Order
		next.Order.New, next.Order.Words = r.Last, ""
	} else if o, err := e.prepare(c.x.To, value.OfInt(0), authority{crossing: c.x.ID}); err == nil {
		next.Order = e.show(o)
		next.Order.New, next.Order.Words, next.Order.Lost = "", "", ""
	}
	c.replace(e, next)
}

func (c *carrier) hold(e *Engine, sentence string) {
	c.mu.Lock()
	carried := c.state.Count > 0
	c.mu.Unlock()
	if carried {
		c.turn(e, Holding, sentence)
	}
	c.set(func(s *CrossingState) { s.State, s.Sentence = "holding", sentence })
}

func (c *carrier) fail(e *Engine, sentence string) {
	c.turn(e, Failed, sentence)
	c.set(func(s *CrossingState) { s.State, s.Sentence = "failed", sentence })
}

// finish brings the journal up to date at the end of a carrier.
func (c *carrier) finish(e *Engine) {
	c.mu.Lock()
	r := c.record
	c.record, c.dirty = nil, false
	c.mu.Unlock()
	if r == nil {
		return
	}
	r.EndMs = time.Now().UnixMilli()
	if r.State == Carrying {
		r.State, r.Sentence = Done, fmt.Sprintf("The crossing wrote %d times and was ended.", r.Count)
	}
	e.over(r)
}

// over hands a record that changes no more to the next KeepCrossings, so that
// hundreds that end together cost one transaction.
func (e *Engine) over(r *Record) {
	e.overMu.Lock()
	defer e.overMu.Unlock()
	e.overs = append(e.overs, r)
}

// set changes what is shown, unless the crossing has been ended: then whoever
// ended it said why.
func (c *carrier) set(change func(*CrossingState)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.ctx.Err() == nil {
		change(&c.state)
	}
}

// Crossings returns what each crossing did last, by id.
func (e *Engine) Crossings() []CrossingState {
	e.mu.Lock()
	carriers := slices.Collect(maps.Values(e.carriers))
	e.mu.Unlock()
	list := []CrossingState{}
	for _, c := range carriers {
		c.mu.Lock()
		list = append(list, c.state)
		c.mu.Unlock()
	}
	slices.SortFunc(list, func(a, b CrossingState) int { return cmp.Compare(a.ID, b.ID) })
	return list
}

// KeepCrossings brings the journal up to date with what the crossings have
// written since it was last called: all of them at once, so that it can be
// called every second or two. What cannot be kept is tried again.
func (e *Engine) KeepCrossings(ctx context.Context) error {
	e.keeping.Lock() // so that nothing older is kept after what is newer
	defer e.keeping.Unlock()
	e.mu.Lock()
	carriers := slices.Collect(maps.Values(e.carriers))
	e.mu.Unlock()
	var records []*Record
	var dirty []*carrier
	for _, c := range carriers {
		c.mu.Lock()
		if c.dirty && c.record != nil {
			copied := *c.record
			records, dirty = append(records, &copied), append(dirty, c)
			c.dirty = false
		}
		c.mu.Unlock()
	}
	e.overMu.Lock() // after the others: what has ended meanwhile comes last
	overs := e.overs
	e.overs = nil
	clients := e.clientRecords()
	e.overMu.Unlock()
	for _, r := range clients {
		if r.then.ID == 0 {
			if err := e.Journal.Intend(ctx, &r.then); err != nil {
				return e.keepLater(err, overs, dirty)
			}
			e.overMu.Lock()
			r.now.ID = r.then.ID
			e.overMu.Unlock()
		}
		records = append(records, &r.then)
	}
	if records = append(records, overs...); len(records) == 0 {
		return nil
	}
	err := e.Journal.Outcome(ctx, records...)
	if err != nil {
		return e.keepLater(err, overs, dirty)
	}
	e.overMu.Lock()
	defer e.overMu.Unlock()
	for _, r := range clients {
		e.keptClient(r)
	}
	return nil
}

// keepLater has what the journal could not keep tried again.
func (e *Engine) keepLater(err error, overs []*Record, dirty []*carrier) error {
	e.overMu.Lock()
	e.overs = append(overs, e.overs...)
	e.overMu.Unlock()
	for _, c := range dirty {
		c.mu.Lock()
		c.dirty = true
		c.mu.Unlock()
	}
	return err
}
