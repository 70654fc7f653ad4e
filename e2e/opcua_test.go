package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"

	"ferry/internal/certs"
	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	_ "ferry/internal/field/opcua"
)

// TestNames: of 300 names of a list nine are wrong, and those nine are found, also once the server
// numbers its namespaces otherwise; what is there becomes points.
func TestNames(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	var site map[string]any
	if err := json.Unmarshal([]byte(f.text(t, "/api/file/site.json")), &site); err != nil {
		t.Fatal(err)
	}
	var column []string
	for _, d := range site["devices"].([]any) {
		device := d.(map[string]any)
		if device["id"] != "super" {
			continue
		}
		delete(device, "bench")
		var points []any
		for i := range 300 {
			name, of := fmt.Sprintf("Row%c.Tank%d.Value%d", 'A'+i%4, i/10, i), "float32"
			points = append(points, map[string]any{"id": fmt.Sprint("n", i), "name": name, "type": of, "access": "r",
				"paceMs": 1000, "address": "node=nsu=urn:skerry:hall;s=" + name})
			switch {
			case i%100 == 7: // not there
				name += "x"
			case i%100 == 31: // in small letters
				name = strings.ToLower(name)
			case i%100 == 62:
				of = "int32"
			}
			column = append(column, name+"\t"+of)
		}
		device["points"] = points
	}
	site["crossings"] = slices.DeleteFunc(site["crossings"].([]any),
		func(x any) bool { return x.(map[string]any)["id"] == "x-shore-4" }) // it writes to a point that is gone
	f.post(t, "/api/file/site.json", site)
	b := f.open(t, "/points/super")
	b.press("Prove names")
	b.put("Names", strings.Join(column, "\n"))
	b.press("Prove them")
	const nine = "291 of 300 names are there, 9 are not: 3 another case, 3 another type, 3 not there."
	b.sees(nine)
	b.click(`section input[type=checkbox]`)
	b.until("the nine are listed", `document.querySelectorAll("[data-verdict]").length === 9`)
	b.until("each with its line",
		`[...document.querySelectorAll("[data-verdict='not there'] td:first-child")].map(x => x.innerText).join() === "8,108,208"`)
	f.post(t, "/api/bench/fault", map[string]any{"device": "super", "fault": map[string]any{"kind": "shift"}})
	b.press("Prove them")
	b.sees(nine)

	// Names that the map has not got yet become points, with their types.
	b.to("/points/names/super")
	b.put("Names", "RowA.Tank0.Value0")
	b.press("Prove them")
	b.sees("All 1 names are there.")
	b.press("Make points of those that are there")
	b.sees("None of these names is there and not in the map yet.")

	// What the server has beside a list is told, too; of a file also what is otherwise.
	b.click(`form input[type=checkbox]`)
	b.press("Prove them")
	b.sees("All 1 names are there. The device has 299 more, which are not in the list.")
	b.until("they are listed", `document.querySelectorAll("[data-verdict='not in the list']").length === 299`)
	file := f.text(t, "/api/devices/super/description")
	b.put("Names", strings.Replace(file, `AccessLevel="1"`, `AccessLevel="3"`, 1))
	b.press("Prove them")
	b.sees("All 300 names are there. 1 of them is otherwise than the list says.")
	b.sees("It is read, and the list says read and written.")
}

// put puts a text into what a label names, all at once.
func (b *browser) put(label, text string) {
	b.t.Helper()
	b.does(fmt.Sprintf(`const e = document.querySelector(%q);
		Object.getOwnPropertyDescriptor(Object.getPrototypeOf(e), "value").set.call(e, %q);
		e.dispatchEvent(new Event("input", { bubbles: true }))`, b.labelled(label), text))
}

