package judge

import (
	"fmt"
	"strings"
	"testing"

	"ferry/internal/core/finding"
)

// TestShared: what many ends do at once is said once, and of what they share.
func TestShared(t *testing.T) {
	for _, c := range []struct{ uneven, of, want int }{{0, 9, 0}, {3, 3, 3}, {4, 9, 4}, {4, 8, 1}, {12, 12, 1},
		{12, 0, 1}} {
		found := []finding.Finding{{Code: "never-run"}}
		for i := range c.uneven {
			found = append(found, finding.Finding{Code: "interval-jitter", Severity: finding.Fault, Count: 2,
				Title: fmt.Sprint("Drive ", i), Subject: finding.Subject{ID: fmt.Sprint(i), Name: fmt.Sprint("Drive ", i)}})
		}
		got := Shared(found, c.of)
		if len(got) != 1+c.want {
			t.Errorf("%d of %d: %d findings", c.uneven, c.of, len(got))
			continue
		}
		last := got[len(got)-1]
		if shared := c.uneven > c.want; shared && (last.Count != 2*c.uneven || last.Severity != finding.Doubt ||
			!strings.Contains(last.Sentence, "what they share")) {
			t.Errorf("%d of %d: %+v", c.uneven, c.of, last)
		}
	}
	// Over several connections of one end.
	one := finding.Finding{Code: "interval-jitter", Title: "LSS controller is uneven", Sentence: "It is late.", Count: 3}
	got := Shared([]finding.Finding{one, {Code: "never-run", Title: one.Title}, one, one}, 3)
	if len(got) != 2 || got[0].Count != 9 || got[0].Sentence != "It is late; and so it is over 3 connections." {
		t.Errorf("%+v", got)
	}
}
