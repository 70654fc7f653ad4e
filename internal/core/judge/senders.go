package judge

import (
	"fmt"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
)

// sender is one whose messages others understand only since its birth, or of whom they
// wait to hear that it is there.
type sender struct {
	life    capture.Life // what was said of it last, of Born and Gone; 0 for nothing
	at      proof        // when
	since   time.Time    // when it was asked to be born again, and was not since
	unborn  proofs       // what it told meanwhile
	awaited time.Time    // since when somebody waits for it
	waits   proof
}

// clockOf is by how much a sender's time is ahead of that of the recording.
type clockOf struct {
	ahead time.Duration
	same  int
	ps    proofs
}

// Of senders: how long one may take to be born, or to be there, and how much of what it
// tells meanwhile says that it is not; and by what its clock is another.
const (
	bornWithin   = 5 * time.Second
	unbornLeast  = 3
	clocksApart  = 2 * time.Minute
	clocksVary   = 5 * time.Second
	clocksShow   = 3
	keptLongest  = 8 * time.Second // after that something might have come besides what was kept
	unreadLeast  = 2
	mostOfClocks = 1000
)

// live takes in what a message says of its sender.
func (of *reporting) live(h *capture.Heard, at time.Time, packet int64) {
	r := h.Report
	if r.Of == "" {
		return
	}
	s := of.senders[r.Of]
	if s == nil {
		if len(of.senders) >= mostSeries {
			return
		}
		s = &sender{}
		of.senders[r.Of] = s
	}
	what := proof{at: at, packets: [2]int64{packet}, text: r.Name}
	switch r.Life {
	case capture.Born, capture.Gone:
		s.life, s.at, s.since, s.unborn = r.Life, what, time.Time{}, proofs{}
	case capture.Called:
		if s.since.IsZero() {
			s.since, s.unborn = at, proofs{}
		}
	case capture.Tells:
		if !s.since.IsZero() && at.Sub(s.since) > time.Second {
			s.unborn.add(what)
		}
	case capture.Awaited:
		if s.awaited.IsZero() {
			s.awaited, s.waits = at, what
		}
	}
}

// clocked compares the time of a sender with that of the recording.
func (of *reporting) clocked(h *capture.Heard, at time.Time, packet int64) {
	r := h.Report
	if r.Sent.IsZero() || r.Kept || r.Way != capture.Brings || r.Of == "" {
		return
	}
	c := of.clocks[r.Of]
	if c == nil {
		if len(of.clocks) >= mostOfClocks {
			return
		}
		c = &clockOf{}
		of.clocks[r.Of] = c
	}
	ahead := r.Sent.Sub(at)
	if (ahead-c.ahead).Abs() > clocksVary || ahead.Abs() < clocksApart {
		c.same, c.ps = 0, proofs{}
	}
	if c.ahead = ahead; ahead.Abs() >= clocksApart {
		c.same++
		c.ps.add(proof{at: at, packets: [2]int64{packet}, text: r.Name + ", of " + r.Sent.UTC().Format(time.DateTime)})
	}
}

// unreadable takes in a payload that is none, by its name or by the plan.
func (of *reporting) unreadable(p *plan, h *capture.Heard, at time.Time, packet int64) {
	r := h.Report
	why := r.Broken
	if why == "" && p != nil && r.Way == capture.Brings {
		why = p.unreadable(of.talk, r.Name, r.Payload)
	}
	if why == "" {
		return
	}
	ps := of.broken[r.Name]
	if ps == nil {
		if len(of.broken) >= mostSeries {
			return
		}
		ps = &proofs{}
		of.broken[r.Name] = ps
	}
	ps.add(proof{at: at, packets: [2]int64{packet}, text: why})
}

// told are the points of the plan by the names under which they are told.
type told struct {
	rules protocol.Told
	of    map[string][]protocol.Wanted
}

// unreadable says why a payload holds no value of a point of the plan; empty where it
// holds one, or there is none.
func (p *plan) unreadable(t *Talk, name string, payload []byte) string {
	list := p.links[place{at: t.Key.Answerer, station: -1}]
	for _, pl := range list {
		def, ok := protocol.Named(pl.link.Protocol)
		if !ok {
			continue
		}
		rules, ok := def.Rules.(protocol.Told)
		if !ok {
			continue
		}
		known := p.told[pl.device.ID]
		if known == nil {
			known = &told{rules, map[string][]protocol.Wanted{}}
			for i := range pl.device.Points {
				w := pl.device.Points[i].Wanted()
				as := rules.ToldAs(w.Address)
				known.of[as] = append(known.of[as], w)
			}
			p.told[pl.device.ID] = known
		}
		for _, w := range known.of[name] {
			if why := known.rules.Unreadable(w, payload); why != "" {
				return why
			}
		}
	}
	return ""
}

// lives judges senders.
func (of *reporting) lives(last time.Time, add func(code string, severity finding.Severity, sure float64, ps *proofs,
	what, title, sentence, remedy, other string)) {
	one := func(p proof) *proofs { return &proofs{n: 1, kept: []proof{p}} }
	for _, name := range sorted(of.senders, func(s string) string { return s }) {
		s := of.senders[name]
		switch {
		case !s.awaited.IsZero() && s.life != capture.Born && last.Sub(s.awaited) > bornWithin:
			how := "nothing was said of it since"
			if s.life == capture.Gone {
				how = "what is said of it is that it has gone"
			}
			add("host-absent", finding.Fault, 0.9, one(s.waits), name, name+" is not there",
				fmt.Sprintf("Somebody waits for %s before it tells anything, and %s.", name, how),
				"Start the host, and compare its name with the one that is waited for, letter by letter.", "")
		case s.life == capture.Gone && s.awaited.IsZero():
			add("sender-gone", finding.Doubt, 0.9, one(s.at), name, name+" has gone",
				fmt.Sprintf("It was said of %s that it has gone, and nothing that it is back: its values are of before.", name),
				"Look at the node, its power and its way to the broker. It is back once it is born again.", "")
		case s.unborn.n >= unbornLeast && last.Sub(s.since) > bornWithin:
			add("data-before-birth", finding.Fault, 0.9, &s.unborn, name, name+" tells values before its birth",
				fmt.Sprintf("%s was asked to say again what its values mean, did not, and told %d messages since: what their "+
					"numbers stand for is not known.", name, s.unborn.n),
				"Start the node anew. Look whether it may take commands: without, nobody can ask it for its birth.", "")
		}
	}
	for _, name := range sorted(of.clocks, func(s string) string { return s }) {
		if c := of.clocks[name]; c.same >= clocksShow {
			way := "ahead of"
			if c.ahead < 0 {
				way = "behind"
			}
			add("clocks-apart", finding.Doubt, 0.8, &c.ps, name, "The clock of "+name+" goes otherwise",
				fmt.Sprintf("The times in %d of its messages are %s %s those of this recording, and stay so.", c.ps.n,
					c.ahead.Abs().Round(time.Second), way),
				"Set the clock that is wrong, and see where both get their time from.",
				"What it tells is always so long on its way.")
		}
	}
	for _, name := range sorted(of.broken, func(s string) string { return s }) {
		if ps := of.broken[name]; ps.n >= unreadLeast {
			add("unreadable-report", finding.Fault, 0.9, ps, name, "What is told under "+name+" cannot be read",
				fmt.Sprintf("%d messages under it are not what they are to be: %s.", ps.n, ps.kept[0].text),
				"Look at what the sender tells there, and compare it with the map: type, path, and number or text.",
				"Somebody else tells something under the same name.")
		}
	}
}