// TestTrust: a server is trusted that nobody knew, and trusts this end; and Ferry, which serves
// names itself, is asked by a client that it does not know at first, in the browser all of it.
// What is told at one side is there at the other, and back.
func TestTrust(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/lines/link/lss-super")
	b.press("Ask for its endpoints")
	b.sees("Its clock and that of this machine agree.")
	b.click(`[data-offer="Basic256Sha256, signed and encrypted"] button`)
	b.sees("Not trusted yet.")
	b.press("Make a certificate")
	b.sees("Have the server trust it")
	b.until("it is set so", `document.querySelector('[data-offer="Basic256Sha256, signed and encrypted"] svg')`)
	f.post(t, "/api/run/start", map[string]any{"links": []string{"lss-super"}})
	eventually(t, "it is not asked while it is not trusted", func() bool {
		return strings.Contains(f.text(t, "/api/findings"), `"code":"not-trusted"`)
	})
	b.press("It is the same: trust it")
	b.sees("This end trusts it.")
	good := func(id string) bool { return strings.Contains(f.text(t, "/api/points/"+id), `"quality":"good"`) }
	eventually(t, "its values come over a channel that is signed and encrypted", func() bool { return good("super-01") })
	f.post(t, "/api/bench/fault", map[string]any{"device": "super", "fault": map[string]any{"kind": "callers"}})
	f.post(t, "/api/run/stop", map[string]any{})
	f.post(t, "/api/run/start", map[string]any{"links": []string{"lss-super"}})
	eventually(t, "that it does not trust this end is found", func() bool {
		return strings.Contains(f.text(t, "/api/findings"), "Hall supervisor answers: Bad_SecurityChecksFailed")
	})
	kept := filepath.Join(t.TempDir(), "kept.pcapng")
	eventually(t, "and again in what is kept", func() bool {
		if err := os.WriteFile(kept, []byte(f.text(t, "/api/file/traffic.pcapng?link=lss-super")), 0o644); err != nil {
			t.Fatal(err)
		}
		out, _ := peerOutput(binary(t), "diagnose", kept, "--json") // findings are no success
		return strings.Contains(out, "answers: Bad_SecurityChecksFailed")
	})
	f.post(t, "/api/run/stop", map[string]any{})
	b.press("Try it")
	b.sees("Have it trusted at the server")
	f.post(t, "/api/bench/fault", map[string]any{"device": "super", "fault": map[string]any{"kind": ""}})

	// The other way round.
	b.to("/lines/device/shore")
	b.choose("Sessions begin", "secured")
	b.press("Make a certificate")
	b.sees("Have each client trust it")
	f.post(t, "/api/run/start", map[string]any{})
	var serving []field.ServingState
	eventually(t, "it listens", func() bool {
		if err := json.Unmarshal([]byte(f.text(t, "/api/serving")), &serving); err != nil {
			t.Fatal(err)
		}
		for _, s := range serving {
			if s.Device == "shore" && len(s.Listens) == 1 {
				serving = []field.ServingState{s}
				return true
			}
		}
		return false
	})
	own, key, err := certs.Make("Shore panel", "urn:ferry", []string{"localhost"}, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	driver, _, err := field.DriverOf("opc.tcp")
	if err != nil {
		t.Fatal(err)
	}
	papers := map[string][]byte{"own": own, "key": key}
	text := protocol.OfText
	target := field.Target{Dial: serving[0].Listens[0], Settings: protocol.Settings{"policy": text("Aes256_Sha256_RsaPss"),
		"mode": text("sign"), "certificate": text("own"), "key": text("key"), "trusts": text("shown")},
		Kept: func(_ protocol.Kind, name string) ([]byte, error) { return papers[name], nil }}
	offered, reply := driver.(field.Offerer).Offers(context.Background(), target)
	if !reply.OK() || len(offered.Offers) != 6 || offered.Offers[0].Certificate == nil {
		t.Fatalf("%+v, %+v", reply, offered)
	}
	papers["shown"] = certs.PEM(offered.Offers[0].Certificate)
	if conn, reply := driver.Dial(context.Background(), target); conn != nil ||
		!strings.Contains(reply.Sentence, "refuses the certificate of this end") {
		t.Fatalf("a client that nobody knows is let in: %s", reply.Sentence)
	}
	b.until("it is shown", `document.querySelector("[data-stranger='Shore panel']")?.innerText.includes("Fingerprint")`)
	b.click("[data-stranger='Shore panel'] button")
	b.sees("Trusted. The client has to trust the certificate of this end, too.")
	conn, reply := driver.Dial(context.Background(), target)
	if conn == nil {
		t.Fatalf("a client that is trusted is not let in: %+v", reply)
	}
	t.Cleanup(func() { _ = conn.Close() })
	node := func(name string) address.Address { return address.Named("node", "nsu=urn:skerry:shore;s="+name) }
	eventually(t, "the client reads what is in tank 11", func() bool {
		looked, reply := conn.(field.Looker).Look([]address.Address{node("RowA.Tank11.Oxygen")})
		return reply.OK() && looked[0].Presence == protocol.Here && looked[0].Value.Float() > 5
	})
	eventually(t, "the supervisor is read", func() bool { return good("super-07") })
	reply = conn.(field.ItemWriter).WriteItem(protocol.Wanted{Address: node("Hall.OxygenSetpoint")}, value.OfFloat(9.25),
		func() (func(), error) { return func() {}, nil })
	if !reply.OK() {
		t.Fatalf("%+v", reply)
	}
	eventually(t, "what it wrote is at the supervisor", func() bool {
		return strings.Contains(f.text(t, "/api/points/super-07"), "9.25")
	})
	b.to("/points/super/super-07")
	b.sees("9.25")
}

// TestBrowse: the folders of a server are looked into one by one, nodes are found by words of
// their names, and what is chosen becomes points that are called as the rule says.
func TestBrowse(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	var site map[string]any
	if err := json.Unmarshal([]byte(f.text(t, "/api/file/site.json")), &site); err != nil {
		t.Fatal(err)
	}
	for _, d := range site["devices"].([]any) { // the map lacks some that the server has
		if device := d.(map[string]any); device["id"] == "super" {
			points := device["points"].([]any)
			device["points"] = points[2:9]
		}
	}
	f.post(t, "/api/file/site.json", site)
	f.post(t, "/api/run/start", map[string]any{"links": []string{"lss-super"}})
	b := f.open(t, "/points/super")
	b.press("What it has")
	b.click(`[aria-label="Open Tank11"]`)
	b.until("what lies in it is there, with its unit",
		`document.querySelector("[data-node='Tank11.Oxygen']")?.innerText.includes("mg/L")`)
	b.click(`[aria-label="Choose Tank11.Oxygen"]`)
	b.does(`document.querySelector('[aria-label="Choose Setpoints"]').focus()`)
	b.keys(kb.ArrowDown, kb.ArrowDown, kb.ArrowRight)
	b.until("a folder is opened by keys", `document.querySelector("[data-node='Pumps.Hours']")`)
	b.keys(" ")
	b.fill("Goes before each name", "Hall ")
	b.press("Make points of them")
	b.sees("3 points were added to the map.")
	b.until("they are known to be in it", `document.querySelector('[aria-label="Choose Tank11.Oxygen"]').disabled`)
	b.fill("Words of the name", "temperature tank11\r")
	b.sees("1 of 15 nodes.")
	b.to("/points/super")
	for _, name := range []string{"Hall Tank11 Oxygen", "Hall Pumps Hours[0]", "Hall Pumps Hours[1]"} {
		b.sees(name)
	}
}

// TestBothWays: two controllers exchange values through Ferry, each by the names of the other: a list
// is made of a table, proved, and carries; what is changed here is seen there and the other way
// round, with the time it took; a circle is found before it runs.
func TestBothWays(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	var site map[string]any
	if err := json.Unmarshal([]byte(f.text(t, "/api/file/site.json")), &site); err != nil {
		t.Fatal(err)
	}
	node := func(id, name, of, access string) map[string]any {
		return map[string]any{"id": id, "name": name, "address": "node=nsu=urn:skerry:row;s=" + name, "type": of,
			"access": access,
			"paceMs": 500}
	}
	site["devices"] = append(site["devices"].([]any), map[string]any{"id": "rowc", "name": "Row controller",
		"map":   "opc.tcp",
		"ports": []any{map[string]any{"line": "plantnet", "host": "192.0.2.92", "protocol": "opc.tcp"}},
		"points": []any{node("row-1", "In.Oxygen", "float32", "rw"), node("row-2", "Out.Target", "float64", "rw"),
			node("row-3", "In.Target", "float64", "rw")}})
	site["links"] = append(site["links"].([]any), map[string]any{"id": "lss-rowc", "asking": "lss", "answering": "rowc",
		"line": "plantnet", "protocol": "opc.tcp", "settings": map[string]any{"publishMs": 100}})
	crossings := site["crossings"].([]any)
	site["crossings"] = crossings[:len(crossings)-1] // the shore writes the setpoint no more
	site["lists"] = append(site["lists"].([]any), map[string]any{"id": "row-names", "name": "Row names", "far": "rowc"})
	f.post(t, "/api/file/site.json", site)
	b := f.open(t, "/crossings/lists/row-names/add")
	b.press("By a table…")
	b.put("Table", "Hall supervisor.Tank 11 oxygen;nsu=urn:skerry:row;s=In.Oxygen;;there\n"+
		"Hall supervisor.Oxygen setpoint;nsu=urn:skerry:row;s=Out.Target;;here\n"+
		"Hall supervisor.Oxygen setpoint;nsu=urn:skerry:row;s=In.Target;;there\n")
	b.press("Look at the pairs")
	b.sees("3 pairs proposed")
	b.press("Pair these 3")
	b.sees("Paired: 3.")
	b.press("See the list")
	b.press("Run on the bench")
	b.until("the whole list is well", `document.querySelector('[data-stand="carries all"]')`)
	b.press("Prove each name")
	b.sees("All 3 names are there")
	for _, change := range []struct{ at, device, text, there, other string }{
		{"row-2", "rowc", "9.25", "super-07", "super"}, {"super-07", "super", "7.5", "row-3", "rowc"}} {
		b.to("/points/" + change.device + "/" + change.at)
		b.fill("New value", change.text)
		b.press("Write…")
		b.sees("Write to the bench?")
		b.press("Write " + change.text)
		b.to("/points/" + change.other)
		b.until("it is seen at the other",
			`document.querySelector('[data-now="`+change.there+`"]')?.innerText.includes("`+change.text+`")`)
	}
	b.until("what moves goes along",
		`(n => Math.abs(n("row-1")) > 5)(id => parseFloat(document.querySelector('[data-now="' + id + '"]')?.innerText))`)
	b.to("/crossings")
	b.find("In.Target")
	b.until("how old it may be is foreseen", `/far end's look\s*2[\s\S]*until told\s*500/.test(document.body.innerText)`)
	b.until("the time that it took is shown", `/measured: Ferry \d+\.\d\d/.test(document.body.innerText)`)

	// What would come back to where it is from is a circle.
	if err := json.Unmarshal([]byte(f.text(t, "/api/file/site.json")), &site); err != nil {
		t.Fatal(err)
	}
	site["crossings"] = append(site["crossings"].([]any), map[string]any{"id": "x-round", "from": "row-3", "to": "row-2"})
	f.post(t, "/api/file/site.json", site)
	b.to("/crossings/x-round")
	b.sees("The crossing runs in a circle")
	b.sees("by way of")
}
