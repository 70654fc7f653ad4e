package field_test

import (
	"context"
	"strings"
	"testing"

	"ferry/internal/core/block"
	family "ferry/internal/core/family/modbus"
	"ferry/internal/field/fieldtest"

	"ferry/internal/bench"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// TestReadWindow: of a window that goes beyond what the device has, the part
// around the point comes back.
func TestReadWindow(t *testing.T) {
	s := bench.Demo()
	e, _ := fieldtest.Benched(t, s)
	w, err := e.ReadWindow(context.Background(), "ph21", "", "ir", 0, 40, 1)
	if err != nil || w.Start != 0 || len(w.Words) != 8 || w.Words[6] == 0 && w.Words[7] == 0 {
		t.Errorf("%+v, %v", w, err)
	}
	for _, bad := range []struct {
		area         string
		start, at    uint32
		count        int
		says, device string
	}{
		{"ir", 100, 110, 20, "could not be read", "ph21"}, {"co", 0, 0, 8, "no registers", "ioa"},
		{"ir", 0, 50, 20, "hold its own place", "ph21"},
		{"ir", 0, 0, 1, "no longer in the site", "gone"}, {"xx", 0, 0, 1, "no such area", "ph21"},
		{"hr", 0, 0, 1, "No link", "lss"},
	} {
		if _, err := e.ReadWindow(context.Background(), bad.device, "", bad.area, bad.start, bad.count,
			bad.at); err == nil || !strings.Contains(err.Error(), bad.says) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
}

// TestAskEdges: the device whose map lies one too high is found by its edges;
// the others are not suspected.
func TestAskEdges(t *testing.T) {
	s := bench.Demo()
	e, _ := fieldtest.Benched(t, s)
	for i := range s.Devices {
		d := &s.Devices[i]
		if len(d.Points) == 0 || d.Served() {
			continue
		}
		edges, err := e.AskEdges(context.Background(), d.ID, "")
		if d.Map == "enip-cyclic" {
			if err == nil || !strings.Contains(err.Error(), "comes whole") {
				t.Errorf("%s is asked: %v", d.Name, err)
			}
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		found := regmap.Shifted(family.TCP.Scheme, d, edges)
		if (len(found) == 1) != (d.ID == "ph21") {
			t.Errorf("%s: %+v after %+v", d.Name, found, edges)
		}
	}
}

// TestPowerAndMissing: a power of ten in another register scales the value, in
// reading and in writing; a code for "not available" is no value.
func TestPowerAndMissing(t *testing.T) {
	s := bench.Demo()
	level := s.Device("level31")
	level.Points[1].Missing = []value.Value{value.OfInt(65535)}
	rate := s.Device("feeder1")
	rate.Points[2].Missing = []value.Value{value.OfInt(901)}
	e, _ := fieldtest.Benched(t, s)
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "the level in metres", func() bool {
		live, _ := e.Hub.Point("level31-01")
		return live.Quality == value.Good && live.Value.Float() > 2 && live.Value.Float() < 3
	})
	if _, err := write(e, "feeder1-03", "901"); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "the rate not to be available", func() bool {
		live, _ := e.Hub.Point("feeder1-03")
		return live.Quality == value.Bad && strings.Contains(live.Reason, "not available")
	})
	if r, err := write(e, "feeder1-05", "3"); err != nil || !r.OK || r.ReadBack != "3 · by oxygen" {
		t.Errorf("the mode: %+v, %v", r, err)
	}
	if o, err := e.Prepare(context.Background(), "feeder1-05", "hand"); err != nil || o.New != "1 · hand" {
		t.Errorf("by its name: %+v, %v", o, err)
	}
}

// FuzzWindow: whatever a device answers to a window of registers or to a read of
// bits, the window holds what was asked for or nothing, and Ferry goes on.
func FuzzWindow(f *testing.F) {
	f.Add([]byte{3, 2, 0, 7}, uint8(0))
	f.Add([]byte{0x83, 0}, uint8(1))
	f.Add([]byte{1, 0}, uint8(2))
	f.Fuzz(func(t *testing.T, pdu []byte, at uint8) {
		if len(pdu) > 250 {
			t.Skip()
		}
		p := newPlant(t)
		p.change(t, "pump-1", func(q *site.Point) { q.Address, q.Type = block.At("co", 1), value.TypeBool })
		p.bench["pump"].behave(func(request, _ []byte) ([]byte, bool) {
			return append(append(request[:4:4], byte((len(pdu)+1)>>8), byte(len(pdu)+1), 1), pdu...), true
		})
		w, err := p.ReadWindow(context.Background(), "pump", "", "hr", uint32(at), 40, uint32(at)+3)
		if err == nil && (w.Start > uint32(at)+3 || w.Start+uint32(len(w.Words)) <= uint32(at)+3) {
			t.Errorf("the window is %+v", w)
		}
		if _, err := p.AskEdges(context.Background(), "pump", ""); err != nil && strings.Contains(err.Error(), "defect") {
			t.Error(err)
		}
		if _, err := p.Try(context.Background(), "to-pump"); err != nil {
			t.Error(err)
		}
	})
}
