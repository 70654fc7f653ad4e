package bacnet_test

import (
	"bytes"
	"fmt"
	"math"
	"net"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
	target "ferry/internal/target/bacnet"
	wire "ferry/internal/wire/bacnet"
)

// little is a device of its own on loopback, which sees each datagram that comes.
func little(t testing.TB, d target.Device, objects int, came func(b []byte)) (at string, server *target.Server) {
	t.Helper()
	c := fieldtest.Loopback(t)
	var list []*target.Object
	for i := range objects {
		list = append(list, &target.Object{ID: wire.ID(0, uint32(i)), Name: fmt.Sprint("Object ", i),
			Value: wire.Real(float64(i)), Low: 0, High: 1e6})
	}
	send := func(to netip.AddrPort, b []byte) { _, _ = c.WriteToUDPAddrPort(b, to) }
	front := target.NewFront(target.Carrier{Send: send, Broadcast: func([]byte) {}})
	server = target.New(target.Config{Send: send}, d, list)
	front.Put(server)
	t.Cleanup(server.Close)
	fieldtest.Hear(t, c, func(from netip.AddrPort, b []byte) {
		came(b)
		front.Hear(from, b)
	})
	return c.LocalAddr().String(), server
}

// TestLittle: devices that take short messages, send nothing in parts, or know no question for several properties,
// are asked for no more than they bear, and have all their objects listed.
func TestLittle(t *testing.T) {
	const objects = 120
	for _, d := range []target.Device{{MostOctets: 50, NoParts: true},
		{MostOctets: 206, NoParts: true, NoMultiple: true}, {MostOctets: 480, NoParts: true}, {MostOctets: 128}} {
		t.Run(fmt.Sprintf("%d octets, parts %v, several %v", d.MostOctets, !d.NoParts, !d.NoMultiple), func(t *testing.T) {
			d.Instance, d.Name = 4050, "Little"
			at, _ := little(t, d, objects, func(b []byte) {
				l, err := wire.ParseLink(b)
				if err != nil {
					t.Errorf("% X: %v", b, err)
				} else if n, err := wire.ParseNetwork(l.NPDU, l.NPDUAt); err != nil || n.Carries && len(n.Body) > d.MostOctets {
					t.Errorf("a message of %d octets, and the device takes %d", len(n.Body), d.MostOctets)
				}
			})
			settings := protocol.Settings{family.KeyDevice: protocol.OfInt(4050), protocol.KeyWithin: protocol.OfInt(500)}
			device := site.Device{ID: "d", Name: "Little", Map: "bacnet-ip"}
			for i := range objects {
				device.Points = append(device.Points, fieldtest.Point(t, family.Scheme, fmt.Sprint("p", i),
					fmt.Sprint("AI", i), value.TypeFloat32, site.ReadOnly))
			}
			link := &site.Link{ID: "l", Line: "net", Protocol: "bacnet-ip", Answering: "d", Settings: settings}
			r, err := field.NewReader(link, &device, field.Target{Dial: at, Settings: settings})
			if err != nil {
				t.Fatal(err)
			}
			defer r.Close()
			for i, live := range r.Read(t.Context()) {
				if live.Quality != value.Good || live.Value.Float() != float64(i) {
					t.Fatalf("%+v", live)
				}
			}
			count, began := 0, time.Now()
			if _, err := field.ListAll(t.Context(), link, field.Target{Dial: at}, func(page []protocol.Held) {
				for i := range page {
					if page[i].Name == fmt.Sprint("Object ", count) {
						count++
					}
				}
			}); err != nil || count != objects {
				t.Errorf("%d of %d objects are listed, %v", count, objects, err)
			}
			t.Logf("listed in %d ms", time.Since(began).Milliseconds())
		})
	}
}

