package api

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/accounts"
	"ferry/internal/core/block"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// guarded is a server over TLS at which people sign in.
func guarded(t *testing.T) (*Server, string) {
	t.Helper()
	dir := t.TempDir()
	users, err := accounts.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, role := range slices.Backward(accounts.Roles()) {
		if err := users.Put(string(role)+"er", role, "rising tide "+string(role)); err != nil {
			t.Fatal(err)
		}
	}
	pair, shown, err := accounts.OwnCertificate(dir, []string{"127.0.0.1", "localhost"})
	if err != nil {
		t.Fatal(err)
	}
	s := server(t, users)
	s.Certificate = &shown
	app := s.App()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go func() {
		_ = app.Listener(tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{pair}}),
			fiber.ListenConfig{DisableStartupMessage: true})
	}()
	t.Cleanup(func() { _ = app.ShutdownWithTimeout(100 * time.Millisecond) })
	return s, "https://" + l.Addr().String()
}

// window is a browser window of somebody.
type window struct {
	t      *testing.T
	url    string
	cookie *http.Cookie
}

var trusting = &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}

func (w *window) send(method, path, body string) (int, problem.Problem, http.Header) {
	w.t.Helper()
	request, err := http.NewRequest(method, w.url+path, strings.NewReader(body))
	if err != nil {
		w.t.Fatal(err)
	}
	request.Header.Set("Origin", w.url)
	if w.cookie != nil {
		request.AddCookie(w.cookie)
	}
	response, err := trusting.Do(request)
	if err != nil {
		w.t.Fatal(err)
	}
	defer response.Body.Close()
	for _, c := range response.Cookies() {
		if c.Name == sessionCookie && c.Value != "" {
			if !c.HttpOnly || !c.Secure || c.SameSite != http.SameSiteStrictMode {
				w.t.Errorf("the cookie is %+v", c)
			}
			w.cookie = c
		}
	}
	var p problem.Problem
	data, _ := io.ReadAll(response.Body)
	_ = json.Unmarshal(data, &p) // what is no problem stays empty
	return response.StatusCode, p, response.Header
}

func (w *window) signIn(name, passphrase string) int {
	status, _, _ := w.send("POST", "/api/sign-in", fmt.Sprintf(`{"name":%q,"passphrase":%q}`, name, passphrase))
	return status
}

// TestSignIn: nothing is shown to who has not signed in but the way to do so;
// each role may what it may, in its own name; sessions end.
func TestSignIn(t *testing.T) {
	s, url := guarded(t)
	nobody := &window{t: t, url: url}
	for path, want := range map[string]int{"/api/site": 401, "/api/stream": 401, "/api/users": 401, "/api/me": 200,
		"/lines": 200, "/assets/none.js": 200} {
		if status, _, header := nobody.send("GET", path, ""); status != want ||
			header.Get("X-Frame-Options") != "DENY" || header.Get("Strict-Transport-Security") == "" {
			t.Errorf("%s answers %d, want %d: %v", path, status, want, header)
		}
	}
	edit := `{"what":"renamed it","edits":[{"kind":"line","id":"plantnet","base":99,"after":{"name":"Shore net","medium":"ethernet"}}]}`
	for _, c := range []struct {
		name               string
		look, change, user int
		unlock             int
	}{{"looker", 200, 403, 403, 403}, {"editer", 200, 200, 403, 403}, {"planter", 200, 200, 200, 200}} {
		w := &window{t: t, url: url}
		role := strings.TrimSuffix(c.name, "er")
		if status := w.signIn(c.name, "rising tide "+role); status != 200 {
			t.Fatalf("%s signs in with %d", c.name, status)
		}
		for _, call := range []struct {
			method, path, body string
			want               int
		}{{"GET", "/api/site", "", c.look}, {"POST", "/api/edit", edit, c.change}, {"GET", "/api/users", "", c.user},
			{"POST", "/api/unlock", `{"minutes":1}`, c.unlock}} {
			if status, p, _ := w.send(call.method, call.path, call.body); status != call.want {
				t.Errorf("%s: %s answers %d, want %d: %s", c.name, call.path, status, call.want, p.Sentence)
			}
		}
		if c.change == 200 {
			if entries, err := s.Store.Journal(context.Background(), 1); err != nil || entries[0].Who != c.name {
				t.Errorf("the journal says %+v, %v", entries, err)
			}
			if _, _, _ = w.send("POST", "/api/undo", "{}"); c.name == "planter" {
				if err := s.Accounts.Put("editer", accounts.Look, ""); err != nil {
					t.Error(err)
				}
			}
		}
		if status, _, _ := w.send("POST", "/api/sign-out", ""); status != 200 {
			t.Error("signing out fails")
		}
		if status, _, _ := w.send("GET", "/api/site", ""); status != 401 {
			t.Errorf("after signing out, the old cookie answers %d", status)
		}
	}
	if _, ok := s.Accounts.Of("", true); ok {
		t.Error("nobody is somebody")
	}
}

