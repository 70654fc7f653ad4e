package route

import (
	"strings"
	"testing"

	_ "ferry/internal/core/family/blocktcp"
	_ "ferry/internal/core/family/modbus"

	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

func TestPlan(t *testing.T) {
	make := func(change func(*site.Site)) *site.Site {
		s := &site.Site{
			Lines: []site.Line{{ID: "net", Name: "Plant net", Network: "192.0.2.0/24"}},
			Devices: []site.Device{
				{ID: "lss", Name: "LSS", Ports: []site.Port{{Line: "net", Host: "192.0.2.10"}}},
				{ID: "do11", Name: "DO probe 11",
					Ports: []site.Port{{Line: "net", Host: "192.0.2.21", Protocol: "modbus-tcp",
						Settings: protocol.Settings{}}}},
			},
			Links: []site.Link{{ID: "k", Asking: "lss", Answering: "do11", Line: "net", Protocol: "modbus-tcp",
				Settings: protocol.Settings{}}},
		}
		change(s)
		return s
	}
	for _, c := range []struct {
		name   string
		change func(*site.Site)
		stop   Stop
		result Result
		word   string
	}{
		{"agrees", func(*site.Site) {}, Wire, NotTried, ""},
		{"outside the subnet", func(s *site.Site) { s.Devices[1].Ports[0].Host = "198.51.100.21" }, Wire, Fault,
			"outside 192.0.2.0/24"},
		{"the network itself", func(s *site.Site) { s.Devices[1].Ports[0].Host = "192.0.2.0" }, Wire, Fault,
			"the network itself"},
		{"broadcast", func(s *site.Site) { s.Devices[1].Ports[0].Host = "192.0.2.255" }, Wire, Fault, "broadcast"},
		{"taken", func(s *site.Site) { s.Devices[1].Ports[0].Host = "192.0.2.10" }, Wire, Fault, "both have"},
		{"no address", func(s *site.Site) { s.Devices[1].Ports[0].Host = "" }, Wire, Fault, "no IP address"},
		{"another port", func(s *site.Site) { s.Links[0].Settings["port"] = protocol.OfInt(503) }, Address, Fault,
			"503"},
		{"another unit", func(s *site.Site) { s.Links[0].Settings["unit"] = protocol.OfInt(2) }, Session, Fault,
			"Unit"},
		{"too little time", func(s *site.Site) { s.Devices[1].Ports[0].Settings["thinkMs"] = protocol.OfInt(600) },
			Pace, Fault, "after the limit"},
		{"hardly time", func(s *site.Site) { s.Devices[1].Ports[0].Settings["thinkMs"] = protocol.OfInt(400) }, Pace,
			Doubt, "late"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := make(c.change)
			r := Plan(s, &s.Links[0])
			for _, check := range r.Stops {
				if check.Stop == c.stop && (check.Result != c.result || !strings.Contains(check.Saw, c.word)) {
					t.Errorf("%s: %s %q", check.Stop, check.Result, check.Saw)
				}
				if check.Stop != c.stop && check.Result != NotTried {
					t.Errorf("%s says %s: %s", check.Stop, check.Result, check.Saw)
				}
			}
			if (r.StopsAt != nil) != (c.result == Fault) || r.StopsAt != nil && *r.StopsAt != c.stop {
				t.Errorf("stops at %v", r.StopsAt)
			}
		})
	}
}
