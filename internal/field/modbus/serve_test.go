package modbus_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"ferry/internal/bench"
	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	_ "ferry/internal/families"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
	wire "ferry/internal/wire/modbus"
)

// shore is the life support's probe 11 and a gateway that Ferry is, whose units 3
// and 4 share an address.
func shore(t testing.TB) *site.Site {
	t.Helper()
	low, high := 0.0, 400.0
	port := func(unit int) []site.Port {
		return []site.Port{{Line: "net", Host: "192.0.2.60", Protocol: "modbus-tcp",
			Settings: protocol.Numbers(map[string]int{"unit": unit, "port": 1502})}}
	}
	at := func(area string, n uint32) site.Point {
		return site.Point{Address: block.At(area, n), Access: site.ReadOnly}
	}
	named := func(p site.Point, id string, of value.Type, access site.Access) site.Point {
		p.ID, p.Name, p.Type, p.Access = id, id, of, access
		return p
	}
	setpoint := named(at("hr", 10), "setpoint", value.TypeFloat32, site.ReadWrite)
	setpoint.Low, setpoint.High = &low, &high
	running := named(at("hr", 12), "running", value.TypeBool, site.ReadOnly)
	running.Address = block.WithBit(running.Address, 0)
	start := named(at("hr", 12), "start", value.TypeBool, site.ReadWrite)
	start.Address = block.WithBit(start.Address, 3)
	s := &site.Site{Format: site.Format, Version: site.Version, Name: "Skerry Point Hatchery",
		Lines: []site.Line{{ID: "net", Name: "Plant network", Medium: site.Ethernet}},
		Devices: []site.Device{
			{ID: "lss", Name: "Life support", Ports: []site.Port{{Line: "net", Host: "192.0.2.1"}}},
			{ID: "probe", Name: "DO probe 11", Map: "modbus-tcp",
				Ports: []site.Port{{Line: "net", Host: "192.0.2.11", Protocol: "modbus-tcp"}},
				Points: []site.Point{named(at("hr", 0), "source", value.TypeFloat32, site.ReadWrite),
					named(at("hr", 2), "command", value.TypeFloat32, site.ReadWrite)}},
			{ID: "gate", Name: "Shore gateway", Map: "modbus-tcp", Serving: &site.Serving{MostClients: 3}, Ports: port(3),
				Points: []site.Point{named(at("hr", 0), "oxygen", value.TypeFloat32, site.ReadOnly), setpoint, running, start,
					named(at("co", 0), "lamp", value.TypeBool, site.ReadWrite)}},
			{ID: "other", Name: "Shore gateway, meters", Map: "modbus-tcp",
				Serving: &site.Serving{ReadOnly: true, MostClients: 1},
				Ports:   port(4), Points: []site.Point{named(at("ir", 5), "meter", value.TypeUint16, site.ReadOnly)}},
		},
		Links: []site.Link{{ID: "to-probe", Asking: "lss", Answering: "probe", Line: "net", Protocol: "modbus-tcp"}},
		Crossings: []site.Crossing{{ID: "x", From: "source", To: "oxygen", Factor: 2},
			{ID: "y", From: "setpoint", To: "command"}},
	}
	for i := range s.Devices[1].Points {
		s.Devices[1].Points[i].PaceMs = 20
	}
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	return s
}

// shoreClient asks at a post in plain octets.
type shoreClient struct {
	t *testing.T
	net.Conn
	number uint16
}

