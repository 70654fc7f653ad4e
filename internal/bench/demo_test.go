package bench_test

import (
	_ "ferry/internal/families"
	"testing"

	"ferry/internal/bench"
	family "ferry/internal/core/family/modbus"

	"ferry/internal/core/site"
)

// TestDemo: every entry of every model reads, and the demo site is one that
// can be kept.
func TestDemo(t *testing.T) {
	if err := bench.Demo().Validate(); err != nil {
		t.Fatal(err)
	}
	bench.EachEntry(family.Scheme, func(model, at string, moves bool, p site.Point) {
		if p.Address.String() != at {
			t.Errorf("%s %s: address %q reads as %q", model, p.Name, at, p.Address)
		}
		if _, err := p.Codec(16); err != nil {
			t.Errorf("%s %s: %v", model, p.Name, err)
		}
		if p.Access != site.ReadOnly && moves {
			t.Errorf("%s %s moves by itself and can be written", model, p.Name)
		}
	})
}
