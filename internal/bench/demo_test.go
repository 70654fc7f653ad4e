package bench_test

import (
	"testing"

	_ "ferry/internal/families"

	"ferry/internal/bench"
	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/datasheet"
	"ferry/internal/core/family/blocktcp"
	family "ferry/internal/core/family/modbus"

	"ferry/internal/core/site"
)

// TestDemo: every entry of every model reads, and the demo site is one that
// can be kept.
func TestDemo(t *testing.T) {
	if err := bench.Demo().Validate(); err != nil {
		t.Fatal(err)
	}
	for _, scheme := range []address.Scheme{family.Scheme, blocktcp.Scheme} {
		entries(t, scheme)
	}
	s := bench.Demo()
	for i := range s.Devices {
		d := &s.Devices[i]
		for k := range d.Placements {
			placed(t, s, d, &d.Placements[k])
		}
	}
}

// placed: the points of a structure lie where its layout puts them.
func placed(t *testing.T, s *site.Site, d *site.Device, pl *site.Placement) {
	expected, err := datasheet.Expected(s, d, pl)
	if err != nil || len(expected) == 0 {
		t.Fatalf("%s, %s: %d points, %v", d.Name, pl.ID, len(expected), err)
	}
	own := map[string]*site.Point{}
	for i := range d.Points {
		own[d.Points[i].Name] = &d.Points[i]
	}
	for i := range expected {
		want := &expected[i]
		if p := own[want.Name]; p == nil || p.Address != want.Address || p.Type != want.Type || p.From == nil ||
			*p.From != *want.From {
			t.Errorf("%s: %s should be %s at %s, and is %+v", d.Name, want.Name, want.Type, want.Address, p)
		}
	}
}

func entries(t *testing.T, scheme address.Scheme) {
	bench.EachEntry(scheme, func(model, at string, moves bool, p site.Point) {
		if p.Address.String() != at {
			t.Errorf("%s %s: address %q reads as %q", model, p.Name, at, p.Address)
		}
		if _, err := p.Codec(block.UnitBits(scheme, p.Address)); err != nil {
			t.Errorf("%s %s: %v", model, p.Name, err)
		}
		if p.Access != site.ReadOnly && moves {
			t.Errorf("%s %s moves by itself and can be written", model, p.Name)
		}
	})
}
