package opcua_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"ferry/internal/bench"
	_ "ferry/internal/bench/opcua"
	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
	_ "ferry/internal/field/opcua"
)

// fast are settings of a link that is told of changes soon.
var fast = protocol.Settings{family.KeyPublish: protocol.OfInt(100)}

// hall is a site with a server that has some nodes.
func hall(t *testing.T, settings protocol.Settings) (*site.Site, *bench.Bench, *field.Engine) {
	t.Helper()
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Plant net", Medium: "ethernet", Network: "192.0.2.0/24"}}
	point := func(id, name, node string, of value.Type, access site.Access) site.Point {
		at, err := family.Scheme.Parse(node, "")
		if err != nil {
			t.Fatal(err)
		}
		return site.Point{ID: id, Name: name, Address: at, Type: of, PaceMs: 200, Access: access}
	}
	s.Devices = []site.Device{
		{ID: "lss", Name: "LSS controller", Ports: []site.Port{{Line: "net", Host: "192.0.2.10"}}, Points: []site.Point{}},
		{ID: "hall", Name: "Hall supervisor", Map: "opc.tcp",
			Ports: []site.Port{{Line: "net", Host: "192.0.2.90", Protocol: "opc.tcp"}},
			Points: []site.Point{point("ox", "Oxygen", "nsu=urn:skerry:hall;s=Tank.Oxygen", value.TypeFloat32, site.ReadOnly),
				point("sp", "Setpoint", "nsu=urn:skerry:hall;s=Tank.Setpoint", value.TypeFloat64, site.ReadWrite),
				point("on", "Aerator", "nsu=urn:skerry:hall;s=Tank.Aerator", value.TypeBool, site.ReadWrite)}}}
	oxygen, low, high := &s.Devices[1].Points[0], 0.0, 200.0
	oxygen.Unit, oxygen.Low, oxygen.High, oxygen.Remark = "mg/L", &low, &high, "of the first tank"
	s.Devices[1].Points[1].Unit = "puffs"
	s.Devices[1].Points = append(s.Devices[1].Points,
		point("pace1", "Pace of the second pump", "nsu=urn:skerry:hall;s=Pumps.Pace [1]", value.TypeUint8, site.ReadWrite),
		point("pace3", "Pace of the fourth pump", "nsu=urn:skerry:hall;s=Pumps.Pace [3]", value.TypeUint8, site.ReadWrite))
	mode := point("mode", "Mode", "nsu=urn:skerry:hall;s=Tank.Mode", value.TypeEnum, site.ReadWrite)
	mode.Names = []site.Naming{{Value: 0, Name: "idle"}, {Value: 3, Name: "flushing"}}
	speed := point("speed", "Speed", "nsu=urn:skerry:hall;s=Tank.Pump [.Speed]", value.TypeFloat32, site.ReadOnly)
	label := point("label", "Label", "nsu=urn:skerry:hall;s=Tank.Pump [.Label]", value.TypeText, site.ReadOnly)
	label.Length = 20
	s.Devices[1].Points[1].Band = 0.5
	s.Devices[1].Points = append(s.Devices[1].Points, mode, speed, label)
	s.Links = []site.Link{{ID: "l", Asking: "lss", Answering: "hall", Line: "net", Protocol: "opc.tcp",
		Settings: settings}}
	e, b := fieldtest.Benched(t, s)
	return s, b, e
}

