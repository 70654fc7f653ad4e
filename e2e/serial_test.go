package e2e

import (
	"fmt"
	"testing"
)

// TestTankRow: a serial line is set up from nothing; the parity fault, the
// doubled number and the silent device that the bench plays are found by what
// Ferry says; and the line holds the paces that its timetable promised.
func TestTankRow(t *testing.T) {
	t.Parallel()
	b := start(t, "serve", t.TempDir()).open(t, "/")
	b.sees("No line yet")
	// By keyboard: anything can be done from one place.
	b.find("Add a serial line")
	b.until("the search has closed", `!document.querySelector("[role=dialog]")`)
	b.fill("Name", "Tank row C\r")
	b.fill("Length", "160\r")
	b.until("the line has its name", `document.querySelector('section[aria-label="Line Tank row C"]')`)
	card := `document.querySelector('section[aria-label="Line Tank row C"]')`
	names := []string{"LSS controller", "DO probe 31", "DO probe 32", "DO probe 33", "DO probe 34"}
	for i, name := range names {
		b.does(`document.querySelector('[aria-label="Add a device to Tank row C"]').click()`)
		b.until("one more device", fmt.Sprintf(`%s.querySelectorAll("[data-device]").length === %d`, card, i+1))
		b.until("its panel is open",
			fmt.Sprintf(`document.querySelector(%q)?.value.startsWith("Device")`, b.labelled("Name")))
		b.fill("Name", name+"\r")
		b.until("it has its name",
			fmt.Sprintf(`[...document.querySelectorAll("[data-device] b")].some(e => e.textContent === %q)`, name))
	}
	b.sees("unit 4")

	// One datasheet for all of them.
	b.to("/points/datasheets/shelf-optode-do4")
	b.sees("DO probe 34")
	b.does(`[...document.querySelectorAll("aside label")].filter(e => /DO probe 3/.test(e.innerText)).forEach(e => e.querySelector("input").click())`)
	b.press("Place on 4 devices")
	b.until("they follow", `(document.body.innerText.match(/follows/g) || []).length >= 4`)

	b.to("/lines")
	for tries := 0; ; tries++ { // a machine that is short of time may miss an answer
		b.press("Try every link")
		b.until("every link is tried", `/links go through|links stop somewhere/.test(document.body.innerText)`)
		if js[bool](b, `document.body.innerText.includes("All 4 links go through.")`) || tries == 2 {
			break
		}
		b.press("Close")
	}
	b.sees("All 4 links go through.")

	try := func(device string) {
		b.to("/lines")
		b.until(device+" is there",
			fmt.Sprintf(`[...document.querySelectorAll("[data-device]")].some(e => e.innerText.includes(%q))`, device))
		b.does(fmt.Sprintf(`[...document.querySelectorAll("[data-device]")].find(e => e.innerText.includes(%q)).click()`,
			device))
		b.until("its link is open", fmt.Sprintf(`document.querySelector("aside h2")?.innerText.includes(%q)`, device))
	}
	fault := func(kind string) { b.pick("[data-fault-of]", kind) }

	// Set to another parity: bytes come, none pass; the sweep tells which.
	try("DO probe 31")
	fault("parity")
	b.press("Try again")
	b.sees("The message stops at Address.")
	b.sees("they look like 19200 8N1")
	b.press("Sweep the usual settings")
	b.press("Ask in all 32")
	b.sees("Unit 1 answers at 19200 8N1.")
	b.press("as its setting")
	b.sees("then bytes arrive but no frame passes its check")
	fault("")
	b.press("It is set to even now")
	b.until("the ends agree", `!document.body.innerText.includes("then bytes arrive")`)
	b.press("Try")
	b.sees("The message goes through.")

	// Two devices of one number.
	try("DO probe 32")
	fault("twin")
	b.press("Try again")
	b.sees("The message stops at Session.")
	b.sees("Two devices answer to unit 2")
	fault("")

	// Silent: the neighbours answer, so it is not the wire.
	try("DO probe 33")
	fault("off")
	b.press("Try again")
	b.sees("The message stops at Session.")
	b.sees("answers on the same line, so wire and port are good")
	b.sees("Unit 3 says nothing within 1000 ms")
	b.sees("Menu 4-2: bus on") // nobody has ticked it

	// Who is there? The plan has one more than answers.
	b.does(card + `.querySelector("h2 a").click()`)
	b.fill("to", "8")
	b.press("Look")
	b.sees("3 units answer, 0 of them not in the plan; 1 that the plan expects do not.")
	b.sees("is in the plan and does not answer")

	// The paces hold all the same, because the silent one is left alone.
	b.to("/timetable")
	b.sees("every pace holds")
	b.press("Start the line")
	b.sees("4 of 4 links run")
	b.until("the outage is recorded",
		`document.querySelector('section[aria-label="Outages"]')?.innerText.includes("still away")`)
	b.until("the others are read again and again",
		`fetch("/api/timetable").then(r => r.json()).then(d => { window.asked = d.stats.filter(s => s.count - s.failed > 4).length }) && window.asked >= 3`)
	// Some seconds are for a machine that is short of time itself: a silent
	// device that is not left alone makes the others later and later.
	b.until("and none of them later than its slack", `fetch("/api/timetable").then(r => r.json()).then(d => {
		const slack = new Map(d.plan.requests.map(r => [r.id, r.slackMs]));
		window.late = d.stats.filter(s => s.failed === 0 && slack.get(s.id) > 0 && s.lateMs > slack.get(s.id) + 5000).length;
	}) && window.late === 0`)
	b.to("/lines")
	b.does(`[...document.querySelectorAll("[data-device]")].find(e => e.innerText.includes("DO probe 33")).click()`)
	b.until("the fault can be switched", `document.querySelector("[data-fault-of]")`)
	fault("")
	b.to("/timetable")
	b.until("its return is recorded",
		`(() => { const s = document.querySelector('section[aria-label="Outages"]'); return s && !s.innerText.includes("still away"); })()`)

	// What a change would bring is seen before it is made.
	b.until("advice is there", `document.querySelector('[data-advice="baud"]')`)
	b.does(`document.querySelector('[data-advice="baud"] button').click()`)
	b.sees("On paper only.")
	b.press("Back to the plan")
	b.until("the plan is back", `!document.querySelector("[data-testid=paper]")`)
	b.fill("Fastest change of Oxygen, s", "0.5\r")
	b.sees("Changes pass unseen: 250 ms would see each, 125 ms can be trusted.")
	b.until("and it waits as a finding",
		`document.querySelector('header nav a[href="/timetable"] [aria-label$="finding"], header nav a[href="/timetable"] [aria-label$="findings"]')`)
	b.until("learning is offered",
		`[...document.querySelectorAll("button")].some(e => e.textContent === "Learn from the run" && !e.disabled)`)
}
