package datasheet

import (
	"fmt"
	"strings"
	"testing"

	_ "ferry/internal/core/family/blocktcp"
	_ "ferry/internal/core/family/modbus"

	"ferry/internal/core/block"
	"ferry/internal/core/layout"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

var made int

// newID names objects one after the other.
func newID() string {
	made++
	return fmt.Sprintf("new%d", made)
}

func sheet() site.Datasheet {
	point := func(id, name string, offset uint32, useful bool) site.SheetPoint {
		return site.SheetPoint{Point: site.Point{ID: id, Name: name, Address: block.At("hr", offset),
			Type: value.TypeFloat32, Order: "CDAB", PaceMs: 1000, Access: site.ReadOnly}, Useful: useful}
	}
	return site.Datasheet{ID: "optode", Name: "Optode", Map: "modbus-tcp",
		Points: []site.SheetPoint{point("o", "Oxygen", 0, true), point("t", "Temp", 2, true),
			point("c", "Current", 10, false)}}
}

func withProbes(t *testing.T) *site.Site {
	t.Helper()
	s := &site.Site{Format: site.Format, Version: site.Version, Name: "Skerry Point",
		Datasheets: []site.Datasheet{sheet()},
		Devices: []site.Device{{ID: "a", Name: "Probe A", Points: []site.Point{}},
			{ID: "b", Name: "Probe B", Points: []site.Point{}}}}
	for i, pl := range []site.Placement{{Datasheet: "optode"}, {Datasheet: "optode", Prefix: "B-", Shift: 100}} {
		edits, err := Place(s, &s.Devices[i], pl, newID)
		if err != nil {
			t.Fatal(err)
		}
		if s, _, err = s.Apply(edits); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

func printed(d *site.Device) string {
	var parts []string
	for i := range d.Points {
		p := &d.Points[i]
		parts = append(parts, fmt.Sprintf("%s %s %s %d", p.Name, p.Address, p.Order, p.PaceMs))
	}
	return strings.Join(parts, "; ")
}

func TestPlaceAndFollow(t *testing.T) {
	s := withProbes(t)
	if got := printed(&s.Devices[1]); got != "B-Oxygen hr100 CDAB 1000; B-Temp hr102 CDAB 1000" {
		t.Fatalf("placed: %s", got)
	}
	// B departs in the pace of one point.
	p := s.Devices[1].Points[0]
	p.PaceMs = 5000
	s, _, err := s.Apply([]site.Edit{site.Put(site.KindPoint, p.ID, "b", p)})
	if err != nil {
		t.Fatal(err)
	}
	st := Compare(s, &s.Devices[1])[0]
	if st.Points != 1 || len(st.Departures) != 1 || st.Departures[0].Is != "5 s" || st.Departures[0].Should != "1 s" {
		t.Errorf("standing: %+v", st)
	}
	if st := Compare(s, &s.Devices[0])[0]; st.Points != 2 || len(st.Departures) != 0 {
		t.Errorf("A follows, yet %+v", st)
	}

	// The datasheet changes: the order of both, a slower pace, a point less and
	// one more.
	changed := sheet()
	changed.Points[0].Order, changed.Points[0].PaceMs = "", 2000
	changed.Points[2].Useful = true
	changed.Points = append(changed.Points[:1], changed.Points[2])
	after, _, err := s.Apply([]site.Edit{site.Put(site.KindDatasheet, "optode", "", changed)})
	if err != nil {
		t.Fatal(err)
	}
	after, _, err = after.Apply(Follow(s, after, newID))
	if err != nil {
		t.Fatal(err)
	}
	if got := printed(&after.Devices[0]); got != "Oxygen hr0  2000; Current hr10 CDAB 1000" {
		t.Errorf("A follows to %s", got)
	}
	if got := printed(&after.Devices[1]); got != "B-Oxygen hr100  5000; B-Current hr110 CDAB 1000" {
		t.Errorf("B follows to %s", got)
	}
	edits, err := Return(after, &after.Devices[1], after.Devices[1].Placements[0].ID, nil, newID)
	if err != nil || len(edits) != 1 {
		t.Fatal(edits, err)
	}
	if after, _, err = after.Apply(edits); err != nil ||
		printed(&after.Devices[1]) != "B-Oxygen hr100  2000; B-Current hr110 CDAB 1000" {
		t.Errorf("B returns to %s, %v", printed(&after.Devices[1]), err)
	}
}

func TestPlaceRefuses(t *testing.T) {
	s := withProbes(t)
	for name, pl := range map[string]site.Placement{
		"past the table": {Datasheet: "optode", Shift: 65535},
		"below it":       {Datasheet: "optode", Shift: -1},
		"no datasheet":   {Datasheet: "gone"},
		"no structure":   {Structure: "gone", Rule: layout.Words},
	} {
		if _, err := Place(s, &s.Devices[0], pl, newID); err == nil {
			t.Errorf("%s: it is placed", name)
		}
	}
}

func TestStructure(t *testing.T) {
	s := withProbes(t)
	s.Structures = []site.Structure{
		{ID: "pump", Name: "Pump", Members: []site.Member{{Name: "Run", Type: value.TypeBool},
			{Name: "Trip", Type: value.TypeBool}, {Name: "Speed", Type: value.TypeFloat32, Unit: "Hz"}}},
		{ID: "row", Name: "Row", Members: []site.Member{{Name: "Pump", Structure: "pump", Count: 2, First: 1},
			{Name: "Spare", Type: value.TypeUint16, Reserve: true}, {Name: "Level", Type: value.TypeUint8}}},
	}
	edits, err := Place(s, &s.Devices[0],
		site.Placement{Structure: "row", Prefix: "R1.", Area: "hr", Start: 200, Rule: layout.Words, PaceMs: 500,
			Access: site.ReadWrite}, newID)
	if err != nil {
		t.Fatal(err)
	}
	next, _, err := s.Apply(edits)
	if err != nil {
		t.Fatal(err)
	}
	if got := printed(&next.Devices[0]); !strings.HasSuffix(got,
		"R1.Pump[1].Run hr200.8  500; R1.Pump[1].Trip hr200.9  500; R1.Pump[1].Speed hr201  500; R1.Pump[2].Run "+
			"hr203.8  500; R1.Pump[2].Trip hr203.9  500; R1.Pump[2].Speed hr204  500; R1.Level hr207.8  500") {
		t.Errorf("laid out as %s", got)
	}
}
