package lookout

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"ferry/internal/bench"
	"ferry/internal/core/finding"
	"ferry/internal/core/lookout"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	_ "ferry/internal/families"
	"ferry/internal/field"
)

// stand is the demo site on the bench, with a teller of its outlets.
func stand(t *testing.T) (*field.Engine, *bench.Bench, *Teller) {
	t.Helper()
	b := bench.New()
	s := bench.Demo()
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	engine := field.NewEngine(s, b)
	teller := NewTeller(Ways{Engine: engine, Authority: b.Authority, Programs: map[string]string{},
		Catcher: func() (Catching, error) { return b.Catcher() },
		Kept: func(_ protocol.Kind, name string) ([]byte, error) {
			if name != "mail" {
				return nil, errors.New("it is not kept")
			}
			return []byte("secret of the mail"), nil
		}}, func(id string) *site.Outlet { return engine.Site().Outlet(id) })
	t.Cleanup(func() {
		if err := errors.Join(teller.Close(), b.Close()); err != nil {
			t.Error(err)
		}
		engine.Close()
	})
	return engine, b, teller
}

func event(id string, over bool) *lookout.Event {
	e := &lookout.Event{ID: id, Lookout: "lk", Name: "A link brings nothing", StartMs: 1795718302571,
		Tell: []string{"ot-oncall"},
		Says: "Pump drive 1 brings nothing.", Subject: finding.Subject{Kind: "link", ID: "lss-pump1", Name: "Pump drive 1"}}
	if over {
		e.EndMs, e.Ended = e.StartMs+34000, "Over after 34 s."
	}
	return e
}

