package api

import (
	"context"
	"fmt"
	"log"
	"reflect"
	"runtime/debug"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"ferry/internal/core/crossing"
	"ferry/internal/core/finding"
	"ferry/internal/core/regmap"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// checkedSite is what the site alone shows, worked out once for each change.
type checkedSite struct {
	site   *site.Site
	list   []finding.Finding
	routes map[string][]finding.Finding // by link
	maps   map[string][]finding.Finding // by device, with their fixes
}

// checker checks the site beside everything else. While it does, what was found
// before is shown.
type checker struct {
	mu      sync.Mutex
	newest  *site.Site
	seq     int64
	checked *checkedSite
	busy    bool
	once    chan struct{} // closed when the first check has ended
	maps    singleflight.Group
}

// mostOfMap bounds the findings of one map that go to every window; the map
// itself shows them all.
const mostOfMap = 500

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
		if k.checked != nil && k.checked.site == now {
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

// checkAgain checks a site. What did not change since old is not checked again.
func (k *checker) checkAgain(now *site.Site, old *checkedSite) (c *checkedSite) {
	c = &checkedSite{site: now, maps: make(map[string][]finding.Finding, len(now.Devices)),
		routes: make(map[string][]finding.Finding, len(now.Links))}
	defer func() {
		if p := recover(); p != nil {
			log.Printf("the site could not be checked: %v\n%s", p, debug.Stack())
		}
	}()
	before := map[string]*site.Device{}
	if old != nil {
		for i := range old.site.Devices {
			before[old.site.Devices[i].ID] = &old.site.Devices[i]
		}
	}
	for i := range now.Devices {
		d := &now.Devices[i]
		if was := before[d.ID]; was != nil && sameMap(was, d) {
			c.maps[d.ID] = old.maps[d.ID]
		} else {
			c.maps[d.ID] = k.checkMap(d)
		}
		found := c.maps[d.ID]
		for _, f := range found[:min(len(found), mostOfMap)] {
			f.Fixes = nil // they are offered in the map itself
			c.list = append(c.list, f)
		}
	}
	for i := range now.Lines {
		c.list = append(c.list, route.LineFindings(now, &now.Lines[i])...)
	}
	for i := range now.Links {
		c.routes[now.Links[i].ID] = route.Plan(now, &now.Links[i]).Findings(now, &now.Links[i])
	}
	c.list = append(c.list, crossing.Check(now)...)
	return c
}

// sameMap reports whether the map of a device is the very same as before: an
// edit shares what it does not touch.
func sameMap(was, is *site.Device) bool {
	if !is.SharesPoints(was) {
		return false
	}
	a, b := *was, *is
	a.Points, b.Points = nil, nil
	return reflect.DeepEqual(a, b)
}

// checkMap checks the map of a device, once for all who want it at a time.
func (k *checker) checkMap(d *site.Device) []finding.Finding {
	found, _, _ := k.maps.Do(fmt.Sprintf("%p", d), func() (any, error) { return regmap.CheckMaps(d), nil })
	list, _ := found.([]finding.Finding) // it is nothing else
	return list
}

// latest returns what was found of the latest site that was checked.
func (k *checker) latest(s *Server) *checkedSite {
	now, seq := s.Store.Site()
	k.begin(s, now, seq)
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.checked == nil {
		return &checkedSite{site: now}
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
	checked := s.checker.latest(s)
	now := checked.site
	list := append([]finding.Finding{}, checked.list...)
	if plan, _ := s.Engine.Plan(); plan != nil {
		list = append(list, plan.Findings...)
	}
	s.mu.Lock()
	for i := range now.Links {
		// What a try has seen counts more than what the plan says.
		link := &now.Links[i]
		if r := s.routes[link.ID]; r != nil {
			list = append(list, r.Findings(now, link)...)
		} else {
			list = append(list, checked.routes[link.ID]...)
		}
	}
	s.mu.Unlock()
	for i := range now.Devices {
		list = append(list, s.unnamed(&now.Devices[i])...)
	}
	list = append(list, s.Engine.Hub.Findings(now, at)...)
	finding.Sort(list)
	return list
}

// mapFindings returns the findings of one map with their fixes.
func (s *Server) mapFindings(d *site.Device) []finding.Finding {
	checked := s.checker.latest(s)
	var list []finding.Finding
	if was := checked.site.Device(d.ID); was != nil && sameMap(was, d) && checked.maps != nil {
		list = append([]finding.Finding{}, checked.maps[d.ID]...)
	} else {
		list = append([]finding.Finding{}, s.checker.checkMap(d)...)
	}
	return append(list, s.unnamed(d)...)
}

// unnamed reports values that came without a name.
func (s *Server) unnamed(d *site.Device) []finding.Finding {
	return regmap.Unnamed(d, func(id string) value.Value {
		live, _ := s.Engine.Hub.Point(id)
		if live.Quality == value.Bad {
			return value.Value{}
		}
		return live.Value
	})
}
