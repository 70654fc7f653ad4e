// Package survey gathers what is wrong with a site from all that judge it: its
// maps, lines, links and crossings on paper, its timetable, tries of its links,
// the values and the traffic of a run. It holds which of them counts where two
// speak of one thing.
package survey

import (
	"reflect"

	"ferry/internal/core/crossing"
	"ferry/internal/core/finding"
	"ferry/internal/core/pairing"
	"ferry/internal/core/regmap"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Paper is what a site alone shows. It does not change.
type Paper struct {
	Site  *site.Site
	found []finding.Finding            // of maps, lines and crossings
	links map[string][]finding.Finding // by link
	maps  map[string][]finding.Finding // by device, with their fixes
}

// mostOfMap bounds the findings of one map that are among those of the site; the
// map itself shows them all.
const mostOfMap = 500

// OnPaper checks a site. What did not change since an earlier check, if there is
// one, is not checked again; checkMap checks the maps of a device, regmap.CheckMaps
// if nil.
func OnPaper(now *site.Site, earlier *Paper, checkMap func(*site.Device) []finding.Finding) *Paper {
	if checkMap == nil {
		checkMap = regmap.CheckMaps
	}
	p := &Paper{Site: now, maps: make(map[string][]finding.Finding, len(now.Devices)),
		links: make(map[string][]finding.Finding, len(now.Links))}
	before := map[string]*site.Device{}
	if earlier != nil {
		for i := range earlier.Site.Devices {
			before[earlier.Site.Devices[i].ID] = &earlier.Site.Devices[i]
		}
	}
	for i := range now.Devices {
		d := &now.Devices[i]
		if was := before[d.ID]; was != nil && sameMap(was, d) {
			p.maps[d.ID] = earlier.maps[d.ID]
		} else {
			p.maps[d.ID] = checkMap(d)
		}
		found := p.maps[d.ID]
		for _, f := range found[:min(len(found), mostOfMap)] {
			f.Fixes = nil // they are offered in the map itself
			p.found = append(p.found, f)
		}
	}
	for i := range now.Lines {
		p.found = append(p.found, route.LineFindings(now, &now.Lines[i])...)
	}
	for i := range now.Links {
		p.links[now.Links[i].ID] = route.Plan(now, &now.Links[i]).Findings(now, &now.Links[i])
	}
	p.found = append(p.found, crossing.Check(now)...)
	p.found = append(p.found, pairing.Check(now)...)
	return p
}

// sameMap reports whether the maps of a device are the very same as before: an
// edit shares what it does not touch.
func sameMap(was, is *site.Device) bool {
	if !is.SharesPoints(was) {
		return false
	}
	a, b := *was, *is
	a.Points, b.Points = nil, nil
	return reflect.DeepEqual(a, b)
}

// OfMap returns the findings of the maps of a device with their fixes; ok is false
// where it is another than the one that was checked.
func (p *Paper) OfMap(d *site.Device) (found []finding.Finding, ok bool) {
	was := p.Site.Device(d.ID)
	if was == nil || p.maps == nil || !sameMap(was, d) {
		return nil, false
	}
	return p.maps[d.ID], true
}

// Seen is what was seen of a site beside what it says itself.
type Seen struct {
	// Plan are the findings of its timetable, Traffic those of what was exchanged.
	Plan, Traffic []finding.Finding
	// Tried is the last try of a link, nil for none.
	Tried func(link string) *route.Route
	// Value is the last value of a point, none where it is not known.
	Value func(point string) value.Value
}

// Findings joins what the paper shows with what was seen, worst first: of a link
// that was tried, the try counts and not the paper.
func (p *Paper) Findings(seen Seen) []finding.Finding {
	list := append([]finding.Finding{}, p.found...)
	list = append(list, seen.Plan...)
	for i := range p.Site.Links {
		link := &p.Site.Links[i]
		if r := seen.Tried(link.ID); r != nil {
			list = append(list, r.Findings(p.Site, link)...)
		} else {
			list = append(list, p.links[link.ID]...)
		}
	}
	for i := range p.Site.Devices {
		list = append(list, regmap.Unnamed(&p.Site.Devices[i], seen.Value)...)
	}
	list = append(list, seen.Traffic...)
	finding.Sort(list)
	return list
}
