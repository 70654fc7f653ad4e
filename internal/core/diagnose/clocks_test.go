package diagnose

import (
	"strings"
	"testing"
	"time"

	"ferry/internal/core/site"
)

// TestClocks: a distance that stays is that of a clock, one that grows the age of a value,
// and a small one nothing.
func TestClocks(t *testing.T) {
	d := &site.Device{ID: "node", Name: "Night watch"}
	for name, c := range map[string]struct {
		ahead []time.Duration
		says  string
	}{
		"ahead":           {[]time.Duration{2 * time.Hour, 2*time.Hour + time.Second, 2 * time.Hour}, "2h0m0s ahead of"},
		"behind":          {[]time.Duration{-time.Hour, -time.Hour, -time.Hour}, "1h0m0s behind"},
		"too few":         {[]time.Duration{time.Hour, time.Hour}, ""},
		"an old value":    {[]time.Duration{-3 * time.Minute, -4 * time.Minute, -5 * time.Minute, -6 * time.Minute}, ""},
		"close":           {[]time.Duration{time.Minute, time.Minute, time.Minute, time.Minute}, ""},
		"set meanwhile":   {[]time.Duration{time.Hour, time.Hour, time.Hour, 0}, ""},
		"apart once more": {[]time.Duration{time.Hour, 0, time.Hour, time.Hour}, ""},
	} {
		h := Habit{}
		for _, by := range c.ahead {
			h.Clock(by)
		}
		found := Clocks(d, []Habit{{}, h})
		if (c.says == "") != (len(found) == 0) || len(found) > 0 && !strings.Contains(found[0].Sentence, c.says) {
			t.Errorf("%s: %+v", name, found)
		}
	}
}
