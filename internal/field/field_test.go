package field_test

import (
	"context"
	"io"
	"net"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"ferry/internal/bench"
	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	_ "ferry/internal/families"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
)

// write prepares a write and carries it out.
func write(e *field.Engine, point, text string) (field.WriteResult, error) {
	order, err := e.Prepare(context.Background(), point, text)
	if err != nil {
		return field.WriteResult{}, err
	}
	return e.Write(context.Background(), "test", order.Token)
}

// TestTry: each fault of the bench stops the message where it should.
func TestTry(t *testing.T) {
	s := bench.Demo()
	e, b := fieldtest.Benched(t, s)
	for _, c := range []struct {
		fault bench.Fault
		stop  route.Stop // "" for none
		word  string
	}{
		{bench.Fault{}, "", ""},
		{bench.Fault{Kind: "off"}, route.Wire, "Nothing came back"},
		{bench.Fault{Kind: "stop"}, route.Address, "nobody listens"},
		{bench.Fault{Kind: "refuse"}, route.Session, "tears it down"},
		{bench.Fault{Kind: "silent"}, route.Session, "says nothing within 300 ms"},
		{bench.Fault{Kind: "delay", Value: 900}, route.Session, "only after 9"},
		{bench.Fault{Kind: "exception", Value: 11}, route.Session, "exception 11"},
		{bench.Fault{Kind: "exception", Value: 2}, route.Points, "Refused, 16 of 16 points"},
		{bench.Fault{Kind: "garbage"}, route.Session, "is no answer"},
		{bench.Fault{Kind: "transaction"}, route.Session, "transaction"},
		{bench.Fault{Kind: "long"}, "", ""},
		{bench.Fault{}, "", ""},
	} {
		if err := b.SetFault("do11", c.fault); err != nil {
			t.Fatal(err)
		}
		r, err := e.Try(context.Background(), "lss-do11")
		if err != nil {
			t.Fatal(err)
		}
		if c.fault.Kind == "long" {
			// Identification has no fixed length; the reads have.
			if r.StopsAt == nil {
				t.Errorf("answers too long go through: %+v", r.Stops)
			}
			continue
		}
		at := route.Stop("")
		if r.StopsAt != nil {
			at = *r.StopsAt
		}
		said := ""
		for _, stop := range r.Stops {
			if stop.Stop == at {
				said = stop.Saw
				if stop.Remedy == "" {
					t.Errorf("%s: no remedy", c.fault.Kind)
				}
			}
		}
		if at != c.stop || !strings.Contains(said, c.word) {
			t.Errorf("%q stops at %q: %s; want %q: …%s…", c.fault.Kind, at, said, c.stop, c.word)
		}
	}
}

// TestShyDevice: a device that hangs up when it is asked who it is, is there
// all the same.
func TestShyDevice(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				request := make([]byte, 12)
				for {
					if _, err := io.ReadFull(c, request[:8]); err != nil || request[7] != 3 {
						return
					}
					if _, err := io.ReadFull(c, request[8:]); err != nil {
						return
					}
					answer := append(request[:4:4], 0, byte(3+2*request[11]), request[6], 3, 2*request[11])
					if _, err := c.Write(append(answer, make([]byte, 2*request[11])...)); err != nil {
						return
					}
				}
			}()
		}
	}()
	s := bench.Demo()
	r, err := field.TryTarget(context.Background(), s.Link("lss-do11"), s.Device("do11"),
		field.Target{Dial: l.Addr().String()})
	if err != nil || r.StopsAt != nil {
		t.Errorf("%+v, %v", r, err)
	}
}

// TestTryByPlan: what only the plan tells stops the message as well.
func TestTryByPlan(t *testing.T) {
	s := bench.Demo()
	s.Link("lss-do11").Settings["port"] = protocol.OfInt(503)
	s.Link("lss-do12").Settings["unit"] = protocol.OfInt(7)
	s.Device("skid").Ports[0].Host = "198.51.100.9"
	e, _ := fieldtest.Benched(t, s)
	for link, stop := range map[string]route.Stop{"lss-do11": route.Address, "lss-do12": route.Session,
		"lss-skid": route.Wire} {
		r, err := e.Try(context.Background(), link)
		if err != nil || r.StopsAt == nil || *r.StopsAt != stop {
			t.Errorf("%s: %+v, %v; want it to stop at %s", link, r, err, stop)
		}
	}
	if err := e.SetMode(field.Plant); err != nil {
		t.Fatal(err)
	}
	r, err := e.Try(context.Background(), "lss-gate")
	if err != nil || r.StopsAt == nil || *r.StopsAt != route.Wire ||
		!strings.Contains(r.Stops[0].Saw, "documentation") {
		t.Errorf("on plant, the demo's addresses give %+v, %v", r, err)
	}
}

