package e2e

import (
	"encoding/json"
	"fmt"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// current is the name of the point that is being proved.
const current = `document.querySelector('[data-prove][aria-current]')?.dataset.prove`

// proving opens the proof of a point, and waits until it is read.
func (b *browser) proving(path string) {
	b.t.Helper()
	b.to(path)
	b.until("it is read", `/\d/.test(document.querySelector("[data-testid=reads]")?.innerText ?? "")`)
}

// display types what the display of the device shows, and goes on once it has been judged.
func (b *browser) display(text string) {
	b.t.Helper()
	b.run(chromedp.Focus(chromedp.CSS("#shown")))
	b.does(`document.querySelector("#shown").select()`)
	b.run(chromedp.KeyEvent(kb.Delete), chromedp.SendKeys(chromedp.CSS("#shown"), text))
}

// truth is what a stand-in holds at a place, to one decimal.
func truth(t *testing.T, f *ferry, device, place string) string {
	t.Helper()
	var site struct {
		StandIns []struct{ Device, URL string }
	}
	if err := json.Unmarshal([]byte(f.text(t, "/api/site")), &site); err != nil {
		t.Fatal(err)
	}
	for _, s := range site.StandIns {
		if s.Device != device {
			continue
		}
		out, err := exec.Command(binary(t), "read", s.URL, place, "--json").Output()
		var read struct{ Points []struct{ Value float64 } }
		if err == nil {
			err = json.Unmarshal(out, &read)
		}
		if err != nil || len(read.Points) != 1 {
			t.Fatalf("%s: %s, %v", s.URL, out, err)
		}
		return strconv.FormatFloat(read.Points[0].Value, 'f', 1, 64)
	}
	t.Fatalf("%s has no stand-in", device)
	return ""
}

// TestProve: points are proved by the keyboard alone; what is wrong is explained; what is
// changed has just the proofs made again that it touches; others are seen.
func TestProve(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	f := start(t, "demo", dir)
	f.post(t, "/api/run/start", map[string]any{})
	b := f.open(t, "/checkout")
	b.proving("/checkout/skid/skid-01")
	first := js[string](b, current)
	// What Ferry reads, to one decimal, as a display has it.
	b.display(strings.TrimSpace(js[string](b,
		`Number.parseFloat(document.querySelector("[data-testid=reads]").innerText.replace(/\s/g, "")).toFixed(0)`)))
	b.until("they agree", `document.querySelector("[data-testid=agrees]")`)
	b.run(chromedp.KeyEvent(kb.Enter))
	b.until("it goes on to the next", fmt.Sprintf(`%s && %s !== %q`, current, current, first))
	b.until("the first is right", fmt.Sprintf(`document.querySelector('[data-prove=%q]').dataset.stand === "right"`,
		first))
	b.sees("proved on the bench")

	// Confirmed without typing, and what cannot be tested.
	second := js[string](b, current)
	b.until("it is read", `/\d|on|off/.test(document.querySelector("[data-testid=reads]")?.innerText ?? "")`)
	time.Sleep(500 * time.Millisecond) // nobody sees a value sooner, and Enter proves nothing before
	b.run(chromedp.KeyEvent(kb.Enter))
	b.until("the second is right", fmt.Sprintf(`document.querySelector('[data-prove=%q]').dataset.stand === "right"`,
		second))
	third := js[string](b, current)
	b.does(`document.querySelector("#shown").focus()`)
	b.press("cannot be tested")
	b.fill("Why it cannot be tested", "the guard is closed\r")
	b.until("the third cannot be tested",
		fmt.Sprintf(`document.querySelector('[data-prove=%q]').dataset.stand === "cannot"`, third))
	b.sees("cannot: the guard is closed")

	// The make-up flow is mapped with the wrong order: the display shows that, and Fathom why.
	f.post(t, "/api/bench/fault", map[string]any{"device": "flow61", "fault": map[string]any{"kind": "freeze"}})
	b.proving("/checkout/flow61/flow61-01")
	b.display(truth(t, f, "flow61", "30001:float32:BADC"))
	b.until("they are apart", `document.querySelector("[data-testid=apart]")`)
	b.run(chromedp.KeyEvent("w"))
	b.sees("What would explain it")
	b.until("Fathom has looked", `document.querySelector('[data-testid="fathom"]')?.innerText.includes("float32 BADC")`)
	b.until("it is wrong", `document.querySelector('[data-prove][aria-current]').dataset.stand === "wrong"`)

	// A change of the map has just this proof made again.
	for _, row := range fetched[struct {
		Rows []struct {
			ID      string
			Cells   []string
			Version int64
		}
	}](t, f.url+"/api/devices/skid/points").Rows {
		if row.Cells[0] == first {
			f.post(t, "/api/devices/skid/cells", map[string]any{"what": "scaled", "cells": []any{map[string]any{"point": row.ID,
				"column": "scale", "text": "× 2", "base": row.Version}}})
		}
	}
	b.to("/checkout/skid/skid-01")
	b.sees("To be proved again: scale was")
	b.until("the second still is right", fmt.Sprintf(`document.querySelector('[data-prove=%q]').dataset.stand === "right"`,
		second))
	b.sees("1 to be proved again")

	// Somebody else at the same point is told, and sees the mark at once.
	other := f.open(t, "/checkout/skid/skid-01")
	other.sees("is proving this point too")
	b.sees("is proving this point too")
	b.until("it is read", `/\d/.test(document.querySelector("[data-testid=reads]")?.innerText ?? "")`)
	b.run(chromedp.Focus(chromedp.CSS("#shown")), chromedp.KeyEvent(kb.Enter))
	other.until("the mark is seen", fmt.Sprintf(`document.querySelector('[data-prove=%q]')?.dataset.stand === "right"`,
		first))

	// The input is moved, and that is proof.
	b.proving("/checkout/do11/do11-02")
	b.run(chromedp.Focus(chromedp.CSS("#shown")), chromedp.KeyEvent("m"))
	b.until("it moved", `document.querySelector("[data-testid=agrees]")?.innerText.startsWith("It moved from")`)
	b.run(chromedp.KeyEvent(kb.Enter))
	b.until("it is right", `document.querySelector('[data-prove="WaterTemp"]')?.dataset.stand === "right"`)

	// A column of readings.
	b.does(`document.querySelector("details summary").click()`)
	b.fill("Readings", "Oxygen;-99")
	b.until("it is apart", `document.querySelector('[data-agrees="false"]')`)
	b.press("Keep the 1 that are apart as wrong")
	b.until("it is wrong", `document.querySelector('[data-prove="Oxygen"]').dataset.stand === "wrong"`)

	// All of that is there after Ferry was killed.
	f.kill()
	b = start(t, "demo", dir).open(t, "/checkout/do11/do11-01")
	b.until("it still is wrong", `document.querySelector('[data-prove="Oxygen"]')?.dataset.stand === "wrong" &&
		document.querySelector('[data-prove="WaterTemp"]').dataset.stand === "right"`)
}

// TestCommandAndSnapshot: a command is written, its feedback followed, and what was there
// written back; what a device held before is compared and put back.
func TestCommandAndSnapshot(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	f.post(t, "/api/run/start", map[string]any{})
	b := f.open(t, "/checkout/snapshots")
	b.choose("Of", "pump1")
	b.until("it is read",
		`fetch("/api/points/pump1-02").then(r => r.json()).then(p => { window.read = p }) && window.read`)
	b.fill("Name of the snapshot", "before the exchange\r")
	// What turns goes on turning (speed, current, energy); what was set is the same.
	b.until("it is compared", `/before the exchange[^]*(are the same|values differ)/.test(document.body.innerText)`)
	b.until("the setpoint is the same",
		`![...document.querySelectorAll('[data-differs="true"]')].some(r => /SpeedSetpoint/.test(r.innerText))`)

	b.proving("/checkout/pump1/pump1-02")
	b.fill("Value to write", "31,5\r")
	b.sees("Write to the bench?")
	b.press("Write 31.50 Hz")
	b.until("it followed",
		`/followed after [\d.]+ s/.test(document.querySelector("[data-testid=followed]")?.innerText ?? "")`)
	b.run(chromedp.Focus(chromedp.CSS("#shown")), chromedp.KeyEvent(kb.Enter))
	b.until("the command is right", `document.querySelector('[data-prove="SpeedSetpoint"]')?.dataset.stand === "right"`)
	b.proving("/checkout/pump1/pump1-02")
	b.sees("by a command · wrote 31.50")

	b.to("/checkout/snapshots")
	b.press("before the exchange")
	b.sees("values differ")
	b.until("the setpoint differs",
		`[...document.querySelectorAll('[data-differs="true"]')].some(r => /SpeedSetpoint/.test(r.innerText))`)
	b.click(`input[aria-label="Write Pump drive 1 · SpeedSetpoint back"]`)
	b.press("Write 1 back…")
	b.press("Write 1 values")
	b.sees("Written and read back")
	b.press("Close")
	b.until("the setpoint is what it was",
		`![...document.querySelectorAll('[data-differs="true"]')].some(r => /SpeedSetpoint/.test(r.innerText))`)
}

// TestTrend: a point and its far shore are recorded from the page, drawn while that goes on,
// zoomed, stopped, and there with every sample after a kill.
func TestTrend(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	f := start(t, "demo", dir)
	f.post(t, "/api/run/start", map[string]any{})
	b := f.open(t, "/checkout/trends")
	b.sees("No trend yet")
	b.fill("Name of the trend", "oxygen at its shores")
	b.press("add a point…")
	b.fill("Point: words of its name", "DO probe 11 Oxygen")
	b.press("DO probe 11 · Oxygen")
	b.press("Add 3 far shores")
	b.press("Record 4 points")
	b.sees("being recorded")
	b.until("samples are drawn",
		`Number(/: (\d+) samples/.exec(document.querySelector('[aria-label="Trend"] [role=img]')?.ariaLabel)?.[1]) > 5`)
	b.until("the delay is measured",
		`/moves were told apart/.test(document.querySelector("[data-testid=lag]")?.innerText ?? "")`)
	b.click(`[aria-label="Narrower"]`)
	b.sees("the window stands still")
	b.press("Last 2 min")

	f.kill()
	f = start(t, "demo", dir)
	f.post(t, "/api/run/start", map[string]any{})
	b = f.open(t, "/checkout/trends/1")
	b.sees("being recorded")
	b.sees("Ferry ended without stopping it")
	b.until("it is a gap", `/Ferry was not running/.test(document.querySelector('[aria-label="Gaps"]')?.innerText ?? "")`)
	b.press("Stop recording")
	b.sees("stopped by")
	b.press("Remove it")
	b.sees("No trend yet")
}

// TestHandOver: the pack is made from the page, and what somebody left behind is found beside an
// earlier state, and put back.
func TestHandOver(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/checkout/handover")
	b.fill("Your name", "Ines")
	b.until("the cover names her", `document.querySelector('a[download]')?.href.endsWith("pack.zip?by=Ines")`)
	b.until("it is an archive",
		`fetch("/api/file/pack.zip?by=Ines").then(r => r.blob()).then(x => { window.packed = x.size }) && window.packed > 100000`)
	b.choose("that suit", "iec61131")
	b.fill("Names like", "{device}_{point}")
	b.sees("DO_probe_11_Oxygen")

	b.to("/points/do11/do11-01")
	b.cell("do11-01", "pace")
	b.keys("5", "0", "0", " ", "m", "s", kb.Enter)
	b.shows("do11-01", "pace", "500 ms")
	b.to("/checkout/asleft")
	b.press("Began the site")
	b.sees("pace was 1 s, is 500 ms")
	b.click(`[data-divergence="point do11-01"] input`)
	b.press("Make it as then")
	b.sees("Nothing differs.")
	b.to("/points/do11/do11-01")
	b.shows("do11-01", "pace", "1 s")
}
