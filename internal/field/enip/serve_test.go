package enip_test

import (
	"context"
	"net"
	"testing"
	"time"

	"ferry/internal/bench"
	_ "ferry/internal/bench/modbus"
	"ferry/internal/core/block"
	family "ferry/internal/core/family/enip"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
	_ "ferry/internal/field/modbus"
)

// elsewhere dials one place, whatever is asked for.
type elsewhere string

func (e elsewhere) Dial(*site.Site, *site.Link) string { return string(e) }
func (e elsewhere) Post(*site.Port) string             { return string(e) }

// TestAdapter: Ferry is the answering end of a cyclic connection whose inputs a crossing
// makes, and whose outputs act on a point behind it. Its other end is another Ferry.
func TestAdapter(t *testing.T) {
	n, text, on := protocol.OfInt, protocol.OfText, protocol.OfSwitch
	point := func(id, at string, kind value.Type, access site.Access) site.Point {
		a, err := family.Assemblies.Parse(at, "")
		if err != nil {
			t.Fatal(err)
		}
		return site.Point{ID: id, Name: id, Address: a, Type: kind, Access: access, PaceMs: 50}
	}
	answers := protocol.Settings{family.KeyInInstance: n(150), family.KeyOutInstance: n(160), family.KeyConfigAt: n(0),
		family.KeyInOctets:  n(8),
		family.KeyOutOctets: n(4), family.KeyOutHead: on(true), family.KeyInHead: on(true),
		family.KeyIdentity: text("1234/43/9/1.2")}
	register := func(id string, at uint32, access site.Access) site.Point {
		return site.Point{ID: id, Name: id, Address: block.At("hr", at), Type: "float32", Access: access, PaceMs: 20}
	}
	s := &site.Site{Format: site.Format, Version: site.Version, Name: "Skerry Point Hatchery",
		Lines: []site.Line{{ID: "net", Name: "Plant network", Medium: site.Ethernet, Network: "192.0.2.0/24"}},
		Devices: []site.Device{{ID: "lss", Name: "Life support", Ports: []site.Port{{Line: "net", Host: "192.0.2.1"}}},
			{ID: "probe", Name: "DO probe 11", Map: "modbus-tcp",
				Ports:  []site.Port{{Line: "net", Host: "192.0.2.11", Protocol: "modbus-tcp"}},
				Points: []site.Point{register("source", 0, site.ReadOnly), register("command", 2, site.ReadWrite)}},
			{ID: "shore", Name: "Shore adapter", Map: "enip-cyclic", Serving: &site.Serving{},
				Ports: []site.Port{{Line: "net", Host: "192.0.2.60", Protocol: "enip-cyclic", Settings: answers}},
				Points: []site.Point{point("oxygen", "in:0", "float32", site.ReadOnly),
					point("setpoint", "out:0", "float32", site.ReadWrite)}}},
		Links: []site.Link{{ID: "to-probe", Asking: "lss", Answering: "probe", Line: "net", Protocol: "modbus-tcp"}},
		Crossings: []site.Crossing{{ID: "x", From: "source", To: "oxygen", Factor: 2},
			{ID: "y", From: "setpoint", To: "command"}}}
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	b := bench.New()
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	e := field.NewEngine(s, b)
	t.Cleanup(func() { e.Close(); _ = b.Close() })
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	at := e.Serving()[0].Listens[0]
	fieldtest.Wait(t, "it listens", func() bool {
		conn, err := net.Dial("tcp", at)
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	})

	// The other end.
	far := reactor(t, protocol.Settings{family.KeyInCount: n(2), family.KeyOutCount: n(1), family.KeyOutWidth: text("4"),
		family.KeyConfigAt: n(0),
		family.KeyInFormat: text(family.FormatHeader), family.KeyInEvery: n(20), family.KeyOutEvery: n(20),
		family.KeyKey:    text(family.KeyExact),
		family.KeyVendor: n(1234), family.KeyProduct: n(9)})
	far.Devices[1].Points = append([]site.Point{point("gets", "in:0", "float32", site.ReadOnly),
		point("gives", "out:0", "float32", site.ReadWrite)}, far.Devices[1].Points[18:]...)
	scanner := field.NewEngine(far, elsewhere(at))
	t.Cleanup(scanner.Close)
	if err := scanner.Start(nil); err != nil {
		t.Fatal(err)
	}
	read := func(e *field.Engine, id string) field.Live { l, _ := e.Hub.Point(id); return l }
	fieldtest.Wait(t, "the oxygen over there", func() bool {
		here, there := read(e, "oxygen"), read(scanner, "gets")
		return here.Quality == value.Good && there.Quality == value.Good && there.Value.Float() > 1
	})
	fieldtest.Wait(t, "who it is, and that it runs", func() bool {
		return read(scanner, "Far end runs").Shown == "on" && read(scanner, "Far name").Shown == "Shore adapter"
	})
	if r := write(t, scanner, "gives", "7.5"); !r.OK {
		t.Fatalf("%+v", r)
	}
	time.Sleep(100 * time.Millisecond)
	if l := read(e, "command"); l.Value.Float() == 7.5 {
		t.Error("an output was taken in idle")
	}
	if r := write(t, scanner, "Run", "1"); !r.OK {
		t.Fatalf("%+v", r)
	}
	fieldtest.Wait(t, "the command at the probe", func() bool { return read(e, "command").Value.Float() == 7.5 })
	if state := e.Serving()[0]; len(state.Clients) != 1 || state.Clients[0].Wrote == 0 {
		t.Errorf("what is served: %+v", state)
	}

	// A second owner is refused, and who asks with another size.
	second := *far
	second.Links = append([]site.Link(nil), far.Links...)
	second.Links[0].Settings = with(far.Links[0].Settings, protocol.Settings{family.KeyInCount: n(3)})
	for name, other := range map[string]*site.Site{"two-writers": far, "size-differs": &second} {
		rival := field.NewEngine(other, elsewhere(at))
		r, err := rival.Try(context.Background(), "up")
		rival.Close()
		if err != nil || r.StopsAt == nil {
			t.Errorf("%s: it goes through: %+v, %v", name, r, err)
		}
	}
	scanner.Stop(nil)
	e.Stop(nil)
	fieldtest.Wait(t, "it listens no more", func() bool {
		conn, err := net.Dial("tcp", at)
		if err == nil {
			_ = conn.Close()
		}
		return err != nil
	})
}

func with(s, more protocol.Settings) protocol.Settings {
	all := protocol.Settings{}
	for _, each := range []protocol.Settings{s, more} {
		for k, v := range each {
			all[k] = v
		}
	}
	return all
}
