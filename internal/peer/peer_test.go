package peer

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"syscall"
	"testing"

	"ferry/internal/core/problem"
)

// other answers as a Ferry does that wants people to sign in.
func other(w http.ResponseWriter, r *http.Request) {
	if r.Header.Get("X-Ferry-Window") == "" {
		http.Error(w, "no window", http.StatusForbidden)
		return
	}
	cookie, _ := r.Cookie("ferry")
	switch {
	case r.URL.Path == "/api/me":
		_, _ = w.Write([]byte(`{"guarded":true}`))
	case r.URL.Path == "/api/sign-in":
		http.SetCookie(w, &http.Cookie{Name: "ferry", Value: "1", Path: "/"})
		_, _ = w.Write([]byte(`{}`))
	case cookie == nil:
		w.WriteHeader(http.StatusUnauthorized)
		_, _ = w.Write([]byte(`{"code":"sign-in","sentence":"Nobody is signed in."}`))
	case r.URL.Path == "/api/file/site.json":
		_, _ = w.Write([]byte(`{"format":"ferry-site","version":1,"name":"Pump house","lines":[],"devices":[],"links":[],` +
			`"crossings":[]}`))
	case r.URL.Path == "/api/edit":
		w.WriteHeader(http.StatusForbidden)
		_, _ = w.Write([]byte(`{"code":"role","sentence":"Nils may look, and this needs edit."}`))
	}
}

// TestOpen: a site is read only over a connection that somebody has vouched for, and
// every way of not reaching it has its own words.
func TestOpen(t *testing.T) {
	plain := httptest.NewServer(http.HandlerFunc(other))
	secure := httptest.NewTLSServer(http.HandlerFunc(other))
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_,
			_ = w.Write([]byte("<html>"))
	}))
	away := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, secure.URL, http.StatusFound)
	}))
	for _, s := range []*httptest.Server{plain, secure, page, away} {
		defer s.Close()
	}
	forbid := func(string, string, syscall.RawConn) error { return errors.New("not there") }
	codeOf := func(a Address, control func(string, string, syscall.RawConn) error) (*Peer, *problem.Problem) {
		p, err := Open(context.Background(), a, control)
		var said *problem.Problem
		if err != nil && !errors.As(err, &said) {
			t.Fatal(err)
		}
		return p, said
	}
	_, unknown := codeOf(Address{URL: secure.URL, Name: "ada", Passphrase: "tide and time"}, nil)
	if unknown == nil || unknown.Code != "certificate-unknown" || len(digits(unknown.Where)) != 64 {
		t.Fatalf("%+v", unknown)
	}
	for _, c := range []struct {
		name string
		at   Address
		code string
		no   bool
	}{
		{"in clear on this machine", Address{URL: plain.URL, Passphrase: "x"}, "", false},
		{"in clear elsewhere", Address{URL: "http://192.0.2.20:8642", Passphrase: "x"}, "not-secure", false},
		{"compared", Address{URL: secure.URL, Passphrase: "x", Fingerprint: strings.ToLower(unknown.Where)}, "", false},
		{"compared with another", Address{URL: secure.URL, Passphrase: "x", Fingerprint: strings.Repeat("AB:", 32)},
			"certificate-unknown", false},
		{"without a passphrase", Address{URL: plain.URL}, "sign-in", false},
		{"no scheme", Address{URL: strings.TrimPrefix(secure.URL, "https://"), Passphrase: "x"}, "certificate-unknown",
			false},
		{"no TLS there", Address{URL: strings.Replace(plain.URL, "http:", "https:", 1)}, "not-secure", false},
		{"nothing there", Address{URL: "http://127.0.0.1:1"}, "not-started", false},
		{"no Ferry", Address{URL: page.URL}, "no-ferry", false},
		{"sent elsewhere", Address{URL: away.URL}, "no-ferry", false},
		{"no address", Address{URL: "ftp://x"}, "url", false},
		{"forbidden", Address{URL: plain.URL}, "not-reached", true},
	} {
		control := forbid
		if !c.no {
			control = nil
		}
		p, said := codeOf(c.at, control)
		if c.code != "" {
			if said == nil || said.Code != c.code {
				t.Errorf("%s: %+v, want %s", c.name, said, c.code)
			}
			continue
		}
		if said != nil {
			t.Errorf("%s: %v", c.name, said)
			continue
		}
		if s, err := p.Site(context.Background()); err != nil || s.Name != "Pump house" {
			t.Errorf("%s: %+v, %v", c.name, s, err)
		}
		if err := p.Create(context.Background(), "x", nil); err == nil || !strings.Contains(err.Error(), "needs edit") {
			t.Errorf("%s: a change by who may only look: %v", c.name, err)
		}
	}
}
