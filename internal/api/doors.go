package api

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/url"
	"runtime"
	"slices"
	"strings"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/accounts"
	"ferry/internal/core/problem"
	"ferry/internal/field"
	"ferry/internal/vault"
)

type userKey struct{}

// sessionCookie holds the secret of a session. It is sent over TLS alone, to
// this host alone, and no script can read it.
const sessionCookie = "ferry-session"

// headers are set on everything that is served, whatever else becomes of the
// request.
var headers = [][2]string{
	{"X-Content-Type-Options", "nosniff"},
	{"X-Frame-Options", "DENY"},
	{"Referrer-Policy", "no-referrer"},
	{"Cross-Origin-Opener-Policy", "same-origin"},
	{"Cross-Origin-Resource-Policy", "same-origin"},
	{"Permissions-Policy", "camera=(), microphone=(), geolocation=()"},
	{"Content-Security-Policy",
		"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self' data:; " +
			"object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"},
}

// guard refuses what did not come from the application's own page, so that no
// other page in the same browser can drive Ferry.
func (s *Server) guard(c fiber.Ctx) error {
	err := s.foreign(c)
	if err == nil {
		err = c.Next()
	}
	if err != nil {
		if c.Method() != fiber.MethodGet && c.Locals(bodyTaken{}) == nil {
			c.RequestCtx().SetConnectionClose() // what is left of its body is not read
		}
		err = failed(c, err)
	}
	for _, h := range headers {
		c.Set(h[0], h[1])
	}
	if strings.HasPrefix(c.Path(), "/api") {
		c.Set("Cache-Control", "no-store")
	}
	if s.Certificate != nil {
		c.Set("Strict-Transport-Security", "max-age=31536000")
	}
	return err
}

// foreign says what shows that a request comes from elsewhere.
func (s *Server) foreign(c fiber.Ctx) error {
	host := c.Host()
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		name = host
	}
	name = strings.Trim(name, "[]")
	ip := net.ParseIP(name)
	if !strings.EqualFold(name, "localhost") && (ip == nil || !ip.IsLoopback()) && !slices.ContainsFunc(s.Hosts,
		func(h string) bool { return strings.EqualFold(h, name) }) {
		return &status{403, problem.New("host", "Ferry answers only under its own address.",
			"Open it as http://127.0.0.1 with its port, or start it with --host and the name that you use.").At(host)}
	}
	foreign := &status{403,
		problem.New("origin", "Another page tried to reach Ferry.", "Open Ferry in a window of its own.")}
	api, reading := strings.HasPrefix(c.Path(), "/api"), c.Method() == fiber.MethodGet || c.Method() == fiber.MethodHead
	origins := c.Request().Header.PeekAll("Origin")
	if len(origins) > 1 {
		return foreign
	}
	origin := string(slices.Concat(origins...))
	if origin != "" {
		scheme := "http"
		if s.Certificate != nil {
			scheme = "https"
		}
		u, err := url.Parse(origin)
		if err != nil || u.Scheme != scheme || !strings.EqualFold(u.Host, host) || u.User != nil || u.Path != "" ||
			u.RawQuery != "" || u.Fragment != "" {
			return &status{403, foreign.At(origin)}
		}
	}
	switch site := c.Get("Sec-Fetch-Site"); {
	case site == "same-origin":
	case site == "none" && reading: // typed, or opened from a bookmark
	case site == "" && (reading || origin != "" || c.Get("X-Ferry-Window") != ""):
		// A program that is no browser: it has to say so by a header that no
		// page of another origin can send.
	case site != "" && !api && reading && c.Get("Sec-Fetch-Mode") == "navigate":
		// A link to the application from elsewhere, which opens a page of it.
	case site == "":
		return &status{403, problem.New("origin", "A request that changes something has to say where it comes from.",
			"Send the header X-Ferry-Window with a name of your own.")}
	default:
		return &status{403, foreign.At(site)}
	}
	return nil
}

// door lets in who has a role.
func (s *Server) door(a fiber.Router, needed accounts.Role) doored {
	return doored{a, func(c fiber.Ctx) error {
		return s.admit(c, needed)
	}}
}

// doored registers handlers behind a door.
type doored struct {
	router fiber.Router
	door   fiber.Handler
}

// Get registers a handler of GET requests.
func (d doored) Get(path string, handler fiber.Handler) { d.router.Get(path, d.door, handler) }

// Post registers a handler of POST requests.
func (d doored) Post(path string, handler fiber.Handler) { d.router.Post(path, d.door, handler) }

// admit lets a request on if its sender may do what it asks for.
func (s *Server) admit(c fiber.Ctx, needed accounts.Role) error {
	if err := s.may(c, needed); err != nil {
		return err
	}
	return c.Next()
}

