package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// siteName types into the one field of the list of sites.
func (b *browser) siteName(text string) {
	b.t.Helper()
	const css = `[role=dialog] form input`
	b.run(chromedp.Focus(chromedp.CSS(css)))
	b.does(`document.querySelector("` + css + `").select()`)
	b.run(chromedp.KeyEvent(kb.Delete), chromedp.SendKeys(chromedp.CSS(css), text))
}

// TestSites: several sites on one machine are begun, copied, opened and removed
// from the menu; what belongs to one does not show in another.
func TestSites(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	f := start(t, "demo", dir)
	b := f.open(t, "/lines")
	menu := func() {
		b.t.Helper()
		b.does(`document.querySelector('button[aria-label="More"]').dispatchEvent(new PointerEvent("pointerdown", { bubbles: true, button: 0 }))`)
		b.sees("Sites on this machine")
		b.does(`[...document.querySelectorAll(".menu-item")].find(e => e.innerText.includes("Sites on this machine")).click()`)
		b.until("the list", `document.querySelectorAll("[data-site]").length > 0`)
	}
	press := func(row, button string) {
		b.t.Helper()
		b.until("the button", `[...document.querySelectorAll("[data-site]")].find(r => r.innerText.includes("`+row+
			`"))?.querySelectorAll("button").length > 0`)
		b.does(`[...[...document.querySelectorAll("[data-site]")].find(r => r.innerText.includes("` + row +
			`")).querySelectorAll("button")].find(e => e.innerText.startsWith("` + button + `")).click()`)
	}
	menu()
	b.siteName("Smolt house")
	b.press("Begin a site")
	b.sees("Smolt house is begun")
	press("Smolt house", "Open")
	b.until("the new site", `document.querySelector("header")?.innerText.includes("Smolt house")`)
	b.sees("No line yet")
	b.press("Add an Ethernet line")
	b.until("a line", `document.querySelectorAll('section[aria-label^="Line "]').length === 1`)
	// Killed, it comes back with the site that was open.
	f.kill()
	f = start(t, "demo", dir)
	b.url = f.url
	b.to("/lines")
	b.until("the same site",
		`document.querySelector("header").innerText.includes("Smolt house") && document.querySelectorAll('section[aria-label^="Line "]').length === 1`)
	menu()
	press("Skerry Point", "Copy")
	b.siteName("Second year")
	b.run(chromedp.Click(chromedp.CSS(`[role=dialog] form button[type=submit]`)))
	b.sees("with a journal of its own")
	press("Second year", "Open")
	b.until("the copy", `document.querySelector("header")?.innerText.includes("Second year") && document.querySelectorAll("[data-device]").length > 10`)
	menu()
	press("Smolt house", "Remove")
	press("Smolt house", "Remove Smolt")
	b.until("it is gone",
		`![...document.querySelectorAll("[data-site]")].some(r => r.innerText.includes("Smolt house"))`)
	press("Skerry Point", "Open")
	b.until("the first again", `document.querySelector("header")?.innerText.includes("Skerry Point Hatchery")`)
	time.Sleep(200 * time.Millisecond)
	if text := js[string](b, `document.body.innerText`); strings.Contains(text, "Second year") {
		t.Errorf("the first site shows %s", text)
	}
}
