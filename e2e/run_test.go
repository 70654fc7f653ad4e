package e2e

import (
	"strconv"
	"strings"
	"testing"
)

// TestRun: the timetable is planned and measured, values live, a value is
// written and journalled, both shores of a crossing move.
func TestRun(t *testing.T) {
	t.Parallel()
	b := start(t, "demo", t.TempDir()).open(t, "/timetable?line=plantnet")
	b.sees("Nothing runs")
	b.sees("DO probe 11 · read 33 holding @ 40001")
	b.press("Start the line")
	b.sees("16 of 16 links run on the bench")
	b.until("every request but one is measured",
		`[...document.querySelectorAll("[data-measured]")].filter(e => e.dataset.measured > 0).length >= 17`)
	b.sees("never") // the one that the device declines

	b.to("/points/do11/do11-01")
	b.until("the value is good", `document.querySelector('[data-testid="quality"]')?.innerText.startsWith("good")`)
	first := js[string](b, `document.querySelector('[data-testid="value"]').innerText`)
	b.until("it changes", `document.querySelector('[data-testid="value"]').innerText !== `+"`"+first+"`")
	b.until("its words are there, in hex, decimal and binary",
		`/^[0-9A-F]{4}\s+\d+\s+[01\u2009]{19}/m.test(document.querySelector('[data-testid="words"] tbody').innerText)`)
	b.until("with a time in milliseconds",
		`/\d\d:\d\d:\d\d\.\d{3}/.test(document.querySelector('[data-testid="quality"]').innerText)`)
	b.until("and a trend",
		`/Trend of [2-9]/.test(document.querySelector('[role=img][aria-label^="Trend"]')?.ariaLabel)`)

	b.to("/points/pump1/pump1-02")
	b.fill("New value", "fast")
	b.press("Write…")
	b.sees("is not a number")
	b.fill("New value", "700")
	b.press("Write…")
	b.sees("outside what a raw uint16 holds")
	b.fill("New value", "48,5")
	b.press("Write…")
	b.sees("Write to the bench?")
	for _, text := range []string{"Pump drive 1, 192.0.2.41", "SpeedSetpoint", "40002", "06 write single register",
		"45.00 Hz", "48.50 Hz"} {
		b.sees(text)
	}
	b.press("Write 48.50 Hz")
	b.sees("Written and read back.")
	b.until("the grid shows it", `document.querySelector('[data-now="pump1-02"]').innerText.includes("48.50")`)
	b.to("/checkout/record")
	b.sees("Pump drive 1 · SpeedSetpoint")
	b.sees("06 write single register")

	b.to("/crossings")
	b.press("Add a crossing")
	b.choose("From: device", "pump1")
	b.choose("From: point", "pump1-02")
	b.choose("To: device", "skid")
	b.choose("To: point", "skid-06")
	b.fill("Scale", "÷ 2")
	b.fill("Deadband", "0.5")
	b.press("Carry it across")
	b.sees("÷ 2, moves by 0.5")
	b.until("both shores move together",
		`[...document.querySelectorAll("[data-crossing]")].some(e => e.innerText.includes("PuritySetpoint") && e.querySelector('[data-shore="from"]').innerText.startsWith("48.50") && (e.querySelector('[data-shore="to"]').innerText.startsWith("24.3") || e.querySelector('[data-shore="to"]').innerText.startsWith("24.2")))`)
	b.until("it is shown as carrying",
		`[...document.querySelectorAll("[data-crossing]")].some(e => e.innerText.includes("PuritySetpoint") && e.dataset.state === "good")`)

	b.to("/timetable")
	b.press("Stop the run")
	b.sees("Nothing runs")
}

// TestQuickEdits: of two fields that are filled before the page has read back the first, both
// stay, in one object and in one setting of it.
func TestQuickEdits(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/lines/device/pump1")
	b.does(`const real = window.fetch; window.fetch = async (path, how) => {
		if (path === "/api/site" || String(path).startsWith("/api/site?")) await new Promise(r => setTimeout(r, 3000));
		return real(path, how);
	}`)
	b.fill("IP address", "192.0.2.42\r")
	b.fill("TCP port", "1503\r")
	eventually(t, "both to be kept", func() bool {
		site := f.text(t, "/api/file/site.json")
		return strings.Contains(site, `"192.0.2.42"`) && strings.Contains(site, "1503")
	})
}

// TestPlantIsLocked: on plant the screen looks otherwise, nothing runs by
// itself, and a write waits for an unlock. The plant is a stand-in, reached at
// its own address on loopback.
func TestPlantIsLocked(t *testing.T) {
	t.Parallel()
	b := start(t, "demo", t.TempDir()).open(t, "/lines/device/pump1")
	b.until("the stand-ins are known",
		`fetch("/api/site").then(r => r.json()).then(s => { window.port = s.standIns.find(s => s.device === "pump1").addr.split(":")[1] }) && window.port`)
	port := js[string](b, `window.port`)
	b.fill("IP address", "127.0.0.1\r")
	b.fill("TCP port", port+"\r")
	b.to("/lines/link/lss-pump1")
	b.fill("TCP port", port+"\r")
	b.until("both ends have the port",
		`[...document.querySelectorAll("aside table tr")].some(e => e.innerText.split("`+port+`").length === 3)`)

	b.press("Plant")
	b.sees("Go to the plant?")
	b.press("Go to the plant")
	b.sees("Plant: these are real devices.")
	b.sees("Writing by hand is locked.")
	b.until("the top edge is in the signal colour",
		`document.querySelector("[data-mode=plant]").style.borderTop.startsWith("6px")`)
	b.to("/lines/link/lss-do11")
	b.press("Try it")
	b.sees("kept for documentation")
	b.to("/points/pump1/pump1-02")
	b.fill("New value", "40\r") // what is read meanwhile moves the button
	b.sees("Write to the plant?")
	b.sees("45.00 Hz") // read before it is asked
	b.sees("Writing to the plant is locked.")
	b.press("Do not write")
	b.press("Unlock for 5 minutes")
	b.sees("Writing by hand is unlocked for 5 more minutes")
	b.press("Write…")
	b.sees("Write to the plant?")
	b.press("Write 40.00 Hz")
	b.sees("Written and read back.")
	b.press("Lock now")
	b.sees("Writing by hand is locked.")
	b.press("Bench")
	b.until("the bench is back", `document.querySelector("[data-mode=bench]")`)
}

