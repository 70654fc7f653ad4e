package timetable

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// tankRow is a serial line with so many probes, each read every second.
func tankRow(probes int, format string, settings protocol.Settings) *site.Site {
	f, err := serial.ParseFormat(format)
	if err != nil {
		panic(err)
	}
	s := &site.Site{Format: site.Format, Version: site.Version, Name: "Skerry Point Hatchery",
		Lines: []site.Line{{ID: "row", Name: "Tank row A", Medium: site.SerialLine,
			Serial: &site.Serial{Standard: serial.TIA485Two, Format: f, LengthM: 200}}},
		Devices: []site.Device{{ID: "lss", Name: "LSS controller", Ports: []site.Port{{Line: "row"}}}}}
	for i := range probes {
		d := site.Device{ID: fmt.Sprint("d", i), Name: fmt.Sprint("DO probe ", i), Map: "modbus-rtu",
			Ports: []site.Port{{Line: "row", Protocol: "modbus-rtu",
				Settings: protocol.Numbers(map[string]int{"unit": i + 1, "thinkMs": 20})}}}
		for p := range 3 {
			d.Points = append(d.Points, site.Point{ID: fmt.Sprintf("%s-%d", d.ID, p), Name: fmt.Sprint("P", p),
				Type: value.TypeFloat32, Address: block.At("hr", uint32(2*p)), PaceMs: 1000, Access: site.ReadOnly})
		}
		s.Devices = append(s.Devices, d)
		s.Links = append(s.Links,
			site.Link{ID: "k" + d.ID, Asking: "lss", Answering: d.ID, Line: "row", Protocol: "modbus-rtu",
				Settings: settings})
	}
	return s
}

// TestLineTime: the time of a request, by hand. At 9600 8E1 a character takes
// 1.1458 ms; a read of 6 registers has 8 characters out and 17 in, 4.0104 ms of
// silence between them and as much after.
func TestLineTime(t *testing.T) {
	q := Compile(tankRow(1, "9600:8E1", nil)).Requests[0]
	for name, c := range map[string][2]float64{
		"wire": {q.WireMs, 25*1.145833 + 4.010417}, "gap": {q.GapMs, 4.010417}, "device": {q.DeviceMs, 20 + 6*0.01},
	} {
		if math.Abs(c[0]-c[1]) > 1e-4 {
			t.Errorf("%s takes %g ms, want %g", name, c[0], c[1])
		}
	}
	s := tankRow(1, "9600:8E1", nil)
	s.Links[0].Protocol, s.Devices[1].Ports[0].Protocol = "modbus-ascii", "modbus-ascii"
	if q := Compile(s).Requests[0]; math.Abs(q.WireMs-(17+35)*1.145833) > 1e-4 || q.GapMs != 0 {
		t.Errorf("as ASCII it takes %g and %g ms", q.WireMs, q.GapMs)
	}
	s = tankRow(1, "9600:8E1", nil)
	s.Devices[1].Ports[0].Settings["cycleMs"] = protocol.OfInt(100)
	if q := Compile(s).Requests[0]; math.Abs(q.DeviceMs-70.06) > 1e-9 || math.Abs(q.WorstDeviceMs-120.06) > 1e-9 {
		t.Errorf("a device that answers once in 100 ms thinks %g, at worst %g ms", q.DeviceMs, q.WorstDeviceMs)
	}
	s.Devices[1].Ports[0].Think = &site.Think{MedianMs: 31, WorstMs: 90, Count: 100}
	if q := Compile(s).Requests[0]; math.Abs(q.DeviceMs-31.06) > 1e-9 || math.Abs(q.WorstDeviceMs-90.06) > 1e-9 {
		t.Errorf("what was measured does not count: %g and %g ms", q.DeviceMs, q.WorstDeviceMs)
	}
}

// TestSilent: what a silent device costs its line, tried again and again, or
// left alone.
func TestSilent(t *testing.T) {
	tried := tankRow(4, "19200:8E1", protocol.Numbers(map[string]int{"timeoutMs": 300, "retries": 1, "restAfter": 0}))
	usual := Compile(tried).Lines[0]
	silent := CompileSilent(tried, []string{"d1"}).Lines[0]
	// Two tries of 300 ms and 8 characters each second in place of its share.
	want := usual.Utilisation*3/4 + 2*(300+8*0.572917)/1000
	if math.Abs(silent.Utilisation-want) > 1e-3 || !usual.Holds {
		t.Errorf("with one silent the line is %g full, want %g", silent.Utilisation, want)
	}
	rested := tankRow(4, "19200:8E1",
		protocol.Numbers(map[string]int{"timeoutMs": 300, "retries": 1, "restAfter": 3, "restS": 10}))
	if got := CompileSilent(rested,
		[]string{"d1"}).Lines[0]; math.Abs(got.Utilisation-(usual.Utilisation*3/4+(300+8*0.572917)/10_000)) > 1e-3 ||
		!got.Holds {
		t.Errorf("left alone, it leaves the line %g full, holding %v", got.Utilisation, got.Holds)
	}
	o := Look(tried, "row", []string{"d0", "d3"})
	if o.OneSilent == nil || o.OneSilent.Utilisation < silent.Utilisation-1e-9 || o.TwoSilent.Holds ||
		o.Chosen.Utilisation <= o.OneSilent.Utilisation {
		t.Errorf("one %+v, two %+v, chosen %+v", o.OneSilent, o.TwoSilent, o.Chosen)
	}
	kinds := map[string]Advice{}
	for i, a := range o.Advice {
		kinds[a.Kind] = a
		if i > 0 && o.Advice[i-1].Before-o.Advice[i-1].After < a.Before-a.After {
			t.Errorf("%q comes before %q, which gains more", o.Advice[i-1].Sentence, a.Sentence)
		}
	}
	for _, kind := range []string{"rest", "limit", "baud", "split", "slower"} {
		a, ok := kinds[kind]
		if !ok {
			t.Errorf("no advice of kind %s in %+v", kind, o.Advice)
			continue
		}
		if len(a.Edits) == 0 {
			continue
		}
		// What it promises is what comes of its edits.
		next, _, err := tried.Apply(a.Edits)
		if err != nil {
			t.Errorf("%s cannot be done: %v", kind, err)
			continue
		}
		load := Compile(next).Lines[0]
		if a.Silent {
			load = CompileSilent(next, o.OneSilent.Devices).Lines[0]
		}
		if math.Abs(load.Utilisation-a.After) > 1e-9 {
			t.Errorf("%s promises %g and brings %g", kind, a.After, load.Utilisation)
		}
	}
	if kinds["rest"].After >= kinds["limit"].After || len(o.Fastest) != 1 || o.Fastest[0].FastestMs >= 1000 {
		t.Errorf("rest %+v, limit %+v, fastest %+v", kinds["rest"], kinds["limit"], o.Fastest)
	}
	// The fastest pace holds, and one that is a twentieth faster does not.
	factor := float64(o.Fastest[0].FastestMs) / 1000
	if !Compile(scaled(tried, factor)).Lines[0].Holds || Compile(scaled(tried, 0.9*factor)).Lines[0].Holds {
		t.Errorf("%d ms is not the fastest pace", o.Fastest[0].FastestMs)
	}
}

