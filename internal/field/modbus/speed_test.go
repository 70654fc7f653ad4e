package modbus_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"ferry/internal/bench"
	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	_ "ferry/internal/families"
	"ferry/internal/field"
)

// TestMain plays the probe of probed until its standard input ends.
func TestMain(m *testing.M) {
	if os.Getenv("FERRY_PLAYS_PROBE") == "" {
		os.Exit(m.Run())
	}
	s, stand := probeSite(), bench.New()
	if err := stand.Sync(s); err != nil {
		log.Fatal(err)
	}
	fmt.Println(stand.Dial(s, &s.Links[0]))
	_, _ = io.Copy(io.Discard, os.Stdin) // however it ends, that is the end
}

// probed is a site with one probe on the bench, and where that is: in a process
// of its own, as a device is.
func probed(t testing.TB) (s *site.Site, dial string) {
	t.Helper()
	probe := exec.CommandContext(t.Context(), os.Args[0])
	probe.Env, probe.Stderr = append(os.Environ(), "FERRY_PLAYS_PROBE=1"), os.Stderr
	in, err := probe.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := probe.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := probe.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = in.Close()
		_ = probe.Wait() // it was told to end
	})
	dial, err = bufio.NewReader(out).ReadString('\n')
	if err != nil {
		t.Fatal(err)
	}
	return probeSite(), strings.TrimSpace(dial)
}

func probeSite() *site.Site {
	s := &site.Site{Lines: []site.Line{{ID: "net", Medium: site.Ethernet}},
		Links: []site.Link{{ID: "k", Answering: "d", Line: "net", Protocol: "modbus-tcp"}},
		Devices: []site.Device{{ID: "d", Name: "Probe", Map: "modbus-tcp",
			Ports: []site.Port{{Line: "net", Host: "192.0.2.21", Protocol: "modbus-tcp",
				Settings: protocol.Numbers(map[string]int{"thinkMs": 0})}}}}}
	for i := range 10 {
		s.Devices[0].Points = append(s.Devices[0].Points,
			site.Point{ID: string(rune('a' + i)), Name: string(rune('A' + i)),
				Address: block.At("hr", uint32(i)), Type: value.TypeUint16, PaceMs: 1000, Access: site.ReadOnly})
	}
	return s
}

// BenchmarkRequests sets the run engine beside a bare loop over the same
// socket code: one connection, one request outstanding, 10 registers from a
// server on loopback, and a plain loop in C. TestRatios holds it to what is promised.
func BenchmarkRequests(b *testing.B) {
	s, dial := probed(b)
	b.Run("bare loop", func(b *testing.B) {
		driver, _, err := field.DriverOf("modbus-tcp")
		if err != nil {
			b.Fatal(err)
		}
		conn, reply := driver.Dial(context.Background(), field.Target{Dial: dial})
		if conn == nil {
			b.Fatal(reply.Sentence)
		}
		defer conn.Close()
		b.ReportAllocs()
		for b.Loop() {
			if reply := field.Ask(conn, []block.Range{{Area: "hr", Start: 0, Count: 10}}); !reply.OK() {
				b.Fatal(reply.Sentence)
			}
		}
		b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "requests/s")
	})
	b.Run("C loop", func(b *testing.B) {
		loop := os.Getenv("FERRY_CLOOP")
		if loop == "" {
			b.Skip("FERRY_CLOOP names no loop to compare with: scripts/bench.sh compiles it")
		}
		_, port, err := net.SplitHostPort(dial)
		if err != nil {
			b.Fatal(err)
		}
		out, err := exec.Command(loop, port, strconv.Itoa(b.N)).Output()
		if err != nil {
			b.Fatal(err)
		}
		ns, err := strconv.ParseFloat(strings.TrimSpace(string(out)), 64)
		if err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(ns/float64(b.N), "ns/op")
		b.ReportMetric(float64(b.N)/ns*1e9, "requests/s")
	})
	b.Run("run engine", func(b *testing.B) {
		b.ReportAllocs()
		n, err := field.RunRequests(&s.Links[0], &s.Devices[0], field.Target{Dial: dial}, b.N)
		if err != nil || n < b.N {
			b.Fatal(n, err)
		}
		b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "requests/s")
	})
}

// TestRatios runs the engine, the bare loop and the C loop in turns, and holds
// the engine to what is promised of it. It is part of make bench.
func TestRatios(t *testing.T) {
	if os.Getenv("FERRY_FIGURES") == "" || os.Getenv("FERRY_CLOOP") == "" {
		t.Skip("part of make bench")
	}
	// Each turn is of several rounds, so that what the host does besides falls on
	// all three.
	const turns, rounds, n = 10, 2, 50_000
	s, dial := probed(t)
	driver, _, err := field.DriverOf("modbus-tcp")
	if err != nil {
		t.Fatal(err)
	}
	_, port, err := net.SplitHostPort(dial)
	if err != nil {
		t.Fatal(err)
	}
	bareLoop := func() float64 {
		conn, reply := driver.Dial(context.Background(), field.Target{Dial: dial})
		if conn == nil {
			t.Fatal(reply.Sentence)
		}
		defer conn.Close()
		began := time.Now()
		for range n {
			if reply := field.Ask(conn, []block.Range{{Area: "hr", Start: 0, Count: 10}}); !reply.OK() {
				t.Fatal(reply.Sentence)
			}
		}
		return float64(time.Since(began))
	}
	engineLoop := func() float64 {
		began := time.Now()
		if got, err := field.RunRequests(&s.Links[0], &s.Devices[0], field.Target{Dial: dial}, n); err != nil ||
			got < n {
			t.Fatal(got, err)
		}
		return float64(time.Since(began))
	}
	cLoop := func() float64 {
		out, err := exec.Command(os.Getenv("FERRY_CLOOP"), port, strconv.Itoa(n)).Output()
		if err != nil {
			t.Fatal(err)
		}
		c, err := strconv.ParseFloat(strings.TrimSpace(string(out)), 64)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	var ofBare, ofC []float64
	for range turns {
		bare, engine, c := 0.0, 0.0, 0.0
		for range rounds {
			bare, engine, c = bare+bareLoop(), engine+engineLoop(), c+cLoop()
		}
		ofBare, ofC = append(ofBare, bare/engine), append(ofC, c/engine)
	}
	slices.Sort(ofBare)
	slices.Sort(ofC)
	t.Logf("figure: the run engine at %.2f of a bare loop over the same socket code (%.2f to %.2f in %d turns; "+
		"promised: 0.90)", ofBare[turns/2], ofBare[0], ofBare[turns-1], turns)
	t.Logf("figure: the run engine at %.2f of a plain C loop on libmodbus (%.2f to %.2f; promised: 0.95)", ofC[turns/2],
		ofC[0], ofC[turns-1])
	if ofC[turns/2] < 0.95 {
		t.Error("slower than the C loop")
	}
	if ofBare[turns/2] < 0.9 {
		t.Error("slower than 0.9 of the bare loop")
	}
}
