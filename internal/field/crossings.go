package field

import (
	"context"
	"maps"
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
	// State is carrying, holding (the source is bad, the target keeps its last
	// value), failed, or idle.
	State    string `json:"state"`
	Sentence string `json:"sentence,omitempty"`
	Written  string `json:"written"`
	Count    int    `json:"count"`
	AtMs     int64  `json:"atMs"`
}

// crossings runs the crossings of the links that run: one goroutine for each
// link that is written to, so that a dead target holds up no other.
type crossings struct {
	cancel context.CancelFunc
	wg     sync.WaitGroup
	mu     sync.Mutex
	states map[string]CrossingState
	last   map[string]value.Value // crossing id -> value written last
}

// startCrossings starts anew and remembers the states of before. The engine's
// lock is held.
func startCrossings(e *Engine, before *crossings) *crossings {
	c := &crossings{states: map[string]CrossingState{}, last: map[string]value.Value{}}
	ctx, cancel := context.WithCancel(context.Background())
	c.cancel = cancel
	var earlier map[string]CrossingState
	if before != nil {
		// One of its writes may still be under way.
		before.mu.Lock()
		earlier = maps.Clone(before.states)
		before.mu.Unlock()
	}
	byTarget := map[string][]site.Crossing{}
	for i := range e.site.Crossings {
		x := e.site.Crossings[i]
		from, _ := e.site.Point(x.From)
		to, _ := e.site.Point(x.To)
		if state, known := earlier[x.ID]; known {
			state.State = "idle"
			c.states[x.ID] = state
		}
		if x.Off || from == nil || to == nil {
			continue
		}
		source, target := e.site.LinkTo(from.ID), e.site.LinkTo(to.ID)
		if source == nil || target == nil || e.runners[source.ID] == nil || e.runners[target.ID] == nil {
			continue
		}
		byTarget[target.ID] = append(byTarget[target.ID], x)
	}
	for _, list := range byTarget {
		told := make(chan struct{}, 1)
		sources := make([]string, len(list))
		for i := range list {
			sources[i] = list[i].From
		}
		end := e.Hub.watch(sources, told)
		c.wg.Go(func() {
			defer end()
			c.run(ctx, e, list, told)
		})
	}
	return c
}

// stop ends the goroutines. It does not wait for a write under way: that ends
// by itself with its link, and the lock which it may want is held here.
func (c *crossings) stop() { c.cancel() }

func (c *crossings) run(ctx context.Context, e *Engine, list []site.Crossing, told <-chan struct{}) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-told:
		}
		for i := range list {
			if ctx.Err() != nil {
				return
			}
			c.step(ctx, e, &list[i])
		}
	}
}

func (c *crossings) step(ctx context.Context, e *Engine, x *site.Crossing) {
	source, _ := e.Hub.Point(x.From)
	if source.Quality == value.NotRead {
		return
	}
	if source.Quality == value.Bad {
		c.set(x.ID, func(s *CrossingState) {
			s.State, s.Sentence = "holding", "The source cannot be read ("+source.Reason+"); the target keeps its last value."
		})
		return
	}
	_, to := e.Site().Point(x.To)
	if to == nil {
		return
	}
	carried, err := crossing.Carry(x, to, source.Value)
	if err != nil {
		c.fail(x.ID, err.Error()+".")
		return
	}
	c.mu.Lock()
	last := c.last[x.ID]
	c.mu.Unlock()
	if !crossing.Due(x, last, carried) {
		c.set(x.ID, func(s *CrossingState) { s.State, s.Sentence = "carrying", "" })
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	result, err := e.Write(ctx, x.To, carried)
	switch {
	case err != nil:
		c.fail(x.ID, problem.From(err, "write").Error())
	case !result.OK:
		c.fail(x.ID, result.Sentence)
	default:
		c.mu.Lock()
		c.last[x.ID] = carried
		c.mu.Unlock()
		c.set(x.ID, func(s *CrossingState) {
			s.State, s.Sentence, s.Written, s.AtMs = "carrying", "", result.Order.New, result.AtMs
			s.Count++
		})
	}
}

func (c *crossings) fail(id, sentence string) {
	c.set(id, func(s *CrossingState) { s.State, s.Sentence = "failed", sentence })
}

func (c *crossings) set(id string, change func(*CrossingState)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := c.states[id]
	s.ID = id
	change(&s)
	c.states[id] = s
}

// Crossings returns what each crossing did last.
func (e *Engine) Crossings() []CrossingState {
	e.mu.Lock()
	c := e.crossings
	e.mu.Unlock()
	list := []CrossingState{}
	if c == nil {
		return list
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, s := range c.states {
		list = append(list, s)
	}
	return list
}
