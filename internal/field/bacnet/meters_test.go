package bacnet_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"ferry/internal/bench"
	_ "ferry/internal/bench/modbus"
	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/family/modbus"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
	_ "ferry/internal/field/modbus"
	wire "ferry/internal/wire/bacnet"
)

// elsewhere dials one place, whatever is asked for.
type elsewhere string

func (e elsewhere) Dial(*site.Site, *site.Link) string { return string(e) }
func (e elsewhere) Post(*site.Port) string             { return string(e) }

// metered is Ferry with two meters on a serial line of the bench, whose values are objects of a device, and where
// that answers.
func metered(t testing.TB, change ...func(*site.Site)) (e *field.Engine, b *bench.Bench, at string) {
	t.Helper()
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Buildings net", Medium: site.Ethernet, Network: "192.0.2.0/24"},
		{ID: "meters", Name: "Meter line", Medium: site.SerialLine, Serial: &site.Serial{Standard: serial.TIA485Two,
			Format: serial.Format{Baud: 38400, Data: 8, Parity: serial.None, Stop: 1}}}}
	gate := site.Device{ID: "gate", Name: "Energy gateway", Map: "bacnet-ip", Serving: &site.Serving{},
		Ports: []site.Port{{Line: "net", Host: "192.0.2.97", Protocol: "bacnet-ip",
			Settings: protocol.Settings{family.KeyDevice: protocol.OfInt(4050)}}, {Line: "meters"}}}
	s.Devices = []site.Device{{}}
	for n := 1; n <= 2; n++ {
		id := fmt.Sprint("m", n)
		unit := protocol.Settings{"unit": protocol.OfInt(n)}
		d := site.Device{ID: id, Name: fmt.Sprint("Meter ", n), Map: "modbus-rtu",
			Ports: []site.Port{{Line: "meters", Protocol: "modbus-rtu", Settings: unit}}}
		for k, name := range []string{"Power", "Current"} {
			p := fieldtest.Point(t, modbus.RTU.Scheme, fmt.Sprint(id, name), fmt.Sprint(40001+2*k), value.TypeFloat32,
				site.ReadOnly)
			p.Name = name
			d.Points = append(d.Points, p)
			to := fieldtest.Point(t, family.Scheme, "o-"+p.ID, fmt.Sprintf("analog-input:%d", 100*n+k),
				value.TypeFloat32, site.ReadOnly)
			to.Name, to.Unit, to.Band = d.Name+" "+name, []string{"kW", "A"}[k], 0.01
			gate.Points = append(gate.Points, to)
			s.Crossings = append(s.Crossings, site.Crossing{ID: "x-" + p.ID, From: p.ID, To: to.ID})
		}
		set := fieldtest.Point(t, modbus.RTU.Scheme, id+"limit", "40011", value.TypeInt16, site.ReadWrite)
		limit := fieldtest.Point(t, family.Scheme, "o-"+set.ID, fmt.Sprintf("analog-value:%d", 100*n),
			value.TypeFloat32, site.ReadWrite)
		set.Name, limit.Name = "Limit", d.Name+" Limit"
		d.Points, gate.Points = append(d.Points, set), append(gate.Points, limit)
		s.Crossings = append(s.Crossings, site.Crossing{ID: "x-" + set.ID, From: set.ID, To: limit.ID, Both: site.LaterTies})
		s.Devices = append(s.Devices, d)
		s.Links = append(s.Links, site.Link{ID: "l-" + id, Asking: "gate", Answering: id, Line: "meters",
			Protocol: "modbus-rtu", Settings: protocol.Settings{"unit": protocol.OfInt(n),
				protocol.KeyWithin: protocol.OfInt(200)}})
	}
	s.Devices[0] = gate
	for _, each := range change {
		each(s)
	}
	e, b = fieldtest.Benched(t, s)
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "it answers", func() bool {
		if list := e.Serving(); len(list) > 0 && len(list[0].Listens) == 1 && list[0].Sentence == "" {
			at = list[0].Listens[0]
		}
		return at != "" && fieldtest.Live(e, "o-m2Power").Quality == value.Good
	})
	return e, b, at
}