// TestFaultsAreFound: every fault becomes a finding, spoils the values instead
// of falsifying them, and heals.
func TestFaultsAreFound(t *testing.T) {
	s := bench.Demo()
	for i := range s.Device("do11").Points {
		s.Device("do11").Points[i].PaceMs = 100
	}
	e, b := fieldtest.Benched(t, s)
	if err := e.Start([]string{"lss-do11"}); err != nil {
		t.Fatal(err)
	}
	quality := func() value.Quality { live, _ := e.Hub.Point("do11-01"); return live.Quality }
	finds := func(code string) bool {
		for _, f := range e.Hub.Findings(s, time.Now()) {
			if f.Code == code && f.Severity == "fault" {
				return true
			}
		}
		return false
	}
	for _, c := range []struct {
		fault bench.Fault
		code  string
		want  value.Quality
	}{
		{bench.Fault{Kind: "stop"}, "port-refused", value.Bad},
		{bench.Fault{Kind: "off"}, "host-silent", value.Bad},
		{bench.Fault{Kind: "refuse"}, "connection-dropped", value.Bad},
		{bench.Fault{Kind: "silent"}, "no-answer", value.Bad},
		{bench.Fault{Kind: "delay", Value: 700}, "late-answer", value.Bad},
		{bench.Fault{Kind: "exception", Value: 6}, "busy", value.Bad},
		{bench.Fault{Kind: "garbage"}, "answer-mismatch", value.Bad},
		{bench.Fault{Kind: "short"}, "answer-mismatch", value.Bad},
		{bench.Fault{Kind: "long"}, "answer-mismatch", value.Bad},
		{bench.Fault{Kind: "transaction"}, "answer-mismatch", value.Bad},
	} {
		if err := b.SetFault("do11", c.fault); err != nil {
			t.Fatal(err)
		}
		fieldtest.Wait(t, c.fault.Kind+" is found as "+c.code, func() bool { return finds(c.code) && quality() == c.want })
		if err := b.SetFault("do11", bench.Fault{}); err != nil {
			t.Fatal(err)
		}
		fieldtest.Wait(t, "healing of "+c.fault.Kind, func() bool { return quality() == value.Good })
	}
	// Dropped connections come and go: a finding, and still fresh values.
	if err := b.SetFault("do11", bench.Fault{Kind: "drop"}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "drops are found", func() bool {
		for _, f := range e.Hub.Findings(s, time.Now()) {
			if f.Code == "connection-dropped" {
				return true
			}
		}
		return false
	})
}

// TestEditThatStopsARun: a link that can no longer be asked after an edit does
// not stop without a word.
func TestEditThatStopsARun(t *testing.T) {
	s := bench.Demo()
	s.Device("do11").Ports[0].Host = "127.0.0.1"
	e, _ := fieldtest.Benched(t, s)
	if err := e.SetMode(field.Plant); err != nil {
		t.Fatal(err)
	}
	if err := e.Start([]string{"lss-do11"}); err != nil {
		t.Fatal(err)
	}
	e.Update(bench.Demo(), 1) // its address is one of the documentation again
	fieldtest.Wait(t, "the run to have stopped, and why", func() bool {
		found := ""
		for _, f := range e.Hub.Findings(bench.Demo(), time.Now()) {
			found += f.Code + " " + strings.Join(f.Evidence, " ")
		}
		return len(e.State().Running) == 0 && strings.Contains(found, "not-asked") &&
			strings.Contains(found, "documentation")
	})
}

func TestFreezeIsFound(t *testing.T) {
	s := bench.Demo()
	for i := range s.Device("skid").Points {
		s.Device("skid").Points[i].PaceMs = 50
	}
	e, b := fieldtest.Benched(t, s)
	if err := e.Start([]string{"lss-skid"}); err != nil {
		t.Fatal(err)
	}
	time.Sleep(time.Second)
	if err := b.SetFault("skid", bench.Fault{Kind: "freeze"}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "a frozen device is found", func() bool {
		for _, f := range e.Hub.Findings(s, time.Now()) {
			if f.Code == "device-frozen" {
				live, _ := e.Hub.Point("skid-01")
				return live.Quality == value.Doubtful
			}
		}
		return false
	})
}

