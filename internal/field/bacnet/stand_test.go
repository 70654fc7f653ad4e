package bacnet_test

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"ferry/internal/bench"
	_ "ferry/internal/bench/bacnet"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	_ "ferry/internal/field/bacnet"
	"ferry/internal/field/fieldtest"
)

// plant is a site with one device of BACnet/IP on the bench, and Ferry that asks it.
func plant(t testing.TB, settings, answering protocol.Settings) (*field.Engine, *bench.Bench) {
	t.Helper()
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Plant net", Medium: "ethernet", Network: "192.0.2.0/24"}}
	points := []site.Point{fieldtest.Point(t, family.Scheme, "flow", "analog-input:1", value.TypeFloat32, site.ReadOnly),
		fieldtest.Point(t, family.Scheme, "run", "BI2", value.TypeBool, site.ReadOnly),
		fieldtest.Point(t, family.Scheme, "setpoint", "analog-value:3", value.TypeFloat32, site.ReadWrite),
		fieldtest.Point(t, family.Scheme, "pump", "binary-value:4", value.TypeBool, site.ReadWrite),
		fieldtest.Point(t, family.Scheme, "energy", "accumulator:5", value.TypeUint32, site.ReadOnly)}
	points[0].Unit = "L/s"
	s.Devices = []site.Device{{ID: "lss", Name: "LSS controller", Ports: []site.Port{{Line: "net", Host: "192.0.2.10"}},
		Points: []site.Point{}},
		{ID: "hvac", Name: "Hall ventilation", Map: "bacnet-ip", Points: points,
			Ports: []site.Port{{Line: "net", Host: "192.0.2.120", Protocol: "bacnet-ip", Settings: answering}}}}
	if settings = maps.Clone(settings); settings == nil {
		settings = protocol.Settings{}
	}
	for k, v := range answering {
		if _, other := settings[k]; !other {
			settings[k] = v
		}
	}
	settings[family.KeyCheck] = protocol.OfInt(1)
	settings[protocol.KeyWithin] = protocol.OfInt(400)
	s.Links = []site.Link{{ID: "f", Asking: "lss", Answering: "hvac", Line: "net", Protocol: "bacnet-ip",
		Settings: settings}}
	e, b := fieldtest.Benched(t, s)
	return e, b
}

// TestStandIn: a device is asked, told of, listed and written, also one behind a network number, and one that
// knows less than others; what is wrong with it is said.
func TestStandIn(t *testing.T) {
	instance := protocol.Settings{family.KeyDevice: protocol.OfInt(4050)}
	behind := protocol.Settings{family.KeyDevice: protocol.OfInt(4051), family.KeyNetwork: protocol.OfInt(12)}
	for name, c := range map[string]struct {
		settings, answering protocol.Settings
		habit               string
	}{
		"asked":            {nil, instance, ""},
		"told":             {protocol.Settings{family.KeyTold: protocol.OfText(family.ToldConfirmed)}, instance, ""},
		"told unconfirmed": {protocol.Settings{family.KeyTold: protocol.OfText(family.ToldUnconfirmed)}, instance, ""},
		"behind":           {protocol.Settings{family.KeyTold: protocol.OfText(family.ToldConfirmed)}, behind, ""},
		"no multiple":      {nil, instance, "no-multiple"},
		"refuses whole":    {nil, instance, "all-or-none"},
		"tells nothing": {protocol.Settings{family.KeyTold: protocol.OfText(family.ToldConfirmed)}, instance,
			"no-reports"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			e, b := plant(t, c.settings, c.answering)
			ctx := context.Background()
			fault := func(kind string, n int) {
				if err := b.SetFault("hvac", bench.Fault{Kind: kind, Value: n}); err != nil {
					t.Fatal(err)
				}
			}
			fault(c.habit, 0)
			time.Sleep(150 * time.Millisecond) // until the stand-in has seen that
			if r, err := e.Try(ctx, "f"); err != nil || r.StopsAt != nil {
				t.Fatalf("%+v, %v", r, err)
			}
			if err := e.Start(nil); err != nil {
				t.Fatal(err)
			}
			fieldtest.Wait(t, "all are read", func() bool {
				return !slices.ContainsFunc([]string{"flow", "run", "setpoint", "pump", "energy"},
					func(id string) bool { return fieldtest.Live(e, id).Quality != value.Good })
			})
			first := fieldtest.Live(e, "flow").Value
			fieldtest.Wait(t, "they move", func() bool { return fieldtest.Live(e, "flow").Value != first })
			order, err := e.Prepare(ctx, "setpoint", "7.5")
			if err != nil {
				t.Fatal(err)
			}
			if r, err := e.Write(ctx, "Ines", order.Token); err != nil || !r.OK {
				t.Fatalf("%+v, %v", r, err)
			}
			fieldtest.Wait(t, "it stands there", func() bool { return fieldtest.Live(e, "setpoint").Value.Float() == 7.5 })
			fault("faulty", 0)
			fieldtest.Wait(t, "a fault is bad", func() bool {
				return fieldtest.Live(e, "flow").Quality == value.Bad && strings.Contains(fieldtest.Live(e, "flow").Reason, "fault")
			})
			fault("", 0)
			fieldtest.Wait(t, "it is good again", func() bool { return fieldtest.Live(e, "flow").Quality == value.Good })
			fault("guarded", 0)
			order, err = e.Prepare(ctx, "setpoint", "8")
			if err != nil {
				t.Fatal(err)
			}
			if r, err := e.Write(ctx, "Ines", order.Token); err != nil || r.OK ||
				!strings.Contains(r.Sentence, "write access denied") {
				t.Errorf("%+v, %v", r, err)
			}
			fault("storm", 400)
			fieldtest.Wait(t, "a storm is told of", func() bool {
				return slices.ContainsFunc(e.Hub.Exchanges(0, 4000, "f"),
					func(x exchange.Exchange) bool { return x.Cause == exchange.Flooded })
			})
			fault("off", 0)
			fieldtest.Wait(t, "its silence is seen", func() bool { return fieldtest.Live(e, "flow").Quality == value.Bad })
			fault("", 0)
			fieldtest.Wait(t, "it is good again", func() bool { return fieldtest.Live(e, "flow").Quality == value.Good })
		})
	}
}