// between passes datagrams to a place and back, and has every one that comes back read strictly.
func between(t testing.TB, at string) (here string, read func() int) {
	t.Helper()
	to := net.UDPAddrFromAddrPort(netip.MustParseAddrPort(at))
	front, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	var mu sync.Mutex
	count := 0
	behind := map[netip.AddrPort]*net.UDPConn{}
	t.Cleanup(func() {
		_ = front.Close()
		mu.Lock()
		defer mu.Unlock()
		for _, c := range behind {
			_ = c.Close()
		}
	})
	go func() {
		buf := make([]byte, 1<<12)
		for {
			n, from, err := front.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			mu.Lock()
			c := behind[from]
			if c == nil {
				if c, err = net.DialUDP("udp4", nil, to); err != nil {
					mu.Unlock()
					continue
				}
				behind[from] = c
				go func() {
					back := make([]byte, 1<<12)
					for {
						n, err := c.Read(back)
						if err != nil {
							return
						}
						mu.Lock()
						count++
						mu.Unlock()
						if err := strict(append([]byte(nil), back[:n]...)); err != nil {
							t.Errorf("Ferry sent what a strict reader does not read: %v", err)
						}
						_, _ = front.WriteToUDPAddrPort(back[:n], from)
					}
				}()
			}
			mu.Unlock()
			_, _ = c.Write(buf[:n])
		}
	}()
	return front.LocalAddr().String(), func() int { mu.Lock(); defer mu.Unlock(); return count }
}

// reader is a building controller that asks at a place.
func reader(t testing.TB, at string, settings protocol.Settings) *field.Engine {
	t.Helper()
	d := site.Device{ID: "gate", Name: "Energy gateway", Map: "bacnet-ip"}
	for n := 1; n <= 2; n++ {
		d.Points = append(d.Points, fieldtest.Point(t, family.Scheme, fmt.Sprint("power", n),
			fmt.Sprintf("analog-input:%d", 100*n), value.TypeFloat32, site.ReadOnly), fieldtest.Point(t, family.Scheme,
			fmt.Sprint("limit", n), fmt.Sprintf("analog-value:%d", 100*n), value.TypeFloat32, site.ReadWrite))
	}
	settings[family.KeyDevice] = protocol.OfInt(4050)
	return asking(t, at, d, settings)
}

// asking is a building controller that asks a device.
func asking(t testing.TB, at string, d site.Device, settings protocol.Settings) *field.Engine {
	t.Helper()
	far := site.New("Buildings")
	far.Lines = []site.Line{{ID: "net", Name: "Buildings net", Medium: site.Ethernet, Network: "192.0.2.0/24"}}
	d.Ports = []site.Port{{Line: "net", Host: "192.0.2.97", Protocol: "bacnet-ip"}}
	far.Devices = []site.Device{{ID: "bms", Name: "Building controller",
		Ports: []site.Port{{Line: "net", Host: "192.0.2.9"}}, Points: []site.Point{}}, d}
	far.Links = []site.Link{{ID: "f", Asking: "bms", Answering: d.ID, Line: "net", Protocol: "bacnet-ip",
		Settings: settings}}
	e := field.NewEngine(far, elsewhere(at))
	t.Cleanup(e.Close)
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	return e
}

// TestGateway: what meters on a serial line show stands in objects, is told to who subscribed; a limit that is
// written there arrives at the meter; a silenced meter is a failure of communication, and no other.
func TestGateway(t *testing.T) {
	e, b, at := metered(t)
	at, read := between(t, at)
	for _, told := range []string{family.ToldAsked, family.ToldConfirmed} {
		far := reader(t, at, protocol.Settings{family.KeyTold: protocol.OfText(told),
			protocol.KeyWithin: protocol.OfInt(500)})
		fieldtest.Wait(t, "the reader has what the meters show", func() bool {
			return fieldtest.Live(far, "power1").Quality == value.Good && fieldtest.Live(far, "limit2").Quality == value.Good
		})
		first := fieldtest.Live(far, "power1").Value
		fieldtest.Wait(t, "and follows it", func() bool { return fieldtest.Live(far, "power1").Value != first })
		want := map[string]string{family.ToldAsked: "12", family.ToldConfirmed: "15"}[told]
		order, err := far.Prepare(t.Context(), "limit2", want)
		if err != nil {
			t.Fatal(err)
		}
		if r, err := far.Write(t.Context(), "Ines", order.Token); err != nil || !r.OK {
			t.Fatalf("%+v, %v", r, err)
		}
		fieldtest.Wait(t, "the limit arrives at the meter", func() bool { return fieldtest.Live(e, "m2limit").Shown == want })
		if err := b.SetFault("m1", bench.Fault{Kind: "off"}); err != nil {
			t.Fatal(err)
		}
		fieldtest.Wait(t, "the silenced meter is a fault", func() bool {
			is := fieldtest.Live(far, "power1")
			return is.Quality == value.Bad && (told == family.ToldConfirmed ||
				is.Reason == "the device says that it has a fault: communication failure")
		})
		if is := fieldtest.Live(far, "power2"); is.Quality != value.Good {
			t.Errorf("the other meter is %+v", is)
		}
		if err := b.SetFault("m1", bench.Fault{}); err != nil {
			t.Fatal(err)
		}
		fieldtest.Wait(t, "it is good again", func() bool { return fieldtest.Live(far, "power1").Quality == value.Good })
		far.Close()
	}
	if read() < 20 {
		t.Error(errNone)
	}
}

