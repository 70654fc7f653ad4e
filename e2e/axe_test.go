package e2e

import (
	"os"
	"strings"
	"testing"
	"time"
)

// axePath is where scripts/setup.sh puts the checker of accessibility.
const axePath = "../.scratch/axe/node_modules/axe-core/axe.min.js"

// TestAccessible: no page breaks a rule of WCAG 2.2 AA or of good practice, in
// either theme.
func TestAccessible(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile(axePath)
	if err != nil {
		t.Fatalf("%v: run scripts/setup.sh first", err)
	}
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/lines")
	b.press("Try every link")
	b.sees("links")
	b.to("/timetable")
	b.press("Start all")
	time.Sleep(2 * time.Second)
	f.post(t, "/api/bench/fault", map[string]any{"device": "pump1", "fault": map[string]any{"kind": "stop"}})
	f.post(t, "/api/trends", map[string]any{"name": "oxygen", "hours": 1, "points": []string{"do11-01", "gate-01",
		"ioa-01"}})
	for _, theme := range []string{"light", "dark"} {
		rules := `["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]`
		if theme == "dark" { // in which colours alone are others, and the mark
			rules = `{ type: "rule", values: ["color-contrast", "aria-allowed-role"] }`
		}
		b.does(`localStorage.setItem("ferry-theme", "` + theme + `")`)
		if theme == "dark" { // what is down by now is marked on every page
			b.until("the mark of the lookouts", `document.querySelector("[data-alarm]")`)
		}
		for _, path := range []string{"/lines", "/lines/link/lss-do14", "/lines/line/rowa", "/lines/device/do11",
			"/lines/device/conc", "/lines/gateway", "/points/files/conc",
			"/points/do11/do11-01", "/points/gate", "/points/names/super", "/points/browse/super", "/points/datasheets",
			"/points/datasheets/structures",
			"/timetable", "/crossings", "/crossings/x-temp", "/checkout", "/checkout/record", "/checkout/do11/do11-01",
			"/checkout/snapshots", "/checkout/trends/1", "/checkout/handover", "/checkout/asleft", "/traffic",
			"/traffic/relays", "/traffic/lookouts",
			"/traffic/lookouts/lookout/lk-oxygen", "/traffic/lookouts/outlet/ot-oncall", "/traffic/lookouts/compare/text",
			"/traffic/recordings", "/traffic/codebook", "/users"} {
			b.to(path)
			time.Sleep(500 * time.Millisecond)
			b.does(string(axe) + "; true")
			b.does(`window.axed = undefined; axe.run(document, { runOnly: ` + rules +
				` }).then(r => { window.axed = r.violations.map(v => v.id + ": " + v.help + " — " + v.nodes.slice(0, 3).map(n => n.target.join(" ") + " " + n.html.slice(0, 160)).join(" | ") + (v.nodes.length > 3 ? " and " + (v.nodes.length - 3) + " more" : "")) })`)
			b.until("it is checked", `window.axed`)
			if found := js[[]string](b, `window.axed`); len(found) > 0 {
				t.Errorf("%s, %s:\n%s", path, theme, strings.Join(found, "\n"))
			}
		}
	}
}
