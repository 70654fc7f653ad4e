package e2e

import (
	"encoding/json"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// toRun presses the switch of the connection.
const toRun = `(e => e && (e.click(), true))([...document.querySelectorAll("aside tr")].find(r => /^Run\s/.test(r.innerText))?.querySelector("button:enabled"))`

// TestUVReactor: a reactor is brought from its data sheet to live intensities and written
// doses. A size and a header that do not agree are said before connecting, and again by
// the device, each with what puts it right.
func TestUVReactor(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/lines/line/uvhall")
	sheet, err := filepath.Abs("../docs/examples/uv-reactor-ur12.eds")
	if err != nil {
		t.Fatal(err)
	}
	b.run(chromedp.SetUploadFiles(chromedp.CSS(`input[aria-label="File that describes a device"]`), []string{sheet}))
	b.sees("18 points, and 2 parameters that are asked for one by one")
	b.fill("IP address", "198.51.100.74\t")
	b.press("Add it")
	b.sees("UV reactor UR-12 is on UV hall.")
	b.sees("both say 38 octets")
	b.sees("both say 24 octets")
	link := js[string](b, `location.pathname`)

	// Before anything is connected.
	b.fill("In, elements", "36\r")
	b.sees("one end counts elements and the other octets")
	b.sees("0x01 / 0x0128")
	b.click(`[data-fix="Exchange 9 elements"]`)
	b.sees("both say 38 octets")
	b.choose("Out, format", "plain")
	b.sees("the header of 4 is missing")
	b.sees("0x01 / 0x0127")
	b.sees("4 octets apart")
	b.click(`[data-fix="Send the run/idle header"]`)
	b.sees("both say 24 octets")

	// And what the device says itself, where the plan is wrong of it.
	b.until("its device is known", `fetch("/api/site").then(r => r.json()).then(s => {
		window.dev = s.links.find(l => location.pathname.endsWith(l.id)).answering }) && window.dev`)
	device := js[string](b, `window.dev`)
	for _, c := range []struct {
		fault string
		value int
		says  string
	}{{"header", 0, "it says that the size is 20"}, {"regiven", 4, "it says that the size is 42"},
		{"owned", 0, "Another end owns its outputs."}} {
		f.post(t, "/api/bench/fault", map[string]any{"device": device, "fault": map[string]any{"kind": c.fault,
			"value": c.value}})
		b.press("Try")
		b.sees(c.says)
		if c.fault == "regiven" {
			b.press("Ask the device what it has")
			b.press("Look for others")
			b.sees("160 as inputs")
			b.until("what it says is set beside the plan", `/Gives, octets\s+36\s+40/.test(document.body.innerText)`)
		}
	}
	f.post(t, "/api/bench/fault", map[string]any{"device": device, "fault": map[string]any{}})
	b.press("Try")
	b.until("five good stops", `document.querySelectorAll('aside [data-result="good"]').length === 5`)

	// In run, with a dose.
	b.press("Run it")
	b.until("it is connected", `[...document.querySelectorAll("aside tr")].some(r => /^Connected\s+on/.test(r.innerText))`)
	b.until("run is asked for", toRun)
	b.press("Write on")
	b.sees("The connection is in run: the device acts on the outputs.")
	b.to("/points/" + device)
	b.until("an intensity is live", `/Intensity 9\s[\s\S]{0,120}?\d\.\d/.test(document.body.innerText)`)
	b.rowNamed("Dose 3")
	b.fill("New value", "420")
	b.press("Write…")
	b.press("Write 420")
	b.sees("Sent with every packet from now on, every 200 ms.")
	b.until("the stand-in is known",
		`fetch("/api/site").then(r => r.json()).then(s => { window.at = s.standIns.find(x => x.device === "`+device+`").addr }) && window.at`)
	at := js[string](b, `window.at`)
	deadline := time.Now().Add(10 * time.Second)
	for {
		out, err := exec.Command(binary(t), "read", "enip://"+at, "4/160/3:4:uint16").CombinedOutput()
		if err == nil && strings.Contains(string(out), "420") {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("the reactor has taken %s, %v", out, err)
		}
	}
	b.to(link)
	b.click(`input[aria-label^="in, instance 150"]`)
	b.until("a tick stays", `document.querySelector('input[aria-label^="in, instance 150"]').checked`)
}

// TestWiperDrive: the set-up with which a drive is opened comes from its data sheet, is
// changed value by value, and is compared with what the drive holds.
func TestWiperDrive(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/lines/line/uvhall")
	sheet, err := filepath.Abs("../docs/examples/wiper-drive-wd3.eds")
	if err != nil {
		t.Fatal(err)
	}
	b.run(chromedp.SetUploadFiles(chromedp.CSS(`input[aria-label="File that describes a device"]`), []string{sheet}))
	b.sees("9 points")
	b.fill("IP address", "198.51.100.75\t")
	b.press("Add it")
	b.sees("Wiper drive WD-3 is on UV hall.")
	b.sees("1E 00 1E 00 58 02 00 00")
	held := func(list ...string) {
		t.Helper()
		for _, each := range list {
			b.until("the drive holds "+each,
				fmt.Sprintf(`[...document.querySelectorAll("[data-testid=configuration] tr")].some(r => r.innerText.replace(/\s+/g, " ").includes(%q))`, each))
		}
	}
	b.fill("Ramp up is sent as", "2,5\r")
	b.sees("19 00 1E 00 58 02 00 00")
	b.fill("Speed limit is sent as", "90\r")
	b.sees("beyond 5.0 to 60.0")
	b.fill("Speed limit is sent as", "9000\r")
	b.sees("90000")
	b.until("what was typed stays", `document.querySelector('[aria-label="Speed limit is sent as"]').value === "9000"`)
	b.fill("Speed limit is sent as", "45\r")
	b.choose("Without connection is sent as", "parks")
	b.sees("19 00 1E 00 C2 01 00 02")
	b.press("Ask the device")
	held("Ramp up config:0 s 0.1 to 60.0 0.0", "Without connection config:7 stops goes on parks 0 to 2 0 · stops")
	b.press("Run it")
	b.until("it is connected", `[...document.querySelectorAll("aside tr")].some(r => /^Connected\s+on/.test(r.innerText))`)
	b.press("Ask the device")
	b.sees("The device holds just these octets.")
	held("Ramp up config:0 s 0.1 to 60.0 2.5")
}

// TestFishCounter: a counter that holds each result until its number comes back is
// connected, and nothing moves: that is said, and a crossing answers it.
func TestFishCounter(t *testing.T) {
	t.Parallel()
	b := start(t, "demo", t.TempDir()).open(t, "/lines/link/lss-counter")
	b.press("Run it")
	b.until("run is asked for", toRun)
	b.press("Write on")
	b.sees("The connection is in run")
	b.sees("Fish counter waits for its number to be given back.")
	b.click(`[data-fix="crossing"]`)
	b.sees("Done: Give it back by a crossing.")
	b.to("/points/counter")
	b.until("results come", `/Result number\s[\s\S]{0,60}?\br\s+([3-9]|\d\d)\s/.test(document.body.innerText)`)
	b.to("/lines/link/lss-counter")
	b.until("it waits no more", `!document.body.innerText.includes("waits for its number")`)
}

// TestAuger: the turns of a feed auger, four a second, are read at five paces, and what
// each of them sees is said.
func TestAuger(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	var site map[string]any
	if err := json.Unmarshal([]byte(f.text(t, "/api/file/site.json")), &site); err != nil {
		t.Fatal(err)
	}
	// A machine that is short of time reads late once in a while, and then that is said.
	const rarely = `|about every \d{2,}(st|nd|rd|th) count passes unseen|\d+ of \d{3,} counts passed unseen`
	paces := []struct {
		ms   int
		says string
	}{{1000, `is seen [\d.]+ times: \d+ of \d+ counts passed unseen, and the value jumps by up to \d`},
		{300, `about every [567]th count passes unseen`},
		{200, `None was lost in \d+ reads, but one that comes a little late loses one` + rarely},
		{120, `and each was seen; when it came is known to a read` + rarely}, {50, `\d+ of \d+ reads brought nothing new` +
			rarely}}
	list := make([]played, len(paces))
	for i := range list {
		list[i].device = "auger"
	}
	copyFor(t, site, slices.Clone(site["devices"].([]any)), slices.Clone(site["links"].([]any)), list, "198.51.100.",
		func(string, map[string]any, map[string]any) {})
	for _, d := range site["devices"].([]any) {
		device := d.(map[string]any)
		at := slices.IndexFunc(list, func(p played) bool { return p.device == device["id"] })
		if at < 0 {
			continue
		}
		turns := device["points"].([]any)[0].(map[string]any)
		turns["paceMs"] = paces[at].ms
		device["name"] = fmt.Sprintf("Auger at %d ms", paces[at].ms)
	}
	f.post(t, "/api/file/site.json", site)
	links := make([]string, len(list))
	for i := range list {
		links[i] = "lss-" + list[i].device
	}
	f.post(t, "/api/run/start", map[string]any{"links": links})
	time.Sleep(12 * time.Second)
	b := f.open(t, "/timetable?line=uvhall")
	for i, p := range paces {
		b.choose("Device of the samples", list[i].device)
		b.until(fmt.Sprintf("what %d ms sees", p.ms),
			fmt.Sprintf(`new RegExp(%q).test(document.querySelector('table[aria-label="Sampling"]').innerText)`, p.says))
	}
}