// signedIn returns the user of a request; ok is true where nobody has to sign
// in.
func (s *Server) signedIn(c fiber.Ctx) (accounts.User, bool) {
	if s.Accounts == nil {
		return accounts.User{Role: accounts.Plant}, true
	}
	user, ok := s.Accounts.Of(c.Cookies(sessionCookie), c.Path() != "/api/stream")
	if ok {
		c.Locals(userKey{}, user)
	}
	return user, ok
}

func (s *Server) may(c fiber.Ctx, needed accounts.Role) error {
	user, ok := s.signedIn(c)
	if !ok {
		return &status{401, problem.New("sign-in", "Nobody is signed in, or the session has ended.", "Sign in.")}
	}
	if !user.Role.May(needed) {
		return &status{403, problem.New("role",
			fmt.Sprintf("%s may %s, and this needs %s.", user.Name, roleWords[user.Role], roleWords[needed]),
			"Ask somebody who may.")}
	}
	return nil
}

var roleWords = map[accounts.Role]string{accounts.Look: "look", accounts.Edit: "edit",
	accounts.Plant: "write to the plant"}

// onPlant refuses what moves a plant to who may not; on the bench it may be done
// by whoever may edit.
func (s *Server) onPlant(c fiber.Ctx) error {
	if s.Engine.Mode() != field.Plant {
		return nil
	}
	return s.may(c, accounts.Plant)
}

// smallBody bounds the body of a request that brings no file.
const smallBody = 8 << 20

// takeBody reads the body of a request, now that its sender is known: none is
// read before. What it costs is bounded: its octets, how many large ones are
// read at a time, and no packing.
func (s *Server) takeBody(c fiber.Ctx) error {
	if c.Method() == fiber.MethodGet || c.Method() == fiber.MethodHead {
		return c.Next()
	}
	if c.Path() == recordingsPath {
		return s.takeRecording(c)
	}
	free := c.Path() == "/api/sign-in" || c.Path() == "/api/sign-out"
	most := smallBody
	switch {
	case free:
		most = 16 << 10
	case strings.HasPrefix(c.Path(), "/api/kept/"):
		most = vault.MostFile
	case c.Path() == "/api/file/site.json" || strings.HasSuffix(c.Path(), "/intake"):
		most = MaxBody
	case strings.HasSuffix(c.Path(), "/drawn") || c.Path() == outlinesPath:
		most = mostDrawn
	}
	if !free {
		if err := s.may(c, accounts.Look); err != nil {
			return err
		}
	}
	// A browser sees the answer only once all that it sends is taken: for who is
	// known that is done, up to a point, and nothing of it is kept.
	drop := func() {
		if stream := c.Request().BodyStream(); stream != nil {
			_, _ = io.Copy(io.Discard, io.LimitReader(stream, 4*MaxBody)) // what is wrong with it no longer matters
		}
	}
	if packing := c.Get("Content-Encoding"); packing != "" && packing != "identity" {
		drop()
		return &status{415, problem.New("packed", "The body is packed, and Ferry takes none that is.",
			"Send it as it is.").At(packing)}
	}
	length := c.Request().Header.ContentLength()
	if length > most {
		drop()
		return tooLarge(most)
	}
	if length < 0 || length > 128<<10 {
		s.uploads <- struct{}{}
		defer func() { <-s.uploads }()
	}
	body := c.Request().Body
	if stream := c.Request().BodyStream(); stream != nil {
		var b bytes.Buffer
		if length > 0 {
			b.Grow(length + bytes.MinRead)
		}
		if _, err := io.Copy(&b, io.LimitReader(stream, int64(most)+1)); err != nil {
			return &status{400, problem.New("unreadable", "The request broke off: "+err.Error()+".", "Send it again.")}
		}
		if b.Len() > most {
			drop()
			return tooLarge(most)
		}
		c.Request().SetBodyRaw(b.Bytes())
	} else if len(body()) > most {
		return tooLarge(most)
	}
	c.Locals(bodyTaken{}, true)
	return c.Next()
}

// bodyTaken marks a request whose body was read to its end.
type bodyTaken struct{}

func tooLarge(most int) error {
	return &status{413, problem.New("too-large", fmt.Sprintf("The file is larger than %d MB.", max(1, most>>20)),
		"Bring it in by parts.")}
}

// shownAttempts is how many attempts to sign in are shown.
const shownAttempts = 100

// HealthView is what Ferry itself takes of the machine.
type HealthView struct {
	Goroutines int `json:"goroutines"`
	// HeapBytes are in use after the last collection.
	HeapBytes uint64 `json:"heapBytes"`
}

func (s *Server) getHealth(c fiber.Ctx) error {
	if c.Query("collect") != "" && s.Accounts == nil {
		runtime.GC()
	}
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return c.JSON(HealthView{runtime.NumGoroutine(), m.HeapAlloc})
}

// NoticesView is what somebody has to know.
type NoticesView struct {
	Notices []string `json:"notices"`
}

func (s *Server) getNotices(c fiber.Ctx) error {
	return c.JSON(NoticesView{append([]string{}, s.Notices...)})
}
