package e2e

import (
	octets "encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"testing"

	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// sixteenAtMost is a register server that refuses more than 16 registers at a
// time and stays silent on what it does not know. It returns its port.
func sixteenAtMost(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	serve := func(c net.Conn) {
		defer c.Close()
		request := make([]byte, 12)
		for {
			if _, err := io.ReadFull(c, request[:8]); err != nil {
				return
			}
			rest := make([]byte, int(octets.BigEndian.Uint16(request[4:]))-2)
			if _, err := io.ReadFull(c, rest); err != nil {
				return
			}
			if request[7] != 3 {
				continue
			}
			from, count := octets.BigEndian.Uint16(rest), octets.BigEndian.Uint16(rest[2:])
			answer := []byte{3, byte(2 * count)}
			if count > 16 {
				answer = []byte{0x83, 3}
			} else {
				for i := range count {
					answer = octets.BigEndian.AppendUint16(answer, 1000+from+i)
				}
			}
			frame := octets.BigEndian.AppendUint16(append([]byte(nil), request[:4]...), uint16(1+len(answer)))
			if _, err := c.Write(append(append(frame, 0), answer...)); err != nil {
				return
			}
		}
	}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go serve(c)
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

// TestOddDeviceIsNoted: a device that bears 16 registers at a time and answers as
// unit 0 goes through, the run reads all of it, and one press each notes that in
// its limits.
func TestOddDeviceIsNoted(t *testing.T) {
	t.Parallel()
	s := &site.Site{Format: site.Format, Version: site.Version, Name: "Skerry Point Hatchery",
		Crossings: []site.Crossing{},
		Lines:     []site.Line{{ID: "net", Name: "Plant net", Medium: site.Ethernet}},
		Links: []site.Link{{ID: "k", Asking: "lap", Answering: "probe", Line: "net", Protocol: "modbus-tcp",
			Settings: protocol.Numbers(map[string]int{"port": sixteenAtMost(t)})}},
		Devices: []site.Device{{ID: "lap", Name: "Laptop",
			Ports: []site.Port{{Line: "net", Host: "127.0.0.2", Protocol: "modbus-tcp"}}, Points: []site.Point{}},
			{ID: "probe", Name: "Old DO probe", Map: "modbus-tcp",
				Ports: []site.Port{{Line: "net", Host: "127.0.0.1", Protocol: "modbus-tcp"}}}}}
	s.Devices[1].Ports[0].Settings = protocol.Settings{"port": s.Links[0].Settings["port"]}
	for i := range 40 {
		s.Devices[1].Points = append(s.Devices[1].Points,
			site.Point{ID: fmt.Sprint("p", i), Name: fmt.Sprintf("Reading %02d", i),
				Address: block.At("hr", uint32(100+i)), Type: value.TypeUint16, PaceMs: 1000, Access: site.ReadOnly})
	}
	f := start(t, "serve", t.TempDir())
	f.post(t, "/api/file/site.json", json.RawMessage(mustJSON(t, s)))
	f.post(t, "/api/mode", map[string]string{"mode": "plant"})
	b := f.open(t, "/lines/link/k")
	b.press("Try it")
	b.sees("The message goes through")
	b.sees("at most 16 holding registers in one request")
	b.press("Run it")
	b.to("/points/probe")
	b.until("the last point is read",
		`[...document.querySelectorAll("[data-now]")].some(e => e.innerText.includes("1100")) && ![...document.querySelectorAll("[data-now]")].some(e => e.innerText.includes("cannot be read"))`)
	b.to("/lines/link/k")
	b.sees("answers under another number than it is asked by")
	b.does(`document.querySelector("[data-fix=answers-as]").click()`)
	b.until("its manner is known", `!document.querySelector("[data-fix=answers-as]")`)
	b.press("Note it in the limits")
	b.sees("Noted in the limits of Old DO probe")
	b.until("there is nothing more to note",
		`![...document.querySelectorAll("button")].some(e => e.innerText.includes("Note it in the limits"))`)
	response, err := http.Get(f.url + "/api/file/site.json")
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	var kept site.Site
	if err := json.NewDecoder(response.Body).Decode(&kept); err != nil ||
		kept.Device("probe").Limits.Most["hr"] != 16 ||
		!slices.Equal(kept.Device("probe").Limits.Manners, []string{"answers-as"}) {
		t.Errorf("%+v, %v", kept.Devices, err)
	}
	b.to("/lines/device/probe")
	b.sees("It is known that it bears at most 16 holding registers in one request")
	b.sees("It is known that it answers under another number")
	b.press("No longer")
	b.until("one of the two is known", `document.body.innerText.split("It is known that").length === 2`)
}

// TestIntakeAsks: what a table leaves open is asked with both readings in view,
// and nothing comes in before it is answered.
func TestIntakeAsks(t *testing.T) {
	t.Parallel()
	f := start(t, "demo", t.TempDir())
	b := f.open(t, "/points/gate")
	b.press("Paste rows")
	b.until("the box has the focus", `document.activeElement.tagName === "TEXTAREA"`)
	b.paste("Oxygen skid, function 03\t\t\t\nName\tRegister\tType\tScale\nPurity\t10\tUINT16\t10\nFlow\t12\tFLOAT\t\n")
	b.sees("leaves open how it is meant")
	b.sees("Answer 2 questions first")
	b.until("both readings are in view",
		`document.querySelector('[data-question="base"]').innerText.includes("40011") && document.querySelector('[data-question="base"]').innerText.includes("40010")`)
	b.does(`[...document.querySelectorAll('[data-question="base"] button')].find(e => e.innerText.includes("from 1")).click()`)
	b.sees("Answer 1 question first")
	b.does(`[...document.querySelectorAll('[data-question="scale"] button')].find(e => e.innerText.includes("divide")).click()`)
	b.press("Bring in 2 rows")
	b.sees("2 points added")
	b.until("as answered",
		`(r => r?.innerText.includes("40010") && r.innerText.includes("÷ 10"))([...document.querySelectorAll("[data-point]")].find(e => e.innerText.includes("Purity")))`)
}
