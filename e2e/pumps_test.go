package e2e

import (
	"context"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/iec61850"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	_ "ferry/internal/field/iec61850"
)

// shoreSite is what a substation controller on the shore knows of the concentrator.
func shoreSite(t *testing.T) *site.Site {
	t.Helper()
	far := site.New("Skerry Point Shore")
	far.Lines = []site.Line{{ID: "net", Name: "Shore net", Medium: "ethernet", Network: "192.0.2.0/24"}}
	point := func(id, ref string, of value.Type, access site.Access) site.Point {
		var a address.Address
		a, err := family.Scheme.Parse(ref, "")
		if err != nil {
			t.Fatal(err)
		}
		return site.Point{ID: id, Name: id, Address: a, Type: of, PaceMs: 500, Access: access}
	}
	far.Devices = []site.Device{{ID: "sub", Name: "Substation controller",
		Ports: []site.Port{{Line: "net", Host: "192.0.2.1"}}, Points: []site.Point{}},
		{ID: "ied", Name: "Concentrator", Map: "iec61850",
			Ports: []site.Port{{Line: "net", Host: "192.0.2.95", Protocol: "iec61850"}},
			Points: []site.Point{point("runs", "LD0/GGIO1.Ind1.stVal[ST]", value.TypeBool, site.ReadOnly),
				point("level", "LD0/GGIO7.AnIn1.mag.f[MX]", value.TypeFloat32, site.ReadOnly),
				point("sluice", "LD0/GGIO2.DPCSO1.stVal[ST]", value.TypeUint8, site.ReadOnly),
				point("starts", "LD0/GGIO3.CntRs1.actVal[ST]", value.TypeInt64, site.ReadOnly),
				point("mains", "LD0/GGIO1.Ind9.stVal[ST]", value.TypeBool, site.ReadOnly),
				point("run2", "LD0/GGIO9.SPCSO2.Oper.ctlVal[CO]", value.TypeBool, site.WriteOnly)}}}
	far.Links = []site.Link{{ID: "f", Asking: "sub", Answering: "ied", Line: "net", Protocol: "iec61850"}}
	return far
}

// elsewhere dials one place, whatever is asked for.
type elsewhere string

func (e elsewhere) Dial(*site.Site, *site.Link) string { return string(e) }
func (e elsewhere) Post(*site.Port) string             { return string(e) }

