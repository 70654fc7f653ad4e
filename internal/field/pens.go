package field

import (
	"context"
	"fmt"
	"log"
	"time"

	"ferry/internal/core/value"
)

// pen is the record of the journal for what a crossing writes to one point, as long
// as its state stays the same; dirty is set while the journal does not have it as
// it is.
type pen struct {
	record *Record
	dirty  bool
}

// intend makes sure that the journal has a record of the crossing carrying,
// before the first value goes.
func (c *carrier) intend(point string, shown WriteOrder) bool {
	c.mu.Lock()
	p := c.pens[point]
	had := p != nil && p.record != nil && p.record.State == Carrying
	c.mu.Unlock()
	return had || c.replace(point, &Record{Who: "crossing, " + c.by, Crossing: c.x.ID, State: Carrying, Order: shown,
		AtMs: time.Now().UnixMilli()})
}

// replace closes the record that the journal has for a point and begins another.
func (c *carrier) replace(point string, r *Record) bool {
	c.mu.Lock()
	p := c.pens[point]
	if p == nil {
		p = &pen{}
		c.pens[point] = p
	}
	old := p.record
	p.record, p.dirty = nil, false
	c.mu.Unlock()
	if old != nil {
		old.EndMs = max(old.EndMs, old.AtMs)
		c.engine.over(old)
	}
	if err := c.engine.Journal.Intend(context.Background(), r); err != nil {
		log.Printf("crossing %s: the journal of writes: %v", c.x.ID, err)
		return false
	}
	c.mu.Lock()
	p.record = r
	c.mu.Unlock()
	return true
}

// turns notes a change of state in the journal; while it stays the same, its
// record counts.
func (c *carrier) turns(point string, state WriteState, sentence string) {
	c.mu.Lock()
	var r *Record
	p := c.pens[point]
	if p != nil {
		r = p.record
	}
	if r != nil && r.State == state {
		r.Sentence = sentence
		r.Count++
		r.EndMs, p.dirty = time.Now().UnixMilli(), true
		c.mu.Unlock()
		return
	}
	c.mu.Unlock()
	next := &Record{Who: "crossing", Crossing: c.x.ID, State: state, Sentence: sentence, AtMs: time.Now().UnixMilli(),
		EndMs: time.Now().UnixMilli(), Count: 1}
	if r != nil {
		next.Who, next.Order = r.Who, r.Order
		next.Order.New, next.Order.Words = r.Last, ""
	} else if o, err := c.engine.prepare(point, value.OfInt(0), authority{crossing: c.x.ID}); err == nil {
		next.Order = c.engine.show(o)
		next.Order.New, next.Order.Words, next.Order.Lost = "", "", ""
	}
	c.replace(point, next)
}

// finish brings the journal up to date at the end of a carrier.
func (c *carrier) finish() {
	c.leaveCommands()
	c.timer.Stop()
	c.unwatch()
	c.mu.Lock()
	var records []*Record
	for _, p := range c.pens {
		if p.record != nil {
			records = append(records, p.record)
		}
		p.record, p.dirty = nil, false
	}
	c.mu.Unlock()
	for _, r := range records {
		r.EndMs = time.Now().UnixMilli()
		if r.State == Carrying {
			r.State, r.Sentence = Done, fmt.Sprintf("The crossing wrote %d times and was ended.", r.Count)
		}
		c.engine.over(r)
	}
	close(c.done)
}

// over hands a record that changes no more to the next KeepCrossings, so that
// hundreds that end together cost one transaction.
func (e *Engine) over(r *Record) {
	e.overMu.Lock()
	defer e.overMu.Unlock()
	e.overs = append(e.overs, r)
}