func dialShore(t *testing.T, at string) *shoreClient {
	t.Helper()
	conn, err := net.Dial("tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = conn.Close() })
	if err := conn.SetDeadline(time.Now().Add(20 * time.Second)); err != nil {
		t.Fatal(err)
	}
	return &shoreClient{t: t, Conn: conn}
}

// ask sends a data unit and returns that of the answer.
func (c *shoreClient) ask(unit byte, pdu ...byte) []byte {
	c.t.Helper()
	c.number++
	if _, err := c.Write(wire.TCP.AppendFrame(nil, c.number, unit, pdu...)); err != nil {
		c.t.Fatal(err)
	}
	head := make([]byte, 7)
	if _, err := io.ReadFull(c, head); err != nil {
		c.t.Fatal(err)
	}
	answer := make([]byte, binary.BigEndian.Uint16(head[4:])-1)
	if _, err := io.ReadFull(c, answer); err != nil {
		c.t.Fatal(err)
	}
	if got := binary.BigEndian.Uint16(head); got != c.number || head[6] != unit {
		c.t.Fatalf("transaction %d of unit %d answers, asked were %d and %d", got, head[6], c.number, unit)
	}
	return answer
}

// TestFerryAnswers: what crossings carry is read by a client of another hand, what
// it writes acts on the point behind it, and whatever else it asks is refused by
// the right exception.
func TestFerryAnswers(t *testing.T) {
	s := shore(t)
	b := bench.New()
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	if servers := b.List(s); len(servers) != 1 {
		t.Fatalf("%d stand-ins, want that of the probe alone", len(servers))
	}
	e := field.NewEngine(s, b)
	t.Cleanup(func() { e.Close(); _ = b.Close() })
	if err := e.Start([]string{"gate", "other"}); err != nil {
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
	c := dialShore(t, at)
	read := []byte{3, 0, 0, 0, 2}
	if got := c.ask(3, read...); !bytes.Equal(got, []byte{0x83, 11}) {
		t.Fatalf("before the source was read: % X", got)
	}
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "the oxygen", func() bool { return len(c.ask(3, read...)) == 6 })
	source, _ := e.Hub.Point("source")
	fieldtest.Wait(t, "the oxygen doubled", func() bool {
		source, _ = e.Hub.Point("source")
		oxygen, _ := e.Hub.Point("oxygen")
		return oxygen.Quality == value.Good && oxygen.Value.Float() == float64(float32(2*source.Value.Float()))
	})
	// What the client was given is told: as what, of whose value, and when that came.
	asked := time.Now().UnixMilli()
	got := c.ask(3, read...)
	given := e.Given("gate")
	if len(given) != 1 || given[0].Point != "oxygen" || given[0].From != "source" ||
		given[0].To != c.LocalAddr().String() ||
		given[0].AtMs < asked || given[0].ArrivedMs == 0 || given[0].ArrivedMs > given[0].AtMs || given[0].Count < 2 {
		t.Errorf("given: %+v", given)
	} else if as := fmt.Sprint(math.Float32frombits(binary.BigEndian.Uint32(got[2:]))); given[0].Value != as {
		t.Errorf("given as %s, and the octets say %s", given[0].Value, as)
	}
	for _, test := range []struct {
		what string
		unit byte
		ask  []byte
		want []byte
	}{
		{"a hole between points", 3, []byte{3, 0, 4, 0, 2}, []byte{3, 4, 0, 0, 0, 0}},
		{"beyond the map", 3, []byte{3, 0, 12, 0, 2}, []byte{0x83, 2}},
		{"an area without points", 3, []byte{4, 0, 0, 0, 1}, []byte{0x84, 2}},
		{"too many", 3, []byte{3, 0, 0, 0, 126}, []byte{0x83, 3}},
		{"none", 3, []byte{3, 0, 0, 0, 0}, []byte{0x83, 3}},
		{"past the last register", 3, []byte{3, 0xFF, 0xFF, 0, 2}, []byte{0x83, 2}},
		{"a function that is none", 3, []byte{99}, []byte{0xE3, 1}},
		{"a unit that is nobody", 9, read, []byte{0x83, 11}},
		{"a read of half a request", 3, []byte{3, 0, 0, 0}, []byte{0x83, 3}},
		{"the second unit, whose point nothing is carried into", 4, []byte{4, 0, 5, 0, 1}, []byte{0x84, 11}},
		{"a write to what is read only", 3, []byte{6, 0, 0, 0, 9}, []byte{0x86, 2}},
		{"a write to a hole", 3, []byte{6, 0, 5, 0, 9}, []byte{0x86, 2}},
		{"a write to a unit that takes none", 4, []byte{6, 0, 5, 0, 9}, []byte{0x86, 1}},
		{"a number beyond the limits", 3, []byte{16, 0, 10, 0, 2, 4, 0x44, 0x7A, 0, 0}, []byte{0x90, 3}},
		{"a count that does not fit", 3, []byte{16, 0, 10, 0, 2, 3, 0x42, 0x28, 0}, []byte{0x90, 3}},
		{"a number within them", 3, []byte{16, 0, 10, 0, 2, 4, 0x42, 0x28, 0, 0}, []byte{16, 0, 10, 0, 2}},
		{"it reads back", 3, []byte{3, 0, 10, 0, 2}, []byte{3, 4, 0x42, 0x28, 0, 0}},
		{"its first half alone", 3, []byte{6, 0, 10, 0x43, 0x20}, []byte{6, 0, 10, 0x43, 0x20}},
		{"a bit that is its own", 3, []byte{22, 0, 12, 0xFF, 0xF7, 0, 8}, []byte{22, 0, 12, 0xFF, 0xF7, 0, 8}},
		{"a bit that is not", 3, []byte{22, 0, 12, 0xFF, 0xFE, 0, 1}, []byte{0x96, 2}},
		{"written and read at once", 3, []byte{23, 0, 10, 0, 1, 0, 12, 0, 1, 2, 0, 0}, []byte{23, 2, 0x43, 0x20}},
		{"what only is read and nothing is carried into", 3, []byte{3, 0, 12, 0, 1}, []byte{0x83, 11}},
		{"a coil", 3, []byte{5, 0, 0, 0xFF, 0}, []byte{5, 0, 0, 0xFF, 0}},
		{"a coil that is neither", 3, []byte{5, 0, 0, 0x12, 0}, []byte{0x85, 3}},
		{"coils", 3, []byte{15, 0, 0, 0, 1, 1, 1}, []byte{15, 0, 0, 0, 1}},
		{"the coil", 3, []byte{1, 0, 0, 0, 1}, []byte{1, 1, 1}},
		{"who it is", 3, []byte{17}, append([]byte{17, 14}, "Shore gateway\xFF"...)},
	} {
		if got := c.ask(test.unit, test.ask...); !bytes.Equal(got, test.want) {
			t.Errorf("%s: % X is answered % X, want % X", test.what, test.ask, got, test.want)
		}
	}
	fieldtest.Wait(t, "the command at the probe", func() bool {
		live, _ := e.Hub.Point("command")
		return live.Value.Float() == 42
	})
	time.Sleep(100 * time.Millisecond)
	if live, _ := e.Hub.Point("setpoint"); live.Value.Float() != 42 {
		t.Errorf("half a number was taken for %s", live.Shown)
	}
	if got := c.ask(3, 6, 0, 11, 0, 0); got[0] != 6 {
		t.Errorf("the second half: % X", got)
	}
	fieldtest.Wait(t, "the whole number",
		func() bool { live, _ := e.Hub.Point("command"); return live.Value.Float() == 160 })

	for range 2 {
		dialShore(t, at).ask(3, read...)
	}
	one := dialShore(t, at)
	if n, err := one.Read(make([]byte, 1)); err == nil {
		t.Errorf("a fourth client is let in and told %d octets", n)
	}
	state := e.Serving()[0]
	if len(state.Clients) != 3 || state.Away != 1 || !strings.Contains(state.LastAway, "3 were there") ||
		state.Clients[0].Wrote == 0 || state.Clients[0].Refused == 0 {
		t.Errorf("what is served: %+v", state)
	}
	shut, _, err := s.Apply([]site.Edit{site.Put(site.KindDevice, "gate", "", func() site.Device {
		d := s.Devices[2]
		d.Serving = &site.Serving{Allow: []string{"10.20.0.0/24", "192.0.2.9"}}
		d.Points = nil
		return d
	}())})
	if err != nil {
		t.Fatal(err)
	}
	other := *shut.Device("other")
	other.Serving = &site.Serving{Allow: []string{"10.20.0.31"}}
	other.Points = nil
	if shut, _, err = shut.Apply([]site.Edit{site.Put(site.KindDevice, "other", "", other)}); err != nil {
		t.Fatal(err)
	}
	e.Update(shut, 1)
	fieldtest.Wait(t, "who is no longer let in to be hung up on", func() bool { return len(e.Serving()[0].Clients) == 0 })
	e.Stop(nil)
	if conn, err := net.Dial("tcp", at); err == nil {
		_ = conn.Close()
		t.Error("it still listens after it was stopped")
	}
}

// BenchmarkServing has 1, 8 and 64 clients ask Ferry for registers as fast as it
// answers, beside a bare loop that sends one answer again and again.
func BenchmarkServing(b *testing.B) {
	s := shore(b)
	s.Crossings, s.Devices[2].Serving = nil, &site.Serving{MostClients: 100}
	for i := range s.Devices[2].Points { // what nothing feeds has a value where clients may write it
		s.Devices[2].Points[i].Access = site.ReadWrite
	}
	standIns := bench.New()
	if err := standIns.Sync(s); err != nil {
		b.Fatal(err)
	}
	e := field.NewEngine(s, standIns)
	defer func() { e.Close(); _ = standIns.Close() }()
	if err := e.Start([]string{"gate"}); err != nil {
		b.Fatal(err)
	}
	bare, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	defer bare.Close()
	request := wire.TCP.AppendFrame(nil, 1, 3, 3, 0, 0, 0, 13)
	answer := wire.TCP.AppendFrame(nil, 1, 3, append([]byte{3, 26}, make([]byte, 26)...)...)
	go func() {
		for {
			conn, err := bare.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				came := make([]byte, len(request))
				for {
					if _, err := io.ReadFull(conn, came); err != nil {
						return
					}
					if _, err := conn.Write(answer); err != nil {
						return
					}
				}
			}()
		}
	}()
	time.Sleep(50 * time.Millisecond) // it listens
	for _, clients := range []int{1, 8, 64} {
		for name, at := range map[string]string{"ferry": e.Serving()[0].Listens[0], "bare": bare.Addr().String()} {
			b.Run(fmt.Sprintf("%s-%d", name, clients), func(b *testing.B) {
				conns := make([]net.Conn, clients)
				for i := range conns {
					if conns[i], err = net.Dial("tcp", at); err != nil {
						b.Fatal(err)
					}
					defer conns[i].Close()
					if err := conns[i].SetDeadline(time.Now().Add(time.Minute)); err != nil {
						b.Fatal(err)
					}
				}
				b.ResetTimer()
				var all sync.WaitGroup
				for i, conn := range conns {
					all.Go(func() {
						came := make([]byte, len(answer))
						for range b.N/clients + btoi(i < b.N%clients) {
							if _, err := conn.Write(request); err != nil {
								b.Error(err)
								return
							}
							if _, err := io.ReadFull(conn, came); err != nil || came[7] != 3 {
								b.Errorf("% X, %v", came, err)
								return
							}
						}
					})
				}
				all.Wait()
				b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "requests/s")
			})
		}
	}
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}
