package timetable

import (
	"fmt"
	"slices"

	"ferry/internal/core/finding"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// findings says what the timetable cannot hold, and what it asks of devices
// that they do not bear.
func (c *compiler) findings() {
	for _, l := range c.order {
		subject := finding.Subject{Kind: "link", ID: l.link.ID, Device: l.device.ID, Name: l.device.Name}
		var late *Request
		for i := l.from; i < l.to; i++ {
			if q := &c.plan.Requests[i]; q.PaceMs > 0 && !q.Silent && q.SlackMs < 0 && (late == nil ||
				q.SlackMs < late.SlackMs) {
				late = q
			}
		}
		if late != nil {
			what, load := "connection", l.load.Utilisation
			if line := c.lineLoad(l.link.Line); line != nil && c.byKey["line "+l.link.Line] != nil {
				what, load = "line", line.Utilisation
			}
			c.add("pace-too-fast", finding.Fault, subject, "The pace cannot hold",
				fmt.Sprintf("%s is to be read every %s, but in the worst case the answer is there after %.0f ms: "+
					"the %s is %.0f %% full.", l.device.Name, regmap.PrintPace(late.PaceMs), late.ResponseMs, what,
					100*load),
				fmt.Sprintf("%d requests take %.1f ms a round", l.load.Requests, l.load.RoundMs),
				"Look at the advice under the timetable: it says what each change would bring.")
		}
		c.sampling(l)
	}
	c.burdens()
	c.connections()
}

// burdens compares what a device bears beside its real work with what all links to it
// together ask of it.
func (c *compiler) burdens() {
	for i := range c.site.Devices {
		d := &c.site.Devices[i]
		most := d.Limits.PerSecond
		if most <= 0 {
			continue
		}
		asked, packets := 0.0, 0.0
		var evidence []string
		var worst *linked
		for _, l := range c.order {
			if l.device.ID != d.ID || l.load.PerSecond+l.load.Packets == 0 {
				continue
			}
			asked, packets = asked+l.load.PerSecond, packets+l.load.Packets
			says := fmt.Sprintf("%d requests, %.1f times a second", l.load.Requests, l.load.PerSecond)
			if l.load.Packets > 0 {
				says = fmt.Sprintf("%.1f packets a second, both ways together", l.load.Packets)
			}
			if asker := c.site.Device(l.link.Asking); asker != nil {
				says = asker.Name + ": " + says
			}
			evidence = append(evidence, says)
			if worst == nil || worst.load.PerSecond+worst.load.Packets < l.load.PerSecond+l.load.Packets {
				worst = l
			}
		}
		if asked+packets <= most {
			continue
		}
		says := fmt.Sprintf("%s is asked %.1f times a second", d.Name, asked)
		switch {
		case packets > 0 && asked == 0:
			says = fmt.Sprintf("%s is to exchange %.1f packets a second", d.Name, packets)
		case packets > 0:
			says += fmt.Sprintf(", and exchanges %.1f packets a second besides,", packets)
		}
		c.add("polled-too-fast", finding.Fault, finding.Subject{Kind: "link", ID: worst.link.ID, Device: d.ID, Name: d.Name},
			"The device is asked more often than it bears", fmt.Sprintf("%s and bears %g beside its real work.", says, most), "",
			"Slow its paces or intervals down, or join its requests: a device that is asked too often starves its own task.")
		c.plan.Findings[len(c.plan.Findings)-1].Evidence = evidence
	}
}

func (c *compiler) lineLoad(id string) *LineLoad {
	for i := range c.plan.Lines {
		if c.plan.Lines[i].Line == id {
			return &c.plan.Lines[i]
		}
	}
	return nil
}

func (c *compiler) add(code string, severity finding.Severity, subject finding.Subject,
	title, sentence, evidence, remedy string) {
	c.plan.Findings = append(c.plan.Findings,
		finding.Finding{Code: code, Severity: severity, Sure: 1, Count: 1, Where: "timetable", Subject: subject,
			Title: title, Sentence: sentence, Evidence: []string{evidence}, Remedy: remedy})
}

// connections compares how many connections a device accepts with how many are
// planned to it.
func (c *compiler) connections() {
	type way struct{ device, protocol string }
	planned := map[way]int{}
	for _, l := range c.order {
		if l.ends.def.Medium == site.Ethernet {
			planned[way{l.device.ID, l.link.Protocol}]++ // each protocol has connections of its own
		}
	}
	for i := range c.site.Devices {
		d := &c.site.Devices[i]
		count := 0
		for at, n := range planned {
			if at.device == d.ID {
				count = max(count, n)
			}
		}
		if most := d.Limits.Connections; most > 0 && count > most {
			c.add("too-many-connections", finding.Fault,
				finding.Subject{Kind: "device", ID: d.ID, Device: d.ID, Name: d.Name},
				"More connections than the device accepts",
				fmt.Sprintf("%d links go to %s, which accepts %d connections: the last to come are turned away.",
					count, d.Name, most),
				"counted from the links of the site", "Let one asking end pass the values on, or take a link away.")
		}
	}
}

// Sampled is whether a pace sees the changes of a point.
type Sampled string

// The verdicts: fewer than two samples for each change miss changes, fewer than
// four cannot be trusted with their shape.
const (
	Seen   Sampled = "good"
	Barely Sampled = "doubt"
	Missed Sampled = "fault"
)

// Sampling judges a pace by the fastest change of a signal, both in
// milliseconds, and returns the slowest pace that sees every change, and the
// slowest that can be trusted.
func Sampling(paceMs, changeMs int) (verdict Sampled, sees, trusts int) {
	sees, trusts = changeMs/2, changeMs/4
	switch {
	case paceMs == 0 || paceMs > sees:
		return Missed, sees, trusts
	case paceMs > trusts:
		return Barely, sees, trusts
	}
	return Seen, sees, trusts
}

func (c *compiler) sampling(l *linked) {
	paces := map[string]int{}
	stated := false
	for i := range l.device.Points {
		stated = stated || l.device.Points[i].ChangeMs > 0
	}
	if !stated {
		return
	}
	for i := l.from; i < l.to; i++ {
		for _, id := range c.plan.Requests[i].Points {
			paces[id] = c.plan.Requests[i].PaceMs
		}
	}
	for i := range l.device.Points {
		p := &l.device.Points[i]
		pace, read := paces[p.ID]
		if p.ChangeMs == 0 || !read {
			continue
		}
		verdict, sees, trusts := Sampling(pace, p.ChangeMs)
		if verdict == Seen {
			continue
		}
		severity, what := finding.Doubt,
			fmt.Sprintf("that is fewer than four samples for each change: steps are seen, their shape is not. "+
				"%s would do", paceWord(trusts))
		if verdict == Missed {
			severity, what = finding.Fault,
				fmt.Sprintf("changes pass unseen between two reads. %s sees each, %s can be trusted", paceWord(sees),
					paceWord(trusts))
		}
		c.add("samples-too-few", severity,
			finding.Subject{Kind: "point", ID: p.ID, Device: l.device.ID, Name: l.device.Name + " · " + p.Name},
			p.Name+" changes faster than it is read",
			fmt.Sprintf("%s may change every %s and is read every %s: %s.", p.Name, paceWord(p.ChangeMs),
				paceWord(pace), what),
			"its fastest change is stated in the map",
			"Read it faster, or have the device count or hold what matters between two reads.")
	}
}

func paceWord(ms int) string {
	if ms < 1000 {
		return fmt.Sprintf("%d ms", ms)
	}
	return regmap.PrintPace(ms)
}

// Sample is one recorded value.
type Sample struct {
	AtMs int64
	V    float64
}

// leastChanges is how often a value must have changed for its fastest change to
// be learned.
const leastChanges = 8

// FastestChange learns from samples how quickly a signal moves from one value
// to the next: the time for which it stayed shortest, leaving out the shortest
// twentieth for jitter. It is 0 where the signal changed too seldom to tell.
func FastestChange(samples []Sample) int {
	var stays []int
	since := int64(-1)
	for i := 1; i < len(samples); i++ {
		if samples[i].V == samples[i-1].V {
			continue
		}
		if since >= 0 {
			stays = append(stays, int(samples[i].AtMs-since))
		}
		since = samples[i].AtMs
	}
	if len(stays) < leastChanges {
		return 0
	}
	slices.Sort(stays)
	return stays[len(stays)/20]
}

// SamplingWords says what can be said of a pace: by the stated change, or by
// the one seen among so many samples.
func SamplingWords(paceMs, statedMs, seenMs, samples int) string {
	change := statedMs
	if change == 0 {
		if seenMs == 0 {
			if samples < 2*leastChanges {
				return "Too few samples yet to tell how fast it can be."
			}
			return fmt.Sprintf("It changed too seldom in %d samples to tell how fast it can be.", samples)
		}
		if seenMs < 2*paceMs {
			return fmt.Sprintf("It was another at nearly every read, after %s: it may change faster than that. Read "+
				"it faster for a while to learn more.", paceWord(seenMs))
		}
		change = seenMs
	}
	verdict, sees, trusts := Sampling(paceMs, change)
	switch verdict {
	case Missed:
		return fmt.Sprintf("Changes pass unseen: %s would see each, %s can be trusted.", paceWord(sees),
			paceWord(trusts))
	case Barely:
		return fmt.Sprintf("Fewer than four samples for each change: %s can be trusted.", paceWord(trusts))
	}
	return "It sees every change."
}
