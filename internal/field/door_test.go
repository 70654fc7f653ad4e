package field_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
)

// TestCrossingsAreLeftAlone: whatever else changes, a crossing writes what its
// source became, once.
func TestCrossingsAreLeftAlone(t *testing.T) {
	p := newPlant(t)
	p.bench["probe"].set(0, 7)
	p.begin(t, field.Bench)
	gate := p.bench["gate"]
	fieldtest.Wait(t, "the first write", func() bool { return gate.get(0) == 7 && p.Crossings()[0].Count == 1 })
	gate.written()
	gate.set(0, 99) // set at the device
	for i := range 20 {
		p.change(t, "pump-1", func(q *site.Point) { q.Remark = fmt.Sprint(i) })
		p.change(t, "gate-2", func(q *site.Point) { q.Remark = fmt.Sprint(i) })
		p.Stop([]string{"to-pump"})
		if err := p.Start([]string{"to-pump"}); err != nil {
			t.Fatal(err)
		}
	}
	p.change(t, "gate-0", func(q *site.Point) { q.Remark = "of the target itself" })
	defer func() {
		if t.Failed() {
			live, _ := p.Hub.Point("gate-0")
			t.Logf("the gate has %d, %v written; %+v; %+v; %+v", gate.get(0), gate.written(), live, p.Crossings(), p.State())
		}
	}()
	fieldtest.Wait(t, "values again", func() bool { live, _ := p.Hub.Point("gate-0"); return live.Value.Float() == 99 })
	time.Sleep(100 * time.Millisecond)
	if got := gate.written(); len(got) != 0 {
		t.Errorf("written again: %v", got)
	}
	p.bench["probe"].set(0, 8)
	fieldtest.Wait(t, "what changed to cross", func() bool { return slices.Equal(gate.written(), []string{"0=8"}) })
	gate.set(0, 99)
	p.Stop(nil)
	if err := p.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "the source to win at the start",
		func() bool { return slices.Equal(gate.written(), []string{"0=8"}) })
	p.edit(t, site.Put(site.KindCrossing, "x", "",
		site.Crossing{ID: "x", From: "probe-0", To: "gate-0", Start: site.TargetWins}))
	gate.set(0, 99)
	p.Stop(nil)
	if err := p.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "values once more",
		func() bool { live, _ := p.Hub.Point("gate-0"); return live.Value.Float() == 99 })
	time.Sleep(100 * time.Millisecond)
	if got := gate.written(); len(got) != 0 {
		t.Errorf("the target wins at the start, and is written: %v", got)
	}
}

// TestReleaseByName: on the plant a crossing writes once it is released, and
// not because something else was unlocked; the release ends by itself, by a
// change of what was released, and by the lock.
func TestReleaseByName(t *testing.T) {
	p := newPlant(t)
	p.plant["probe"].set(0, 5)
	p.begin(t, field.Plant)
	gate := p.plant["gate"]
	p.Unlock(time.Minute)
	state := func() string { return p.Crossings()[0].State }
	fieldtest.Wait(t, "it to wait", func() bool { return state() == "waiting" })
	time.Sleep(100 * time.Millisecond)
	if got := gate.written(); len(got) != 0 {
		t.Fatalf("unlocking let a crossing loose: %v", got)
	}
	for name, end := range map[string]func(*testing.T, *plant){
		"its time": func(*testing.T, *plant) { time.Sleep(400 * time.Millisecond) },
		"a changed scale": func(t *testing.T, p *plant) {
			p.edit(t, site.Put(site.KindCrossing, "x", "",
				site.Crossing{ID: "x", From: "probe-0", To: "gate-0", Factor: 2}))
		},
		"another place of it": func(t *testing.T, p *plant) {
			p.change(t, "gate-0", func(q *site.Point) { q.Address = block.At("hr", 3) })
		},
		"a source of another type": func(t *testing.T, p *plant) {
			p.change(t, "probe-0",
				func(q *site.Point) { q.Type = value.TypeInt16 })
		},
		"the lock":           func(_ *testing.T, p *plant) { p.Unlock(0) },
		"its end":            func(_ *testing.T, p *plant) { _ = p.Release([]string{"x"}, 0, "test") },
		"going to the bench": func(_ *testing.T, p *plant) { _ = p.SetMode(field.Bench) },
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlant(t)
			p.plant["probe"].set(0, 5)
			p.begin(t, field.Plant)
			until := time.Minute
			if name == "its time" {
				until = 300 * time.Millisecond
			}
			if err := p.Release([]string{"x"}, until, "test"); err != nil {
				t.Fatal(err)
			}
			fieldtest.Wait(t, "it to write", func() bool { return p.plant["gate"].get(0) == 5 })
			if list := p.State().Released; name != "its time" && (len(list) != 1 || list[0].By != "test") {
				t.Errorf("released: %+v", list)
			}
			end(t, p)
			time.Sleep(50 * time.Millisecond)
			p.plant["gate"].written()
			p.plant["probe"].set(0, 6)
			time.Sleep(200 * time.Millisecond)
			if got := p.plant["gate"].written(); len(got) != 0 || len(p.State().Released) != 0 {
				t.Errorf("it goes on writing: %v, released %+v", got, p.State().Released)
			}
		})
	}
}

