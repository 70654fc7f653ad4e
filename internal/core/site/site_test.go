package site

import (
	"encoding/json"
	"errors"
	"reflect"
	"strings"
	"testing"

	"ferry/internal/core/address"
	"ferry/internal/core/problem"
)

// tank is a small site with one of everything.
func tank() *Site {
	port := func(host, protocol string) []Port { return []Port{{Line: "net", Host: host, Protocol: protocol}} }
	return &Site{Format: Format, Version: Version, Name: "Tank row A",
		Lines: []Line{{ID: "net", Name: "Plant net", Medium: "ethernet", Network: "192.0.2.0/24"}},
		Devices: []Device{
			{ID: "lss", Name: "LSS controller", Ports: port("192.0.2.10", ""), Points: []Point{}},
			{ID: "do11", Name: "DO probe 11", Ports: port("192.0.2.21", "modbus-tcp"), Map: "modbus-tcp", Points: []Point{
				{ID: "o", Name: "Oxygen", Address: address.At("hr", 0), Type: "float32", PaceMs: 1000, Access: ReadOnly},
				{ID: "t", Name: "Temp", Address: address.At("hr", 2), Type: "float32", PaceMs: 1000, Access: ReadOnly}}},
			{ID: "gate", Name: "Shore gateway", Ports: port("192.0.2.50", "modbus-tcp"), Map: "modbus-tcp", Points: []Point{
				{ID: "g", Name: "Oxygen-11", Address: address.At("hr", 100), Type: "int16", PaceMs: 1000, Access: ReadWrite}}},
		},
		Links:     []Link{{ID: "k1", Asking: "lss", Answering: "do11", Line: "net", Protocol: "modbus-tcp"}, {ID: "k2", Asking: "lss", Answering: "gate", Line: "net", Protocol: "modbus-tcp"}},
		Crossings: []Crossing{{ID: "x", From: "o", To: "g"}},
	}
}

func edits(kind Kind, id, parent, after string) []Edit {
	return []Edit{{Kind: kind, ID: id, Parent: parent, After: json.RawMessage(after)}}
}

// TestApplyAndInvert: every step leaves the old site as it was, and taking it
// back gives that site again, order included.
func TestApplyAndInvert(t *testing.T) {
	for _, c := range []struct {
		name  string
		edits []Edit
		want  string // the kinds changed
	}{
		{"add a line", edits(KindLine, "n2", "", `{"id":"n2","name":"Pump bay","medium":"ethernet"}`), "line"},
		{"rename a device", edits(KindDevice, "do11", "", `{"id":"do11","name":"DO probe 12","map":"modbus-tcp","ports":[{"line":"net","host":"192.0.2.21","protocol":"modbus-tcp"}],"points":null}`), "device"},
		{"the same again", edits(KindPoint, "o", "do11", `{"id":"o","name":"Oxygen","address":"hr0","type":"float32","paceMs":1000,"access":"r"}`), ""},
		{"change a point", edits(KindPoint, "o", "do11", `{"id":"o","name":"O2","address":"hr8","type":"float32","paceMs":1000,"access":"r"}`), "point"},
		{"remove a point", edits(KindPoint, "o", "do11", `null`), "crossing point"},
		{"remove a device", edits(KindDevice, "do11", "", `null`), "link point crossing point device"},
		{"remove a line", edits(KindLine, "net", "", `null`), "link link device device device line"},
		{"name the site", edits(KindSite, "", "", `{"name":"Skerry Point"}`), "site"},
		{"remove a crossing", edits(KindCrossing, "x", "", `null`), "crossing"},
	} {
		t.Run(c.name, func(t *testing.T) {
			before := tank()
			next, changes, err := before.Apply(c.edits)
			if err != nil {
				t.Fatal(err)
			}
			if !reflect.DeepEqual(before, tank()) {
				t.Error("the old site was changed")
			}
			var kinds []string
			for _, change := range changes {
				kinds = append(kinds, string(change.Kind))
			}
			if got := strings.Join(kinds, " "); got != c.want {
				t.Errorf("changed %s, want %s", got, c.want)
			}
			back, _, err := next.Apply(Invert(changes))
			if err != nil {
				t.Fatal(err)
			}
			a, _ := json.Marshal(back)
			b, _ := json.Marshal(before)
			if string(a) != string(b) {
				t.Errorf("taken back it is\n%s, and was\n%s", a, b)
			}
		})
	}
}

func TestApplyRefuses(t *testing.T) {
	for _, c := range []struct {
		name, code, where string
		edits             []Edit
	}{
		{"a name twice", "invalid", `device "LSS controller"`, edits(KindDevice, "do11", "", `{"name":"LSS controller","ports":[],"points":null}`)},
		{"no name", "invalid", "line", edits(KindLine, "net", "", `{"name":" ","medium":"ethernet"}`)},
		{"a bad network", "invalid", "line", edits(KindLine, "net", "", `{"name":"n","medium":"ethernet","network":"192.0.2.0"}`)},
		{"a setting out of range", "invalid", "link", edits(KindLink, "k1", "", `{"asking":"lss","answering":"do11","line":"net","protocol":"modbus-tcp","settings":{"unit":300}}`)},
		{"an unknown field", "invalid", "line net", edits(KindLine, "net", "", `{"name":"n","medium":"ethernet","colour":"red"}`)},
		{"a device that asks itself", "invalid", "link", edits(KindLink, "k1", "", `{"asking":"lss","answering":"lss","line":"net","protocol":"modbus-tcp"}`)},
		{"a crossing from nowhere", "invalid", "crossing", edits(KindCrossing, "x", "", `{"from":"nowhere","to":"g"}`)},
		{"an address past the table", "invalid", "Oxygen", edits(KindPoint, "o", "do11", `{"name":"Oxygen","address":"hr65535","type":"float32","paceMs":1000,"access":"r"}`)},
		{"what is gone", "gone", "zz", edits(KindLink, "zz", "", `null`)},
	} {
		t.Run(c.name, func(t *testing.T) {
			next, _, err := tank().Apply(c.edits)
			var p *problem.Problem
			if next != nil || !errors.As(err, &p) || p.Code != c.code || !strings.Contains(p.Where, c.where) {
				t.Errorf("got %+v", err)
			}
		})
	}
}

func TestDiff(t *testing.T) {
	from, to := tank(), tank()
	to.Name = "Skerry Point"
	to.Lines = append(to.Lines, Line{ID: "n2", Name: "Pump bay", Medium: "ethernet"})
	to.Devices = append(to.Devices[:1:1], to.Devices[2:]...) // DO probe 11 is gone, and what hung on it
	to.Links, to.Crossings = to.Links[1:], []Crossing{}
	for _, pair := range [][2]*Site{{from, to}, {to, from}, {from, from}} {
		got, _, err := pair[0].Apply(Diff(pair[0], pair[1]))
		if err != nil {
			t.Fatal(err)
		}
		// The order of what both have is that of the old site.
		if len(got.Devices) != len(pair[1].Devices) || len(got.Links) != len(pair[1].Links) || len(Diff(got, pair[1])) == 0 {
			t.Errorf("got %+v", got)
		}
		if _, changes, err := got.Apply(Diff(got, pair[1])); err != nil || len(changes) != 0 {
			t.Errorf("a second time there are still changes: %+v, %v", changes, err)
		}
	}
}
