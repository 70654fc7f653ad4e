package field

import (
	"testing"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// fed returns a hub that follows one point, and a function that shows it a
// value at a number of seconds after noon.
func fed() (*Hub, func(second float64, v value.Value)) {
	h := NewHub()
	h.follow(&site.Device{ID: "d",
		Points: []site.Point{{ID: "p", Name: "Oxygen", Address: block.At("hr", 0), Type: "uint16", Factor: 0.1,
			PaceMs: 1000, Access: "r"}}})
	codec, _ := value.NewCodec(value.Shape{Type: value.TypeUint16, Order: "", Bit: -1, Length: 0})
	return h, func(second float64, v value.Value) {
		h.record(h.Era(), &exchange.Exchange{Link: "k", Device: "d", RequestID: "k-hr0",
			At: noon.Add(time.Duration(second * float64(time.Second))), LatencyMs: 5, Outcome: exchange.Answered,
			Frames: []exchange.Frame{{Out: true, Octets: []byte{1}}, {AfterMs: 5, Octets: []byte{2, 3}}},
			Data:   []byte{0, byte(v.Uint())}},
			[]part{{track: h.track("p"), codec: &codec}})
	}
}

func TestQualityAges(t *testing.T) {
	h, feed := fed()
	list, rev := h.Since(0, noon)
	if len(list) != 1 || list[0].Quality != value.NotRead {
		t.Fatalf("before any read: %+v", list)
	}
	feed(0, value.OfUint(84))
	list, rev = h.Since(rev, noon.Add(time.Second))
	if len(list) != 1 || list[0].Quality != value.Good || list[0].Shown != "8.4" || list[0].Words != "0054" ||
		list[0].AtMs != noon.UnixMilli()+5 {
		t.Fatalf("after a read: %+v", list)
	}
	if list, rev = h.Since(rev, noon.Add(3*time.Second)); len(list) != 0 {
		t.Errorf("three seconds old it has changed: %+v", list)
	}
	if list, rev = h.Since(rev, noon.Add(5*time.Second)); len(list) != 1 || list[0].Quality != value.Doubtful {
		t.Errorf("past three paces: %+v", list)
	}
	h.fail(h.Era(), []string{"p"}, "no answer came in time")
	if list, rev = h.Since(rev, noon.Add(5*time.Second)); len(list) != 1 || list[0].Quality != value.Bad ||
		list[0].Reason == "" {
		t.Errorf("after a failure: %+v", list)
	}
	h.fail(h.Era(), []string{"p"}, "no answer came in time")
	if list, _ = h.Since(rev, noon.Add(5*time.Second)); len(list) != 0 {
		t.Errorf("the same failure is no news: %+v", list)
	}
}

// TestHubIsBounded: however long it runs, it remembers so much and no more.
func TestHubIsBounded(t *testing.T) {
	h, feed := fed()
	for i := range 30_000 {
		feed(float64(i)/100, value.OfUint(uint64(i%7)))
	}
	if n := len(h.Exchanges(0, 1_000_000)); n > keptExchanges {
		t.Errorf("%d exchanges", n)
	}
	if n := len(h.Trend("p")); n > keptTrend {
		t.Errorf("%d samples in the trend", n)
	}
	if n := len(h.DrainSamples()); n > keptSamples || n == 0 {
		t.Errorf("%d samples waiting", n)
	}
	if n := len(h.DrainSamples()); n != 0 {
		t.Errorf("%d samples a second time", n)
	}
	if _, ok := h.Exchange(1); ok {
		t.Error("the first exchange is still there")
	}
	last, ok := h.Exchange(h.LastSeq())
	if !ok || len(last.Frames) != 2 || string(last.Frames[0].Octets) != "\x01" || last.Frames[1].Out ||
		string(last.Frames[1].Octets) != "\x02\x03" || last.Frames[1].AfterMs != 5 || len(last.Data) != 2 {
		t.Errorf("the last exchange is %+v", last)
	}
	stats := h.Stats()
	if len(stats) != 1 || stats[0].Count != 30_000 || stats[0].MeanMs < 4.99 || stats[0].MeanMs > 5.01 {
		t.Errorf("measured: %+v", stats)
	}
	for range 30 { // of messages as long as any may be, too
		h.record(h.era, &exchange.Exchange{Frames: []exchange.Frame{{Octets: make([]byte, 4<<20)}}}, nil)
	}
	octets := 0
	for _, e := range h.Exchanges(0, 1_000_000) {
		_, in := exchange.Sides(e.Frames)
		octets += len(in)
	}
	if octets > keptOctets || octets < keptOctets/4 {
		t.Errorf("%d octets of exchanges", octets)
	}
}

// TestEditForgetsValues: a point that now means something else starts anew,
// and one that was only renamed keeps its value.
func TestEditForgetsValues(t *testing.T) {
	h, feed := fed()
	feed(0, value.OfUint(84))
	p := site.Point{ID: "p", Name: "O2", Address: block.At("hr", 0), Type: "uint16", Factor: 0.1, PaceMs: 1000,
		Access: "r"}
	h.follow(&site.Device{ID: "d", Points: []site.Point{p}})
	if live, _ := h.Point("p"); live.Quality != value.Good {
		t.Errorf("renamed: %+v", live)
	}
	p.Address = block.At("hr", 1)
	h.follow(&site.Device{ID: "d", Points: []site.Point{p}})
	if live, _ := h.Point("p"); live.Quality != value.NotRead {
		t.Errorf("moved: %+v", live)
	}
}

// TestPutBack: what could not be stored comes first at the next call.
func TestPutBack(t *testing.T) {
	h := NewHub()
	h.ids, h.samples = []string{"b"}, []sample{{atMs: 2}}
	h.PutBack([]Sample{{Point: "a", AtMs: 1}}, []Outage{{Link: "k"}})
	if got := h.DrainSamples(); len(got) != 2 || got[0].Point != "a" || got[1].Point != "b" ||
		len(h.DrainSamples()) != 0 {
		t.Errorf("%+v", got)
	}
	if got := h.DrainOutages(); len(got) != 1 || got[0].Link != "k" {
		t.Errorf("%+v", got)
	}
}

// TestEditsPileNothingUp: a point that is moved a thousand times is remembered
// once.
func TestEditsPileNothingUp(t *testing.T) {
	h := NewHub()
	for i := range 1000 {
		h.follow(&site.Device{ID: "d",
			Points: []site.Point{{ID: "a", Type: value.TypeUint16, Address: block.At("hr", uint32(i))}}})
	}
	if len(h.order) > 300 || len(h.points) != 1 {
		t.Errorf("%d tracks of %d points", len(h.order), len(h.points))
	}
}
