package checkout

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	_ "ferry/internal/core/family/enip"
	_ "ferry/internal/core/family/modbus"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

func row() *site.Site {
	point := func(id, name string, at uint32, kind value.Type) site.Point {
		return site.Point{ID: id, Name: name, Address: block.At("hr", at), Type: kind, Unit: "°C", PaceMs: 1000,
			Access: site.ReadOnly}
	}
	port := func(host string, unit int) []site.Port {
		return []site.Port{{Line: "net", Host: host, Protocol: "modbus-tcp",
			Settings: protocol.Numbers(map[string]int{"unit": unit})}}
	}
	return &site.Site{Name: "Skerry Point Hatchery",
		Lines: []site.Line{{ID: "net", Name: "Plant net", Medium: site.Ethernet}}, Devices: []site.Device{
			{ID: "lss", Name: "LSS controller", Ports: []site.Port{{Line: "net", Host: "192.0.2.10"}}},
			{ID: "do14", Name: "DO probe 14", Cabinet: "K2", Map: "modbus-tcp", Ports: port("192.0.2.24", 1),
				Points: []site.Point{point("t", "WaterTemp", 2, "float32"), point("o", "Oxygen", 0, "float32")}},
			{ID: "gate", Name: "Shore gateway", Cabinet: "K10", Map: "modbus-tcp", Ports: port("192.0.2.50", 1),
				Points: []site.Point{point("g", "Temp-14", 40, "float32"), point("h", "Temp-15", 42, "float32")}},
			{ID: "ph", Name: "pH 21", Map: "modbus-tcp", Ports: port("192.0.2.51", 1),
				Points: []site.Point{point("p", "pH", 0, "uint16")}}},
		Links: []site.Link{{ID: "l14", Asking: "lss", Answering: "do14", Line: "net", Protocol: "modbus-tcp"},
			{ID: "lg", Asking: "lss", Answering: "gate", Line: "net", Protocol: "modbus-tcp"}},
		Crossings: []site.Crossing{{ID: "x", From: "t", To: "g"}}}
}

// TestHolds: a change that touches a proof has it made again, with what changed; one that
// does not leaves it.
func TestHolds(t *testing.T) {
	low := 1.0
	for _, c := range []struct {
		name   string
		change func(s *site.Site)
		again  string   // what changed of WaterTemp; empty where its proof holds
		others []string // further points of which a proof holds no more
	}{
		{"nothing", func(*site.Site) {}, "", nil},
		{"the name", func(s *site.Site) { s.Devices[1].Points[0].Name = "Temperature" }, "", nil},
		{"pace, limits and remark", func(s *site.Site) {
			p := &s.Devices[1].Points[0]
			p.PaceMs, p.Low, p.Remark, p.ChangeMs = 200, &low, "upper", 400
		}, "", nil},
		{"other names", func(s *site.Site) {
			s.Devices[0].Name, s.Devices[1].Name, s.Devices[2].Name, s.Lines[0].Name = "L", "D", "G", "N"
		}, "", nil},
		{"the scale", func(s *site.Site) { s.Devices[1].Points[0].Factor = 0.1 }, "scale was none, is ÷ 10", []string{"g"}},
		{"the address", func(s *site.Site) { s.Devices[1].Points[0].Address = block.At("hr", 4) },
			"address was 40003, is 40005", []string{"g"}},
		{"a neighbour", func(s *site.Site) { s.Devices[1].Points[1].Type = "uint32" }, "", []string{"o"}},
		{"the unit number", func(s *site.Site) { s.Links[0].Settings = protocol.Numbers(map[string]int{"unit": 7}) },
			"link: unit was 1, is 7", []string{"o"}},
		{"the host", func(s *site.Site) { s.Devices[1].Ports[0].Host = "192.0.2.25" },
			"link: address was 192.0.2.24, is 192.0.2.25", []string{"o"}},
		{"how long it waits", func(s *site.Site) { s.Links[0].Settings = protocol.Numbers(map[string]int{"timeoutMs": 900}) },
			"", nil},
		{"the crossing", func(s *site.Site) { s.Crossings[0].Factor = 10 },
			"crossing to Shore gateway · Temp-14: way was as it is, is × 10", []string{"g"}},
		{"when it is written", func(s *site.Site) { s.Crossings[0].Off = true },
			"crossing to Shore gateway · Temp-14: switched was on, is off", []string{"g"}},
		{"its target", func(s *site.Site) { s.Crossings[0].To = "h" },
			"the crossing to Shore gateway · Temp-14 is gone; there is a crossing to Shore gateway · Temp-15",
			[]string{"g", "h"}},
		{"the map of the target", func(s *site.Site) { s.Devices[2].Points[0].Address = block.At("hr", 44) },
			"crossing to Shore gateway · Temp-14: address was 40041, is 40045", []string{"g"}},
		{"the point is removed", func(s *site.Site) { s.Devices[1].Points = s.Devices[1].Points[1:] },
			"address was 40003, is none", []string{"g"}},
	} {
		before, after := On(row()), row()
		c.change(after)
		now := On(after)
		var others []string
		for _, id := range []string{"t", "o", "g", "h", "p"} {
			p := &Proved{Point: id, Result: Right, Basis: before.Basis(id)}
			data, err := json.Marshal(p) // as it comes out of the store
			if err == nil {
				p = &Proved{}
				err = json.Unmarshal(data, p)
			}
			if err != nil {
				t.Fatal(err)
			}
			state, changed := now.Stands(p)
			switch {
			case id != "t" && state == Again:
				others = append(others, id)
			case id == "t" && (state == Again) != (c.again != ""), id == "t" && !strings.HasPrefix(strings.Join(changed, "; "),
				c.again):
				t.Errorf("%s: %s, %q", c.name, state, changed)
			}
		}
		if !slices.Equal(others, c.others) {
			t.Errorf("%s: to be proved again are %v, want %v", c.name, others, c.others)
		}
	}
}

