package judge

import (
	"fmt"
	"strings"

	"ferry/internal/core/finding"
)

// sharedLeast is from how many ends on one thing at once has a cause that they share.
const sharedLeast = 4

// Shared makes one finding of packets that one end sends unevenly over several connections,
// and one of those that come so from many ends at once: at least half of those that send in
// cycles. What they share is at fault then: the switch, or the machine that takes them in.
// of is how many ends send.
func Shared(found []finding.Finding, of int) []finding.Finding {
	const code = "interval-jitter"
	found = ofOne(found, code)
	subjects := map[string]bool{}
	var names []string
	for i := range found {
		if f := &found[i]; f.Code == code && !subjects[f.Subject.ID] {
			subjects[f.Subject.ID] = true
			names = append(names, f.Subject.Name)
		}
	}
	n := len(subjects)
	if n < sharedLeast || 2*n < of {
		return found
	}
	one := finding.Finding{Code: code, Severity: finding.Doubt, Sure: 0.8,
		Title: "Packets come unevenly from many ends at once",
		Sentence: fmt.Sprintf("%d of %d ends that send in cycles do not keep their intervals at the same time: the cause is what they share, "+
			"rather than each of them.", n, max(n, of)),
		Evidence: []string{"uneven: " + strings.Join(names[:min(n, 10)], ", ")},
		Remedy: "Look at the load of this machine, or of that which recorded, then at the switch and the cable that all of them " +
			"come through.",
		Else: "Each of them is overloaded."}
	rest := make([]finding.Finding, 0, len(found))
	for _, f := range found {
		if f.Code != code {
			rest = append(rest, f)
			continue
		}
		if one.Count == 0 {
			one.Subject, one.Where, one.Packets = f.Subject, f.Where, f.Packets
			one.Evidence = append(one.Evidence, f.Evidence...)
		}
		one.Count += f.Count
	}
	return append(rest, one)
}

// ofOne makes one of the findings with a code that have the same title: they are of one end.
func ofOne(found []finding.Finding, code string) []finding.Finding {
	first, times := map[string]int{}, map[string]int{}
	rest := make([]finding.Finding, 0, len(found))
	for _, f := range found {
		at, known := first[f.Title]
		if f.Code != code || !known {
			if f.Code == code {
				first[f.Title], times[f.Title] = len(rest), 1
			}
			rest = append(rest, f)
			continue
		}
		times[f.Title]++
		rest[at].Count += f.Count
	}
	for title, n := range times {
		if n > 1 {
			f := &rest[first[title]]
			f.Sentence = strings.TrimSuffix(f.Sentence, ".") + fmt.Sprintf("; and so it is over %d connections.", n)
		}
	}
	return rest
}