// TestHall: a server is tried, followed, written, listed, and survives being started again with
// other numbers for its namespaces.
func TestHall(t *testing.T) {
	_, b, e := hall(t, fast)
	ctx := context.Background()
	r, err := e.Try(ctx, "l")
	if err != nil || r.StopsAt != nil {
		t.Fatalf("%+v, %v", r, err)
	}
	if err := e.Start([]string{"l"}); err != nil {
		t.Fatal(err)
	}
	good := func(id string) bool {
		live, _ := e.Hub.Point(id)
		return live.Quality == value.Good
	}
	fieldtest.Wait(t, "all are read", func() bool { return good("ox") && good("sp") && good("on") })
	for id, text := range map[string]string{"sp": "8.25", "pace3": "77"} {
		order, err := e.Prepare(ctx, id, text)
		if err != nil {
			t.Fatal(err)
		}
		if result, err := e.Write(ctx, "Ines", order.Token); err != nil || !result.OK {
			t.Fatalf("%s: %+v, %v", id, result, err)
		}
	}
	fieldtest.Wait(t, "of an array only the element is written", func() bool {
		other, _ := e.Hub.Point("pace1")
		live, _ := e.Hub.Point("pace3")
		return live.Value.Uint() == 77 && other.Value.Uint() == 0
	})
	fieldtest.Wait(t, "the written value is told", func() bool {
		live,
			_ := e.Hub.Point("sp")
		return live.Value.Float() == 8.25
	})
	told, asked := 0, 0
	for _, x := range e.Hub.Exchanges(0, 1000, "l") {
		for _, f := range x.Frames {
			if len(f.Octets) > 24 && f.Out {
				asked++
			} else if len(f.Octets) > 24 {
				told++
			}
		}
	}
	if told < 5 || asked < 3 {
		t.Errorf("of what went over the wire %d questions and %d answers are there", asked, told)
	}
	held, _, err := e.Held(ctx, "l")
	if err != nil || len(held) != 10 { // four of them elements of one array
		t.Errorf("it lists %+v, %v", held, err)
	}
	for _, h := range held {
		switch bounded := h.Low != nil && h.High != nil && *h.Low == 0 && *h.High == 200; {
		case strings.HasSuffix(h.Name, "Oxygen"):
			if h.Unit != "mg/L" || !bounded || h.Remark != "of the first tank" || h.Writable {
				t.Errorf("of the oxygen it says %+v", h)
			}
		case strings.HasSuffix(h.Name, "Pump.Speed"):
			if h.Shape.Type != value.TypeFloat32 || h.Writable {
				t.Errorf("of the speed it says %+v", h)
			}
		case strings.HasSuffix(h.Name, "Mode"):
			if len(h.Names) != 2 || h.Names[3] != "flushing" {
				t.Errorf("of the mode it says %+v", h)
			}
		case strings.HasSuffix(h.Name, "Setpoint"):
			if h.Unit != "puffs" || h.Low != nil || !h.Writable {
				t.Errorf("of the setpoint it says %+v", h)
			}
		}
	}
	for _, fault := range []struct{ kind, point, says string }{
		{"shift", "ox", ""}, {"uncertain", "ox", "last one"}, {"vanished", "ox", "no such node"},
		{"case", "sp", "no such node"},
	} {
		if err := b.SetFault("hall", bench.Fault{Kind: fault.kind}); err != nil {
			t.Fatal(err)
		}
		if fault.says == "" {
			time.Sleep(500 * time.Millisecond)
			fieldtest.Wait(t, "it is read again", func() bool { return good("ox") && good("sp") })
			continue
		}
		if fault.kind == "vanished" { // it is told with the next session
			e.Stop([]string{"l"})
			if err := e.Start([]string{"l"}); err != nil {
				t.Fatal(err)
			}
		}
		fieldtest.Wait(t, fault.kind, func() bool {
			live, _ := e.Hub.Point(fault.point)
			return live.Quality != value.Good && strings.Contains(live.Reason, fault.says)
		})
		if err := b.SetFault("hall", bench.Fault{}); err != nil {
			t.Fatal(err)
		}
		fieldtest.Wait(t, "it is well again after "+fault.kind, func() bool { return good("ox") && good("sp") })
	}
}

// TestRevised: a server that publishes more seldom than it was asked to is not called silent
// before its own time.
func TestRevised(t *testing.T) {
	_, b, e := hall(t, protocol.Settings{family.KeyPublish: protocol.OfInt(100), family.KeyAliveEvery: protocol.OfInt(1),
		protocol.KeyWithin: protocol.OfInt(500)})
	if err := b.SetFault("hall", bench.Fault{Kind: "slow"}); err != nil {
		t.Fatal(err)
	}
	if err := e.Start([]string{"l"}); err != nil {
		t.Fatal(err)
	}
	good := func() bool {
		live, _ := e.Hub.Point("ox")
		return live.Quality == value.Good
	}
	fieldtest.Wait(t, "it is told", good)
	for end := time.Now().Add(6 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if !good() {
			live, _ := e.Hub.Point("ox")
			t.Fatalf("the value is %+v between two messages", live)
		}
	}
	said := false
	for _, x := range e.Hub.Exchanges(0, 1000, "l") {
		said = said || strings.Contains(x.Operation, "published every 5000 ms, asked 100")
	}
	if !said {
		t.Error("what the server revised is not said")
	}
}

// TestQuiet: what a server says is not new and reads otherwise is doubtful; and a node that is
// refused, and asked for again with all others, costs none of those its first value.
func TestQuiet(t *testing.T) {
	settings := protocol.Settings{family.KeyPublish: protocol.OfInt(100), family.KeyAliveEvery: protocol.OfInt(3)}
	_, b, e := hall(t, settings)
	quality := func(id string) value.Quality {
		live, _ := e.Hub.Point(id)
		return live.Quality
	}
	fault := func(kind string) {
		if err := b.SetFault("hall", bench.Fault{Kind: kind}); err != nil {
			t.Fatal(err)
		}
	}
	fault("vanished")
	if err := e.Start([]string{"l"}); err != nil {
		t.Fatal(err)
	}
	for range 2 { // before it is asked for again, and after
		fieldtest.Wait(t, "one is refused and the others are there", func() bool {
			return quality("ox") == value.Bad && quality("sp") == value.Good && quality("on") == value.Good
		})
		time.Sleep(3500 * time.Millisecond)
	}
	fault("")
	fieldtest.Wait(t, "all are there", func() bool { return quality("ox") == value.Good && quality("sp") == value.Good })
	fault("quiet")
	fieldtest.Wait(t, "what moves behind it is doubtful", func() bool {
		live, _ := e.Hub.Point("ox")
		return live.Quality == value.Doubtful && strings.Contains(live.Reason, "reads otherwise")
	})
	if quality("sp") != value.Good {
		t.Error("what stands still is doubtful too")
	}
}
