package e2e

import (
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestBlockController: the controller of the filtration hall is commissioned from
// its declarations to a crossing into another family. Its map is older than its
// program, which the try sees; the new declarations put it right; a wrong slot, a
// missing permission and a block that is not there are told apart.
func TestBlockController(t *testing.T) {
	t.Parallel()
	b := start(t, "demo", t.TempDir()).open(t, "/lines/link/lss-fh")
	b.press("Try it")
	b.sees("data block 12 has 40 bytes in the device, and with FilterData in the map it has 32")

	b.to("/points/fh")
	b.sees("Sand.Filters[1].Pressure")
	declarations, err := filepath.Abs("../docs/examples/filtration-hall.st")
	if err != nil {
		t.Fatal(err)
	}
	b.run(chromedp.SetUploadFiles(chromedp.CSS(`input[aria-label="File with points"]`), []string{declarations}))
	b.sees("35 rows of filtration-hall.st: 2 new,")
	b.sees("none with a problem")
	b.until("they are brought in",
		`[...document.querySelectorAll("button")].find(e => /^Bring in \d+ row/.test(e.innerText))?.click() === undefined`)
	b.sees("2 points added and")
	b.to("/points/fh")
	b.until("the members behind the new one have moved",
		`fetch("/api/devices/fh/points").then(r => r.json()).then(p => {
		window.moved = p.rows.some(r => r.cells[0] === "Sand.Filters[2].Hours" && r.cells[1] === "db12:36") }) && window.moved`)
	b.to("/lines/link/lss-fh")
	b.press("Try")
	b.sees("All 35 points were read, in one request.")
	b.until("five good stops", `document.querySelectorAll('aside [data-result="good"]').length === 5`)
	b.sees("Controller FC-12")

	// Each precondition shows otherwise, with the line of the checklist that
	// explains it.
	b.fill("Slot", "2\r")
	b.sees("then the device refuses the way to its processor, or says nothing")
	b.press("Try")
	b.sees("The message stops at Session.")
	b.sees("The device refuses the connection to that rack and slot.")
	b.press("Use 1 at both ends")
	b.until("the ends agree", `!document.body.innerText.includes("then the device refuses the way")`)
	b.fault("fh", "permission")
	b.press("Try")
	b.sees("The device does not permit reading and writing from outside.")
	b.sees("Properties of the processor, page Protection: access from panels permitted")
	b.fault("fh", "unloaded")
	b.until("its block is asked for", `document.querySelector('input[aria-label^="block of the fault"]')`)
	b.fill("block of the fault of Filtration hall", "12\r")
	b.press("Try")
	b.sees("The controller lists data block 12 and does not let it be addressed.")
	b.fault("fh", "")
	b.press("Try")
	b.until("five good stops again", `document.querySelectorAll('aside [data-result="good"]').length === 5`)

	// Run, and carried across into the other family.
	b.press("Run it")
	b.to("/lines/link/lss-gate")
	b.press("Run it")
	b.to("/points/fh")
	b.until("the values are good", `document.querySelector('[data-now="fh-18"]')?.innerText.includes("1 · filtering")`)
	b.to("/crossings")
	b.until("both shores have the drum's speed", `[...document.querySelectorAll('[data-crossing="x-drum"]')].some(e => {
		const [from, to] = ["from", "to"].map(s => parseFloat(e.querySelector('[data-shore="' + s + '"]').innerText));
		return e.dataset.state === "good" && from > 2 && Math.abs(from - to) < 0.35;
	})`)

	// A bit is written alone, in words that say so.
	b.to("/points/fh/fh-33")
	b.fill("New value", "on")
	b.press("Write…")
	b.sees("Write to the bench?")
	b.sees("05 write items")
	b.sees("bit 0 alone")
	b.press("Write on")
	b.sees("Written and read back.")

	// Every octet of an exchange has its meaning.
	b.to("/traffic")
	b.choose("Link", "lss-fh")
	b.until("a read of several items",
		`[...document.querySelectorAll('[data-outcome="answered"]')].find(e => e.innerText.includes("octets in all"))?.click() === undefined && document.querySelector('[data-bytes="answer"]')`)
	b.until("bytes are labelled with points",
		`document.querySelector('[data-bytes="answer"]')?.innerText.includes("Hall.Drums[1].Speed")`)
}

// TestTwoMaps: the same controller is asked in a second protocol, and has a map for
// it; a list of offsets is asked in which block it lies, and compared with the
// layout of its types.
func TestTwoMaps(t *testing.T) {
	t.Parallel()
	b := start(t, "demo", t.TempDir()).open(t, "/points/fh")
	b.press("Paste rows")
	b.until("the box has the focus", `document.activeElement.tagName === "TEXTAREA"`)
	b.paste("Name\tData type\tOffset\nFlush.Speed\tREAL\t0.0\nFlush.Run\tBOOL\t4.0\nFlush.Fault\tBOOL\t4.1\n" +
		"Flush.Count\tDINT\t6.0\nFlush.Mode\tINT\t14.0\nFlush.Level\tREAL\t16.0\n")
	b.sees("The list has offsets: in which block, or which of the areas, do they lie?")
	b.fill("The block in which the offsets lie", "hall 9")
	b.press("In that block")
	b.sees("is no block in which the offsets could lie")
	b.fill("The block in which the offsets lie", "db20")
	b.press("In that block")
	b.sees("Flush.Mode lies at 14 in the list, and by the types before it at 10")
	b.press("Bring in 6 rows")
	b.until("the level is at its offset", `fetch("/api/devices/fh/points").then(r => r.json()).then(p => {
		window.there = p.rows.some(r => r.cells[0] === "Flush.Level" && r.cells[1] === "db20:16") }) && window.there`)

	// A second port at the same address, a link in its protocol, and a map.
	b.to("/lines/device/fh")
	b.choose("Add a port on", "plantnet")
	b.until("there are two ports", `document.querySelectorAll('aside h3').length > 2 &&
		[...document.querySelectorAll("aside h3")].filter(e => e.innerText === "Port on Plant net").length === 2`)
	b.does(`(() => { const all = [...document.querySelectorAll("aside section")].filter(e => e.innerText.startsWith("Port on Plant net"));
		const s = all[1].querySelector("select"); s.value = "modbus-tcp"; s.dispatchEvent(new Event("change", {bubbles: true})); })()`)
	b.sees("Modbus TCP")
	b.until("it answers in the second", `fetch("/api/site").then(r => r.json()).then(s => {
		window.ports = s.devices.find(d => d.id === "fh").ports.map(p => p.protocol).join() }) && window.ports === "block-tcp,modbus-tcp"`)
	b.to("/lines/device/lss")
	b.choose("Device to ask", "fh")
	b.press("Add a link")
	b.sees("Link · Modbus TCP")
	b.to("/points/fh")
	b.choose("Map", "modbus-tcp")
	b.until("the second map is empty", `document.querySelectorAll('[role="grid"] [data-point]').length === 0`)
	b.press("Paste rows")
	b.until("the box has the focus again", `document.activeElement.tagName === "TEXTAREA"`)
	b.paste("Name\tAddress\tType\nAmbient\t40001\tfloat32\n")
	b.press("Bring in 1 row")
	b.until("the point is in the second map",
		`[...document.querySelectorAll('[data-col="name"]')].some(e => e.innerText === "Ambient")`)
	b.choose("Map", "block-tcp")
	b.until("and not in the first", `document.querySelectorAll('[role="grid"] [data-point]').length > 3 &&
		![...document.querySelectorAll('[data-col="name"]')].some(e => e.innerText === "Ambient")`)

	b.to("/lines/device/fh")
	b.until("the link is opened",
		`[...document.querySelectorAll("aside a")].filter(e => e.innerText.endsWith("→ Filtration hall")).at(-1)?.click() === undefined &&
		location.pathname.startsWith("/lines/link/")`)
	b.press("Try it")
	b.sees("Its one point was read.")
}
