package opcua_test

import (
	"context"
	"testing"
	"time"

	"ferry/internal/bench"
	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
)

// elsewhere dials one place, whatever is asked for.
type elsewhere string

func (e elsewhere) Dial(*site.Site, *site.Link) string { return string(e) }
func (e elsewhere) Post(*site.Port) string             { return string(e) }

// TestServed: Ferry serves what crossings carry, as good as it is, and what a client writes goes
// on to the device behind; who is not let in is told why; a map that grows throws nobody out.
func TestServed(t *testing.T) {
	s, b, e := hall(t, fast)
	point := func(id, node string, of value.Type, access site.Access) site.Point {
		at, err := family.Scheme.Parse(node, "")
		if err != nil {
			t.Fatal(err)
		}
		return site.Point{ID: id, Name: id, Address: at, Type: of, PaceMs: 200, Access: access}
	}
	names := []site.Point{point("o1", "nsu=urn:skerry:shore;s=Row.A.Oxygen", value.TypeFloat64, site.ReadOnly),
		point("o2", "nsu=urn:skerry:shore;s=Row.A.Setpoint", value.TypeFloat32, site.ReadWrite)}
	again := *s
	again.Devices = append(again.Devices[:len(again.Devices):len(again.Devices)],
		site.Device{ID: "own", Name: "Shore names", Map: "opc.tcp", Serving: &site.Serving{}, Points: names,
			Ports: []site.Port{{Line: "net", Host: "192.0.2.11",
				Protocol: "opc.tcp", Settings: protocol.Settings{family.KeyNobody: protocol.OfText(family.NobodyWrites)}}}})
	again.Crossings = []site.Crossing{{ID: "x1", From: "ox", To: "o1"}, {ID: "x2", From: "o2", To: "sp"}}
	if err := again.Validate(); err != nil {
		t.Fatal(err)
	}
	e.Update(&again, 2)
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "it listens", func() bool { return len(e.Serving()) == 1 && len(e.Serving()[0].Listens) == 1 })
	at := e.Serving()[0].Listens[0]
	far := site.New("Skerry Point Shore")
	far.Lines = s.Lines
	mine := []site.Point{point("f1", "nsu=urn:skerry:shore;s=Row.A.Oxygen", value.TypeFloat64, site.ReadOnly),
		point("f2", "nsu=urn:skerry:shore;s=Row.A.Setpoint", value.TypeFloat32, site.ReadWrite)}
	far.Devices = []site.Device{{ID: "shore", Name: "Shore", Ports: []site.Port{{Line: "net", Host: "192.0.2.1"}}},
		{ID: "names", Name: "Names", Map: "opc.tcp", Points: mine,
			Ports: []site.Port{{Line: "net", Host: "192.0.2.11", Protocol: "opc.tcp"}}}}
	far.Links = []site.Link{{ID: "f", Asking: "shore", Answering: "names", Line: "net", Protocol: "opc.tcp",
		Settings: fast}}
	asks := field.NewEngine(far, elsewhere(at))
	t.Cleanup(asks.Close)
	if err := asks.Start([]string{"f"}); err != nil {
		t.Fatal(err)
	}
	of := func(e *field.Engine, id string) field.Live {
		live, _ := e.Hub.Point(id)
		return live
	}
	fieldtest.Wait(t, "the oxygen of the hall is at the shore", func() bool {
		near, here := of(e, "ox"), of(asks, "f1")
		return here.Quality == value.Good && here.Value.Float() > 0 && here.SourceMs > 0 &&
			here.Value.Float()-near.Value.Float() < 1 && near.Value.Float()-here.Value.Float() < 1
	})
	order, err := asks.Prepare(context.Background(), "f2", "6.5")
	if err != nil {
		t.Fatal(err)
	}
	if result, err := asks.Write(context.Background(), "Ines", order.Token); err != nil || !result.OK {
		t.Fatalf("%+v, %v", result, err)
	}
	fieldtest.Wait(t, "what was written is in the hall", func() bool { return of(e, "sp").Value.Float() == 6.5 })

	// What is behind goes: the shore is told, and has it again.
	if err := b.SetFault("hall", bench.Fault{Kind: "off"}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "the shore knows that it is old", func() bool { return of(asks, "f1").Quality == value.Bad })
	if err := b.SetFault("hall", bench.Fault{}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "it is back", func() bool { return of(asks, "f1").Quality == value.Good })

	// A map that grows throws nobody out.
	clients := e.Serving()[0].Clients
	if len(clients) != 1 {
		t.Fatalf("%d clients", len(clients))
	}
	grown := again
	grown.Devices = append([]site.Device{}, again.Devices...)
	own := &grown.Devices[len(grown.Devices)-1]
	own.Points = append(own.Points[:2:2], point("o3", "nsu=urn:skerry:shore;s=Row.B.Oxygen", value.TypeFloat32,
		site.ReadWrite))
	e.Update(&grown, 3)
	time.Sleep(time.Second)
	if now := e.Serving()[0].Clients; len(now) != 1 || now[0].From != clients[0].From ||
		of(asks, "f1").Quality != value.Good {
		t.Errorf("clients were %+v, are %+v", clients, now)
	}
	refused := again
	refused.Devices = append([]site.Device{}, again.Devices...)
	own = &refused.Devices[len(refused.Devices)-1]
	own.Ports = []site.Port{own.Ports[0]}
	own.Ports[0].Settings = protocol.Settings{family.KeyNobody: protocol.OfText(family.NobodyNot)}
	e.Update(&refused, 4)
	asks.Stop([]string{"f"})
	if err := asks.Start([]string{"f"}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "nobody comes in without a name", func() bool {
		list := e.Serving()
		return len(list) == 1 && list[0].LastAway != ""
	})
}
