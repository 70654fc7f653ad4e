package e2e

import (
	"encoding/json"
	"net"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// freePort is a port of this machine at which nobody listens.
func freePort(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// hall is a Ferry on the plant whose panels write and read some registers of it.
func hall(t *testing.T, name string, panels int) *ferry {
	t.Helper()
	s := site.New(name)
	s.Lines = []site.Line{{ID: "net", Name: "Plant net", Medium: site.Ethernet}}
	point := func(id, name string, at uint32, unit string) site.Point {
		return site.Point{ID: id, Name: name, Address: block.At("hr", at), Type: value.TypeUint16, Unit: unit,
			Access: site.ReadWrite, PaceMs: 1000}
	}
	s.Devices = []site.Device{{ID: "lss", Name: "Controller", Ports: []site.Port{{Line: "net", Host: "127.0.0.3"}},
		Points: []site.Point{}}, {ID: "panels", Name: "Panels", Map: "modbus-tcp", Serving: &site.Serving{},
		Ports: []site.Port{{Line: "net", Host: "127.0.0.1", Protocol: "modbus-tcp",
			Settings: protocol.Numbers(map[string]int{"port": panels})}},
		Points: []site.Point{point("level", "SumpLevel", 0, "mm"), point("speed", "PumpSpeed", 1, "rpm")}}}
	f := start(t, "serve", t.TempDir())
	f.post(t, "/api/file/site.json", json.RawMessage(mustJSON(t, s)))
	f.post(t, "/api/mode", map[string]string{"mode": "plant"})
	f.post(t, "/api/run/start", map[string][]string{"links": {"panels"}})
	return f
}

// TestTwoFerrys: from one Ferry another is set up as well, its points are found by
// name, and what is changed on either side is seen on the other.
func TestTwoFerrys(t *testing.T) {
	t.Parallel()
	registers := filepath.Join(t.TempDir(), "registers")
	peer(t, true, "gcc", "-O1", "-o", registers, "../scripts/peers/registers.c", "-I/usr/include/modbus", "-lmodbus")
	ports := [2]int{freePort(t), freePort(t)}
	here, there := hall(t, "Tank hall", ports[0]), hall(t, "Pump house", ports[1])
	set := func(of, register, v int) {
		peer(t, true, registers, strconv.Itoa(ports[of]), "1", "write", strconv.Itoa(register), strconv.Itoa(v))
	}
	reads := func(of, register int) string {
		return peer(t, true, registers, strconv.Itoa(ports[of]), "1", "read", strconv.Itoa(register), "1")
	}
	b := here.open(t, "/crossings/lists/another")
	b.fill("Address", "http://127.0.0.1:1")
	b.press("Look at it")
	b.sees("no Ferry is started at that port")
	b.fill("Address", there.url)
	b.press("Look at it")
	b.sees("Pump house at 127.0.0.1")
	b.fill("Port", strconv.Itoa(freePort(t)))
	b.choose("At the start", "wait")
	b.choose("In a tie", "later")
	b.press("By likeness of names")
	b.sees("2 pairs proposed, 2 of them fit")
	b.press("Set up both with 2")
	b.sees("2 names at Pump house, another Ferry")
	set(1, 0, 1870)
	b.press("Run on the plant")
	b.sees("until it is released by name")
	names := fetched[struct{ Crossings []struct{ ID, List string } }](t, here.url+"/api/site")
	var ids []string
	for _, x := range names.Crossings {
		if x.List != "" {
			ids = append(ids, x.ID)
		}
	}
	here.post(t, "/api/crossings/release", map[string]any{"crossings": ids, "minutes": 60})
	eventually(t, "the level of the pump house in the tank hall", func() bool { return reads(0, 0) == "1870" })
	set(0, 1, 1450)
	began := time.Now()
	eventually(t, "the speed of the tank hall in the pump house", func() bool { return reads(1, 1) == "1450" })
	t.Logf("changed here and seen there after %v", time.Since(began).Round(10*time.Millisecond))
	set(1, 1, 900)
	eventually(t, "the speed of the pump house in the tank hall", func() bool { return reads(0, 1) == "900" })
	b.until("the list is well", `document.querySelector('[data-stand="carries all"]')`)
	there.kill()
	b.until("the other is missed",
		`document.querySelector('[data-stand="not connected"]')?.innerText.includes("service is not started")`)
	if v := reads(0, 0); !strings.HasPrefix(v, "1870") {
		t.Errorf("what is held is %s", v)
	}
}
