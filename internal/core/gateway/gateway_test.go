package gateway_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	_ "ferry/internal/core/family/bacnet"
	_ "ferry/internal/core/family/modbus"
	"ferry/internal/core/gateway"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/shelf"
)

func sheet(id string) *site.Datasheet {
	for _, d := range shelf.Datasheets() {
		if d.ID == id {
			return &d
		}
	}
	return nil
}

func farm() *site.Site {
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Buildings net", Medium: site.Ethernet, Network: "192.0.2.0/24"}}
	return s
}

// order is a gateway of so many meters of two models on a new line.
func order(meters, baud int) *gateway.Design {
	o := &gateway.Design{NewLine: gateway.NewLine{Name: "Meter line", Format: serial.Format{Baud: baud, Data: 8,
		Parity: serial.None, Stop: 1}}, PaceMs: 10_000, Models: []gateway.Model{{Datasheet: "shelf-energy-meter-em2"},
		{Datasheet: "shelf-energy-meter-em5"}},
		As: gateway.Upstream{Protocol: "bacnet-ip", Name: "Energy gateway", Line: "net", Host: "192.0.2.60",
			Settings: protocol.Settings{"device": protocol.OfInt(4050)}},
		Reader: gateway.Reader{Name: "Building controller", Host: "192.0.2.9", PaceMs: 5000}}
	for i := range meters {
		o.Meters = append(o.Meters, gateway.Meter{Name: fmt.Sprintf("Meter %d", i+1), Station: i + 1, Model: i / 3 % 2})
	}
	return o
}

func ids() func() string {
	n := 0
	return func() string { n++; return fmt.Sprint("x", n) }
}

// TestBuild: a gateway of six meters of two models has each of their useful values as an object of a type, a
// name and a unit that suit it, and the site holds with it.
func TestBuild(t *testing.T) {
	s := farm()
	built, err := gateway.Build(s, order(6, 9600), sheet, ids())
	if err != nil {
		t.Fatal(err)
	}
	next, _, err := s.Apply(built.Edits)
	if err != nil {
		t.Fatal(err)
	}
	var said []string
	for _, x := range built.Objects {
		if x.Meter == 0 && (x.Source == "Voltage1" || x.Source == "Energy") || x.Meter == 3 {
			said = append(said, fmt.Sprintf("%d %s %s > %s %q %s %s ±%g %s", x.Meter, x.At, x.Source, x.Address, x.Name,
				x.Type, x.Unit, x.Band, x.Lost))
		}
	}
	const want = `0 30001 Voltage1 > analog-input:101 "Meter 1 Voltage1" float32 V ±1 
0 30015 Energy > large-analog-value:108 "Meter 1 Energy" float64 kWh ±1 
3 40001 Voltage12 > analog-input:401 "Meter 4 Voltage12" float32 V ±1 
3 40003 Voltage23 > analog-input:402 "Meter 4 Voltage23" float32 V ±1 
3 40005 Voltage31 > analog-input:403 "Meter 4 Voltage31" float32 V ±1 
3 40013 Current1 > analog-input:404 "Meter 4 Current1" float32 A ±0.1 
3 40015 Current2 > analog-input:405 "Meter 4 Current2" float32 A ±0.1 
3 40017 Current3 > analog-input:406 "Meter 4 Current3" float32 A ±0.1 
3 40031 Power > analog-input:407 "Meter 4 Power" float32 kW ±0.1 
3 40033 PowerFactor > analog-input:408 "Meter 4 PowerFactor" float32 cosφ ±0.01 
3 40041 Energy > large-analog-value:409 "Meter 4 Energy" float64 kWh ±1 
3 40045 Tariff > multi-state-input:410 "Meter 4 Tariff" uint32  ±0 `
	if got := strings.Join(said, "\n"); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if len(next.Crossings) != 54 || len(next.Links) != 6 || len(built.Devices) != 1 ||
		len(next.Device(built.Devices[0]).Points) != 54 {
		t.Errorf("%d crossings, %d links, %v", len(next.Crossings), len(next.Links), built.Devices)
	}
	each := order(6, 9600)
	each.As.Each = true
	if built, err = gateway.Build(s, each, sheet, ids()); err != nil {
		t.Fatal(err)
	}
	if next, _, err = s.Apply(built.Edits); err != nil {
		t.Fatal(err)
	}
	d := next.Device(built.Devices[6])
	if len(built.Devices) != 7 || d.Name != "Energy gateway, Meter 6" || d.Ports[0].Settings["device"].Int() != 4056 ||
		d.Ports[0].Settings["network"].Int() == 0 ||
		d.Points[0].Name != "Voltage12" {
		t.Errorf("%+v", d)
	}
}