// TestOrderIsAToken: what was confirmed is written, once, or nothing is.
func TestOrderIsAToken(t *testing.T) {
	ctx := context.Background()
	for _, c := range []struct {
		name   string
		meddle func(*testing.T, *plant)
		says   string // "" where it is written all the same
	}{
		{"nothing", func(*testing.T, *plant) {}, ""},
		{"a remark", func(t *testing.T, p *plant) {
			p.change(t, "pump-1",
				func(q *site.Point) { q.Remark = "looked at" })
		}, ""},
		{"another device", func(t *testing.T, p *plant) {
			p.change(t, "gate-1", func(q *site.Point) { q.Address = block.At("hr", 9) })
		}, ""},
		{"its address", func(t *testing.T, p *plant) {
			p.change(t, "pump-1", func(q *site.Point) { q.Address = block.At("hr", 3) })
		}, "the address of V1 was 40002 and is 40004"},
		{"its scale", func(t *testing.T, p *plant) { p.change(t, "pump-1", func(q *site.Point) { q.Factor = 0.1 }) },
			"the scale of V1"},
		{"its type", func(t *testing.T, p *plant) {
			p.change(t, "pump-1",
				func(q *site.Point) { q.Type = value.TypeInt16 })
		}, "the type of V1"},
		{"its name", func(t *testing.T, p *plant) { p.change(t, "pump-1", func(q *site.Point) { q.Name = "Other" }) },
			"the name of V1"},
		{"the unit", func(t *testing.T, p *plant) {
			link := *p.site.Link("to-pump")
			link.Settings = protocol.Numbers(map[string]int{"unit": 2, "port": link.Settings["port"].Int()})
			p.edit(t, site.Put(site.KindLink, link.ID, "", link))
		}, "Unit"},
		{"the host", func(t *testing.T, p *plant) {
			d := *p.site.Device("pump")
			d.Points, d.Ports = nil, slices.Clone(d.Ports)
			d.Ports[0].Host = "127.0.0.2"
			p.edit(t, site.Put(site.KindDevice, "pump", "", d))
		}, "127.0.0.2"},
		{"the mode", func(t *testing.T, p *plant) { _ = p.SetMode(field.Bench) }, "before the mode changed"},
		{"the lock, and another unlock", func(_ *testing.T, p *plant) { p.Unlock(0); p.Unlock(time.Minute) },
			"lock came back"},
		{"the lock", func(_ *testing.T, p *plant) { p.Unlock(0) }, "locked"},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := newPlant(t)
			if err := p.SetMode(field.Plant); err != nil {
				t.Fatal(err)
			}
			p.Unlock(time.Minute)
			order, err := p.Prepare(ctx, "pump-1", "45")
			if err != nil {
				t.Fatal(err)
			}
			c.meddle(t, p)
			result, err := p.Write(ctx, "test", order.Token)
			var said *problem.Problem
			if errors.As(err, &said); c.says != "" && (said == nil || !strings.Contains(said.Error(), c.says)) {
				t.Errorf("it gives %+v, %v", result, err)
			}
			wrote := append(p.plant["pump"].written(), p.bench["pump"].written()...)
			if c.says == "" && (err != nil || !result.OK || !slices.Equal(wrote, []string{"1=45"})) ||
				c.says != "" && len(wrote) != 0 {
				t.Errorf("written %v: %+v, %v", wrote, result, err)
			}
			if _, err := p.Write(ctx, "test", order.Token); err == nil {
				t.Error("the same order goes twice")
			}
		})
	}
}