// TestWays: each way of telling arrives on the bench, and says why where it does not.
func TestWays(t *testing.T) {
	engine, b, teller := stand(t)
	catcher, err := b.Catcher()
	if err != nil {
		t.Fatal(err)
	}
	program := filepath.Join(t.TempDir(), "page.sh")
	out := filepath.Join(filepath.Dir(program), "got")
	if err := os.WriteFile(program, []byte("#!/bin/sh\ncat > "+out+"\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	failing := filepath.Join(t.TempDir(), "fail.sh")
	if err := os.WriteFile(failing, []byte("#!/bin/sh\necho no pager here; exit 3\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	teller.Ways.Programs = map[string]string{"page": program, "fail": failing}
	n := NewNotice("Skerry Point Hatchery", field.Bench, []NoticeOne{{State: "began", Event: *event("e1", false)}},
		time.Now())
	mail := site.Outlet{Way: site.ByMail, Name: "On call", Server: "192.0.2.25:587", From: "ferry@skerry.example",
		To: []string{"a@skerry.example", "b@skerry.example"}, Safe: site.StartTLS}
	with := func(change func(*site.Outlet)) site.Outlet { o := mail; change(&o); return o }
	for _, c := range []struct {
		name   string
		outlet site.Outlet
		fails  string
		caught string // way, with what it says of itself
	}{
		{"mail over STARTTLS", mail, "", "mail secured "},
		{"mail over TLS", with(func(o *site.Outlet) { o.Safe = site.WithTLS }), "", "mail secured "},
		{"mail without encryption", with(func(o *site.Outlet) { o.Safe = site.Plain }), "", "mail "},
		{"mail of a user", with(func(o *site.Outlet) { o.User, o.Secret = "ferry", "mail" }), "", "mail secured ferry"},
		{"a secret that is not there", with(func(o *site.Outlet) { o.User, o.Secret = "ferry", "x" }), "not kept", ""},
		{"webhook", site.Outlet{Way: site.ByWebhook, URL: "https://192.0.2.26/hook"}, "", "webhook "},
		{"webhook with its secret", site.Outlet{Way: site.ByWebhook, URL: "http://192.0.2.26/hook", Secret: "mail"}, "",
			"webhook with its secret"},
		{"message", site.Outlet{Way: site.ByMessage, Link: "lss-cloud", Topic: "skerry/ferry/lookouts"}, "", ""},
		{"a message that would be a value", site.Outlet{Way: site.ByMessage, Link: "lss-cloud",
			Topic: "skerry/pumps/1/speed"}, "would be the value of the point", ""},
		{"a message over what carries none", site.Outlet{Way: site.ByMessage, Link: "lss-pump1", Topic: "x"},
			"carries no messages", ""},
		{"program", site.Outlet{Way: site.ByProgram, Program: "page"}, "", ""},
		{"a program that fails", site.Outlet{Way: site.ByProgram, Program: "fail"}, "no pager here", ""},
		{"a program that nobody allowed", site.Outlet{Way: site.ByProgram, Program: "/bin/sh"}, "No program was allowed", ""},
	} {
		before := len(catcher.List())
		err := teller.Try(context.Background(), &c.outlet, n)
		if (err == nil) != (c.fails == "") || err != nil && !strings.Contains(err.Error(), c.fails) {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		caught := catcher.List()
		if (len(caught) > before) != (c.caught != "") {
			t.Errorf("%s: caught %d more", c.name, len(caught)-before)
			continue
		}
		if c.caught == "" {
			continue
		}
		is := caught[0].Way + " "
		if caught[0].Secured {
			is += "secured "
		}
		if is += caught[0].User; is != c.caught || !strings.Contains(caught[0].Text, "Pump drive 1 brings nothing.") {
			t.Errorf("%s: %q: %+v", c.name, is, caught[0])
		}
	}
	var got Notice
	if data, err := os.ReadFile(out); err != nil || json.Unmarshal(data, &got) != nil || len(got.Events) != 1 ||
		got.Events[0].State != "began" || got.Mode != field.Bench {
		t.Errorf("the program got %+v, %v", got, err)
	}
	// On the plant an address of the documentation is not dialled, whatever it is for.
	if err := engine.SetMode(field.Plant); err != nil {
		t.Fatal(err)
	}
	if err := teller.Try(context.Background(), &mail, n); err == nil || !strings.Contains(err.Error(), "documentation") {
		t.Errorf("on the plant: %v", err)
	}
}

// kept is a log of events.
type kept struct {
	mu   sync.Mutex
	list map[string]lookout.Event
}

func (k *kept) KeepEvents(_ context.Context, list []lookout.Event) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, e := range list {
		k.list[e.ID] = e
	}
	return nil
}

func (k *kept) Events(context.Context, int) (list []lookout.Event, err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, e := range k.list {
		list = append(list, e)
	}
	return list, nil
}

// TestKeeper: a device that is switched off on the bench begins an event, which is told
// by mail; once it is back the event is over, which is told too; and what was open when
// Ferry ended is over at the next start.
func TestKeeper(t *testing.T) {
	engine, b, teller := stand(t)
	s := bench.Demo()
	s.Lookouts[0].ForMs, s.Lookouts[0].EndMs, s.Outlets[0].EveryS = 0, 0, 0
	engine.Update(s, 1)
	log := &kept{list: map[string]lookout.Event{"old": {ID: "old", Lookout: "lk-down", StartMs: 5}}}
	k, err := Keep(context.Background(), engine, log, teller)
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { defer close(done); k.Run(ctx) }()
	defer func() { stop(); <-done }()
	catcher, err := b.Catcher()
	if err != nil {
		t.Fatal(err)
	}
	if err := engine.Start([]string{"lss-pump1"}); err != nil {
		t.Fatal(err)
	}
	until := func(what string, is func() bool) {
		t.Helper()
		for end := time.Now().Add(20 * time.Second); !is(); time.Sleep(50 * time.Millisecond) {
			if time.Now().After(end) {
				open, _ := k.Open()
				t.Fatalf("%s: open %+v, told %+v, caught %+v", what, open, teller.Stands(), catcher.List())
			}
		}
	}
	mails := func(of string) func() bool {
		return func() bool { c := catcher.List(); return len(c) > 0 && strings.Contains(c[0].Text, of) }
	}
	if err := b.SetFault("pump1", bench.Fault{Kind: "stop"}); err != nil {
		t.Fatal(err)
	}
	until("it begins", mails("BEGAN"))
	if err := b.SetFault("pump1", bench.Fault{}); err != nil {
		t.Fatal(err)
	}
	until("it is over", mails("OVER"))
	if open, _ := k.Open(); len(open) != 0 {
		t.Errorf("still open: %+v", open)
	}
	if got := catcher.List()[0]; !strings.Contains(got.Subject, "Pump drive 1") ||
		!strings.Contains(got.Text, "Over after") {
		t.Errorf("told %+v", got)
	}
	until("it is kept", func() bool { list, _ := log.Events(ctx, 0); return len(list) == 2 })
	if old := log.list["old"]; old.EndMs != -1 {
		t.Errorf("what was open before: %+v", old)
	}
}

// TestBundle: what happens while an outlet may not be told again, or cannot be, goes with
// the next notice: what began and was over meanwhile is told once.
func TestBundle(t *testing.T) {
	engine, b, teller := stand(t)
	s := bench.Demo()
	catcher, err := b.Catcher()
	if err != nil {
		t.Fatal(err)
	}
	now := time.Now()
	told := func() int { teller.busy.Wait(); return len(catcher.List()) }
	step := func(after time.Duration, events ...*lookout.Event) {
		for _, e := range events {
			teller.add(s, engine.Mode(), e, now.Add(after))
		}
		teller.turn(now.Add(after))
		teller.busy.Wait()
	}
	step(0, event("a", false))
	if told() != 1 {
		t.Fatalf("the first is told at once: %d", told())
	}
	for i := range 300 { // a storm: it comes and goes
		e := event(fmt.Sprint("b", i/2), i%2 == 1)
		step(time.Duration(i)*100*time.Millisecond, e)
	}
	if told() != 1 {
		t.Errorf("%d were told within the minute", told())
	}
	catcher.Refuse(true)
	step(61*time.Second, event("c", false))
	if stands := teller.Stands()[0]; told() != 1 || stands.Problem == "" || stands.Waiting != 2 || stands.Tries != 1 {
		t.Errorf("while nothing is taken: %d, %+v", told(), stands)
	}
	catcher.Refuse(false)
	step(63 * time.Second) // too early to try again
	if told() != 1 {
		t.Errorf("tried again at once")
	}
	step(75*time.Second, event("a", true))
	if told() != 2 {
		t.Fatalf("%d were told, %+v", told(), teller.Stands())
	}
	got := catcher.List()[0]
	for _, want := range []string{"WAS ", "BEGAN", "OVER "} {
		if strings.Count(got.Text, want) != 1 {
			t.Errorf("%s is not told once: %s", want, got.Text)
		}
	}
	if stands := teller.Stands()[0]; stands.Problem != "" || stands.Waiting != 0 || stands.Sent != 2 {
		t.Errorf("after: %+v", stands)
	}
	if !strings.Contains(got.Subject, "1 began, 2 over") {
		t.Errorf("subject %q", got.Subject)
	}
}
