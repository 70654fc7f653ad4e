package field

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"maps"
	"slices"
	"time"

	"ferry/internal/core/crossing"
	"ferry/internal/core/site"
)

// crossingPrint changes when anything changes that decides what a crossing
// writes, and where. The lock is held.
func (e *Engine) crossingPrint(id string) crossPrint {
	if e.crossPrintsOf != e.site { // it is still being planned
		e.crossPrints, e.crossPrintsOf = crossingPrints(e.site, e.ruled), e.site
	}
	return e.crossPrints[id]
}

// crossPrint is the print of a crossing, with what it needs to run: links, or
// devices that Ferry is. Rules decide when it writes, and not what.
type crossPrint struct {
	print, rules [sha256.Size]byte
	needs        []string
	// plant is set where it writes into a device that is not Ferry itself.
	plant bool
}

// crossingPrints works out the print of every crossing of a site as they run; one
// whose ends no link reaches has none.
func crossingPrints(s *site.Site, crossings []site.Crossing) map[string]crossPrint {
	type end struct {
		device *site.Device
		point  *site.Point
	}
	ends := map[string]end{}
	for i := range crossings {
		for id := range crossings[i].Points {
			ends[id] = end{}
		}
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
	prints := make(map[string]crossPrint, len(crossings))
	for i := range crossings {
		x := crossings[i]
		var of crossPrint
		parts, whole := []any{nil}, true
		for id := range x.Points {
			at := ends[id]
			if at.point == nil {
				whole = false
				break
			}
			written := id == x.To || id == x.QualityTo || x.Both != site.OneWay && id == x.From
			if at.device.Served() {
				parts = append(parts, readOnly(at.point), at.device.ID, nil, at.device.Map)
				if id != x.Enable {
					of.needs = append(of.needs, servedKey(at.device.ID))
				}
				continue
			}
			link := s.LinkOf(at.device, at.point)
			if link == nil {
				whole = false
				break
			}
			plain := *link
			plain.Remark = ""
			if id != x.Enable { // without it, it is disabled
				of.needs = append(of.needs, link.ID)
			}
			of.plant = of.plant || written
			parts = append(parts, readOnly(at.point), plain, at.device.PortFor(link), at.device.Map)
		}
		if !whole {
			continue
		}
		to := ends[x.To].point
		of.rules = hashed([]any{x.Deadband, x.Percent, x.AtLeastMs, x.AtMostMs, x.PaceMs, x.Round, to.Low,
			to.High})
		x.List, x.Remark, x.AllowMs, x.Deadband, x.Percent, x.AtLeastMs, x.AtMostMs, x.PaceMs = "", "", 0, 0, false, 0, 0, 0
		x.Round = false
		parts[0] = x
		of.print = hashed(parts)
		prints[x.ID] = of
	}
	return prints
}

// takenBy are the points whose values crossings carry on: sources, and targets that are
// carried back.
func takenBy(crossings []site.Crossing) *map[string]bool {
	taken := map[string]bool{}
	for i := range crossings {
		x := &crossings[i]
		if x.Off {
			continue
		}
		for _, id := range x.Sources() {
			taken[id] = true
		}
		if x.Both != site.OneWay {
			taken[x.To] = true
		}
	}
	return &taken
}

func hashed(parts []any) [sha256.Size]byte {
	data, err := json.Marshal(parts)
	if err != nil {
		data = []byte(err.Error())
	}
	return sha256.Sum256(data)
}

// servedKey stands in the needs of a crossPrint for a device that Ferry is.
func servedKey(device string) string { return "\x00" + device }

// up reports whether that runs which a crossing needs. The lock is held.
func (e *Engine) up(needs []string) bool {
	for _, key := range needs {
		if key[0] == 0 && e.serving[key[1:]] == nil || key[0] != 0 && e.runners[key] == nil {
			return false
		}
	}
	return len(needs) > 0
}

// wanted says whether a crossing is to write now, and if not, why. The lock is
// held.
func (e *Engine) wanted(x *site.Crossing, of crossPrint) (yes bool, why string) {
	if x.Off || !e.up(of.needs) {
		return false, "idle"
	}
	if e.door.mode == Plant && of.plant && e.door.standing == "" { // what Ferry itself holds is no write to a plant
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

var waitingSays = map[string]string{"waiting": "It writes nothing on the plant until it is released by name."}

// carry lets the crossings follow the site, what runs, and what is released.
// One that goes on as before is left alone. The lock is held.
func (e *Engine) carry() {
	there := map[string]bool{}
	for i := range e.ruled {
		x := &e.ruled[i]
		there[x.ID] = true
		of := e.crossingPrint(x.ID)
		old := e.carriers[x.ID]
		yes, why := e.wanted(x, of)
		running := old != nil && old.ctx.Err() == nil
		switch {
		case yes && running && old.of.print == of.print && old.of.rules == of.rules:
		case yes:
			e.carriers[x.ID] = e.newCarrier(x, of, old)
		case old != nil:
			old.end(why, waitingSays[why])
		case why == "waiting":
			e.carriers[x.ID] = restingCarrier(e, x, of, why)
		}
	}
	for id, c := range e.carriers {
		if !there[id] {
			c.end("idle", "")
			delete(e.carriers, id)
		}
	}
}

// Crossings returns what each crossing did last, by id.
func (e *Engine) Crossings() []CrossingState {
	list, _ := e.CrossingsSince(0)
	return list
}

// CrossingsSince returns the crossings whose state or sentence has changed after a
// revision, by id, and the revision to ask with next.
func (e *Engine) CrossingsSince(rev uint64) ([]CrossingState, uint64) {
	next := e.crossRev.Load()
	e.mu.Lock()
	carriers := make([]*carrier, 0, len(e.carriers))
	for _, c := range e.carriers {
		if rev == 0 || c.rev.Load() > rev {
			carriers = append(carriers, c)
		}
	}
	e.mu.Unlock()
	list := make([]CrossingState, 0, len(carriers))
	for _, c := range carriers {
		list = append(list, c.shown())
	}
	slices.SortFunc(list, func(a, b CrossingState) int { return cmp.Compare(a.ID, b.ID) })
	return list, next
}

// Crossing returns what one crossing did last; the zero state where it did nothing.
func (e *Engine) Crossing(id string) CrossingState {
	e.mu.Lock()
	c := e.carriers[id]
	e.mu.Unlock()
	if c == nil {
		return CrossingState{ID: id, State: "idle"}
	}
	return c.shown()
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
	var again []func() // makes what could not be kept dirty again
	for _, c := range carriers {
		c.mu.Lock()
		for _, p := range c.pens {
			if p.dirty && p.record != nil {
				copied := *p.record
				records = append(records, &copied)
				p.dirty = false
				again = append(again, func() {
					c.mu.Lock()
					defer c.mu.Unlock()
					p.dirty = true
				})
			}
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
				return e.keepLater(err, overs, again)
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
		return e.keepLater(err, overs, again)
	}
	e.overMu.Lock()
	defer e.overMu.Unlock()
	for _, r := range clients {
		e.keptClient(r)
	}
	return nil
}

// keepLater has what the journal could not keep tried again.
func (e *Engine) keepLater(err error, overs []*Record, again []func()) error {
	e.overMu.Lock()
	e.overs = append(overs, e.overs...)
	e.overMu.Unlock()
	for _, dirty := range again {
		dirty()
	}
	return err
}

// CrossingState is what a crossing did last.
type CrossingState struct {
	ID string `json:"id"`
	// State is one of crossing.State; waiting also where it is not released on the
	// plant.
	State    string `json:"state"`
	Sentence string `json:"sentence,omitempty"`
	Written  string `json:"written"`
	Count    int    `json:"count"` // writes that went well
	AtMs     int64  `json:"atMs"`
	// Counts say what became of the values of the source.
	Counts crossing.Counts `json:"counts"`
	// FerryMs is how long Ferry had a value last, from the source's answer to the
	// beginning of the write; WriteMs how long the write took. Worst are the longest.
	FerryMs      float64 `json:"ferryMs"`
	WriteMs      float64 `json:"writeMs"`
	WorstFerryMs float64 `json:"worstFerryMs"`
	WorstWriteMs float64 `json:"worstWriteMs"`
	// Today is how often the target was written today, where that is bounded.
	Today int `json:"today,omitempty"`
}