// TestPowerOfAnOrder: octets that were worked out with one power of ten do not go
// once the device holds another.
func TestPowerOfAnOrder(t *testing.T) {
	p := newPlant(t)
	pump := p.bench["pump"]
	p.change(t, "pump-1", func(q *site.Point) { q.PowerAt = block.At("hr", 9) })
	if err := p.Start([]string{"to-pump"}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "the value", func() bool { live, _ := p.Hub.Point("pump-1"); return live.Quality == value.Good })
	order, err := p.Prepare(context.Background(), "pump-1", "45")
	if err != nil {
		t.Fatal(err)
	}
	pump.set(1, 7)
	pump.set(9, 1)
	fieldtest.Wait(t, "the other power", func() bool { live, _ := p.Hub.Point("pump-1"); return live.Value.Float() == 70 })
	if _, err := p.Write(context.Background(), "test", order.Token); err == nil ||
		!strings.Contains(err.Error(), "power of ten") || len(pump.written()) != 0 {
		t.Errorf("it gives %v", err)
	}
}

// TestLockWhileItWaits: an order that waits for its turn is not carried out
// after the lock has come back.
func TestLockWhileItWaits(t *testing.T) {
	p := newPlant(t)
	pump := p.plant["pump"]
	if err := p.SetMode(field.Plant); err != nil {
		t.Fatal(err)
	}
	if err := p.Start([]string{"to-pump"}); err != nil {
		t.Fatal(err)
	}
	p.Unlock(time.Minute)
	order, err := p.Prepare(context.Background(), "pump-1", "45")
	if err != nil {
		t.Fatal(err)
	}
	pump.behave(func(_, answer []byte) ([]byte, bool) {
		time.Sleep(350 * time.Millisecond) // slow, and in time
		return answer, true
	})
	time.Sleep(30 * time.Millisecond)
	var wg sync.WaitGroup
	wg.Go(func() {
		if result, err := p.Write(context.Background(), "test", order.Token); err == nil {
			t.Errorf("it is carried out: %+v", result)
		}
	})
	time.Sleep(60 * time.Millisecond)
	promptly(t, "locking", func() { p.Unlock(0) })
	wg.Wait()
	if got := pump.written(); len(got) != 0 {
		t.Errorf("written %v", got)
	}
	if list := p.journal.list(); len(list) != 1 || list[0].State != field.NotWritten ||
		!strings.Contains(list[0].Sentence, "locked") {
		t.Errorf("the journal has %+v", list)
	}
}

