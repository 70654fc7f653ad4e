package field

import (
	"context"
	"fmt"
	"log"
	"runtime/debug"
	"time"

	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
)

// Plan returns the timetable that was compiled last and the site that it is of,
// which is an earlier one while that of a change is being compiled. It is nil
// only before the first.
func (e *Engine) Plan() (*timetable.Plan, *site.Site) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.plan, e.planOf
}

// planPatience is how long a press waits for a timetable; after that, what depends
// on it happens by itself when it is there.
const planPatience = 60 * time.Millisecond

// Planned waits for the timetable of the site as it is, but no longer than ctx.
func (e *Engine) Planned(ctx context.Context) {
	e.mu.Lock()
	planned := e.planned
	e.mu.Unlock()
	select {
	case <-planned:
	case <-ctx.Done():
	}
}

func (e *Engine) brieflyPlanned() {
	ctx, cancel := context.WithTimeout(context.Background(), planPatience)
	defer cancel()
	e.Planned(ctx)
}

// replan compiles the timetable of the site beside everything else, and then
// lets the links that are to run go on by it. The lock is held.
func (e *Engine) replan() {
	e.stopPlan()
	ctx, cancel := context.WithCancel(context.Background())
	s, ruled, planned := e.site, e.ruled, make(chan struct{})
	e.stopPlan, e.planned = cancel, planned
	go func() {
		defer close(planned)
		defer cancel()
		plan := compile(ctx, s)
		if plan == nil {
			return // there is a newer site
		}
		byLink := map[string][]timetable.Request{}
		for _, r := range plan.Requests {
			byLink[r.Link] = append(byLink[r.Link], r)
		}
		prints := crossingPrints(s, ruled)
		e.mu.Lock()
		defer e.mu.Unlock()
		defer unharmed("what runs could not follow the site")
		if e.site != s || e.closed {
			return
		}
		e.crossPrints, e.crossPrintsOf = prints, s
		e.plan, e.planOf, e.byLink = plan, s, byLink
		e.planRev++
		e.reconcile()
	}()
}

// unharmed keeps a defect from ending the program; it is deferred.
func unharmed(what string) {
	if p := recover(); p != nil {
		log.Printf("%s: %v\n%s", what, p, debug.Stack())
	}
}

// compile is timetable.CompileContext, which a defect in it does not carry
// beyond: the site is then shown without a timetable.
func compile(ctx context.Context, s *site.Site) (plan *timetable.Plan) {
	defer func() {
		if p := recover(); p != nil {
			log.Printf("the timetable could not be compiled: %v\n%s", p, debug.Stack())
			plan = timetable.Failed(fmt.Sprint(p))
		}
	}()
	return timetable.CompileContext(ctx, s)
}