// TestJudge: a display shows so many digits, and a point moves by so much.
func TestJudge(t *testing.T) {
	temp := &site.Point{Type: "float32", Unit: "°C"}
	pump := &site.Point{Type: "int16", Factor: 0.1, Unit: "rpm"}
	state := &site.Point{Type: "bool"}
	mode := &site.Point{Type: "uint16", Names: []site.Naming{{Value: 2, Name: "auto"}, {Value: 3, Name: "hand"}}}
	label := &site.Point{Type: "text", Length: 8}
	f, n := value.OfFloat, value.OfInt
	for _, c := range []struct {
		point  *site.Point
		read   value.Value
		typed  string
		agrees bool
		within float64
		says   string
	}{
		{temp, f(12.69), "12.7", true, 0.05, "half of its last digit"},
		{temp, f(12.64), "12.7", false, 0.05, ""},
		{temp, f(12.69), "12,7 °C", true, 0.05, ""},
		{temp, f(12.69), "13", true, 0.5, ""},
		{temp, f(1269), "1.27e3", true, 5, ""},
		{temp, f(float64(float32(16777217))), "16777216", true, 0.5, ""},
		{pump, f(45.04), "45.00", true, 0.05, "half a step of the point"},
		{pump, f(45.1), "45.0", false, 0.05, ""},
		{temp, f(12.69), "twelve", false, 0, "no number"},
		{temp, f(12.69), "", false, 0, "nothing was typed"},
		{state, value.OfBool(true), "on", true, 0, "a state"},
		{state, value.OfBool(true), "0", false, 0, ""},
		{mode, n(3), "hand", true, 0, "a named value"},
		{mode, n(3), "auto", false, 0, ""},
		{label, value.OfText("K2-14  "), "K2-14", true, 0, "letter by letter"},
		{label, value.OfText("K2-14"), "k2-14", false, 0, ""},
	} {
		v, err := Judge(c.point, c.read, c.typed)
		if c.says == "no number" || c.says == "nothing was typed" {
			if err == nil {
				t.Errorf("%q is taken: %+v", c.typed, v)
			}
			continue
		}
		if err != nil || v.Agrees != c.agrees || v.Within-c.within > 1e-12 || c.within-v.Within > 1e-12 || c.says != "" &&
			v.Says != c.says {
			t.Errorf("%v against %q: %+v, %v", c.read, c.typed, v, err)
		}
	}
}

