package field_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
)

// TestHeartbeats: what is read of a device whose heartbeat stands still is doubted and
// not carried, and is good again once that moves; and Ferry gives one of its own.
func TestHeartbeats(t *testing.T) {
	p := newPlant(t)
	probe := *p.site.Device("probe")
	probe.Points, probe.Alive = nil, &site.Alive{Point: "probe-3", WithinMs: 300}
	p.edit(t, site.Put(site.KindDevice, "probe", "", probe),
		site.Edit{Kind: site.KindCrossing, ID: "beat", After: json.RawMessage(`{"to":"pump-2","beatMs":100}`)})
	stop, stopped := make(chan struct{}), make(chan struct{})
	beat := func() {
		defer close(stopped)
		for n := uint16(1); ; n++ {
			p.plant["probe"].set(3, n)
			select {
			case <-stop:
				return
			case <-time.After(50 * time.Millisecond):
			}
		}
	}
	go beat()
	p.begin(t, field.Plant)
	if err := p.Release([]string{"x"}, time.Minute, "test"); err != nil {
		t.Fatal(err)
	}
	p.plant["probe"].set(0, 7)
	fieldtest.Wait(t, "it to be carried", func() bool { return p.plant["gate"].get(0) == 7 })
	if p.plant["pump"].get(2) != 0 {
		t.Error("a heartbeat goes to the plant that nobody released")
	}
	if err := p.Release([]string{"beat"}, time.Minute, "test"); err != nil {
		t.Fatal(err)
	}
	seen := map[uint16]bool{}
	fieldtest.Wait(t, "Ferry's heartbeat to count on",
		func() bool { seen[p.plant["pump"].get(2)] = true; return len(seen) > 4 })
	close(stop)
	<-stopped
	fieldtest.Wait(t, "it to be doubted", func() bool {
		p.Hub.Age(time.Now())
		live, _ := p.Hub.Point("probe-0")
		return live.Quality == value.Doubtful && strings.Contains(live.Reason, "V3, has stood still since")
	})
	p.plant["probe"].set(0, 8)
	time.Sleep(200 * time.Millisecond)
	if got := p.plant["gate"].get(0); got != 7 {
		t.Errorf("a value of a program that stands still is carried: %d", got)
	}
	if live, _ := p.Hub.Point("pump-0"); live.Quality != value.Good {
		t.Errorf("another device is %s", live.Quality)
	}
	stop, stopped = make(chan struct{}), make(chan struct{})
	go beat()
	defer func() { close(stop); <-stopped }()
	fieldtest.Wait(t, "it to be carried again", func() bool { return p.plant["gate"].get(0) == 8 })
	point := edits(site.KindPoint, "probe-3", "probe")
	p.edit(t, point...)
	if p.site.Device("probe").Alive != nil {
		t.Error("a heartbeat stays whose point is gone")
	}
}

func edits(kind site.Kind, id, parent string) []site.Edit {
	return []site.Edit{{Kind: kind, ID: id, Parent: parent}}
}
