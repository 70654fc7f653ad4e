package field_test

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
)

// twice has the pump of a plant at two addresses.
func twice(t *testing.T, rule site.Redundancy) (p *plant, first, second *device) {
	t.Helper()
	p = newPlant(t)
	first, second = p.plant["pump"], newDevice(t)
	rule.Host, rule.Port = "127.0.0.1", second.port()
	pump := *p.site.Device("pump")
	pump.Points, pump.Ports = nil, append([]site.Port{}, pump.Ports...)
	pump.Ports[0].Pair = &rule
	p.edit(t, site.Put(site.KindDevice, "pump", "", pump))
	return p, first, second
}

func (d *device) asks() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	n := d.asked
	d.asked = 0
	return n
}

// silent has a device take requests and answer none.
func (d *device) silent(is bool) {
	if !is {
		d.behave(nil)
		return
	}
	d.behave(func(_, _ []byte) ([]byte, bool) { return nil, true })
}

// TestPair: of two addresses one is used, the other is only tried; the pair is changed
// by its rule, what is written goes where it was prepared for, and a switch says for
// how long no value came.
func TestPair(t *testing.T) {
	p, first, second := twice(t, site.Redundancy{Silent: 2, BackS: 1, TryS: 1})
	first.set(0, 11)
	second.set(0, 22)
	p.begin(t, field.Plant)
	reads := func(want int64) bool {
		live, _ := p.Hub.Point("pump-0")
		return live.Quality == value.Good && live.Value.Int() == want
	}
	fieldtest.Wait(t, "the first to be used", func() bool { return reads(11) })
	time.Sleep(100 * time.Millisecond)
	if second.asks(); second.asks() > 0 {
		t.Error("both are asked at once")
	}
	fieldtest.Wait(t, "the idle one to be proved", func() bool {
		s := p.Pairs()
		return len(s) == 1 && s[0].IdleWell &&
			s[0].Used == 0
	})
	p.Unlock(time.Minute)
	order, err := p.Prepare(t.Context(), "pump-1", "45")
	if err != nil {
		t.Fatal(err)
	}
	first.silent(true)
	began := time.Now()
	fieldtest.Wait(t, "the second to be used", func() bool { return reads(22) })
	took := time.Since(began)
	if _, err := p.Write(t.Context(), "test", order.Token); err == nil {
		t.Error("an order that was prepared for the first goes to the second")
	}
	if order, err = p.Prepare(t.Context(), "pump-1", "46"); err != nil {
		t.Fatal(err)
	}
	if result, err := p.Write(t.Context(), "test", order.Token); err != nil || !result.OK {
		t.Errorf("%+v, %v", result, err)
	}
	if got := fmt.Sprint(first.written(), second.written()); got != "[] [1=46]" {
		t.Errorf("written %s", got)
	}
	fieldtest.Wait(t, "the switch to be in the log", func() bool {
		s := p.Pairs()[0].Switches
		return len(s) == 1 && s[0].StaleMs >= 0
	})
	s := p.Pairs()[0].Switches[0]
	t.Logf("after %d ms without a value, planned 2 × 400 ms; seen after %v", s.StaleMs, took.Round(time.Millisecond))
	if s.StaleMs < 700 || s.StaleMs > 3000 || !strings.Contains(s.Why, "no answer") {
		t.Errorf("%+v", s)
	}
	found := false
	for _, o := range p.Hub.Outages() {
		found = found || o.Link == "to-pump" && strings.Contains(o.Reason, "switched to")
	}
	if !found {
		t.Errorf("the log of outages has %+v", p.Hub.Outages())
	}
	first.silent(false)
	fieldtest.Wait(t, "it to be back at the first", func() bool { return reads(11) })
}

// TestPairStays: without a rule for going back the second stays, until it fails; a
// machine that is gone is left at once.
func TestPairStays(t *testing.T) {
	p, first, second := twice(t, site.Redundancy{TryS: 1})
	first.set(0, 11)
	second.set(0, 22)
	p.begin(t, field.Plant)
	used := func() int { return p.Pairs()[0].Used }
	first.silent(true)
	fieldtest.Wait(t, "the second to be used", func() bool { return used() == 1 })
	first.silent(false)
	fieldtest.Wait(t, "the first to be proved", func() bool { return p.Pairs()[0].IdleWell })
	if time.Sleep(1500 * time.Millisecond); used() != 1 {
		t.Error("it goes back, and is to stay")
	}
	second.silent(true)
	fieldtest.Wait(t, "the first to be used again", func() bool { return used() == 0 })
	first.silent(true)
	before := len(p.Pairs()[0].Switches)
	if time.Sleep(4 * time.Second); len(p.Pairs()[0].Switches)-before > 4 {
		t.Errorf("while neither answers it goes to and fro: %+v", p.Pairs()[0].Switches[before:])
	}
	second.silent(false)
	fieldtest.Wait(t, "the one that answers to be used", func() bool {
		live, _ := p.Hub.Point("pump-0")
		return live.Quality == value.Good && live.Value.Int() == 22
	})
}

// TestPairSays: a point decides, and nothing else does.
func TestPairSays(t *testing.T) {
	p, first, _ := twice(t, site.Redundancy{Says: "probe-2"})
	p.begin(t, field.Plant)
	fieldtest.Wait(t, "the point to be read",
		func() bool { live, _ := p.Hub.Point("probe-2"); return live.Quality == value.Good })
	first.silent(true)
	if time.Sleep(1500 * time.Millisecond); p.Pairs()[0].Used != 0 {
		t.Error("it changes without the point")
	}
	p.plant["probe"].set(2, 1)
	fieldtest.Wait(t, "the second to be used", func() bool { return p.Pairs()[0].Used == 1 })
	p.plant["probe"].set(2, 0)
	fieldtest.Wait(t, "the first to be used", func() bool { return p.Pairs()[0].Used == 0 })
}

// TestPairLocal: other programs reach whichever is used, at one address.
func TestPairLocal(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	local := l.Addr().String()
	_ = l.Close()
	p, first, second := twice(t, site.Redundancy{Silent: 1, Local: local})
	first.set(9, 11)
	second.set(9, 22)
	p.begin(t, field.Plant)
	ask := func() int {
		conn, err := net.DialTimeout("tcp", local, time.Second)
		if err != nil {
			return -1
		}
		defer conn.Close()
		_ = conn.SetDeadline(time.Now().Add(time.Second))
		_, _ = conn.Write([]byte{0, 1, 0, 0, 0, 6, 1, 3, 0, 9, 0, 1})
		answer := make([]byte, 11)
		if _, err := io.ReadFull(conn, answer); err != nil {
			return -1
		}
		return int(binary.BigEndian.Uint16(answer[9:]))
	}
	fieldtest.Wait(t, "the first through the local address", func() bool { return ask() == 11 })
	kept, err := net.Dial("tcp", local)
	if err != nil {
		t.Fatal(err)
	}
	defer kept.Close()
	first.silent(true)
	fieldtest.Wait(t, "the second through the local address", func() bool { return ask() == 22 })
	_ = kept.SetReadDeadline(time.Now().Add(5 * time.Second))
	if _, err := kept.Read(make([]byte, 1)); err == nil {
		t.Error("who was connected before stays at the first")
	}
}