// TestGuesses: guessing is slowed down, without keeping others out, and kept on
// record.
func TestGuesses(t *testing.T) {
	s, url := guarded(t)
	began, wrong, held := time.Now(), 0, 0
	var mu sync.Mutex
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			w := &window{t: t, url: url}
			for range 25 {
				status := w.signIn("planter", "low tide 123")
				mu.Lock()
				switch status {
				case 401:
					wrong++
				case 429:
					held++
				default:
					t.Errorf("a guess answers %d", status)
				}
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	t.Logf("200 guesses in %.1f s: %d judged, %d made to wait", time.Since(began).Seconds(), wrong, held)
	if wrong > 20 {
		t.Errorf("%d guesses are judged", wrong)
	}
	list, err := s.Accounts.Attempts(300)
	if err != nil || len(list) != 200 || list[0].OK || list[0].From != "127.0.0.1" {
		t.Errorf("%d attempts on record, %v", len(list), err)
	}
}

// TestBodies: what a request brings is not read before it is known who sends it,
// none that is packed is taken, and none that is too large.
func TestBodies(t *testing.T) {
	_, url := guarded(t)
	address := strings.TrimPrefix(url, "https://")
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	var wg sync.WaitGroup
	for range 60 { // each announces 60 MB and sends what it may
		wg.Go(func() {
			c, err := tls.Dial("tcp", address, &tls.Config{InsecureSkipVerify: true})
			if err != nil {
				t.Error(err)
				return
			}
			defer c.Close()
			_ = c.SetDeadline(time.Now().Add(5 * time.Second))
			fmt.Fprintf(c, "POST /api/file/site.json HTTP/1.1\r\nHost: 127.0.0.1\r\nOrigin: "+
				"https://127.0.0.1\r\nContent-Length: %d\r\n\r\n", 60<<20)
			go func() {
				chunk := bytes.Repeat([]byte(" "), 1<<16)
				for range 64 {
					if _, err := c.Write(chunk); err != nil {
						return
					}
				}
			}()
			answer := make([]byte, 12)
			if _, err := io.ReadFull(c, answer); err != nil || string(answer) != "HTTP/1.1 401" {
				t.Errorf("%q, %v", answer, err)
			}
		})
	}
	wg.Wait()
	runtime.ReadMemStats(&after)
	if grown := float64(after.HeapInuse) - float64(before.HeapInuse); grown > 100e6 {
		t.Errorf("60 announced bodies take %.0f MB", grown/1e6)
	} else {
		t.Logf("60 announced bodies of 60 MB take %.0f MB", grown/1e6)
	}
	w := &window{t: t, url: url}
	w.signIn("editer", "rising tide edit")
	if status, p, _ := w.send("POST", "/api/edit", strings.Repeat(" ", smallBody+1)); status != 413 {
		t.Errorf("too large a body answers %d: %s", status, p.Sentence)
	}
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	for range 200 {
		_, _ = z.Write(bytes.Repeat([]byte(" "), 100_000))
	}
	_ = z.Close()
	request, _ := http.NewRequest("POST", url+"/api/edit", &packed)
	request.Header.Set("Content-Encoding", "gzip")
	request.Header.Set("Origin", url)
	request.AddCookie(w.cookie)
	response, err := trusting.Do(request)
	if err != nil || response.StatusCode != 415 {
		t.Errorf("a packed body answers %v, %v", response, err)
	}
}

// TestWindowThatReadsNothing: a window that takes no messages costs the others
// nothing, and does not pile them up.
func TestWindowThatReadsNothing(t *testing.T) {
	c := listening(t)
	for range 20 {
		conn, err := net.Dial("tcp", strings.TrimPrefix(c.url, "http://"))
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		fmt.Fprint(conn, "GET /api/stream HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n")
	}
	var state any
	c.call("POST", "/api/run/start", map[string]any{}, &state)
	time.Sleep(time.Second)
	best := time.Hour // of some: this machine may stand still during one
	for range 5 {
		began := time.Now()
		var view SiteView
		c.call("GET", "/api/site", nil, &view)
		best = min(best, time.Since(began))
	}
	if best > 500*time.Millisecond {
		t.Errorf("the site takes %v", best)
	}
}

// TestLargeSite: what is accepted can be shown at once: 10 000 points at four
// paces do not keep anybody waiting.
func TestLargeSite(t *testing.T) {
	s := server(t, nil)
	_ = s.App()
	large := site.Device{ID: "large", Name: "Hall sensors", Map: "modbus-tcp",
		Ports: []site.Port{{Line: "plantnet", Host: "192.0.2.90", Protocol: "modbus-tcp"}}}
	edits := []site.Edit{site.Put(site.KindDevice, "large", "", large),
		site.Put(site.KindLink, "to-large", "",
			site.Link{ID: "to-large", Asking: "lss", Answering: "large", Line: "plantnet", Protocol: "modbus-tcp"})}
	for i := range 10_000 {
		id := fmt.Sprint("large-", i)
		edits = append(edits, site.Put(site.KindPoint, id, "large",
			site.Point{ID: id, Name: id, Address: block.At("hr", uint32(i)), Type: value.TypeUint16,
				PaceMs: []int{500, 1000, 5000, 30000}[(i*7+i/3)%4], Access: site.ReadOnly}))
	}
	if _, err := s.Store.Change(context.Background(), "test", "brought in the hall",
		func(*site.Site) ([]site.Edit, error) { return edits, nil }); err != nil {
		t.Fatal(err)
	}
	if err := s.changed(); err != nil {
		t.Fatal(err)
	}
	app := s.App()
	worst := time.Duration(0)
	for began := time.Now(); time.Since(began) < time.Second; {
		request, _ := http.NewRequest("GET", "http://127.0.0.1/api/site", nil)
		at := time.Now()
		response, err := app.Test(request, fiber.TestConfig{Timeout: 20 * time.Second})
		if err != nil || response.StatusCode != 200 {
			t.Fatal(response, err)
		}
		worst = max(worst, time.Since(at))
	}
	t.Logf("the site is shown within %v while its timetable is compiled", worst)
	if worst > 2*time.Second { // a machine with the race detector is slow
		t.Errorf("the site takes %v", worst)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	s.Engine.Planned(ctx)
	if plan, of := s.Engine.Plan(); plan == nil || of.Device("large") == nil || len(plan.Requests) < 100 {
		t.Error("its timetable does not come")
	}
}

// TestUnderWayAtAKill: what was under way when Ferry was killed is said to be not
// known.
func TestUnderWayAtAKill(t *testing.T) {
	s, ctx := server(t, nil), context.Background()
	j := WriteJournal{s.Store}
	hand, crossed := &field.Record{Who: "window 1", State: field.UnderWay, AtMs: 1000},
		&field.Record{Who: "crossing", State: field.Carrying, Crossing: "x", Count: 7, AtMs: 1000}
	for _, r := range []*field.Record{hand, crossed} {
		if err := j.Intend(ctx, r); err != nil {
			t.Fatal(err)
		}
	}
	if err := j.Settle(ctx); err != nil {
		t.Fatal(err)
	}
	list, err := s.Store.WrittenList(ctx, 9)
	if err != nil || len(list) != 2 {
		t.Fatal(list, err)
	}
	for i, says := range []string{"had written 7 times", "not known whether the device took it"} {
		var r field.Record
		if err := json.Unmarshal(list[i].Result, &r); err != nil || list[i].Open || r.State != field.NotKnown ||
			!strings.Contains(r.Sentence, says) {
			t.Errorf("%s, %v", list[i].Result, err)
		}
	}
}

// FuzzInterface: whatever a request brings, the answer is one of the interface's
// own.
func FuzzInterface(f *testing.F) {
	paths := []string{"/api/edit", "/api/devices/do11/cells", "/api/devices/do11/intake", "/api/devices/do11/bulk",
		"/api/fathom", "/api/datasheets/place",
		"/api/structures", "/api/timetable/whatif", "/api/sweeps", "/api/write/prepare", "/api/write",
		"/api/crossings/release", "/api/unlock", "/api/bench/fault", "/api/file/site.json", "/api/devices/do11/return",
		"/api/run/start"}
	for i, body := range []string{`{"what":"x","edits":[{"kind":"point","id":"a","parent":"do11","after":{}}]}`,
		`{"action":"duplicate","points":["do11-01"],"times":9223372036854775807}`,
		`{"structure":{"name":"T","members":[{"name":"a","structure":"T","count":9}]}}`,
		`{"point":"do11-14","text":"x"}`, `{"format":"ferry-site","version":1,"name":"x"}`, `[]`,
		`{"rows":[{"line":1,"cells":["a"]}],"columns":["address"]}`} {
		f.Add(uint8(i*3), body)
	}
	f.Add(uint8(3), `{"action":"duplicate","points":["do11-01"],"times":9223372036854775807,"step":1}`)
	f.Add(uint8(6), `{"structure":{"name":"T","members":[{"name":"a","type":"uint16","count":99999},{"name":"b","structure":"","count":3}]}}`)
	var app *fiber.App
	f.Fuzz(func(t *testing.T, at uint8, body string) {
		if app == nil {
			app = served(t)
		}
		request, _ := http.NewRequest("POST", "http://127.0.0.1"+paths[int(at)%len(paths)], strings.NewReader(body))
		request.Header.Set("X-Ferry-Window", "test")
		response, err := app.Test(request, fiber.TestConfig{Timeout: 20 * time.Second})
		if err != nil {
			t.Fatal(err)
		}
		data, err := io.ReadAll(response.Body)
		if err != nil || response.StatusCode >= 500 || !json.Valid(data) {
			t.Errorf("%s answers %d: %s, %v", paths[int(at)%len(paths)], response.StatusCode, data, err)
		}
	})
}
