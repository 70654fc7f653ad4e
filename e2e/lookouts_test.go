package e2e

import (
	"os"
	"testing"

	"github.com/chromedp/chromedp/kb"
)

// TestLookouts: a device is switched off; every screen shows a mark, a mail says what,
// where and since when, and says when it is over. What another program saw of that time
// is compared. A limit is set and seen to be broken.
func TestLookouts(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/traffic/lookouts")
	enter := func(label, text string) { b.fill(label, text); b.keys(kb.Enter) }
	fault := func(kind string) { b.to("/traffic"); b.fault("pump1", kind); b.press("Lookouts") }
	b.sees("no run: nothing is looked at")
	b.click(`[data-lookout="lk-down"]`)
	enter("Held for", "soon")
	b.sees("is no time")
	enter("Held for", "1 s")
	enter("Over after", "0")
	b.until("the times are kept", `document.querySelector('[data-lookout="lk-down"]').innerText.includes("held for 1 s")`)
	b.find("Start the run of every link")
	b.sees("nothing now")
	fault("stop")
	b.until("it begins", `document.querySelector('[data-lookout="lk-down"]').dataset.open === "1"`)
	b.until("the mark at the top", `document.querySelector("[data-alarm]")?.dataset.alarm === "1"`)
	b.to("/points")
	b.until("on every screen",
		`document.querySelector("[data-alarm]")?.title.includes("Pump drive 1 brings nothing since")`)
	b.click("[data-alarm]")
	b.until("a mail is caught",
		`document.querySelector("[data-caught=mail]")?.innerText.includes("A link brings nothing — Pump drive 1")`)
	if dir := os.Getenv("FERRY_SHOTS"); dir != "" {
		b.click(`[data-lookout="lk-down"]`)
		b.shot(dir + "/lookouts.png")
	}
	fault("")
	b.until("it is over", `!document.querySelector("[data-alarm]")`)
	b.sees("Over after")

	from := js[string](b, `document.querySelector("[data-event] td").innerText`)
	to := js[string](b, `document.querySelector("[data-event] td:nth-child(2)").innerText`)
	b.press("Compare with another program")
	b.fill("When it had no data", "Pump screen, by hand\n"+from+" to "+to+" Pump 1 speed\n00:00:01 to 00:00:02")
	b.click(`section[aria-label="Compare with another program"] button.main`)
	b.until("whose it was", `document.querySelector("[data-whose=device]")?.innerText.includes("Pump 1 speed stopped")`)
	b.until("what cannot be told", `document.querySelectorAll("[data-whose=unknown]").length === 1`)
	b.sees("Pump screen, by hand")
	b.press("Back to lookouts")

	b.click(`[data-lookout="lk-oxygen"]`)
	enter("Held for", "0")
	enter("Lowest", "99")
	b.until("a limit is broken", `document.querySelector('[data-lookout="lk-oxygen"]').innerText.includes("below 99")`)
	b.until("and is open", `document.querySelector('[data-lookout="lk-oxygen"]').dataset.open === "1"`)
	enter("Highest", "20")
	b.sees("its lowest value is not below its highest")
	b.press("Remove the lookout")
	b.until("it is gone", `!document.querySelector('[data-lookout="lk-oxygen"]')`)
	b.sees("It is no longer looked out for.")

	// What is looked at live stands in the address, and stays while an exchange is opened.
	b.to("/traffic?link=lss-do11")
	b.until("the link of the address", `document.querySelector('select[aria-label="Link"]').value === "lss-do11" &&
		document.querySelectorAll("[data-exchange]").length > 3`)
	b.press("Who asks whom")
	b.until("it is counted", `document.querySelector("[data-talk='lss-do11']")?.innerText.includes("100.0 %")`)
	b.click("[data-exchange]")
	b.until("the bytes, with the link",
		`document.querySelector("[aria-label=Bytes]") && location.search.includes("lss-do11")`)
	b.choose("Link", "lss-do12")
	b.until("another in the address", `location.search.includes("lss-do12")`)
	b.to("/traffic/lookouts")

	b.press("Add an outlet")
	enter("To", "nobody")
	b.sees("is no mail address")
	enter("To", "night@skerry.example")
	b.slowed("/api/edit")
	b.choose("Told by", "program")
	b.press("Try it now") // what is tried is what was chosen, which Ferry does not know yet
	b.sees("No program was allowed")
	b.until("what another way needs is asked for no more",
		`!document.querySelector("aside.panel").innerText.includes("Mail server")`)
}
