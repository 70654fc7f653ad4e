package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ferry/internal/bench"
)

// TestMeters: a gateway for six meters of two models is built from nothing in under forty steps. A client of another
// hand finds it, lists and reads it; the building controller of the bench sees a silenced meter as failed, within
// the time that was foretold; and a doubled instance is found and named.
func TestMeters(t *testing.T) {
	f := start(t, "serve", t.TempDir())
	b := f.open(t, "/lines")
	steps := 0
	step := func(do func()) { steps++; do() }
	step(func() { b.press("Add an Ethernet line") })
	step(func() { b.fill("Network", "192.0.2.0/24\t") })
	step(func() { b.press("Build a gateway for meters") })
	for _, model := range []string{"EM-2", "EM-5"} {
		step(func() { b.put("How many", "3") })
		step(func() {
			b.pick(`[aria-label="Of the model"]`, "shelf-energy-meter-"+strings.ToLower(strings.ReplaceAll(model, "-", "")))
		})
		step(func() { b.press("Add") })
		b.until("its meters",
			`[...document.querySelectorAll('[aria-label="Meters"] tbody tr')].filter(r => r.innerText.includes("`+model+`")).length === 3`)
	}
	step(func() { b.put("Address", "192.0.2.97") })
	step(func() { b.put("Device instance", "4050") })
	step(func() { b.put("Name of who reads", "Building controller") })
	step(func() { b.put("Its address", "192.0.2.9") })
	b.sees("6 meters, 54 objects")
	b.put("How many", "3x") // is said, kept, and not taken for another number
	b.sees("Give a whole number from 1 to 999; 3 counts until then.")
	b.put("How many", "3")
	b.put("Every so many seconds", "2.5")
	b.until("half seconds", `document.querySelector('[aria-label="How old values get"]')?.innerText.match(/3\.4\d?\s*s/)`)
	b.put("Every so many seconds", "5")
	b.until("how old values get",
		`document.querySelector('[aria-label="How old values get"]')?.innerText.includes("Oldest at Building controller")`)
	b.until("how that grows", `document.querySelectorAll("[data-meters]").length === 31`)
	var oldest float64 // as foretold, in seconds
	b.until("it is settled", `document.querySelector('[aria-busy="false"]')`)
	text := js[string](b, `document.querySelector('[aria-label="How old values get"] b').innerText`)
	oldest, err := strconv.ParseFloat(strings.Fields(strings.ReplaceAll(text, "\u2009", " "))[0], 64)
	if err != nil {
		t.Fatal(err)
	}
	if dir := os.Getenv("FERRY_SHOTS"); dir != "" {
		b.shot(dir + "/gateway.png")
	}
	step(func() { b.press("Build it") })
	b.sees("Port on Meter line")
	if steps >= 40 {
		t.Errorf("it took %d steps", steps)
	}
	t.Logf("built in %d steps", steps)

	b.to("/timetable")
	b.press("Start all")
	type view struct {
		Devices []struct{ ID, Name string }
	}
	ids := map[string]string{}
	for _, d := range fetched[view](t, f.url+"/api/site").Devices {
		ids[d.Name] = d.ID
	}
	b.to("/lines/device/" + ids["Energy gateway"])
	b.press("Have it ask")
	b.until("the meters on its screen", `document.querySelector('[data-sees="Meter 5 Power"]')`)
	b.until("whose value that was",
		`[...document.querySelectorAll("[data-given]")].some(e => e.innerText.includes("Meter 5 · Power"))`)
	if list := f.text(t, "/api/devices/"+ids["Energy gateway"]+"/description"); !strings.Contains(list,
		"Meter 5 Power;4050;Meter 5 Power;0;507;\"Meter 5, 40031\"") &&
		!strings.Contains(list, "Meter 5 Power;4050;Meter 5 Power;0;507;Meter 5, 40031;") {
		t.Errorf("the list for who engineers the building: %.800s", list)
	}
	at := fetched[bench.Calling](t, f.url+"/api/devices/"+ids["Energy gateway"]+"/caller").At

	// A client of another hand.
	module, err := filepath.Abs("../.scratch/bacnet/node_modules/node-bacnet")
	if err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("node", "../scripts/peers/buildings.cjs", module, at).CombinedOutput()
	var saw struct {
		Found   []int
		Objects int
		Names   map[string]string
		Values  map[string]struct {
			Is    float64
			Flags struct{ Value []int }
		}
		Failed string
	}
	if err != nil || json.Unmarshal(out, &saw) != nil || saw.Failed != "" {
		t.Fatalf("%v: %s", err, out)
	}
	if len(saw.Found) == 0 || saw.Found[0] != 4050 || saw.Objects != 54 || saw.Names["46:108"] != "Meter 1 Energy" ||
		saw.Values["46:108"].Is < 48_000 {
		t.Errorf("%.600s", out)
	}

	// A meter falls silent.
	fault := func(kind string) time.Time {
		b.to("/traffic")
		b.fault(ids["Meter 5"], kind)
		return time.Now()
	}
	silent := fault("off")
	failed := func(name string) bool {
		for _, v := range fetched[bench.Calling](t, f.url+"/api/devices/"+ids["Energy gateway"]+"/caller").Shown {
			if v.Name == name {
				return strings.Contains(v.Quality, "communication failure")
			}
		}
		return false
	}
	eventually(t, "the building side to see the failure", func() bool { return failed("Meter 5 Power") })
	// A second for the round of the controller, and what a silent meter costs the line: its time limit, twice.
	if took := time.Since(silent).Seconds(); took > oldest+1+2*1+1 {
		t.Errorf("it took %.1f s, and values get %.1f s old", took, oldest)
	}
	if failed("Meter 4 Power") {
		t.Error("another meter has failed, too")
	}
	fault("")
	eventually(t, "it to be well again", func() bool { return !failed("Meter 5 Power") })

	// A meter more comes onto the gateway that is there, and who reads it sees it.
	b.to("/lines/gateway")
	b.choose("Serial line",
		js[string](b, `[...document.querySelectorAll('[aria-label="Serial line"] option')].at(-1).value`))
	b.press("Add")
	b.sees("1 meter, 8 objects")
	b.until("with the six", `document.querySelector("[data-meters='7']") && !document.querySelector("[data-meters='6']")`)
	b.press("Add to it")
	b.sees("Done: added 1 meter to Energy gateway")
	b.to("/timetable")
	b.press("Start all")
	eventually(t, "the seventh meter at the building side", func() bool {
		seen := fetched[bench.Calling](t, f.url+"/api/devices/"+ids["Energy gateway"]+"/caller").Shown
		return slices.ContainsFunc(seen, func(v bench.Shown) bool { return v.Name == "Meter 7 Power" && v.Quality == "" })
	})
}

