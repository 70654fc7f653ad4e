package pairing

import (
	"fmt"
	"strings"
	"testing"

	"ferry/internal/core/block"
	_ "ferry/internal/core/family/modbus"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// hatchery is two probes, a drive and a gateway with some points, of which one is
// carried already.
func hatchery() *site.Site {
	point := func(id, name, area string, at uint32, typ value.Type, unit string) site.Point {
		return site.Point{ID: id, Name: name, Address: block.At(area, at), Type: typ, Unit: unit, PaceMs: 1000,
			Access: site.ReadOnly}
	}
	label := point("dn", "Label", "hr", 9, "text", "")
	label.Length = 8
	probe := func(n int) site.Device {
		id := fmt.Sprint("p", n)
		setpoint := point(id+"s", "AlarmSetpoint", "hr", 10, "float32", "mg/L")
		setpoint.Access = site.ReadWrite
		return site.Device{ID: id, Name: fmt.Sprint("DO probe ", n), Map: "modbus-tcp", Points: []site.Point{
			point(id+"o", "Oxygen", "hr", 0, "float32", "mg/L"), point(id+"t", "WaterTemp", "hr", 2, "float32", "°C"),
			point(id+"f", "Fault", "di", 0, "bool", ""), setpoint}}
	}
	return &site.Site{
		Devices: []site.Device{probe(11), probe(12),
			{ID: "d", Name: "Pump drive 1", Map: "modbus-tcp",
				Points: []site.Point{point("ds", "Speed", "hr", 0, "uint16", "Hz"),
					point("de", "Energy", "hr", 2, "uint32", "kWh"), label}},
			{ID: "g", Name: "Shore gateway", Map: "modbus-tcp", Serving: &site.Serving{}, Points: []site.Point{
				point("g1", "Oxygen_11", "hr", 100, "float32", "mg/L"), point("g2", "Oxygen_12", "hr", 102, "float32", "mg/L"),
				point("g3", "Temperature-12", "hr", 104, "float32", "°F"), point("g4", "Temp-11", "hr", 106, "float32", "°F"),
				point("g5", "Fault-12", "di", 0, "bool", ""), point("g6", "PumpSpeed1", "hr", 110, "uint16", "Hz"),
				point("g7", "Oxygen_13", "hr", 112, "float32", "mg/L"), point("g8", "Spare", "hr", 120, "uint16", "")}},
		},
		Crossings: []site.Crossing{{ID: "x", From: "p11o", To: "g1"}},
	}
}

func said(p *Proposal) string {
	var list []string
	for _, pair := range p.Pairs {
		to := pair.To
		if pair.New != nil {
			to = pair.New.Name + "@" + pair.Address
		}
		text := pair.From + ">" + to
		if pair.Way != "as it is" {
			text += " " + pair.Way
		}
		if !pair.Fits {
			text += " (" + pair.Sentence + ")"
		}
		list = append(list, text)
	}
	return strings.Join(list, "\n")
}

func shores(t *testing.T) *Shores {
	t.Helper()
	sh, err := Between(hatchery(), []string{"p11", "p12", "d"}, "g")
	if err != nil {
		t.Fatal(err)
	}
	return sh
}

func TestPairing(t *testing.T) {
	sh := shores(t)
	if len(sh.Near) != 10 || len(sh.Far) != 7 || len(sh.Paired) != 1 {
		t.Fatalf("%d and %d are left over, %d paired", len(sh.Near), len(sh.Far), len(sh.Paired))
	}
	for what, c := range map[string]struct {
		got  *Proposal
		want string
		left [2]int
	}{
		"by likeness": {sh.ByLikeness(), `
			p11t>g4 by their units
			p12o>g2
			p12t>g3 by their units
			p12f>g5
			ds>g6`, [2]int{5, 2}},
		"in order": {sh.InOrder("", "", 0), `
			p11f>g5
			p11t>g2 (WaterTemp is in °C and Oxygen_12 in mg/L: °C is a unit of temperature and mg/L of concentration.)
			p11s>g3 (AlarmSetpoint is in mg/L and Temperature-12 in °F: mg/L is a unit of concentration and °F of temperature.)
			p12o>g4 (Oxygen is in mg/L and Temp-11 in °F: mg/L is a unit of concentration and °F of temperature.)
			p12t>g6 (WaterTemp is in °C and PumpSpeed1 in Hz: °C is a unit of temperature and Hz of frequency.)
			p12s>g7
			ds>g8`, [2]int{3, 0}},
		"in order from two on": {sh.InOrder("p12o", "g7", 1), `p12o>g7`, [2]int{9, 6}},
		"by a table": {sh.ByTable([][]string{{"Local name", "Far name", "Way"}, {"DO probe 12.Oxygen", "Oxygen_12", ""},
			{"Speed", "PumpSpeed1", "÷ 10, moves by 0.5"}, {"WaterTemp", "Temp-11"}, {"DO probe 11 · WaterTemp", "temp-11"},
			{"Label", "Spare"},
			{"", ""}, {"Energy", "Oxygen_12"}, {"Fault", "Fault-12", "sideways"},
			{"DO probe 11/Fault", "Fault-12", "upside down"}}, nil), `
			p12o>g2
			ds>g6 ÷ 10, moves by 0.5
			dn>g8 (Label is a text and Spare a uint16: a text cannot become a number, nor a number a text.)
			p11f>g5 upside down`, [2]int{6, 3}},
	} {
		if got, want := said(c.got), strings.ReplaceAll(strings.TrimSpace(c.want), "\n\t\t\t", "\n"); got != want {
			t.Errorf("%s:\n%s\nwant:\n%s", what, got, want)
		}
		if c.got.Near != c.left[0] || c.got.Far != c.left[1] {
			t.Errorf("%s: %d and %d stay, want %v", what, c.got.Near, c.got.Far, c.left)
		}
	}
	table := sh.ByTable([][]string{{"WaterTemp", "Temp-11"}, {"DO probe 11 · WaterTemp", "temp-11"},
		{"Speed", "PumpSpeed1"},
		{"Energy", "PumpSpeed1"}, {"Nobody", "Spare"}, {"DO probe 11.Fault", "Fault-12", "sideways"}}, nil)
	for i, want := range []string{"2 points have this name", "there is Temp-11, under another case",
		"is the target of row 3", "no such point left over", "no step that is known"} {
		if i >= len(table.Refused) || !strings.Contains(table.Refused[i].Reason, want) {
			t.Errorf("row refused: %+v, want %s", table.Refused, want)
		}
	}
}

// TestGiveNames: names of a far side by a template, fit for it, each once.
func TestGiveNames(t *testing.T) {
	s := hatchery()
	s.Name = "Skerry Point"
	s.Devices[1].Name = "DO probe 12/B"
	s.Devices = append(s.Devices, site.Device{ID: "broker", Name: "Cloud broker", Map: "mqtt"})
	give := func(g Giving) (*Proposal, error) {
		sh, err := Between(s, []string{"p11", "p12"}, "broker")
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		return sh.Give(g, func() string { n++; return fmt.Sprint("n", n) })
	}
	p, err := give(Giving{Start: "skerry/{device}/{point}", Plain: true})
	if err != nil {
		t.Fatal(err)
	}
	if got, want := said(p), `p11o>DO probe 11-Oxygen@skerry/do-probe-11/oxygen
p11t>DO probe 11-WaterTemp@skerry/do-probe-11/watertemp
p11f>DO probe 11-Fault@skerry/do-probe-11/fault
p11s>DO probe 11-AlarmSetpoint@skerry/do-probe-11/alarmsetpoint
p12o>DO probe 12/B-Oxygen@skerry/do-probe-12_b/oxygen
p12t>DO probe 12/B-WaterTemp@skerry/do-probe-12_b/watertemp
p12f>DO probe 12/B-Fault@skerry/do-probe-12_b/fault
p12s>DO probe 12/B-AlarmSetpoint@skerry/do-probe-12_b/alarmsetpoint`; got != want {
		t.Errorf("given:\n%s", got)
	}
	p, err = give(Giving{Start: "{site}/{device}/{point}", Writable: true, Name: "{point} {n}"})
	if err != nil || p.Pairs[3].Address != "Skerry Point/DO probe 11/AlarmSetpoint" || p.Pairs[3].Crossing.Both == "" ||
		p.Pairs[0].Crossing.Both != "" || p.Pairs[0].New.Name != "Oxygen 1" {
		t.Errorf("%+v, %v", p, err)
	}
	for _, start := range []string{"skerry/{device}", "skerry/{point}", ""} {
		if _, err := give(Giving{Start: start}); err == nil {
			t.Errorf("%q gives several points one name", start)
		}
	}
}

func TestGive(t *testing.T) {
	n := 0
	give := func(g Giving) (string, error) {
		p, err := shores(t).Give(g, func() string { n++; return fmt.Sprint("n", n) })
		if err != nil {
			return "", err
		}
		return said(p), nil
	}
	for what, c := range map[string]struct {
		g    Giving
		want string
	}{
		"side by side": {Giving{Start: "40101"}, `
			p11t>DO probe 11-WaterTemp@40109
			p11f>DO probe 11-Fault@40112.0
			p11s>DO probe 11-AlarmSetpoint@40115
			p12o>DO probe 12-Oxygen@40117
			p12t>DO probe 12-WaterTemp@40119
			p12f>DO probe 12-Fault@40122.0
			p12s>DO probe 12-AlarmSetpoint@40123
			ds>Pump drive 1-Speed@40125
			de>Pump drive 1-Energy@40126
			dn>Pump drive 1-Label@40128`},
		"in blocks, states apart": {Giving{Start: "40201", States: "10011", Block: 20, Reserve: 2, Even: true, As: "int32",
			Name: "T{n}", Writable: true}, `
			p11t>T1@40201
			p11f>T2@10021
			p11s>T3@40203 as it is, both ways
			p12o>T4@40221
			p12t>T5@40223
			p12f>T6@10041
			p12s>T7@40225 as it is, both ways
			ds>T8@40241
			de>T9@40243
			dn>T10@40245`},
	} {
		if got, err := give(c.g); err != nil || got != strings.ReplaceAll(strings.TrimSpace(c.want), "\n\t\t\t", "\n") {
			t.Errorf("%s: %v\n%s\nwant:%s", what, err, got, c.want)
		}
	}
	for what, g := range map[string]Giving{"no address": {Start: "somewhere"}, "beyond the last": {Start: "465535"},
		"one name for all": {Start: "40201", Name: "{point}"}, "a negative reserve": {Start: "40201", Reserve: -1}} {
		if got, err := give(g); err == nil {
			t.Errorf("%s:\n%s", what, got)
		}
	}
}
