package bench

import (
	"testing"

	"ferry/internal/core/site"
)

// TestSecondStandIn: a device with two addresses has two stand-ins, each with its own
// faults, of which the second goes with the second address.
func TestSecondStandIn(t *testing.T) {
	s := Demo()
	pump := s.Device("pump1")
	pump.Ports[0].Pair = &site.Redundancy{Host: "192.0.2.42"}
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	b := New()
	defer b.Close()
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	link := s.Link("lss-pump1")
	first, second := b.Dial(s, link), b.Second(s, link)
	if first == second || second == b.darkAt {
		t.Fatalf("the first is at %s, the second at %s", first, second)
	}
	if err := b.SetFault(SecondID("pump1"), Fault{Kind: "silent"}); err != nil {
		t.Fatal(err)
	}
	faults := map[string]string{}
	for _, each := range b.List(s) {
		faults[each.Device] = each.Fault.Kind
	}
	if kind, there := faults[SecondID("pump1")]; !there || kind != "silent" || faults["pump1"] != "" {
		t.Errorf("faults %v", faults)
	}
	pump.Ports[0].Pair = nil
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	if at := b.Second(s, link); at == second {
		t.Error("the second stays though its address is gone")
	}
}