// TestTraffic: every fault of the bench becomes a finding in words, and an
// exchange opens into labelled bytes.
func TestTraffic(t *testing.T) {
	t.Parallel()
	b := start(t, "demo", t.TempDir()).open(t, "/timetable?line=plantnet")
	b.press("Start the line")
	b.sees("16 of 16 links run")
	b.to("/traffic")
	b.until("exchanges are there", `document.querySelectorAll("[data-exchange]").length > 5`)
	b.sees("UV doser answers: illegal data address")
	for _, c := range []struct{ device, kind, code, title string }{
		{"do11", "stop", "port-refused", "Nobody listens at DO probe 11"},
		{"do12", "off", "host-silent", "DO probe 12 cannot be reached"},
		{"ioa", "refuse", "connection-dropped", "Tank I/O A throws the connection out"},
		{"pump1", "delay", "no-answer", "Pump drive 1 does not answer in time"},
		{"skid", "garbage", "answer-mismatch", "Oxygen skid sends what is no answer"},
		{"gate", "exception", "exception-address", "Shore gateway answers: illegal data address"},
	} {
		b.fault(c.device, c.kind)
		b.until(c.title, `[...document.querySelectorAll('[data-finding="`+c.code+
			`"]')].some(e => e.innerText.includes("`+c.title+`"))`)
	}
	for _, device := range []string{"do12", "ioa", "pump1", "skid", "gate"} {
		b.fault(device, "")
	}
	b.does(`document.querySelector('[data-finding="port-refused"]').click()`)
	b.sees("Start the server task in the device")
	b.until("the place has an address", `location.pathname.startsWith("/traffic/finding/port-refused")`)
	b.fault("do11", "")
	b.fault("skid", "freeze")
	b.fault("gate", "drop")
	b.until("a dropped connection is found",
		`[...document.querySelectorAll('[data-finding="connection-dropped"]')].some(e => e.innerText.includes("Shore gateway hangs up"))`)
	b.choose("Link", "lss-do11")
	b.until("a good exchange", `document.querySelector('[data-outcome="answered"]')`)
	b.does(`document.querySelector('[data-outcome="answered"]').click()`)
	b.until("bytes are labelled with points",
		`document.querySelector('[data-bytes="answer"]')?.innerText.includes("Oxygen")`)
	address := js[string](b, `location.pathname`)
	if !strings.HasPrefix(address, "/traffic/exchange/") {
		t.Errorf("an exchange has the address %s", address)
	}
	b.to(address) // and comes back after a reload
	b.until("it is there again", `document.querySelector('[data-bytes="answer"]')?.innerText.includes("Oxygen")`)
	b.to("/traffic")
	b.until("frozen values are found",
		`[...document.querySelectorAll('[data-severity]')].some(e => e.innerText.includes("Oxygen skid answers, but nothing moves"))`)
}

// TestRulesOfMany: crossings are found by words, the rules of all that are found change in
// one step that can be taken back, what is no rule changes nothing, and the far sides are
// asked for their points.
func TestRulesOfMany(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/crossings")
	rules := func(id string) string {
		return `document.querySelector('[data-crossing="` + id + `"] span.small').innerText`
	}
	b.until("all crossings", `document.querySelectorAll("[data-crossing]").length >= 9`)
	b.fill("Find crossings", "speed shore gateway")
	b.until("two of them", `document.querySelectorAll("[data-crossing]").length === 2`)
	first := js[string](b, `document.querySelector("[data-crossing]").dataset.crossing`)
	was := js[string](b, rules(first))
	b.press("Rules of all shown")
	b.fill("Rules", "with each round, sideways")
	b.press("Change 2 crossings")
	b.sees(`"sideways" is no step that is known`)
	b.fill("Rules", "with each round")
	b.press("Change 2 crossings")
	b.until("they say so", rules(first)+` === "as it is, with each round"`)
	b.press("Run on the bench")
	b.click(`[data-crossing="` + first + `"]`)
	b.until("it is written again and again", `/ [3-9] carried/.test(document.querySelector("[data-counts]")?.innerText)`)
	b.press("Ask whether its points are there")
	b.until("both are", `document.querySelectorAll('[data-proved="there"]').length === 2`)
	b.ctrl("z")
	b.until("the rules are as they were", rules(first)+" === "+strconv.Quote(was))
	b.fill("Find crossings", "no such thing")
	b.sees("No crossing has these words")
	b.find("Pump-1-Speed")
}
