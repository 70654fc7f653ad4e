package api

import (
	"bufio"
	"bytes"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	_ "ferry/internal/families"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/regmap"
	"ferry/internal/field"
)

// client talks to a server on a socket of its own, as a browser does.
type client struct {
	t   *testing.T
	url string
}

func listening(t *testing.T) *client {
	t.Helper()
	app := served(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go func() { _ = app.Listener(l, fiber.ListenConfig{DisableStartupMessage: true}) }()
	t.Cleanup(func() { _ = app.ShutdownWithTimeout(100 * time.Millisecond) })
	c := &client{t, "http://" + l.Addr().String()}
	c.call("GET", "/api/timetable", nil, &map[string]any{}) // which waits for the first one
	return c
}

// call sends body as JSON, if there is one, and reads the answer into into.
func (c *client) call(method, path string, body, into any) int {
	c.t.Helper()
	data, err := json.Marshal(body)
	if err != nil {
		c.t.Fatal(err)
	}
	request, err := http.NewRequest(method, c.url+path, bytes.NewReader(data))
	if err != nil {
		c.t.Fatal(err)
	}
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("X-Ferry-Window", "test window")
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		c.t.Fatal(err)
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err != nil {
		c.t.Fatal(err)
	}
	if err := json.Unmarshal(text, into); err != nil {
		c.t.Fatalf("%s %s answers %s: %v", method, path, text, err)
	}
	return response.StatusCode
}

// TestMapOverTheInterface: cells, a table with bad rows and a correction, undo,
// and a journal that says who did what.
func TestMapOverTheInterface(t *testing.T) {
	c := listening(t)
	var points PointsView
	c.call("GET", "/api/devices/gate/points", nil, &points)
	if len(points.Rows) != 7 || len(points.Columns) != len(points.Rows[0].Cells) || len(points.Requests) == 0 {
		t.Fatalf("the map is %+v", points)
	}
	first := points.Rows[0]
	var step EditAnswer
	if code := c.call("POST", "/api/devices/gate/cells", CellsRequest{What: "widened", Cells: []CellEdit{
		{first.ID, regmap.Type, "REAL", first.Version}, {first.ID, regmap.Address, "%MW200", first.Version}}},
		&step); code != 200 {
		t.Fatalf("cells: %d, %+v", code, step)
	}
	var problem map[string]any
	if code := c.call("POST", "/api/devices/gate/cells",
		CellsRequest{Cells: []CellEdit{{first.ID, regmap.Name, "late", first.Version}}}, &problem); code != 409 ||
		!strings.Contains(problem["sentence"].(string), "widened") {
		t.Errorf("a cell of an old version: %d, %v", code, problem)
	}

	table := "Tag,Register\nA,40300\nB,4o301\nOxygen-11,40201\n"
	var preview, done, rest IntakeAnswer
	c.call("POST", "/api/devices/gate/intake", IntakeRequest{Text: table}, &preview)
	if preview.Added != 1 || preview.Same != 1 || preview.RemovedCount != 6 || len(preview.Rejected) != 1 ||
		preview.Rejected[0].Line != 3 || preview.Seq != 0 {
		t.Errorf("the preview is %+v", preview)
	}
	c.call("POST", "/api/devices/gate/intake", IntakeRequest{Text: table, Commit: true}, &done)
	rows := done.RejectedRows
	rows[0].Cells[1] = "40301"
	c.call("POST", "/api/devices/gate/intake",
		IntakeRequest{Rows: rows, Columns: done.Columns, Headings: done.Headings, Commit: true}, &rest)
	if done.Added != 1 || rest.Added != 1 || len(rest.Rejected) != 0 || rest.Seq <= done.Seq {
		t.Errorf("brought in: %+v, then %+v", done, rest)
	}
	c.call("GET", "/api/devices/gate/points", nil, &points)
	if n := len(points.Rows); n != 9 {
		t.Errorf("the map has %d points", n)
	}
	for range 3 {
		c.call("POST", "/api/undo", nil, &step)
	}
	c.call("GET", "/api/devices/gate/points", nil, &points)
	if points.Rows[0].Cells[1] != "40101" || len(points.Rows) != 7 {
		t.Errorf("taken back it is %+v", points.Rows)
	}
	var journal JournalView
	c.call("GET", "/api/journal", nil, &journal)
	if len(journal.Entries) != 7 || journal.Entries[0].Action != "undo" || journal.Entries[0].Who != "test window" {
		t.Errorf("the journal is %+v", journal.Entries)
	}
}

// TestStream: the first message has everything, the next ones what is new; an
// edit, a run and a try all show.
func TestStream(t *testing.T) {
	c := listening(t)
	response, err := http.Get(c.url + "/api/stream")
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, 1<<20)
	next := func() (p Pulse) {
		t.Helper()
		for lines.Scan() {
			if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
				if err := json.Unmarshal([]byte(data), &p); err != nil {
					t.Fatal(err)
				}
				return p
			}
		}
		t.Fatalf("the stream ended: %v", lines.Err())
		return p
	}
	first := next()
	if len(first.Live) != 0 || len(first.Findings) == 0 || first.State.Mode != field.Bench || first.Seq != 1 {
		t.Fatalf("the first message has %d points, %d findings, %+v", len(first.Live), len(first.Findings), first.State)
	}
	var state field.State
	c.call("POST", "/api/run/start", RunRequest{Links: []string{"lss-skid"}}, &state)
	for seen := 0; seen < 5; {
		p := next()
		for _, live := range p.Live {
			if !strings.HasPrefix(live.Point, "skid") {
				t.Errorf("news of %s, which is not read", live.Point)
			}
			seen++
		}
	}
	var route map[string]any
	c.call("POST", "/api/links/lss-uv/try", nil, &route)
	for p := next(); ; p = next() {
		if p.Routes > 0 {
			break
		}
	}
	if route["stopsAt"] != "points" {
		t.Errorf("the try stops at %v", route["stopsAt"])
	}
	c.call("POST", "/api/run/stop", RunRequest{}, &state)
	if len(state.Running) != 0 {
		t.Errorf("still running: %v", state.Running)
	}
}

// TestBytes: an exchange comes with its bytes labelled as the site names them.
func TestBytes(t *testing.T) {
	c := listening(t)
	var answer map[string]any
	c.call("POST", "/api/links/lss-do11/try", nil, &answer)
	var list []ExchangeView
	c.call("GET", "/api/exchanges", nil, &list)
	if len(list) < 3 {
		t.Fatalf("%d exchanges after a try", len(list))
	}
	labels := ""
	for _, e := range list {
		var view ExchangeView
		c.call("GET", "/api/exchanges/"+strconv.FormatUint(e.Seq, 10), nil, &view)
		for _, frame := range view.Frames {
			for _, f := range frame.Fields {
				labels += f.Label + " "
			}
		}
	}
	for _, want := range []string{"transaction", "Oxygen", "SerialNo", "unused"} {
		if !strings.Contains(labels, want) {
			t.Errorf("no bytes are labelled %s: %s", want, labels)
		}
	}
	if code := c.call("GET", "/api/exchanges/999999", nil, &answer); code != 410 {
		t.Errorf("an exchange that never was: %d", code)
	}
}
