package crossing

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ferry/internal/core/block"
	_ "ferry/internal/core/family/blocktcp"
	_ "ferry/internal/core/family/modbus"
	_ "ferry/internal/core/family/mqtt"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// TestFarNames: a name that holds a secret is found, and one that only looks long is
// not; quality that the far side cannot hold is told.
func TestFarNames(t *testing.T) {
	for name, want := range map[string]string{
		"skerry/row-a/do11/oxygen":                   "",
		"skerry/token/9f3a":                          "secret-in-name",
		"skerry/tokenring/oxygen":                    "",
		"dev/AbC123dEf456GhI789jKl012/oxygen":        "secret-in-name",
		"skerry/a-very-long-name-of-a-tank-row/o2":   "",
		"skerry/recirculatingaquaculturesystem/pump": "",
		"skerry/api_key=17/oxygen":                   "secret-in-name",
	} {
		scheme, err := protocol.SchemeOf("mqtt")
		if err != nil {
			t.Fatal(err)
		}
		at, err := scheme.Parse(name, "")
		if err != nil {
			t.Fatal(err)
		}
		s := &site.Site{Devices: []site.Device{{ID: "p", Name: "Probe", Map: "modbus-tcp", Points: []site.Point{{ID: "o",
			Name: "Oxygen", Address: block.At("hr", 0), Type: "float32", PaceMs: 100}}}, {ID: "b", Name: "Broker", Map: "mqtt",
			Points: []site.Point{{ID: "t", Name: "Oxygen", Address: at, Type: "float32", Access: site.ReadWrite}}}},
			Links: []site.Link{{ID: "k1", Protocol: "modbus-tcp", Answering: "p"},
				{ID: "k2", Protocol: "mqtt", Answering: "b"}},
			Crossings: []site.Crossing{{ID: "x", From: "o", To: "t"}}}
		codes := func() (list string) {
			for _, f := range Check(s) {
				list += f.Code
			}
			return list
		}
		if got := codes(); got != want {
			t.Errorf("%s: finds %q, want %q", name, got, want)
		}
		s.Crossings[0].Tells = site.TellsQuality
		if got := codes(); !strings.Contains(got, "no-room") {
			t.Errorf("%s: finds %q, and the payload has no room", name, got)
		}
	}
}

func TestCheck(t *testing.T) {
	point := func(id, area string, at uint32, typ value.Type, access site.Access) site.Point {
		return site.Point{ID: id, Name: id, Address: block.At(area, at), Type: typ, Access: access}
	}
	s := &site.Site{
		Devices: []site.Device{
			{ID: "p", Name: "Probe", Map: "modbus-tcp",
				Points: []site.Point{point("o", "hr", 0, "float32", "r"), point("total", "hr", 2, "uint32", "rw"),
					point("label", "hr", 9, "text", "r")}},
			{ID: "g", Name: "Gateway", Map: "modbus-tcp",
				Points: []site.Point{point("g1", "hr", 0, "int16", "rw"), point("g2", "hr", 1, "int16", "r"),
					point("g3", "ir", 1, "int16", "rw")}},
			{ID: "served", Name: "Panel gateway", Map: "modbus-tcp", Serving: &site.Serving{},
				Points: []site.Point{point("s1", "hr", 0, "float32", "r"), point("s2", "hr", 2, "float32", "rw")}},
			{ID: "lone", Name: "Lone", Map: "modbus-tcp", Points: []site.Point{point("l", "hr", 0, "float32", "rw")}},
		},
		Links: []site.Link{{ID: "k1", Protocol: "modbus-tcp", Answering: "p"},
			{ID: "k2", Protocol: "modbus-tcp", Answering: "g"}},
	}
	for _, c := range []struct {
		name      string
		crossings []site.Crossing
		want      []string
	}{
		{"right", []site.Crossing{{ID: "1", From: "o", To: "g1"}}, nil},
		{"read-only", []site.Crossing{{ID: "1", From: "o", To: "g2"}}, []string{"target-read-only"}},
		{"an area nobody writes", []site.Crossing{{ID: "1", From: "o", To: "g3"}}, []string{"target-area"}},
		{"two writers", []site.Crossing{{ID: "1", From: "o", To: "g1"}, {ID: "2", From: "l", To: "g1"}},
			[]string{"no-link", "two-writers"}},
		{"a circle", []site.Crossing{{ID: "1", From: "total", To: "l"}, {ID: "2", From: "l", To: "total"}},
			[]string{"loop", "no-link", "no-link"}},
		{"too wide", []site.Crossing{{ID: "1", From: "total", To: "g1"}}, []string{"range"}},
		{"text to number", []site.Crossing{{ID: "1", From: "label", To: "g1"}}, []string{"kind"}},
		{"served and not fed", []site.Crossing{{ID: "fed", From: "o", To: "g1"}}, []string{"unfed"}},
		{"switched off", []site.Crossing{{ID: "1", From: "label", To: "g2", Off: true}}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			fed := []site.Crossing{{ID: "fed", From: "o", To: "s1"}}
			if c.crossings[0].ID == "fed" {
				fed = nil
			}
			s.Crossings = append(c.crossings, fed...)
			found := Check(s)
			if len(found) != len(c.want) {
				t.Fatalf("finds %+v, want %v", found, c.want)
			}
			for i, f := range found {
				if f.Code != c.want[i] {
					t.Errorf("finds %s, want %s", f.Code, c.want[i])
				}
			}
		})
	}
}

