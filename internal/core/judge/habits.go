package judge

import (
	"fmt"
	"slices"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
)

// Of first answers over connections: how much longer than the others they take to be
// slow, and how long at least.
const (
	slowTimes  = 8
	slowLeast  = 300 * time.Millisecond
	usualAfter = 10 // answers tell what is usual
)

// onConn notes what an exchange tells as one of a connection.
func (t *Talk) onConn(c *capture.Conn, h *capture.Heard) {
	if c.Heard == 1 && c.Opened() && !h.Answered.IsZero() && len(t.firsts) < mostKept {
		t.firsts = append(t.firsts, h.Latency())
		if h.Latency() >= slowLeast {
			t.slowly.add(proofOf(h, fmt.Sprintf("answered after %s", long(h.Latency()))))
		}
	}
	since, answered := c.Notes.(time.Time) // the first question over it that was answered
	switch {
	case !h.Answered.IsZero():
		if !answered {
			c.Notes = h.Asked
		}
		t.end.serve(c.Number, h.Answered)
	case h.Outcome == exchange.NoAnswer && (!answered || h.Asked.Before(since)) && t.end.otherServed(c.Number, h.Asked):
		t.queued.add(proofOf(h, "no answer while another connection is served"))
	}
}

// slowFirst tells of a device that takes long for the first answer over a connection.
func (j *Judge) slowFirst(t *Talk, name string) (f finding.Finding, ok bool) {
	if len(t.firsts) == 0 || t.Answered < usualAfter+len(t.firsts) {
		return f, false
	}
	usual, slow := t.Percentile(0.5), 0
	for _, d := range t.firsts {
		if d >= slowLeast && d >= slowTimes*usual {
			slow++
		}
	}
	// Other answers that take as long say that it is not the first that does.
	if others := t.slower(slowTimes*usual) - slow; slow*5 < len(t.firsts)*4 || others*2 > slow {
		return f, false
	}
	i := slices.IndexFunc(exchange.Manners, func(m exchange.Told) bool { return m.Is == exchange.SlowFirst })
	told := exchange.Manners[i]
	sure := 0.95
	if slow == 1 {
		sure = 0.6
	}
	f = finding.Finding{Code: told.Code, Severity: finding.Note, Sure: sure, Count: slow, Subject: j.of(t),
		Title: name + " takes long for its first answer over a connection",
		Sentence: fmt.Sprintf("%d of %d first answers took %s or more, and the others usually %s. That is its way, and no fault.",
			slow, len(t.firsts), long(slices.Min(t.firsts)), long(usual)), Remedy: told.Copes}
	if slow == 1 {
		f.Else = "It was busy just then: one connection alone does not tell."
	}
	t.slowly.into(&f)
	j.fixManner(&f, told.Code)
	return f, true
}

// slower counts the answers that took at least so long.
func (t *Talk) slower(than time.Duration) (n int) {
	for i, count := range t.Latency {
		if stepEnd(i) > than {
			n += int(count)
		}
	}
	return n
}

// fewer tells of a device that gives less at once than its protocol allows: whatever is
// refused is longer than whatever is given.
func (j *Judge) fewer(t *Talk, f *finding.Finding, refused []block.Range, name string) {
	areas := map[string]int{}
	for _, r := range refused {
		most := t.longest[r.Area]
		if most == 0 || r.Count <= most {
			return
		}
		areas[r.Area] = most
	}
	if len(areas) != 1 || len(refused) == 0 {
		return
	}
	for area, most := range areas {
		f.Sentence += fmt.Sprintf(" It gives %d at once, and refused whatever asks for more.", most)
		if !t.findsOut(refused) {
			return
		}
		f.Code, f.Severity = "bears-less", finding.Note
		f.Title = name + " gives less at once than the protocol allows"
		f.Remedy = "The asker has found out and asks for less. In Ferry, note it in the limits of the device."
		j.fix(f, t, &finding.Bears{Area: area, Most: most})
	}
}

// holes are the shortest of the ranges that were refused: each of which holds no other.
func holes(refused []block.Range) (list []finding.Hole) {
	for i, r := range refused {
		holds := slices.ContainsFunc(refused, func(o block.Range) bool {
			return o != refused[i] && o.Area == r.Area && o.Start >= r.Start &&
				o.Start+uint32(o.Count) <= r.Start+uint32(r.Count)
		})
		if !holds && len(list) < 16 {
			list = append(list, finding.Hole{Area: r.Area, From: r.Start, Count: uint32(r.Count)})
		}
	}
	return list
}

// fix offers to note what a device bears, where it is one of the plan.
func (j *Judge) fix(f *finding.Finding, t *Talk, bears *finding.Bears) {
	if f.Subject.Kind != "link" {
		return
	}
	f.Fixes = append(f.Fixes, finding.Fix{Title: "Note it in the limits", Cells: []finding.CellFix{},
		Learned: f.Subject.ID, Bears: bears})
}

// fixManner offers to note how a device answers, where it is one of the plan.
func (j *Judge) fixManner(f *finding.Finding, code string) {
	if f.Subject.Kind != "link" {
		return
	}
	f.Fixes = append(f.Fixes, finding.Fix{Title: "Note it in the limits", Cells: []finding.CellFix{},
		Learned: f.Subject.ID, Manner: code})
}
