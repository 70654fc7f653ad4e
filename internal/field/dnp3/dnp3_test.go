package dnp3_test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"ferry/internal/bench"
	_ "ferry/internal/bench/dnp3"
	family "ferry/internal/core/family/dnp3"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	_ "ferry/internal/field/dnp3"
	"ferry/internal/field/fieldtest"
)

// fast are settings of a link that polls often.
func fast() protocol.Settings {
	return protocol.Settings{family.KeyClass1: protocol.OfInt(100), family.KeyClass2: protocol.OfInt(100),
		family.KeyClass3: protocol.OfInt(100), protocol.KeyWithin: protocol.OfInt(500)}
}

// station is a pump station on a bench, with who asks it.
func station(t *testing.T, settings protocol.Settings) (*site.Site, *bench.Bench, *field.Engine) {
	t.Helper()
	s := pumps(t, settings)
	b, e := begun(t, s)
	return s, b, e
}

// begun is a bench with a site, and who asks there.
func begun(t *testing.T, s *site.Site) (*bench.Bench, *field.Engine) {
	t.Helper()
	b := bench.New()
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	tap := newTapped(t, b)
	taps.Store(t.Name(), tap)
	e := field.NewEngine(s, tap)
	t.Cleanup(func() {
		e.Close()
		if err := b.Close(); err != nil {
			t.Error(err)
		}
	})
	return b, e
}

// pumps is a site with a pump station that has some objects of each kind.
func pumps(t *testing.T, settings protocol.Settings) *site.Site {
	t.Helper()
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Plant net", Medium: "ethernet", Network: "192.0.2.0/24"}}
	point := func(at string, of value.Type, access site.Access) site.Point {
		a, err := family.Scheme.Parse(at, "")
		if err != nil {
			t.Fatal(err)
		}
		return site.Point{ID: at, Name: "Point " + at, Address: a, Type: of, PaceMs: 1000, Access: access}
	}
	s.Devices = []site.Device{
		{ID: "lss", Name: "LSS controller", Ports: []site.Port{{Line: "net", Host: "192.0.2.10"}}, Points: []site.Point{}},
		{ID: "pumps", Name: "Pump station", Map: "dnp3-tcp",
			Ports: []site.Port{{Line: "net", Host: "192.0.2.70", Protocol: "dnp3-tcp"}}}}
	d := &s.Devices[1]
	for i := range 4 {
		d.Points = append(d.Points, point(fmt.Sprintf("bi%d", i), value.TypeBool, site.ReadOnly))
	}
	text := point("str2", value.TypeText, site.ReadOnly)
	text.Length = 12
	d.Points = append(d.Points, point("dbi0", value.TypeUint8, site.ReadOnly),
		point("ai0", value.TypeFloat32, site.ReadOnly), point("ai7", value.TypeInt32, site.ReadOnly),
		point("ctr3", value.TypeUint32, site.ReadOnly), point("fctr3", value.TypeUint32, site.ReadOnly),
		point("bo1", value.TypeBool, site.ReadWrite), point("bo1.pulse", value.TypeBool, site.WriteOnly),
		point("ao0", value.TypeFloat32, site.ReadWrite), text)
	s.Links = []site.Link{{ID: "l", Asking: "lss", Answering: "pumps", Line: "net", Protocol: "dnp3-tcp",
		Settings: settings}}
	return s
}

// TestStation: an outstation is tried, polled, operated and listed, and survives a restart.
func TestStation(t *testing.T) {
	s, b, e := station(t, fast())
	ctx := context.Background()
	r, err := e.Try(ctx, "l")
	if err != nil || r.StopsAt != nil {
		t.Fatalf("%+v, %v", r, err)
	}
	if err := e.Start([]string{"l"}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "all are read", func() bool {
		for i := range s.Devices[1].Points {
			p := &s.Devices[1].Points[i]
			if live, _ := e.Hub.Point(p.ID); p.Access != site.WriteOnly && live.Quality != value.Good {
				return false
			}
		}
		return true
	})
	fieldtest.Wait(t, "events have their times", func() bool {
		live, _ := e.Hub.Point("ai0")
		return live.SourceMs > 0 && live.AtMs-live.SourceMs < 1000
	})
	for id, text := range map[string]string{"bo1": "1", "ao0": "6.25"} {
		order, err := e.Prepare(ctx, id, text)
		if err != nil {
			t.Fatal(err)
		}
		if result, err := e.Write(ctx, "Ines", order.Token); err != nil || !result.OK {
			t.Fatalf("%s: %+v, %v", id, result, err)
		}
	}
	fieldtest.Wait(t, "the output is reported as it was operated", func() bool {
		on, _ := e.Hub.Point("bo1")
		level, _ := e.Hub.Point("ao0")
		return on.Value.Bool() && level.Value.Float() == 6.25
	})
	if err := b.SetFault("pumps", bench.Fault{Kind: "local"}); err != nil {
		t.Fatal(err)
	}
	order, err := e.Prepare(ctx, "bo1", "0")
	if err != nil {
		t.Fatal(err)
	}
	if result, _ := e.Write(ctx, "Ines", order.Token); result.OK || !strings.Contains(result.Sentence, "local") {
		t.Errorf("operated on the spot: %+v", result)
	}
	if err := b.SetFault("pumps", bench.Fault{Kind: "restarts"}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "a restart is answered with an integrity poll", func() bool {
		for _, x := range e.Hub.Exchanges(0, 200, "l") {
			if strings.Contains(x.Operation, "after a restart") {
				return true
			}
		}
		return false
	})
}

