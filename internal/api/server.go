// Package api serves the browser: the site and its changes, the live side,
// the event stream, and the front end itself. It holds no rules.
package api

import (
	"context"
	"crypto/tls"
	"embed"
	"errors"
	"io/fs"
	"log"
	"net/url"
	"runtime/debug"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/compress"
	"github.com/gofiber/fiber/v3/middleware/static"

	"ferry/internal/accounts"
	"ferry/internal/bench"
	"ferry/internal/core/codebook"
	"ferry/internal/core/finding"
	"ferry/internal/core/pairing"
	"ferry/internal/core/problem"
	"ferry/internal/core/route"
	"ferry/internal/core/timetable"
	"ferry/internal/field"
	"ferry/internal/lookout"
	"ferry/internal/recording"
	"ferry/internal/relay"
	"ferry/internal/sites"
	"ferry/internal/store"
	"ferry/internal/strips"
	"ferry/internal/vault"
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
	// Accounts are who may use it where others than this machine can reach it;
	// nil where they cannot, and nobody signs in.
	Accounts *accounts.Accounts
	// Certificate is what it is reached with, if it is reached over TLS.
	Certificate *accounts.Certificate
	// Hosts are the names and addresses by which it is reached, beside those of
	// loopback.
	Hosts []string
	// Vault keeps the secrets and files that settings name.
	Vault vault.Vault
	// Recordings are those of traffic that the site keeps.
	Recordings *recording.Shelf
	// Relays are those at work; all end when the mode is switched.
	Relays *relay.Set
	// RelayCertificate is what relays show callers over TLS.
	RelayCertificate func() (tls.Certificate, error)
	// Strips records trends.
	Strips *strips.Recorder
	// Lookouts looks out for what the site says, and Teller tells the outlets.
	Lookouts *lookout.Keeper
	Teller   *lookout.Teller
	// Sites are those of this machine, Again closes this one and goes on with the
	// one that was chosen; nil where there is but one.
	Sites *sites.Sites
	Again func()
	// Notices are what was found at the start that somebody has to know.
	Notices []string

	publishing sync.Mutex // held while bench and engine are told of a new site

	mu       sync.Mutex
	routes   map[string]*route.Route // by link, as last tried
	routeRev int64
	views    []viewPrint // of the site, that windows have
	viewNo   int
	started  int64 // when, to tell the views of this program from those of an earlier one

	listsMu sync.Mutex
	lists   []pairing.ListStanding // as they stood at
	listsAt time.Time

	checker  checker
	stats    liveStats
	toldNow  toldNow
	heldNow  heldNow
	outlines outlines
	feed     feed
	walked   walked
	provers  provers
	uploads  chan struct{} // turns of large bodies
	heavy    chan struct{} // turns of what computes for long
}

// streamed reports whether an answer comes bit by bit: packing it would gather all of it first.
func streamed(c fiber.Ctx) bool {
	return c.Path() == "/api/stream" || strings.HasPrefix(c.Path(), "/api/file/trends/")
}