// TestOthersOnTheLine: writes of crossings and traffic that nobody requests
// take their time, and limits of devices are held.
func TestOthersOnTheLine(t *testing.T) {
	s := tankRow(2, "19200:8E1", nil)
	alone := Compile(s).Lines[0].Utilisation
	s.Lines[0].Cyclic = []site.Cyclic{{Name: "Time signal", PeriodMs: 1000, Octets: 20}}
	withCyclic := Compile(s).Lines[0]
	if want := (20*0.572917 + 2.005208) / 1000; math.Abs(withCyclic.Utilisation-alone-want) > 1e-5 {
		t.Errorf("a frame of 20 octets a second takes %g of the line, want %g", withCyclic.Utilisation-alone, want)
	}
	s.Devices[2].Points[2].Access = site.ReadWrite
	s.Crossings = []site.Crossing{{ID: "x", From: "d0-0", To: "d1-2"}}
	if got := Compile(s).Lines[0]; got.Writes <= 0.02 ||
		math.Abs(got.Utilisation-withCyclic.Utilisation-got.Writes) > 1e-9 {
		t.Errorf("a crossing that writes a float every second takes %g", got.Writes)
	}
	s.Devices[1].Limits.PerSecond = 0.5
	s.Devices[1].Points[0].ChangeMs = 1500
	codes := map[string]bool{}
	for _, f := range Compile(s).Findings {
		codes[f.Code] = true
	}
	if !codes["polled-too-fast"] || !codes["samples-too-few"] {
		t.Errorf("findings %v", codes)
	}
	// What two askers ask of one device counts together.
	twice := tankRow(1, "19200:8E1", nil)
	twice.Lines[0] = site.Line{ID: "row", Medium: site.Ethernet}
	for i := range twice.Devices {
		twice.Devices[i].Ports[0].Settings, twice.Devices[i].Map = nil, "modbus-tcp"
		twice.Devices[i].Ports[0].Protocol = map[bool]string{true: "modbus-tcp"}[i > 0]
	}
	twice.Devices = append(twice.Devices, site.Device{ID: "panel", Name: "Panel", Ports: []site.Port{{Line: "row"}}})
	twice.Links[0].Protocol = "modbus-tcp"
	twice.Links = append(twice.Links, site.Link{ID: "other", Asking: "panel", Answering: "d0", Line: "row",
		Protocol: "modbus-tcp"})
	for most, want := range map[float64]int{1.5: 1, 2: 0} {
		twice.Devices[1].Limits.PerSecond = most
		var said []string
		for _, f := range Compile(twice).Findings {
			if f.Code == "polled-too-fast" {
				said = append(said, f.Sentence)
			}
		}
		if len(said) != want || want > 0 && !strings.Contains(said[0], "is asked 2.0 times a second and bears 1.5") {
			t.Errorf("bears %g: %q", most, said)
		}
	}
	// A structure is read in one piece, although its parts lie apart.
	d := &s.Devices[2]
	d.Limits.NoBridging = true
	d.Placements = []site.Placement{{ID: "pl", Structure: "tank"}}
	d.Points[1].Address = block.At("hr", 20)
	for i := range d.Points {
		d.Points[i].From = &site.Origin{Placement: "pl", Point: fmt.Sprint(i)}
	}
	for _, q := range Compile(s).Requests {
		if q.Device == "d1" && (q.Count != 22 || len(q.Points) != 3) {
			t.Errorf("a structure is torn: %+v", q)
		}
	}
}

func TestFastestChange(t *testing.T) {
	var slow, fast []Sample
	for i := range 100 {
		slow = append(slow, Sample{int64(1000 * i), float64(i / 5)})
		fast = append(fast, Sample{int64(1000 * i), float64(i)})
	}
	if got := FastestChange(slow); got != 5000 {
		t.Errorf("a signal that changes every 5 s is said to change every %d ms", got)
	}
	if got := FastestChange(slow[:20]); got != 0 {
		t.Errorf("three changes are enough to learn %d ms", got)
	}
	if words := SamplingWords(1000, 0, FastestChange(fast), 100); words == "It sees every change." {
		t.Error("a signal that is another at each read is said to be seen")
	}
}
