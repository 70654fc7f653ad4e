package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// manyDevices is a site of 10 lines with 51 devices each that are asked by one
// controller a line, and so many points on each device at 1 s.
func manyDevices(points int) *site.Site {
	s := &site.Site{Format: site.Format, Version: site.Version, Name: "Skerry Point Hatchery, all rows"}
	for l := range 10 {
		line := site.Line{ID: fmt.Sprint("l", l), Name: fmt.Sprintf("Row %c network", 'A'+l), Medium: site.Ethernet,
			Network: fmt.Sprintf("198.18.%d.0/24", l)}
		s.Lines = append(s.Lines, line)
		asking := site.Device{ID: fmt.Sprint("plc", l), Name: fmt.Sprintf("Row %c controller", 'A'+l),
			Ports: []site.Port{{Line: line.ID, Host: fmt.Sprintf("198.18.%d.1", l), Protocol: "modbus-tcp"}}}
		s.Devices = append(s.Devices, asking)
		for d := range 51 {
			device := site.Device{ID: fmt.Sprintf("d%d-%d", l, d), Map: "modbus-tcp",
				Name: fmt.Sprintf("%s, tank row %c, position %02d",
					[]string{"Circulation pump drive", "Oxygen and temperature probe", "Level transmitter"}[d%3], 'A'+l,
					d+1),
				Ports: []site.Port{{Line: line.ID, Host: fmt.Sprintf("198.18.%d.%d", l, 10+d), Protocol: "modbus-tcp",
					Settings: protocol.Numbers(map[string]int{"thinkMs": 2})}}}
			for p := range points {
				device.Points = append(device.Points, site.Point{ID: fmt.Sprintf("p%d-%d-%d", l, d, p),
					Name: fmt.Sprintf("Value-%02d", p+1), Address: block.At("hr", uint32(2*p)), Type: value.TypeFloat32,
					Unit: "mg/L", PaceMs: 1000, Access: site.ReadOnly})
			}
			s.Devices = append(s.Devices, device)
			s.Links = append(s.Links, site.Link{ID: "k" + device.ID, Asking: asking.ID, Answering: device.ID,
				Line: line.ID, Protocol: "modbus-tcp", Settings: protocol.Numbers(map[string]int{"timeoutMs": 1000})})
		}
	}
	return s
}

// memory is the resident memory of a process in MB: now, and at most.
func (f *ferry) memory(t testing.TB) (now, most int) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("/proc", fmt.Sprint(f.cmd.Process.Pid), "status"))
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(text)) {
		_, _ = fmt.Sscanf(line, "VmRSS: %d kB", &now)
		_, _ = fmt.Sscanf(line, "VmHWM: %d kB", &most)
	}
	return now / 1000, most / 1000
}

func (f *ferry) post(t testing.TB, path string, body any) {
	t.Helper()
	f.answer(t, path, body, nil)
}

// answer posts, and reads what is answered.
func (f *ferry) answer(t testing.TB, path string, body, into any) {
	t.Helper()
	data, err := json.Marshal(body)
	if err != nil {
		t.Fatal(err)
	}
	request, err := http.NewRequest(http.MethodPost, f.url+path, bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("X-Ferry-Window", "bench")
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		said, _ := io.ReadAll(io.LimitReader(response.Body, 500))
		t.Fatalf("%s: %s: %s", path, response.Status, said)
	}
	if into == nil {
		return
	}
	if err := json.NewDecoder(response.Body).Decode(into); err != nil {
		t.Fatalf("%s: %v", path, err)
	}
}

// TestManyDevices measures a site of 510 devices and 50 000 points at 1 s, on
// every page while values run. It is part of make bench.
func TestManyDevices(t *testing.T) {
	if os.Getenv("FERRY_FIGURES") == "" {
		t.Skip("FERRY_FIGURES is not set: this measures for minutes")
	}
	f := start(t, "serve", t.TempDir())
	f.post(t, "/api/file/site.json", json.RawMessage(mustJSON(t, manyDevices(98))))
	b := f.open(t, "/checkout/record")
	time.Sleep(3 * time.Second)
	before, _ := f.memory(t)
	t.Logf("figure: memory before the run: %d MB", before)
	b.to("/points/d9-50")
	b.sees("Value-01")
	begin := time.Now()
	f.post(t, "/api/run/start", map[string]any{"links": []string{}})
	b.until("first values",
		`/\d\.\d/.test([...document.querySelectorAll("[data-now]")].map(e => e.innerText).join(" "))`)
	began := time.Since(begin)
	t.Logf("figure: start of the run to the first values shown: %.2f s (promised: under 1 s)", began.Seconds())
	if began > time.Second {
		t.Errorf("the first values come after %v", began)
	}
	const watch = `window.watcher?.disconnect(); window.tasks = []; window.watcher = new PerformanceObserver(l => tasks.push(...l.getEntries().map(e => e.duration))); watcher.observe({ type: "longtask" }); true`
	for _, path := range []string{"/lines", "/points/d9-50", "/timetable", "/crossings", "/checkout", "/traffic"} {
		b.to(path)
		time.Sleep(4 * time.Second) // what drawing it first takes is told apart
		held := atLeastOnce(func() bool {
			b.does(watch)
			time.Sleep(8 * time.Second)
			while := js[float64](b, `Math.max(0, ...tasks)`)
			count := js[float64](b, `tasks.length`)
			t.Logf("figure: %s: longest task while values run %.0f ms, %.0f of them over 50 ms in 8 s (promised: none)",
				path, while, count)
			return while <= 50
		})
		if !held {
			t.Errorf("%s: tasks of more than 50 ms while values run, each time", path)
		}
		b.shot("/tmp/many" + strings.ReplaceAll(path, "/", "-") + ".png")
	}
	now, most := f.memory(t)
	t.Logf("figure: memory while it runs: %d MB, at most %d MB (promised: 250 MB)", now, most)
	if now > 250 {
		t.Errorf("%d MB", now)
	}
}

func mustJSON(t testing.TB, v any) []byte {
	t.Helper()
	data, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return data
}
