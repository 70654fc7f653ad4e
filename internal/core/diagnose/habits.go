package diagnose

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/habit"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// HabitWords says in words what was learned of an area of a device, which has
// the one map.
func HabitWords(device *site.Device, area string, facts habit.Facts) (words []string) {
	scheme, err := protocol.SchemeOf(device.Map)
	if err != nil {
		return nil
	}
	a, ok := block.AreaOf(scheme, area)
	if !ok {
		return nil
	}
	at := func(offset uint32) string { return scheme.Short(block.At(area, offset)) }
	if facts.Most > 0 {
		words = append(words,
			fmt.Sprintf("It answers at most %d %s in one request.", facts.Most, strings.ToLower(a.Title)))
	}
	if len(facts.Holes) > 0 {
		var places []string
		for _, h := range facts.Holes[:min(len(facts.Holes), 6)] {
			if h.Len() == 1 {
				places = append(places, at(h.From))
			} else {
				places = append(places, at(h.From)+" to "+at(h.To-1))
			}
		}
		if more := len(facts.Holes) - len(places); more > 0 {
			places = append(places, fmt.Sprintf("%d more places", more))
		}
		words = append(words, "It refuses every request that touches "+strings.Join(places, ", ")+".")
	}
	for _, c := range facts.Cuts[:min(len(facts.Cuts), 6)] {
		words = append(words, fmt.Sprintf("It answers no request that goes from %s over to %s.", at(c-1), at(c)))
	}
	return words
}

// Note returns the limits of a device with what was learned of it.
func Note(device *site.Device, learned habit.Device) site.Limits {
	limits := device.Limits
	limits.Most = maps.Clone(limits.Most)
	limits.Forbidden = slices.Clone(limits.Forbidden)
	for _, area := range slices.Sorted(maps.Keys(learned.Areas)) {
		facts := learned.Areas[area]
		if now := limits.Most[area]; facts.Most > 0 && (now == 0 || facts.Most < now) {
			if limits.Most == nil {
				limits.Most = map[string]int{}
			}
			limits.Most[area] = facts.Most
		}
		for _, h := range facts.Holes {
			if hole := (site.Units{Area: area, From: h.From,
				Count: uint32(h.Len())}); !slices.Contains(limits.Forbidden, hole) {
				limits.Forbidden = append(limits.Forbidden, hole)
			}
		}
	}
	if learned.OneConnection {
		limits.Connections = 1
	}
	return limits
}

// Habits returns what was learned of the device of a link, and the manners in
// which it answers, as notes; what can be noted in its limits and is not yet has
// a fix. Manners that are noted already are not told.
func (recent Evidence) Habits(s *site.Site, link *site.Link, learned habit.Device) (found []finding.Finding) {
	device := s.Device(link.Answering)
	if device == nil {
		return nil
	}
	subject := finding.Subject{Kind: "link", ID: link.ID, Device: device.ID, Name: device.Name}
	var words []string
	for _, area := range slices.Sorted(maps.Keys(learned.Areas)) {
		words = append(words, HabitWords(device, area, learned.Areas[area])...)
	}
	if learned.OneConnection {
		words = append(words, "It serves one connection at a time: all links to it share one.")
	}
	if len(words) > 0 {
		f := finding.Finding{Code: "bears-less", Severity: finding.Note, Sure: 1, Count: len(words), Subject: subject,
			Where: "traffic",
			Title: device.Name + " bears less than the protocol allows", Sentence: words[0], Evidence: words[1:],
			Remedy: "Ferry asks it so that it answers."}
		if f.Evidence == nil {
			f.Evidence = []string{}
		}
		if will := Note(device, learned); !sameLimits(will, device.Limits) {
			f.Remedy += " Noted in its limits, the timetable knows it, and nobody has to find it out again."
			f.Fixes = []finding.Fix{{Title: "Note it in the limits", Cells: []finding.CellFix{}, Learned: link.ID}}
		}
		found = append(found, f)
	}
	var met exchange.Manner
	last := map[exchange.Manner]seen{}
	for _, e := range recent {
		met |= e.manner
		for _, m := range exchange.Manners {
			if e.manner&m.Is != 0 {
				last[m.Is] = e
			}
		}
	}
	known, _ := exchange.MannersOf(device.Limits.Manners) // what is not known has been refused
	for _, m := range exchange.Manners {
		if met&m.Is&^known == 0 {
			continue
		}
		e := last[m.Is]
		found = append(found, finding.Finding{Code: m.Finding(), Severity: finding.Note, Sure: 1, Count: 1, Subject: subject,
			Where: "traffic",
			Title: device.Name + " " + m.Does, Sentence: "It is well all the same. " + m.Copes,
			Evidence: []string{fmt.Sprintf("%s %s: answered after %.0f ms", clock(e.at), e.op, e.latency)},
			Remedy:   "Noted in its limits, it is known from the first question on, and not said again.",
			Fixes: []finding.Fix{{Title: "Note it in the limits", Cells: []finding.CellFix{}, Learned: link.ID,
				Manner: m.Code}}})
	}
	return found
}

// Unknown is a note where a device that answers was silent when it was asked what
// decides nothing, as who it is: it does not know the question.
func (d *Diagnosis) Unknown(s *site.Site, link *site.Link, recent Evidence) (f finding.Finding, ok bool) {
	e, ok := d.silent[link.ID]
	device := s.Device(link.Answering)
	if !ok || device == nil || !slices.ContainsFunc(recent, func(r seen) bool { return r.outcome == exchange.Answered }) {
		return f, false
	}
	return finding.Finding{Code: "silent-function", Severity: finding.Note, Sure: 0.9, Count: 1, Where: "traffic",
		Subject: finding.Subject{Kind: "link", ID: link.ID, Device: device.ID, Name: device.Name},
		Title:   device.Name + " is silent on what it does not know",
		Sentence: fmt.Sprintf("It answers what it is read, and got the time limit of %.0f ms to answer %q. That is its way, and "+
			"no fault.", e.latency, e.op),
		Evidence: []string{fmt.Sprintf("%s %s: no answer", clock(e.at), e.op)},
		Remedy:   "Nothing has to be set: Ferry asks it in a try alone, and nothing depends on the answer."}, true
}

func sameLimits(a, b site.Limits) bool {
	return maps.Equal(a.Most, b.Most) && slices.Equal(a.Forbidden, b.Forbidden) && a.Connections == b.Connections
}

// explained leaves out refusals that what was learned explains: a request that
// touches a hole and more, or asks for too much. A hole that is refused alone
// stays.
func (recent Evidence) explained(learned habit.Device) Evidence {
	if len(learned.Areas) == 0 {
		return recent
	}
	return slices.DeleteFunc(slices.Clone(recent), func(e seen) bool {
		if e.outcome != exchange.Declined && e.outcome != exchange.NoAnswer {
			return false
		}
		return slices.ContainsFunc(e.ranges, func(r block.Range) bool {
			facts, ok := learned.Areas[r.Area]
			run := habit.RunOf(r)
			return ok && !facts.Bears(run) && !slices.Contains(facts.Holes, run)
		})
	})
}