func TestWrite(t *testing.T) {
	s := bench.Demo()
	e, _ := fieldtest.Benched(t, s)
	ctx := context.Background()
	for _, c := range []struct {
		point, text, back string
	}{
		{"pump1-02", "48,5", "48.50"},
		{"pump1-02", "12.344", "12.34"},
		{"do11-14", "Row B", "Row B"},
		{"do11-15", "0.998", "0.998"},
		{"ioa-02", "on", "on"},
		{"skid-06", "90.5", "90.5"},
	} {
		order, err := e.Prepare(ctx, c.point, c.text)
		for range 3 {
			if err == nil && order.Old == "" { // a busy machine may miss the answer's time limit
				order, err = e.Prepare(ctx, c.point, c.text)
			}
		}
		if err != nil {
			t.Fatal(err)
		}
		if order.Device == "" || order.Address == "" || order.Function == "" || order.New != c.back ||
			order.Target == "" || order.Old == "" {
			t.Errorf("%s = %s is announced as %+v", c.point, c.text, order)
		}
		result, err := e.Write(ctx, "test", order.Token)
		if err != nil || !result.OK || result.ReadBack != c.back {
			t.Errorf("%s = %s gives %+v, %v", c.point, c.text, result, err)
		}
	}
	for point, text := range map[string]string{"do11-01": "5", "pump1-02": "700", "pump1-08": "1"} {
		if order, err := e.Prepare(ctx, point, text); err == nil {
			t.Errorf("%s = %s is announced as %+v", point, text, order)
		}
	}
	// A bit of a word leaves its neighbours alone.
	word := &s.Device("pump1").Points[0]
	bit := *word
	bit.ID, bit.Name, bit.Address, bit.Type = "bit", "Bit", block.WithBit(word.Address, 3), value.TypeBool
	next := *s
	next.Devices = append([]site.Device{}, s.Devices...)
	pump := *s.Device("pump1")
	pump.Points = append(append([]site.Point{}, pump.Points...), bit)
	for i := range next.Devices {
		if next.Devices[i].ID == "pump1" {
			next.Devices[i] = pump
		}
	}
	e.Update(&next, 1)
	if result, err := write(e, "bit", "on"); err != nil || !result.OK {
		t.Fatalf("%+v, %v", result, err)
	}
	if err := e.Start([]string{"lss-pump1"}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "the word to be read", func() bool { live, _ := e.Hub.Point("pump1-01"); return live.Shown == "9" })
	// On plant, an order of the bench is none.
	before, err := e.Prepare(ctx, "pump1-02", "40")
	if err != nil {
		t.Fatal(err)
	}
	if err := e.SetMode(field.Plant); err != nil {
		t.Fatal(err)
	}
	if _, err := e.Write(ctx, "test", before.Token); err == nil ||
		!strings.Contains(err.Error(), "before the mode changed") {
		t.Errorf("on plant an order of the bench gives %v", err)
	}
	if _, err := write(e, "pump1-02", "40"); err == nil || !strings.Contains(err.Error(), "kept for documentation") {
		t.Errorf("on plant a write gives %v", err)
	}
}

// TestRun: a run reads every point, crossings carry, an edit takes effect
// without a restart, and stopping leaves nothing behind.
func TestRun(t *testing.T) {
	before := runtime.NumGoroutine()
	s := bench.Demo()
	e, b := fieldtest.Benched(t, s)
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "every point to be read but the one that is not there", func() bool {
		list, _ := e.Hub.Since(0, time.Now())
		bad := []string{}
		for _, live := range list {
			if live.Quality != value.Good && !strings.HasPrefix(live.Point, "ph21") &&
				!strings.HasPrefix(live.Point, "uvr-") && live.Point != "flow61-01" &&
				!strings.HasPrefix(live.Point, "fh-") && !strings.HasPrefix(live.Point, "conc-") {
				// maps off by one, in the wrong order, older than the program, and one that nothing is paired into
				bad = append(bad, live.Point)
			}
		}
		return slices.Equal(bad, []string{"uv-door", "pumps-30", "pumps-31", "shore-04"}) // which is only written
	})
	fieldtest.Wait(t, "the crossing to carry", func() bool {
		from, _ := e.Hub.Point("do11-01")
		to, _ := e.Hub.Point("gate-01")
		return to.Value.Float() > 1 && to.Value.Float()-from.Value.Float() < 0.5
	})
	if err := b.SetFault("do11", bench.Fault{Kind: "stop"}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "the crossing to hold", func() bool {
		for _, c := range e.Crossings() {
			if c.ID == "x-oxygen" && c.State == "holding" {
				return true
			}
		}
		return false
	})
	edited, _, err := s.Apply([]site.Edit{{Kind: site.KindPoint, ID: "skid-01", Parent: "skid",
		After: []byte(`{"id":"skid-01","name":"Purity","address":"ir2","type":"float32","paceMs":1000,"access":"r"}`)}})
	if err != nil {
		t.Fatal(err)
	}
	e.Update(edited, 1)
	fieldtest.Wait(t, "the edited point to read what is there", func() bool {
		live, _ := e.Hub.Point("skid-01")
		return live.Value.Float() > 5 && live.Value.Float() < 30
	})
	for _, x := range e.Hub.Exchanges(0, 5) {
		if x.Outcome == exchange.Answered && len(x.Frames) < 2 {
			t.Errorf("an answered exchange has no bytes: %+v", x)
		}
	}
	e.Stop(nil)
	if state := e.State(); len(state.Running) != 0 {
		t.Errorf("still running: %v", state.Running)
	}
	if err := b.Close(); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "the goroutines to end", func() bool { return runtime.NumGoroutine() <= before+2 })
}