// TestPicks: values are chosen out of a list, and others added by hand.
func TestPicks(t *testing.T) {
	o := order(1, 9600)
	o.Models[0].Picks = []string{"p07", "p09"}
	o.Models[0].More = []gateway.Typed{{Name: "Demand", Address: "30051", Type: "uint32", Scale: "÷ 10", Unit: "kW"}}
	built, err := gateway.Build(farm(), o, sheet, ids())
	if err != nil {
		t.Fatal(err)
	}
	next, _, err := farm().Apply(built.Edits)
	if err != nil {
		t.Fatal(err)
	}
	var said []string
	for _, x := range built.Objects {
		said = append(said, x.At+" "+x.Name+" "+x.Unit)
	}
	if got := strings.Join(said,
		", "); got != "30013 Meter 1 Power kW, 30019 Meter 1 Frequency Hz, 30051 Meter 1 Demand kW" {
		t.Error(got)
	}
	if p := next.Devices[2].Points[2]; p.Factor != 0.1 || p.PaceMs != 10_000 {
		t.Errorf("%+v", p)
	}
	o.Models[0].Picks, o.Models[0].More = []string{}, nil
	if _, err := gateway.Build(farm(), o, sheet, ids()); err == nil ||
		!strings.Contains(err.Error(), "nothing of Energy meter EM-2 is chosen") {
		t.Error(err)
	}
	o.Models[0].More = []gateway.Typed{{Name: "Demand", Type: "uint32"}}
	o.Models[0].More[0].Address = "nowhere"
	if _, err := gateway.Build(farm(), o, sheet, ids()); err == nil ||
		!strings.Contains(err.Error(), "Demand, added by hand") {
		t.Error(err)
	}
}

// TestAdd: meters come onto a gateway that is there: on its line, where all keeps one pace, on a second line, where
// the numbers begin behind those of the first, and as devices of their own, with instances that are free.
func TestAdd(t *testing.T) {
	s := farm()
	id := ids()
	built := func(o *gateway.Design) *gateway.Built {
		t.Helper()
		b, err := gateway.Build(s, o, sheet, id)
		if err != nil {
			t.Fatal(err)
		}
		if s, _, err = s.Apply(b.Edits); err != nil {
			t.Fatal(err)
		}
		return b
	}
	first := built(order(2, 9600))
	gate, meter := first.Devices[0], s.Links[0].Answering

	more := func(name, line string, station int) *gateway.Design {
		o := order(0, 9600)
		o.As, o.Line, o.NewLine.Name = gateway.Upstream{Device: gate}, line, "Meter line 2"
		o.PaceMs = 20_000
		o.Meters = []gateway.Meter{{Name: name, Station: station}}
		return o
	}
	o := more("Meter 3", first.Line, 3)
	o.As.Names = "Meter 1 {point}" // as another has them
	o.All = true
	b := built(o)
	if b.Devices[0] != gate || b.Line != first.Line || b.Objects[0].Name != "Meter 1 Voltage1 (2)" ||
		b.Objects[0].Address != "analog-input:301" {
		t.Errorf("%v %+v", b.Devices, b.Objects[0])
	}
	if d := s.Device(meter); d.Points[0].PaceMs != 20_000 || d.Placements[0].PaceMs != 20_000 ||
		s.Device(gate).Points[0].PaceMs != 20_000 {
		t.Errorf("what was there is still read every %d ms", d.Points[0].PaceMs)
	}
	look, err := gateway.Look(context.Background(), s, more("Meter 4", first.Line, 4), sheet)
	if err != nil || look.Already != 3 || look.Steps[0].Meters != 4 || len(look.Steps) != 28 || !look.Steps[0].Holds {
		t.Errorf("%v %+v", err, look)
	}

	b = built(more("Meter B1", "", 1))
	if d := s.Device(gate); len(d.Ports) != 2+1 || b.Objects[0].Address != "analog-input:30101" || len(d.Points) != 4*8 {
		t.Errorf("%d ports, %d objects, %s", len(d.Ports), len(d.Points), b.Objects[0].Address)
	}
	for i := range s.Links {
		if s.Links[i].Asking != gate {
			t.Errorf("%s is asked by another", s.Links[i].Answering)
		}
	}
	for n, name := range []string{"Own 1", "Own 2"} {
		o = more(name, first.Line, 11+n)
		o.As.Each = true
		b = built(o)
		d := s.Device(b.Devices[1])
		if d.Name != "Energy gateway, "+name || d.Ports[0].Settings["device"].Int() != 4051+n ||
			b.Objects[0].Address != "analog-input:1" {
			t.Errorf("%+v", d)
		}
		if n == 0 { // the next is on the network of this one
			d.Ports[0].Settings["network"] = protocol.OfInt(77)
		} else if d.Ports[0].Settings["network"].Int() != 77 {
			t.Errorf("%+v", d.Ports)
		}
	}
	o = more("Meter 5", first.Line, 5)
	o.As.Writable = true
	if _, err := gateway.Build(s, o, sheet, id); err == nil ||
		!strings.Contains(err.Error(), "Energy gateway lets nothing be written") {
		t.Error(err)
	}
	// Only what is not given on yet becomes an object.
	o = more("", first.Line, 0)
	o.Meters = []gateway.Meter{{Device: meter}}
	if _, err := gateway.Build(s, o, sheet, id); err == nil ||
		!strings.Contains(err.Error(), "of Meter 1, nothing is left") {
		t.Error(err)
	}
	for i := range s.Crossings {
		if x := s.Crossings[i]; x.From == s.Device(meter).Points[2].ID {
			if s, _, err = s.Apply([]site.Edit{{Kind: site.KindPoint, ID: x.To, Parent: gate}}); err != nil {
				t.Fatal(err)
			}
			break
		}
	}
	if b = built(o); len(b.Objects) != 1 || b.Objects[0].Name != "Meter 1 Voltage3" ||
		b.Objects[0].Address != "analog-input:103" {
		t.Errorf("%+v", b.Objects)
	}
}