// App returns the HTTP application.
func (s *Server) App() *fiber.App {
	s.routes = map[string]*route.Route{}
	s.started = time.Now().UnixNano()
	if s.Relays == nil {
		s.Relays = &relay.Set{}
	}
	s.uploads, s.heavy = make(chan struct{}, 3), make(chan struct{}, 1)
	app := fiber.New(fiber.Config{AppName: "Ferry", Immutable: true, // strings outlive their request
		BodyLimit: MaxBody, ErrorHandler: failed, StreamRequestBody: true, // a body is read once its sender is known
		Concurrency: 2048, ReadTimeout: 30 * time.Second, IdleTimeout: 2 * time.Minute})
	app.Use(recovered)
	app.Use(s.guard)
	app.Use(compress.New(compress.Config{Next: streamed}))
	app.Use("/api", s.takeBody)
	a := app.Group("/api")
	a.Get("/me", s.getMe)
	a.Post("/sign-in", s.postSignIn)
	a.Post("/sign-out", s.postSignOut)
	// Everything below is for who may do it. What writes looks at the mode
	// besides: on a plant it needs more.
	look, edit, plant := s.door(a, accounts.Look), s.door(a, accounts.Edit), s.door(a, accounts.Plant)
	look.Get("/notices", s.getNotices)
	look.Get("/sites", s.getSites)
	edit.Post("/sites/open", s.postOpen)
	edit.Post("/sites/begin", s.postBegin)
	edit.Post("/sites/copy", s.postCopySite)
	edit.Post("/sites/remove", s.postRemoveSite)
	look.Get("/health", s.getHealth)
	plant.Get("/users", s.getUsers)
	plant.Post("/users", s.postUser)
	plant.Post("/users/remove", s.postRemoveUser)
	edit.Post("/crossings/release", s.postRelease)
	edit.Post("/gateway/look", s.postGatewayLook)
	edit.Post("/gateway/build", s.postGatewayBuild)
	edit.Post("/pairing", s.postPairing)
	edit.Post("/pairing/take", s.postPair)
	look.Get("/file/crossings.:format", s.getCrossingsFile)
	look.Get("/crossings/:id", s.getCrossing)
	edit.Post("/crossings/rules", s.postReword)
	edit.Post("/crossings/:id/out", s.postOut)
	edit.Post("/crossings/:id/prove", s.postProve)
	edit.Post("/crossings/:id/dry", s.postDry)
	look.Get("/lists", s.getLists)
	look.Get("/pairs", s.getPairs)
	edit.Post("/twin", s.postTwin)
	edit.Post("/lists/:id/turn", s.postTurn)
	look.Get("/site", s.getSite)
	edit.Post("/edit", s.postEdit)
	edit.Post("/undo", s.postUndo)
	edit.Post("/redo", s.postRedo)
	look.Get("/journal", s.getJournal)
	look.Get("/file/site.json", s.getSiteFile)
	edit.Post("/file/site.json", s.postSiteFile)
	look.Get("/devices/:id/points", s.getPoints)
	edit.Post("/devices/:id/cells", s.postCells)
	edit.Post("/devices/:id/intake", s.postIntake)
	edit.Post("/devices/:id/held", s.postHeld)
	edit.Post("/devices/:id/names", s.postNames)
	look.Get("/devices/:id/map.:format", s.getMapFile)
	look.Get("/file/maps.:format", s.getMapsFile)
	look.Get("/find", s.getFind)
	look.Get("/points/:id", s.getPoint)
	look.Get("/points/:id/trend", s.getTrend)
	look.Get("/checkout", s.getCheckout)
	look.Get("/file/checkout.csv", s.getRecordFile)
	look.Get("/file/pack.:format", s.getPack)
	look.Get("/readers", s.getReaders)
	look.Get("/file/readers.:format", s.getReadersFile)
	look.Get("/snapshots", s.getSnapshots)
	look.Get("/snapshots/:id", s.getCompared)
	look.Get("/trends", s.getStrips)
	look.Get("/trends/:id/chart", s.getChart)
	look.Get("/trends/:id/sums", s.getSums)
	look.Get("/file/trends/:id.csv", s.getStripFile)
	look.Get("/checkout/proofs", s.getProofs)
	look.Get("/checkout/devices/:id", s.getProving)
	look.Get("/checkout/points/:id", s.getProof)
	look.Get("/checkout/devices/:id/column", s.getColumn)
	edit.Post("/devices/:id/bulk", s.postBulk)
	edit.Post("/devices/:id/window", s.postWindow)
	edit.Post("/devices/:id/edges", s.postEdges)
	edit.Post("/devices/:id/return", s.postReturn)
	edit.Post("/fathom", s.postFathom)
	look.Get("/datasheets", s.getSheets)
	edit.Post("/datasheets/place", s.postPlace)
	edit.Post("/datasheets/keep", s.postKeep)
	edit.Post("/datasheets/:id/cells", s.postSheetCells)
	edit.Post("/structures", s.postStructure)
	look.Get("/timetable", s.getTimetable)
	look.Get("/timetable/stats", s.getStats)
	edit.Post("/timetable/whatif", s.postWhatIf)
	edit.Post("/timetable/learn", s.postLearn)
	edit.Post("/links/:id/noted", s.postNoted)
	edit.Post("/links/:id/standing", s.postStanding)
	edit.Post("/links/:id/survey", s.postSurvey)
	edit.Post("/links/:id/configuration", s.postConfiguration)
	edit.Post("/links/:id/offers", s.postOffers)
	edit.Post("/links/:id/trust", s.postTrust)
	edit.Post("/links/:id/certificate", s.postLinkCertificate)
	edit.Post("/devices/:id/browse", s.postBrowse)
	edit.Post("/devices/:id/find", s.postFind)
	edit.Post("/devices/:id/take", s.postNodes)
	look.Get("/devices/:id/description", s.getDescription)
	look.Get("/devices/:id/column", s.getNamed)
	edit.Post("/devices/:id/column", s.postNamed)
	edit.Post("/devices/:id/column/points", s.postNamedPoints)
	edit.Post("/devices/:id/certificate", s.postServedCertificate)
	look.Get("/devices/:id/strangers", s.getStrangers)
	edit.Post("/devices/:id/strangers", s.postBefriend)
	look.Get("/lines/:id/outlook", s.getOutlook)
	look.Get("/lines/:id/actual", s.getActual)
	edit.Post("/lines/:id/listen", s.postListen)
	edit.Post("/lines/:id/drawn", s.postDrawn)
	edit.Post("/lines/:id/allow", s.postAllow)
	look.Get("/devices/:id/sampling", s.getSampling)
	look.Get("/serving", s.getServing)
	look.Get("/given", s.getGiven)
	look.Post("/outlines", s.postOutline)
	look.Get("/outlines/:id", s.getOutline)
	look.Get("/outlines/:id/find", s.findOutline)
	look.Get("/outlines/:id/differences", s.getDifferences)
	edit.Post("/outlines/:id/take", s.postOutlineTake)
	look.Get("/devices/:id/caller", s.getCaller)
	edit.Post("/devices/:id/caller", s.postCaller)
	edit.Post("/devices/:id/command", s.postCommand)
	look.Get("/machine", s.getMachine)
	edit.Post("/sweeps", s.postSweep)
	look.Get("/sweeps/:id", s.getSweep)
	edit.Post("/sweeps/:id/stop", s.stopSweep)
	edit.Post("/sweeps/:id/take", s.postTake)
	edit.Post("/links/:id/try", s.postTry)
	edit.Post("/run/start", s.postStart)
	edit.Post("/run/stop", s.postStop)
	edit.Post("/mode", s.postMode)
	edit.Post("/unlock", s.postUnlock)
	edit.Post("/checkout", s.postProofs)
	edit.Post("/checkout/ramp/read", s.postRampRead)
	edit.Post("/checkout/ramp", s.postRamp)
	edit.Post("/asleft", s.postAsLeft)
	edit.Post("/asleft/bring", s.postBringOver)
	edit.Post("/trends", s.postStrip)
	edit.Post("/trends/:id/stop", s.postStopStrip)
	edit.Post("/trends/:id/remove", s.postRemoveStrip)
	edit.Post("/snapshots", s.postSnapshot)
	edit.Post("/snapshots/:id/remove", s.postRemoveSnapshot)
	edit.Post("/snapshots/:id/back", s.postWriteBack)
	edit.Post("/checkout/at", s.postProver)
	edit.Post("/checkout/judge", s.postJudge)
	edit.Post("/checkout/readings", s.postReadings)
	edit.Post("/write/prepare", s.postPrepare)
	look.Get("/levels/:id", s.getLevels)
	edit.Post("/write", s.postWrite)
	look.Get("/findings", func(c fiber.Ctx) error { return c.JSON(s.lately(time.Now(), s.Store.Now().Seq)) })
	look.Get("/lookouts", s.getLookouts)
	look.Get("/exchanges/stats", s.getLiveStats)
	look.Get("/exchanges/history", s.getLiveHistory)
	edit.Post("/lookouts/compare", s.postCompare)
	edit.Post("/outlets/:id/try", s.postTryOutlet)
	edit.Post("/caught/refuse", s.postRefuse)
	look.Get("/codebook", func(c fiber.Ctx) error { return c.JSON(codebook.Find(c.Query("q"))) })
	look.Get("/exchanges", s.getExchanges)
	look.Get("/exchanges/:seq", s.getExchange)
	look.Get("/recordings", s.getRecordings)
	edit.Post("/recordings", s.postRecording)
	edit.Post("/recordings/own", s.postOwn)
	look.Get("/file/traffic.:format", s.getOwnFile)
	look.Get("/recordings/:id", s.getRecording)
	look.Get("/recordings/:id/file.:format", s.getRecordedFile)
	edit.Post("/recordings/:id/again", s.postRecordingAgain)
	edit.Post("/recordings/:id/remove", s.postRecordingRemove)
	look.Get("/recordings/:id/history", s.getRecordedHistory)
	look.Get("/recordings/:id/learn", s.getRecordedLearn)
	edit.Post("/recordings/:id/learn", s.postRecordedLearn)
	look.Get("/recordings/:id/exchanges", s.getRecordedList)
	look.Get("/recordings/:id/exchanges/:row", s.getRecordedExchange)
	look.Get("/relays", s.getRelays)
	edit.Post("/relays", s.postRelay)
	edit.Post("/relays/:id/ask", s.postRelayAsk)
	edit.Post("/relays/:id/stop", s.postRelayStop)
	edit.Post("/relays/:id/keep", s.postRelayKeep)
	edit.Post("/bench/fault", s.postFault)
	look.Get("/kept", s.getKept)
	look.Get("/kept/certificate/:name", s.getKeptFile)
	edit.Post("/kept/:kind/:name", s.postKept)
	edit.Post("/kept/:kind/:name/remove", s.postForget)
	look.Get("/stream", s.stream)
	look.Post("/watch", s.postWatch)
	a.Use(func(c fiber.Ctx) error {
		return &status{404, problem.New("not-found", "There is nothing at this address of the interface.",
			"").At(c.Path())}
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
			return &status{500, problem.New("no-front-end", "This binary was built without its front end.",
				"Build it with make build.")}
		}
		c.Set("Content-Type", "text/html; charset=utf-8")
		c.Set("Cache-Control", "no-cache")
		return c.Send(page)
	})
	return app
}