// TestModeRaces: whatever races the switch, no order of the bench reaches the
// plant, nothing is started in the mode before, and a sweep ends with its mode.
func TestModeRaces(t *testing.T) {
	p := newPlant(t)
	ctx := context.Background()
	for i := range 150 {
		if err := p.SetMode(field.Bench); err != nil {
			t.Fatal(err)
		}
		order, err := p.Prepare(ctx, "pump-1", fmt.Sprint(i+1))
		if err != nil {
			t.Fatal(err)
		}
		sweep, err := p.StartSweep(field.SweepOrder{Kind: "hosts", Line: "net", FromHost: "127.0.0.1",
			ToHost: "127.0.0.9", Port: p.plant["pump"].port(), Station: 1})
		if err != nil {
			t.Fatal(err)
		}
		var wg sync.WaitGroup
		wg.Go(func() { _, _ = p.Write(ctx, "test", order.Token) })
		wg.Go(func() { _ = p.Start(nil) })
		wg.Go(func() { _ = p.SetMode(field.Plant) })
		wg.Wait()
		if got := p.plant["pump"].written(); len(got) != 0 {
			t.Fatalf("round %d: an order of the bench reached the plant: %v", i, got)
		}
		if s, err := p.Sweep(sweep.ID, false); err == nil && s.Running {
			t.Fatal("a sweep of the bench goes on over the plant")
		}
		promptly(t, "going to the bench", func() { _ = p.SetMode(field.Bench) })
		if i%30 == 0 {
			time.Sleep(30 * time.Millisecond) // what was sent before may still be on its way
			for _, d := range p.plant {
				d.mu.Lock()
				d.asked = 0
				d.mu.Unlock()
			}
			time.Sleep(30 * time.Millisecond)
			for id, d := range p.plant {
				if d.mu.Lock(); d.asked > 0 {
					t.Errorf("round %d: on the bench, %s of the plant is asked", i, id)
				}
				d.mu.Unlock()
			}
		}
	}
}

// TestWhatIsKnownOfAWrite: an answer that is none does not mean that the device
// did not take it, and one that says no does.
func TestWhatIsKnownOfAWrite(t *testing.T) {
	writes := func(request []byte) bool { return request[7] == 6 || request[7] == 16 }
	once := func(instead func(answer []byte) []byte) func(request, answer []byte) ([]byte, bool) {
		return func(request, answer []byte) ([]byte, bool) {
			if !writes(request) {
				return nil, false
			}
			return instead(answer), true
		}
	}
	exception := func(code byte) func([]byte) []byte {
		return func(a []byte) []byte { return append(append(a[:4:4], 0, 3, a[6], a[7]|0x80), code) }
	}
	for _, c := range []struct {
		name  string
		odd   func(request, answer []byte) ([]byte, bool)
		kept  bool // by the device
		state field.WriteState
		says  string
	}{
		{"answers late", once(func(a []byte) []byte { time.Sleep(600 * time.Millisecond); return a }), true, field.Done,
			"reads back as written"},
		{"answers cut short", once(func(a []byte) []byte { return a[:9] }), true, field.Done, "reads back as written"},
		{"another unit answers", once(func(a []byte) []byte { a[6] = 9; return a }), true, field.Done,
			"reads back as written"},
		{"another transaction", once(func(a []byte) []byte { a[0] += 64; return a }), true, field.Done,
			"reads back as written"},
		{"needs long", once(exception(5)), true, field.Done, "reads back as written"},
		{"a gateway without an answer", once(exception(11)), false, field.NotKnown, "It is not known"},
		{"a code that is none", once(exception(0)), false, field.NotKnown, "It is not known"},
		{"says no", once(exception(3)), false, field.NotWritten, "did not take it"},
		{"has no such register", once(exception(2)), false, field.NotWritten, "did not take it"},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := newPlant(t)
			pump := p.bench["pump"]
			pump.behave(func(request, answer []byte) ([]byte, bool) {
				if writes(request) && !c.kept {
					pump.set(1, 0)
				}
				return c.odd(request, answer)
			})
			result, err := write(p.Engine, "pump-1", "45")
			if err != nil || result.State != c.state || !strings.Contains(result.Sentence, c.says) ||
				result.OK != (c.state == field.Done) {
				t.Errorf("%+v, %v", result, err)
			}
			if list := p.journal.list(); len(list) != 1 || list[0].State != c.state || list[0].Order.New != "45" ||
				list[0].Who != "test" {
				t.Errorf("the journal has %+v", list)
			}
		})
	}
}

