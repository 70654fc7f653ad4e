package internal_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ferry/internal/api"
	"ferry/internal/core/protocol"
	"ferry/internal/core/timetable"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/vault"
)

// TestAskedByName: a family that is asked for places by their names goes through
// the timetable, the run, a try, writes and their reading back.
func TestAskedByName(t *testing.T) {
	h := open(t, strings.ReplaceAll(toySite, "toy-tcp", "toy-asked"))
	h.call("POST", "/api/kept/secret/hall%20phrase", toyPhrase, &[]vault.Kept{})
	h.takeIn()
	h.listed()
	h.called()
	plan := timetable.Compile(h.engine.Site())
	var asked []string
	for _, r := range plan.Requests {
		if r.Link == "toy" {
			asked = append(asked, fmt.Sprintf("%s: %d points in %.4f ms", r.Operation, len(r.Points), r.WireMs))
		}
	}
	// Three to a message: 60 octets and 20 a path out, 60 and 50 a path in, at
	// 100 Mbit/s.
	if got := strings.Join(asked,
		"; "); got != "ask for 3 paths: 3 points in 0.0264 ms; ask for 1 paths: 1 points in 0.0152 ms" {
		t.Errorf("the timetable asks: %s", got)
	}
	if r := h.try(); stops(r) != "good good good good good" ||
		!strings.Contains(r.Stops[3].Saw, "All 4 points were read, in 2") {
		t.Errorf("%s: %+v", stops(r), r.Stops)
	}
	h.call("POST", "/api/run/start", api.RunRequest{}, &field.State{})
	h.until("all four are good", func() bool {
		for _, name := range []string{"Oxygen", "Row", "Setpoint", "Pump"} {
			if h.live(name).Quality != value.Good {
				return false
			}
		}
		return true
	})
	if live := h.live("Oxygen"); live.Words == "" || live.SourceMs == 0 {
		t.Errorf("oxygen reads %+v", live)
	}
	if result, refused := h.write("Setpoint", "850"); !result.OK || result.ReadBack != "850" {
		t.Errorf("a write is %+v %s", result, refused)
	}
	for fault, saw := range map[string]string{"toy-renamed": "no such path", "toy-texts": "came as a text"} {
		h.fault(fault)
		if r := h.try(); stops(r) != "good good good fault not-tried" ||
			!strings.Contains(strings.ToLower(fmt.Sprint(r.Stops)), saw) {
			t.Errorf("%s: %s: %+v", fault, stops(r), r.Stops)
		}
		h.until("oxygen is bad under "+fault, func() bool { return h.live("Oxygen").Quality == value.Bad })
		if row := h.live("Row"); fault == "toy-renamed" && row.Quality != value.Good {
			t.Errorf("another point of the same question reads %+v", row)
		}
	}
	h.fault("stop")
	if r := h.try(); stops(r) != "good fault not-tried not-tried not-tried" {
		t.Errorf("stopped: %s: %+v", stops(r), r.Stops)
	}
	h.fault("")
	h.until("it is well again", func() bool { return h.live("Oxygen").Quality == value.Good })
	h.call("POST", "/api/run/stop", api.RunRequest{}, &field.State{})
	h.until("values that are not asked for any more are old", func() bool {
		h.engine.Hub.Age(time.Now().Add(time.Minute))
		return h.live("Oxygen").Quality == value.Doubtful
	})
}