// TestWalk: cabinets in their natural order, then what is in none; what a connection tells
// of itself is nothing to be proved.
func TestWalk(t *testing.T) {
	g := On(row())
	stops := g.Walk(map[string]*Proved{"o": {ID: 3, Point: "o", Result: Right, Basis: g.Basis("o")},
		"t": {ID: 4, Point: "t", Result: Wrong,
			Basis: g.Basis("t")}, "g": {ID: 5, Point: "g", Result: Right}, "h": {ID: 6, Point: "h", Result: Withdrawn}})
	var got []string
	for _, s := range stops {
		line := s.Cabinet + "/" + s.Device + ":"
		for _, p := range s.Points {
			line += " " + p.Point + "=" + string(p.State)
		}
		got = append(got, line)
	}
	if want := "K2/do14: t=wrong o=right|K10/gate: g=again h=left|/ph: p=left"; strings.Join(got, "|") != want {
		t.Errorf("got  %s\nwant %s", strings.Join(got, "|"), want)
	}
	if c := stops[0].Counts; c.All() != 2 || c.Right != 1 || c.Wrong != 1 {
		t.Errorf("%+v", c)
	}
	record := g.Record(stops, map[string]*Proved{"t": {Point: "t", Result: Wrong, Read: "12.6", Shown: "54", Who: "Ines",
		AtMs: 1_795_000_000_000, Mode: "bench", Method: Display}})
	if len(record) != 6 || strings.Join(record[1],
		",") != "K2,Plant net,DO probe 14,WaterTemp,40003,°C,wrong,12.6,54,,,,display,,,Ines,2026-11-18 11:06:40,bench," ||
		len(record[5]) != len(record[0]) {
		t.Errorf("the record is %q", record)
	}
	var found []string
	for _, f := range g.Findings(stops) {
		found = append(found, f.Code+" "+f.Subject.ID+": "+strings.Join(f.Evidence, ", "))
	}
	if got := strings.Join(found, "|"); !strings.HasPrefix(got,
		"proved-wrong do14: WaterTemp: wrong|proof-due gate: Temp-14: ") {
		t.Errorf("findings are %s", got)
	}
	def, _ := protocol.Named("enip-cyclic")
	s := row()
	s.Devices[3].Map = def.Name
	s.Devices[3].Points = []site.Point{{ID: "in", Address: block.At("in", 0), Type: "uint16"}}
	for i, h := range def.StandingPoints() {
		s.Devices[3].Points = append(s.Devices[3].Points, site.Point{ID: string(rune('a' + i)), Address: h.Address,
			Type: h.Shape.Type})
	}
	s.Devices[3].Points = append(s.Devices[3].Points, site.Point{ID: "nowhere", Address: address.Address{}})
	if stops := On(s).Walk(nil); len(stops[2].Points) != 1 || stops[2].Points[0].Point != "in" {
		t.Errorf("%+v", stops[2])
	}
}

// BenchmarkWalk: of a site of 500 devices and 50 000 points, each of them proved; beside it
// encoding these proofs.
func BenchmarkWalk(b *testing.B) {
	s := &site.Site{Lines: []site.Line{{ID: "net", Name: "Plant net", Medium: site.Ethernet}},
		Devices: []site.Device{{ID: "lss", Ports: []site.Port{{Line: "net"}}}}}
	one := row().Devices[1]
	for i := range 500 {
		d := one
		d.ID = "d" + string(rune('0'+i%10)) + strings.Repeat("x", i/10)
		d.Points = nil
		for j := range 100 {
			p := one.Points[0]
			p.ID, p.Address = d.ID+"-"+string(rune(' '+j)), block.At("hr", uint32(2*j))
			d.Points = append(d.Points, p)
		}
		s.Devices = append(s.Devices, d)
		s.Links = append(s.Links, site.Link{ID: "l" + d.ID, Asking: "lss", Answering: d.ID, Line: "net",
			Protocol: "modbus-tcp"})
	}
	g := On(s)
	last := map[string]*Proved{}
	for i := range s.Devices {
		for j := range s.Devices[i].Points {
			id := s.Devices[i].Points[j].ID
			last[id] = &Proved{Point: id, Result: Right, Basis: g.Basis(id)}
		}
	}
	b.Run("walk", func(b *testing.B) {
		b.ReportAllocs()
		for range b.N {
			if n := len(On(s).Walk(last)); n != 500 {
				b.Fatal(n)
			}
		}
	})
	b.Run("encode", func(b *testing.B) {
		b.ReportAllocs()
		for range b.N {
			if _, err := json.Marshal(last); err != nil {
				b.Fatal(err)
			}
		}
	})
}