// TestSharedWords: what shares its word with others is written only over what
// was read for certain.
func TestSharedWords(t *testing.T) {
	p := newPlant(t)
	pump := p.bench["pump"]
	pump.set(1, 0xA5A5)
	p.change(t, "pump-1", func(q *site.Point) { q.Address, q.Type = block.WithBit(q.Address, 1), value.TypeBool })
	if result, err := write(p.Engine, "pump-1", "on"); err != nil || !result.OK || pump.get(1) != 0xA5A7 {
		t.Errorf("%04X: %+v, %v", pump.get(1), result, err)
	}
	pump.written()
	pump.behave(func(request, answer []byte) ([]byte, bool) {
		return append(answer[:4:4], 0, 3, 1, request[7]|0x80, 0), request[7] == 3
	})
	if result, err := write(p.Engine, "pump-1", "off"); err != nil || result.OK || result.State != field.NotWritten ||
		len(pump.written()) != 0 {
		t.Errorf("a word that cannot be read is written over: %+v, %v", result, err)
	}
	pump.behave(nil)
	pump.set(2, 0x4142)
	pump.set(3, 0x4344)
	p.change(t, "pump-2", func(q *site.Point) { q.Type, q.Length = value.TypeText, 3 })
	if result, err := write(p.Engine, "pump-2", "xyz"); err != nil || !result.OK || pump.get(2) != 0x7879 ||
		pump.get(3) != 0x7A44 {
		t.Errorf("%04X %04X: %+v, %v", pump.get(2), pump.get(3), result, err)
	}
}

// TestByItsName: a name is confirmed and sent as what it names, and as nothing
// else.
func TestByItsName(t *testing.T) {
	p := newPlant(t)
	p.change(t, "pump-1", func(q *site.Point) {
		q.Type, q.Names = value.TypeEnum,
			[]site.Naming{{Value: 1, Name: "1200"}, {Value: 2, Name: "2400"}, {Value: 3, Name: "9600"},
				{Value: 4, Name: "Run"}}
	})
	for text, want := range map[string]uint16{"9600": 3, "Run": 4, "2": 2} {
		if result, err := write(p.Engine, "pump-1", text); err != nil || !result.OK || p.bench["pump"].get(1) != want {
			t.Errorf("%s writes %d: %+v, %v", text, p.bench["pump"].get(1), result, err)
		}
	}
}

// TestIntentComesFirst: what is not in the journal does not go, and what goes is
// in the journal before.
func TestIntentComesFirst(t *testing.T) {
	p := newPlant(t)
	pump := p.bench["pump"]
	before := -1
	pump.behave(func(request, answer []byte) ([]byte, bool) {
		if request[7] == 6 {
			before = len(p.journal.list())
		}
		return answer, true
	})
	if _, err := write(p.Engine, "pump-1", "45"); err != nil || before != 1 {
		t.Errorf("when it went, the journal had %d rows, %v", before, err)
	}
	pump.written()
	p.journal.fail = errors.New("the disk is full")
	if _, err := write(p.Engine, "pump-1", "46"); err == nil || !strings.Contains(err.Error(), "Nothing was written") ||
		len(pump.written()) != 0 {
		t.Errorf("without a journal it gives %v", err)
	}
	p.bench["probe"].set(0, 7)
	p.begin(t, field.Bench)
	time.Sleep(100 * time.Millisecond)
	if got := p.bench["gate"].written(); len(got) != 0 {
		t.Errorf("without a journal a crossing writes %v", got)
	}
}

