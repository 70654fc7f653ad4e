package enip_test

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"ferry/internal/bench"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/enip"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
)

// reactor is a UV reactor that gives the intensity of 9 lamp sleeves and takes a dose for
// each; its map has room for 12.
func reactor(t testing.TB, more protocol.Settings) *site.Site {
	t.Helper()
	n, text, on := protocol.OfInt, protocol.OfText, protocol.OfSwitch
	asks := protocol.Settings{family.KeyInInstance: n(150), family.KeyOutInstance: n(160), family.KeyConfigAt: n(170),
		family.KeyInCount: n(9),
		family.KeyInWidth: text("4"), family.KeyInEvery: n(50), family.KeyOutCount: n(9), family.KeyOutWidth: text("2"),
		family.KeyOutFormat: text(family.FormatHeader), family.KeyOutEvery: n(100)}
	for k, v := range more {
		asks[k] = v
	}
	d := site.Device{ID: "uv", Name: "UV reactor", Map: "enip-cyclic",
		Ports: []site.Port{{Line: "net", Host: "192.0.2.64", Protocol: "enip-cyclic",
			Settings: protocol.Settings{family.KeyInInstance: n(150), family.KeyOutInstance: n(160), family.KeyConfigAt: n(170),
				family.KeyInOctets: n(36), family.KeyOutOctets: n(18), family.KeyOutHead: on(true)}}}}
	point := func(id, at string, kind value.Type, access site.Access) {
		a, err := family.Assemblies.Parse(at, "")
		if err != nil {
			t.Fatal(err)
		}
		d.Points = append(d.Points, site.Point{ID: id, Name: id, Address: a, Type: kind, Access: access, PaceMs: 50})
	}
	for i := range 9 {
		point(fmt.Sprintf("i%d", i+1), fmt.Sprintf("in:%d", 4*i), "float32", site.ReadOnly)
		point(fmt.Sprintf("d%d", i+1), fmt.Sprintf("out:%d", 2*i), "uint16", site.ReadWrite)
	}
	if _, sends := more[family.KeyConfigData]; sends {
		point("limit", "config:0", "uint16", site.ReadOnly)
	}
	for _, h := range family.Cyclic.StandingPoints() {
		access := site.ReadOnly
		if h.Writable {
			access = site.ReadWrite
		}
		d.Points = append(d.Points, site.Point{ID: h.Name, Name: h.Name, Address: h.Address, Type: h.Shape.Type,
			Length: h.Shape.Length, Unit: h.Unit, Access: access, PaceMs: 1000})
	}
	return &site.Site{Format: site.Format, Version: site.Version, Name: "Skerry Point Hatchery",
		Lines:   []site.Line{{ID: "net", Name: "Plant network", Medium: site.Ethernet, Network: "192.0.2.0/24"}},
		Devices: []site.Device{{ID: "lss", Name: "LSS controller", Ports: []site.Port{{Line: "net", Host: "192.0.2.10"}}}, d},
		Links: []site.Link{{ID: "up", Asking: "lss", Answering: "uv", Line: "net", Protocol: "enip-cyclic",
			Settings: asks}}}
}

