package bacnet

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net"
	"net/netip"
	"sync/atomic"
	"testing"
	"time"

	family "ferry/internal/core/family/bacnet"
	"ferry/internal/field/fieldtest"
	target "ferry/internal/target/bacnet"
	wire "ferry/internal/wire/bacnet"
)

// answering is a device on loopback; every n-th datagram that it sends is lost, 0 for none.
func answering(t *testing.T, lost int) (at netip.AddrPort, asked *atomic.Int64) {
	t.Helper()
	conn := fieldtest.Loopback(t)
	objects := []*target.Object{{ID: wire.ID(2, 1), Name: "Setpoint", Low: math.NaN(), High: math.NaN(),
		Commanded: true, Value: wire.Real(8)}}
	for i := range 3000 {
		objects = append(objects, &target.Object{ID: wire.ID(0, uint32(i)), Name: fmt.Sprintf("Register %d", i),
			Low: math.NaN(), High: math.NaN()})
	}
	sent := 0
	asked = &atomic.Int64{}
	send := func(to netip.AddrPort, b []byte) {
		if sent++; lost == 0 || sent%lost != 0 {
			_, _ = conn.WriteToUDPAddrPort(b, to)
		}
	}
	front := target.NewFront(target.Carrier{Send: send, Broadcast: func([]byte) {}})
	s := target.New(target.Config{Send: send, Asked: func(netip.AddrPort, bool) { asked.Add(1) },
		Write: func(netip.AddrPort, wire.ObjectID, wire.Value) *wire.Failure { return nil }},
		target.Device{Instance: 4050, Name: "Meters"}, objects)
	front.Put(s)
	t.Cleanup(s.Close)
	fieldtest.Hear(t, conn, front.Hear)
	return conn.LocalAddr().(*net.UDPAddr).AddrPort(), asked
}

func opened(t *testing.T) *socket {
	t.Helper()
	s, err := open(netip.MustParseAddrPort("127.0.0.1:0"), hooks{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	return s
}

var objectList = wire.Reference{Object: wire.ID(8, 4050), Property: uint32(family.ObjectList), Index: wire.Whole}

// TestAsk: properties are read, also a list in parts, of which some are lost on the way; refusals are told
// as what they are, and who is silent is asked again, but a write never.
func TestAsk(t *testing.T) {
	ctx := context.Background()
	for _, lost := range []int{0, 7} {
		at, _ := answering(t, lost)
		s := opened(t)
		m, err := s.ask(ctx, at, wire.Station{}, wire.ReadProperty, wire.AppendReadProperty(nil, objectList),
			5*time.Second, 3, false)
		if err != nil {
			t.Fatalf("every %d. lost: %v", lost, err)
		}
		if _, values, err := wire.ParseReadAnswer(m.Body, m.BodyAt); err != nil || len(values) != 3002 ||
			values[3001].Object != wire.ID(0, 2999) {
			t.Errorf("every %d. lost: %d objects, %v", lost, len(values), err)
		}
	}
	at, asked := answering(t, 0)
	s := opened(t)
	_, err := s.ask(ctx, at, wire.Station{}, wire.ReadProperty,
		wire.AppendReadProperty(nil, wire.Reference{Object: wire.ID(5, 1), Property: 85, Index: -1}), time.Second, 3,
		false)
	var refused *refusedError
	if !errors.As(err, &refused) || refused.failure != (wire.Failure{Class: 1, Code: 31}) {
		t.Errorf("%v", err)
	}
	if _, err := s.ask(ctx, at, wire.Station{}, 99, nil, time.Second, 3, false); !errors.As(err, &refused) ||
		refused.kind != wire.Reject {
		t.Errorf("%v", err)
	}
	dark := fieldtest.Loopback(t)
	came := make(chan struct{}, 100)
	fieldtest.Hear(t, dark, func(netip.AddrPort, []byte) { came <- struct{}{} })
	to := dark.LocalAddr().(*net.UDPAddr).AddrPort()
	for once, want := range map[bool]int{false: 3, true: 1} {
		if _, err := s.ask(ctx, to, wire.Station{}, wire.WriteProperty, nil, 50*time.Millisecond, 2,
			once); !errors.Is(err, errSilent) {
			t.Errorf("%v", err)
		}
		time.Sleep(20 * time.Millisecond)
		if n := len(came); n != want {
			t.Errorf("once %t: it was sent %d times", once, n)
		}
		for len(came) > 0 {
			<-came
		}
	}
	if before := asked.Load(); before == 0 {
		t.Error("nothing was asked")
	}
	done := make(chan error, 1)
	go func() {
		_, err := s.ask(ctx, to, wire.Station{}, wire.ReadProperty, nil, time.Minute, 0, false)
		done <- err
	}()
	time.Sleep(30 * time.Millisecond)
	if err := s.conn.Close(); err != nil {
		t.Fatal(err)
	}
	close(s.closed)
	select {
	case err := <-done:
		if !errors.Is(err, errClosed) {
			t.Error(err)
		}
	case <-time.After(5 * time.Second):
		t.Error("a question outlives its socket")
	}
	s.closed = make(chan struct{}) // what ends the test closes it once more
}

// TestLateAnswer: the number of a question that was not answered stands for no other while its answer may still come.
func TestLateAnswer(t *testing.T) {
	c := fieldtest.Loopback(t)
	var first uint8
	questions := 0
	fieldtest.Hear(t, c, func(from netip.AddrPort, b []byte) {
		l, err := wire.ParseLink(b)
		if err != nil {
			t.Error(err)
			return
		}
		n, _ := wire.ParseNetwork(l.NPDU, l.NPDUAt)
		m, err := wire.ParseMessage(n.Body, n.BodyAt)
		if err != nil {
			t.Error(err)
			return
		}
		if questions++; questions == 1 {
			first = m.Invoke // of a write that is not answered in time
			return
		}
		if m.Invoke == first {
			t.Errorf("question %d has the number of the first", questions)
		}
		answer := wire.Message{Kind: wire.SimpleAck, Invoke: m.Invoke, Service: m.Service}
		out := wire.Network{Carries: true, Body: answer.Append(nil)}
		_, _ = c.WriteToUDPAddrPort((&wire.Link{Function: wire.Unicast, NPDU: out.Append(nil)}).Append(nil), from)
	})
	s := opened(t)
	at := c.LocalAddr().(*net.UDPAddr).AddrPort()
	write := func(within time.Duration) error {
		_, err := s.ask(t.Context(), at, wire.Station{}, wire.WriteProperty, nil, within, 0, true)
		return err
	}
	if err := write(30 * time.Millisecond); !errors.Is(err, errSilent) {
		t.Fatal(err)
	}
	for range 600 {
		if err := write(5 * time.Second); err != nil {
			t.Fatal(err)
		}
	}
}
