package bench_test

import (
	"bytes"
	"errors"
	"io"
	"net"
	"os"
	"syscall"
	"testing"
	"time"

	"ferry/internal/bench"

	"ferry/internal/core/block"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	wire "ferry/internal/wire/modbus"
)

// one returns the stand-in of one device of the demo site.
func one(t *testing.T, device string) *bench.Server {
	t.Helper()
	s := bench.Demo()
	for i := range s.Devices {
		if s.Devices[i].ID == device {
			s.Devices = s.Devices[i : i+1]
			break
		}
	}
	b := bench.New()
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = b.Close() })
	return b.Servers()[device]
}

// ask sends a request over a connection of its own and returns what comes.
func ask(s *bench.Server, request []byte) ([]byte, error) {
	c, err := net.DialTimeout("tcp", s.Addr(), 300*time.Millisecond)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	if err := c.SetDeadline(time.Now().Add(500 * time.Millisecond)); err != nil {
		return nil, err
	}
	if _, err := c.Write(request); err != nil {
		return nil, err
	}
	answer := make([]byte, 300)
	n, err := c.Read(answer)
	return answer[:n], err
}

// TestFaults: each fault looks on the wire as it does on a plant.
func TestFaults(t *testing.T) {
	s := one(t, "do11")
	request := wire.TCP.AppendFrame(nil, 1, 1, wire.ReadPDU(nil, "hr", 0, 2)...)
	timedOut := func(err error) bool {
		var n net.Error
		return errors.Is(err, os.ErrDeadlineExceeded) || errors.As(err, &n) && n.Timeout()
	}
	for _, c := range []struct {
		fault bench.Fault
		is    func([]byte, error) bool
	}{
		{bench.Fault{}, func(b []byte, err error) bool {
			_, broken := wire.TCP.Check(request, b)
			return err == nil && broken == nil
		}},
		{bench.Fault{Kind: "stop"}, func(_ []byte, err error) bool { return errors.Is(err, syscall.ECONNREFUSED) }},
		{bench.Fault{Kind: "off"}, func(_ []byte, err error) bool { return timedOut(err) }},
		{bench.Fault{Kind: "refuse"}, func(_ []byte, err error) bool {
			return errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) || errors.Is(err, io.EOF)
		}},
		{bench.Fault{Kind: "silent"}, func(b []byte, err error) bool { return len(b) == 0 && timedOut(err) }},
		{bench.Fault{Kind: "exception", Value: 4}, func(b []byte, err error) bool {
			a, broken := wire.TCP.Check(request, b)
			return err == nil && broken == nil && a.Exception == 4
		}},
		{bench.Fault{Kind: "short"},
			func(b []byte, _ error) bool { _, err := wire.TCP.Check(request, b); return err != nil && len(b) == 11 }},
		{bench.Fault{Kind: "long"},
			func(b []byte, _ error) bool { _, err := wire.TCP.Check(request, b); return err != nil && len(b) == 15 }},
		{bench.Fault{Kind: "transaction"},
			func(b []byte, _ error) bool { _, err := wire.TCP.Check(request, b); return err != nil && len(b) == 13 }},
		{bench.Fault{}, func(b []byte, err error) bool {
			_, broken := wire.TCP.Check(request, b)
			return err == nil && broken == nil
		}},
	} {
		if err := s.SetFault(c.fault); err != nil {
			t.Fatal(err)
		}
		if b, err := ask(s, request); !c.is(b, err) {
			t.Errorf("%q answers % X, %v", c.fault.Kind, b, err)
		}
	}
	if b, err := ask(s, wire.TCP.AppendFrame(nil, 1, 9, wire.ReadPDU(nil, "hr", 0, 2)...)); len(b) > 0 ||
		!timedOut(err) {
		t.Errorf("another unit is answered: % X, %v", b, err)
	}
}

// TestRequests: what is not there, too much, or unknown is declined by the
// code that the standard gives it.
func TestRequests(t *testing.T) {
	s := one(t, "pump1")
	for _, c := range []struct {
		name      string
		pdu       []byte
		exception byte
	}{
		{"read", []byte{3, 0, 0, 0, 2}, 0}, {"past the end", []byte{3, 3, 0, 0, 2}, 2},
		{"no such table", []byte{4, 0, 0, 0, 1}, 2},
		{"nothing", []byte{3, 0, 0, 0, 0}, 3}, {"126 registers", []byte{3, 0, 0, 0, 126}, 3},
		{"2001 bits", []byte{1, 0, 0, 7, 0xD1}, 3}, {"cut short", []byte{3, 0}, 3},
		{"an unknown function", []byte{99}, 1}, {"write one", []byte{6, 0, 1, 0, 5}, 0},
		{"write several", []byte{16, 0, 0, 0, 1, 2, 0, 1}, 0},
		{"a write that lies about its length", []byte{16, 0, 0, 0, 2, 2, 0, 1}, 3},
		{"write past the end", []byte{6, 9, 0, 0, 5}, 2}, {"a coil", []byte{5, 0, 0, 0xFF, 0}, 0},
	} {
		answer, err := ask(s, wire.TCP.AppendFrame(nil, 1, 1, c.pdu...))
		code := byte(0)
		if err == nil && answer[7]&0x80 != 0 {
			code = answer[8]
		}
		if err != nil || code != c.exception {
			t.Errorf("%s: exception %d, %v; want %d", c.name, code, err, c.exception)
		}
	}
}