// TestOtherHand: a client that others wrote finds the device, lists its objects, reads and writes them, is told of
// changes, and sees a silenced meter as failed.
func TestOtherHand(t *testing.T) {
	module := otherHand(t)
	_, b, at := metered(t)
	at, _ = between(t, at)
	type answer struct {
		Found   []int
		Objects int
		Names   map[string]string
		Values  map[string]struct {
			Is    float64
			Flags struct{ Value []int }
			Unit  int
		}
		Told                                         int
		Refused, Unknown, Subscribed, Written, Given struct{ Error string }
		Reads, Slot, After                           *float64
		Failed                                       string
		Fault                                        struct{ After, Reliability int }
	}
	run := func(more ...string) (saw answer) {
		out, err := exec.Command("node", append([]string{"../../../scripts/peers/buildings.cjs", module, at},
			more...)...).CombinedOutput()
		if err == nil {
			err = json.Unmarshal(out, &saw)
		}
		if err != nil || saw.Failed != "" {
			t.Fatalf("%v: %s", err, out)
		}
		return saw
	}
	saw := run()
	if len(saw.Found) == 0 || saw.Found[0] != 4050 || saw.Objects != 6 || saw.Names["0:100"] != "Meter 1 Power" ||
		saw.Values["0:101"].Unit != 3 {
		t.Errorf("%+v", saw)
	}
	if saw.Refused.Error == "" || saw.Unknown.Error == "" || saw.Subscribed.Error != "" || saw.Told == 0 {
		t.Errorf("%+v", saw)
	}
	if saw.Written.Error != "" || saw.Given.Error != "" || saw.Reads == nil || *saw.Reads != 11.5 || saw.Slot == nil ||
		*saw.Slot != 11.5 || saw.After != nil {
		t.Errorf("%+v", saw)
	}
	time.AfterFunc(time.Second, func() { _ = b.SetFault("m2", bench.Fault{Kind: "off"}) })
	if saw := run("0:200"); saw.Fault.Reliability != 12 {
		t.Errorf("%+v", saw)
	} else {
		t.Logf("a silenced meter was seen as failed %d ms after it was silenced", saw.Fault.After-1000)
	}
}

// otherHand is the module of others that speaks the protocol.
func otherHand(t testing.TB) string {
	t.Helper()
	module, err := filepath.Abs("../../../.scratch/bacnet/node_modules/node-bacnet")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(module); err != nil {
		t.Fatal("the module of another hand is not there: run scripts/setup.sh")
	}
	return module
}

