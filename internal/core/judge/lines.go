package judge

import (
	"fmt"
	"slices"

	"ferry/internal/core/finding"
)

// silentLines puts the silence of all who are asked on a serial line into one finding of
// the line.
func (j *Judge) silentLines(found []finding.Finding) []finding.Finding {
	lines := map[string][]*Talk{}
	for _, t := range j.Sorted() {
		if t.Key.Line != "" {
			lines[t.Key.Line] = append(lines[t.Key.Line], t)
		}
	}
	for _, line := range sorted(lines, func(l string) string { return l }) {
		talks, asked := lines[line], 0
		subjects := map[finding.Subject]bool{}
		ps := proofs{}
		spoke := slices.ContainsFunc(talks, func(t *Talk) bool {
			asked += t.Asked
			subjects[j.of(t)] = true
			for _, p := range t.none.kept {
				ps.add(p)
			}
			return t.Answered+t.Declined+t.Garbled+t.Broken > 0
		})
		if spoke || len(talks) < 2 || asked < 2*len(talks) {
			continue
		}
		ps.n = asked
		f := finding.Finding{Code: "line-silent", Severity: finding.Fault, Sure: 0.9, Count: asked,
			Subject:  finding.Subject{Kind: "address", ID: line, Name: line},
			Title:    "Nothing at all comes back on " + line,
			Sentence: fmt.Sprintf("%d devices were asked %d times, and not one octet came.", len(talks), asked),
			Remedy: "Look at the cable between the adapter and the first device, at its two wires (are they crossed?), and at " +
				"the power of the line.",
			Else: "It was recorded where answers are not heard."}
		if j.plan != nil {
			for i := range j.plan.site.Lines {
				if l := &j.plan.site.Lines[i]; l.Name == line {
					f.Subject = finding.Subject{Kind: "line", ID: l.ID, Name: l.Name}
				}
			}
		}
		ps.into(&f)
		found = slices.DeleteFunc(found, func(f finding.Finding) bool { return f.Code == "no-answer" && subjects[f.Subject] })
		found = append(found, f)
	}
	return found
}
