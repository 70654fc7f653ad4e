package strips

import (
	"context"
	"strings"
	"testing"
	"time"

	"ferry/internal/bench"
	"ferry/internal/core/site"
	"ferry/internal/core/trend"
	"ferry/internal/core/value"
	_ "ferry/internal/families"
	"ferry/internal/field"
	"ferry/internal/store"
)

// TestAxis: a clock that is set does not tear the axis, whichever kind of time is placed.
func TestAxis(t *testing.T) {
	// A time that was set back an hour has the monotonic clock of before: Round drops that, so
	// the second base plays the machine's clock.
	begun := time.Now()
	a := newAxis(begun)
	for _, c := range []struct {
		name string
		set  time.Duration
		says string
	}{
		{"as it was", 0, ""}, {"slewed", 50 * time.Millisecond, ""}, {"forward", time.Hour, "set forward by 1h0m0s"},
		{"back", -90 * time.Second, "set back by 1h1m30s"},
	} {
		said := a.looked(begun.Add(5*time.Second), begun.Add(5*time.Second).Add(c.set).Round(0))
		if c.says == "" && said != "" || !strings.Contains(said, c.says) {
			t.Errorf("%s: %q", c.name, said)
		}
		stamped := begun.Add(6 * time.Second).Add(a.set).Round(0) // by the kernel
		for _, at := range []time.Time{begun.Add(6 * time.Second), stamped} {
			if got := a.of(at) - begun.UnixMicro(); got < 5_999_000 || got > 6_001_000 {
				t.Errorf("%s: 6 s after the beginning lies at %d us", c.name, got)
			}
		}
	}
	if a.after(a.of(begun) + 7e6); a.of(begun) <= begun.UnixMicro()+7e6 {
		t.Error("what comes after a restart lies before what was there")
	}
}

// TestRecord: what the points of the bench get is recorded without a gap, a link that stops is
// one, a kill loses nothing that was kept, and what was recording goes on.
func TestRecord(t *testing.T) {
	ctx := context.Background()
	b, demo := bench.New(), bench.Demo()
	if err := b.Sync(demo); err != nil {
		t.Fatal(err)
	}
	engine := field.NewEngine(demo, b)
	st, err := store.Open(ctx, t.TempDir(), bench.Demo)
	if err != nil {
		t.Fatal(err)
	}
	defer func() {
		engine.Close()
		if err := b.Close(); err != nil {
			t.Error(err)
		}
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	}()
	link, fast, text := pens(demo)
	r, err := Open(ctx, engine, st)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Begin(ctx, "texts", "", []string{text}, 1); err == nil || !strings.Contains(err.Error(), "text") {
		t.Errorf("a text is recorded: %v", err)
	}
	strip, err := r.Begin(ctx, "tank row", "Ines", []string{fast.ID, fast.ID}, 1)
	if err != nil {
		t.Fatal(err)
	}
	counted := engine.Hub.Scribe([]string{fast.ID})
	look := func(d time.Duration) {
		for end := time.Now().Add(d); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
			r.Look(ctx)
		}
	}
	if err := engine.Start([]string{link}); err != nil {
		t.Fatal(err)
	}
	look(3 * time.Second)
	engine.Stop([]string{link})
	look(time.Duration(3*fast.PaceMs+1300) * time.Millisecond)
	came, _ := counted.Drain(time.Now())
	r.Look(ctx)
	want := 0
	for _, w := range came {
		if w.Quality != value.Bad {
			want++
		}
	}
	samples := all(t, r, strip.ID)
	if got := values(samples); got != want || want < 3000/fast.PaceMs-2 {
		t.Fatalf("%d samples of %d that came, each %d ms", got, want, fast.PaceMs)
	}
	if last := samples[len(samples)-1]; !last.Gap() {
		t.Errorf("a link that was stopped is no gap: %+v", last)
	}

	// A kill: another recorder begins with the same disk, and nobody has ended the first.
	again, err := Open(ctx, engine, st)
	if err != nil {
		t.Fatal(err)
	}
	after := all(t, again, strip.ID)
	if got := values(after); got != want {
		t.Errorf("%d samples of %d are there after a kill", got, want)
	}
	if n := after[len(after)-1]; !n.Gap() || n.Reason != "Ferry was not running" {
		t.Errorf("the time without Ferry: %+v", n)
	}
	r = again
	if err := engine.Start([]string{link}); err != nil {
		t.Fatal(err)
	}
	look(2 * time.Second)
	if err := r.Remove(ctx, strip.ID); err == nil {
		t.Error("a trend that records was removed")
	}
	if err := engine.SetMode(field.Plant); err != nil {
		t.Fatal(err)
	}
	r.Look(ctx)
	ended, _, err := r.Strip(strip.ID)
	if err != nil || ended.ToUs == 0 || !strings.Contains(ended.Why, "mode") || len(ended.Notes) != 1 {
		t.Errorf("after the mode was switched: %+v, %v", ended, err)
	}
	if got := values(all(t, r, strip.ID)); got <= want || int64(got) != ended.Samples {
		t.Errorf("%d samples after it went on, %d before, %d said", got, want, ended.Samples)
	}
	rows := 0
	if err := r.Each(ctx, strip.ID, []int{0}, ended.FromUs, ended.ToUs,
		func(list []Row) error { rows += len(list); return nil }); err != nil || rows != len(all(t, r, strip.ID)) {
		t.Errorf("%d rows out: %v", rows, err)
	}
	if err := r.Remove(ctx, strip.ID); err != nil {
		t.Error(err)
	}
	if list, _ := r.List(); len(list) != 0 {
		t.Errorf("%d are left", len(list))
	}
}

// pens are a link of the demo site, its fastest point, and a text.
func pens(s *site.Site) (link string, fast *site.Point, text string) {
	for i := range s.Devices {
		d := &s.Devices[i]
		for j := range d.Points {
			p := &d.Points[j]
			if p.Type.IsText() {
				text = p.ID
			}
			l := s.LinkOf(d, p)
			if l != nil && l.Protocol == "modbus-tcp" && p.PaceMs > 0 && p.Access != site.WriteOnly && !p.Type.IsText() &&
				(fast == nil || p.PaceMs < fast.PaceMs) {
				link, fast = l.ID, p
			}
		}
	}
	return link, fast, text
}

func all(t *testing.T, r *Recorder, id int64) []trend.Sample {
	t.Helper()
	list, err := r.Samples(context.Background(), id, 0, 0, 1<<62)
	if err != nil {
		t.Fatal(err)
	}
	for i := range list {
		if i > 0 && list[i].AtUs < list[i-1].AtUs {
			t.Errorf("sample %d lies before the one before it", i)
		}
	}
	return list
}

func values(list []trend.Sample) (n int) {
	for i := range list {
		if !list[i].Gap() {
			n++
		}
	}
	return n
}
