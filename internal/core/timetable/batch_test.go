package timetable

import (
	"math/rand/v2"
	"slices"
	"testing"

	"ferry/internal/core/block"
	"ferry/internal/core/family/blocktcp"
)

// scattered makes a random map: items of an area with gaps of all widths.
func scattered(r *rand.Rand, n int, paces ...int) (items []Item) {
	at := uint32(0)
	for range n {
		at += []uint32{0, 0, 1, 2, 6, 14, 40, 90}[r.IntN(8)]
		width := []uint32{1, 2, 4, 4, 8, 14}[r.IntN(6)]
		items = append(items, Item{at, at + width, paces[r.IntN(len(paces))]})
		at += width
	}
	return items
}

func batched(items []Item, size int) ([]stretch, []message) {
	area, _ := blocktcp.Scheme.Area("db7")
	room := blocktcp.RoomOf(size)
	return batch([]block.Area{area}, [][]Item{items}, []Rules{{Most: room.In - room.InEach}}, room)
}

// TestBatch: every item comes in one piece at least at its pace, in messages that
// keep to their room.
func TestBatch(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 1))
	for range 300 {
		items := scattered(r, 1+r.IntN(60), 1000, 1000, 5000, 0)
		size := []int{112, 240, 480}[r.IntN(3)]
		list, messages := batched(items, size)
		room := blocktcp.RoomOf(size)
		come := make([]int, len(items))
		for _, m := range messages {
			in := 0
			for _, i := range m.of {
				in += room.InEach + list[i].octets() + list[i].octets()%2
				for _, k := range list[i].Items {
					come[k]++
					if items[k].From < list[i].From || items[k].To > list[i].To ||
						weight(m.paceMs) > weight(items[k].PaceMs) {
						t.Fatalf("%+v is read by %+v every %d ms", items[k], list[i].Span, m.paceMs)
					}
				}
			}
			if len(m.of) > room.Ranges || len(m.of)*room.OutEach > room.Out || in > room.In {
				t.Fatalf("%d ranges and %d octets in a message of %d", len(m.of), in, size)
			}
		}
		if slices.ContainsFunc(come, func(n int) bool { return n != 1 }) {
			t.Fatalf("items come %v times", come)
		}
	}
}

// fewest finds the least messages for items of one pace by trying every division
// into ranges and every way of putting them into messages.
func fewest(items []Item, room block.Room) int {
	ordered := slices.SortedFunc(slices.Values(items), func(a, b Item) int { return int(a.From) - int(b.From) })
	best := len(items)
	var bins []int
	var counts []int
	var put func(ranges []int, k int)
	put = func(ranges []int, k int) {
		if len(bins) >= best {
			return
		}
		if k == len(ranges) {
			best = len(bins)
			return
		}
		takes := room.InEach + ranges[k] + ranges[k]%2
		for b := range bins {
			if bins[b]+takes <= room.In && counts[b] < min(room.Ranges, room.Out/room.OutEach) {
				bins[b] += takes
				counts[b]++
				put(ranges, k+1)
				bins[b] -= takes
				counts[b]--
			}
		}
		bins, counts = append(bins, takes), append(counts, 1)
		put(ranges, k+1)
		bins, counts = bins[:len(bins)-1], counts[:len(counts)-1]
	}
	for cuts := range 1 << (len(ordered) - 1) {
		var ranges []int
		from, to := ordered[0].From, ordered[0].To
		for i := 1; i < len(ordered); i++ {
			if cuts>>(i-1)&1 == 1 {
				ranges = append(ranges, int(to-from))
				from = ordered[i].From
			}
			to = ordered[i].To
		}
		ranges = append(ranges, int(to-from))
		if slices.Max(ranges)+room.InEach <= room.In {
			put(ranges, 0)
		}
	}
	return best
}

// TestBatchAgainstAll: on small maps there are hardly ever more messages than
// there must be.
func TestBatchAgainstAll(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 9))
	more, total := 0, 0
	for range 150 {
		items := scattered(r, 4+r.IntN(6), 1000)
		room := blocktcp.RoomOf(112)
		_, messages := batched(items, 112)
		if least := fewest(items, room); len(messages) > least {
			more++
			if len(messages) > least+1 {
				t.Errorf("%d messages, and %d would do: %+v", len(messages), least, items)
			}
		}
		total++
	}
	if more*50 > total { // one in fifty
		t.Errorf("%d of %d maps take a message more than they must", more, total)
	}
}

// BenchmarkBatch packs 500 random maps, and sets the messages beside those of
// plainer ways: a request for each value, one for each run of neighbours, and
// runs of neighbours put into messages one after the other. On small maps the
// least that there can be is found by trying everything.
func BenchmarkBatch(b *testing.B) {
	r := rand.New(rand.NewPCG(11, 500))
	var maps [][]Item
	for range 500 {
		maps = append(maps, scattered(r, 20+r.IntN(180), 1000))
	}
	room := blocktcp.RoomOf(blocktcp.UsualSize)
	var alone, neighbours, inTurn, messages int
	b.ReportAllocs()
	for b.Loop() {
		alone, neighbours, inTurn, messages = 0, 0, 0, 0
		for _, items := range maps {
			_, put := batched(items, blocktcp.UsualSize)
			messages += len(put)
			alone += len(items)
			runs := Pack(items, Rules{Most: room.In - room.InEach, NoBridging: true,
				Cost: func(units int) float64 { return 1 }})
			neighbours += len(runs)
			f, at := filling{room}, message{}
			inTurn++
			for i, run := range runs {
				octets := int(run.To - run.From)
				if !f.fits(&at, octets) {
					at = message{}
					inTurn++
				}
				f.put(&at, i, octets)
			}
		}
	}
	b.ReportMetric(float64(messages), "messages")
	b.ReportMetric(float64(alone), "one-a-value")
	b.ReportMetric(float64(neighbours), "one-a-run")
	b.ReportMetric(float64(inTurn), "runs-in-turn")
	small, least := 0, 0
	for range 200 {
		items := scattered(r, 4+r.IntN(7), 1000)
		_, put := batched(items, 112)
		small += len(put)
		least += fewest(items, blocktcp.RoomOf(112))
	}
	b.ReportMetric(float64(small), "small")
	b.ReportMetric(float64(least), "small-least")
}