// TestOtherDevice: a device that others wrote is listed, read, asked for many or one at a time, tells of changes,
// is commanded at a priority and given back; it is told nothing but what was ordered.
func TestOtherDevice(t *testing.T) {
	for _, habit := range []string{"several", "single"} {
		t.Run(habit, func(t *testing.T) {
			c, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
			if err != nil {
				t.Fatal(err)
			}
			at := c.LocalAddr().String()
			_ = c.Close() // for the device to have
			_, port, _ := net.SplitHostPort(at)
			cmd := exec.Command("node", "../../../scripts/peers/ventilation.cjs", otherHand(t), port, habit)
			cmd.Stderr = os.Stderr
			out, err := cmd.StdoutPipe()
			if err == nil {
				err = cmd.Start()
			}
			if err != nil {
				t.Fatal(err)
			}
			writes := make(chan string, 100)
			go func() {
				for s := bufio.NewScanner(out); s.Scan(); {
					writes <- s.Text()
				}
				close(writes)
			}()
			t.Cleanup(func() {
				_ = cmd.Process.Kill()
				_ = cmd.Wait()
			})
			if first := <-writes; first != "{}" {
				t.Fatalf("the device says %q", first)
			}

			told := map[string]string{"several": family.ToldUnconfirmed, "single": family.ToldAsked}[habit]
			settings := protocol.Settings{family.KeyDevice: protocol.OfInt(4070), family.KeyTold: protocol.OfText(told),
				protocol.KeyWithin: protocol.OfInt(1000)}
			link := &site.Link{ID: "l", Line: "net", Protocol: "bacnet-ip", Answering: "fan", Settings: settings}
			var held []string
			if _, err := field.ListAll(t.Context(), link,
				field.Target{Dial: at, Settings: settings}, func(page []protocol.Held) {
					for _, h := range page {
						held = append(held, fmt.Sprint(family.Scheme.Short(h.Address), " ", h.Name, " ", h.Unit, " ", h.Writable))
					}
				}); err != nil {
				t.Fatal(err)
			}
			if got := strings.Join(held,
				", "); got != "analog-input:1 Supply air °C false, analog-output:2 Valve % true, binary-input:3 Filter  false" {
				t.Error(got)
			}

			d := site.Device{ID: "fan", Name: "Ventilation", Map: "bacnet-ip", Points: []site.Point{
				fieldtest.Point(t, family.Scheme, "air", "analog-input:1", value.TypeFloat32, site.ReadOnly),
				fieldtest.Point(t, family.Scheme, "valve", "analog-output:2", value.TypeFloat32, site.ReadWrite),
				fieldtest.Point(t, family.Scheme, "filter", "binary-input:3", value.TypeBool, site.ReadOnly),
				fieldtest.Point(t, family.Scheme, "gone", "analog-input:9", value.TypeFloat32, site.ReadOnly)}}
			e := asking(t, at, d, settings)
			fieldtest.Wait(t, "what it has", func() bool {
				return fieldtest.Live(e, "air").Quality == value.Good && fieldtest.Live(e, "valve").Shown == "40" &&
					fieldtest.Live(e, "filter").Quality == value.Bad && fieldtest.Live(e, "gone").Quality == value.Bad
			})
			if f, g := fieldtest.Live(e, "filter").Reason, fieldtest.Live(e, "gone").Reason; !strings.Contains(f,
				"fault: unreliable") || !strings.Contains(g, "unknown object") {
				t.Errorf("%s; %s", f, g)
			}
			fieldtest.Wait(t, "it to move", func() bool { return fieldtest.Live(e, "air").Shown == "12" })
			fieldtest.Wait(t, "it to move back", func() bool { return fieldtest.Live(e, "air").Shown == "11.5" })

			write := func(text string, as field.At) {
				t.Helper()
				order, err := e.PrepareAt(t.Context(), "valve", text, as)
				if err != nil {
					t.Fatal(err)
				}
				if r, err := e.Write(t.Context(), "Ines", order.Token); err != nil || !r.OK {
					t.Fatalf("%+v, %v", r, err)
				}
			}
			const eight = "analog-output:2.priority-array[8]"
			write("55", field.At{Level: eight})
			fieldtest.Wait(t, "the valve", func() bool { return fieldtest.Live(e, "valve").Shown == "55" })
			is, err := e.Levels(t.Context(), "valve")
			if err != nil {
				t.Fatal(err)
			}
			for _, l := range is.Levels {
				if !l.Closed && l.Held != (l.Address == eight) || l.Held && !l.Closed && l.Value != "55" {
					t.Errorf("%+v", l)
				}
			}
			write("", field.At{Level: eight, GiveUp: true})
			fieldtest.Wait(t, "the valve given back", func() bool { return fieldtest.Live(e, "valve").Shown == "40" })
			e.Close()
			_ = cmd.Process.Kill()
			var got []string
			for w := range writes {
				got = append(got, w)
			}
			if w := strings.Join(got,
				" "); w != `{"object":"1:2","value":55,"priority":8} {"object":"1:2","value":null,"priority":8}` {
				t.Errorf("it was written %s", w)
			}
		})
	}
}

