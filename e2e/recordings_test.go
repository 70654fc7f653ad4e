package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ferry/internal/core/capture"
	"ferry/internal/core/finding"
	"ferry/internal/core/rehearsal"
	"ferry/internal/files"
	frames "ferry/internal/wire/modbus"
)

// mailed is a recording that somebody made at the hatchery: the controller asks the
// oxygen skid for more than its map holds, and a station that is not there.
func mailed(t testing.TB) string {
	t.Helper()
	stage := rehearsal.New()
	c := stage.Dial("192.0.2.10", "192.0.2.30:502")
	id := uint16(0)
	ask := func(unit byte, from uint16, n int, answer ...byte) {
		id++
		request := frames.TCP.AppendFrame(nil, id, unit, frames.ReadPDU(nil, "hr", from, n)...)
		if answer == nil {
			c.Say(capture.Asker, request)
		} else {
			c.Talk(request, frames.TCP.AppendFrame(nil, id, unit, answer...), 4*time.Millisecond)
		}
		stage.Wait(200 * time.Millisecond)
	}
	for i := range 300 {
		ask(13, 0, 2, 3, 4, 1, byte(i), 0, 7)
		if i%10 == 3 {
			ask(13, 0, 30, 0x83, 2)
		}
		if i%10 == 6 {
			ask(41, 0, 2)
		}
	}
	c.Close(capture.Asker)
	path := filepath.Join(t.TempDir(), "tank row, by mail.pcapng")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := files.WriteCapture(f, stage.Packets); err != nil {
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	return path
}

// TestRecording: a mailed recording is opened, what is wrong is named, and the guilty
// bytes are three presses away; it is looked through, handed out and removed.
func TestRecording(t *testing.T) {
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/traffic")
	b.press("Recordings")
	b.sees("None is kept yet.")
	bad := filepath.Join(t.TempDir(), "letter.txt")
	if err := os.WriteFile(bad, []byte("Dear colleague,\nthe line does not work.\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	input := chromedp.CSS(`input[aria-label="File with a recording"]`)
	b.run(chromedp.SetUploadFiles(input, []string{bad}))
	b.sees("no recording of packets")
	b.press("Recordings")
	b.run(chromedp.SetUploadFiles(input, []string{mailed(t)}))
	b.sees("360 exchanges")
	b.until("both faults are named, and nothing else", `
		[...document.querySelectorAll("[data-finding]")].map(e => e.dataset.finding).join() ===
			"exception-address,no-answer"`)
	b.until("the ladder is there", `document.querySelectorAll("[data-exchange]").length > 5`)
	b.click(`[data-finding="exception-address"]`)
	b.until("the guilty bytes",
		`document.querySelector("[data-bytes=answer]")?.innerText.includes("illegal data address")`)
	b.sees("not all of 40003 to 40030")
	b.press("binary")
	b.until("in binary", `document.querySelector("[data-bytes=answer]").innerText.includes("10000011")`)
	if dir := os.Getenv("FERRY_SHOTS"); dir != "" {
		b.shot(filepath.Join(dir, "recording.png"))
	}
	b.press("Close")
	b.press("Only what is wrong")
	b.sees("60 exchanges")
	b.press("Who asks whom")
	b.until("who asks whom", `document.querySelectorAll("[data-talk]").length === 2`)
	b.click(`[data-talk$=" 13"] td:nth-child(2) button`)
	b.does(`[...document.querySelectorAll('[aria-label="What it is asked for"] button')]
		.find(e => e.innerText.includes("×30")).click()`)
	b.sees("30 exchanges")
	b.until("the place has an address", `location.search.includes("offset=0") && location.search.includes("station=13")`)
	b.to(js[string](b, "location.pathname + location.search")) // as a colleague opens it
	b.sees("30 exchanges")

	id := strings.TrimPrefix(js[string](b, "location.pathname"), "/traffic/recordings/")
	table := f.text(t, "/api/recordings/"+id+"/file.csv?station=41")
	if n := strings.Count(table, "\r\n"); n != 31 || !strings.Contains(table, "no answer") {
		t.Errorf("%d rows: %.300s", n, table)
	}
	var handed struct{ Exchanges []json.RawMessage }
	if err := json.Unmarshal([]byte(f.text(t, "/api/recordings/"+id+"/file.json")), &handed); err != nil ||
		len(handed.Exchanges) != 360 {
		t.Errorf("%d exchanges, %v", len(handed.Exchanges), err)
	}
	// What a register read over time, as it may be meant.
	b.to("/traffic/recordings/" + id + "?view=talks")
	b.click(`[data-talk$=" 13"] td:nth-child(2) button`)
	b.does(`[...document.querySelectorAll('[aria-label^="Values of"]')].find(e => e.ariaLabel.includes("×2")).click()`)
	b.sees("300 readings, from 256 to 511")
	b.choose("Read as", "float32")
	b.until("as a fraction", `/e-/.test(document.querySelector("[data-history]").innerText)`)

	// What was heard becomes a device of the site, and is judged against it.
	b.to("/traffic/recordings/" + id + "?view=learned")
	b.until("the device that answers", `document.querySelectorAll("[data-learned]").length === 1`)
	b.press("192.0.2.30:502, number 13")
	b.until("its points", `document.querySelectorAll("[data-guess]").length === 2`)
	b.press("Add 1 device to the site")
	b.sees("in the site already: Unit 13 at 192.0.2.30")
	b.press("Judge again")
	b.sees("Unit 41 is in no plan")

	b.to("/traffic/recordings")
	b.press("Remove")
	b.until("one is left", `document.querySelectorAll("[data-recording]").length === 1`)

	// What is large goes to the disk as it comes.
	before, _ := f.memory(t)
	large := filepath.Join(t.TempDir(), "large.pcapng")
	if err := os.WriteFile(large, slices.Concat([]byte(f.text(t, "/api/file/traffic.pcapng")), make([]byte, 300<<20)),
		0o644); err != nil {
		t.Fatal(err)
	}
	b.run(chromedp.SetUploadFiles(input, []string{large}))
	b.sees("the recording cannot be read")
	if _, most := f.memory(t); most > before+150 {
		t.Errorf("with a recording of 300 MB the memory went from %d to %d MB", before, most)
	}
}

// TestRelay: Ferry stands between a reader of another hand and a device of the bench, and
// what passed is kept and judged.
func TestRelay(t *testing.T) {
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/traffic/relays")
	b.fill("Callers connect to", "192.0.2.9:4001")
	b.press("Start the relay")
	b.sees("On the bench a relay stays on this machine.")
	b.fill("Callers connect to", "127.0.0.1:0")
	b.press("Start the relay")
	b.until("it listens", `document.querySelector("[data-relay] .mono")?.innerText.startsWith("127.0.0.1:")`)
	at := js[string](b, `document.querySelector("[data-relay] .mono").innerText`)
	for range 20 {
		out, err := peerOutput(binary(t), "read", "modbus-tcp://"+at+"?unit=1", "40001:uint16")
		if err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	b.sees("20 so far")
	b.press("Have the bench ask")
	b.until("the bench asks through it", `/2[1-9] so far/.test(document.querySelector("[data-relay='1']").innerText)`)
	b.choose("Line", "rowa")
	b.press("Listen")
	b.sees("Nothing is heard yet")
	f.post(t, "/api/run/start", map[string]any{"links": []string{"lss-do13", "lss-ph22"}})
	if dir := os.Getenv("FERRY_SHOTS"); dir != "" {
		time.Sleep(2 * time.Second)
		b.shot(filepath.Join(dir, "relays.png"))
	}
	b.until("the line is heard", `document.querySelectorAll("[data-relay]")[1]?.innerText.match(/\d{3} octets heard/)`)
	f.post(t, "/api/run/stop", map[string]any{})
	b.click("[data-relay='2'] button")
	b.until("both devices are known from what was heard",
		`["DO probe 13", "pH 22"].every(n => document.querySelector("main").innerText.includes(n))`)
	b.to("/traffic/relays")
	b.press("Keep as a recording")
	b.until("who asks is not in the plan", `document.querySelector("[data-finding='unknown-asker']")`)
	b.to("/traffic/relays")
	b.press("Plant")
	b.press("Go to the plant")
	b.until("it has ended", `!document.querySelector("[data-relay]")`)
	b.press("Start the relay")
	b.sees("writing is locked")
}

func (f *ferry) text(t testing.TB, path string) string {
	t.Helper()
	body, err := io.ReadAll(f.fetch(t, path).Body)
	if err != nil {
		t.Fatal(err)
	}
	return string(body)
}

// played is something that the bench plays, and the code by which it is to be found.
type played struct {
	device, kind string
	value        int
	code         string // or one of several: what noise spoils is a matter of chance
}

// TestFoundTwice: what the bench plays is found by its name live, and again in what is
// kept of it.
func TestFoundTwice(t *testing.T) {
	t.Parallel()
	foundTwice(t, false, []played{
		{"do11", "stop", 0, "port-refused"}, {"do12", "off", 0, "host-silent"}, {"ioa", "refuse", 0, "connection-dropped"},
		{"pump1", "silent", 0, "no-answer"}, {"skid", "delay", 800, "late-answer"}, {"uv", "drop", 0, "connection-dropped"},
		{"gate", "garbage", 0, "answer-mismatch"}, {"level31", "short", 0, "answer-mismatch"},
		{"feeder1", "long", 0, "answer-mismatch"}, {"flow61", "transaction", 0, "answer-mismatch"},
		{"ph21", "exception", 6, "busy"}, {"do13", "parity", 0, "wrong-serial-settings"},
		{"do15", "twin", 0, "duplicate-unit"},
		{"do16", "noise", 60, "check-failed noise"}, {"ph22", "short", 0, "frame-torn"}, {"circ1", "split", 120, "in-pieces"},
		{"circ2", "number", 99, "answer-mismatch"}, {"circ3", "exception", 2, "exception-address"},
		{"feeder2", "off", 0, "no-answer"},
	})
}

// TestLinesFoundTwice: what befalls a whole serial line is one finding of the line.
func TestLinesFoundTwice(t *testing.T) {
	t.Parallel()
	f := foundTwice(t, false, []played{{"rowa", "echo", 0, "echo"}, {"pumpbay", "cut", 0, "line-silent"}})
	// Another who asks is heard live; what Ferry keeps is its own exchanges alone.
	t.Cleanup(func() {
		if t.Failed() {
			t.Logf("found instead: %s", f.text(t, "/api/findings"))
		}
	})
	f.post(t, "/api/bench/fault", map[string]any{"device": "rowa", "fault": map[string]any{"kind": "asked", "value": 300}})
	eventually(t, "another asker to be found", func() bool {
		return strings.Contains(f.text(t, "/api/findings"), `"code":"unknown-asker"`)
	})
}

// TestUnitsFoundTwice: and what befalls single devices of a serial line besides. One that is
// set to twice the rate makes nothing out of what it hears, and stays silent.
func TestUnitsFoundTwice(t *testing.T) {
	t.Parallel()
	foundTwice(t, false, []played{
		{"do13", "baud", 38400, "no-answer"}, {"do14", "garbage", 0, "check-failed noise wrong-serial-settings frame-torn"},
		{"do15", "long", 0, "answer-mismatch noise frame-torn check-failed"},
		{"circ1", "lost", 60, "frame-torn check-failed noise"},
		{"circ2", "delay", 800, "late-answer no-answer"}, {"circ3", "exception", 4, "exception-device"},
	})
}

// TestFamiliesFoundTwice: so it is with other families, a copy of the device for each fault.
func TestFamiliesFoundTwice(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	var site map[string]any
	if err := json.Unmarshal([]byte(f.text(t, "/api/file/site.json")), &site); err != nil {
		t.Fatal(err)
	}
	devices, links := site["devices"].([]any), site["links"].([]any)
	night := map[string]any{"id": "edge", "name": "Night watch", "map": "sparkplug",
		"ports": []any{map[string]any{"line": "plantnet", "host": "192.0.2.81", "protocol": "sparkplug"}},
		"points": []any{map[string]any{"id": "edge-1", "name": "Watch", "address": "metric=skerry/night/tank:Watch",
			"type": "float32", "access": "r"}}}
	watch := map[string]any{"id": "lss-edge", "asking": "lss", "answering": "edge", "line": "plantnet",
		"protocol": "sparkplug", "settings": map[string]any{"group": "skerry", "node": "gateway"}}
	feed := map[string]any{"id": "feed", "name": "Feed controller", "map": "enip",
		"ports": []any{map[string]any{"line": "plantnet", "host": "192.0.2.71", "protocol": "enip"}},
		"points": []any{map[string]any{"id": "feed-1", "name": "Turns", "address": "tag=Auger.Turns", "type": "int32",
			"access": "r",
			"paceMs": 1000}, map[string]any{"id": "feed-2", "name": "Level", "address": "tag=Level", "type": "float32",
			"access": "r",
			"paceMs": 1000}}}
	auger := map[string]any{"id": "lss-feed", "asking": "lss", "answering": "feed", "line": "plantnet", "protocol": "enip",
		"settings": map[string]any{}}
	hall := map[string]any{"id": "hall", "name": "Hall supervisor", "map": "opc.tcp",
		"ports": []any{map[string]any{"line": "plantnet", "host": "192.0.2.91", "protocol": "opc.tcp"}},
		"points": []any{map[string]any{"id": "hall-1", "name": "Oxygen", "address": "node=nsu=urn:skerry:hall;s=Tank.Oxygen",
			"type": "float32", "access": "r", "paceMs": 500}, map[string]any{"id": "hall-2", "name": "Level",
			"address": "node=nsu=urn:skerry:hall;s=Tank.Level", "type": "float32", "access": "r", "paceMs": 500}}}
	asks := map[string]any{"id": "lss-hall", "asking": "lss", "answering": "hall", "line": "plantnet",
		"protocol": "opc.tcp",
		"settings": map[string]any{"keepAlive": 3}}
	devices = append(slices.Clone(devices), night, feed, hall)
	links = append(slices.Clone(links), watch, auger, asks)
	list := []played{
		{"fh", "silent", 0, "no-answer"}, {"fh", "garbage", 0, "answer-mismatch"}, {"fh", "short", 0, "answer-mismatch"},
		{"fh", "long", 0, "answer-mismatch"}, {"fh", "drop", 0, "connection-dropped"}, {"fh", "delay", 800, "late-answer"},
		{"fh", "refuse", 0, "connection-dropped"}, {"fh", "slot", 3, "refused"}, {"fh", "deaf", 3, "no-answer"},
		{"fh", "permission", 0, "refused"}, {"fh", "unloaded", 12, "refused"}, {"fh", "layout", 12, "refused"},
		{"fh", "shortened", 16, "refused"}, {"fh", "items", 0, "answer-mismatch"}, {"fh", "reference", 0, "answer-mismatch"},
		{"fh", "endless", 0, "answer-mismatch"}, {"fh", "pieces", 40, "pieces"}, {"fh", "dozes", 400, "idle-close"},
		{"fh", "slow-first", 1500, "slow-first"},
		{"cloud", "user", 0, "refused"}, {"cloud", "rights", 0, "refused"}, {"cloud", "full", 0, "connection-dropped"},
		{"cloud", "takeover", 0, "connection-dropped"}, {"cloud", "drop", 0, "connection-dropped"},
		{"cloud", "silent", 0, "no-answer"}, {"cloud", "garbage", 0, "answer-mismatch"},
		{"cloud", "delay", 4000, "no-answer"},
		{"cloud", "payload", 0, "unreadable-report"}, {"cloud tls", "stranger", 0, "tls-failed"},
		{"cloud tls", "expired", 0, "tls-failed"}, {"cloud tls", "name", 0, "tls-failed"},
		{"cloud tls", "callers", 0, "tls-failed"},
		{"edge", "gap", 0, "sequence-gap"}, {"edge", "unborn", 0, "data-before-birth"}, {"edge", "clock", 0, "clocks-apart"},
		{"edge", "death", 0, "sender-gone"}, {"edge primaryHost", "hostless", 0, "host-absent"},
		{"fh", "protected", 0, "refused"}, {"auger", "setup", 0, "refused"}, {"cloud lively", "ghost", 0, "retained-only"},
		{"feed", "retyped", 0, "type-differs"},
		{"feed", "session", 0, "connection-limit"}, {"feed", "renamed", 0, "refused"},
		{"feed", "context", 0, "answer-mismatch"},
		{"feed", "silent", 0, "no-answer"}, {"feed", "garbage", 0, "answer-mismatch"},
		{"feed", "short", 0, "answer-mismatch"},
		{"feed", "drop", 0, "connection-dropped"}, {"feed", "delay", 1200, "late-answer"}, {"feed", "pieces", 40, "pieces"},
		{"feed connected", "connections", 0, "connection-limit"},
		{"hall", "sessions", 0, "connection-limit"}, {"hall", "password", 0, "refused"},
		{"hall", "quiet", 0, "silent-subscription"}, {"hall", "mute", 0, "silent-subscription"},
		{"hall", "slow", 0, "granted-less"}, {"hall", "uncertain", 0, "source-doubtful"}, {"hall", "vanished", 0, "refused"},
		{"hall", "case", 0, "refused"}, {"hall", "silent", 0, "no-answer"}, {"hall", "garbage", 0, "answer-mismatch"},
		{"hall", "delay", 6000, "no-answer"}, {"hall", "drop", 0, "answer-mismatch connection-dropped"},
		{"hall", "later", 0, "names-renumbered"},
	}
	copyFor(t, site, devices, links, list, "192.0.2.", func(with string, link, port map[string]any) {
		switch with {
		case "tls":
			link["settings"].(map[string]any)["tls"] = true
			port["settings"].(map[string]any)["tls"] = true
		case "connected":
			link["settings"].(map[string]any)["over"] = "connected"
		case "lively": // that the broker still answers is what tells it from a way that is gone
			link["settings"].(map[string]any)["keepAliveS"] = 5
		case "primaryHost":
			link["settings"].(map[string]any)["primaryHost"] = "scada"
		}
	})
	f.post(t, "/api/file/site.json", site)
	f.foundTwice(t, false, list)
}

// copyFor puts a copy of a device and of its link into a site for each fault, as the words
// behind its name say.
func copyFor(t *testing.T, site map[string]any, devices, links []any, list []played, net string,
	as func(with string, link, port map[string]any)) {
	t.Helper()
	of := func(all []any, id, key string) map[string]any { // a copy
		at := slices.IndexFunc(all, func(d any) bool { return d.(map[string]any)[key] == id })
		var again map[string]any
		text, err := json.Marshal(all[at])
		if err == nil {
			err = json.Unmarshal(text, &again)
		}
		if err != nil {
			t.Fatal(err)
		}
		return again
	}
	for i := range list {
		c := &list[i]
		id, with, _ := strings.Cut(c.device, " ")
		device, link := of(devices, id, "id"), of(links, id, "answering")
		c.device = fmt.Sprintf("%s-copy%d", id, i)
		device["id"], device["name"] = c.device, fmt.Sprintf("%s %d", device["name"], i)
		link["id"], link["answering"] = "lss-"+c.device, c.device
		port := device["ports"].([]any)[0].(map[string]any)
		port["host"] = fmt.Sprintf("%s%d", net, 120+i)
		for _, p := range device["points"].([]any) {
			point := p.(map[string]any)
			point["id"] = fmt.Sprintf("%s-copy%d", point["id"], i)
			delete(point, "confirms")
		}
		as(with, link, port)
		site["devices"], site["links"] = append(site["devices"].([]any), device), append(site["links"].([]any), link)
	}
}

// TestCyclicFoundTwice: so it is with cyclic connections, whose packets go beside those of
// TCP.
func TestCyclicFoundTwice(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	var site map[string]any
	if err := json.Unmarshal([]byte(f.text(t, "/api/file/site.json")), &site); err != nil {
		t.Fatal(err)
	}
	list := []played{
		{"wiper", "jitter", 100, "interval-jitter"}, {"wiper", "mute", 0, "cyclic-timeout"},
		{"wiper many", "swallowed", 0, "multicast-lost"},
		{"wiper headed", "idle", 0, "never-run"}, {"wiper", "header", 0, "size-differs"},
		{"wiper", "resized", 4, "size-differs"},
		{"wiper", "regiven", 4, "size-differs"}, {"wiper", "connections", 0, "connection-limit"},
		{"wiper", "owned", 0, "two-writers"},
		{"wiper", "unrestarted", 0, "refused"}, {"wiper", "set-up", 0, "refused"},
		{"wiper", "session", 0, "connection-limit"},
		{"wiper keyed", "rekeyed", 0, "key-differs"}, {"wiper", "slow-cycle", 500, "pace-not-held"},
		{"wiper", "context", 0, "answer-mismatch"},
		{"wiper", "garbage", 0, "answer-mismatch"}, {"wiper", "silent", 0, "no-answer"},
	}
	copyFor(t, site, slices.Clone(site["devices"].([]any)), slices.Clone(site["links"].([]any)), list, "198.51.100.",
		func(with string, link, port map[string]any) {
			asks, answers := link["settings"].(map[string]any), port["settings"].(map[string]any)
			switch with {
			case "many":
				asks["inCast"] = "many"
			case "headed":
				asks["inFormat"], answers["inHead"] = "header", true
			case "keyed":
				asks["key"], asks["product"] = "exact", 3
			}
		})
	f.post(t, "/api/file/site.json", site)
	f.foundTwice(t, false, list)
}

// TestFrozenFoundTwice: a device that answers and whose values have stopped is found once it
// is known how they move, and again in what is kept.
func TestFrozenFoundTwice(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	f.post(t, "/api/run/start", map[string]any{"links": []string{"lss-level31", "lss-wave"}})
	time.Sleep(12 * time.Second)
	for _, device := range []string{"level31", "wave"} {
		f.post(t, "/api/bench/fault", map[string]any{"device": device, "fault": map[string]any{"kind": "freeze"}})
	}
	plan := filepath.Join(t.TempDir(), "site.json")
	if err := os.WriteFile(plan, []byte(f.text(t, "/api/file/site.json")), 0o644); err != nil {
		t.Fatal(err)
	}
	frozen := func(list []finding.Finding, device string) bool {
		return slices.ContainsFunc(list, func(g finding.Finding) bool {
			return (g.Code == "device-frozen" || g.Code == "frozen-value") && (device == "" || g.Subject.Device == device)
		})
	}
	deadline := time.Now().Add(90 * time.Second)
	for _, device := range []string{"level31", "wave"} {
		for {
			var live []finding.Finding
			if err := json.Unmarshal([]byte(f.text(t, "/api/findings")), &live); err != nil {
				t.Fatal(err)
			}
			if frozen(live, device) {
				break
			}
			if time.Now().After(deadline) {
				t.Fatalf("%s is not found to be frozen within 90 s", device)
			}
			time.Sleep(time.Second)
		}
	}
	kept := filepath.Join(t.TempDir(), "kept.pcapng")
	for {
		if err := os.WriteFile(kept, []byte(f.text(t, "/api/file/traffic.pcapng?link=lss-level31")), 0o644); err != nil {
			t.Fatal(err)
		}
		out, _ := peerOutput(binary(t), "diagnose", kept, "--json", "--site", plan) // findings are no success
		var got struct{ Findings []finding.Finding }
		if err := json.Unmarshal([]byte(out), &got); err == nil && frozen(got.Findings, "") {
			return
		} else if err != nil || time.Now().After(deadline) {
			t.Fatalf("in what is kept: %v, %.600s", err, out)
		}
		time.Sleep(2 * time.Second)
	}
}

// writes writes to the first point of a device that can be written, and reports whether the
// device was asked.
func (f *ferry) writes(t *testing.T, device string) bool {
	t.Helper()
	var points struct {
		Columns []string
		Rows    []struct {
			ID    string
			Cells []string
		}
	}
	if err := json.Unmarshal([]byte(f.text(t, "/api/devices/"+device+"/points")), &points); err != nil {
		t.Fatal(err)
	}
	access := slices.Index(points.Columns, "access")
	at := slices.IndexFunc(points.Rows, func(r struct {
		ID    string
		Cells []string
	}) bool {
		return r.Cells[access] == "rw"
	})
	var order struct{ Token string }
	f.answer(t, "/api/write/prepare", map[string]any{"point": points.Rows[at].ID, "text": "1"}, &order)
	var result struct{ State, Sentence string }
	f.answer(t, "/api/write", map[string]any{"token": order.Token}, &result)
	if !strings.Contains(result.Sentence, "did not take it") {
		t.Log(result.Sentence)
		return false
	}
	return true
}

// TestHabitsFoundTwice: devices that are odd and well are named so, live and in what is
// kept, with what can be noted of them, and accused of nothing.
func TestHabitsFoundTwice(t *testing.T) {
	t.Parallel()
	f := foundTwice(t, true, []played{
		{"do11", "hangs-up", 0, "hangs-up"}, {"do12", "dozes", 400, "idle-close"}, {"ioa", "slow-first", 1500, "slow-first"},
		{"pump1", "pieces", 40, "pieces"}, {"skid", "odd-unit", 255, "answers-as"},
		{"gate", "no-transaction", 0, "no-transaction"}, {"feeder1", "silent-unknown", 0, "silent-function"},
		{"auger", "singly", 0, "one-question"}, {"fh", "smaller", 0, "small-messages"}, {"do13", "fewer", 16, "bears-less"},
		{"do14", "hole", 0, "bears-less"},
	})
	b := f.open(t, "/traffic")
	b.until("a habit is offered to be noted", `document.querySelector("[data-fix='hangs-up']")`)
	b.click("[data-fix='hangs-up']")
	b.sees("Noted in the limits of DO probe 11.")
	b.until("it is not said again", `!document.querySelector("[data-finding='hangs-up']")`)

	// One client at a time: a second waits at a relay, and what passed says why.
	f.post(t, "/api/bench/fault", map[string]any{"device": "level31", "fault": map[string]any{"kind": "one-client"}})
	f.post(t, "/api/run/stop", map[string]any{})
	f.post(t, "/api/relays", map[string]any{"near": map[string]any{"how": "listen", "at": "127.0.0.1:0"},
		"far": map[string]any{"how": "call", "at": ""}, "to": "", "link": "lss-level31"})
	var at struct {
		Relays []struct{ Near struct{ At string } }
	}
	if err := json.Unmarshal([]byte(f.text(t, "/api/relays")), &at); err != nil || len(at.Relays) != 1 {
		t.Fatalf("%v: %+v", err, at)
	}
	first := dialled(t, at.Relays[0].Near.At)
	second := first // it comes once the first is served
	for i := range 12 {
		if i == 1 {
			second = dialled(t, at.Relays[0].Near.At)
		}
		ask := frames.TCP.AppendFrame(nil, uint16(i), 1, frames.ReadPDU(nil, "ir", 0, 2)...)
		if _, err := first.Write(ask); err != nil {
			t.Fatal(err)
		}
		if n, err := first.Read(make([]byte, 100)); err != nil || n < 9 {
			t.Fatalf("%d octets, %v", n, err)
		}
		if i > 2 {
			if _, err := second.Write(ask); err != nil {
				t.Fatal(err)
			}
		}
		time.Sleep(300 * time.Millisecond)
	}
	b.to("/traffic/relays")
	b.press("Keep as a recording")
	b.until("it is named", `document.querySelector("[data-finding='connection-limit']")?.dataset.severity === "note"`)
	b.press("Note it in the limits")
	b.sees("Noted in the limits of Level 31.")
}

func dialled(t testing.TB, at string) net.Conn {
	t.Helper()
	c, err := net.Dial("tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Close() })
	if err := c.SetDeadline(time.Now().Add(20 * time.Second)); err != nil {
		t.Fatal(err)
	}
	return c
}

// foundTwice plays what is to be found, and looks for it live and in what is kept; habits
// are to be notes, and their devices are to be accused of nothing.
func foundTwice(t *testing.T, habits bool, list []played) *ferry {
	t.Helper()
	f := start(t, "demo", t.TempDir())
	f.foundTwice(t, habits, list)
	return f
}

func (f *ferry) foundTwice(t *testing.T, habits bool, list []played) {
	t.Helper()
	for _, c := range list {
		if c.kind != "later" {
			f.post(t, "/api/bench/fault", map[string]any{"device": c.device,
				"fault": map[string]any{"kind": c.kind, "value": c.value}})
		}
	}
	f.post(t, "/api/run/start", map[string]any{})
	is := func(g *finding.Finding, code string) bool {
		return slices.Contains(strings.Fields(code), g.Code) && (!habits || g.Severity == finding.Note)
	}
	live := func() (found []finding.Finding) {
		if err := json.Unmarshal([]byte(f.text(t, "/api/findings")), &found); err != nil {
			t.Fatalf("%v: %.300s", err, f.text(t, "/api/findings"))
		}
		return found
	}
	var site struct {
		Links []struct{ ID, Answering string }
	}
	if err := json.Unmarshal([]byte(f.text(t, "/api/file/site.json")), &site); err != nil {
		t.Fatal(err)
	}
	link := func(device string) string { // or the line
		at := slices.IndexFunc(site.Links, func(l struct{ ID, Answering string }) bool { return l.Answering == device })
		if at < 0 {
			return "line=" + device
		}
		return "link=" + site.Links[at].ID
	}
	for _, c := range list {
		if c.kind == "protected" || c.kind == "setup" { // it shows on writes alone
			eventually(t, "a write to "+c.device+" to be sent", func() bool { return f.writes(t, c.device) })
		}
		if c.kind == "later" { // what it was before has to be known
			f.post(t, "/api/bench/fault", map[string]any{"device": c.device, "fault": map[string]any{"kind": "shift"}})
		}
		if c.code == "silent-function" { // it is asked who it is in a try alone
			f.post(t, "/api/links/"+strings.TrimPrefix(link(c.device), "link=")+"/try", map[string]any{})
		}
		eventually(t, c.kind+" of "+c.device+" to be found as "+c.code, func() bool {
			return slices.ContainsFunc(live(), func(g finding.Finding) bool {
				return is(&g, c.code) && (g.Subject.Device == c.device || g.Subject.ID == c.device)
			})
		})
	}
	plan := filepath.Join(t.TempDir(), "site.json")
	if err := os.WriteFile(plan, []byte(f.text(t, "/api/file/site.json")), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, c := range list {
		// Each is found in what was kept of its own link.
		kept, accused := filepath.Join(t.TempDir(), c.device+".pcapng"), ""
		eventually(t, c.kind+" of "+c.device+" to be found as "+c.code+" in what is kept", func() bool {
			data := f.text(t, "/api/file/traffic.pcapng?"+link(c.device))
			if err := os.WriteFile(kept, []byte(data), 0o644); err != nil {
				t.Fatal(err)
			}
			args := []string{"diagnose", kept, "--json"}
			if slices.Contains([]string{"unreadable-report", "never-run", "type-differs"},
				c.code) { // which type it is to be is in the plan alone
				args = append(args, "--site", plan)
			}
			out, _ := peerOutput(binary(t), args...) // findings are no success
			var got struct{ Findings []finding.Finding }
			if err := json.Unmarshal([]byte(out), &got); err != nil {
				t.Fatalf("%s: %v in %.300s", c.device, err, out)
			}
			accused = ""
			for _, g := range got.Findings {
				if habits && g.Severity != finding.Note {
					accused = g.Code + ": " + g.Sentence
				}
			}
			return slices.ContainsFunc(got.Findings, func(g finding.Finding) bool { return is(&g, c.code) })
		})
		if accused != "" {
			t.Errorf("%s of %s: what is kept accuses it: %s", c.kind, c.device, accused)
		}
		for _, g := range live() {
			if habits && g.Subject.Device == c.device && g.Where == "traffic" && g.Severity != finding.Note {
				t.Errorf("%s of %s: it is accused: %s: %s", c.kind, c.device, g.Code, g.Sentence)
			}
		}
	}
}