// TestCannot: what does not go together is said.
func TestCannot(t *testing.T) {
	for want, change := range map[string]func(*gateway.Design){
		"there is no meter yet": func(o *gateway.Design) { o.Meters = nil },
		"has no model":          func(o *gateway.Design) { o.Meters[2].Model = 7 },
		"is not there any more": func(o *gateway.Design) { o.Models[0].Datasheet = "gone" },
		"another device has":    func(o *gateway.Design) { o.Meters[1].Station = 1 },
		"goes from 1 to 247":    func(o *gateway.Design) { o.Meters[1].Station = 300 },
		"the new line has no":   func(o *gateway.Design) { o.NewLine.Name = " " },
		"the gateway has no":    func(o *gateway.Design) { o.As.Name = "" },
		"choose the network":    func(o *gateway.Design) { o.As.Line = "x" },
		"gateway is not there":  func(o *gateway.Design) { o.As.Device = "net" },
		"has no address":        func(o *gateway.Design) { o.Reader = gateway.Reader{Only: true} },
		"is no protocol":        func(o *gateway.Design) { o.As.Protocol = "modbus-tcp" },
	} {
		o := order(3, 9600)
		change(o)
		if _, err := gateway.Build(farm(), o, sheet, ids()); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", want, err)
		}
	}
}

// TestLook: the oldest value grows with each meter, what is said of six is what is found with six, and a second
// line is due before the first does not hold.
func TestLook(t *testing.T) {
	for _, baud := range []int{9600, 38400} {
		o := order(6, baud)
		o.Fastest = true
		look, err := gateway.Look(context.Background(), farm(), o, sheet)
		if err != nil {
			t.Fatal(err)
		}
		was := 0.0
		for _, s := range look.Steps {
			if s.OldestMs < was {
				t.Errorf("%d baud, %d meters: %v ms, with one less %v", baud, s.Meters, s.OldestMs, was)
			}
			was = s.OldestMs
		}
		oldest := 0.0
		for _, x := range look.Built.Objects {
			oldest = max(oldest, x.OldestMs)
		}
		if six := look.Steps[5]; oldest != six.OldestMs || six.ReadMs != oldest+5000 || six.Assumed ||
			!look.Steps[6].Assumed || len(look.Steps) != 31 {
			t.Errorf("%v, %+v, %d steps", oldest, six, len(look.Steps))
		}
	}
	fast := order(6, 9600)
	fast.PaceMs = 1000
	look, err := gateway.Look(context.Background(), farm(), fast, sheet)
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(look.Due, "second line is due") || look.Good >= 31 || look.Steps[look.Good].Holds {
		t.Errorf("%s %d", look.Due, look.Good)
	}
}
