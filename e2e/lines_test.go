package e2e

import (
	"fmt"
	"testing"
)

// TestLines: the demo site is there; a line, a device and a link are added,
// edited and removed; a try says where the message stops and what to do.
func TestLines(t *testing.T) {
	t.Parallel()
	b := start(t, "demo", t.TempDir()).open(t, "/")
	b.sees("Plant net")
	b.sees("192.0.2.0/24")
	b.sees("asks 16 links")
	b.until("every answering device", `document.querySelectorAll('[data-device] span[role=img]').length === 38`)

	b.click(`[data-device="do11"]`)
	b.sees("From the plan nothing speaks against it")
	b.press("Try it")
	b.sees("The message goes through.")
	b.sees("Optode DO-4 rev 2.1")
	b.until("five good stops", `document.querySelectorAll('aside [data-result="good"]').length === 5`)

	// The ends disagree on the port: seen, said, and put right with a button.
	b.fill("TCP port", "503\r")
	b.sees("then the connection is refused")
	b.until("a finding waits at the stop Lines, beside that of the UV reactor",
		`document.querySelector('header nav a[href="/lines"] [aria-label="2 findings"]')`)
	b.press("Try it")
	b.sees("The message stops at Address.")
	b.sees("nobody listens on port 503")
	b.press("Use 502 at both ends")
	b.until("the ends agree", `!document.body.innerText.includes("then the connection is refused")`)
	b.press("Try it")
	b.sees("The message goes through.")

	// What cannot be kept is refused with its reason, and stays as typed.
	b.fill("Unit", "300\r")
	b.sees("Unit is 300: give 0 to 255")
	b.until("what was typed stays", fmt.Sprintf(`document.querySelector(%q).value === "300"`, b.labelled("Unit")))

	// A point that the device has not stops the message at Points.
	b.to("/lines/link/lss-uv")
	b.press("Try it")
	b.sees("The message stops at Points.")
	b.sees("LampDoor (10101)")

	// From nothing: a line, the asking end, an answering device with its link.
	b.to("/lines")
	b.press("Add an Ethernet line")
	b.fill("Name", "Quarantine net\r")
	b.fill("Network", "192.0.2\r")
	b.sees("is not a network")
	b.fill("Network", "198.51.100.0/24\r")
	b.until("the network is kept", `!document.querySelector("aside [role=alert]")`)
	b.does(`[...document.querySelectorAll('section[aria-label="Line Quarantine net"] button')].at(-1).click()`)
	b.sees("Remove the device")
	b.fill("Name", "Quarantine controller\r")
	b.until("the device has its name",
		`[...document.querySelectorAll("[data-device] b")].some(e => e.textContent === "Quarantine controller")`)
	b.does(`document.querySelector('section[aria-label="Line Quarantine net"] h2 a').click()`)
	b.sees("Remove the line")
	b.to("/lines")
	b.does(`[...document.querySelectorAll("button")].find(e => e.textContent === "Add a device").click()`)
	b.sees("Remove the device")
	b.fill("Name", "Feeder 3\r")
	b.until("a link leads to it",
		`[...document.querySelectorAll("aside a")].some(e => e.textContent === "LSS controller → Feeder 3")`)
	b.fill("IP address", "192.0.2.21\r")
	b.press("LSS controller → Feeder 3")
	b.press("Try it")
	b.sees("both have 192.0.2.21")
	b.sees("The message stops at Wire.")

	// Removed, taken back, and done again.
	b.does(`document.querySelectorAll("aside h2 a")[1].click()`)
	b.press("Remove the device")
	b.until("it is gone", `![...document.querySelectorAll("[data-device] b")].some(e => e.textContent === "Feeder 3")`)
	b.ctrl("z")
	b.until("it is back, with its link",
		`[...document.querySelectorAll("[data-device]")].some(e => e.innerText.includes("Feeder 3") && e.querySelector("span[role=img]"))`)
	b.click(`button[aria-label="Do again"]`)
	b.until("it is gone again",
		`![...document.querySelectorAll("[data-device] b")].some(e => e.textContent === "Feeder 3")`)
	b.does(`document.querySelector('section[aria-label="Line Quarantine net"] h2 a').click()`)
	b.press("Remove the line")
	b.until("the line is gone", `!document.body.innerText.includes("Quarantine net")`)

	// A link alone is removed, and drawn anew from the device that asks.
	b.to("/lines/link/lss-gate")
	b.press("Remove the link")
	b.until("the gateway has no link", `document.querySelector('[data-device="gate"]').innerText.includes("no link")`)
	b.to("/lines/device/lss")
	b.choose("Device to ask", "gate")
	b.press("Add a link")
	b.sees("LSS controller → Shore gateway")
	b.press("Try it")
	b.sees("The message goes through.")
}
