package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestShots takes the pictures of docs/screenshots, from the demo site. It
// runs only when FERRY_SHOTS names the folder to put them in.
func TestShots(t *testing.T) {
	dir := os.Getenv("FERRY_SHOTS")
	if dir == "" {
		t.Skip("FERRY_SHOTS names no folder for the pictures")
	}
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/lines")
	b.to("/lines/link/lss-do14")
	b.fault("do14", "parity")
	b.press("Try every link")
	b.sees("links stop somewhere")
	b.does(`document.querySelector('section[aria-label="Line Tank row A"]').scrollIntoView(); document.querySelector("aside.panel").scrollTo(0, 0)`)
	time.Sleep(6 * time.Second) // until the message at the foot has gone
	b.shot(filepath.Join(dir, "lines.png"))
	b.to("/lines/link/lss-uvr")
	b.sees("4 octets apart")
	b.shot(filepath.Join(dir, "cyclic.png"))
	b.to("/traffic")
	b.fault("do14", "")
	b.fault("level32", "off")
	b.to("/lines/line/rowa")
	b.press("Look")
	b.sees("units answer")
	b.does(`document.querySelector('section[aria-label="Who is there"]').scrollIntoView()`)
	b.shot(filepath.Join(dir, "serial.png"))
	b.to("/traffic")
	b.fault("level32", "")
	b.to("/timetable")
	b.press("Start all")
	time.Sleep(8 * time.Second)
	b.shot(filepath.Join(dir, "timetable.png"))
	b.to("/traffic")
	b.fault("ioa", "exception")
	b.fault("skid", "silent")
	time.Sleep(6 * time.Second)
	for _, view := range []struct{ name, path string }{
		{"points", "/points/do12/do12-02"},
		{"crossings", "/crossings/x-temp"},
		{"traffic", "/traffic"},
	} {
		b.to(view.path)
		time.Sleep(2500 * time.Millisecond)
		b.shot(filepath.Join(dir, view.name+".png"))
	}
	b.choose("Link", "lss-do11")
	b.until("its exchanges alone",
		`document.querySelectorAll("[data-exchange]").length > 3 && !document.querySelector('[data-outcome="declined"]')`)
	b.does(`[...document.querySelectorAll('[data-outcome="answered"]')].filter(e => e.innerText.includes("@ 40001")).at(-1).click()`)
	b.until("bytes with points", `document.querySelector('[data-bytes="answer"]')?.innerText.includes("Oxygen")`)
	b.to("/points/pump1/pump1-02")
	b.fill("New value", "48,5")
	b.press("Write…")
	b.sees("Write to the bench?")
	b.shot(filepath.Join(dir, "write.png"))
	b.press("Write 48.50 Hz")
	b.sees("Written and read back")
	for result, points := range map[string][]string{"right": {"do13-01", "do13-02", "do13-03", "do14-01"},
		"wrong": {"do14-03"}, "cannot": {"do14-04"}} {
		var list []map[string]any
		for _, p := range points {
			list = append(list, map[string]any{"point": p})
		}
		f.post(t, "/api/checkout", map[string]any{"result": result, "method": "seen", "reason": "guard", "points": list})
	}
	b.proving("/checkout/do14/do14-02")
	b.choose("Walk past", "cK2, tank row A")
	b.display(strings.TrimSpace(js[string](b,
		`Number.parseFloat(document.querySelector("[data-testid=reads]").innerText).toFixed(1)`)))
	b.until("they agree", `document.querySelector("[data-testid=agrees]")`)
	b.shot(filepath.Join(dir, "checkout.png"))
	f.post(t, "/api/trends", map[string]any{"name": "tank 11 at both shores", "hours": 8,
		"points": []string{"do11-01", "gate-01", "do11-02", "gate-02", "pump1-04"}})
	time.Sleep(35 * time.Second)
	f.post(t, "/api/run/stop", map[string]any{"links": []string{"lss-do11"}})
	time.Sleep(7 * time.Second)
	f.post(t, "/api/run/start", map[string]any{"links": []string{"lss-do11"}})
	time.Sleep(8 * time.Second)
	b.to("/checkout/trends/1")
	time.Sleep(2500 * time.Millisecond)
	b.shot(filepath.Join(dir, "trend.png"))
	b.to("/points/flow61/flow61-01")
	b.until("it is read", `document.querySelector("[data-testid=words]")`)
	b.fill("The display shows", "38.6")
	b.fill("Within", "4")
	b.press("Find it")
	b.sees("Use float32 BADC")
	b.press("Use float32 BADC")
	b.does(`document.querySelector("[data-testid=fathom]").scrollIntoView()`)
	b.shot(filepath.Join(dir, "fathom.png"))
	b.to("/points/datasheets/shelf-feeder-fd8")
	b.does(`[...document.querySelectorAll("aside label")].filter(e => /Feeder 1|Level 31/.test(e.innerText)).forEach(e => e.querySelector("input").click())`)
	b.fill("Shift on Feeder 1", "100")
	b.fill("Prefix on Feeder 1", "B-")
	b.press("Place on 2 devices")
	b.sees("follows")
	time.Sleep(4500 * time.Millisecond)
	b.shot(filepath.Join(dir, "datasheets.png"))
	b.to("/points/gate")
	b.press("Paste rows")
	b.until("the box has the focus", `document.activeElement.tagName === "TEXTAREA"`)
	b.paste("Skerry Point\t\t\t\t\nTag\tRegister\tData " +
		"type\tEU\tR/W\nChiller-1\t40201\tREAL\t°C\tR\nChiller-2\t4o203\tREAL\t°C\tR\nOxygen-11\t40101\tINT\tmg/L\tRW\n")
	b.sees("cannot come in yet")
	b.shot(filepath.Join(dir, "intake.png"))
}
