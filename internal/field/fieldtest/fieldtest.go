// Package fieldtest has what tests of the field need in every family: an engine before the stand-ins of a bench,
// points,
// and patience.
package fieldtest

import (
	"context"
	"net"
	"net/netip"
	"testing"
	"time"

	"ferry/internal/bench"
	"ferry/internal/core/address"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// Patience is how long a test waits for what must come, also on a machine that is busy.
const Patience = 15 * time.Second

// Benched is an engine that asks the stand-ins of a site, with its timetable worked out. Both end with the test.
func Benched(t testing.TB, s *site.Site) (*field.Engine, *bench.Bench) {
	t.Helper()
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	b := bench.New()
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	e := field.NewEngine(s, b)
	t.Cleanup(func() {
		e.Close()
		if err := b.Close(); err != nil {
			t.Error(err)
		}
	})
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	e.Planned(ctx) // on a busy machine that may take longer than a press waits
	return e, b
}

// Loopback is a socket for datagrams on loopback.
func Loopback(t testing.TB) *net.UDPConn {
	t.Helper()
	c, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// Hear gives what comes to a socket to hear, datagram by datagram, until the socket is closed or the test ends. The
// octets are hear's only until it returns.
func Hear(t testing.TB, c *net.UDPConn, hear func(from netip.AddrPort, b []byte)) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		buf := make([]byte, 1<<16)
		for {
			n, from, err := c.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			hear(netip.AddrPortFrom(from.Addr().Unmap(), from.Port()), buf[:n])
		}
	}()
	t.Cleanup(func() {
		_ = c.Close() // some tests close it themselves
		<-done
	})
}

// Wait waits until something is so.
func Wait(t testing.TB, what string, until func() bool) {
	t.Helper()
	for deadline := time.Now().Add(Patience); !until(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("not within %s: %s", Patience, what)
		}
	}
}

// Live is what is known of a point now.
func Live(e *field.Engine, id string) field.Live {
	live, _ := e.Hub.Point(id)
	return live
}

// Point is a point of a map, read every 200 ms.
func Point(t testing.TB, scheme address.Scheme, id, at string, of value.Type, access site.Access) site.Point {
	t.Helper()
	a, err := scheme.Parse(at, "")
	if err != nil {
		t.Fatal(err)
	}
	return site.Point{ID: id, Name: "Point " + id, Address: a, Type: of, PaceMs: 200, Access: access}
}
