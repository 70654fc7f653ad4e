// Package api serves the browser: the site and its changes, the live side,
// the event stream, and the front end itself. It holds no rules.
package api

import (
	"crypto/sha256"
	"crypto/subtle"
	"embed"
	"errors"
	"io/fs"
	"net"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/compress"
	"github.com/gofiber/fiber/v3/middleware/static"

	"ferry/internal/bench"
	"ferry/internal/core/problem"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
	"ferry/internal/field"
	"ferry/internal/store"
)

//go:embed all:dist
var dist embed.FS

// MaxBody bounds a request: a site file of some 100 000 points.
const MaxBody = 64 << 20

// Server answers the browser.
type Server struct {
	Store  *store.Store
	Engine *field.Engine
	Bench  *bench.Bench
	// Passphrase is asked for where it is set; it must be for any address but
	// loopback.
	Passphrase string

	mu       sync.Mutex
	routes   map[string]*route.Route // by link, as last tried
	routeRev int64
	plan     *timetable.Plan
	planSeq  int64
	checked  checkedSite
}

// App returns the HTTP application.
func (s *Server) App() *fiber.App {
	s.routes = map[string]*route.Route{}
	app := fiber.New(fiber.Config{AppName: "Ferry", Immutable: true, // strings outlive their request
		BodyLimit: MaxBody, ErrorHandler: failed,
		ReadTimeout: 30 * time.Second, IdleTimeout: 2 * time.Minute})
	app.Use(s.guard)
	app.Use(compress.New(compress.Config{Next: func(c fiber.Ctx) bool { return c.Path() == "/api/stream" }}))
	a := app.Group("/api")
	a.Get("/site", s.getSite)
	a.Post("/edit", s.postEdit)
	a.Post("/undo", s.postUndo)
	a.Post("/redo", s.postRedo)
	a.Get("/journal", s.getJournal)
	a.Get("/file/site.json", s.getSiteFile)
	a.Post("/file/site.json", s.postSiteFile)
	a.Get("/devices/:id/points", s.getPoints)
	a.Post("/devices/:id/cells", s.postCells)
	a.Post("/devices/:id/intake", s.postIntake)
	a.Get("/devices/:id/map.:format", s.getMapFile)
	a.Get("/file/maps.:format", s.getMapsFile)
	a.Get("/points/:id", s.getPoint)
	a.Get("/points/:id/trend", s.getTrend)
	a.Post("/devices/:id/bulk", s.postBulk)
	a.Post("/devices/:id/window", s.postWindow)
	a.Post("/devices/:id/edges", s.postEdges)
	a.Post("/devices/:id/return", s.postReturn)
	a.Post("/fathom", s.postFathom)
	a.Get("/datasheets", s.getSheets)
	a.Post("/datasheets/place", s.postPlace)
	a.Post("/datasheets/keep", s.postKeep)
	a.Post("/datasheets/:id/cells", s.postSheetCells)
	a.Post("/structures", s.postStructure)
	a.Get("/timetable", s.getTimetable)
	a.Post("/timetable/whatif", s.postWhatIf)
	a.Post("/timetable/learn", s.postLearn)
	a.Get("/lines/:id/outlook", s.getOutlook)
	a.Get("/lines/:id/actual", s.getActual)
	a.Post("/lines/:id/listen", s.postListen)
	a.Post("/lines/:id/allow", s.postAllow)
	a.Get("/devices/:id/sampling", s.getSampling)
	a.Get("/machine", s.getMachine)
	a.Post("/sweeps", s.postSweep)
	a.Get("/sweeps/:id", s.getSweep)
	a.Post("/sweeps/:id/stop", s.stopSweep)
	a.Post("/sweeps/:id/take", s.postTake)
	a.Post("/links/:id/try", s.postTry)
	a.Post("/run/start", s.postStart)
	a.Post("/run/stop", s.postStop)
	a.Post("/mode", s.postMode)
	a.Post("/unlock", s.postUnlock)
	a.Post("/write/prepare", s.postPrepare)
	a.Post("/write", s.postWrite)
	a.Get("/exchanges", s.getExchanges)
	a.Get("/exchanges/:seq", s.getExchange)
	a.Post("/bench/fault", s.postFault)
	a.Get("/stream", s.stream)
	a.Use(func(c fiber.Ctx) error {
		return &status{404, problem.New("not-found", "There is nothing at this address of the interface.", "").At(c.Path())}
	})
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is embedded above
	}
	app.Use("/", static.New("", static.Config{FS: files, MaxAge: 3600, ModifyResponse: func(c fiber.Ctx) error {
		if !strings.HasPrefix(c.Path(), "/assets/") {
			c.Set("Cache-Control", "no-cache")
		}
		return nil
	}}))
	app.Use(func(c fiber.Ctx) error {
		// Every place in the application is an address of its own.
		page, err := fs.ReadFile(files, "index.html")
		if err != nil {
			return &status{500, problem.New("no-front-end", "This binary was built without its front end.", "Build it with make build.")}
		}
		c.Set("Content-Type", "text/html; charset=utf-8")
		c.Set("Cache-Control", "no-cache")
		return c.Send(page)
	})
	return app
}