// TestReadList: readings find their points by name, by device and name, or by their order;
// what finds none says why.
func TestReadList(t *testing.T) {
	s := row()
	s.Devices[3].Points = append(s.Devices[3].Points, site.Point{ID: "p2", Name: "Oxygen", Type: "float32",
		Address: address.Named("node", "nsu=urn:skerry:hall;s=Tank11.Oxygen")})
	var points []*site.Point
	device := map[string]string{}
	for i := range s.Devices {
		for j := range s.Devices[i].Points {
			p := &s.Devices[i].Points[j]
			points, device[p.ID] = append(points, p), s.Devices[i].Name
		}
	}
	read := func(text string) string {
		list, err := ReadList(text, points, func(p *site.Point) string { return device[p.ID] })
		if err != nil {
			return err.Error()
		}
		var out []string
		for _, l := range list {
			out = append(out, strings.TrimSpace(strings.Join([]string{l.Point, l.Shown, l.Why}, " ")))
		}
		return strings.Join(out, "|")
	}
	for _, c := range []struct{ text, want string }{
		{"Name\tShown\nWaterTemp\t12.7\r\n", "t 12.7"},
		{"watertemp;12,7;°C", "t 12,7"},
		{"DO probe 14 · Oxygen\t8.4\npH 21: Oxygen\t7", "o 8.4|p2 7"},
		{"Oxygen\t8.4", "8.4 2 points have that name: put the device before it, as in DO probe 14 · Oxygen"},
		{"Salinity\t33", "33 no point has that name"},
		{"WaterTemp   12.7", "t 12.7"},
		{"Tank11.Oxygen\t8.4\nnsu=urn:skerry:hall;s=Tank11.Oxygen\t8.5\ntank11.oxygen\t8.6",
			"p2 8.4|p2 8.5|8.6 no point has that name"},
		{"1\n\n2\n3\n4\n5\n6\n7", "t 1|o 2|g 3|h 4|p 5|p2 6|7 there are 6 points, and this is reading 7"},
		{" \n", "it holds no reading: write a name and what its display shows in each line"},
	} {
		if got := read(c.text); got != c.want {
			t.Errorf("%q reads as %s, want %s", c.text, got, c.want)
		}
	}
}

// FuzzReadList: whatever is pasted, no reading is of a point that is not there, and none is
// left out silently but headings.
func FuzzReadList(f *testing.F) {
	f.Add("WaterTemp\t12.7\n;;\n")
	s := row()
	points := []*site.Point{&s.Devices[1].Points[0], &s.Devices[1].Points[1]}
	f.Fuzz(func(t *testing.T, text string) {
		list, err := ReadList(text, points, func(*site.Point) string { return "DO probe 14" })
		if err != nil {
			return
		}
		lines := 0
		for _, line := range strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n") {
			if strings.TrimSpace(line) != "" {
				lines++
			}
		}
		if len(list) < lines-1 {
			t.Errorf("%d lines and %d readings", lines, len(list))
		}
		for _, l := range list {
			if (l.Point == "") == (l.Why == "") {
				t.Errorf("%+v", l)
			}
			if l.Point != "" {
				if _, err := Judge(points[0], value.OfFloat(1), l.Shown); err == nil && l.Shown == "" {
					t.Errorf("an empty reading is judged")
				}
			}
		}
	})
}

// TestCompare: what differs comes first, then what cannot be compared; a point that is gone,
// one that was not there and one in another unit say so.
func TestCompare(t *testing.T) {
	s := row()
	s.Devices[1].Points[0].Access = site.ReadWrite
	g := On(s)
	f := value.OfFloat
	was := &Snapshot{Values: []Reading{{Point: "o", Name: "Oxygen", Value: f(8.4), Shown: "8.4"},
		{Point: "t", Name: "WaterTemp",
			Value: value.OfInt(12), Shown: "12.00", Unit: "°C"}, {Point: "g", Name: "Temp-14", Bad: true,
			Reason: "no answer came"},
		{Point: "h", Name: "Temp-15", Value: f(5), Shown: "5", Unit: "°C"}, {Point: "old", Name: "Old", Value: f(1),
			Shown: "1"}}}
	data, err := json.Marshal(was) // as it comes out of the store
	kept := &Snapshot{}
	if err == nil {
		err = json.Unmarshal(data, kept)
	}
	if err != nil {
		t.Fatal(err)
	}
	is := &Snapshot{Values: []Reading{{Point: "o", Value: f(8.4), Shown: "8.4"},
		{Point: "t", Value: f(12.5), Shown: "12.50", Unit: "°C"},
		{Point: "g", Value: f(3), Shown: "3"}, {Point: "h", Value: f(5), Shown: "5", Unit: "K"},
		{Point: "p", Name: "pH", Value: f(7), Shown: "7"}}}
	var got []string
	for _, d := range g.Compare(kept, is) {
		line := d.Point + " " + d.Was + ">" + d.Is
		if d.Differs {
			line += "!"
		}
		if d.Writable {
			line += " rw"
		}
		got = append(got, strings.TrimSpace(line+" "+d.Why))
	}
	want := "t 12.00>12.50! rw|h 5>5! its unit was °C|g >3 it could not be read then: no answer came|" +
		"old 1> the point is no longer in the site|p >7 it was not there then|o 8.4>8.4"
	if strings.Join(got, "|") != want {
		t.Errorf("got  %s\nwant %s", strings.Join(got, "|"), want)
	}
	for _, d := range g.Compare(is, is) {
		if d.Differs {
			t.Errorf("%+v", d)
		}
	}
}
