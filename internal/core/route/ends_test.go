package route

import (
	"fmt"
	"strings"
	"testing"

	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
)

func pumpBay() *site.Site {
	yes, no := true, false
	return &site.Site{Name: "Skerry Point Hatchery",
		Lines: []site.Line{{ID: "bay", Name: "Pump bay", Medium: site.SerialLine,
			Serial: &site.Serial{Standard: serial.TIA485Two, Format: serial.Usual, LengthM: 40}}},
		Devices: []site.Device{
			{ID: "lss", Name: "LSS controller",
				Ports: []site.Port{{Line: "bay", Serial: &site.PortSerial{Terminated: &yes, Biased: &yes}}}},
			{ID: "p1", Name: "Circulation pump 1",
				Ports: []site.Port{{Line: "bay", Protocol: "modbus-rtu",
					Settings: protocol.Numbers(map[string]int{"unit": 1, "thinkMs": 10}),
					Serial:   &site.PortSerial{Terminated: &no, Biased: &no}}}},
			{ID: "p2", Name: "Circulation pump 2",
				Ports: []site.Port{{Line: "bay", Protocol: "modbus-rtu",
					Settings: protocol.Numbers(map[string]int{"unit": 2, "thinkMs": 10}),
					Serial:   &site.PortSerial{Terminated: &yes, Biased: &no}}}}},
		Links: []site.Link{{ID: "k1", Asking: "lss", Answering: "p1", Line: "bay", Protocol: "modbus-rtu",
			Settings: protocol.Numbers(map[string]int{"unit": 1})},
			{ID: "k2", Asking: "lss", Answering: "p2", Line: "bay", Protocol: "modbus-rtu",
				Settings: protocol.Numbers(map[string]int{"unit": 2})}}}
}

// TestSerialEnds: each disagreement of the ends is seen in the plan, with where
// it shows and what it looks like; what nobody knows is no fault.
func TestSerialEnds(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(*site.Site)
		stop   Stop
		result Result
		says   string
	}{
		{"alike", func(*site.Site) {}, "", "", ""},
		{"parity", func(s *site.Site) { s.Devices[1].Ports[0].Serial.Parity = serial.None }, Address, Fault,
			"Parity: the asking end has even, the answering end none. Then bytes arrive but no frame passes " +
				"its check."},
		{"baud", func(s *site.Site) { s.Devices[1].Ports[0].Serial.Baud = 9600 }, Address, Fault, "Baud"},
		{"stop bits", func(s *site.Site) { s.Devices[1].Ports[0].Serial.Stop = 2 }, Address, Doubt, "Stop bits"},
		{"parity not known", func(s *site.Site) {
			s.Devices[1].Ports[0].Serial.Parity, s.Devices[1].Ports[0].Unknown = serial.None, []string{"parity"}
		}, "", "", ""},
		{"unit", func(s *site.Site) { s.Links[0].Settings["unit"] = protocol.OfInt(9) }, Session, Fault, "Unit"},
		{"unit twice", func(s *site.Site) { s.Devices[2].Ports[0].Settings["unit"] = protocol.OfInt(1) }, Wire, Fault,
			"both have unit 1 on Pump bay"},
		{"another protocol", func(s *site.Site) { s.Devices[1].Ports[0].Protocol = "modbus-ascii" }, Session, Fault,
			"nothing is understood"},
		{"a port that answers asks", func(s *site.Site) { s.Devices[0].Ports[0].Protocol = "modbus-rtu" }, Wire, Fault,
			"a port that answers cannot ask"},
		{"two ask", func(s *site.Site) { s.Links[1].Asking = "p1" }, Wire, Fault, "two askers on one line collide"},
		{"too impatient", func(s *site.Site) {
			s.Devices[1].Ports[0].Think = &site.Think{MedianMs: 600, WorstMs: 1400,
				Count: 50}
		}, Pace, Fault, "every answer comes after the limit"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := pumpBay()
			c.change(s)
			r := Plan(s, &s.Links[0])
			said := ""
			for _, check := range r.Stops {
				if check.Result == Fault || check.Result == Doubt {
					said += fmt.Sprintf("%s %s %s\n", check.Stop, check.Result, check.Saw)
				}
			}
			if want := fmt.Sprintf("%s %s ", c.stop, c.result); c.stop == "" && said != "" ||
				c.stop != "" && (!strings.HasPrefix(said, want) || !strings.Contains(said, c.says)) {
				t.Errorf("says %q, want %s with %q", said, want, c.says)
			}
		})
	}
}

