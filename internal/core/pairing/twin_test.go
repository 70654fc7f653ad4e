package pairing

import (
	"fmt"
	"strings"
	"testing"

	"ferry/internal/core/site"
)

// TestPlanTwin: both sites take what is planned for them, each name goes the way it
// should on both sides, and lies apart from its neighbours.
func TestPlanTwin(t *testing.T) {
	here, there := hatchery(), hatchery()
	for s, name := range map[*site.Site]string{here: "Tank hall", there: "Pump house"} {
		s.Name, s.Crossings = name, []site.Crossing{}
		s.Lines = []site.Line{{ID: "net", Name: "Plant net", Medium: site.Ethernet}}
		s.Devices[0].Ports = []site.Port{{Line: "net", Host: "192.0.2.11"}}
	}
	n := 0
	newID := func() string { n++; return fmt.Sprint("new", n) }
	order := &Twin{Name: "Shared", Protocol: "modbus-tcp", Line: "net", Asking: "p11", FarLine: "net", Host: "192.0.2.90",
		Port: 1502, Start: site.ThereWins, Ties: site.WhoLater}
	sh, err := Twins(here, there, order.Protocol)
	if err != nil {
		t.Fatal(err)
	}
	proposal := sh.ByTable([][]string{{"Shore gateway.Oxygen_12", "DO probe 12.Oxygen", "", "here"},
		{"DO probe 11.AlarmSetpoint", "DO probe 11.AlarmSetpoint"}, {"DO probe 11.Fault", "Shore gateway.Fault-12", "",
			"there"}},
		newID)
	if len(proposal.Pairs) != 3 {
		t.Fatalf("%+v", proposal)
	}
	plan, err := PlanTwin(here, there, order, proposal.Pairs, newID)
	if err != nil {
		t.Fatal(err)
	}
	far, _, err := there.Apply(plan.There)
	if err != nil {
		t.Fatal(err)
	}
	near, _, err := here.Apply(plan.Here)
	if err != nil {
		t.Fatal(err)
	}
	served, copied := far.Devices[len(far.Devices)-1], near.Devices[len(near.Devices)-1]
	for i, p := range served.Points {
		q := copied.Points[i]
		if p.Address != q.Address || p.Type != q.Type || p.Unit != q.Unit || p.Access != q.Access {
			t.Errorf("there it is %+v, and here %+v", p, q)
		}
	}
	for i, want := range []struct{ address, there, here string }{
		{"40001", "p12o> " + string(site.OneWay), ">g2 "}, {"40005", "p11s> later", "p11s> source"},
		{"00001", ">g5 ", "p11f> "}} {
		says := func(x site.Crossing, own map[string]bool) string {
			from, to := x.From, x.To
			if own[from] {
				from = ""
			}
			if own[to] {
				to = ""
			}
			return from + ">" + to + " " + string(x.Both)
		}
		if got := says(far.Crossings[i], pointIDs(&served)); got != want.there {
			t.Errorf("name %d there: %s, want %s", i, got, want.there)
		}
		if got := says(near.Crossings[i], pointIDs(&copied)); got != want.here || near.Crossings[i].List != plan.List {
			t.Errorf("name %d here: %s, want %s", i, got, want.here)
		}
		scheme, _ := served.SchemeOf(&site.Point{})
		if got := scheme.Short(served.Points[i].Address); got != want.address {
			t.Errorf("name %d lies at %s, want %s", i, got, want.address)
		}
	}
	if plan.Plant != 1 || far.Crossings[2].Start != site.WaitForGood || !served.Served() || copied.Served() {
		t.Errorf("%d write into its plant; %+v", plan.Plant, far.Crossings)
	}
	proposal.Pairs[0].Goes = ToThere
	if _, err := PlanTwin(here, there, order, proposal.Pairs, newID); err == nil || !strings.Contains(err.Error(),
		"may only be read") {
		t.Errorf("into what may only be read: %v", err)
	}
	order.FarLine = "nowhere"
	if _, err := PlanTwin(here, there, order, proposal.Pairs[1:], newID); err == nil ||
		!strings.Contains(err.Error(), "the other would not take it") {
		t.Errorf("on a line that is not there: %v", err)
	}
}

// TestTakenAlone: a point of the other that has no counterpart here is served there, and
// is one of the device that the other is here; no list is made of such points alone.
func TestTakenAlone(t *testing.T) {
	here, there := hatchery(), hatchery()
	for _, s := range []*site.Site{here, there} {
		s.Name = "Skerry Point Hatchery"
		s.Crossings, s.Lines = []site.Crossing{}, []site.Line{{ID: "net", Name: "Plant net", Medium: site.Ethernet}}
		s.Devices[0].Ports = []site.Port{{Line: "net", Host: "192.0.2.11"}}
	}
	n := 0
	newID := func() string { n++; return fmt.Sprint("new", n) }
	order := &Twin{Name: "Shared", Protocol: "modbus-tcp", Line: "net", Asking: "p11", FarLine: "net", Host: "192.0.2.90",
		Port: 1502}
	sh, err := Twins(here, there, order.Protocol)
	if err != nil {
		t.Fatal(err)
	}
	all, probes := sh.Alone(""), sh.Alone("probe 12 oxygen")
	if len(all.Pairs) <= len(probes.Pairs) || len(probes.Pairs) == 0 || probes.Pairs[0].ToName != "DO probe 12 · Oxygen" {
		t.Fatalf("%+v of %d", probes.Pairs, len(all.Pairs))
	}
	table := sh.ByTable([][]string{{"", "DO probe 12.Oxygen"}, {"", "no such point"}}, newID)
	if len(table.Pairs) != 1 || table.Pairs[0].From != "" || len(table.Refused) != 1 {
		t.Errorf("by a table: %+v", table)
	}
	plan, err := PlanTwin(here, there, order, probes.Pairs[:1], newID)
	if err != nil {
		t.Fatal(err)
	}
	far, _, err := there.Apply(plan.There)
	if err != nil {
		t.Fatal(err)
	}
	near, _, err := here.Apply(plan.Here)
	if err != nil {
		t.Fatal(err)
	}
	if d := near.Device(plan.Far); len(d.Points) != 1 || d.Points[0].Access != site.ReadOnly || len(near.Lists) != 0 ||
		len(near.Crossings) != 0 || len(far.Crossings) != 1 {
		t.Errorf("here %+v, there %+v", d.Points, far.Crossings)
	}
}

func pointIDs(d *site.Device) map[string]bool {
	ids := map[string]bool{}
	for _, p := range d.Points {
		ids[p.ID] = true
	}
	return ids
}