// TestJudge: what does not fit is said with its figures, and the ways out are worked
// out, the least lost first.
func TestJudge(t *testing.T) {
	bound := func(f float64) *float64 { return &f }
	point := func(id, area string, at uint32, typ value.Type, unit string) site.Point {
		return site.Point{ID: id, Name: id, Address: block.At(area, at), Type: typ, Access: site.ReadWrite, Unit: unit,
			PaceMs: 1000}
	}
	for _, c := range []struct {
		name   string
		from   func(*site.Point)
		to     func(*site.Point)
		x      site.Crossing
		now    value.Value
		hour   float64
		codes  string
		says   string   // in a sentence of a finding
		outs   []string // how they begin
		served bool
	}{
		{name: "a total in too small a target", x: site.Crossing{Factor: 10},
			from: func(p *site.Point) { p.Type, p.Unit = "uint32", "m³" }, to: func(p *site.Point) {
				p.Type, p.Unit = "int16",
					"m³"
			},
			now: value.OfUint(81204), hour: 9, codes: "range",
			says: "already reads 812 040 after the way, and the target stops at 32 767",
			outs: []string{"uint32 at", "int32 at", "float32 at", "carry what is left over", "stop at −32 768 and 32 767"}},
		{name: "a total that will fill its target", from: func(p *site.Point) {
			p.Type, p.Unit = "uint32", "kWh"
			p.Low,
				p.High = bound(0), bound(60000)
		},
			to: func(p *site.Point) { p.Type = "uint16" }, now: value.OfUint(3000), hour: 90, codes: "fills",
			says: "is full in about 29 days"},
		{name: "by its limits", from: func(p *site.Point) { p.Low, p.High = bound(0), bound(500) },
			to: func(p *site.Point) { p.Type, p.Factor = "uint8", 1; p.Address = block.WithBit(p.Address, 0) }, codes: "range",
			says: "By its limits, source can arrive as 500, and a uint8 at the target stops at 255",
			outs: []string{"in steps of 10", "stop at 0 and 255"}},
		{name: "Fahrenheit", from: func(p *site.Point) { p.Unit = "°C" }, to: func(p *site.Point) { p.Unit = "°F" },
			codes: "unit", says: "carried as it is", outs: []string{"°C → °F"}},
		{name: "bar into degrees", from: func(p *site.Point) { p.Unit = "bar" }, to: func(p *site.Point) { p.Unit = "°F" },
			codes: "unit", says: "is a unit of pressure"},
		{name: "a scale that is not that of the units", from: func(p *site.Point) { p.Unit = "m³/h" },
			to: func(p *site.Point) { p.Unit = "l/s" },
			x:  site.Crossing{Factor: 3.6}, codes: "unit-scale", says: "it would be × 0.277778, and it is × 3.6",
			outs: []string{"m³/h → l/s"}},
		{name: "the scale of the units", from: func(p *site.Point) { p.Unit = "m³/h" },
			to: func(p *site.Point) { p.Unit = "l/s" }, x: site.Crossing{Factor: 0.27778}},
		{name: "a deadband of the whole range", to: func(p *site.Point) { p.Low, p.High = bound(0), bound(10) },
			x: site.Crossing{Deadband: 12}, codes: "deadband-wide", says: "between the limits of target lie 10"},
		{name: "a deadband finer than the target", to: func(p *site.Point) { p.Type, p.Factor = "int16", 0.1 },
			x: site.Crossing{Deadband: 0.01}, codes: "deadband-fine", says: "tells apart steps of 0.1"},
		{name: "per cent of nothing", x: site.Crossing{Deadband: 1, Percent: true}, codes: "percent"},
		{name: "a coarser target", from: func(p *site.Point) {
			p.Type, p.Factor = "int16", 0.01
			p.Low, p.High = bound(0),
				bound(20)
		},
			to: func(p *site.Point) { p.Type, p.Factor = "int16", 0.5 }, codes: "resolution", says: "in steps of 0.01"},
		{name: "no way back", x: site.Crossing{Both: site.LaterTies, Way: []site.Step{{Do: site.DoClamp}}}, codes: "way",
			says: "no bound is given"},
		{name: "no formula back", x: site.Crossing{Both: site.LaterTies,
			Way: []site.Step{{Do: site.DoFormula, Formula: "a * 2"}}}, codes: "no-way-back", outs: []string{"One way only"}},
		{name: "a substitute that is none", x: site.Crossing{Quiet: site.Substitute, Substitute: "low"}, codes: "substitute"},
		{name: "every tenth of a second into a device", from: func(p *site.Point) { p.PaceMs = 100 }, codes: "wear",
			says: "864 000 times a day"},
		{name: "too old", x: site.Crossing{AllowMs: 2000, Deadband: 1}, codes: "too-old",
			says: "2100 ms old, and 2 s are allowed"},
		{name: "two bits of one word", x: site.Crossing{}, from: func(p *site.Point) {
			p.Type, p.Address = "bool",
				block.WithBit(p.Address, 3)
		}, to: func(p *site.Point) { p.Type, p.Address = "bool", block.WithBit(p.Address, 4) }},
		{name: "read only, to clients", served: true, to: func(p *site.Point) { p.Access = site.ReadOnly }},
	} {
		t.Run(c.name, func(t *testing.T) {
			from, to := point("source", "hr", 10, "float32", ""), point("target", "hr", 20, "float32", "")
			for change, p := range map[*func(*site.Point)]*site.Point{&c.from: &from, &c.to: &to} {
				if *change != nil {
					(*change)(p)
				}
			}
			c.x.ID, c.x.From, c.x.To = "x", "source", "target"
			s := &site.Site{Devices: []site.Device{{ID: "p", Name: "Probe", Map: "modbus-tcp", Points: []site.Point{from}},
				{ID: "g", Name: "Gateway", Map: "modbus-tcp", Points: []site.Point{to, point("next", "hr", 24, "uint16", "")}}},
				Links: []site.Link{{ID: "k1", Protocol: "modbus-tcp", Answering: "p"},
					{ID: "k2", Protocol: "modbus-tcp", Answering: "g"}},
				Crossings: []site.Crossing{c.x}}
			if c.served {
				s.Devices[1].Serving = &site.Serving{}
			}
			if c.codes != "wear" {
				s.Crossings[0].AtMostMs = 5000
			}
			j, ok := Judge(s, "x", Seen{Now: func(string) value.Value { return c.now },
				PerHour:  func(string) float64 { return c.hour },
				OldestMs: func(string, string) float64 { return 1050 }, WriteMs: func(string) float64 { return 1050 }})
			if !ok {
				t.Fatal("it is not there")
			}
			if c.codes == "too-old" {
				s.Crossings[0].AtMostMs = 0
				j, _ = Judge(s, "x", Seen{OldestMs: func(string, string) float64 { return 1050 },
					WriteMs: func(string) float64 { return 1050 }})
			}
			var codes []string
			said := ""
			for _, f := range j.Findings {
				if f.Code == "wear" && !strings.Contains(c.codes, "wear") {
					continue
				}
				codes = append(codes, f.Code)
				said += f.Sentence + " "
			}
			if got := strings.Join(codes, " "); got != c.codes || !strings.Contains(said, c.says) {
				t.Errorf("finds %q: %s\nwant %q: %s", got, said, c.codes, c.says)
			}
			if len(j.Outs) != len(c.outs) {
				t.Fatalf("ways out: %+v, want %q", j.Outs, c.outs)
			}
			for i, o := range j.Outs {
				if !strings.HasPrefix(o.Title, c.outs[i]) {
					t.Errorf("way out %d is %q, want %q", i, o.Title, c.outs[i])
				}
				if o.Crossing != nil {
					after := *s
					after.Crossings = []site.Crossing{*o.Crossing}
					if again, _ := Judge(&after, "x", Seen{}); slices.ContainsFunc(again.Findings,
						func(f finding.Finding) bool { return f.Code == "way" || f.Code == "unit" }) {
						t.Errorf("%s makes it worse: %+v", o.Title, again.Findings)
					}
				}
			}
		})
	}
}

