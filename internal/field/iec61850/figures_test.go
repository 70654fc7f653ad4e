//go:build unix

package iec61850_test

import (
	"fmt"
	"os"
	"runtime"
	"slices"
	"syscall"
	"testing"
	"time"

	stand "ferry/internal/bench/dnp3"
	"ferry/internal/core/family/dnp3"
	family "ferry/internal/core/family/iec61850"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field/fieldtest"
)

// TestNoneLost: every change that outstations note is reported to a substation controller, in order,
// also those of a time in which it was away; counted against the stand-ins. FERRY_STATIONS and
// FERRY_SECONDS make it the figures: 200 outstations with 100 points each, of which every
// FERRY_MOVING-th moves, or 10 000 attributes of 100 for FERRY_CLIENTS.
func TestNoneLost(t *testing.T) {
	stations, seconds, points, moving := 5, 6, 100, 50
	if n := os.Getenv("FERRY_STATIONS"); n != "" {
		_, _ = fmt.Sscan(n, &stations)
		_, _ = fmt.Sscan(os.Getenv("FERRY_SECONDS"), &seconds)
		moving = 25
		_, _ = fmt.Sscan(os.Getenv("FERRY_MOVING"), &moving)
		_, _ = fmt.Sscan(os.Getenv("FERRY_POINTS"), &points)
	}
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Plant net", Medium: "ethernet", Network: "192.0.0.0/16"}}
	lss := site.Device{ID: "lss", Name: "LSS controller", Ports: []site.Port{{Line: "net", Host: "192.0.250.10"}},
		Points: []site.Point{}}
	conc := site.Device{ID: "conc", Name: "Conc", Map: "iec61850", Serving: &site.Serving{},
		Ports: []site.Port{{Line: "net", Host: "192.0.250.11", Protocol: "iec61850"}}}
	s.Devices = []site.Device{lss}
	for k := range stations {
		d := site.Device{ID: fmt.Sprintf("p%d", k), Name: fmt.Sprintf("Pump station %d", k), Map: "dnp3-tcp",
			Ports: []site.Port{{Line: "net", Host: fmt.Sprintf("192.0.%d.%d", k/200, 10+k%200), Protocol: "dnp3-tcp"}}}
		for i := range points {
			from, to, of, ref := fmt.Sprintf("bi%d", i), fmt.Sprintf("c%d-%d", k, i), value.TypeBool,
				fmt.Sprintf("LD%d/GGIO1.Ind%d.stVal[ST]", k, i)
			if i%moving == moving-1 { // analogue values move often
				from, of, ref = fmt.Sprintf("ai%d", i), value.TypeFloat32, fmt.Sprintf("LD%d/GGIO1.AnIn%d.mag.f[MX]", k, i)
			}
			id := fmt.Sprintf("p%d-%d", k, i)
			d.Points = append(d.Points, fieldtest.Point(t, dnp3.Scheme, id, from, of, site.ReadOnly))
			conc.Points = append(conc.Points, fieldtest.Point(t, family.Scheme, to, ref, of, site.ReadOnly))
			s.Crossings = append(s.Crossings, site.Crossing{ID: "x" + id, From: id, To: to})
		}
		s.Devices = append(s.Devices, d)
		s.Links = append(s.Links, site.Link{ID: "l" + d.ID, Asking: "lss", Answering: d.ID, Line: "net", Protocol: "dnp3-tcp",
			Settings: protocol.Settings{dnp3.KeyClass3: protocol.OfInt(1000)}})
	}
	s.Devices = append(s.Devices, conc)
	e, _ := fieldtest.Benched(t, s)
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "it listens", func() bool { return len(e.Serving()) == 1 && len(e.Serving()[0].Listens) == 1 })
	fieldtest.Wait(t, "all are read", func() bool {
		list, _ := e.Hub.Since(0, time.Now())
		for _, l := range list {
			if l.Quality != value.Good {
				return false
			}
		}
		return len(list) == 2*stations*points
	})
	at := e.Serving()[0].Listens[0]
	c := dial(t, at)
	c.follow(nil)
	clients := 1
	_, _ = fmt.Sscan(os.Getenv("FERRY_CLIENTS"), &clients)
	var others []*client // who stay all the time
	for n := 2; n <= clients; n++ {
		other := dial(t, at)
		other.followAs(fmt.Sprintf("%02d", n), nil)
		others = append(others, other)
	}
	began, used := time.Now(), cpu()
	first, _ := stand.Noted()
	time.Sleep(time.Duration(seconds) * time.Second / 2)
	// The controller is away for a while, and goes on from the last entry that it had.
	_ = c.conn.Close()
	<-c.ended
	time.Sleep(time.Second)
	again := dial(t, at)
	again.values = c.values
	again.follow(c.entry)
	time.Sleep(time.Duration(seconds) * time.Second / 2)
	took, cost := time.Since(began), cpu()-used
	last, gone := stand.Noted()

	time.Sleep(3 * time.Second) // what was noted up to then is on its way
	again.mu.Lock()
	defer again.mu.Unlock()
	total, doubled := 0, 0
	for key, list := range again.values {
		total += len(list)
		for i := 1; i < len(list); i++ {
			if list[i] == list[i-1] {
				if doubled++; doubled < 5 {
					t.Errorf("%s: %d comes twice in a row: a change between was lost", key, list[i])
				}
			}
		}
	}
	end, _ := stand.Noted()
	slices.Sort(again.late)
	p := func(share float64) time.Duration {
		return again.late[int(share*float64(len(again.late)-1))].Round(time.Millisecond)
	}
	var memory runtime.MemStats
	runtime.ReadMemStats(&memory)
	t.Logf("figure: %d outstations, %.0f events a second: %d noted and %d without room, %d reported, %d lost in order; from event to report %s p50, %s p99; "+
		"%.0f %% of a core with the stand-ins, %d MB", stations, float64(last-first)/took.Seconds(), end-first, gone,
		total, doubled, p(0.5), p(0.99), 100*cost.Seconds()/took.Seconds(), memory.HeapInuse>>20)
	for i, other := range others {
		other.mu.Lock()
		had := 0
		for _, list := range other.values {
			had += len(list)
		}
		slices.Sort(other.late)
		t.Logf("figure: client %d: %d reported, %s p99", i+2, had,
			other.late[int(0.99*float64(len(other.late)-1))].Round(time.Millisecond))
		if int64(had) < last-first {
			t.Errorf("client %d had %d of %d events", i+2, had, last-first)
		}
		other.mu.Unlock()
	}
	if gone > 0 || int64(total) < last-first {
		t.Errorf("%d events were noted, %d had no room, and %d were reported", last-first, gone, total)
	}
}

// cpu is what this process has used of processors.
func cpu() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u) // of oneself it cannot fail
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
