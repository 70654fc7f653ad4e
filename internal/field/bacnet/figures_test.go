package bacnet_test

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"ferry/internal/bench"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/gateway"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
	"ferry/internal/shelf"
	target "ferry/internal/target/bacnet"
	wire "ferry/internal/wire/bacnet"
)

// built is a gateway of so many meters of two models on a simulated line.
func built(t testing.TB, meters, baud int) (*site.Site, *gateway.Design, *gateway.Built) {
	t.Helper()
	sheet := func(id string) *site.Datasheet {
		for _, d := range shelf.Datasheets() {
			if d.ID == id {
				return &d
			}
		}
		return nil
	}
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Buildings net", Medium: site.Ethernet, Network: "192.0.2.0/24"}}
	o := &gateway.Design{NewLine: gateway.NewLine{Name: "Meter line", Format: serial.Format{Baud: baud, Data: 8,
		Parity: serial.Even, Stop: 1}}, Fastest: true, Models: []gateway.Model{{Datasheet: "shelf-energy-meter-em2",
		Bench: "energy-meter-em2"}, {Datasheet: "shelf-energy-meter-em5", Bench: "energy-meter-em5"}},
		As: gateway.Upstream{Protocol: "bacnet-ip", Name: "Energy gateway", Line: "net", Host: "192.0.2.97",
			Settings: protocol.Settings{family.KeyDevice: protocol.OfInt(4050)}}}
	for i := range meters {
		o.Meters = append(o.Meters, gateway.Meter{Name: fmt.Sprint("Meter ", i+1), Station: i + 1, Model: i % 2})
	}
	look, err := gateway.Look(context.Background(), s, o, sheet)
	if err != nil {
		t.Fatal(err)
	}
	o, err = gateway.Settle(context.Background(), s, o, sheet)
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	made, err := gateway.Build(s, o, sheet, func() string { n++; return "g" + strconv.Itoa(n) })
	if err != nil {
		t.Fatal(err)
	}
	for i := range made.Objects {
		made.Objects[i].OldestMs = look.Built.Objects[i].OldestMs
	}
	next, _, err := s.Apply(made.Edits)
	if err != nil {
		t.Fatal(err)
	}
	return next, o, made
}

// TestOldest: how old values of meters get is what was foretold, within 5 %. FERRY_METERS makes it the figures:
// "1 8 16 31", at both bit rates.
func TestOldest(t *testing.T) {
	counts, bauds := []int{6}, []int{38400}
	if text := os.Getenv("FERRY_METERS"); text != "" {
		counts, bauds = nil, []int{9600, 38400}
		for _, each := range strings.Fields(text) {
			n, err := strconv.Atoi(each)
			if err != nil {
				t.Fatal(err)
			}
			counts = append(counts, n)
		}
	}
	for _, baud := range bauds {
		for _, meters := range counts {
			s, o, made := built(t, meters, baud)
			b := bench.New()
			b.InProcess = true
			if err := b.Sync(s); err != nil {
				t.Fatal(err)
			}
			e := field.NewEngine(s, b)
			if err := e.Start(nil); err != nil {
				t.Fatal(err)
			}
			time.Sleep(max(3*time.Second, time.Duration(8*o.PaceMs)*time.Millisecond))
			// A value is asked for and stands until the answer with the next has come.
			oldest, before := 0.0, map[string]exchange.Exchange{}
			rounds := 0
			for _, x := range e.Hub.Exchanges(0, 1<<16) {
				if x.RequestID == "" || x.Outcome != exchange.Answered {
					continue
				}
				if was, seen := before[x.RequestID]; seen && rounds > 2*meters {
					oldest = max(oldest, x.LatencyMs+float64(x.At.Sub(was.At))/1e6)
				}
				before[x.RequestID] = x
				rounds++
			}
			good := 0
			for _, x := range made.Objects {
				if fieldtest.Live(e, x.Object).Quality == value.Good {
					good++
				}
			}
			e.Close()
			if err := b.Close(); err != nil {
				t.Error(err)
			}
			foretold := 0.0
			for _, x := range made.Objects {
				foretold = max(foretold, x.OldestMs)
			}
			t.Logf("figure: %d meters at %d baud, everything every %d ms: oldest value %.0f ms foretold, %.0f ms measured (%+.1f %%); %d of %d objects good",
				meters, baud, o.PaceMs, foretold, oldest, 100*(oldest/foretold-1), good, len(made.Objects))
			if os.Getenv("FERRY_METERS") != "" && (oldest > 1.05*foretold || oldest < 0.95*foretold) {
				t.Errorf("%d meters at %d baud: %.0f ms foretold, %.0f measured", meters, baud, foretold, oldest)
			}
			if good != len(made.Objects) || oldest > 1.3*foretold {
				t.Errorf("%d meters: %d of %d objects are good, %.0f ms old where %.0f were foretold", meters, good,
					len(made.Objects), oldest, foretold)
			}
		}
	}
}

