package internal_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/api"
	"ferry/internal/bench"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
	"ferry/internal/core/value"
	_ "ferry/internal/families"
	"ferry/internal/field"
	"ferry/internal/files"
	"ferry/internal/store"
	"ferry/internal/vault"
)

// toySite has a toy hall that reports and a controller of the block shape beside
// it. The points of the hall come in by a table.
const toySite = `{
  "format": "ferry-site", "version": 1, "name": "Skerry Point Hatchery",
  "lines": [{"id": "net", "name": "Plant net", "medium": "ethernet", "network": "192.0.2.0/24"}],
  "devices": [
    {"id": "laptop", "name": "Laptop", "ports": [{"line": "net", "host": "192.0.2.1"}], "points": []},
    {"id": "hall", "name": "Hall 1", "map": "toy-tcp", "points": [],
     "ports": [{"line": "net", "host": "192.0.2.2", "protocol": "toy-tcp", "settings": {"aliveMs": 150}}]},
    {"id": "panel", "name": "Panel", "map": "modbus-tcp",
     "ports": [{"line": "net", "host": "192.0.2.3", "protocol": "modbus-tcp"}],
     "points": [{"id": "shown", "name": "Shown oxygen", "address": "hr10", "type": "float32", "paceMs": 100, "access": "rw"},
                {"id": "chosen", "name": "Chosen", "address": "hr20", "type": "uint16", "paceMs": 100, "access": "rw"}]}
  ],
  "links": [
    {"id": "toy", "asking": "laptop", "answering": "hall", "line": "net", "protocol": "toy-tcp",
     "settings": {"aliveMs": 150, "client": "hall-laptop", "phrase": "hall phrase"}},
    {"id": "block", "asking": "laptop", "answering": "panel", "line": "net", "protocol": "modbus-tcp"}
  ],
  "crossings": []
}`

const toyTable = "Name,Toy path,Type,Unit,Access\n" +
	"Oxygen,\"\"\"Hall 1/Oxygen\"\"\",float32,mg/L,r\n" +
	"Row,\"\"\"State/Row name\"\"\",text20,,r\n" +
	"Setpoint,\"\"\"Hall 1/Setpoint\"\"\",uint16,,rw\n" +
	"Pump,\"\"\"Hall 1/Pump\"\"\",bool,,r\n" +
	"Lost,Hall 1/Lost,float32,,r\n"

// house is Ferry with the toy's site.
type house struct {
	*testing.T
	app    *fiber.App
	engine *field.Engine
	store  *store.Store
}