// TestPumpStation: the ranges of an outstation are paired with the objects of a device file, runs by
// themselves and the rest by hand; a run that is moved, a point of another kind and a target that is
// taken are found before anything runs. A substation controller then reads what the outstation shows,
// and its command goes the other way.
func TestPumpStation(t *testing.T) {
	t.Parallel()
	icd, err := filepath.Abs("../internal/bench/concentrator.icd")
	if err != nil {
		t.Fatal(err)
	}
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/lines/line/plantnet")
	b.run(chromedp.SetUploadFiles(chromedp.CSS(`input[aria-label="File that describes a device"]`), []string{icd}))
	b.sees("IEC 61850: 47 points")
	b.choose("Asked by", "ferry itself")
	b.fill("IP address", "192.0.2.97\t")
	b.press("Add it")
	b.sees("SKERRY_CONC is on Plant net")
	type device struct{ ID, Name string }
	conc := ""
	for _, d := range fetched[struct{ Devices []device }](t, f.url+"/api/site").Devices {
		if d.Name == "SKERRY_CONC" {
			conc = d.ID
		}
	}
	b.to("/crossings/pair/" + conc + "/pumps")
	b.sees("32 and 47 left over")

	// A run from a wrong start is seen to be moved, and moves to where units go together.
	left := func(name string) {
		b.does(`[...document.querySelectorAll("[data-left]")].find(e => e.getAttribute("aria-label").endsWith("· ` +
			name + `")).click()`)
	}
	words := func(shore, text string) { b.put("Left over on "+shore+": words of a name", text) }
	words("this shore", "ai2")
	words("the far shore", "AnIn")
	left("Motor current 1")
	left("GGIO7.AnIn1")
	b.press("In order from there")
	b.sees("moved by 1")
	b.sees("GGIO7.AnIn1 is called Wet well level in m, and Motor current 1 in A would arrive there.")
	b.does(`[...document.querySelectorAll("button")].find(e => e.innerText.startsWith("Move the run by 1")).click()`)
	b.sees("ai22 … 25 → GGIO7.AnIn1 … 4")
	b.press("Leave it")

	// So are a point of another kind, and a target that is taken.
	b.press("By a table…")
	b.put("Table", "Lid open\tGGIO2.DPCSO1\nPump 1 runs\tGGIO1.Ind1\nPump 2 runs\tGGIO1.Ind1")
	b.press("Look at the pairs")
	b.sees("Lid open is one of the states, and GGIO2.DPCSO1 one of the double points.")
	b.sees("\"GGIO1.Ind1\" is the target of row 2 already")
	b.press("Leave it")

	// The runs by themselves.
	words("this shore", "")
	words("the far shore", "")
	b.to("/crossings/pair/" + conc + "/pumps")
	b.press("In order")
	b.sees("bi3 … 10 → GGIO1.Ind1 … 8")
	b.until("the runs can be taken",
		`window.take = [...document.querySelectorAll("button")].find(e => /^Pair these \d+/.test(e.innerText))`)
	b.does(`window.take.click()`)
	b.sees("Ctrl Z takes it back as one step")

	// The rest by hand; another kind does not fit.
	words("this shore", "Mains")
	words("the far shore", "Ind9")
	left("Mains present")
	left("GGIO1.Ind9")
	b.keys("\r")
	b.sees("Paired: 1.")

	b.to("/crossings")
	b.press("Run on the bench")
	listens := ""
	eventually(t, "Ferry to answer as the concentrator", func() bool {
		for _, s := range fetched[[]struct {
			Device  string
			Listens []string
		}](t, f.url+"/api/serving") {
			if s.Device == conc && len(s.Listens) > 0 {
				listens = s.Listens[0]
			}
		}
		return listens != ""
	})
	far := field.NewEngine(shoreSite(t), elsewhere(listens))
	t.Cleanup(far.Close)
	if err := far.Start(nil); err != nil {
		t.Fatal(err)
	}
	live := func(id string) (v value.Value, good bool) {
		is, _ := far.Hub.Point(id)
		return is.Value, is.Quality == value.Good
	}
	nearBy := func(id string) any {
		return fetched[struct {
			Live struct{ Value any }
		}](t, f.url+"/api/points/"+id).Live.Value
	}
	eventually(t, "the controller to read what the outstation shows", func() bool {
		level, good := live("level")
		shown, _ := nearBy("pumps-23").(float64) // none yet
		runs, ok := live("runs")
		mains, also := live("mains")
		starts, counted := live("starts")
		on, _ := nearBy("pumps-04").(bool)
		return good && math.Abs(level.Float()-shown) < 0.1 && ok && runs.Bool() == on && also && mains.Bool() &&
			counted && starts.Float() > 1000
	})
	order, err := far.Prepare(context.Background(), "run2", "1")
	if err != nil {
		t.Fatal(err)
	}
	if result, err := far.Write(context.Background(), "Ines", order.Token); err != nil || !result.OK {
		t.Fatalf("%+v, %v", result, err)
	}
	eventually(t, "the command to arrive at the outstation", func() bool { on, _ := nearBy("pumps-29").(bool); return on })

	// The controller of the bench sees the same, and what it was given is proved: whose value, and how old.
	b.to("/lines/device/" + conc)
	b.press("Have it ask")
	b.until("the level on its screen", `document.querySelector('[data-sees$="GGIO7.AnIn1"]')?.innerText.includes("good")`)
	b.until("whose value that was",
		`[...document.querySelectorAll("[data-given]")].some(e => e.innerText.includes("Pump station · Wet well level") && /old; its own time [0-9:.]+, here at/.test(e.innerText))`)
	// Either end is started anew, and the controller is away for a while: each event of the sluice that
	// the outstation told is told to the controller: its report keeps them.
	told := map[int64]bool{} // by their times
	collect := func(list []exchange.Exchange, point string, of func(ms int64)) {
		for _, x := range list {
			for _, s := range x.Samples {
				if s.Point == point && !s.Time.IsZero() {
					of(s.Time.Round(time.Millisecond).UnixMilli())
				}
			}
		}
	}
	begun := time.Now().UnixMilli()
	b.to("/traffic")
	b.fault("pumps", "restarts")
	eventually(t, "the restart to be seen",
		func() bool { return strings.Contains(f.text(t, "/api/findings"), `"code":"restart-told"`) })
	b.fault("pumps", "")
	time.Sleep(4 * time.Second)
	// It goes when it has just been told of one: what is sent in the moment in which an end hangs up is nobody's.
	hears := func() int {
		collect(far.Hub.Exchanges(0, 8000, "f"), "sluice", func(ms int64) { told[ms] = true })
		return len(told)
	}
	before := hears()
	eventually(t, "one more event to be told", func() bool { return hears() > before })
	far.Close()
	hears() // what came since
	away := time.Now().UnixMilli()
	time.Sleep(10 * time.Second) // it stands still for nine at most
	back := time.Now().UnixMilli()
	again := field.NewEngine(shoreSite(t), elsewhere(listens))
	t.Cleanup(again.Close)
	if err := again.Start(nil); err != nil {
		t.Fatal(err)
	}
	time.Sleep(6 * time.Second)
	ended := time.Now().Add(-2 * time.Second).UnixMilli() // what is on its way counts for nothing
	near, missing := fetched[[]exchange.Exchange](t, f.url+"/api/exchanges?link=lss-pumps&most=1000"), []int64{}
	collect(again.Hub.Exchanges(0, 8000, "f"), "sluice", func(ms int64) { told[ms] = true })
	events, meanwhile := map[int64]bool{}, 0
	collect(near, "pumps-14", func(ms int64) {
		if ms > away && ms < back && !events[ms] {
			meanwhile++
		}
		if events[ms] = true; ms > begun && ms < ended && !told[ms] && !told[ms-1] && !told[ms+1] {
			missing = append(missing, ms)
		}
	})
	if meanwhile == 0 || len(missing) > 0 {
		t.Errorf("of %d events of the outstation, %d while the controller was away, %d were not told to it",
			len(events), meanwhile, len(missing))
	}

	b.to("/lines/device/" + conc)
	b.choose("Command", "SKERRY_CONCLD0/GGIO9.SPCSO2")
	if dir := os.Getenv("FERRY_SHOTS"); dir != "" {
		b.shot(dir + "/served.png")
		b.does(`document.querySelector("[data-given]").scrollIntoView()`)
		b.shot(dir + "/given.png")
	}
	b.press("Switch off")
	eventually(t, "its command to arrive at the outstation",
		func() bool { on, is := nearBy("pumps-29").(bool); return is && !on })
}