// TestTwins: of two devices that have one instance both are found, and named.
func TestTwins(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/lines/line/plantnet")
	b.pick(`[aria-label="Protocol to look for"]`, "bacnet-ip")
	b.put("device instances from", "4055")
	b.put("up to", "4070")
	b.press("Ask all who they are (Who-Is)")
	b.sees("192.0.2.98 has the same device instance 4060")
	b.sees("192.0.2.99 has the same device instance 4060")
	b.until("only those that were asked for",
		`!document.querySelector('[aria-label="What answered"]').innerText.includes("192.0.2.97")`)
	b.to("/lines/link/lss-hallvent") // and a try of either says so
	b.press("Try it")
	b.sees("it is there twice: Office ventilation (192.0.2.99)")
	b.sees("The message goes through.")

	// The list of a device and that of its state texts come in together.
	dir := t.TempDir()
	var files []string
	for name, text := range map[string]string{
		"office_EDE.csv":        "#keyname;device obj.-instance;object-name;object-type;object-instance;state-text-reference\nD;4061;Damper east;13;70;1\n",
		"office_StateTexts.csv": "#State Text Reference\n#Reference Number;Text 1 or Inactive-Text;Text 2 or Active-Text\n1;shut;fr\xfch open\n",
	} {
		files = append(files, filepath.Join(dir, name))
		if err := os.WriteFile(files[len(files)-1], []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	b.to("/points/offvent")
	b.until("the map", `document.querySelector("[role=grid]")`)
	b.run(chromedp.SetUploadFiles(chromedp.CSS(`input[aria-label="File with points"]`), files))
	b.sees("Damper east")
	b.press("Bring in 1 row")
	b.sees("1 point added")
	if list := f.text(t, "/api/devices/offvent/description?part=beside"); !strings.Contains(list, ";shut;früh open") {
		t.Errorf("the state texts go out as %s", list)
	}
}