func open(t *testing.T, text string) *house {
	s, err := files.ReadSite([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	st, err := store.Open(context.Background(), dir, func() *site.Site { return s })
	if err != nil {
		t.Fatal(err)
	}
	b := bench.New()
	now, _ := st.Site()
	if err := b.Sync(now); err != nil {
		t.Fatal(err)
	}
	e := field.NewEngine(now, b)
	e.Journal = api.WriteJournal{Store: st}
	server := &api.Server{Store: st, Engine: e, Bench: b, Vault: vault.In(dir)}
	e.Kept = server.Vault.Get
	t.Cleanup(func() { e.Close(); _ = b.Close(); _ = st.Close() })
	return &house{t, server.App(), e, st}
}

// call asks the interface; a body that is not text goes as JSON.
func (h *house) call(method, path string, body, into any) (status int, text string) {
	h.Helper()
	data, plain := body.(string)
	if !plain {
		encoded, err := json.Marshal(body)
		if err != nil {
			h.Fatal(err)
		}
		data = string(encoded)
	}
	request := httptest.NewRequest(method, path, strings.NewReader(data))
	request.Host = "127.0.0.1:8642"
	request.Header.Set("X-Ferry-Window", "test window")
	request.Header.Set("Content-Type", "application/json")
	response, err := h.app.Test(request, fiber.TestConfig{Timeout: time.Minute})
	if err != nil {
		h.Fatal(err)
	}
	answer, err := io.ReadAll(response.Body)
	if err != nil {
		h.Fatal(err)
	}
	if into != nil {
		if err := json.Unmarshal(answer, into); err != nil || response.StatusCode != 200 {
			h.Fatalf("%s %s: %d %s", method, path, response.StatusCode, answer)
		}
	}
	return response.StatusCode, string(answer)
}

// ids are those of the points of the hall, by name.
func (h *house) ids() map[string]string {
	now, _ := h.store.Site()
	ids := map[string]string{}
	for _, p := range now.Device("hall").Points {
		ids[p.Name] = p.ID
	}
	return ids
}

// until waits for something to come about.
func (h *house) until(what string, is func() bool) {
	h.Helper()
	for range 400 {
		if is() {
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	h.Errorf("it did not come about that %s", what)
}

func (h *house) live(name string) field.Live {
	live, _ := h.engine.Hub.Point(h.ids()[name])
	return live
}

func (h *house) fault(kind string) {
	h.Helper()
	h.call("POST", "/api/bench/fault", api.FaultRequest{Device: "hall", Fault: bench.Fault{Kind: kind}},
		&[]bench.StandIn{})
}

func (h *house) try() *route.Route {
	h.Helper()
	r := &route.Route{}
	h.call("POST", "/api/links/toy/try", struct{}{}, r)
	return r
}

// stops prints the results of a walk: "good good fault not-tried not-tried".
func stops(r *route.Route) string {
	var list []string
	for _, c := range r.Stops {
		list = append(list, string(c.Result))
	}
	return strings.Join(list, " ")
}

func (h *house) finding(code string) *finding.Finding {
	now, _ := h.store.Site()
	for _, f := range h.engine.Hub.Findings(now, time.Now()) {
		if f.Code == code {
			return &f
		}
	}
	return nil
}

// takeIn brings the toy's table into the map of the hall.
func (h *house) takeIn() {
	h.Helper()
	var answer api.IntakeAnswer
	h.call("POST", "/api/devices/hall/intake", api.IntakeRequest{Text: toyTable, Commit: true}, &answer)
	if answer.Added != 4 || len(answer.Rejected) != 1 || !strings.Contains(answer.Rejected[0].Reason, "in quotes") {
		h.Fatalf("%d points came in, and out stayed %+v", answer.Added, answer.Rejected)
	}
}

// TestToyFamily: a family that fits no shape that Ferry had goes all the way
// through it, and no line of Ferry knows it.
func TestToyFamily(t *testing.T) {
	h := open(t, toySite)
	t.Run("the site file holds the name of the secret alone", h.siteFile)
	h.takeIn()
	t.Run("timetable", h.timetable)
	t.Run("a secret that is not there stops at the session", h.withoutSecret)
	h.call("POST", "/api/kept/secret/hall%20phrase", toyPhrase, &[]vault.Kept{})
	t.Run("try", h.tried)
	h.call("POST", "/api/run/start", api.RunRequest{}, &field.State{})
	t.Run("live values", h.values)
	t.Run("traffic", h.traffic)
	t.Run("age", h.age)
	t.Run("written", h.written)
	t.Run("crossing", h.crossing)
	t.Run("faults", h.faults)
	t.Run("the secret is nowhere", h.secret)
}

func (h *house) siteFile(t *testing.T) {
	s, err := files.ReadSite([]byte(toySite))
	if err != nil {
		t.Fatal(err)
	}
	var written bytes.Buffer
	if err := files.WriteSite(&written, s); err != nil || !strings.Contains(written.String(), `"phrase": "hall phrase"`) {
		t.Errorf("%v: %s", err, &written)
	}
	for change, want := range map[string]string{
		`"client": "Hall Laptop"`: "hall-laptop", `"client": ""`: "missing", `"client": 7`: "text",
		`"port": 0`: "1 to 65535", `"mood": "good"`: "no setting",
	} {
		if _, err := files.ReadSite([]byte(strings.Replace(toySite, `"client": "hall-laptop"`, change, 1))); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%s is read with %v, want %q", change, err, want)
		}
	}
}

func (h *house) timetable(t *testing.T) {
	var view api.TimetableView
	h.call("GET", "/api/timetable", nil, &view)
	var told []string
	for _, l := range view.Plan.Loads {
		if l.Link == "toy" {
			told = append(told, fmt.Sprintf("%s %s %g ms %d octets %d points %v", l.Title, l.Cause, l.PeriodMs, l.Octets,
				len(l.Points), l.Share > 0))
		}
	}
	want := "values that change event 1000 ms 240 octets 4 points true; sign of life reported 300 ms 80 octets 0 points true"
	if got := strings.Join(told, "; "); got != want {
		t.Errorf("the timetable has %s\nwant %s", got, want)
	}
	for _, r := range view.Plan.Requests {
		if r.Link == "toy" {
			t.Errorf("it is asked: %+v", r)
		}
	}
	if l := view.Plan.Lines[0]; l.Points != 6 || l.Cyclic <= 0 || !l.Holds {
		t.Errorf("the line has %+v", l)
	}
}

func (h *house) withoutSecret(t *testing.T) {
	r := h.try()
	if stops(r) != "good good fault not-tried not-tried" ||
		!strings.Contains(fmt.Sprint(r.Stops), `"hall phrase" is not`) {
		t.Errorf("%s: %+v", stops(r), r.Stops)
	}
}

func (h *house) tried(t *testing.T) {
	if r := h.try(); stops(r) != "good good good good good" || !strings.Contains(r.Stops[3].Saw, "All 4 points") {
		t.Errorf("%s: %+v", stops(r), r.Stops)
	}
	h.call("POST", "/api/kept/secret/hall%20phrase", "another", &[]vault.Kept{})
	if r := h.try(); stops(r) != "good good fault not-tried not-tried" ||
		!strings.Contains(fmt.Sprint(r.Stops), "another phrase") {
		t.Errorf("with another phrase: %s: %+v", stops(r), r.Stops)
	}
	h.call("POST", "/api/kept/secret/hall%20phrase", toyPhrase, &[]vault.Kept{})
}

func (h *house) values(t *testing.T) {
	h.until("all four are good", func() bool {
		for _, name := range []string{"Oxygen", "Row", "Setpoint", "Pump"} {
			if h.live(name).Quality != value.Good {
				return false
			}
		}
		return true
	})
	oxygen, row := h.live("Oxygen"), h.live("Row")
	if oxygen.Value.Kind() != value.Float || oxygen.Words == "" || row.Value.Text() != "Row" {
		t.Errorf("they read %+v and %+v", oxygen, row)
	}
	if behind := oxygen.AtMs - oxygen.SourceMs; behind < 900 || behind > 2000 {
		t.Errorf("the device's own time is %d ms before its arrival", behind)
	}
	r := h.try() // beside the run
	if stops(r) != "good good good good good" {
		t.Errorf("beside the run: %s: %+v", stops(r), r.Stops)
	}
	if list := h.engine.Hub.DrainSamples(); len(list) < 3 {
		t.Errorf("%d samples were kept", len(list))
	}
}

func (h *house) traffic(t *testing.T) {
	var list []exchange.Exchange
	h.call("GET", "/api/exchanges?link=toy", nil, &list)
	for _, e := range list {
		if e.Outcome != exchange.Reported || len(e.Samples) == 0 {
			continue
		}
		var view api.ExchangeView
		h.call("GET", fmt.Sprintf("/api/exchanges/%d", e.Seq), nil, &view)
		if len(view.Frames) != 1 || view.Frames[0].Out || view.Frames[0].Hex == "" || len(view.Frames[0].Fields) == 0 ||
			view.Frames[0].Fields[0].Label == "" || view.Frames[0].Fields[0].Meaning == "" {
			t.Errorf("a report is shown as %+v", view)
		}
		return
	}
	t.Errorf("there is no report among %d exchanges", len(list))
}

// age: what does not change stays good while signs of life come, and no longer;
// once they come again it is good again when it is reported.
func (h *house) age(t *testing.T) {
	time.Sleep(1500 * time.Millisecond) // more than three paces and a second
	h.engine.Hub.Age(time.Now())
	if row := h.live("Row"); row.Quality != value.Good || time.Now().UnixMilli()-row.AtMs < 1400 {
		t.Errorf("a quiet point of a device that lives reads %+v", row)
	}
	h.fault("toy-mute")
	h.until("silence is doubted", func() bool { return h.live("Row").Quality == value.Doubtful })
	if r := h.live("Row").Reason; !strings.Contains(r, "sign of life") && !strings.Contains(r, "connection") {
		t.Errorf("it is doubtful because %s", r)
	}
	h.until("silence is a finding", func() bool { return h.finding("gone-quiet") != nil })
	h.fault("")
	h.until("it is good again", func() bool { return h.live("Row").Quality == value.Good })
	h.call("POST", "/api/run/stop", api.RunRequest{Links: []string{"toy"}}, &field.State{})
	if row := h.live("Row"); row.Quality != value.Doubtful {
		t.Errorf("nobody listens any more, and it reads %+v", row)
	}
	h.call("POST", "/api/run/start", api.RunRequest{}, &field.State{})
	h.until("it is good after a new start", func() bool { return h.live("Row").Quality == value.Good })
}

func (h *house) write(name, text string) (result field.WriteResult, refused string) {
	h.Helper()
	var order field.WriteOrder
	if status, answer := h.call("POST", "/api/write/prepare", api.PrepareRequest{Point: h.ids()[name], Text: text},
		nil); status != 200 {
		return result, answer
	} else if err := json.Unmarshal([]byte(answer), &order); err != nil {
		h.Fatal(err)
	}
	if order.Function != "set" || order.New == "" || order.Target != "192.0.2.2" {
		h.Errorf("the order reads %+v", order)
	}
	h.call("POST", "/api/write", api.WriteRequest{Token: order.Token}, &result)
	return result, ""
}

func (h *house) written(t *testing.T) {
	if result, refused := h.write("Setpoint", "850"); !result.OK || refused != "" {
		t.Errorf("%+v %s", result, refused)
	}
	h.until("the setpoint is reported as written", func() bool { return h.live("Setpoint").Value == value.OfUint(850) })
	if _, refused := h.write("Setpoint", "70000"); !strings.Contains(refused, "outside") {
		t.Errorf("a value that does not fit: %s", refused)
	}
	if _, refused := h.write("Oxygen", "8"); !strings.Contains(refused, "only to be read") {
		t.Errorf("a point to be read: %s", refused)
	}
}

// crossing: from the toy into a register, and from a register into the toy.
func (h *house) crossing(t *testing.T) {
	ids := h.ids()
	var answer api.EditAnswer
	var edits []store.BasedEdit
	for id, ends := range map[string][2]string{"out": {ids["Oxygen"], "shown"}, "back": {"chosen", ids["Setpoint"]}} {
		after, err := json.Marshal(site.Crossing{ID: id, From: ends[0], To: ends[1]})
		if err != nil {
			t.Fatal(err)
		}
		edits = append(edits, store.BasedEdit{Edit: site.Edit{Kind: site.KindCrossing, ID: id, After: after}})
	}
	h.call("POST", "/api/edit", api.EditRequest{What: "two crossings", Edits: edits}, &answer)
	h.until("oxygen crosses", func() bool {
		shown, _ := h.engine.Hub.Point("shown")
		from := h.live("Oxygen")
		return shown.Quality == value.Good && shown.Value.Float() > from.Value.Float()-1 && shown.Value.Float() > 1
	})
	h.until("the register crosses back", func() bool { return h.live("Setpoint").Value == value.OfUint(0) })
	plan := timetable.Compile(h.engine.Site())
	for _, l := range plan.Loads {
		if l.Cause == timetable.Written && l.Link == "toy" && l.Share <= 0 {
			t.Errorf("what is written to the toy costs nothing: %+v", l)
		}
	}
	if list := h.engine.Crossings(); len(list) != 2 || list[0].State != "carrying" || list[1].State != "carrying" {
		t.Errorf("they are %+v", list)
	}
}

func (h *house) faults(t *testing.T) {
	for _, c := range []struct{ fault, stops, saw, code string }{
		{"toy-renamed", "good good good fault not-tried", "Oxygen", "refused"},
		{"toy-texts", "good good good fault not-tried", "came as a text", ""},
		{"toy-bad", "good good good fault not-tried", "device says so", ""},
		{"toy-babble", "good good fault not-tried not-tried", "", "answer-mismatch"},
		{"toy-mute", "good good fault not-tried not-tried", "sign of life", "gone-quiet"},
		{"refuse", "good good fault not-tried not-tried", "", ""},
		{"stop", "good fault not-tried not-tried not-tried", "", "port-refused"},
	} {
		h.fault(c.fault)
		// What was on its way when the fault came may still be heard.
		h.until(c.fault+" stops at "+c.stops, func() bool {
			r := h.try()
			return stops(r) == c.stops && strings.Contains(fmt.Sprint(r.Stops), c.saw)
		})
		if c.code != "" {
			h.until(c.fault+" is the finding "+c.code, func() bool { return h.finding(c.code) != nil })
		}
		h.until("oxygen is not good under "+c.fault, func() bool { return h.live("Oxygen").Quality != value.Good })
		h.fault("")
		h.until("it is well after "+c.fault, func() bool { return h.live("Oxygen").Quality == value.Good })
	}
}

// secret: it is in no answer of the interface, no file and no journal.
func (h *house) secret(t *testing.T) {
	for _, path := range []string{"/api/kept", "/api/site", "/api/file/site.json", "/api/journal", "/api/exchanges",
		"/api/timetable"} {
		if _, text := h.call("GET", path, nil, nil); strings.Contains(text, "brackish") || len(text) < 3 {
			t.Errorf("%s tells the secret, or nothing: %.200s", path, text)
		}
	}
	for _, e := range h.engine.Hub.Exchanges(0, 8000) {
		for _, f := range e.Frames {
			if bytes.Contains(f.Octets, []byte("brackish")) {
				t.Errorf("%s shows the secret: %s", e.Operation, f.Octets)
			}
		}
	}
}