func write(t *testing.T, e *field.Engine, point, text string) field.WriteResult {
	t.Helper()
	o, err := e.Prepare(context.Background(), point, text)
	if err != nil {
		t.Fatal(err)
	}
	r, err := e.Write(context.Background(), "test", o.Token)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// dose asks the device itself what it has taken for the second sleeve.
func dose(t *testing.T, b *bench.Bench, s *site.Site) int {
	t.Helper()
	return int(held(t, b, s, "4/160/3:2", "uint16").Int())
}

// held asks the only device of the bench itself what it holds at a place.
func held(t *testing.T, b *bench.Bench, s *site.Site, place string, is value.Type) value.Value {
	t.Helper()
	link := site.Link{ID: "x", Asking: "lss", Answering: "it", Line: "net", Protocol: "enip"}
	at, err := family.Scheme.Parse(place, "")
	if err != nil {
		t.Fatal(err)
	}
	d := site.Device{ID: "it", Map: "enip", Ports: []site.Port{{Line: "net"}},
		Points: []site.Point{{ID: "p", Address: at, Type: is, Access: site.ReadOnly, PaceMs: 100}}}
	r, err := field.NewReader(&link, &d, field.Target{Dial: b.List(s)[0].Addr})
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	got := r.Read(context.Background())
	if len(got) != 1 || got[0].Quality != value.Good {
		t.Fatalf("%+v", got)
	}
	return got[0].Value
}

// TestCyclic: inputs come in cycles, outputs are in effect once the connection is in run,
// and the state is told as points.
func TestCyclic(t *testing.T) {
	for name, more := range map[string]protocol.Settings{"to one": nil, "class 0": {family.KeyClass: protocol.OfText("0")},
		"to many": {family.KeyInCast: protocol.OfText("many")}} {
		t.Run(name, func(t *testing.T) {
			s := reactor(t, more)
			e, b := fieldtest.Benched(t, s)
			if err := e.Start(nil); err != nil {
				t.Fatal(err)
			}
			live := func(id string) field.Live { l, _ := e.Hub.Point(id); return l }
			taken := func() int { return dose(t, b, s) }
			fieldtest.Wait(t, "intensities", func() bool {
				return live("i9").Quality == value.Good && live("i9").Value.Float() > 1
			})
			if l := live("Connected"); l.Quality != value.Good || l.Shown != "on" || live("Far name").Shown == "" {
				t.Errorf("connected reads %+v, the far end %+v", l, live("Far name"))
			}
			if r := write(t, e, "d2", "350"); !r.OK || !strings.Contains(r.Sentence, "idle") {
				t.Errorf("a write in idle: %+v", r)
			}
			time.Sleep(150 * time.Millisecond)
			if took := taken(); took != 0 {
				t.Errorf("in idle the device took %d", took)
			}
			if r := write(t, e, "Run", "1"); !r.OK {
				t.Errorf("run: %+v", r)
			}
			fieldtest.Wait(t, "the dose", func() bool { return taken() == 350 })
			fieldtest.Wait(t, "the dose as a point",
				func() bool { return live("d2").Shown == "350" && live("Run").Shown == "on" })
			fieldtest.Wait(t, "counts", func() bool {
				return live("Packets received").Value.Int() > 20 && live("Interval in").Value.Float() > 40
			})
			if r := write(t, e, "Enabled", "0"); !r.OK {
				t.Errorf("switching off: %+v", r)
			}
			fieldtest.Wait(t, "bad inputs", func() bool {
				return live("i1").Quality == value.Bad && live("Connected").Shown == "off"
			})
			if live("Connected").Quality != value.Good {
				t.Errorf("connected is %+v", live("Connected"))
			}
			if r := write(t, e, "Enabled", "1"); !r.OK {
				t.Errorf("switching on: %+v", r)
			}
			fieldtest.Wait(t, "intensities again", func() bool { return live("i1").Quality == value.Good })
			if live("Run").Shown == "on" {
				t.Error("it is in run although nobody ordered that")
			}
			for _, x := range e.Hub.Exchanges(0, 400, "up") {
				for i, list := range exchangeFields(&x) {
					if len(x.Frames[i].Octets) > 0 && len(list) == 0 {
						t.Fatalf("no octet of %s is explained", x.Operation)
					}
				}
			}
		})
	}
}

// TestCyclicRefused: what the device does not take is said with its status, before and
// after connecting, and the state tells it.
func TestCyclicRefused(t *testing.T) {
	s := reactor(t, nil)
	e, b := fieldtest.Benched(t, s)
	for _, c := range []struct {
		fault string
		value int
		says  string
		stop  route.Stop
	}{
		{"header", 0, "size is 20", route.Points}, {"resized", 4, "size is 28", route.Points},
		{"regiven", 4, "size is 42", route.Points},
		{"connections", 0, "no connection free", route.Points}, {"owned", 0, "another end owns", route.Points},
		{"unrestarted", 0, "not set up", route.Points}, {"slow-cycle", 500, "every 500 ms", route.Points},
		{"set-up", 0, "in its state", route.Points}, {"session", 0, "no session", route.Session},
		{"mute", 0, "not one packet", route.Points},
		{"", 0, "", ""},
	} {
		if err := b.SetFault("uv", bench.Fault{Kind: c.fault, Value: c.value}); err != nil {
			t.Fatal(err)
		}
		r, err := e.Try(context.Background(), "up")
		if err != nil {
			t.Fatal(err)
		}
		saw := strings.ToLower(fmt.Sprint(r.Stops))
		switch {
		case c.stop == "" && r.StopsAt != nil, c.stop != "" && (r.StopsAt == nil || *r.StopsAt != c.stop):
			t.Errorf("%s: it stops at %v: %s", c.fault, r.StopsAt, saw)
		case !strings.Contains(saw, c.says):
			t.Errorf("%s: %s", c.fault, saw)
		case c.stop == "" && strings.Contains(saw, "doubt"):
			t.Errorf("a device that is well is doubted: %s", saw)
		}
	}
}

// TestCyclicAgain: a run that is stopped ends its connections, so that the next finds the
// device free, and so does a try.
func TestCyclicAgain(t *testing.T) {
	e, _ := fieldtest.Benched(t, reactor(t, nil))
	for range 8 {
		if err := e.Start(nil); err != nil {
			t.Fatal(err)
		}
		from := time.Now()
		fieldtest.Wait(t, "intensities", func() bool {
			l, _ := e.Hub.Point("i1")
			return l.Quality == value.Good && l.AtMs >= from.UnixMilli()
		})
		e.Stop(nil)
		if r, err := e.Try(context.Background(), "up"); err != nil || r.StopsAt != nil {
			t.Errorf("%+v, %v", r, err)
		}
	}
	for _, x := range e.Hub.Exchanges(0, 2000, "up") {
		if strings.Contains(x.Sentence, "owner") {
			t.Errorf("%s: %s", x.Operation, x.Sentence)
		}
	}
}

// TestCyclicLost: silence makes the inputs bad at the time-out, and the connection is
// opened again, idle.
func TestCyclicLost(t *testing.T) {
	e, b := fieldtest.Benched(t, reactor(t, nil))
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	live := func(id string) field.Live { l, _ := e.Hub.Point(id); return l }
	fieldtest.Wait(t, "intensities", func() bool { return live("i1").Quality == value.Good })
	if r := write(t, e, "Run", "1"); !r.OK {
		t.Fatalf("%+v", r)
	}
	if err := b.SetFault("uv", bench.Fault{Kind: "mute"}); err != nil {
		t.Fatal(err)
	}
	last := time.Now()
	fieldtest.Wait(t, "bad inputs", func() bool { return live("i1").Quality == value.Bad })
	if took := time.Since(last); took < 150*time.Millisecond || took > 400*time.Millisecond {
		t.Errorf("the inputs were bad after %v, and the time-out is 200 ms", took)
	}
	if err := b.SetFault("uv", bench.Fault{}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "intensities again", func() bool { return live("i1").Quality == value.Good })
	if live("Run").Shown == "on" {
		t.Error("it is in run again although nobody ordered that")
	}
}

func exchangeFields(x *exchange.Exchange) [][]exchange.Field {
	driver, _, _ := field.DriverOf("enip-cyclic")
	return driver.Dissect(x.Frames, nil)
}

// onPlant is the reactor as a device of the plant: its stand-in is at an address of the
// network like any other.
func onPlant(t *testing.T, more protocol.Settings) (*field.Engine, func() int) {
	t.Helper()
	s := reactor(t, more)
	b := bench.New()
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	at := netip.MustParseAddrPort(b.List(s)[0].Addr)
	port := protocol.OfInt(int(at.Port()))
	real := *s
	real.Devices = append([]site.Device(nil), s.Devices...)
	real.Devices[1].Ports = []site.Port{s.Devices[1].Ports[0]}
	real.Devices[1].Ports[0].Host = at.Addr().String()
	real.Devices[1].Ports[0].Settings = with(s.Devices[1].Ports[0].Settings, protocol.Settings{protocol.KeyPort: port})
	real.Links = []site.Link{s.Links[0]}
	real.Links[0].Settings = with(s.Links[0].Settings, protocol.Settings{protocol.KeyPort: port})
	e := field.NewEngine(&real, b)
	t.Cleanup(func() {
		e.Close()
		if err := b.Close(); err != nil {
			t.Error(err)
		}
	})
	if err := e.SetMode(field.Plant); err != nil {
		t.Fatal(err)
	}
	return e, func() int { return dose(t, b, s) }
}

// TestCyclicOnPlant: nothing is in run, and no output in effect, before the lock was opened
// and that was ordered; nor after the connection was lost.
func TestCyclicOnPlant(t *testing.T) {
	e, taken := onPlant(t, nil)
	live := func(id string) field.Live { l, _ := e.Hub.Point(id); return l }
	refused := func(point, text string) {
		t.Helper()
		o, err := e.Prepare(context.Background(), point, text)
		if err == nil {
			_, err = e.Write(context.Background(), "test", o.Token)
		}
		if err == nil || !strings.Contains(err.Error(), "locked") {
			t.Errorf("%s is written while it is locked: %v", point, err)
		}
	}
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "intensities", func() bool { return live("i9").Quality == value.Good })
	refused("d2", "350")
	refused("Run", "1")
	e.Unlock(time.Minute)
	if r := write(t, e, "d2", "350"); !r.OK {
		t.Fatalf("%+v", r)
	}
	time.Sleep(300 * time.Millisecond)
	if n := taken(); n != 0 {
		t.Errorf("in idle the device took %d", n)
	}
	if r := write(t, e, "Run", "1"); !r.OK {
		t.Fatalf("%+v", r)
	}
	fieldtest.Wait(t, "the dose", func() bool { return taken() == 350 })
	e.Unlock(0)
	refused("d2", "400")
	refused("Run", "0")
	refused("Enabled", "0")
	e.Stop(nil)
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "intensities again", func() bool { return live("i9").Quality == value.Good && live("Run").AtMs > 0 })
	fieldtest.Wait(t, "idle", func() bool { return live("Run").Shown == "off" && live("d2").Shown == "0" })
	if n := taken(); n != 350 {
		t.Errorf("the device has %d, and nobody ordered that", n)
	}
}

