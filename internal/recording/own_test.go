package recording

import (
	"bytes"
	"context"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	"ferry/internal/core/rehearsal"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	wire "ferry/internal/wire/modbus"
)

// TestRelayed: what passed a relay is a recording with every exchange in it.
func TestRelayed(t *testing.T) {
	at := time.Date(2026, 3, 2, 6, 0, 0, 0, time.UTC)
	ends := map[int][2]netip.AddrPort{}
	var passed []Passed
	for n := 1; n <= 50; n++ {
		ends[n] = [2]netip.AddrPort{netip.AddrPortFrom(netip.MustParseAddr(controller), uint16(40000+n)), rehearsal.End(skid)}
		say := func(after time.Duration, side capture.Side, octets []byte) {
			passed = append(passed, Passed{Conn: n, Piece: capture.Piece{At: at.Add(after), Side: side, Octets: octets}})
		}
		passed = append(passed, Passed{Conn: n, Piece: capture.Piece{At: at}, Opened: true})
		say(100*time.Microsecond, capture.Asker, tcp(uint16(n), 1, 3, 0, 0, 0, 1))
		say(200*time.Microsecond, capture.Answerer, tcp(uint16(n), 1, 3, 2, 0, 7))
		passed = append(passed, Passed{Conn: n, Piece: capture.Piece{At: at.Add(time.Millisecond)}, Shut: true})
		at = at.Add(30 * time.Millisecond)
	}
	var out bytes.Buffer
	if err := WriteRelayed(&out, passed, ends, Between{}); err != nil {
		t.Fatal(err)
	}
	r := New(nil)
	if err := r.Read(context.Background(), Source{Name: "x", From: &out}); err != nil {
		t.Fatal(err)
	}
	if got := r.Finish(); got.Exchanges != 50 || codes(got.Findings) != "connection-churn" {
		t.Errorf("%d exchanges\n%s", got.Exchanges, told(got.Findings))
	}
}

// TestRelayedOtherwise: what passed over a serial port, over datagrams, and what was only
// heard, is a recording as well; datagrams of what nobody knows are counted.
func TestRelayedOtherwise(t *testing.T) {
	format := serial.Usual
	for name, of := range map[string]Between{"serial": {Line: "Tank row A", Format: &format},
		"heard": {Line: "Tank row A"}, "datagrams": {Datagrams: true}} {
		at := time.Date(2026, 3, 2, 6, 0, 0, 0, time.UTC)
		ends := map[int][2]netip.AddrPort{1: {rehearsal.End("192.0.2.10:5000"), rehearsal.End("192.0.2.40:4000")}}
		var passed []Passed
		for i := range 20 {
			for side, octets := range [][]byte{frame(13, 3, 0, 0, 0, 1), frame(13, 3, 2, 1, byte(i))} {
				passed = append(passed, Passed{Conn: 1, OneWay: name == "heard",
					Piece: capture.Piece{At: at, Side: capture.Side(side), Octets: octets}})
				at = at.Add(20 * time.Millisecond)
			}
			at = at.Add(300 * time.Millisecond)
		}
		var out bytes.Buffer
		if err := WriteRelayed(&out, passed, ends, of); err != nil {
			t.Fatal(err)
		}
		r := New(nil)
		if err := r.Read(context.Background(), Source{Name: "x", From: &out}); err != nil {
			t.Fatal(err)
		}
		got := r.Finish()
		want := int64(20)
		if of.Datagrams {
			want = 0 // serial frames in datagrams are nobody's way to talk
		}
		if got.Packets != 40 || got.Exchanges != want || len(got.Findings) != 0 || got.Connections != 1 {
			t.Errorf("%s: %d packets, %d connections, %d exchanges\n%s", name, got.Packets, got.Connections, got.Exchanges,
				told(got.Findings))
		}
	}
}

// TestOwnConnecting: what Ferry tried in vain is in what is kept of it, each try over a
// connection of its own, also where the device is given by the name of its machine.
func TestOwnConnecting(t *testing.T) {
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Control network", Medium: site.Ethernet}}
	s.Devices = []site.Device{
		{ID: "lss", Ports: []site.Port{{Line: "net", Host: "192.0.2.10"}}},
		{ID: "skid", Ports: []site.Port{{Line: "net", Host: "skid.skerry.example", Protocol: "modbus-tcp"}}}}
	s.Links = []site.Link{{ID: "l", Asking: "lss", Answering: "skid", Line: "net", Protocol: "modbus-tcp"}}
	at := time.Date(2026, 3, 2, 6, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		outcome exchange.Outcome
		code    string
	}{{exchange.Unreached, "host-silent"}, {exchange.Refused, "port-refused"}, {exchange.Reset, "connection-dropped"}} {
		var list []exchange.Exchange
		for i := range 6 {
			list = append(list, exchange.Exchange{Link: "l", Device: "skid", Connecting: true, Outcome: c.outcome,
				LatencyMs: 3000, At: at.Add(time.Duration(i) * 5 * time.Second),
				Frames: []exchange.Frame{{Out: true, Octets: tcp(uint16(i), 1, 3, 0, 0, 0, 2)}}})
		}
		var out bytes.Buffer
		if err := WriteOwn(&out, s, list, nil); err != nil {
			t.Fatal(err)
		}
		r := New(nil)
		if err := r.Read(context.Background(), Source{Name: "x", From: &out}); err != nil {
			t.Fatal(err)
		}
		if got := r.Finish(); codes(got.Findings) != c.code || got.Connections != 6 {
			t.Errorf("%s: %d connections\n%s", c.outcome, got.Connections, told(got.Findings))
		}
	}
}

// frame is one of a serial line.
func frame(unit byte, pdu ...byte) []byte { return wire.RTU.AppendFrame(nil, 0, unit, pdu...) }

// TestLearned: what a recording teaches is a valid part of a site, whoever asks one
// device of it.
func TestLearned(t *testing.T) {
	a := &actor{Stage: rehearsal.New(), rnd: rand.New(rand.NewPCG(1, 2))}
	for _, host := range []string{controller, panel} {
		c := a.Dial(host, gateway)
		a.polls(c, 13, 10)
		a.polls(c, 14, 10)
	}
	shelf, err := OpenShelf(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer shelf.Close()
	s := site.New("Skerry Point Hatchery")
	k, err := shelf.Take("x.pcapng.gz", bytes.NewReader(written(t, a.Stage)), nil, time.Now(), s)
	if err != nil {
		t.Fatal(err)
	}
	for k.State().Reading {
		time.Sleep(time.Millisecond)
	}
	heard, err := k.Learn(s)
	if err != nil || len(heard) != 2 || len(heard[0].Points) != 4 || len(heard[0].Askers) != 2 {
		t.Fatalf("%+v, %v", heard, err)
	}
	learned, _, err := s.Apply(Edits(s, heard))
	if err != nil || len(learned.Devices) != 4 || len(learned.Links) != 4 || len(learned.Devices[0].Points) != 4 {
		t.Fatalf("%+v, %v", learned, err)
	}
	if again, err := k.Learn(learned); err != nil || again[0].Known == "" || again[1].Known == "" {
		t.Errorf("%+v, %v", again, err)
	}
	r := New(learned)
	if err := r.Read(context.Background(), Source{Name: "x", From: bytes.NewReader(written(t, a.Stage))}); err != nil {
		t.Fatal(err)
	}
	if got := r.Finish(); codes(got.Findings) != "" {
		t.Errorf("against what it taught it finds\n%s", told(got.Findings))
	}
}
