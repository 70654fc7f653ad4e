//go:build unix

package enip_test

import (
	"fmt"
	"net"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"ferry/internal/bench"
	family "ferry/internal/core/family/enip"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
	"ferry/internal/precise"
)

// reactors is a site with so many reactors, whose packets go every so many milliseconds
// each way.
func reactors(tb testing.TB, n, everyMs int) *site.Site {
	ms := protocol.OfInt(everyMs)
	one := reactor(tb, protocol.Settings{family.KeyInEvery: ms, family.KeyOutEvery: ms,
		family.KeyMultiplier: protocol.OfText("16")})
	s := *one
	s.Devices, s.Links = one.Devices[:1:1], nil
	for i := range n {
		d, l := one.Devices[1], one.Links[0]
		d.ID, d.Name = fmt.Sprintf("uv%d", i), fmt.Sprintf("UV reactor %d", i)
		d.Ports = slices.Clone(d.Ports)
		d.Ports[0].Host = fmt.Sprintf("192.0.2.%d", 64+i)
		d.Points = slices.Clone(d.Points)
		for k := range d.Points {
			d.Points[k].ID = fmt.Sprintf("%s-%s", d.ID, d.Points[k].ID)
		}
		l.ID, l.Answering = "up"+d.ID, d.ID
		s.Devices, s.Links = append(s.Devices, d), append(s.Links, l)
	}
	return &s
}

// away is how far 50 and 99 of 100 intervals are from what they should be, and the worst.
func away(gaps []float64, everyMs float64) (p50, p99, worst float64) {
	off := make([]float64, 0, len(gaps))
	for _, g := range gaps {
		off = append(off, max(g-everyMs, everyMs-g))
	}
	slices.Sort(off)
	if len(off) == 0 {
		return 0, 0, 0
	}
	return off[len(off)/2], off[len(off)*99/100], off[len(off)-1]
}

// BenchmarkCyclic has 64 connections with packets every 10 ms each way, stand-ins included,
// and beside it, after it, a bare sender of as many packets. What was sent is read by a
// decoder of its own.
func BenchmarkCyclic(b *testing.B) {
	const connections, everyMs = 64, 10
	s := reactors(b, connections, everyMs)
	for b.Loop() {
		st := bench.New()
		if err := st.Sync(s); err != nil {
			b.Fatal(err)
		}
		e := field.NewEngine(s, st)
		if err := e.Start(nil); err != nil {
			b.Fatal(err)
		}
		time.Sleep(3 * time.Second)
		var before, after syscall.Rusage
		_ = syscall.Getrusage(syscall.RUSAGE_SELF, &before)
		began, from := time.Now(), e.Hub.LastSeq()
		count := func(name string) (n int64) {
			for i := range connections {
				l, _ := e.Hub.Point(fmt.Sprintf("uv%d-%s", i, name))
				n += l.Value.Int()
			}
			return n
		}
		sent, received, missed := count("Packets sent"), count("Packets received"), count("Packets missed")
		time.Sleep(8 * time.Second)
		took := time.Since(began)
		_ = syscall.Getrusage(syscall.RUSAGE_SELF, &after)
		sent, received, missed = count("Packets sent")-sent, count("Packets received")-received,
			count("Packets missed")-missed
		list := e.Hub.Exchanges(from, 8000)
		reads, good := newStrict(), 0
		for i := range connections {
			if l, _ := e.Hub.Point(fmt.Sprintf("uv%d-i1", i)); l.Quality == value.Good {
				good++
			}
		}
		for _, x := range e.Hub.Exchanges(0, 8000) {
			for _, f := range x.Frames {
				switch {
				case !f.Out:
				case f.Datagram:
					reads.udp(f.Octets)
				default:
					reads.tcp(f.Octets)
				}
			}
		}
		last := map[string]time.Time{}
		var out, in []float64
		for i := range list {
			for _, f := range list[i].Frames {
				if !f.Datagram {
					continue
				}
				at := list[i].At.Add(time.Duration(f.AfterMs * 1e6))
				key := fmt.Sprint(list[i].Link, f.Out)
				if was, ok := last[key]; ok && at.After(was) {
					gap := float64(at.Sub(was)) / 1e6
					if f.Out {
						out = append(out, gap)
					} else {
						in = append(in, gap)
					}
				}
				last[key] = at
			}
		}
		e.Close()
		_ = st.Close()
		used := time.Duration(after.Utime.Nano() + after.Stime.Nano() - before.Utime.Nano() - before.Stime.Nano())
		p50, p99, worst := away(out, everyMs)
		b.ReportMetric(p50, "out-p50-off-ms")
		b.ReportMetric(p99, "out-p99-off-ms")
		b.ReportMetric(worst, "out-worst-off-ms")
		p50, p99, worst = away(in, everyMs)
		b.ReportMetric(p50, "in-p50-off-ms")
		b.ReportMetric(p99, "in-p99-off-ms")
		b.ReportMetric(worst, "in-worst-off-ms")
		b.ReportMetric(100*used.Seconds()/took.Seconds(), "%-of-a-core")
		b.ReportMetric(float64(sent)/took.Seconds(), "sent/s")
		b.ReportMetric(float64(received)/took.Seconds(), "received/s")
		b.ReportMetric(float64(missed), "missed")
		b.ReportMetric(float64(good), "good")
		total := 0
		for _, n := range reads.frames {
			total += n
		}
		b.ReportMetric(float64(total), "frames-read")
		b.ReportMetric(float64(len(reads.wrong)), "malformed")
		if len(reads.wrong) > 0 {
			b.Error(strings.Join(reads.wrong, "\n"))
		}
		p50, p99, worst = away(bare(b, connections, everyMs*time.Millisecond, 4*time.Second), everyMs)
		b.ReportMetric(p50, "bare-p50-off-ms")
		b.ReportMetric(p99, "bare-p99-off-ms")
		b.ReportMetric(worst, "bare-worst-off-ms")
		b.ReportMetric(0, "ns/op")
	}
}