// recovered keeps a defect in one request from ending the program.
func recovered(c fiber.Ctx) (err error) {
	defer func() {
		if p := recover(); p != nil {
			log.Printf("%s %q: %v\n%s", c.Method(), c.Path(), p, debug.Stack())
			err = &status{500, problem.New("defect",
				"Ferry failed on this request: a defect of its own. What is known of it is in its log.",
				"Try again, and report it with the log.")}
		}
	}()
	return c.Next()
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
	case p.Code == "gone", p.Code == "order-gone":
		code = 410
	case p.Code == "order-changed":
		code = 409
	case p.Code != "internal":
		code = 422
	}
	return c.Status(code).JSON(p)
}

// who names the author of a change: the user, or the browser window where nobody
// signs in.
func who(c fiber.Ctx) string {
	if user, ok := c.Locals(userKey{}).(accounts.User); ok {
		return user.Name
	}
	if name, err := url.PathUnescape(c.Get("X-Ferry-Window")); err == nil && name != "" && len(name) < 256 &&
		utf8.ValidString(name) {
		return strings.Map(plainly, name)
	}
	return "a window"
}

// plainly replaces what does not print.
func plainly(r rune) rune {
	if unicode.IsPrint(r) {
		return r
	}
	return '·'
}

// changed tells the bench and the engine of the site as it is now. Two changes
// reach them in their order, or as one.
func (s *Server) changed() error {
	s.publishing.Lock()
	defer s.publishing.Unlock()
	now, seq := s.Store.Site()
	s.checker.begin(s, now, seq)
	err := s.Bench.Sync(now)
	s.Engine.Update(now, seq)
	if err != nil {
		return problem.New("bench", "The change is kept, but a stand-in could not be started: "+err.Error()+".",
			"Restart Ferry.")
	}
	return nil
}

// planNow returns the latest timetable, with the site as it is; the timetable
// may still be that of an earlier one.
func (s *Server) planNow(ctx context.Context) (*timetable.Plan, *store.Snapshot) {
	plan, _ := s.Engine.Plan()
	if plan == nil { // it has only begun
		s.briefly(ctx)
		if plan, _ = s.Engine.Plan(); plan == nil {
			plan = &timetable.Plan{Lines: []timetable.LineLoad{}, Links: []timetable.LinkLoad{},
				Requests: []timetable.Request{}, Findings: []finding.Finding{}}
		}
	}
	return plan, s.Store.Now()
}

// inTurn takes a turn of what computes for long: one at a time, so that several
// windows do not take the machine from the run.
func (s *Server) inTurn() (done func()) {
	s.heavy <- struct{}{}
	return func() { <-s.heavy }
}

func bind(c fiber.Ctx, into any) error {
	if err := c.Bind().JSON(into); err != nil {
		return &status{400, problem.New("unreadable", "The request could not be read: "+err.Error()+".",
			"Reload the page: it may be older than the program.")}
	}
	return nil
}