// TestDeviceFile: a file of a device is shown as a tree and searched, compared with a changed one and
// with what a device lists, and what is chosen of it becomes points.
func TestDeviceFile(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile("../internal/bench/concentrator.icd")
	if err != nil {
		t.Fatal(err)
	}
	was, now := filepath.Join(t.TempDir(), "asked.icd"), filepath.Join(t.TempDir(), "built.icd")
	changed := strings.Replace(strings.Replace(string(data), "192.0.2.95", "192.0.2.99", 1),
		`<LN lnClass="LPHD" inst="1" lnType="LPHD_1"/>`, "", 1)
	for path, text := range map[string]string{was: string(data), now: changed} {
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/lines/line/plantnet")
	b.run(chromedp.SetUploadFiles(chromedp.CSS(`input[aria-label="File that describes a device"]`), []string{was}))
	b.sees("IEC 61850: 47 points")
	b.choose("Asked by", "lss")
	b.fill("IP address", "192.0.2.98\t")
	b.press("Add it")
	b.sees("SKERRY_CONC is on Plant net")

	b.to("/points/files")
	b.run(chromedp.SetUploadFiles(chromedp.CSS(`input[aria-label="File to look into"]`), []string{was}))
	b.sees("Pump station as the shore sees it")
	b.put("Words of what is looked for", "wet well mag.f")
	b.click(`form button[type=submit]`)
	b.until("it is found", `document.querySelector('[data-entry$="AnIn1 · mag · f"]')?.innerText.includes("FLOAT32")`)
	b.put("Words of what is looked for", "")
	b.run(chromedp.SetUploadFiles(chromedp.CSS(`input[aria-label="Another file to compare with"]`), []string{now}))
	b.sees("2 differences to built.icd")
	b.until("the address differs",
		`document.querySelector('[data-differs="SKERRY_CONC/S1/IP"]')?.innerText.includes("here 192.0.2.95; there 192.0.2.99")`)
	b.until("so does a node",
		`document.querySelector('[data-differs="SKERRY_CONC/S1/LD0/LPHD1"]')?.innerText.includes("only in this file")`)
	b.press("From what SKERRY_CONC lists now")
	b.sees("SKERRY_CONC is the same: 47 entries.")
	if dir := os.Getenv("FERRY_SHOTS"); dir != "" {
		b.shot(dir + "/file.png")
	}

	b.does(`document.querySelector('[aria-label="Choose LPHD1"]').focus()`)
	b.keys(kb.ArrowUp, kb.ArrowRight)
	b.until("the arrows open a node", `document.querySelector('[data-entry="brcbStatus"]')`)
	b.click(`[aria-label="Choose GGIO9"]`)
	b.choose("Device that gets the points", "conc")
	b.press("Make points")
	b.sees("Nothing of it holds a value of a type that Ferry has and is not in the map yet.")
}
