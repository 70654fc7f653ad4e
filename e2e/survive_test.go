package e2e

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestSurvives: what was edited is there after a kill, can still be taken
// back, and two windows cannot overwrite each other unseen.
func TestSurvives(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	f := start(t, "demo", dir)
	one, two := f.open(t, "/lines/device/skid"), f.open(t, "/lines/device/skid")
	css := two.labelled("Model")
	two.run(chromedp.Focus(chromedp.CSS(css)))
	one.fill("Model", "OS-91\r")
	one.until("it is kept", `document.querySelector("header [aria-label='Take back']:not([disabled])")`)
	two.does(fmt.Sprintf(`document.querySelector(%q).select()`, css))
	two.run(chromedp.SendKeys(chromedp.CSS(css), "OS-92\r"))
	two.sees("was changed in another window")
	two.sees("changed the model of Oxygen skid")
	two.until("what was typed stays", fmt.Sprintf(`document.querySelector(%q).value === "OS-92"`, css))
	one.until("the first stays", fmt.Sprintf(`document.querySelector(%q).value === "OS-91"`, one.labelled("Model")))

	f.kill()
	one.sees("no contact with Ferry")
	f = start(t, "demo", dir)
	b := f.open(t, "/lines/device/skid")
	b.until("the edit is there", fmt.Sprintf(`document.querySelector(%q).value === "OS-91"`, b.labelled("Model")))
	b.ctrl("z")
	b.sees("Taken back: changed the model of Oxygen skid")
	b.until("as it was", fmt.Sprintf(`document.querySelector(%q).value === "OS-90"`, b.labelled("Model")))
}

// TestSiteFile: the whole site goes out as one file and comes back; a file
// that is not right is refused whole, with the place.
func TestSiteFile(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	whole, err := io.ReadAll(f.fetch(t, "/api/file/site.json").Body)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	file := func(name string, data []byte) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, data, 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	b := start(t, "serve", t.TempDir()).open(t, "/")
	b.sees("No line yet")
	bring := func(path string) {
		b.run(chromedp.SetUploadFiles(chromedp.CSS(`input[aria-label="Site file"]`), []string{path}))
	}
	bring(file("short.json", whole[:len(whole)/2]))
	b.sees("The file ends in the middle.")
	b.press("Close")
	b.sees("No line yet")
	bring(file("site.json", whole))
	b.sees("The site was brought in")
	b.sees("DO probe 11")
	b.sees("Skerry Point Hatchery")
	b.ctrl("z")
	b.sees("No line yet")
}

// TestFindOrDo: the palette finds a point by its address and goes there, and
// the keys of a screen are listed.
func TestFindOrDo(t *testing.T) {
	t.Parallel()
	b := start(t, "demo", t.TempDir()).open(t, "/lines")
	b.ctrl("k")
	b.until("the palette is open", `document.activeElement.getAttribute("placeholder")?.startsWith("A device")`)
	b.keys("pump 40102")
	b.sees("Pump drive 1 · Speed")
	b.slowed("/points") // the map comes while the next words are typed, and leaves them alone
	b.until("the point is found",
		`document.querySelector('[cmdk-item][data-selected="true"]')?.innerText.includes("Speed")`)
	b.keys("\r")
	b.until("we are there", `location.pathname === "/points/pump1/pump1-04"`)
	b.ctrl("k")
	b.until("the palette is open again", `document.activeElement.getAttribute("placeholder")?.startsWith("A device")`)
	b.keys("try")
	b.until("the map is there", `document.querySelector("[role=grid]")`)
	b.keys(" uv")
	b.until("the try is found",
		`document.querySelector('[cmdk-item][data-selected="true"]')?.innerText.includes("Try the link to UV doser")`)
	b.keys("\r")
	b.sees("The message stops at Points.")
	b.does(`document.activeElement.blur()`)
	b.to("/points/pump1/pump1-04")
	b.keys("?")
	b.sees("fill the selection down")
}
