package timetable

import (
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// Cause says who makes a load.
type Cause string

// The causes of what takes a line's time beside the requests.
const (
	Reported Cause = "reported" // the device sends it in cycles
	Event    Cause = "event"    // the device sends it when something changes, at a rate that is assumed
	Written  Cause = "written"  // a crossing writes it, at most as often as its source comes
	Cyclic   Cause = "cyclic"   // others on the line send it
)

// Load is something other than a request that takes the time of a line again
// and again. Times are in milliseconds.
type Load struct {
	Link     string  `json:"link,omitempty"` // none for others on the line
	Line     string  `json:"line"`
	Device   string  `json:"device,omitempty"`
	Title    string  `json:"title"`
	Cause    Cause   `json:"cause"`
	Octets   int     `json:"octets"` // each time, with all framing
	PeriodMs float64 `json:"periodMs"`
	// ToldMs is how long a change waits at most that the far end has seen; 0 for not known.
	ToldMs float64 `json:"toldMs,omitempty"`
	// HoldsMs is for how long it holds the connection, or the line, and Share the
	// part of its time that this is.
	HoldsMs float64 `json:"holdsMs"`
	Share   float64 `json:"share"`
	// Points are those that it brings, or writes.
	Points []string `json:"points"`
}

// load adds a load of a link to its resource. What is assumed to come with no
// period at all takes no time.
func (c *compiler) load(l *linked, load Load, after float64) {
	load.Link, load.Line, load.Device = l.link.ID, l.link.Line, l.device.ID
	if load.Points == nil {
		load.Points = []string{}
	}
	if load.PeriodMs > 0 {
		r := l.resource
		r.tasks = append(r.tasks, task{request: -1, periodMs: load.PeriodMs, ms: load.HoldsMs, after: after,
			cyclic: load.Cause == Reported || load.Cause == Event})
		load.Share = load.HoldsMs / load.PeriodMs / float64(r.atOnce)
		l.load.Utilisation += load.Share
		switch load.Cause {
		case Written:
			l.load.Writes += load.Share
		default:
			l.load.Reports += load.Share
		}
	}
	c.plan.Loads = append(c.plan.Loads, load)
}

// reports adds what the device of a link sends without being asked.
func (c *compiler) reports(l *linked) {
	rules, ok := l.ends.def.Reports()
	if !ok || c.silent[l.device.ID] {
		return
	}
	asked := map[string]bool{}
	for i := l.from; i < l.to; i++ {
		for _, id := range c.plan.Requests[i].Points {
			asked[id] = true
		}
	}
	var wanted []protocol.Wanted
	for i := range l.device.Points {
		p := &l.device.Points[i]
		if p.Access != site.WriteOnly && !p.Address.IsZero() && !asked[p.ID] {
			wanted = append(wanted, p.Wanted())
		}
	}
	if len(wanted) == 0 {
		return
	}
	_, cyclic := l.ends.def.Image(nil, "")
	for _, each := range rules.Expected(l.link.Settings, wanted) {
		if cyclic && each.PeriodMs > 0 {
			l.load.Packets += 1000 / each.PeriodMs
		}
		load := Load{Title: each.Title, Cause: Reported, Octets: each.Octets, PeriodMs: each.PeriodMs, ToldMs: each.ToldMs,
			HoldsMs: float64(each.Octets)*l.ends.octetMs + l.ends.after, Points: each.Points}
		if each.Event {
			load.Cause = Event
		} else if load.ToldMs == 0 && !each.Sent {
			load.ToldMs = each.PeriodMs
		}
		c.load(l, load, l.ends.after)
		l.reported += len(each.Points)
	}
}