// TestAllOrNone: of a device that refuses a question for one of its points all others are read, and
// which one it is is found in few questions.
func TestAllOrNone(t *testing.T) {
	const objects, gone = 60, 37
	var several, single atomic.Int64
	at, _ := little(t, target.Device{Instance: 4050, Name: "Little", AllOrNone: true}, objects, func(b []byte) {
		if l, err := wire.ParseLink(b); err == nil {
			n, _ := wire.ParseNetwork(l.NPDU, l.NPDUAt)
			switch m, _ := wire.ParseMessage(n.Body, n.BodyAt); m.Service {
			case wire.ReadPropertyMultiple:
				several.Add(1)
			case wire.ReadProperty:
				single.Add(1)
			}
		}
	})
	settings := protocol.Settings{family.KeyDevice: protocol.OfInt(4050), protocol.KeyWithin: protocol.OfInt(500)}
	device := site.Device{ID: "d", Name: "Little", Map: "bacnet-ip"}
	for i := range objects {
		instance := i
		if i == gone {
			instance = 999
		}
		device.Points = append(device.Points, fieldtest.Point(t, family.Scheme, fmt.Sprint("p", i),
			fmt.Sprint("AI", instance), value.TypeFloat32, site.ReadOnly))
	}
	r, err := field.NewReader(&site.Link{ID: "l", Line: "net", Protocol: "bacnet-ip", Answering: "d",
		Settings: settings}, &device, field.Target{Dial: at, Settings: settings})
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	for i, live := range r.Read(t.Context()) {
		if is := i != gone; (live.Quality == value.Good) != is || is && live.Value.Float() != float64(i) ||
			!is && !strings.Contains(live.Reason, "unknown object") {
			t.Errorf("%d: %+v", i, live)
		}
	}
	if several.Load() > 20 || single.Load() > 6 {
		t.Errorf("it took %d questions for several, %d for one", several.Load(), single.Load())
	}
}