// listed: what the hall says it has is the map that it was given, but for what it
// calls one of its places; a list without an end is given up.
func (h *house) listed() {
	h.Helper()
	var view api.PointsView
	h.call("GET", "/api/devices/hall/points", "", &view)
	if view.Listed != "paths" {
		h.Errorf("the page can ask for %q", view.Listed)
	}
	var held api.HeldView
	h.call("POST", "/api/devices/hall/held", "", &held)
	var answer api.IntakeAnswer
	h.call("POST", "/api/devices/hall/intake", api.IntakeRequest{Text: held.Text}, &answer)
	if held.Count != 4 || held.More || answer.Total != 4 || answer.Added != 0 || answer.Changed != 1 ||
		len(answer.RejectedRows) != 0 || !strings.Contains(held.Text, `""State/Row name""`) {
		h.Errorf("it has %+v, which would bring %+v", held, answer)
	}
	var file api.IntakeAnswer
	h.call("POST", "/api/devices/hall/intake", api.IntakeRequest{
		Text: "PATHS\nHall 1/Oxygen;float32\nHall 1/Lamp;bool!\nHall 1/Door\nHall 1/Odd;colour\n"}, &file)
	if file.Total != 3 || file.Added != 1 || file.Changed != 0 || len(file.RejectedRows) != 1 || len(file.Faults) != 1 ||
		file.Faults[0].Line != 4 || view.Described != "path lists" {
		h.Errorf("a file about such devices brings %+v", file)
	}
	if status, text := h.call("POST", "/api/devices/hall/intake", api.IntakeRequest{Text: "PATHS\n"},
		nil); status == 200 || !strings.Contains(text, "it has no path") {
		h.Errorf("an empty one: %d %s", status, text)
	}
	h.fault("toy-rounds")
	if status, text := h.call("POST", "/api/devices/hall/held", "", nil); status == 200 ||
		!strings.Contains(text, "has no end") {
		h.Errorf("a list without an end: %d %s", status, text)
	}
	h.fault("stop")
	if status, text := h.call("POST", "/api/devices/hall/held", "", nil); status == 200 ||
		!strings.Contains(text, "not-listed") {
		h.Errorf("a device that is away: %d %s", status, text)
	}
	h.fault("")
	if status, text := h.call("POST", "/api/devices/panel/held", "", nil); status == 200 ||
		!strings.Contains(text, "cannot-list") {
		h.Errorf("a protocol without a list: %d %s", status, text)
	}
}

// called: halls answer a question to all, the one that is off is missed, and what
// answers becomes a device with what it told of its end.
func (h *house) called() {
	h.Helper()
	call := func() (sweep field.Sweep) {
		h.call("POST", "/api/sweeps", field.SweepOrder{Kind: "call", Line: "net", Protocol: "toy-asked"}, &sweep)
		h.until("all had time to answer", func() bool {
			h.call("GET", "/api/sweeps/"+sweep.ID, "", &sweep)
			return !sweep.Running
		})
		return sweep
	}
	sweep := call()
	if len(sweep.Found) != 1 || sweep.Found[0].Device != "hall" || sweep.Found[0].Identity != "toy hall" ||
		len(sweep.Missing) != 0 {
		h.Errorf("a call finds %+v", sweep)
	}
	h.fault("stop")
	if away := call(); len(away.Found) != 0 || len(away.Missing) != 1 {
		h.Errorf("without the hall it finds %+v", away)
	}
	h.fault("")
	stranger := sweep.Found[0]
	stranger.Host, stranger.Device = "192.0.2.9", ""
	h.call("POST", "/api/sweeps/"+sweep.ID+"/take", api.TakeRequest{Asking: "laptop", Found: []field.Found{stranger}},
		&api.EditAnswer{})
	d := h.engine.Site().Devices[3]
	if d.Name != "toy hall, 192.0.2.9" || d.Ports[0].Settings["aliveMs"] != protocol.OfInt(150) ||
		len(d.Ports[0].Settings) != 1 {
		h.Errorf("it becomes %+v", d)
	}
	h.call("POST", "/api/undo", "", nil)
	if status, text := h.call("POST", "/api/sweeps", field.SweepOrder{Kind: "call", Line: "net", Protocol: "modbus-tcp"},
		nil); status == 200 || !strings.Contains(text, "no question to all") {
		h.Errorf("a protocol without one: %d %s", status, text)
	}
	h.call("POST", "/api/mode", api.ModeRequest{Mode: field.Plant}, nil)
	if status, text := h.call("POST", "/api/sweeps", field.SweepOrder{Kind: "call", Line: "net", Protocol: "toy-asked"},
		nil); status == 200 || !strings.Contains(text, "documentation") {
		h.Errorf("a made-up network on the plant: %d %s", status, text)
	}
	h.call("POST", "/api/mode", api.ModeRequest{Mode: field.Bench}, nil)
}
