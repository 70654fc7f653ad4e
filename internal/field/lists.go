package field

import (
	"context"
	"slices"
	"time"

	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/pairing"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// settled is for how long a written name may be unheard before that means anything.
const settled = 3 * time.Second

// reachOf says how the far side of a list is reached.
func (e *Engine) reachOf(s *site.Site, far *site.Device) (reach pairing.Reach) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if far.Served() {
		reach = pairing.Reach{Over: far.Name, Served: true, Runs: e.want[far.ID] || e.notServed[far.ID] != ""}
		now := e.serving[far.ID]
		if now == nil {
			reach.Why = e.notServed[far.ID]
			return reach
		}
		state := ServingState{}
		for _, key := range now.posts {
			e.posts[key].show(&state)
		}
		reach.Up, reach.Why, reach.Clients = state.Sentence == "", state.Sentence, len(state.Clients)
		return reach
	}
	link := s.LinkOf(far, &site.Point{})
	if link == nil {
		return reach
	}
	reach = pairing.Reach{Over: "the link to " + far.Name, Runs: e.runners[link.ID] != nil}
	if c := e.channels[e.keys[link.ID]]; reach.Runs && c != nil {
		if contact := c.contact.Load(); contact != nil {
			reach.Up, reach.Outcome, reach.Why = contact.Outcome == exchange.Answered, contact.Outcome, contact.Sentence
		}
	}
	return reach
}

// watched are the points that Ferry reads, or is told of, by the timetable.
func (e *Engine) watched() func(point string) bool {
	plan, _ := e.Plan()
	e.watchMu.Lock()
	defer e.watchMu.Unlock()
	if e.watchOf == plan && plan != nil {
		set := e.watchSet
		return func(point string) bool { return set[point] }
	}
	set := map[string]bool{}
	if plan != nil {
		for i := range plan.Requests {
			for _, id := range plan.Requests[i].Points {
				set[id] = true
			}
		}
		for i := range plan.Loads {
			if cause := plan.Loads[i].Cause; cause == "reported" || cause == "event" {
				for _, id := range plan.Loads[i].Points {
					set[id] = true
				}
			}
		}
	}
	e.watchOf, e.watchSet = plan, set
	return func(point string) bool { return set[point] }
}

// ProveNames proves the names of a device that crossings have to do with, or those of
// one list, by what was heard of them, by a second client where there can be one, and,
// where held is not nil, by what the far side lists. why says what kept a second client
// from listening.
func (e *Engine) ProveNames(ctx context.Context, s *site.Site, d *site.Device, list string, link *site.Link,
	held []protocol.Held) (proofs []pairing.Proof, why string) {
	used := map[string]bool{}
	into, alone := map[string]string{}, map[string]string{} // what writes it, and nothing else does
	for i := range s.Crossings {
		x := &s.Crossings[i]
		if list != "" && x.List != list {
			continue
		}
		if into[x.To] = x.ID; x.Both == site.OneWay && !x.Beats() {
			alone[x.To] = x.ID
		}
		if x.Both != site.OneWay && into[x.From] == "" {
			into[x.From] = x.ID
		}
		for id := range x.Points {
			used[id] = true
		}
	}
	var names []pairing.Wanted
	var points []*site.Point
	watched := e.watched()
	for i := range d.Points {
		p := &d.Points[i]
		if !used[p.ID] {
			continue
		}
		names = append(names, e.name(p, into[p.ID], watched(p.ID), time.Now()))
		points = append(points, p)
	}
	written := func() {
		for i := range names {
			if id := alone[points[i].ID]; id != "" {
				if w := e.Crossing(id).Written; w != "" && !slices.Contains(names[i].Last, w) {
					names[i].Last = append(names[i].Last, w)
				}
			}
		}
	}
	written()
	watching, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() { // what is written meanwhile may be what it hears
		defer close(done)
		for tick := time.NewTicker(100 * time.Millisecond); ; {
			select {
			case <-watching.Done():
				tick.Stop()
				return
			case <-tick.C:
				written()
			}
		}
	}()
	heard, err := e.Witness(ctx, link.ID, points)
	stop()
	<-done
	written()
	if err != nil {
		why = problem.From(err, "witness").Sentence
	}
	for i := range names {
		names[i].Heard = heard[points[i].ID]
	}
	_, def, err := DriverOf(link.Protocol)
	if err != nil {
		return nil, err.Error()
	}
	proofs = pairing.Prove(def.Scheme, names, held)
	for i := range proofs {
		e.proved.keep(points[i], proofs[i])
	}
	return proofs, why
}

