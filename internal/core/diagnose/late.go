package diagnose

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// late reports a device that answers, but after its time limit.
func (recent Evidence) late(link *site.Link, device *site.Device, def *protocol.Def,
	subject finding.Subject) *finding.Finding {
	const key = protocol.KeyWithin
	setting, ok := def.Setting(key)
	limit := def.Int(link.Settings, key)
	worst, count := seen{}, 0
	for _, e := range recent {
		if e.lateMs > 0 {
			count++
			if e.lateMs > worst.lateMs {
				worst = e
			}
		}
	}
	if count == 0 {
		return nil
	}
	f := &finding.Finding{
		Code: "late-answer", Severity: finding.Fault, Sure: 1, Count: count, Subject: subject, Where: "traffic",
		Title: device.Name + " answers too late",
		Sentence: fmt.Sprintf("It answers after up to %.0f ms, and the limit is %d ms. What comes after the limit "+
			"is not taken for an answer.", worst.lateMs, limit),
		Evidence: []string{clock(worst.at) + " " + worst.op + ": an answer came after " + fmt.Sprintf("%.0f ms",
			worst.lateMs)},
		Remedy: "Give it more time, or ask it less: a device that is asked faster than it can think falls behind.",
	}
	will := int(math.Ceil(worst.lateMs*1.5/100)) * 100
	if ok && will > limit && will <= setting.Most {
		f.Fixes = []finding.Fix{{Title: fmt.Sprintf("Give it %d ms", will), Cells: []finding.CellFix{},
			Setting: &finding.SettingFix{Link: link.ID, Key: key, Was: limit, Will: will}}}
	}
	if recent[len(recent)-1].lateMs == 0 && recent[len(recent)-1].outcome == exchange.Answered &&
		recent[len(recent)-1].seq > worst.seq+4 {
		f.Severity = finding.Doubt
	}
	return f
}

// others reports that somebody else asks on the line.
func (recent Evidence) others(s *site.Site, link *site.Link) *finding.Finding {
	line := s.Line(link.Line)
	count, last := 0, seen{}
	for _, e := range recent {
		if e.cause == exchange.Others {
			count++
			last = e
		}
	}
	if count == 0 || line == nil {
		return nil
	}
	return &finding.Finding{
		Code: "unknown-asker", Severity: finding.Fault, Sure: 1, Count: count, Where: "traffic",
		Subject: finding.Subject{Kind: "line", ID: line.ID, Name: line.Name},
		Title:   "Somebody else asks on " + line.Name + " too",
		Sentence: "Frames of another asker were heard. An answer says nothing of whom it is for, so no value read " +
			"there is sure while two ask.",
		Evidence: []string{clock(last.at) + " " + last.op + ": " + cmp.Or(last.doubt, last.sentence)},
		Remedy: "Find out who else asks (a panel, a second controller, a laptop), and stop it or Ferry. A serial " +
			"line has one asker.",
	}
}

// Join puts findings in their order, the worst first; those of the same subject
// that several links showed become one.
func Join(found []finding.Finding) []finding.Finding {
	finding.Sort(found)
	at := map[string]int{}
	joined := found[:0]
	for _, f := range found {
		if i, twice := at[f.Key()]; twice && f.Subject.Kind == "line" {
			joined[i].Count += f.Count
			continue
		}
		at[f.Key()] = len(joined)
		joined = append(joined, f)
	}
	return joined
}

// explains are codes that say more of a link than others do, which are left out then.
var explains = map[string][]string{"cyclic-timeout": {"gone-quiet"}, "multicast-lost": {"gone-quiet"},
	"silent-subscription": {"gone-quiet"}}

// Explained leaves out what another finding of the same link says better.
func Explained(found []finding.Finding) []finding.Finding {
	less := map[string]bool{}
	for i := range found {
		for _, code := range explains[found[i].Code] {
			less[code+" "+found[i].Subject.ID] = true
		}
	}
	if len(less) == 0 {
		return found
	}
	return slices.DeleteFunc(found, func(f finding.Finding) bool { return less[f.Code+" "+f.Subject.ID] })
}