// TestOdd: what answers another question than was asked, or holds no value of the point, is none of good quality,
// and what comes is neither believed nor fatal.
func TestOdd(t *testing.T) {
	answer := func(m *wire.Message, results []wire.Result) wire.Message {
		return wire.Message{Kind: wire.ComplexAck, Invoke: m.Invoke, Service: m.Service,
			Body: wire.AppendMultipleAnswer(nil, results)}
	}
	ref := func(instance uint32, p family.Property) wire.Reference {
		return wire.Reference{Object: wire.ID(0, instance), Property: uint32(p), Index: wire.Whole}
	}
	whole := func(v ...wire.Value) []wire.Result {
		return []wire.Result{{Reference: ref(3, family.PresentValue), Values: v},
			{Reference: ref(3, family.StatusFlags), Values: []wire.Value{wire.Bits(0, 4)}}}
	}
	for name, odd := range map[string]func(m *wire.Message) []wire.Message{
		"another object": func(m *wire.Message) []wire.Message {
			return []wire.Message{answer(m,
				[]wire.Result{{Reference: ref(4, family.PresentValue), Values: []wire.Value{wire.Real(1)}},
					{Reference: ref(4, family.StatusFlags), Values: []wire.Value{wire.Bits(0, 4)}}})}
		},
		"one result less": func(m *wire.Message) []wire.Message { return []wire.Message{answer(m, whole(wire.Real(1))[:1])} },
		"one more": func(m *wire.Message) []wire.Message {
			return []wire.Message{answer(m, append(whole(wire.Real(1)), whole(wire.Real(2))...))}
		},
		"no value": func(m *wire.Message) []wire.Message { return []wire.Message{answer(m, whole())} },
		"two values": func(m *wire.Message) []wire.Message {
			return []wire.Message{answer(m, whole(wire.Real(1), wire.Real(2)))}
		},
		"null":      func(m *wire.Message) []wire.Message { return []wire.Message{answer(m, whole(wire.Null()))} },
		"no number": func(m *wire.Message) []wire.Message { return []wire.Message{answer(m, whole(wire.Real(math.NaN())))} },
		"a text":    func(m *wire.Message) []wire.Message { return []wire.Message{answer(m, whole(wire.Text("7")))} },
		"another question": func(m *wire.Message) []wire.Message {
			a := answer(m, whole(wire.Real(1)))
			a.Invoke += 3
			return []wire.Message{a}
		},
		"another service": func(m *wire.Message) []wire.Message {
			a := answer(m, whole(wire.Real(1)))
			a.Service = wire.ReadProperty
			return []wire.Message{a}
		},
		"its own question": func(m *wire.Message) []wire.Message { return []wire.Message{*m} },
		"done": func(m *wire.Message) []wire.Message {
			return []wire.Message{{Kind: wire.SimpleAck, Invoke: m.Invoke, Service: m.Service}}
		},
		"a part alone": func(m *wire.Message) []wire.Message {
			a := answer(m, whole(wire.Real(1)))
			a.Segmented, a.Follows, a.Number, a.Window = true, true, 5, 1
			return []wire.Message{a}
		},
		"parts without end": func(m *wire.Message) (list []wire.Message) {
			for n := range 200 {
				a := answer(m, whole(wire.Real(1)))
				a.Segmented, a.Follows, a.Number, a.Window = true, true, uint8(n), 127
				list = append(list, a)
			}
			return list
		},
		"an error of nothing": func(m *wire.Message) []wire.Message {
			return []wire.Message{{Kind: wire.ErrorAnswer, Invoke: m.Invoke, Service: m.Service}}
		},
		"cut short": func(m *wire.Message) []wire.Message {
			a := answer(m, whole(wire.Real(1)))
			a.Body = a.Body[:len(a.Body)-3]
			return []wire.Message{a}
		},
		"nested": func(m *wire.Message) []wire.Message {
			a := answer(m, nil)
			a.Body = bytes.Repeat([]byte{0x1E}, 1400)
			return []wire.Message{a}
		},
	} {
		t.Run(name, func(t *testing.T) {
			c := fieldtest.Loopback(t)
			fieldtest.Hear(t, c, func(from netip.AddrPort, b []byte) {
				l, err := wire.ParseLink(b)
				if err != nil {
					return
				}
				network, err := wire.ParseNetwork(l.NPDU, l.NPDUAt)
				if err != nil {
					return
				}
				m, err := wire.ParseMessage(network.Body, network.BodyAt)
				if err != nil || m.Kind != wire.Confirmed {
					return
				}
				list := []wire.Message{{Kind: wire.ErrorAnswer, Invoke: m.Invoke, Service: m.Service,
					Body: wire.AppendFailure(nil, wire.Failure{Class: 2, Code: 32})}}
				if m.Service == wire.ReadPropertyMultiple {
					list = odd(&m)
				}
				for i := range list {
					out := wire.Network{Carries: true, Body: list[i].Append(nil)}
					_, _ = c.WriteToUDPAddrPort((&wire.Link{Function: wire.Unicast, NPDU: out.Append(nil)}).Append(nil), from)
				}
			})
			settings := protocol.Settings{family.KeyDevice: protocol.OfInt(4050),
				protocol.KeyWithin: protocol.OfInt(150), protocol.KeyRetries: protocol.OfInt(0)}
			device := site.Device{ID: "d", Name: "Odd", Map: "bacnet-ip",
				Points: []site.Point{fieldtest.Point(t, family.Scheme, "p", "AI3", value.TypeFloat32, site.ReadOnly)}}
			r, err := field.NewReader(&site.Link{ID: "l", Line: "net", Protocol: "bacnet-ip", Answering: "d",
				Settings: settings}, &device, field.Target{Dial: c.LocalAddr().String(), Settings: settings})
			if err != nil {
				t.Fatal(err)
			}
			defer r.Close()
			if live := r.Read(t.Context())[0]; live.Quality == value.Good || live.Quality == value.Doubtful ||
				live.Reason == "" {
				t.Errorf("%+v", live)
			}
		})
	}
}

