package e2e

import (
	"encoding/json"
	"io"
	"math"
	"net"
	"net/http"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
)

// peer runs a program of another hand and returns what it prints.
func peer(t *testing.T, fine bool, name string, args ...string) string {
	t.Helper()
	out, err := peerOutput(name, args...)
	if (err == nil) != fine {
		t.Fatalf("%s %v: %v, %s", filepath.Base(name), args, err, out)
	}
	return out
}

// peerOutput is peer where it may fail.
func peerOutput(name string, args ...string) (string, error) {
	out, err := exec.Command(name, args...).CombinedOutput()
	return strings.TrimSpace(string(out)), err
}

// fetched reads an answer of the interface.
func fetched[T any](t *testing.T, url string) (answer T) {
	t.Helper()
	response, err := http.Get(url)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	data, err := io.ReadAll(response.Body)
	if err == nil {
		err = json.Unmarshal(data, &answer)
	}
	if err != nil {
		t.Fatalf("%s: %v, %.300s", url, err, data)
	}
	return answer
}

func eventually(t *testing.T, what string, until func() bool) {
	t.Helper()
	for deadline := time.Now().Add(patience); !until(); time.Sleep(100 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("not within %v: %s", patience, what)
		}
	}
}

// TestShoreGateway: the gateway of the panels is made from the maps of the whole
// hatchery, in bulk, and asked by a client of another hand, which writes a setpoint
// that arrives at its drive; a broker is heard by another; sources and targets come
// and go, and the others go on; the lists are handed over.
func TestShoreGateway(t *testing.T) {
	t.Parallel()
	registers := filepath.Join(t.TempDir(), "registers")
	peer(t, true, "gcc", "-O1", "-o", registers, "../scripts/peers/registers.c", "-I/usr/include/modbus", "-lmodbus")
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/crossings/pair/panels")
	b.press("Give out addresses…")
	b.fill("First address", "40001")
	b.fill("First address of states", "10001")
	b.fill("Each device begins on a multiple of", "100")
	b.does(`[...document.querySelectorAll("label")].find(l => l.innerText.includes("clients may write")).querySelector("input").click()`)
	b.press("Look at the pairs")
	b.sees("pairs proposed")
	b.until("they can be taken",
		`window.take = [...document.querySelectorAll("button")].find(e => /^Pair these \d+/.test(e.innerText))`)
	shot(b, "pairing")
	b.does(`window.take.click()`)
	b.sees("Ctrl Z takes it back as one step")
	b.to("/crossings")
	b.press("Run on the bench")

	type cells struct {
		Rows []struct {
			ID    string
			Cells []string
			Start int
		}
	}
	point := func(name string) (id string, offset int) {
		for _, row := range fetched[cells](t, f.url+"/api/devices/panels/points").Rows {
			if row.Cells[0] == name {
				return row.ID, row.Start
			}
		}
		t.Fatalf("no point is named %s", name)
		return
	}
	live := func(id string) float64 {
		v := fetched[struct {
			Live struct{ Value any }
		}](t, f.url+"/api/points/"+id).Live.Value
		n, _ := v.(float64) // none yet
		return n
	}
	listens := ""
	eventually(t, "Ferry to answer as the gateway", func() bool {
		for _, s := range fetched[[]struct {
			Device  string
			Listens []string
		}](t, f.url+"/api/serving") {
			if s.Device == "panels" {
				listens = s.Listens[0]
			}
		}
		return listens != ""
	})
	_, port, err := net.SplitHostPort(listens)
	if err != nil {
		t.Fatal(err)
	}
	float := func(offset int) (float64, bool) {
		out, err := exec.Command(registers, port, "1", "read", strconv.Itoa(offset), "2").CombinedOutput()
		words := strings.Fields(string(out))
		if err != nil || len(words) != 2 {
			return 0, false
		}
		high, _ := strconv.Atoi(words[0])
		low, _ := strconv.Atoi(words[1])
		return float64(math.Float32frombits(uint32(high)<<16 | uint32(low))), true
	}
	_, temperature := point("DO probe 11-WaterTemp")
	same := func() bool {
		v, ok := float(temperature)
		return ok && v != 0 && math.Abs(v-live("do11-02")) < 0.3
	}
	eventually(t, "the temperature at a client of another hand", same)
	if said := peer(t, false, registers, port, "1", "read", "60000", "2"); !strings.Contains(said,
		"Illegal data address") {
		t.Errorf("beyond the map it is told %q", said)
	}
	if said := peer(t, false, registers, port, "1", "write", strconv.Itoa(temperature), "1", "2"); !strings.Contains(said,
		"Illegal") {
		t.Errorf("a write to what is only read is told %q", said)
	}
	_, setpoint := point("Pump drive 1-SpeedSetpoint")
	eventually(t, "the setpoint to stand at both ends", func() bool {
		_, err := exec.Command(registers, port, "1", "read", strconv.Itoa(setpoint), "1").Output()
		return err == nil
	})
	peer(t, true, registers, port, "1", "write", strconv.Itoa(setpoint), "3150")
	eventually(t, "what it writes to arrive at the drive", func() bool { return math.Abs(live("pump1-02")-31.5) < 0.01 })

	// What Ferry publishes is heard by a client of another hand.
	site := fetched[struct {
		StandIns []struct{ Device, Addr string }
	}](t, f.url+"/api/site")
	broker := ""
	for _, s := range site.StandIns {
		if s.Device == "cloud" {
			_, broker, _ = net.SplitHostPort(s.Addr)
		}
	}
	heard := func() (message struct {
		Value         float64
		Time, Quality string
	}) {
		out := peer(t, true, "mosquitto_sub", "-h", "127.0.0.1", "-p", broker, "-t", "skerry/row-a/do11/oxygen", "-C", "1",
			"-W", "15")
		if err := json.Unmarshal([]byte(out), &message); err != nil {
			t.Fatalf("it hears %q", out)
		}
		return message
	}
	if m := heard(); math.Abs(m.Value-live("do11-01")) > 0.5 || m.Quality != "good" || m.Time == "" {
		t.Errorf("it hears %+v, and the probe has %g", m, live("do11-01"))
	}

	// Names of the far side come from a table into a list, each with its direction, and
	// are proved there; what another program publishes arrives at its skid.
	b.to("/crossings/lists/cloud-names/add")
	b.press("By a table…")
	b.fill("Table", "DO probe 12.Oxygen;skerry/row-a/do12/oxygen;\nDO probe 12.WaterTemp;skerry/row-a/do12/#;\n"+
		"Oxygen skid.PuritySetpoint;skerry/skid/purity;;here\n")
	b.press("Look at the pairs")
	b.sees("+ and # stand for several topics: name one")
	b.press("Pair these 2")
	b.sees("Paired: 2.")
	b.press("See the list")
	publish := func(topic, payload string) {
		peer(t, true, "mosquitto_pub", "-h", "127.0.0.1", "-p", broker, "-t", topic, "-m", payload)
	}
	eventually(t, "what another publishes to arrive at the skid", func() bool {
		publish("skerry/skid/purity", "97.5")
		return math.Abs(live("skid-06")-97.5) < 0.01
	})
	b.until("the whole list is well",
		`document.querySelector('[data-stand="carries all"]')?.innerText.includes("All 5 names carry")`)
	b.press("Prove each name")
	b.sees("All 5 names are there")
	shot(b, "list")
	b.choose("Carries", "takes")
	b.sees("cannot go another way")
	b.choose("Switched", "off")
	b.until("it is off as a whole", `document.querySelector('[data-stand="off"]')`)
	b.choose("Switched", "on")
	// A source that is gone holds its own crossings, a target that is gone fails its
	// own; all others go on, and these come back.
	state := func(id string) string {
		return fetched[struct{ State struct{ State string } }](t, f.url+"/api/crossings/"+id).State.State
	}
	b.to("/traffic")
	b.fault("do11", "stop")
	eventually(t, "its crossing to hold", func() bool { return state("x-temp") == "holding" })
	if _, ok := float(temperature); !ok {
		t.Error("what is held is not there for clients")
	}
	eventually(t, "the far side to be told that it is good no more", func() bool { return heard().Quality != "good" })
	b.fault("cloud", "stop")
	eventually(t, "the broker's crossing to say so", func() bool {
		now := state("x-cloud-speed")
		return now == "failed" || now == "away"
	})
	if now := state("x-speed"); now != "carrying" {
		t.Errorf("another crossing is %s", now)
	}
	b.to("/crossings/lists")
	b.sees("The machine is there, its service is not started")
	b.to("/traffic")
	b.fault("do11", "")
	b.fault("cloud", "")
	eventually(t, "both to come back", func() bool {
		return state("x-temp") == "carrying" && state("x-cloud-speed") == "carrying" && same()
	})
	eventually(t, "the far side to be told that it is good again", func() bool { return heard().Quality == "good" })
	b.to("/checkout/record")
	b.until("what the client wrote is in the journal",
		`[...document.querySelectorAll("[data-write]")].some(e => e.innerText.includes("client 127.0.0.1"))`)

	for format, says := range map[string]string{"csv": "DO probe 11 · WaterTemp,Panel gateway · DO probe 11-WaterTemp,as it is", "json": `"toType": "float32"`,
		"xlsx": "PK\x03\x04"} {
		response, err := http.Get(f.url + "/api/file/crossings." + format + "?to=panels")
		if err != nil {
			t.Fatal(err)
		}
		data, err := io.ReadAll(response.Body)
		_ = response.Body.Close()
		if err != nil || response.StatusCode != 200 || !strings.Contains(string(data), says) {
			t.Errorf("%s: %d, %v, %.200q", format, response.StatusCode, err, data)
		}
	}
}