// TestFreeze: frozen values stand still, setpoints can still be written, and
// time goes on where it stopped.
func TestFreeze(t *testing.T) {
	s := one(t, "pump1")
	read := func(area string, at, n int) []byte { b, _ := s.Memory.Read(area, at, n); return b }
	before := read("hr", 110, 2)
	time.Sleep(300 * time.Millisecond)
	if bytes.Equal(before, read("hr", 110, 2)) {
		t.Error("the run count does not count")
	}
	s.Memory.Freeze(true)
	frozen := read("hr", 100, 20)
	time.Sleep(200 * time.Millisecond)
	if !bytes.Equal(frozen, read("hr", 100, 20)) {
		t.Error("frozen values move")
	}
	if !s.Memory.Write("hr", 1, []byte{0, 9}) || read("hr", 1, 1)[1] != 9 {
		t.Error("a setpoint cannot be written while frozen")
	}
	s.Memory.Freeze(false)
	time.Sleep(300 * time.Millisecond)
	if bytes.Equal(frozen, read("hr", 100, 20)) {
		t.Error("thawed values do not move")
	}
}

// TestSync: a device without a model behaves as its own map says; a stand-in
// is made anew only when what it is made from has changed, and goes with its
// device.
func TestSync(t *testing.T) {
	s := bench.Demo()
	plain := s.Device("uv")
	plain.Bench = ""
	plain.Points = []site.Point{{ID: "x", Name: "Flow", Address: plain.Points[0].Address, Type: value.TypeFloat32,
		PaceMs: 1000, Access: site.ReadOnly}}
	b := bench.New()
	defer b.Close()
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	uv, skid := b.Servers()["uv"], b.Servers()["skid"]
	if _, ok := uv.Memory.Read("ir", 0, 2); !ok || uv.Identity != "UV-300" {
		t.Errorf("the plain device has no such register, or is %q", uv.Identity)
	}
	plain.Points = append([]site.Point{}, plain.Points...) // a site that others have is never changed
	plain.Points[0].Address = block.Moved(plain.Points[0].Address, 40)
	s.Device("skid").Points[0].Name = "Renamed"
	if err := b.SetFault("uv", bench.Fault{Kind: "delay", Value: 5}); err != nil {
		t.Fatal(err)
	}
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	if b.Servers()["skid"] != skid {
		t.Error("a device with a model was made anew for its map")
	}
	if b.Servers()["uv"] == uv || b.Servers()["uv"].Addr() != uv.Addr() || b.Servers()["uv"].Fault().Kind != "delay" {
		t.Error("a device without one was not made anew in its place, with its fault")
	}
	s.Devices = s.Devices[:2]
	if err := b.Sync(s); err != nil || len(b.Servers()) != 1 {
		t.Errorf("%d stand-ins are left, %v", len(b.Servers()), err)
	}
	for _, bad := range []bench.Fault{{Kind: "fire"}, {Kind: "exception"}, {Kind: "delay", Value: -1}} {
		if err := b.SetFault("do11", bad); err == nil {
			t.Errorf("%+v is a fault", bad)
		}
	}
}

// TestStoppedPortIsHeld: who knocks at a server that is stopped is refused, and
// no other program takes its place meanwhile.
func TestStoppedPortIsHeld(t *testing.T) {
	s := one(t, "do11")
	if err := s.SetFault(bench.Fault{Kind: "stop"}); err != nil {
		t.Fatal(err)
	}
	if l, err := net.Listen("tcp", s.Addr()); err == nil {
		_ = l.Close()
		// A port of which a connection has just ended cannot be held.
		if held, cannot := bench.HeldPort(l.Addr().(*net.TCPAddr).Port); cannot == nil {
			_ = held.Close()
			t.Error("another program can listen in its place")
		}
	}
	if _, err := net.DialTimeout("tcp", s.Addr(), time.Second); !errors.Is(err, syscall.ECONNREFUSED) {
		t.Errorf("who knocks is told %v", err)
	}
	if err := s.SetFault(bench.Fault{}); err != nil {
		t.Fatal(err)
	}
	c, err := net.DialTimeout("tcp", s.Addr(), time.Second)
	if err != nil {
		t.Fatal(err)
	}
	_ = c.Close()
}
