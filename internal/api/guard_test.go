package api

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/accounts"
	"ferry/internal/bench"
	"ferry/internal/core/problem"
	_ "ferry/internal/families"
	"ferry/internal/field"
	"ferry/internal/recording"
	"ferry/internal/relay"
	"ferry/internal/store"
	"ferry/internal/strips"
)

func served(t *testing.T) *fiber.App { return server(t, nil).App() }

// server returns a server of the demo site; with users, one that asks who is
// there.
func server(t *testing.T, users *accounts.Accounts) *Server {
	t.Helper()
	st, err := store.Open(context.Background(), t.TempDir(), bench.Demo)
	if err != nil {
		t.Fatal(err)
	}
	b := bench.New()
	now, _ := st.Site()
	if err := b.Sync(now); err != nil {
		t.Fatal(err)
	}
	e := field.NewEngine(now, b)
	e.Journal = WriteJournal{st}
	t.Cleanup(func() { e.Close(); _ = b.Close(); _ = st.Close() })
	recordings, err := recording.OpenShelf(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(recordings.Close)
	recorder, err := strips.Open(context.Background(), e, st)
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { defer close(ended); recorder.Run(ctx) }()
	t.Cleanup(func() { stop(); <-ended })
	return &Server{Store: st, Engine: e, Bench: b, Strips: recorder, Accounts: users, Recordings: recordings,
		Relays: &relay.Set{}, Hosts: []string{"192.0.2.9"}}
}

// TestGuard: only the application's own page is served, and every error has
// the one shape.
func TestGuard(t *testing.T) {
	for _, c := range []struct {
		name, method, path, body, host, origin, fetch string
		status                                        int
		code                                          string
	}{
		{name: "the page's own call", method: "GET", path: "/api/site", host: "127.0.0.1:8642", status: 200},
		{name: "by name", method: "GET", path: "/api/site", host: "localhost:8642", origin: "http://localhost:8642",
			status: 200},
		{name: "another name for this machine", method: "GET", path: "/api/site", host: "evil.example:8642",
			status: 403, code: "host"},
		{name: "another page", method: "POST", path: "/api/run/start", body: "{}", host: "127.0.0.1:8642",
			origin: "http://evil.example", status: 403, code: "origin"},
		{name: "a name that it was started with", method: "GET", path: "/api/site", host: "192.0.2.9:80", status: 200},
		{name: "no origin", method: "POST", path: "/api/undo", body: "{}", host: "127.0.0.1", origin: "-", status: 403,
			code: "origin"},
		{name: "a page without origin", method: "POST", path: "/api/undo", body: "{}", host: "127.0.0.1",
			origin: "null", status: 403, code: "origin"},
		{name: "an origin with a user", method: "POST", path: "/api/undo", body: "{}", host: "127.0.0.1",
			origin: "http://a@127.0.0.1", status: 403, code: "origin"},
		{name: "another port", method: "POST", path: "/api/undo", body: "{}", host: "127.0.0.1:8642",
			origin: "http://127.0.0.1:8643", status: 403, code: "origin"},
		{name: "read by another page", method: "GET", path: "/api/site", host: "127.0.0.1", fetch: "cross-site",
			status: 403, code: "origin"},
		{name: "the front end in another page", method: "GET", path: "/lines", host: "127.0.0.1", fetch: "cross-site",
			status: 403, code: "origin"},
		{name: "posted by a neighbour", method: "POST", path: "/api/undo", body: "{}", host: "127.0.0.1",
			origin: "http://127.0.0.1", fetch: "same-site", status: 403, code: "origin"},
		{name: "nothing there", method: "GET", path: "/api/nothing", host: "127.0.0.1", status: 404, code: "not-found"},
		{name: "unreadable", method: "POST", path: "/api/edit", body: "{", host: "127.0.0.1", status: 400,
			code: "unreadable"},
		{name: "no such device", method: "GET", path: "/api/devices/zz/points", host: "127.0.0.1", status: 410,
			code: "gone"},
		{name: "a stale edit", method: "POST", path: "/api/edit",
			body: `{"what":"x","edits":[{"kind":"line","id":"plantnet","base":0,"after":null}]}`, host: "127.0.0.1",
			status: 409, code: "stale"},
		{name: "a bad cell", method: "POST", path: "/api/devices/do11/cells",
			body: `{"what":"x","cells":[{"point":"do11-01","column":"address","text":"4oo1","base":9}]}`,
			host: "127.0.0.1", status: 422, code: "bad-cell"},
		{name: "a site that is none", method: "POST", path: "/api/file/site.json", body: `{"format":"recipe"}`,
			host: "127.0.0.1", status: 422, code: "not-a-site"},
	} {
		t.Run(c.name, func(t *testing.T) {
			request := httptest.NewRequest(c.method, c.path, strings.NewReader(c.body))
			request.Host = c.host
			request.Header.Set("Content-Type", "application/json")
			switch {
			case c.origin == "-":
			case c.origin != "":
				request.Header.Set("Origin", c.origin)
			default:
				request.Header.Set("X-Ferry-Window", "test")
			}
			if c.fetch != "" {
				request.Header.Set("Sec-Fetch-Site", c.fetch)
			}
			response, err := served(t).Test(request)
			if err != nil {
				t.Fatal(err)
			}
			defer response.Body.Close()
			for _, h := range headers {
				if response.Header.Get(h[0]) != h[1] {
					t.Errorf("%s is %q", h[0], response.Header.Get(h[0]))
				}
			}
			body, err := io.ReadAll(response.Body)
			if err != nil || response.StatusCode != c.status {
				t.Fatalf("status %d, want %d: %s, %v", response.StatusCode, c.status, body, err)
			}
			if response.StatusCode == http.StatusOK {
				return
			}
			var p problem.Problem
			if err := json.Unmarshal(body, &p); err != nil || p.Code != c.code || p.Sentence == "" {
				t.Errorf("%s, %v; want code %s", body, err, c.code)
			}
		})
	}
}