// TestJournalOfCrossings: first, last, count, changes of state and failures.
func TestJournalOfCrossings(t *testing.T) {
	p := newPlant(t)
	p.bench["probe"].set(0, 1)
	p.begin(t, field.Bench)
	gate := p.bench["gate"]
	for v := uint16(1); v <= 5; v++ {
		p.bench["probe"].set(0, v)
		fieldtest.Wait(t, "the value to cross", func() bool { return p.Crossings()[0].Count == int(v) })
	}
	if err := p.KeepCrossings(context.Background()); err != nil {
		t.Fatal(err)
	}
	list := p.journal.list()
	if len(list) != 1 || list[0].State != field.Carrying || list[0].Count != 5 || list[0].Order.New != "1" ||
		list[0].Last != "5" || list[0].Crossing != "x" {
		t.Fatalf("%+v", list)
	}
	gate.behave(func(request, answer []byte) ([]byte, bool) {
		return append(append(answer[:4:4], 0, 3, 1, request[7]|0x80), 3), request[7] == 6
	})
	p.bench["probe"].set(0, 6)
	fieldtest.Wait(t, "the failure", func() bool { return p.Crossings()[0].State == "failed" })
	gate.behave(nil)
	fieldtest.Wait(t, "it to carry again", func() bool { return gate.get(0) == 6 && p.Crossings()[0].State == "carrying" })
	p.Stop(nil)
	fieldtest.Wait(t, "the end", func() bool {
		_ = p.KeepCrossings(context.Background())
		l := p.journal.list()
		return l[len(l)-1].State == field.Done
	})
	var states []string
	for _, r := range p.journal.list() {
		states = append(states, string(r.State))
	}
	if got := strings.Join(states, ", "); got != "carrying, failed, written" {
		t.Errorf("the states are %s", got)
	}
}

// TestNothingWaits: with a device that says nothing for a minute, everything
// that a person presses is done at once.
func TestNothingWaits(t *testing.T) {
	for _, name := range []string{"modbus-tcp", "modbus-rtu-tcp"} {
		t.Run(name, func(t *testing.T) { nothingWaits(t, name) })
	}
}

func nothingWaits(t *testing.T, name string) {
	p := newPlant(t)
	for _, id := range []string{"probe", "pump", "gate"} {
		d, link := *p.site.Device(id), *p.site.Link("to-" + id)
		d.Points, d.Ports = nil, slices.Clone(d.Ports)
		d.Ports[0].Protocol, link.Protocol = name, name
		p.edit(t, site.Put(site.KindDevice, id, "", d), site.Put(site.KindLink, link.ID, "", link))
	}
	for _, d := range p.plant {
		d.behave(func(_, answer []byte) ([]byte, bool) { time.Sleep(time.Minute); return answer, true })
	}
	for _, id := range []string{"to-probe", "to-pump", "to-gate"} {
		link := *p.site.Link(id)
		link.Settings = protocol.Numbers(map[string]int{"port": link.Settings["port"].Int(), "unit": 1,
			"timeoutMs": 60_000})
		p.edit(t, site.Put(site.KindLink, id, "", link))
	}
	if err := p.SetMode(field.Plant); err != nil {
		t.Fatal(err)
	}
	if err := p.Start(nil); err != nil {
		t.Fatal(err)
	}
	p.Unlock(time.Minute)
	trying := make(chan struct{})
	go func() {
		defer close(trying)
		_, _ = p.Try(context.Background(), "to-gate")
	}()
	time.Sleep(100 * time.Millisecond)
	promptly(t, "an edit of what is asked", func() { p.change(t, "pump-0", func(q *site.Point) { q.PaceMs = 1000 }) })
	promptly(t, "another edit", func() { p.change(t, "gate-0", func(q *site.Point) { q.Remark = "x" }) })
	promptly(t, "the state", func() { p.State() })
	promptly(t, "the lock", func() { p.Unlock(0) })
	promptly(t, "the release", func() { _ = p.Release([]string{"x"}, time.Minute, "test") })
	promptly(t, "stopping one", func() { p.Stop([]string{"to-pump"}) })
	promptly(t, "starting it again", func() { _ = p.Start([]string{"to-pump"}) })
	promptly(t, "stopping all", func() { p.Stop(nil) })
	_ = p.Start(nil)
	time.Sleep(50 * time.Millisecond)
	promptly(t, "going to the bench", func() { _ = p.SetMode(field.Bench) })
	<-trying // it ended with its mode
	_ = p.SetMode(field.Plant)
	_ = p.Start(nil)
	time.Sleep(50 * time.Millisecond)
	promptly(t, "the end", p.Close)
}