// BenchmarkServed: ten clients read 5 000 objects that Ferry serves, and the same from a bare loop over the same
// socket code, which answers with what is prepared.
func BenchmarkServed(b *testing.B) {
	const objects, clients, atOnce = 5000, 10, 20
	var list []*target.Object
	for i := range objects {
		list = append(list, &target.Object{ID: wire.ID(0, uint32(i)), Name: fmt.Sprint("Object ", i),
			Value: wire.Real(float64(i)), Low: 0, High: 1e6})
	}
	own := fieldtest.Loopback(b)
	send := func(to netip.AddrPort, d []byte) { _, _ = own.WriteToUDPAddrPort(d, to) }
	front := target.NewFront(target.Carrier{Send: send, Broadcast: func([]byte) {}})
	server := target.New(target.Config{Send: send}, target.Device{Instance: 4050, Name: "Energy gateway"}, list)
	defer server.Close()
	front.Put(server)
	fieldtest.Hear(b, own, front.Hear)
	ferry := own.LocalAddr().(*net.UDPAddr).AddrPort()
	question := func(k int) []byte {
		var refs []wire.Reference
		for i := range atOnce {
			for _, p := range []family.Property{family.PresentValue, family.StatusFlags} {
				refs = append(refs, wire.Reference{Object: wire.ID(0, uint32((k*atOnce+i)%objects)),
					Property: uint32(p), Index: wire.Whole})
			}
		}
		m := wire.Message{Kind: wire.Confirmed, Invoke: uint8(k), Service: wire.ReadPropertyMultiple,
			MostOctets: wire.MostOctets, Body: wire.AppendReadMultiple(nil, refs)}
		n := wire.Network{Carries: true, Expects: true, Body: m.Append(nil)}
		return (&wire.Link{Function: wire.Unicast, NPDU: n.Append(nil)}).Append(nil)
	}
	var prepared []wire.Result
	for i := range atOnce {
		prepared = append(prepared, wire.Result{Reference: wire.Reference{Object: wire.ID(0, uint32(i)), Property: 85,
			Index: -1}, Values: []wire.Value{wire.Real(1)}},
			wire.Result{Reference: wire.Reference{Object: wire.ID(0, uint32(i)), Property: 111, Index: -1},
				Values: []wire.Value{wire.Bits(0, 4)}})
	}
	body := wire.AppendMultipleAnswer(nil, prepared)
	c := fieldtest.Loopback(b)
	bare := c.LocalAddr().(*net.UDPAddr).AddrPort()
	fieldtest.Hear(b, c, func(from netip.AddrPort, d []byte) {
		l, err := wire.ParseLink(d)
		if err != nil {
			return
		}
		n, err := wire.ParseNetwork(l.NPDU, l.NPDUAt)
		if err != nil {
			return
		}
		m, err := wire.ParseMessage(n.Body, n.BodyAt)
		if err != nil {
			return
		}
		a := wire.Message{Kind: wire.ComplexAck, Invoke: m.Invoke, Service: m.Service, Body: body}
		out := wire.Network{Carries: true, Body: a.Append(nil)}
		_, _ = c.WriteToUDPAddrPort((&wire.Link{Function: wire.Unicast, NPDU: out.Append(nil)}).Append(nil), from)
	})
	measure := func(at netip.AddrPort, n int) (perSecond float64, p99 time.Duration) {
		var all []time.Duration
		var mu sync.Mutex
		var wg sync.WaitGroup
		began := time.Now()
		for k := range clients {
			wg.Go(func() {
				c, err := net.DialUDP("udp4", nil, net.UDPAddrFromAddrPort(at))
				if err != nil {
					b.Error(err)
					return
				}
				defer c.Close()
				buf := make([]byte, wire.MostDatagram)
				var took []time.Duration
				for i := range n / clients {
					asked := time.Now()
					if _, err := c.Write(question(k*1000 + i)); err != nil {
						b.Error(err)
						return
					}
					if err := c.SetReadDeadline(asked.Add(2 * time.Second)); err != nil {
						b.Error(err)
						return
					}
					if _, err := c.Read(buf); err != nil {
						b.Error(err)
						return
					}
					took = append(took, time.Since(asked))
				}
				mu.Lock()
				defer mu.Unlock()
				all = append(all, took...)
			})
		}
		wg.Wait()
		slices.Sort(all)
		return float64(len(all)) / time.Since(began).Seconds(), all[len(all)*99/100]
	}
	for b.Loop() {
		var of, bareOf, late, bareLate []float64
		for range 5 {
			per, p99 := measure(ferry, 5000)
			of, late = append(of, per), append(late, p99.Seconds()*1000)
			per, p99 = measure(bare, 5000)
			bareOf, bareLate = append(bareOf, per), append(bareLate, p99.Seconds()*1000)
		}
		for _, list := range [][]float64{of, bareOf, late, bareLate} {
			slices.Sort(list)
		}
		b.ReportMetric(of[2], "requests/s")
		b.ReportMetric(bareOf[2], "bare-requests/s")
		b.ReportMetric(of[2]/bareOf[2], "of-bare")
		b.ReportMetric(late[2], "p99-ms")
		b.ReportMetric(bareLate[2], "bare-p99-ms")
	}
}