// TestSharedLine: two outstations on one serial line are polled in turns; one that falls silent costs
// the other little, and comes back.
func TestSharedLine(t *testing.T) {
	s := pumps(t, nil)
	s.Lines = append(s.Lines, site.Line{ID: "bay", Name: "Pump bay", Medium: "serial",
		Serial: &site.Serial{Standard: serial.TIA485Two, Format: serial.Format{Baud: 38400, Data: 8,
			Parity: serial.None, Stop: 1}}})
	first := &s.Devices[1]
	port := func(station int) []site.Port {
		return []site.Port{{Line: "bay", Protocol: "dnp3-serial", Settings: protocol.Settings{
			family.KeyOutstation: protocol.OfInt(station), family.KeyMaster: protocol.OfInt(1)}}}
	}
	first.Map, first.Ports = "dnp3-serial", port(10)
	second := *first
	second.ID, second.Name, second.Ports, second.Points = "sluice", "Sluice", port(11), nil
	for _, p := range first.Points[:3] {
		p.ID = "second-" + p.ID
		second.Points = append(second.Points, p)
	}
	s.Devices = append(s.Devices, second)
	s.Devices[0].Ports = append(s.Devices[0].Ports, site.Port{Line: "bay"})
	s.Links = nil
	for i, id := range []string{"pumps", "sluice"} {
		settings := fast()
		settings[family.KeyOutstation] = protocol.OfInt(10 + i)
		s.Links = append(s.Links, site.Link{ID: "l" + id, Asking: "lss", Answering: id, Line: "bay", Protocol: "dnp3-serial",
			Settings: settings})
	}
	b, e := begun(t, s)
	for _, id := range []string{"lpumps", "lsluice"} {
		if r, err := e.Try(context.Background(), id); err != nil || r.StopsAt != nil {
			t.Fatalf("%s: %+v, %v", id, r, err)
		}
	}
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	quality := func(id string) value.Quality {
		live, _ := e.Hub.Point(id)
		return live.Quality
	}
	fieldtest.Wait(t, "both are read", func() bool {
		return quality("ai0") == value.Good && quality("second-bi0") == value.Good
	})
	if err := b.SetFault("sluice", bench.Fault{Kind: "off"}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "the silent one is bad", func() bool { return quality("second-bi0") == value.Bad })
	for range 40 {
		time.Sleep(50 * time.Millisecond)
		if q := quality("ai0"); q != value.Good {
			t.Fatalf("the other is %s meanwhile", q)
		}
	}
	if err := b.SetFault("sluice", bench.Fault{}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "it comes back", func() bool { return quality("second-bi0") == value.Good })
}

// taps are those of the tests that run, by their names.
var taps sync.Map

// TestTrial: who only tries a link takes no events from the outstation that another may be waiting for,
// and changes nothing in it.
func TestTrial(t *testing.T) {
	settings := fast()
	settings[family.KeyUnasked1] = protocol.OfSwitch(true)
	_, _, e := station(t, settings)
	time.Sleep(300 * time.Millisecond) // there are events by now
	if r, err := e.Try(context.Background(), "l"); err != nil || r.StopsAt != nil {
		t.Fatalf("%+v, %v", r, err)
	}
	of, _ := taps.Load(t.Name())
	tap, _ := of.(*tapped)
	for _, said := range []string{"0", "2", "3", "4", "5", "7", "20", "21", "1 60.2", "1 60.3", "1 60.4"} {
		if _, sent := tap.said.Load(said); sent {
			t.Errorf("a try sends %s", said)
		}
	}
	if _, read := tap.said.Load("1 60.1"); !read {
		t.Error("a try does not read what stands there")
	}
}
