package e2e

import (
	"bytes"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// TestPeopleSignIn: over TLS nobody sees anything before signing in; users are
// added and may what their role says; the certificate is shown; signing out
// ends it.
func TestPeopleSignIn(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	secret := filepath.Join(dir, "passphrase")
	if err := os.WriteFile(secret, []byte("rising tide\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	f := start(t, "demo", dir, "--tls", "--passphrase-file", secret)
	print := <-f.fingerprint
	f.fingerprint <- print
	b := f.open(t, "/users")
	b.sees(print)
	b.fill("Name", "ferry")
	b.fill("Passphrase", "low tide 1")
	b.press("Sign in")
	b.sees("Name or passphrase is wrong.")
	b.fill("Passphrase", "rising tide")
	b.press("Sign in")
	b.sees("Who signed in, or tried to")
	b.sees("wrong name or passphrase")
	b.until("the certificate is shown",
		`document.body.innerText.includes("`+print+`") && document.body.innerText.includes("127.0.0.1")`)
	b.press("Add a user")
	b.fill("Name", "Ines from the night shift")
	b.choose("May", "look")
	b.fill("Passphrase", "neap tide 22")
	b.click("[role=dialog] button[type=submit]")
	b.until("the user is there",
		`[...document.querySelectorAll("[aria-label=Users] tbody tr")].some(e => e.innerText.includes("Ines") && e.innerText.includes("look"))`)
	shot(b, "users")

	two := f.open(t, "/lines/device/skid")
	two.fill("Name", "ines from the night shift")
	two.fill("Passphrase", "neap tide 22")
	two.press("Sign in")
	two.sees("Oxygen skid")
	two.fill("Model", "OS-91\r")
	two.sees("may look, and this needs edit")
	two.to("/users")
	two.sees("You may not see the users")

	b.to("/lines/device/skid")
	b.fill("Model", "OS-92\r")
	b.until("it is kept", `document.querySelector("header [aria-label='Take back']:not([disabled])")`)
	b.to("/checkout/record")
	b.until("under the user's name",
		`[...document.querySelectorAll("[aria-label='Changes of the site'] li")].some(e => e.innerText.includes("OS-92") || e.innerText.includes("model of Oxygen skid") && e.innerText.includes("ferry"))`)
	b.to("/users")
	b.until("the last one who may stays", `document.querySelector("[aria-label=Users]")`)
	b.does(`[...document.querySelectorAll("[aria-label=Users] tr")].find(e => e.innerText.includes("Ines")).querySelectorAll("button")[1].click()`)
	b.sees("Their sessions end at once")
	b.does(`[...document.querySelectorAll("[role=dialog] button")].at(-1).click()`)
	two.until("the removed user is asked again", `document.querySelector("form[aria-label='Sign in']")`)
	b.click(`button[aria-label="More"]`)
	b.press("Sign out ferry")
	b.until("signing out asks again", `document.querySelector("form[aria-label='Sign in']")`)
}

// onLoopback returns the site of a demo with every device at the address of its
// stand-in, so that another ferry takes it for a plant.
func onLoopback(t *testing.T, f *ferry) []byte {
	t.Helper()
	var view struct {
		StandIns []struct{ Device, Addr string }
	}
	if err := json.NewDecoder(f.fetch(t, "/api/site").Body).Decode(&view); err != nil {
		t.Fatal(err)
	}
	ports := map[string]int{}
	for _, s := range view.StandIns {
		if i := strings.LastIndex(s.Addr, ":"); i >= 0 {
			ports[s.Device], _ = strconv.Atoi(s.Addr[i+1:])
		}
	}
	var site map[string]any
	if err := json.NewDecoder(f.fetch(t, "/api/file/site.json").Body).Decode(&site); err != nil {
		t.Fatal(err)
	}
	set := func(o map[string]any, port int) {
		settings, _ := o["settings"].(map[string]any)
		if settings == nil {
			settings = map[string]any{}
		}
		settings["port"] = port
		o["settings"] = settings
	}
	for _, each := range site["devices"].([]any) {
		d := each.(map[string]any)
		for _, p := range d["ports"].([]any) {
			port := p.(map[string]any)
			if n := ports[d["id"].(string)]; n > 0 && port["host"] != nil {
				port["host"] = "127.0.0.1"
				set(port, n)
			}
		}
	}
	for _, each := range site["links"].([]any) {
		l := each.(map[string]any)
		if n := ports[l["answering"].(string)]; n > 0 {
			set(l, n)
		}
	}
	data, err := json.Marshal(site)
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// TestReleaseOfCrossings: on the plant crossings wait until they are released by
// name; unlocking lets none loose; the lock ends their release; what they wrote
// is in the journal.
func TestReleaseOfCrossings(t *testing.T) {
	t.Parallel()
	site := onLoopback(t, start(t, "demo", t.TempDir())) // whose stand-ins are the plant
	f := start(t, "serve", t.TempDir())
	request, err := http.NewRequest("POST", f.url+"/api/file/site.json", bytes.NewReader(site))
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("X-Ferry-Window", "test")
	response, err := http.DefaultClient.Do(request)
	if err != nil || response.StatusCode != 200 {
		t.Fatal(response, err)
	}
	_ = response.Body.Close()
	b := f.open(t, "/crossings")
	b.press("Plant")
	b.press("Go to the plant")
	b.sees("Plant: these are real devices.")
	b.press("Unlock for 5 minutes")
	b.sees("Writing by hand is unlocked")
	links := `{links: ["lss-do11", "lss-do12", "lss-gate", "lss-ioa"]}`
	b.does(`fetch("/api/run/start", {method: "POST", headers: {"X-Ferry-Window": "t"}, body: JSON.stringify(` + links +
		`)})`)
	b.until("both shores live",
		`document.querySelector('[data-crossing="x-oxygen"] [data-shore="from"]')?.innerText.match(/\d/) && document.querySelector('[data-crossing="x-oxygen"] [data-shore="to"]')?.innerText.match(/\d/)`)
	b.click(`[data-crossing="x-oxygen"]`)
	b.sees("It writes nothing on the plant until it is released by name.")
	b.press("Release to write…")
	b.sees("Release crossings to write on the plant")
	b.does(`document.querySelector('[aria-label="Crossings to release"] input:not([disabled])').click()`)
	shot(b, "release")
	b.press("Release 1")
	b.sees("One crossing writes.")
	b.until("it carries", `document.querySelector('[data-crossing="x-oxygen"]').dataset.state === "good"`)
	b.sees("Released by window")
	b.until("the others wait",
		`[...document.querySelectorAll("[data-crossing]")].filter(e => e.dataset.state === "good").length === 1`)
	b.press("Lock now")
	b.sees("It writes nothing on the plant until it is released by name.")
	b.to("/checkout/record")
	b.until("what it wrote is in the journal",
		`[...document.querySelectorAll('[data-write="written"]')].some(e => e.innerText.includes("was ended") && e.innerText.includes("plant"))`)
}

// shot takes a picture of docs/screenshots, where FERRY_SHOTS names that folder.
func shot(b *browser, name string) {
	if dir := os.Getenv("FERRY_SHOTS"); dir != "" {
		b.shot(filepath.Join(dir, name+".png"))
	}
}