// TestExplain: what nobody has ticked is named where it would explain the stop,
// and so are settings that nobody has looked up.
func TestExplain(t *testing.T) {
	s := pumpBay()
	s.Devices[1].Access = []site.AccessLine{{ID: "a", Kind: site.AccessRemote, Text: "Menu 4-2: remote on"},
		{ID: "b", Kind: site.AccessRestart, Text: "off and on again"}}
	s.Devices[1].Ticks = []site.Tick{{Line: "b", By: "Ada", At: "2026-11-23T08:00:00Z"}}
	s.Devices[1].Ports[0].Unknown = []string{"parity", "baud"}
	r := New("k1")
	r.Explain(s, &s.Links[0])
	if len(r.Unticked)+len(r.Ask) != 0 {
		t.Error("a message that goes through is explained")
	}
	r.Set(Session, Fault, "Unit 1 says nothing.", "")
	r.Explain(s, &s.Links[0])
	if len(r.Unticked) != 1 || r.Unticked[0].ID != "a" || strings.Join(r.Ask, ", ") != "Baud, Parity" {
		t.Errorf("unticked %v, ask %v", r.Unticked, r.Ask)
	}
}

func TestHere(t *testing.T) {
	s := &site.Site{Lines: []site.Line{{ID: "n", Name: "Plant net", Medium: site.Ethernet, Network: "192.0.2.0/24"},
		{ID: "r", Name: "Tank row A", Medium: site.SerialLine, Here: "/dev/ttyUSB0"}},
		Devices: []site.Device{{ID: "a", Name: "Feeder 1", Ports: []site.Port{{Line: "n", Host: "192.0.2.9"}}}}}
	net := func(addr string, up bool) *Machine {
		return &Machine{Interfaces: []Interface{{Name: "lo", Addrs: []string{"127.0.0.1/8"}, Up: true},
			{Name: "eth0", Addrs: []string{addr}, Up: up}}}
	}
	port := func(p SerialHere) *Machine { return &Machine{Ports: []SerialHere{p}} }
	for _, c := range []struct {
		name    string
		line    int
		machine *Machine
		result  Result
		says    string
	}{
		{"in the subnet", 0, net("192.0.2.77/24", true), Good, "192.0.2.77, by eth0"},
		{"another subnet", 0, net("198.51.100.7/24", true), Doubt, "No interface of this machine is in 192.0.2.0/24"},
		{"an address that a device has", 0, net("192.0.2.9/24", true), Fault, "so has Feeder 1"},
		{"no cable", 0, net("192.0.2.77/24", false), Fault, "down"},
		{"another mask", 0, net("192.0.2.77/16", true), Doubt, "Its mask is /16"},
		{"a free port", 1, port(SerialHere{Path: "/dev/ttyUSB0"}), Good, "is free"},
		{"a taken port", 1, port(SerialHere{Path: "/dev/ttyUSB0", Owner: "another program"}), Fault,
			"has /dev/ttyUSB0 open"},
		{"no permission", 1, port(SerialHere{Path: "/dev/ttyUSB0", Trouble: "this user may not open it"}), Fault,
			"cannot be used"},
		{"another port", 1, port(SerialHere{Path: "/dev/ttyS0"}), Fault, "no port /dev/ttyUSB0"},
	} {
		if on := c.machine.Here(s, &s.Lines[c.line]); on.Result != c.result || !strings.Contains(on.Saw, c.says) {
			t.Errorf("%s: %s, %q", c.name, on.Result, on.Saw)
		}
	}
}

// TestSwapped: two settings that either end has the other way round are told to be exchanged, and no others.
func TestSwapped(t *testing.T) {
	rows := []Mismatch{{Key: "rack", Title: "Rack", Asking: "1", Answering: "10", Result: Good},
		{Key: "outstation", Title: "Outstation", Asking: "1", Answering: "10", Result: Fault, Symptom: "nobody answers"},
		{Key: "master", Title: "Master", Asking: "10", Answering: "1", Result: Fault, Symptom: "nobody answers"},
		{Key: "slot", Title: "Slot", Asking: "10", Answering: "2", Result: Fault, Symptom: "it is refused"}}
	swapped(rows)
	for i, want := range []string{"", "nobody answers: it is exchanged with Master",
		"nobody answers: it is exchanged with Outstation",
		"it is refused"} {
		if rows[i].Symptom != want {
			t.Errorf("%s: %q", rows[i].Title, rows[i].Symptom)
		}
	}
}
