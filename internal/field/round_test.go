package field_test

import (
	"encoding/binary"
	"strings"
	"sync"
	"testing"

	"ferry/internal/core/block"
	"ferry/internal/core/site"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
)

// TestWholeRounds: what is carried with each round goes once the last request of the
// round has been answered or missed, all together, moved or not.
func TestWholeRounds(t *testing.T) {
	p := newPlant(t)
	p.change(t, "probe-3", func(q *site.Point) { q.Address = block.At("hr", 500) })
	for _, id := range []string{"0", "1", "2", "3"} {
		p.change(t, "probe-"+id, func(q *site.Point) { q.PaceMs = 100 })
	}
	var mu sync.Mutex
	var log strings.Builder
	silent := false
	p.bench["probe"].behave(func(request, _ []byte) ([]byte, bool) {
		mu.Lock()
		defer mu.Unlock()
		if binary.BigEndian.Uint16(request[8:]) == 500 {
			log.WriteByte('b')
			return nil, silent
		}
		log.WriteByte('a')
		return nil, false
	})
	p.bench["gate"].behave(func(request, _ []byte) ([]byte, bool) {
		mu.Lock()
		defer mu.Unlock()
		if request[7] == 6 {
			log.WriteByte('w')
		}
		return nil, false
	})
	p.edit(t, site.Put(site.KindCrossing, "x", "", site.Crossing{ID: "x", From: "probe-0", To: "gate-0", Round: true}),
		site.Put(site.KindCrossing, "y", "", site.Crossing{ID: "y", From: "probe-1", To: "gate-1", Round: true}))
	p.begin(t, field.Bench)
	said := func() string {
		mu.Lock()
		defer mu.Unlock()
		return log.String()
	}
	rounds := func() int { return strings.Count(said(), "ww") }
	fieldtest.Wait(t, "some rounds", func() bool { return rounds() > 3 })
	seen := strings.ReplaceAll(strings.ReplaceAll(said(), "abww", "."), "baww", ".")
	if strings.Trim(seen, ".") != "" && !strings.HasPrefix("abww", strings.Trim(seen, ".")) &&
		!strings.HasPrefix("baww", strings.Trim(seen, ".")) {
		t.Errorf("read and written in this order: %s", said())
	}
	mu.Lock()
	silent = true
	mu.Unlock()
	before := rounds()
	fieldtest.Wait(t, "rounds of which a part is missed", func() bool { return rounds() > before+1 })
	for _, x := range p.Crossings() {
		if x.Counts.Held > 0 || x.Counts.Carried < 4 {
			t.Errorf("%s counts %+v", x.ID, x.Counts)
		}
	}
}