// TestBehindIt: each meter is a device of its own behind a network number, found by asking all networks; one at the
// address itself is another. A foreign device is told so, and one that nobody registers, too.
func TestBehindIt(t *testing.T) {
	_, _, at := metered(t, func(s *site.Site) {
		second := s.Devices[0]
		second.ID, second.Name = "behind", "Energy gateway, Meter 2"
		second.Ports = []site.Port{{Line: "net", Host: "192.0.2.97", Protocol: "bacnet-ip",
			Settings: protocol.Settings{family.KeyDevice: protocol.OfInt(4052), family.KeyNetwork: protocol.OfInt(1001)}}}
		p := second.Points[3]
		p.ID, p.Name = "behind-power", "Power"
		second.Points = []site.Point{p}
		s.Devices = append(s.Devices, second)
		s.Crossings = append(s.Crossings, site.Crossing{ID: "x-behind", From: "m2Power", To: "behind-power"})
	})
	at, _ = between(t, at)
	driver, _, err := field.DriverOf("bacnet-ip")
	if err != nil {
		t.Fatal(err)
	}
	found := map[int]string{}
	fieldtest.Wait(t, "both are found", func() bool {
		ctx, cancel := context.WithTimeout(t.Context(), 700*time.Millisecond)
		defer cancel()
		var mu sync.Mutex
		if err := driver.(field.Caller).Call(ctx, field.Target{Dial: at},
			field.Stations{From: 4000, To: 5000}, func(f field.Found) {
				mu.Lock()
				defer mu.Unlock()
				found[f.Station] = f.Identity
			}); err != nil {
			t.Fatal(err)
		}
		return len(found) == 2
	})
	if found[4050] != "device 4050, Energy gateway, Ferry, maker 0" ||
		found[4052] != "device 4052, Energy gateway, Meter 2, Ferry, maker 0, in network 1001" {
		t.Errorf("%v", found)
	}
	for _, c := range []struct {
		settings protocol.Settings
		says     string
	}{
		{protocol.Settings{family.KeyDevice: protocol.OfInt(4052), family.KeyNetwork: protocol.OfInt(1001),
			family.KeyForeign: protocol.OfText(at)}, ""},
		{protocol.Settings{family.KeyDevice: protocol.OfInt(4053), family.KeyNetwork: protocol.OfInt(1001)},
			"no device with the instance 4053"},
		{protocol.Settings{family.KeyDevice: protocol.OfInt(4052)}, "it is 4050"},
		{protocol.Settings{family.KeyDevice: protocol.OfInt(4050), family.KeyForeign: protocol.OfText("127.0.0.1:9")},
			"no broadcast will be brought"},
	} {
		c.settings[protocol.KeyWithin], c.settings[protocol.KeyRetries] = protocol.OfInt(300), protocol.OfInt(0)
		conn, reply := driver.Dial(t.Context(), field.Target{Dial: at, Settings: c.settings})
		if conn != nil {
			_ = conn.Close()
		}
		if reply.OK() != (c.says == "") || !strings.Contains(reply.Sentence, c.says) {
			t.Errorf("%v: %+v", c.settings, reply)
		}
	}
}

// TestRival: a gateway says who else has its instance, and so does a finding.
func TestRival(t *testing.T) {
	e, _, at := metered(t)
	c, err := net.Dial("udp4", at)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	for _, instance := range []uint32{4051, 4050} {
		p := wire.Presence{Device: wire.ID(8, instance), MostOctets: 480, Segmentation: wire.SegmentsNot}
		m := wire.Message{Kind: wire.Unconfirmed, Service: wire.IAm, Body: p.Append(nil)}
		n := wire.Network{Carries: true, Body: m.Append(nil)}
		if _, err := c.Write((&wire.Link{Function: wire.Unicast, NPDU: n.Append(nil)}).Append(nil)); err != nil {
			t.Fatal(err)
		}
	}
	fieldtest.Wait(t, "it is said", func() bool {
		list := e.Serving()
		return len(list) == 1 && fmt.Sprint(list[0].Rivals) == fmt.Sprint([]string{c.LocalAddr().String()})
	})
	found := e.RivalFindings(e.Site())
	if len(found) != 1 || found[0].Subject.ID != "gate" || !strings.Contains(found[0].Sentence, c.LocalAddr().String()) ||
		!strings.Contains(found[0].Title, "4050 is there twice") {
		t.Errorf("%+v", found)
	}
}
