package main

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"ferry/internal/bench"
	"ferry/internal/core/block"
	"ferry/internal/core/site"
)

// siteFile writes a site to a file.
func siteFile(t *testing.T, s *site.Site) string {
	t.Helper()
	data, err := json.Marshal(s)
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "site.json")
	if err := os.WriteFile(path, data, 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

// safeBuffer is a buffer that is written and read at once.
type safeBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *safeBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *safeBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// TestRunWithoutWindows: the demo runs without windows, tells its health and its
// figures, logs what changes as JSON, and ends in order when it is told to.
func TestRunWithoutWindows(t *testing.T) {
	probe, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	at := probe.Addr().String()
	_ = probe.Close()
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	var logs safeBuffer
	ended := make(chan int, 1)
	go func() {
		ended <- run(ctx, []string{"run", siteFile(t, bench.Demo()), "--data", t.TempDir(), "--watch", at}, io.Discard, &logs)
	}()
	ask := func(path string) (int, string) {
		response, err := http.Get("http://" + at + path)
		if err != nil {
			return 0, err.Error()
		}
		defer response.Body.Close()
		data, err := io.ReadAll(response.Body)
		if err != nil {
			t.Fatal(err)
		}
		return response.StatusCode, string(data)
	}
	wait := func(what string, until func() bool) {
		t.Helper()
		for deadline := time.Now().Add(20 * time.Second); !until(); time.Sleep(50 * time.Millisecond) {
			if time.Now().After(deadline) {
				t.Fatalf("not within 20 s: %s; %s", what, logs.String())
			}
		}
	}
	wait("all crossings to carry", func() bool {
		code, body := ask("/health")
		return code == 200 && strings.Contains(body, `"crossings":{"carrying":66,"waiting":1}`)
	})
	_, figures := ask("/metrics")
	for _, want := range []string{`ferry_crossings{state="carrying"} 66`, `ferry_clients{device="panels"} 0`,
		`ferry_crossing_values_total{crossing="x-temp",result="carried"} `, "ferry_value_had_seconds_bucket{le=\"0.002\"}"} {
		if !strings.Contains(figures, want) {
			t.Errorf("the figures lack %s", want)
		}
	}
	wait("the log to tell of a crossing", func() bool {
		return strings.Contains(logs.String(), `"msg":"crossing","id":"x-temp","state":"carrying"`)
	})
	stop()
	select {
	case code := <-ended:
		if code != exitFine || !strings.Contains(logs.String(), `"msg":"stopping"`) {
			t.Errorf("it ends with %d; %s", code, logs.String())
		}
	case <-time.After(20 * time.Second):
		t.Fatal("it does not end")
	}
	if code, _, said := do(t, "run", siteFile(t, bench.Demo()), "--data", t.TempDir(), "--release"); code != exitUsage ||
		!strings.Contains(said, "--release is for --plant") {
		t.Errorf("--release without --plant: %d, %s", code, said)
	}
}

// TestCrossingsCheck: what is wrong with the crossings of a file is said, with the
// ways out.
func TestCrossingsCheck(t *testing.T) {
	s := bench.Demo()
	if code, out, _ := do(t, "crossings", "check", siteFile(t, s)); code != exitFound ||
		!strings.Contains(out, "67 crossings, 1 finding\n") ||
		!strings.Contains(out, "41 of the points that Concentrator serves") {
		t.Errorf("the demo: %d, %s", code, out)
	}
	s.Device("gate").Points = append(s.Device("gate").Points, site.Point{ID: "new", Name: "Total", Type: "int16",
		Address: block.At("hr", 300), Access: site.ReadWrite, Unit: "l", PaceMs: 1000})
	high := 90_000.0
	_, from := s.Point("skid-05")
	from.Low, from.High = new(float64), &high
	s.Crossings = append(s.Crossings, site.Crossing{ID: "x-new", From: "skid-05", To: "new"})
	code, out, _ := do(t, "crossings", "check", siteFile(t, s))
	for _, want := range []string{"can arrive as 90 000, and a int16 at the target stops at 32 767",
		"m³ and Total in l, and the number is carried as it is", "way out: m³ → l (nothing lost)", "way out: float64 at"} {
		if !strings.Contains(out, want) {
			t.Errorf("it does not say %q: %s", want, out)
		}
	}
	if code != exitFound {
		t.Errorf("it ends with %d", code)
	}
}
