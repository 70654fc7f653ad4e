package iec61850_test

import (
	"context"
	"fmt"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"ferry/internal/bench"
	_ "ferry/internal/bench/dnp3"
	"ferry/internal/core/address"
	"ferry/internal/core/family/dnp3"
	family "ferry/internal/core/family/iec61850"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	_ "ferry/internal/field/dnp3"
	"ferry/internal/field/fieldtest"
	_ "ferry/internal/field/iec61850"
	wire "ferry/internal/wire/iec61850"
)

// elsewhere dials one place, whatever is asked for.
type elsewhere string

func (e elsewhere) Dial(*site.Site, *site.Link) string { return string(e) }
func (e elsewhere) Post(*site.Port) string             { return string(e) }

// shore is a site with the outstation of a pump station, and Ferry as the concentrator that a shore
// substation asks: the model of a file, or of the points alone.
func shore(t testing.TB, file bool) *site.Site {
	t.Helper()
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Plant net", Medium: "ethernet", Network: "192.0.2.0/24"}}
	fast := protocol.Settings{dnp3.KeyClass1: protocol.OfInt(50), dnp3.KeyClass2: protocol.OfInt(50),
		dnp3.KeyClass3: protocol.OfInt(50), protocol.KeyWithin: protocol.OfInt(500)}
	pumps := site.Device{ID: "pumps", Name: "Pump station", Map: "dnp3-tcp",
		Ports: []site.Port{{Line: "net", Host: "192.0.2.70", Protocol: "dnp3-tcp"}},
		Points: []site.Point{fieldtest.Point(t, dnp3.Scheme, "run", "bi3", value.TypeBool, site.ReadOnly),
			fieldtest.Point(t, dnp3.Scheme, "level", "ai22", value.TypeFloat32, site.ReadOnly),
			fieldtest.Point(t, dnp3.Scheme, "sluice", "dbi0", value.TypeUint8, site.ReadOnly),
			fieldtest.Point(t, dnp3.Scheme, "cmd", "bo1", value.TypeBool, site.ReadWrite)}}
	port := site.Port{Line: "net", Host: "192.0.2.11", Protocol: "iec61850"}
	if file {
		port.Settings = protocol.Settings{family.KeyFile: protocol.OfText("concentrator"),
			family.KeyIED: protocol.OfText("SKERRY_CONC")}
	}
	conc := site.Device{ID: "conc", Name: "Shore concentrator", Map: "iec61850", Serving: &site.Serving{},
		Ports: []site.Port{port}, Points: concentrator(t, "c-")}
	s.Devices = []site.Device{{ID: "lss", Name: "LSS controller", Ports: []site.Port{{Line: "net", Host: "192.0.2.10"}},
		Points: []site.Point{}}, pumps, conc}
	s.Links = []site.Link{{ID: "l", Asking: "lss", Answering: "pumps", Line: "net", Protocol: "dnp3-tcp", Settings: fast}}
	s.Crossings = []site.Crossing{{ID: "x1", From: "run", To: "c-run"}, {ID: "x2", From: "level", To: "c-level"},
		{ID: "x3", From: "sluice", To: "c-sluice"}, {ID: "x4", From: "c-cmd", To: "cmd"}}
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	return s
}

func concentrator(t testing.TB, prefix string) []site.Point {
	return []site.Point{fieldtest.Point(t, family.Scheme, prefix+"run", "LD0/GGIO1.Ind1.stVal[ST]", value.TypeBool,
		site.ReadOnly), fieldtest.Point(t, family.Scheme, prefix+"level", "LD0/GGIO7.AnIn1.mag.f[MX]",
		value.TypeFloat32, site.ReadOnly), fieldtest.Point(t, family.Scheme, prefix+"sluice",
		"LD0/GGIO2.DPCSO1.stVal[ST]", value.TypeUint8, site.ReadOnly),
		fieldtest.Point(t, family.Scheme, prefix+"cmd", "LD0/GGIO9.SPCSO2.Oper.ctlVal[CO]", value.TypeBool, site.ReadWrite)}
}

// station is Ferry at the pump station and the shore, with the bench, and where it listens.
func station(t testing.TB, file bool, change ...func(*site.Site)) (e *field.Engine, b *bench.Bench, at string) {
	t.Helper()
	s := shore(t, file)
	for _, each := range change {
		each(s)
	}
	b = bench.New()
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	e = field.NewEngine(s, b)
	e.Kept = func(protocol.Kind, string) ([]byte, error) { return os.ReadFile("../../bench/concentrator.icd") }
	t.Cleanup(func() {
		e.Close()
		if err := b.Close(); err != nil {
			t.Error(err)
		}
	})
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "it listens", func() bool {
		if list := e.Serving(); len(list) == 1 && len(list[0].Listens) == 1 {
			at = list[0].Listens[0]
		}
		probe, err := net.Dial("tcp", at)
		return err == nil && probe.Close() == nil
	})
	return e, b, at
}