// TestForgetful: a device that has forgotten who subscribed, as one does that restarts, is found out by what it
// shows when it is asked, and subscribed to anew; one that tells no more at all is asked at the pace of its points.
func TestForgetful(t *testing.T) {
	e, b := plant(t, protocol.Settings{family.KeyTold: protocol.OfText(family.ToldConfirmed),
		family.KeyLifetime: protocol.OfInt(3600)}, protocol.Settings{family.KeyDevice: protocol.OfInt(4050)})
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	since := func(seq uint64, ok func(x *exchange.Exchange) bool) (at uint64) {
		for _, x := range e.Hub.Exchanges(seq, 4000, "f") {
			if at == 0 && ok(&x) {
				at = x.Seq
			}
		}
		return at
	}
	told := func(x *exchange.Exchange) bool { return strings.HasPrefix(x.Operation, "report of") }
	untold := func(x *exchange.Exchange) bool { return x.Cause == exchange.Untold }
	fieldtest.Wait(t, "changes are told of", func() bool { return since(0, told) > 0 })
	time.Sleep(4 * time.Second) // reports that a subscription begins with tell nothing of increments
	if since(0, untold) > 0 {
		t.Error("a device that tells of changes is said not to")
	}
	refused := func(x *exchange.Exchange) bool { return x.Cause == exchange.Unwanted }
	for _, fault := range []string{"forgets", "no-reports"} {
		from, after := e.Hub.LastSeq(), told
		if fault == "no-reports" {
			after = refused
		}
		if err := b.SetFault("hvac", bench.Fault{Kind: fault}); err != nil {
			t.Fatal(err)
		}
		fieldtest.Wait(t, fault+" is found out", func() bool {
			at := since(from, untold)
			from = max(from, at)
			return at > 0
		})
		fieldtest.Wait(t, fault+" is coped with", func() bool { return since(from, after) > 0 })
		if err := b.SetFault("hvac", bench.Fault{}); err != nil {
			t.Fatal(err)
		}
	}
	from := e.Hub.LastSeq()
	fieldtest.Wait(t, "it is asked at the pace of the points", func() bool {
		asked := 0
		for _, x := range e.Hub.Exchanges(from, 4000, "f") {
			if strings.HasPrefix(x.Operation, "read 5 objects") {
				asked++
			}
		}
		return asked >= 5
	})
}

// TestStops: where a device cannot be had, the stop and the sentence say why.
func TestStops(t *testing.T) {
	for _, c := range []struct {
		fault    bench.Fault
		settings protocol.Settings
		stop     string
		says     string
	}{
		{bench.Fault{Kind: "off"}, nil, "wire", "nothing came back"},
		{bench.Fault{Kind: "stop"}, nil, "address", "nobody listens"},
		{bench.Fault{Kind: "other-instance", Value: 77}, nil, "session", "it is 77"},
		{bench.Fault{}, protocol.Settings{family.KeyDevice: protocol.OfInt(9)}, "session", "it is 4050"},
		{bench.Fault{}, protocol.Settings{family.KeyNetwork: protocol.OfInt(9)}, "session", "no way to that network"},
	} {
		t.Run(fmt.Sprint(c.fault.Kind, c.stop, c.says), func(t *testing.T) {
			e, b := plant(t, c.settings, protocol.Settings{family.KeyDevice: protocol.OfInt(4050)})
			if err := b.SetFault("hvac", c.fault); err != nil {
				t.Fatal(err)
			}
			fieldtest.Wait(t, c.says, func() bool { // a stand-in takes a moment to be another
				r, err := e.Try(context.Background(), "f")
				return err == nil && r.StopsAt != nil && string(*r.StopsAt) == c.stop &&
					strings.Contains(fmt.Sprintf("%+v", r), c.says)
			})
		})
	}
}