// name is what is known of the name of a point, into which a crossing writes if that
// is not empty.
func (e *Engine) name(p *site.Point, into string, watched bool, now time.Time) pairing.Wanted {
	quality, reason, atMs := e.Hub.brief(p.ID)
	name := pairing.Wanted{Point: p, Read: quality, Reason: reason, Watched: watched}
	if atMs == 0 && quality != value.Bad {
		name.Read = value.NotRead
	}
	if into == "" {
		return name
	}
	state := e.Crossing(into)
	if name.Written = state.Counts.Carried; now.Sub(time.UnixMilli(state.AtMs)) < settled && name.Written < 2 {
		name.Written = 0 // it may still come back
	}
	if (state.State == "holding" || state.State == "substituting") && name.Read == value.Bad {
		name.Read = value.Doubtful // it may be told so
	}
	if state.State == "failed" {
		name.Failed = state.Sentence
	}
	return name
}

// Lists says how the lists of names of the site stand, in its order.
func (e *Engine) Lists() []pairing.ListStanding {
	e.mu.Lock()
	s, ruled := e.site, e.ruled
	e.mu.Unlock()
	standings := make([]pairing.ListStanding, 0, len(s.Lists))
	if len(s.Lists) == 0 {
		return standings
	}
	watched, now := e.watched(), time.Now()
	far := map[string]*farSide{}
	for i := range s.Lists {
		l := &s.Lists[i]
		if d := s.Device(l.Far); d != nil && far[l.ID] == nil {
			far[l.ID] = farSideOf(d)
		}
	}
	for i := range ruled {
		x := &ruled[i]
		side := far[x.List]
		if side == nil {
			continue
		}
		p, into := side.points[x.To], x.ID
		if p == nil {
			if p = side.points[x.From]; x.Both == site.OneWay {
				into = ""
			}
		}
		if p == nil {
			continue
		}
		state := e.Crossing(x.ID)
		side.names = append(side.names, pairing.NameState{State: state.State, Sentence: state.Sentence, Off: x.Off})
		side.wanted = append(side.wanted, e.name(p, into, watched(p.ID), now))
	}
	for i := range s.Lists {
		l := &s.Lists[i]
		if d := s.Device(l.Far); d != nil {
			reach := e.reachOf(s, d)
			standings = append(standings, pairing.StandingOf(l, &reach, far[l.ID].proved()))
		}
	}
	return standings
}

// ListFindings are the findings of lists that run and do not carry.
func ListFindings(s *site.Site, standings []pairing.ListStanding) (found []finding.Finding) {
	for i := range standings {
		st := &standings[i]
		l := s.List(st.List)
		if severity := st.Severity(); severity != "" && l != nil {
			found = append(found, finding.Finding{Code: "list", Severity: severity, Sure: 1, Count: 1, Where: "crossings",
				Subject: finding.Subject{Kind: "list", ID: l.ID, Name: l.Name}, Title: l.Name + ": " + st.Title,
				Sentence: st.Sentence, Evidence: []string{}, Remedy: "Open the list: it says what each name carries now."})
		}
	}
	return found
}

// farSide is a device whose names a list has.
type farSide struct {
	points map[string]*site.Point
	scheme address.Scheme // nil where it is not known
	names  []pairing.NameState
	wanted []pairing.Wanted
}

// proved are the names of the list with what is known of each.
func (f *farSide) proved() []pairing.NameState {
	if f.scheme != nil {
		for i, proof := range pairing.Prove(f.scheme, f.wanted, nil) {
			f.names[i].Proof = proof
		}
	}
	return f.names
}

func farSideOf(d *site.Device) *farSide {
	side := &farSide{points: make(map[string]*site.Point, len(d.Points))}
	for i := range d.Points {
		side.points[d.Points[i].ID] = &d.Points[i]
	}
	side.scheme, _ = d.SchemeOf(&site.Point{}) // one that is not known proves nothing
	return side
}