// status is a problem with the HTTP status it is sent with.
type status struct {
	code int
	*problem.Problem
}

func (s *status) Unwrap() error { return s.Problem }

// failed sends every error in the one shape.
func failed(c fiber.Ctx, err error) error {
	code := 500
	p := problem.From(err, "internal")
	var own *status
	var framework *fiber.Error
	switch {
	case errors.As(err, &own):
		code = own.code
	case errors.As(err, &framework):
		code = framework.Code
		if code == fiber.StatusRequestEntityTooLarge {
			p = problem.New("too-large", "The file is larger than 64 MB.", "Bring it in by parts.")
		}
	case p.Code == "stale":
		code = 409
	case p.Code == "gone":
		code = 410
	case p.Code != "internal":
		code = 422
	}
	return c.Status(code).JSON(p)
}

// guard refuses what did not come from the application's own page, so that no
// other page in the same browser can drive Ferry, and asks for the passphrase
// where one is set.
func (s *Server) guard(c fiber.Ctx) error {
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("X-Frame-Options", "DENY")
	c.Set("Referrer-Policy", "no-referrer")
	c.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self' data:; frame-ancestors 'none'")
	host := c.Host()
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		name = host
	}
	ip := net.ParseIP(strings.Trim(name, "[]"))
	if s.Passphrase == "" && name != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return &status{403, problem.New("host", "Ferry answers only under its own address.", "Open it as http://127.0.0.1 with its port.").At(host)}
	}
	if origin := c.Get("Origin"); origin != "" {
		if u, err := url.Parse(origin); err != nil || u.Host != host {
			return &status{403, problem.New("origin", "Another page tried to reach Ferry.", "").At(origin)}
		}
	}
	if s.Passphrase != "" {
		_, given, _ := parseBasic(c.Get("Authorization"))
		a, b := sha256.Sum256([]byte(given)), sha256.Sum256([]byte(s.Passphrase))
		if subtle.ConstantTimeCompare(a[:], b[:]) != 1 {
			c.Set("WWW-Authenticate", `Basic realm="Ferry"`)
			return &status{401, problem.New("passphrase", "This Ferry asks for a passphrase.", "Leave the name empty and enter the passphrase.")}
		}
	}
	return c.Next()
}

// who names the author of a change: the browser window.
func who(c fiber.Ctx) string {
	if name := c.Get("X-Ferry-Window"); name != "" && len(name) < 64 {
		return name
	}
	return "a window"
}

// changed tells the bench and the engine of a new site.
func (s *Server) changed() error {
	now, _ := s.Store.Site()
	err := s.Bench.Sync(now)
	s.Engine.Update(now)
	if err != nil {
		return problem.New("bench", "The change is kept, but a stand-in could not be started: "+err.Error()+".", "Restart Ferry.")
	}
	return nil
}

// planNow returns the compiled timetable of the site as it is.
func (s *Server) planNow() (*timetable.Plan, *site.Site, int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.planLocked()
}

// planLocked is planNow for who holds the lock.
func (s *Server) planLocked() (*timetable.Plan, *site.Site, int64) {
	now, seq := s.Store.Site()
	if s.plan == nil || s.planSeq != seq {
		s.plan, s.planSeq = timetable.Compile(now), seq
	}
	return s.plan, now, seq
}

func bind(c fiber.Ctx, into any) error {
	if err := c.Bind().JSON(into); err != nil {
		return &status{400, problem.New("unreadable", "The request could not be read: "+err.Error()+".", "Reload the page: it may be older than the program.")}
	}
	return nil
}
