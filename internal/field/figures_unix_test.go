//go:build unix

package field_test

import (
	"slices"
	"syscall"
	"testing"
	"time"

	"ferry/internal/core/site"
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