// TestBroadcasts: on the plant, who answers when it is asked alone and not what goes to all is told of, and a try says
// who has the instance of its device, too.
func TestBroadcasts(t *testing.T) {
	probe, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 2)})
	if err != nil {
		t.Fatal(err)
	}
	port := probe.LocalAddr().(*net.UDPAddr).Port
	_ = probe.Close()
	stand := func(instance uint32, hears ...string) {
		var sockets []*net.UDPConn
		for _, at := range hears {
			c, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.ParseIP(at), Port: port})
			if err != nil {
				t.Skip("this system does not let a socket hear what goes to all: ", err)
			}
			sockets = append(sockets, c)
		}
		send := func(to netip.AddrPort, b []byte) { _, _ = sockets[0].WriteToUDPAddrPort(b, to) }
		front := target.NewFront(target.Carrier{Send: send, Broadcast: func([]byte) {}})
		server := target.New(target.Config{Send: send},
			target.Device{Instance: instance, Name: fmt.Sprint("Device ", instance, " at ", hears[0])}, nil)
		t.Cleanup(server.Close)
		front.Put(server)
		for _, c := range sockets {
			fieldtest.Hear(t, c, front.Hear)
		}
	}
	stand(11, "127.0.0.2")
	stand(12, "127.0.0.3", "127.255.255.255")
	stand(12, "127.0.0.4")
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Plant net", Medium: site.Ethernet, Network: "127.0.0.0/8"}}
	for i, host := range []string{"127.0.0.2", "127.0.0.3"} {
		s.Devices = append(s.Devices, site.Device{ID: host, Name: host, Map: "bacnet-ip", Points: []site.Point{},
			Ports: []site.Port{{Line: "net", Host: host, Protocol: "bacnet-ip",
				Settings: protocol.Settings{family.KeyDevice: protocol.OfInt(11 + i),
					protocol.KeyPort: protocol.OfInt(port)}}}})
	}
	hall := site.Device{ID: "x", Name: "Hall ventilation", Map: "bacnet-ip",
		Points: []site.Point{fieldtest.Point(t, family.Scheme, "n", "device:12.object-name", value.TypeText,
			site.ReadOnly)}}
	lss := site.Device{ID: "lss", Name: "LSS controller", Points: []site.Point{},
		Ports: []site.Port{{Line: "net", Host: "127.0.0.1"}}}
	for host, of := range map[string]string{"127.0.0.3": "", "127.0.0.4": "127.0.0.3"} {
		at := site.Port{Line: "net", Host: host, Protocol: "bacnet-ip",
			Settings: protocol.Settings{family.KeyDevice: protocol.OfInt(12), protocol.KeyPort: protocol.OfInt(port)}}
		hall.Ports = []site.Port{at}
		now := *s
		now.Devices = []site.Device{lss, hall}
		now.Links = []site.Link{{ID: "k", Asking: "lss", Answering: "x", Line: "net", Protocol: "bacnet-ip",
			Settings: at.Settings}}
		e := field.NewEngine(&now, elsewhere("127.0.0.1:9"))
		t.Cleanup(e.Close)
		if err := e.SetMode(field.Plant); err != nil {
			t.Fatal(err)
		}
		r, err := e.Try(t.Context(), "k")
		if err != nil || r.StopsAt != nil {
			t.Fatalf("%+v, %v", r, err)
		}
		says := "twice: " + of + " says"
		if saw := fmt.Sprint(r.Stops); strings.Contains(saw, "there twice") != (of != "") ||
			of != "" && !strings.Contains(saw, says) {
			t.Errorf("%s: %s, want %q", host, saw, says)
		}
	}
	e := field.NewEngine(s, elsewhere("127.0.0.1:9"))
	t.Cleanup(e.Close)
	if err := e.SetMode(field.Plant); err != nil {
		t.Fatal(err)
	}
	sweep, err := e.StartSweep(field.SweepOrder{Kind: "call", Line: "net", Protocol: "bacnet-ip"})
	if err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "the sweep ends", func() bool {
		sweep, err = e.Sweep(sweep.ID, false)
		return err == nil && !sweep.Running
	})
	odd := map[string]string{}
	for _, f := range sweep.Found {
		odd[f.Host] = f.Odd
	}
	if len(odd) != 2 || !strings.Contains(odd["127.0.0.2"], "when it is asked alone") || odd["127.0.0.3"] != "" {
		t.Errorf("%v, %s", odd, sweep.Sentence)
	}
}

