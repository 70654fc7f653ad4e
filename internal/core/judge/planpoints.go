package judge

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
)

// points compares how often the points of a link are asked for with their pace.
func (p *plan) points(j *Judge, pl planned, talks []*Talk) (found []finding.Finding) {
	def, _ := protocol.Named(pl.link.Protocol)
	if _, ranged := def.Ranges(); !ranged {
		return nil // what is asked for by its name, or told, is not told apart here
	}
	whole := j.last.Sub(j.first)
	never, slow, paced := 0, 0, 0
	var firstNever, worst string
	var worstOff float64
	for i := range pl.device.Points {
		point := &pl.device.Points[i]
		pace := time.Duration(point.PaceMs) * time.Millisecond
		if pace <= 0 || whole < 5*pace {
			continue
		}
		paced++
		at := block.Of(point.Address)
		best := time.Duration(0)
		for _, t := range talks {
			for _, r := range t.Requests {
				if r.Write || at.Area != r.Range.Area || at.Offset < r.Range.Start ||
					at.Offset >= r.Range.Start+uint32(r.Range.Count) {
					continue
				}
				every := whole
				if r.Count > 1 {
					every = r.Every()
				}
				if best == 0 || every < best {
					best = max(every, 1)
				}
			}
		}
		switch {
		case best == 0:
			if never++; never == 1 {
				firstNever = point.Name
			}
		case best > pace*3/2:
			slow++
			if off := float64(best) / float64(pace); off > worstOff {
				worstOff, worst = off, fmt.Sprintf("%s every %s instead of every %s", point.Name, long(best), long(pace))
			}
		}
	}
	subject := finding.Subject{Kind: "link", ID: pl.link.ID, Device: pl.device.ID, Name: pl.device.Name}
	if never > 0 {
		found = append(found, finding.Finding{Code: "missing-request", Severity: finding.Doubt, Sure: 0.9, Count: never,
			Subject: subject, Title: fmt.Sprintf("%d points of %s are never asked for", never, pl.device.Name),
			Sentence: fmt.Sprintf("In %s nobody asked for %d of its %d points: %s and others.", long(whole), never, paced,
				firstNever),
			Remedy: "Compare the polling list of the asking end with the map."})
	}
	if slow > 0 {
		found = append(found, finding.Finding{Code: "pace-not-held", Severity: finding.Doubt, Sure: 0.9, Count: slow,
			Subject: subject, Title: pl.device.Name + " is asked more slowly than planned",
			Sentence: fmt.Sprintf("%d of its %d points are asked for more slowly than their pace: %s.", slow, paced, worst),
			Remedy:   "Compare the pace set at the asking end, and look for time limits that run out before these questions."})
	}
	return found
}

// absent reports points of the map that the device refuses, and never gave.
func (p *plan) absent(pl planned, talks []*Talk) []finding.Finding {
	def, ok := protocol.Named(pl.link.Protocol)
	ranges, can := def.Ranges()
	if !ok || !can {
		return nil
	}
	var names []string
	var ps proofs
	for i := range pl.device.Points {
		point := &pl.device.Points[i]
		place := point.Place()
		area, ok := block.AreaOf(def.Scheme, place.Area)
		if !ok {
			continue
		}
		from, to := place.Offset, place.Offset+uint32(max(point.Units(area.UnitBits), 1))
		refused, given := 0, false
		for _, t := range talks {
			given = given || t.taken[place.Area].overlaps(from, to)
			for code, list := range t.refused {
				if !ranges.Absent(code) {
					continue
				}
				for _, r := range list {
					q := t.Requests[RequestKey{Range: r}]
					if r.Area == place.Area && r.Start < to && from < r.Start+uint32(r.Count) && q != nil {
						refused += q.Count - q.Answered
						if n := (proof{at: q.First, packets: [2]int64{q.FirstIn}}); !slices.Contains(ps.kept, n) {
							ps.kept = append(ps.kept, n)
						}
					}
				}
			}
		}
		if refused >= absentLeast && !given {
			names = append(names, point.Name)
		}
	}
	if len(names) == 0 {
		return nil
	}
	ps.n = len(names)
	ps.kept = ps.kept[:min(len(ps.kept), mostProofs)]
	f := finding.Finding{Code: "map-differs", Severity: finding.Fault, Sure: 0.9, Count: len(names),
		Subject: finding.Subject{Kind: "link", ID: pl.link.ID, Device: pl.device.ID, Name: pl.device.Name},
		Title:   fmt.Sprintf("%s has not got all of its map", pl.device.Name),
		Sentence: fmt.Sprintf("It refuses what %d of its %d points are read by, and never gave them: %s.", len(names),
			len(pl.device.Points), few(names)),
		Remedy: "Compare the map with the manual of this model and version, and with its options."}
	ps.into(&f)
	return []finding.Finding{f}
}

// few names the first of a list, and how many more there are.
func few(names []string) string {
	if len(names) <= 4 {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:4], ", "), len(names)-4)
}

// absentLeast is how often a point is refused until it counts as absent.
const absentLeast = 3