// controller is a substation controller that asks at a place.
func controller(t testing.TB, at string, settings protocol.Settings, change ...func(*site.Site)) *field.Engine {
	t.Helper()
	far := site.New("Skerry Point Shore")
	far.Lines = []site.Line{{ID: "net", Name: "Shore net", Medium: "ethernet", Network: "192.0.2.0/24"}}
	own := concentrator(t, "f-")
	own[3].Access = site.WriteOnly
	far.Devices = []site.Device{{ID: "sub", Name: "Substation controller",
		Ports: []site.Port{{Line: "net", Host: "192.0.2.1"}}, Points: []site.Point{}},
		{ID: "ied", Name: "Concentrator", Map: "iec61850", Points: own,
			Ports: []site.Port{{Line: "net", Host: "192.0.2.11", Protocol: "iec61850"}}}}
	far.Links = []site.Link{{ID: "f", Asking: "sub", Answering: "ied", Line: "net", Protocol: "iec61850",
		Settings: settings}}
	for _, each := range change {
		each(far)
	}
	e := field.NewEngine(far, elsewhere(at))
	t.Cleanup(e.Close)
	return e
}

// TestShore: what an outstation tells is reported to a substation controller with its quality and its
// own time, and a command goes the other way, by the model of a file and by one of the points alone.
func TestShore(t *testing.T) {
	for name, file := range map[string]bool{"by a file": true, "by points": false} {
		t.Run(name, func(t *testing.T) {
			e, b, at := station(t, file)
			at, asked, answered := between(t, at)
			far := controller(t, at, nil)
			ctx := context.Background()
			fieldtest.Wait(t, "all stops are good", func() bool {
				r, err := far.Try(ctx, "f")
				return err == nil && r.StopsAt == nil
			})
			if err := far.Start(nil); err != nil {
				t.Fatal(err)
			}
			fieldtest.Wait(t, "what the outstation shows is at the shore", func() bool {
				near, here := fieldtest.Live(e, "level"), fieldtest.Live(far, "f-level")
				return here.Quality == value.Good && here.Value == near.Value && here.SourceMs == near.SourceMs &&
					here.SourceMs > 0 && fieldtest.Live(far, "f-run").Value == fieldtest.Live(e, "run").Value &&
					fieldtest.Live(far, "f-sluice").Value.Uint() == fieldtest.Live(e, "sluice").Value.Uint()
			})
			fieldtest.Wait(t, "it comes by reports", func() bool {
				for _, x := range far.Hub.Exchanges(0, 50, "f") {
					if len(x.Operation) > 7 && x.Operation[:7] == "report " && len(x.Samples) > 0 {
						return true
					}
				}
				return false
			})
			order, err := far.Prepare(ctx, "f-cmd", "1")
			if err != nil {
				t.Fatal(err)
			}
			if result, err := far.Write(ctx, "Ines", order.Token); err != nil || !result.OK {
				t.Fatalf("%+v, %v", result, err)
			}
			fieldtest.Wait(t, "the command has reached the outstation",
				func() bool { return fieldtest.Live(e, "cmd").Value.Bool() })

			if err := b.SetFault("pumps", bench.Fault{Kind: "comm-lost"}); err != nil {
				t.Fatal(err)
			}
			fieldtest.Wait(t, "the shore knows that it is not good",
				func() bool { return fieldtest.Live(far, "f-level").Quality != value.Good })
			if err := b.SetFault("pumps", bench.Fault{}); err != nil {
				t.Fatal(err)
			}
			fieldtest.Wait(t, "it is good again", func() bool { return fieldtest.Live(far, "f-level").Quality == value.Good })
			root, err := far.Browse(ctx, "f", address.Address{}, 0, 100)
			if err != nil || len(root.Entries) != 1 || !root.Entries[0].Opens {
				t.Fatalf("%+v, %v", root, err)
			}
			nodes, err := far.Browse(ctx, "f", root.Entries[0].Address, 0, 100)
			if err != nil || len(nodes.Entries) < 4 {
				t.Fatalf("%+v, %v", nodes, err)
			}
			for _, n := range nodes.Entries {
				if in, err := far.Browse(ctx, "f", n.Address, 0, 100); err != nil || n.Name == "GGIO1" &&
					(len(in.Entries) == 0 || in.Entries[0].Value.IsNone()) {
					t.Errorf("%s: %+v, %v", n.Name, in, err)
				}
			}
			if asked.Load() < 20 || answered.Load() < 20 {
				t.Errorf("%d and %d messages were read", asked.Load(), answered.Load())
			}
			far.Close()
		})
	}
}

