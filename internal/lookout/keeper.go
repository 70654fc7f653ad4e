// Package lookout looks out for what a running site's lookouts say, keeps when it began
// and when it was over, and tells the outlets.
package lookout

import (
	"context"
	"fmt"
	"log"
	"runtime/debug"
	"slices"
	"strconv"
	"sync"
	"time"

	"ferry/internal/core/finding"
	"ferry/internal/core/lookout"
	"ferry/internal/core/site"
	"ferry/internal/field"
)

// Log keeps events.
type Log interface {
	KeepEvents(ctx context.Context, list []lookout.Event) error
	Events(ctx context.Context, most int) ([]lookout.Event, error)
}

// Keeper looks out for one site.
type Keeper struct {
	engine *field.Engine
	log    Log
	teller *Teller

	looking sync.Mutex // held for a look
	watch   *lookout.Watch
	era     uint64
	found   []finding.Finding // as gathered at
	foundAt time.Time

	mu     sync.Mutex
	events []lookout.Event // the latest, the oldest first
	open   map[string]bool // of those, by id
	dirty  map[string]bool // that the log does not have as they are
	rev    int64
}

// keptEvents is how many events are remembered.
const keptEvents = 1000

// pace is how often it is looked, findings every second time.
const pace = 500 * time.Millisecond

// Keep begins with what the log has. What was open when Ferry ended is over.
func Keep(ctx context.Context, engine *field.Engine, events Log, teller *Teller) (*Keeper, error) {
	k := &Keeper{engine: engine, log: events, teller: teller, open: map[string]bool{}, dirty: map[string]bool{},
		watch: lookout.NewWatch(strconv.FormatInt(time.Now().UnixNano(), 36)), era: engine.Hub.Era()}
	list, err := events.Events(ctx, keptEvents)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if !list[i].Over() {
			list[i].EndMs, list[i].Ended = -1, "Ferry was stopped before it was over."
			k.dirty[list[i].ID] = true
		}
	}
	k.events = list
	return k, nil
}

// Run looks until ctx ends, and then ends what is open.
func (k *Keeper) Run(ctx context.Context) {
	tick := time.NewTicker(pace)
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			k.end("Ferry was stopped.")
			k.store(context.WithoutCancel(ctx))
			return
		case now := <-tick.C:
			k.Look(now)
			if n%2 == 1 {
				k.store(ctx)
			}
		}
	}
}

// Look looks once. A defect in it ends neither Ferry nor the looking.
func (k *Keeper) Look(now time.Time) {
	defer func() {
		if p := recover(); p != nil {
			log.Printf("lookouts: %v\n%s", p, debug.Stack())
		}
	}()
	k.looking.Lock()
	defer k.looking.Unlock()
	if era := k.engine.Hub.Era(); era != k.era {
		k.era = era
		k.took(now, k.watch.End(now.UnixMilli(), "The mode was switched."))
	}
	s := k.engine.Site()
	if len(s.Lookouts) > 0 || len(k.watch.Open()) > 0 {
		k.took(now, k.watch.Look(now.UnixMilli(), s, k.seen(s, now)))
	}
	k.teller.turn(now)
}

func (k *Keeper) end(why string) {
	k.looking.Lock()
	defer k.looking.Unlock()
	now := time.Now()
	k.took(now, k.watch.End(now.UnixMilli(), why))
}

// took takes in events that began or ended.
func (k *Keeper) took(now time.Time, told []lookout.Event) {
	if len(told) == 0 {
		return
	}
	s, mode := k.engine.Site(), k.engine.Mode()
	k.mu.Lock()
	for _, e := range told {
		i := slices.IndexFunc(k.events, func(old lookout.Event) bool { return old.ID == e.ID })
		if i < 0 {
			k.events = append(k.events, e)
		} else {
			k.events[i] = e
		}
		k.dirty[e.ID] = true
		if delete(k.open, e.ID); !e.Over() {
			k.open[e.ID] = true
		}
	}
	// The oldest go, but none that is open.
	for over := len(k.events) - keptEvents; over > 0; over-- {
		i := slices.IndexFunc(k.events, func(e lookout.Event) bool { return e.Over() && !k.dirty[e.ID] })
		if i < 0 {
			break
		}
		k.events = slices.Delete(k.events, i, i+1)
	}
	k.rev++
	k.mu.Unlock()
	for i := range told {
		k.teller.add(s, mode, &told[i], now)
	}
}