// TestPlainOnPlant: where what is sent is in effect at once, the connection is opened by an
// order alone.
func TestPlainOnPlant(t *testing.T) {
	plain := protocol.Settings{family.KeyOutFormat: protocol.OfText(family.FormatPlain)}
	e, _ := onPlant(t, plain)
	live := func(id string) field.Live { l, _ := e.Hub.Point(id); return l }
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "why it is not open",
		func() bool { return strings.Contains(live("i1").Reason, "takes effect at once") })
	for _, x := range e.Hub.Exchanges(0, 1000) {
		for _, f := range x.Frames {
			if f.Out && (f.Datagram || len(f.Octets) > 100) {
				t.Fatalf("%s is sent: % X", x.Operation, f.Octets)
			}
		}
	}
	if o, err := e.Prepare(context.Background(), "Enabled", "1"); err != nil {
		t.Fatal(err)
	} else if _, err := e.Write(context.Background(), "test", o.Token); err == nil ||
		!strings.Contains(err.Error(), "locked") {
		t.Errorf("it is opened while it is locked: %v", err)
	}
	if r, err := e.Try(context.Background(), "up"); err != nil || r.StopsAt == nil {
		t.Errorf("a try opens it: %+v, %v", r, err)
	}
}

// TestConfigurationOnPlant: a connection that sets its device up is opened by an order alone;
// what was ordered holds for the connections that follow. The device tells what it holds.
func TestConfigurationOnPlant(t *testing.T) {
	e, _ := onPlant(t, protocol.Settings{family.KeyConfig: protocol.OfText(family.ConfigData),
		family.KeyConfigData: protocol.OfText("2C 01")})
	live := func(id string) field.Live { l, _ := e.Hub.Point(id); return l }
	opens := func() (n int) {
		for _, x := range e.Hub.Exchanges(0, 1000) {
			for _, f := range x.Frames {
				if f.Out && !f.Datagram && len(f.Octets) > 60 && bytes.Contains(f.Octets, []byte{0x80, 1, 0x2C, 1}) {
					n++
				}
			}
		}
		return n
	}
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "why it is not open",
		func() bool { return strings.Contains(live("i1").Reason, "sets the device up") })
	if r, err := e.Try(context.Background(), "up"); err != nil || r.StopsAt == nil || opens() > 0 {
		t.Errorf("a try opens it: %+v, %v", r, err)
	}
	e.Unlock(time.Minute)
	if r := write(t, e, "Enabled", "1"); !r.OK || opens() != 1 {
		t.Fatalf("%+v, %d questions", r, opens())
	}
	fieldtest.Wait(t, "what was sent", func() bool {
		return live("limit").Shown == "300" && live("limit").Quality == value.Good && live("i9").Quality == value.Good
	})
	e.Unlock(0)
	if told, err := e.Survey(context.Background(), "up", true); err != nil ||
		told.Settings[family.KeyInOctets].Int() != 36 ||
		len(told.Offers) != 6 || told.Offers[0].Title != "150 as outputs" ||
		told.Offers[0].Answer[family.KeyOutOctets].Int() != 36 {
		t.Errorf("it tells %+v, %v", told, err)
	}
}

