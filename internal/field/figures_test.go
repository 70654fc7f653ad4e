package field_test

import (
	"fmt"
	"math"
	"slices"
	"testing"
	"time"

	"ferry/internal/bench"
	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// row is a site of so many devices on one line, each with registers to read.
func row(line site.Line, name string, devices, thinkMs, paceMs int) *site.Site {
	s := &site.Site{Format: site.Format, Version: site.Version, Name: "Skerry Point Hatchery", Lines: []site.Line{line},
		Devices: []site.Device{{ID: "lss", Name: "LSS controller",
			Ports: []site.Port{{Line: line.ID, Host: "192.0.2.1"}}}}}
	for i := range devices {
		settings := protocol.Numbers(map[string]int{"unit": 1 + i%200, "thinkMs": thinkMs})
		d := site.Device{ID: fmt.Sprint("d", i), Name: fmt.Sprint("DO probe ", i), Map: name,
			Ports: []site.Port{{Line: line.ID, Protocol: name, Settings: settings}}}
		if line.Medium == site.Ethernet {
			d.Ports[0].Host = fmt.Sprintf("198.51.100.%d", 1+i)
		}
		for p := range 5 {
			d.Points = append(d.Points, site.Point{ID: fmt.Sprintf("d%d-%d", i, p), Name: fmt.Sprint("P", p),
				Type: value.TypeFloat32, Address: block.At("hr", uint32(2*p)), PaceMs: paceMs, Access: site.ReadOnly})
		}
		s.Devices = append(s.Devices, d)
		s.Links = append(s.Links, site.Link{ID: fmt.Sprint("k", i), Asking: "lss", Answering: d.ID, Line: line.ID,
			Protocol: name, Settings: protocol.Numbers(map[string]int{"unit": settings["unit"].Int(),
				"timeoutMs": 1000})})
	}
	return s
}

// begun runs a site on the bench.
func begun(b *testing.B, s *site.Site) (*field.Engine, func()) {
	b.Helper()
	standIns := bench.New()
	if err := standIns.Sync(s); err != nil {
		b.Fatal(err)
	}
	e := field.NewEngine(s, standIns)
	if err := e.Start(nil); err != nil {
		b.Fatal(err)
	}
	return e, func() {
		e.Close()
		if err := standIns.Close(); err != nil {
			b.Error(err)
		}
	}
}

// BenchmarkRound compares the planned time of a round with the one measured on
// the bench, promised within 5 %, and says how much of a fast line is lost
// between requests over what the standard demands, promised under 2 %.
func BenchmarkRound(b *testing.B) {
	for _, c := range []struct {
		name, protocol string
		baud, thinkMs  int
	}{{"9600", "modbus-rtu", 9600, 8}, {"19200", "modbus-rtu", 19200, 8}, {"115200", "modbus-rtu", 115200, 8},
		{"115200-no-thinking", "modbus-rtu", 115200, 0},
		{"ascii-19200", "modbus-ascii", 19200, 8}, {"tcp", "modbus-tcp", 0, 20}} {
		b.Run(c.name, func(b *testing.B) {
			line := site.Line{ID: "l", Name: "Tank row A", Medium: site.Ethernet}
			if c.baud > 0 {
				line.Medium, line.Serial = site.SerialLine,
					&site.Serial{Standard: serial.TIA485Two,
						Format: serial.Format{Baud: c.baud, Data: 8, Parity: serial.Even, Stop: 1}}
			}
			devices := 4
			if c.baud == 0 {
				devices = 1
			}
			s := row(line, c.protocol, devices, c.thinkMs, 10)
			planned := 0.0
			for _, q := range timetable.Compile(s).Requests {
				planned += q.WireMs + q.DeviceMs + q.GapMs
			}
			for b.Loop() {
				e, end := begun(b, s)
				time.Sleep(4 * time.Second)
				list := e.Hub.Exchanges(0, 8000)
				if c.baud == 0 {
					// The timers of the stand-in are a millisecond late: what
					// the plan goes by is learned from the run.
					think := e.Hub.Thinks(20)["k0"]
					s.Devices[1].Ports[0].Think = &think
					q := timetable.Compile(s).Requests[0]
					planned = q.WireMs + q.DeviceMs
				}
				end()
				list = list[len(list)/4:] // once it has settled
				var rounds []float64
				for i := devices; i < len(list); i += devices {
					rounds = append(rounds, float64(list[i].At.Sub(list[i-devices].At))/1e6)
				}
				slices.Sort(rounds)
				measured := rounds[len(rounds)/2]
				b.ReportMetric(planned, "planned-ms")
				b.ReportMetric(measured, "measured-ms")
				b.ReportMetric(100*math.Abs(measured-planned)/planned, "%-off")
				b.ReportMetric(0, "ns/op")
			}
		})
	}
}