// store brings the log up to date. What it does not take is tried again.
func (k *Keeper) store(ctx context.Context) {
	k.mu.Lock()
	var list []lookout.Event
	for i := range k.events {
		if k.dirty[k.events[i].ID] {
			list = append(list, k.events[i])
		}
	}
	k.mu.Unlock()
	if len(list) == 0 {
		return
	}
	if err := k.log.KeepEvents(ctx, list); err != nil {
		if ctx.Err() == nil {
			log.Printf("lookouts: events are not being kept: %v", err)
		}
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, e := range list {
		if i := slices.IndexFunc(k.events, func(now lookout.Event) bool { return now.ID == e.ID }); i >= 0 &&
			k.events[i].EndMs == e.EndMs {
			delete(k.dirty, e.ID)
		}
	}
}

// Events returns the latest events, the newest first, and a number that grows with each
// change.
func (k *Keeper) Events() ([]lookout.Event, int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	list := slices.Clone(k.events)
	slices.Reverse(list)
	return list, k.rev
}

// Open returns those that are not over, the oldest first.
func (k *Keeper) Open() (list []lookout.Event, rev int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for i := range k.events {
		if k.open[k.events[i].ID] {
			list = append(list, k.events[i])
		}
	}
	return list, k.rev
}

// seen gathers what lookouts look at; what none looks at is not asked for.
func (k *Keeper) seen(s *site.Site, now time.Time) *lookout.Seen {
	hub := k.engine.Hub
	hub.Age(now)
	running := map[string]bool{}
	for _, id := range k.engine.State().Running {
		running[id] = true
	}
	seen := &lookout.Seen{Zone: time.Local, Runs: func(id string) bool { return running[id] },
		Out:     func(string) *lookout.Out { return nil },
		Latency: func(string) (float64, bool) { return 0, false },
		Point: func(id string) *lookout.Reading {
			live, ok := hub.Point(id)
			if !ok {
				return nil
			}
			shown := live.Shown
			if _, p := s.Point(id); p != nil && p.Unit != "" {
				shown += " " + p.Unit
			}
			return &lookout.Reading{Value: live.Value, Shown: shown, Quality: live.Quality, Reason: live.Reason,
				AtMs: live.AtMs, ChangedMs: live.ChangedMs}
		}}
	wants := map[site.Sees]bool{}
	for i := range s.Lookouts {
		wants[s.Lookouts[i].Sees] = wants[s.Lookouts[i].Sees] || !s.Lookouts[i].Off
	}
	if wants[site.SeesFinding] {
		// On a large site they are gathered less often.
		if rest := pace * time.Duration(len(s.Links)/100); now.Sub(k.foundAt) >= rest {
			k.found, k.foundAt = append(slices.Clone(hub.Findings(s, now)), listFindings(k.engine, s)...), now
		}
		seen.Findings = k.found
	}
	if wants[site.SeesDown] {
		out := hub.Out()
		seen.Out = func(id string) *lookout.Out {
			o, ok := out[id]
			if !ok {
				return nil
			}
			return &lookout.Out{FromMs: o.FromMs, How: o.How, Why: o.Reason}
		}
	}
	if wants[site.SeesSlow] {
		took := hub.Took(now.Add(-recently))
		seen.Latency = func(id string) (float64, bool) { ms, ok := took[id]; return ms, ok }
	}
	return seen
}

// recently is how old the last answer of a request may be to say how long answers take.
const recently = 30 * time.Second

func listFindings(e *field.Engine, s *site.Site) []finding.Finding {
	if len(s.Lists) == 0 {
		return nil
	}
	return field.ListFindings(s, e.Lists())
}

// Compare sets what another program saw beside what Ferry saw of some links; all if none
// is given.
func (k *Keeper) Compare(ctx context.Context, gaps []lookout.Gap, links []string, now time.Time,
	good func(ctx context.Context, points []string, fromMs, toMs int64) (int, error)) (lookout.Comparison, error) {
	s := k.engine.Site()
	devices := map[string]bool{}
	counts := func(id string) bool { return len(links) == 0 || slices.Contains(links, id) }
	for i := range s.Links {
		if counts(s.Links[i].ID) {
			devices[s.Links[i].Answering] = true
		}
	}
	var failed []lookout.Failed
	for _, o := range k.engine.Hub.Outages() {
		d := s.Device(o.Device)
		if !counts(o.Link) || d == nil {
			continue
		}
		to := o.ToMs
		switch {
		case to == 0:
			to = now.UnixMilli()
		case to < 0: // Ferry was stopped before it was over; for how long it lasted is not known
			to = o.FromMs
		}
		failed = append(failed, lookout.Failed{Link: o.Link, Device: o.Device, Name: d.Name, FromMs: o.FromMs, ToMs: to,
			Out: lookout.Out{FromMs: o.FromMs, How: o.How, Why: o.Reason}})
	}
	var failure error
	view := lookout.Compare(gaps, failed, func(g lookout.Gap) (brought []lookout.Brought) {
		for i := range s.Devices {
			d := &s.Devices[i]
			if !devices[d.ID] || failure != nil {
				continue
			}
			points := make([]string, len(d.Points))
			for j := range d.Points {
				points[j] = d.Points[j].ID
			}
			n, err := good(ctx, points, g.FromMs, g.ToMs)
			if err != nil {
				failure = fmt.Errorf("what was read at that time cannot be looked up: %w", err)
			}
			brought = append(brought, lookout.Brought{Name: d.Name, Good: n})
		}
		return brought
	}, time.Local)
	return view, failure
}