// TestSubscriptions: as many as 2 000 subscriptions are told of each change, whether that is confirmed or not.
func TestSubscriptions(t *testing.T) {
	const objects, rounds = 2000, 4
	for _, confirmed := range []bool{false, true} {
		var list []*target.Object
		for i := range objects {
			list = append(list, &target.Object{ID: wire.ID(0, uint32(i)), Name: fmt.Sprint("Object ", i),
				Value: wire.Real(0), Low: 0, High: 1e6})
		}
		c := fieldtest.Loopback(t)
		send := func(to netip.AddrPort, d []byte) { _, _ = c.WriteToUDPAddrPort(d, to) }
		front := target.NewFront(target.Carrier{Send: send, Broadcast: func([]byte) {}})
		server := target.New(target.Config{Send: send}, target.Device{Instance: 4050, Name: "Energy gateway"}, list)
		front.Put(server)
		fieldtest.Hear(t, c, front.Hear)
		d := site.Device{ID: "gate", Name: "Energy gateway", Map: "bacnet-ip",
			Ports: []site.Port{{Line: "net", Host: "192.0.2.97", Protocol: "bacnet-ip"}}}
		for i := range objects {
			p := fieldtest.Point(t, family.Scheme, fmt.Sprint("p", i), fmt.Sprintf("analog-input:%d", i),
				value.TypeFloat32, site.ReadOnly)
			d.Points = append(d.Points, p)
		}
		told := family.ToldUnconfirmed
		if confirmed {
			told = family.ToldConfirmed
		}
		far := site.New("Buildings")
		far.Lines = []site.Line{{ID: "net", Name: "Buildings net", Medium: site.Ethernet, Network: "192.0.2.0/24"}}
		far.Devices = []site.Device{{ID: "bms", Name: "Building controller",
			Ports: []site.Port{{Line: "net", Host: "192.0.2.9"}}, Points: []site.Point{}}, d}
		far.Links = []site.Link{{ID: "f", Asking: "bms", Answering: "gate", Line: "net", Protocol: "bacnet-ip",
			Settings: protocol.Settings{family.KeyDevice: protocol.OfInt(4050), family.KeyTold: protocol.OfText(told),
				family.KeyCheck: protocol.OfInt(3600)}}}
		e := field.NewEngine(far, elsewhere(c.LocalAddr().String()))
		began := time.Now()
		if err := e.Start(nil); err != nil {
			t.Fatal(err)
		}
		last := func(want float64) (have int) {
			for i := range objects {
				if is := fieldtest.Live(e, fmt.Sprint("p", i)); is.Quality == value.Good && is.Value.Float() == want {
					have++
				}
			}
			return have
		}
		fieldtest.Wait(t, "all are subscribed to", func() bool { return last(0) == objects })
		time.Sleep(300 * time.Millisecond)
		took := time.Since(began)
		var slowest time.Duration
		for r := 1; r <= rounds; r++ {
			moved := time.Now()
			for i := range objects {
				server.Set(wire.ID(0, uint32(i)), target.Standing{Value: wire.Real(float64(r))})
				if !confirmed && i%50 == 49 {
					time.Sleep(time.Millisecond) // a socket holds only so much
				}
			}
			fieldtest.Wait(t, fmt.Sprintf("round %d is told, confirmed %v", r, confirmed),
				func() bool { return last(float64(r)) == objects })
			slowest = max(slowest, time.Since(moved))
		}
		t.Logf("figure: %d subscriptions, confirmed %v: taken in %.1f s; each of %d changes of all was told within %d ms, none lost", objects, confirmed,
			took.Seconds(), rounds, slowest.Milliseconds())
		e.Close()
		_ = c.Close()
		server.Close()
	}
}
