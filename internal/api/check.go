package api

import (
	"context"
	"fmt"
	"log"
	"maps"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"ferry/internal/core/diagnose"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/judge"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/survey"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/recording"
)

// checker checks the site beside everything else. While it does, what was found
// before is shown.
type checker struct {
	mu      sync.Mutex
	newest  *site.Site
	seq     int64
	checked *survey.Paper
	busy    bool
	once    chan struct{} // closed when the first check has ended
	maps    singleflight.Group
}

// begin has the site checked; one that comes meanwhile is checked next.
func (k *checker) begin(s *Server, now *site.Site, seq int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if seq < k.seq || k.newest == now {
		return
	}
	k.newest, k.seq = now, seq
	if k.once == nil {
		k.once = make(chan struct{})
	}
	if !k.busy {
		k.busy = true
		go k.run()
	}
}

func (k *checker) run() {
	for {
		k.mu.Lock()
		now := k.newest
		if k.checked != nil && k.checked.Site == now {
			k.busy = false
			k.mu.Unlock()
			return
		}
		old := k.checked
		k.mu.Unlock()
		checked := k.checkAgain(now, old)
		k.mu.Lock()
		if k.checked == nil {
			close(k.once)
		}
		k.checked = checked
		k.mu.Unlock()
	}
}

// checkAgain checks a site; one on which the check fails shows nothing.
func (k *checker) checkAgain(now *site.Site, old *survey.Paper) (p *survey.Paper) {
	defer func() {
		if failed := recover(); failed != nil {
			log.Printf("the site could not be checked: %v\n%s", failed, debug.Stack())
			p = &survey.Paper{Site: now}
		}
	}()
	return survey.OnPaper(now, old, k.checkMap)
}

// checkMap checks the map of a device, once for all who want it at a time.
func (k *checker) checkMap(d *site.Device) []finding.Finding {
	found, _, _ := k.maps.Do(fmt.Sprintf("%p", d), func() (any, error) { return regmap.CheckMaps(d), nil })
	list, _ := found.([]finding.Finding) // it is nothing else
	return list
}

// latest returns what was found of the latest site that was checked.
func (k *checker) latest(s *Server) *survey.Paper {
	now, seq := s.Store.Site()
	k.begin(s, now, seq)
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.checked == nil {
		return &survey.Paper{Site: now}
	}
	return k.checked
}

// briefly waits for the first check and the first timetable, but not for long.
func (s *Server) briefly(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, 100*time.Millisecond)
	defer cancel()
	s.checker.latest(s)
	select {
	case <-s.checker.once:
	case <-ctx.Done():
	}
	s.Engine.Planned(ctx)
}

// findings joins those of the plan, of the tries and of the traffic.
func (s *Server) findings(at time.Time) []finding.Finding {
	paper := s.checker.latest(s)
	seen := survey.Seen{Traffic: s.Engine.Hub.Findings(paper.Site, at), Value: s.valueOf,
		Tried: func(link string) *route.Route { return s.routes[link] }}
	seen.Traffic = diagnose.Explained(append(seen.Traffic, s.told(paper.Site, at)...))
	seen.Traffic = append(seen.Traffic, field.ListFindings(paper.Site, s.standings(at))...)
	seen.Traffic = append(seen.Traffic, s.Engine.RivalFindings(paper.Site)...)
	if plan, _ := s.Engine.Plan(); plan != nil {
		seen.Plan = plan.Findings
	}
	g, stops, _, _ := s.ground()
	proved := g.Findings(stops)
	s.mu.Lock()
	defer s.mu.Unlock()
	return append(paper.Findings(seen), proved...)
}

// toldFor is for how long what a link tells unasked is not judged again, mostTold how many
// of its exchanges are judged, and toldAtOnce how many links at a time, or as many as take no
// longer than toldWithin: of many, each has its turn later.
const (
	toldFor  = 3 * time.Second
	mostTold = 4000
	// mostToldOctets bounds the octets of those.
	mostToldOctets = 1 << 20
	toldAtOnce     = 8
	toldWithin     = 100 * time.Millisecond
)

// toldNow is what was judged of what links tell unasked, by link.
type toldNow struct {
	mu    sync.Mutex
	at    time.Time
	links map[string]toldOf
}

type toldOf struct {
	at     time.Time
	cyclic bool // it sends in cycles
	found  []finding.Finding
	// numbered is how it numbered its names, longer than its exchanges are kept.
	numbered []judge.Numbered
}

// told judges what links tell and are told unasked, of those that run.
func (s *Server) told(of *site.Site, at time.Time) (found []finding.Finding) {
	k := &s.toldNow
	k.mu.Lock()
	defer k.mu.Unlock()
	if at.Sub(k.at).Abs() >= toldFor {
		k.at = at
		s.tellAgain(of, at)
	}
	cyclic := 0
	for _, id := range slices.Sorted(maps.Keys(k.links)) {
		found = append(found, k.links[id].found...)
		if k.links[id].cyclic {
			cyclic++
		}
	}
	return judge.Shared(found, cyclic)
}

// tellAgain judges those links anew that were judged the longest ago. The lock is held.
func (s *Server) tellAgain(of *site.Site, at time.Time) {
	k := &s.toldNow
	running := map[string]bool{}
	for _, id := range s.Engine.State().Running {
		running[id] = true
	}
	var links []*site.Link
	for i := range of.Links {
		link := &of.Links[i]
		if def, known := protocol.Named(link.Protocol); known && running[link.ID] {
			if _, reports := def.Reports(); reports {
				links = append(links, link)
			}
		}
	}
	maps.DeleteFunc(k.links, func(id string, _ toldOf) bool {
		return !slices.ContainsFunc(links, func(l *site.Link) bool { return l.ID == id })
	})
	slices.SortStableFunc(links, func(a, b *site.Link) int { return k.links[a.ID].at.Compare(k.links[b.ID].at) })
	if k.links == nil {
		k.links = map[string]toldOf{}
	}
	began := time.Now()
	for i, link := range links {
		if i >= toldAtOnce && time.Since(began) > toldWithin {
			break
		}
		def, _ := protocol.Named(link.Protocol)
		_, cyclic := def.Image(link.Settings, "")
		list := latest(s.Engine.Hub.Exchanges(0, mostTold, link.ID), mostToldOctets)
		now := toldOf{at: at, cyclic: cyclic, numbered: k.links[link.ID].numbered}
		now.found = recording.Told(of, link, list, at, &now.numbered)
		k.links[link.ID] = now
	}
}

// latest are the last of some exchanges that have no more octets together than so many.
func latest(list []exchange.Exchange, octets int) []exchange.Exchange {
	for i := len(list) - 1; i >= 0; i-- {
		for _, f := range list[i].Frames {
			octets -= len(f.Octets)
		}
		if octets < 0 {
			return list[i+1:]
		}
	}
	return list
}

// valueOf is the last value of a point that was read.
func (s *Server) valueOf(id string) value.Value {
	live, _ := s.Engine.Hub.Point(id)
	if live.Quality == value.Bad {
		return value.Value{}
	}
	return live.Value
}

// mapFindings returns the findings of one map with their fixes.
func (s *Server) mapFindings(d *site.Device) []finding.Finding {
	found, ok := s.checker.latest(s).OfMap(d)
	if !ok {
		found = s.checker.checkMap(d)
	}
	return append(append([]finding.Finding{}, found...), regmap.Unnamed(d, s.valueOf)...)
}
