package bench

import (
	_ "ferry/internal/families"
	"testing"

	"ferry/internal/core/site"
)

// TestDemo: every entry of every model reads, and the demo site is one that
// can be kept.
func TestDemo(t *testing.T) {
	if err := Demo().Validate(); err != nil {
		t.Fatal(err)
	}
	for name, m := range models {
		for _, e := range m.entries {
			p := e.point()
			if p.Address.String() != e.at {
				t.Errorf("%s %s: address %q reads as %q", name, e.name, e.at, p.Address)
			}
			if _, err := p.Codec(16); err != nil {
				t.Errorf("%s %s: %v", name, e.name, err)
			}
			if p.Access != site.ReadOnly && e.move != nil {
				t.Errorf("%s %s moves by itself and can be written", name, e.name)
			}
		}
	}
}