// TestNothingWritten: whatever is tried, run, listed and looked into, a device is written only what was ordered.
func TestNothingWritten(t *testing.T) {
	var mu sync.Mutex
	services := map[uint8]int{}
	asked := func(service uint8) int {
		mu.Lock()
		defer mu.Unlock()
		return services[service]
	}
	at, _ := little(t, target.Device{Instance: 4050, Name: "Watched"}, 40, func(b []byte) {
		l, err := wire.ParseLink(b)
		if err != nil || l.NPDU == nil {
			t.Errorf("% X: %v", b, err)
			return
		}
		n, err := wire.ParseNetwork(l.NPDU, l.NPDUAt)
		if err != nil {
			t.Errorf("% X: %v", b, err)
			return
		}
		if m, err := wire.ParseMessage(n.Body, n.BodyAt); err == nil && m.Kind == wire.Confirmed {
			mu.Lock()
			services[m.Service]++
			mu.Unlock()
		}
	})
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Plant net", Medium: site.Ethernet, Network: "192.0.2.0/24"}}
	d := site.Device{ID: "d", Name: "Watched", Map: "bacnet-ip",
		Ports: []site.Port{{Line: "net", Host: "192.0.2.97", Protocol: "bacnet-ip"}}}
	for i := range 40 {
		d.Points = append(d.Points, fieldtest.Point(t, family.Scheme, fmt.Sprint("p", i), fmt.Sprint("AI", i),
			value.TypeFloat32, site.ReadWrite))
	}
	s.Devices = []site.Device{{ID: "lss", Name: "LSS controller", Ports: []site.Port{{Line: "net", Host: "192.0.2.1"}},
		Points: []site.Point{}}, d}
	s.Links = []site.Link{{ID: "l", Asking: "lss", Answering: "d", Line: "net", Protocol: "bacnet-ip",
		Settings: protocol.Settings{family.KeyDevice: protocol.OfInt(4050),
			family.KeyTold: protocol.OfText(family.ToldConfirmed)}}}

	e := field.NewEngine(s, elsewhere(at))
	if _, err := e.Try(t.Context(), "l"); err != nil {
		t.Fatal(err)
	}
	if asked(wire.SubscribeCOV) != 0 {
		t.Error("a try subscribes")
	}
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "all are read", func() bool { return fieldtest.Live(e, "p39").Quality == value.Good })
	if _, err := e.Levels(t.Context(), "p3"); err != nil {
		t.Fatal(err)
	}
	order, err := e.Prepare(t.Context(), "p3", "7")
	if err != nil {
		t.Fatal(err)
	}
	if asked(wire.WriteProperty) != 0 {
		t.Error("an order that is prepared writes")
	}
	if _, err := e.Write(t.Context(), "Ines", order.Token); err != nil {
		t.Fatal(err)
	}
	if err := e.SetMode(field.Plant); err != nil {
		t.Fatal(err)
	}
	e.Close()
	mu.Lock()
	defer mu.Unlock()
	for service, count := range services {
		expected := service == wire.ReadProperty || service == wire.ReadPropertyMultiple ||
			service == wire.SubscribeCOV || service == wire.WriteProperty
		if !expected {
			t.Errorf("%s was asked for %d times", wire.ServiceName(wire.Confirmed, service), count)
		}
	}
	if got := services[wire.WriteProperty]; got != 1 {
		t.Errorf("%d writes for one order", got)
	}
}
