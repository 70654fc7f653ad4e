// Package crossing carries the values of points into other points: what becomes of
// them on the way, when they are due, and whether the target can hold them.
package crossing

import (
	"fmt"

	"ferry/internal/core/block"
	"ferry/internal/core/finding"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Check reports what is wrong with the crossings of a site: a target that
// cannot be written or is written twice, a loop, a kind or a range that does
// not fit, an end that no link reaches.
func Check(s *site.Site) []finding.Finding {
	type end struct {
		device *site.Device
		point  *site.Point
	}
	ends := map[string]end{}
	for i := range s.Devices {
		for j := range s.Devices[i].Points {
			ends[s.Devices[i].Points[j].ID] = end{&s.Devices[i], &s.Devices[i].Points[j]}
		}
	}
	writers := map[string]string{}
	next := map[string]string{}
	found := []finding.Finding{}
	for i := range s.Crossings {
		c := &s.Crossings[i]
		from, to := ends[c.From], ends[c.To]
		if from.point == nil || to.point == nil || c.Off {
			continue
		}
		name := from.device.Name + " · " + from.point.Name + " → " + to.device.Name + " · " + to.point.Name
		add := func(severity finding.Severity, code, title, sentence, remedy string) {
			found = append(found, finding.Finding{
				Code: code, Severity: severity, Sure: 1, Count: 1, Where: "crossings",
				Subject: finding.Subject{Kind: "crossing", ID: c.ID, Name: name},
				Title:   title, Sentence: sentence, Evidence: []string{}, Remedy: remedy,
			})
		}
		// The access to a point that Ferry serves is that of its clients.
		if to.point.Access == site.ReadOnly && !to.device.Served() {
			add(finding.Fault, "target-read-only", "The target cannot be written",
				fmt.Sprintf("%s of %s is marked as only to be read.", to.point.Name, to.device.Name),
				"Give it access rw in its map, or choose another target.")
		}
		if scheme, err := to.device.SchemeOf(to.point); err == nil {
			if area, ok := block.AreaOf(scheme, to.point.Place().Area); ok && !area.Writable &&
				!to.device.Served() {
				add(finding.Fault, "target-area", "The target cannot be written",
					fmt.Sprintf("%s lies in the %s, which nobody can write.", to.point.Name, area.Title),
					"Choose another target.")
			}
		}
		for _, e := range []end{from, to} {
			if !e.device.Served() && s.LinkOf(e.device, e.point) == nil {
				add(finding.Fault, "no-link", "No link reaches "+e.device.Name,
					fmt.Sprintf("Nothing asks %s for %s, so the value cannot cross.", e.device.Name, e.point.Name),
					"Add a link to it under Lines, in the protocol of its map.")
			}
		}
		if other, twice := writers[c.To]; twice {
			add(finding.Fault, "two-writers", "Two crossings write one target",
				fmt.Sprintf("%s is also written from %s. The last one wins, by chance.", to.point.Name, other),
				"Remove one of the two.")
		}
		writers[c.To] = from.device.Name + " · " + from.point.Name
		next[c.From] = c.To
		if loops(next, c.From) {
			add(finding.Fault, "loop", "The crossing runs in a circle",
				fmt.Sprintf("What is written to %s comes back to %s.", to.point.Name, from.point.Name),
				"Remove one crossing of the circle.")
		}
		if code, sentence := misfit(c, from.point, to.point); sentence != "" {
			add(finding.Doubt, code, "It may not fit", sentence, "Change the scale, or use a wider type at the target.")
		}
	}
	finding.Sort(found)
	return found
}

func loops(next map[string]string, start string) bool {
	at := start
	for range len(next) {
		to, ok := next[at]
		if !ok {
			return false
		}
		if to == start {
			return true
		}
		at = to
	}
	return false
}

// misfit compares the whole range of the source's type, as it arrives, with
// what the target's type holds. Floats have no useful range and are judged
// only when they are carried.
func misfit(c *site.Crossing, from, to *site.Point) (code, sentence string) {
	if from.Type.IsText() != to.Type.IsText() {
		return "kind", fmt.Sprintf("%s is a %s and %s a %s.", from.Name, from.Type, to.Name, to.Type)
	}
	if !from.PowerAt.IsZero() || !to.PowerAt.IsZero() {
		return "", "" // how large they are is known only once they are read
	}
	if from.Type.IsText() || from.Type.IsFloat() || to.Type.IsFloat() || from.Type.IsTime() || to.Type.IsTime() {
		return "", ""
	}
	least, greatest := from.Type.Range(from.Length)
	low, high := to.Type.Range(to.Length)
	arrive := func(raw float64) float64 {
		return to.Scale().Invert(c.Scale().Apply(from.Scale().Apply(value.OfFloat(raw)))).Float()
	}
	a, b := arrive(least), arrive(greatest)
	if min(a, b) < low || max(a, b) > high {
		return "range", fmt.Sprintf("%s can arrive as raw %.0f to %.0f, and a %s holds %.0f to %.0f.", from.Name,
			min(a, b), max(a, b), to.Type, low, high)
	}
	return "", ""
}