// TestFlood: what anybody sends to the port of the packets changes nothing.
func TestFlood(t *testing.T) {
	e, _ := fieldtest.Benched(t, reactor(t, nil))
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	live := func(id string) field.Live { l, _ := e.Hub.Point(id); return l }
	fieldtest.Wait(t, "intensities", func() bool { return live("i9").Quality == value.Good })
	// A packet that came, as others may have recorded it.
	var packet []byte
	fieldtest.Wait(t, "a packet", func() bool {
		for _, x := range e.Hub.Exchanges(0, 100, "up") {
			for _, f := range x.Frames {
				if f.Datagram && !f.Out {
					packet = append([]byte(nil), f.Octets...)
				}
			}
		}
		return packet != nil
	})
	for _, from := range []string{"127.0.0.1", "127.0.0.9"} { // an address of the device, and one of nobody
		socket, err := net.DialUDP("udp4", &net.UDPAddr{IP: net.ParseIP(from)}, &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1),
			Port: 2222})
		if err != nil {
			t.Skip("the port of the packets is another program's: ", err)
		}
		for i := range 20_000 {
			forged := append([]byte(nil), packet...)
			switch i % 4 {
			case 0: // as it was
			case 1: // with other inputs, and a number that comes later
				if from == "127.0.0.1" {
					continue // who has the device's address and its identifier is the device
				}
				copy(forged[10:], []byte{0xFF, 0xFF, 0x7F, 0})
				for k := 20; k < len(forged); k++ {
					forged[k] = 0x7F
				}
			case 2: // of another connection
				forged[6] ^= 0xA5
			default:
				forged = forged[:i%len(forged)]
			}
			_, _ = socket.Write(forged)
		}
		_ = socket.Close()
	}
	time.Sleep(300 * time.Millisecond)
	if l := live("i9"); l.Quality != value.Good || l.Value.Float() > 1e6 || l.Value.Float() < 1 {
		t.Errorf("after the flood an intensity is %+v", l)
	}
	if l := live("Connected"); l.Shown != "on" {
		t.Errorf("after the flood: %+v", l)
	}
}