// BenchmarkCheck checks the 20 000 crossings of a large site.
func BenchmarkCheck(b *testing.B) {
	s := &site.Site{}
	for d := range 100 {
		probe := site.Device{ID: fmt.Sprint("p", d), Name: fmt.Sprint("Probe ", d), Map: "modbus-tcp"}
		gate := site.Device{ID: fmt.Sprint("g", d), Name: fmt.Sprint("Gateway ", d), Map: "modbus-tcp",
			Serving: &site.Serving{}}
		for i := range 200 {
			p := site.Point{ID: fmt.Sprintf("s%d-%d", d, i), Name: fmt.Sprint("V", i), Address: block.At("hr", uint32(2*i)),
				Type: "float32", Unit: "°C", Access: site.ReadOnly, PaceMs: 1000}
			probe.Points = append(probe.Points, p)
			p.ID, p.Unit = fmt.Sprintf("t%d-%d", d, i), "°F"
			gate.Points = append(gate.Points, p)
			s.Crossings = append(s.Crossings, site.Crossing{ID: fmt.Sprintf("x%d-%d", d, i), From: fmt.Sprintf("s%d-%d", d, i),
				To: p.ID, Way: []site.Step{{Do: site.DoUnit}, {Do: site.DoFormula, Formula: "a > 0 ? a : 0"}}})
		}
		s.Devices = append(s.Devices, probe, gate)
		s.Links = append(s.Links, site.Link{ID: fmt.Sprint("k", d), Protocol: "modbus-tcp", Answering: probe.ID})
	}
	for b.Loop() {
		if found := Check(s); len(found) != 0 {
			b.Fatalf("finds %+v", found[0])
		}
	}
}