// bare sends as many packets to nobody in particular, and does nothing else.
func bare(tb testing.TB, n int, every, lasts time.Duration) (gaps []float64) {
	sink, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		tb.Fatal(err)
	}
	defer sink.Close()
	go func() {
		room := make([]byte, 2048)
		for {
			if _, err := sink.Read(room); err != nil {
				return
			}
		}
	}()
	socket, err := net.DialUDP("udp4", nil, sink.LocalAddr().(*net.UDPAddr))
	if err != nil {
		tb.Fatal(err)
	}
	defer socket.Close()
	octets := make([]byte, 60)
	last := make([]time.Time, n)
	began := time.Now()
	for k := 0; time.Since(began) < lasts; k++ {
		precise.Near(began.Add(time.Duration(k) * every / time.Duration(n)))
		now := time.Now()
		if _, err := socket.Write(octets); err != nil {
			tb.Fatal(err)
		}
		if i := k % n; !last[i].IsZero() {
			gaps = append(gaps, float64(now.Sub(last[i]))/1e6)
		}
		last[k%n] = now
	}
	return gaps
}

// TestStrict: what Ferry sends to open, keep and end connections of every kind is as the
// standard writes it.
func TestStrict(t *testing.T) {
	n, text := protocol.OfInt, protocol.OfText
	for name, more := range map[string]protocol.Settings{"plain": nil, "class 0": {family.KeyClass: text("0")},
		"many": {family.KeyInCast: text("many")}, "empty configuration": {family.KeyConfig: text(family.ConfigEmpty)},
		"odd configuration": {family.KeyConfig: text(family.ConfigData), family.KeyConfigData: text("01 02 03")},
		"key":               {family.KeyKey: text(family.KeyCompatible), family.KeyVendor: n(1234), family.KeyMajor: n(2)},
		"high instances":    {family.KeyInInstance: n(600), family.KeyOutInstance: n(700), family.KeyConfigAt: n(800)},
		"variable": {family.KeyLength: text("variable"), family.KeyPriority: text("urgent"),
			family.KeyMultiplier: text("512")},
		"large": {family.KeyInCount: n(400)}} {
		t.Run(name, func(t *testing.T) {
			e, _ := fieldtest.Benched(t, reactor(t, more))
			if err := e.Start(nil); err != nil {
				t.Fatal(err)
			}
			reads := newStrict()
			fieldtest.Wait(t, "packets", func() bool {
				reads = newStrict()
				for _, x := range e.Hub.Exchanges(0, 2000) {
					for _, f := range x.Frames {
						switch {
						case !f.Out:
						case f.Datagram:
							reads.udp(f.Octets)
						default:
							reads.tcp(f.Octets)
						}
					}
				}
				// What the device does not take is asked for all the same.
				return reads.frames["Forward_Open"] > 0 && (reads.frames["cyclic"] > 0 || reads.frames["Forward_Open"] > 1)
			})
			if len(reads.wrong) > 0 {
				t.Errorf("%v: %s", reads.frames, strings.Join(reads.wrong, "\n"))
			}
		})
	}
}