// TestCommands: each command of a client is carried out once, also the same again; one that the
// outstation refuses is refused, and none is sent that nobody gave: not after a failure, and not when a
// run begins anew.
func TestCommands(t *testing.T) {
	e, b, at := station(t, false)
	fieldtest.Wait(t, "the outstation is read", func() bool { return fieldtest.Live(e, "cmd").Quality == value.Good })
	at, _, answered := between(t, at)
	c := dial(t, at)
	domain := c.names(wire.Domains, "")[0]
	oper := func(on int64) bool {
		t.Helper()
		n := wire.Name{Domain: domain, Item: "GGIO9$CO$SPCSO2$Oper"}
		list, err := wire.ReadResults(c.ask(wire.Read, wire.ReadOf([]wire.Name{n})).Body, 0)
		if err != nil || len(list) != 1 || len(list[0].Data.Parts) < 5 {
			t.Fatalf("%+v, %v", list, err)
		}
		list[0].Data.Parts[0].Int = on
		return c.put(domain, n.Item, list[0].Data)
	}
	operated := func() int {
		n := 0
		for _, x := range e.Hub.Exchanges(0, 5000, "l") {
			if strings.HasPrefix(x.Operation, "write ") {
				n++
			}
		}
		return n
	}
	first := operated()
	for i, on := range []int64{1, 1, 0, 0, 1} {
		if !oper(on) {
			t.Fatalf("command %d is refused", i)
		}
	}
	if n := operated() - first; n != 5 {
		t.Errorf("%d commands reached the outstation, and 5 were given", n)
	}
	fieldtest.Wait(t, "it is on", func() bool { return fieldtest.Live(e, "cmd").Value.Bool() })

	if err := b.SetFault("pumps", bench.Fault{Kind: "local"}); err != nil {
		t.Fatal(err)
	}
	before := operated()
	if oper(0) {
		t.Error("the outstation refuses, and the client is told that it is done")
	}
	if err := b.SetFault("pumps", bench.Fault{}); err != nil {
		t.Fatal(err)
	}
	time.Sleep(3 * time.Second) // nothing is tried again
	if n := operated() - before; n != 1 || !fieldtest.Live(e, "cmd").Value.Bool() {
		t.Errorf("a command that was refused was sent %d times, and it is on: %t", n, fieldtest.Live(e, "cmd").Value.Bool())
	}
	e.Stop(nil)
	before = operated()
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "it answers again", func() bool { return len(e.Serving()) == 1 && len(e.Serving()[0].Listens) == 1 })
	time.Sleep(2 * time.Second)
	if n := operated() - before; n != 0 {
		t.Errorf("%d commands were sent that nobody gave", n)
	}
	if answered.Load() < 10 {
		t.Errorf("%d messages were read", answered.Load())
	}
}

// TestEnhanced: with enhanced security a command is taken at once, and how it ended behind is told: done,
// or why not.
func TestEnhanced(t *testing.T) {
	_, b, at := station(t, true, func(s *site.Site) { control(t, s.Device("conc"), "LD0/GGIO9.SPCSO4.Oper.ctlVal[CO]") })
	at, _, answered := between(t, at)
	far := controller(t, at, nil, func(s *site.Site) { control(t, s.Device("ied"), "LD0/GGIO9.SPCSO4.Oper.ctlVal[CO]") })
	ctx := context.Background()
	fieldtest.Wait(t, "all stops are good", func() bool {
		r, err := far.Try(ctx, "f")
		return err == nil && r.StopsAt == nil
	})
	operate := func(v string) (field.WriteResult, error) {
		t.Helper()
		order, err := far.Prepare(ctx, "f-cmd", v)
		if err != nil {
			t.Fatal(err)
		}
		return far.Write(ctx, "Ines", order.Token)
	}
	if result, err := operate("1"); err != nil || !result.OK {
		t.Fatalf("%+v, %v", result, err)
	}
	if err := b.SetFault("pumps", bench.Fault{Kind: "local"}); err != nil {
		t.Fatal(err)
	}
	time.Sleep(300 * time.Millisecond)
	if result, err := operate("0"); err == nil && result.OK || !strings.Contains(result.Sentence+fmt.Sprint(err),
		"blocked by process") {
		t.Fatalf("%+v, %v", result, err)
	}
	if answered.Load() < 10 {
		t.Errorf("%d messages were read", answered.Load())
	}
}

// control has the last point of a device be another control.
func control(t testing.TB, d *site.Device, at string) {
	p := &d.Points[len(d.Points)-1]
	p.Address = fieldtest.Point(t, family.Scheme, "", at, p.Type, p.Access).Address
}
