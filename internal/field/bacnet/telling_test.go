package bacnet

import (
	"testing"
	"time"

	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// TestTelling: only who should have told of a change by all that it told before is said not to tell.
func TestTelling(t *testing.T) {
	const told, read, renewed = 't', 'r', 'n' // what comes: a report, a look, subscriptions that begin anew
	type step struct {
		what byte
		is   float64
	}
	for name, c := range map[string]struct {
		of    family.Type
		steps []step
		want  bool
	}{
		"a switch that was switched":      {family.BinaryInput, []step{{told, 0}, {read, 1}, {read, 1}}, true},
		"seen once, it may be on its way": {family.BinaryInput, []step{{told, 0}, {read, 1}, {told, 1}, {read, 1}}, false},
		"never told":                      {family.MultiInput, []step{{read, 2}, {read, 3}, {read, 3}}, true},
		"below its increment": {family.AnalogInput,
			[]step{{told, 0}, {told, 1}, {told, 2}, {read, 2.9}, {read, 2.9}}, false},
		"above it":                  {family.AnalogInput, []step{{told, 0}, {told, 1}, {read, 2.1}, {read, 2.1}}, true},
		"an increment nobody knows": {family.AnalogInput, []step{{told, 0}, {read, 9}, {read, 9}}, false},
		"it tells now and then as well": {family.AnalogInput,
			[]step{{told, 0}, {told, 1}, {told, 1.1}, {read, 1.4}, {read, 1.4}}, false},
		"what was read is no change that was told": {family.AnalogInput,
			[]step{{read, 0.9}, {told, 1}, {read, 1.2}, {read, 1.2}}, false},
		"with subscriptions that begin anew much is told": {family.AnalogInput,
			[]step{{told, 1}, {renewed, 0}, {told, 1.1}, {read, 1.3}, {read, 1.3}}, false},
	} {
		t.Run(name, func(t *testing.T) {
			list := []sought{{Wanted: protocol.Wanted{ID: "p"}, place: family.Place{Type: c.of, Index: -1}}}
			is := newTelling(list)
			at := time.UnixMilli(1_700_000_000_000)
			is.begun(at)
			untold := ""
			for _, s := range c.steps {
				at = at.Add(10 * time.Second)
				samples := []field.Sampled{{ID: "p", Value: value.OfFloat(s.is)}}
				switch s.what {
				case told:
					is.reported(samples, at)
				case renewed:
					is.begins = true
				case read:
					untold = is.looked(samples)
				}
			}
			if (untold != "") != c.want {
				t.Errorf("untold: %q", untold)
			}
		})
	}
}
