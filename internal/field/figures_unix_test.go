//go:build unix

package field_test

import (
	"fmt"
	"runtime"
	"slices"
	"syscall"
	"testing"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// BenchmarkMany asks 200 devices ten times a second each, and reports how late
// the requests go out and what that costs, stand-ins included.
func BenchmarkMany(b *testing.B) {
	s := row(site.Line{ID: "l", Name: "Plant net", Medium: site.Ethernet}, "modbus-tcp", 200, 2, 100)
	for b.Loop() {
		e, end := begun(b, s)
		time.Sleep(2 * time.Second)
		var before, after syscall.Rusage
		if err := syscall.Getrusage(syscall.RUSAGE_SELF, &before); err != nil {
			b.Fatal(err)
		}
		from, began := e.Hub.LastSeq(), time.Now()
		time.Sleep(3 * time.Second)
		if err := syscall.Getrusage(syscall.RUSAGE_SELF, &after); err != nil {
			b.Fatal(err)
		}
		list := e.Hub.Exchanges(from, 8000)
		took := time.Since(began)
		end()
		late := make([]float64, 0, len(list))
		failed := 0
		for _, x := range list {
			late = append(late, x.LateMs)
			if x.Outcome != "answered" {
				failed++
			}
		}
		slices.Sort(late)
		used := time.Duration(after.Utime.Nano() + after.Stime.Nano() - before.Utime.Nano() - before.Stime.Nano())
		b.ReportMetric(float64(len(list))/took.Seconds(), "requests/s")
		b.ReportMetric(late[len(late)*99/100], "p99-late-ms")
		b.ReportMetric(100*used.Seconds()/took.Seconds(), "%-of-a-core")
		b.ReportMetric(float64(failed), "failed")
		b.ReportMetric(0, "ns/op")
	}
}

// BenchmarkCrossings carries 20 000 points of a hundred devices at a pace of a second
// into what Ferry serves, and reports what that costs, stand-ins included, and how
// long Ferry had the values, from a device's answer to its write.
func BenchmarkCrossings(b *testing.B) {
	line := site.Line{ID: "l", Name: "Plant net", Medium: site.Ethernet}
	s := row(line, "modbus-tcp", 100, 0, 1000)
	for g := range 10 {
		s.Devices = append(s.Devices, site.Device{ID: fmt.Sprint("g", g), Name: fmt.Sprint("Gateway ", g), Map: "modbus-tcp",
			Serving: &site.Serving{}, Ports: []site.Port{{Line: "l", Host: "198.51.100.250", Protocol: "modbus-tcp",
				Settings: protocol.Numbers(map[string]int{"unit": 1 + g})}}})
	}
	for i := range 100 {
		d, gate := &s.Devices[1+i], &s.Devices[101+i/10]
		d.Points = nil
		for p := range 200 {
			from := site.Point{ID: fmt.Sprintf("s%d-%d", i, p), Name: fmt.Sprint("P", p), Type: value.TypeFloat32,
				Address: block.At("hr", uint32(2*p)), PaceMs: 1000, Access: site.ReadOnly}
			d.Points = append(d.Points, from)
			to := from
			to.ID, to.Name, to.Address = fmt.Sprintf("t%d-%d", i, p), fmt.Sprintf("D%d-P%d", i, p),
				block.At("hr", uint32(400*(i%10)+2*p))
			gate.Points = append(gate.Points, to)
			s.Crossings = append(s.Crossings, site.Crossing{ID: fmt.Sprintf("x%d-%d", i, p), From: from.ID, To: to.ID})
		}
	}
	if err := s.Validate(); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		e, end := begun(b, s)
		time.Sleep(5 * time.Second)
		var before, after syscall.Rusage
		if err := syscall.Getrusage(syscall.RUSAGE_SELF, &before); err != nil {
			b.Fatal(err)
		}
		from, began := e.Latencies(), time.Now()
		time.Sleep(10 * time.Second)
		if err := syscall.Getrusage(syscall.RUSAGE_SELF, &after); err != nil {
			b.Fatal(err)
		}
		now, took := e.Latencies(), time.Since(began).Seconds()
		var heap runtime.MemStats
		runtime.ReadMemStats(&heap)
		end()
		carried := now.Count - from.Count
		for bound := range now.Buckets {
			now.Buckets[bound] -= from.Buckets[bound]
		}
		now.Count = carried
		cpu := time.Duration(after.Utime.Nano() + after.Stime.Nano() - before.Utime.Nano() - before.Stime.Nano()).Seconds()
		b.ReportMetric(float64(carried)/took, "values/s")
		b.ReportMetric(1000*now.Within(0.5), "p50-ms")
		b.ReportMetric(1000*now.Within(0.99), "p99-ms")
		b.ReportMetric(100*cpu/took, "%-of-a-core")
		b.ReportMetric(float64(heap.HeapInuse)/1e6, "heap-MB")
		b.ReportMetric(0, "ns/op")
	}
}
