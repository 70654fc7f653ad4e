package api

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/accounts"
	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/recording"
)

func (s *Server) getTimetable(c fiber.Ctx) error {
	plan, now := s.planNow(c.Context())
	if line := c.Query("line"); c.Request().URI().QueryArgs().Has("line") {
		plan = ofLine(plan, line)
		return c.JSON(TimetableView{now.Seq, plan, []field.RequestStats{}, s.Engine.State(), []field.Outage{}})
	}
	return c.JSON(TimetableView{now.Seq, plan, s.Engine.Hub.Stats(), s.Engine.State(), s.Engine.Hub.Outages()})
}

// ofLine is a plan with the requests and loads of one line alone; of the fullest, if it has
// not that line.
func ofLine(plan *timetable.Plan, line string) *timetable.Plan {
	fullest := ""
	best := -1.0
	for i := range plan.Lines {
		l := &plan.Lines[i]
		if l.Requests+l.Loads > 0 && l.Line == line {
			fullest = line
			break
		}
		if l.Requests+l.Loads > 0 && l.Utilisation > best {
			fullest, best = l.Line, l.Utilisation
		}
	}
	part := *plan
	part.Requests, part.Findings = []timetable.Request{}, []finding.Finding{}
	part.Loads = []timetable.Load{}
	for i := range plan.Loads {
		if plan.Loads[i].Line == fullest {
			part.Loads = append(part.Loads, plan.Loads[i])
		}
	}
	for i := range plan.Requests {
		if plan.Requests[i].Line == fullest {
			part.Requests = append(part.Requests, plan.Requests[i])
		}
	}
	return &part
}

// getStats returns what was measured of the requests of a line, and its outages.
func (s *Server) getStats(c fiber.Ctx) error {
	_, now := s.planNow(c.Context())
	links := map[string]bool{}
	for i := range now.Site.Links {
		if now.Site.Links[i].Line == c.Query("line") {
			links[now.Site.Links[i].ID] = true
		}
	}
	view := StatsView{Stats: s.Engine.Hub.StatsOf(links), Outages: []field.Outage{}}
	for _, o := range s.Engine.Hub.Outages() {
		if links[o.Link] {
			view.Outages = append(view.Outages, o)
		}
	}
	return c.JSON(view)
}

func (s *Server) postTry(c fiber.Ctx) error {
	ctx, cancel := context.WithTimeout(c.Context(), 60*time.Second)
	defer cancel()
	r, err := s.Engine.Try(ctx, c.Params("id"))
	if err != nil {
		return err
	}
	s.mu.Lock()
	s.routes[r.Link] = r
	s.routeRev++
	s.mu.Unlock()
	return c.JSON(r)
}

// getServing says what Ferry does as the devices that it is.
func (s *Server) getServing(c fiber.Ctx) error { return c.JSON(s.Engine.Serving()) }

// getPairs says how the links with two addresses are.
func (s *Server) getPairs(c fiber.Ctx) error { return c.JSON(s.Engine.Pairs()) }

func (s *Server) postStart(c fiber.Ctx) error {
	var r RunRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if err := s.Engine.Start(r.Links); err != nil {
		return err
	}
	return c.JSON(s.Engine.State())
}

func (s *Server) postStop(c fiber.Ctx) error {
	var r RunRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	s.Engine.Stop(r.Links)
	return c.JSON(s.Engine.State())
}

func (s *Server) postMode(c fiber.Ctx) error {
	var r ModeRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if err := s.Relays.Close(); err != nil { // they lead to where the mode before had them
		return err
	}
	if err := s.Engine.SetMode(r.Mode); err != nil {
		return err
	}
	s.mu.Lock()
	clear(s.routes)
	s.routeRev++
	s.mu.Unlock()
	return c.JSON(s.Engine.State())
}

// longestUnlock bounds the time for which a plant may be written.
const longestUnlock = 60

func (s *Server) postUnlock(c fiber.Ctx) error {
	var r UnlockRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if r.Minutes < 0 || r.Minutes > longestUnlock {
		return problem.New("too-long", "Writing can be unlocked for 1 to 60 minutes.", "")
	}
	if r.Minutes > 0 { // whoever may edit may lock
		if err := s.may(c, accounts.Plant); err != nil {
			return err
		}
	}
	if r.Minutes == 0 && s.Engine.Mode() == field.Plant {
		if err := s.Relays.Close(); err != nil { // what their callers write leaves no more either
			return err
		}
	}
	s.Engine.Unlock(time.Duration(r.Minutes) * time.Minute)
	return c.JSON(s.Engine.State())
}

// postRelease lets crossings write on the plant, or ends that.
func (s *Server) postRelease(c fiber.Ctx) error {
	var r ReleaseRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if r.Minutes < 0 || r.Minutes > int(field.LongestRelease/time.Minute) {
		return problem.New("too-long", "A crossing can be released for up to 24 hours.",
			"Give a shorter time, and release it again.")
	}
	if r.Minutes > 0 {
		if err := s.may(c, accounts.Plant); err != nil {
			return err
		}
	}
	if err := s.Engine.Release(r.Crossings, time.Duration(r.Minutes)*time.Minute, who(c)); err != nil {
		return err
	}
	return c.JSON(s.Engine.State())
}

func (s *Server) postPrepare(c fiber.Ctx) error {
	var r PrepareRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(c.Context(), 10*time.Second)
	defer cancel()
	order, err := s.Engine.PrepareAt(ctx, r.Point, r.Text, field.At{Level: r.Level, GiveUp: r.GiveUp})
	if err != nil {
		return err
	}
	return c.JSON(order)
}

// getLevels says who commands the value of a point.
func (s *Server) getLevels(c fiber.Ctx) error {
	ctx, cancel := context.WithTimeout(c.Context(), 10*time.Second)
	defer cancel()
	levels, err := s.Engine.Levels(ctx, c.Params("id"))
	if err != nil {
		return err
	}
	return c.JSON(levels)
}

func (s *Server) postWrite(c fiber.Ctx) error {
	var r WriteRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if err := s.onPlant(c); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(c.Context(), 30*time.Second)
	defer cancel()
	result, err := s.Engine.Write(ctx, who(c), r.Token)
	if err != nil {
		return err
	}
	return c.JSON(result)
}

// mostListed is how many exchanges are listed at once.
const mostListed = 300

func (s *Server) getExchanges(c fiber.Ctx) error {
	after, _ := strconv.ParseUint(c.Query("after"), 10, 64) // nothing given means from the start
	links := s.askedFor(c)
	most, err := strconv.Atoi(c.Query("most"))
	if err != nil || most < 1 || most > mostListed {
		most = mostListed
	}
	if until, err := strconv.ParseUint(c.Query("until"), 10, 64); err == nil {
		return c.JSON(s.Engine.Hub.ExchangesUntil(until, most, links...))
	}
	return c.JSON(s.Engine.Hub.Exchanges(after, most, links...))
}

// askedFor are the links that a request is about: one, those of a line, or none for all.
func (s *Server) askedFor(c fiber.Ctx) []string {
	if link := c.Query("link"); link != "" {
		return []string{link}
	}
	if line := c.Query("line"); line != "" {
		now, _ := s.Store.Site()
		return append(linksOn(now, line), "") // of a line without links, nothing
	}
	return nil
}

// mostCounted is how many exchanges the statistics count, statsFor for how long they are
// not counted again.
const (
	mostCounted = 8000
	statsFor    = 800 * time.Millisecond
)

// liveStats keeps statistics for whoever asks for the same.
type liveStats struct {
	mu   sync.Mutex
	at   map[string]time.Time
	view map[string]recording.LiveView
}

// getLiveStats counts what Ferry asked of late.
func (s *Server) getLiveStats(c fiber.Ctx) error {
	k := &s.stats
	key := c.Query("link") + "\x00" + c.Query("line")
	k.mu.Lock()
	defer k.mu.Unlock()
	now := time.Now()
	if view, ok := k.view[key]; ok && now.Sub(k.at[key]) < statsFor {
		return c.JSON(view)
	}
	if k.view == nil || len(k.view) > 50 {
		k.view, k.at = map[string]recording.LiveView{}, map[string]time.Time{}
	}
	of, _ := s.Store.Site()
	k.view[key] = recording.Live(of, s.Engine.Hub.Exchanges(0, mostCounted, s.askedFor(c)...))
	k.at[key] = now
	return c.JSON(k.view[key])
}

// getLiveHistory tells what a unit of a device read of late.
func (s *Server) getLiveHistory(c fiber.Ctx) error {
	now, _ := s.Store.Site()
	link := now.Link(c.Query("link"))
	unit, err := strconv.ParseUint(c.Query("offset"), 10, 32)
	if link == nil || err != nil {
		return problem.New("no-unit", "Which unit of which link is not said.", "Choose a question under Who asks whom.")
	}
	of := value.Type(cmp.Or(c.Query("type"), string(value.TypeUint16)))
	h, err := recording.LiveHistory(link.Protocol, s.Engine.Hub.Exchanges(0, mostCounted, link.ID), c.Query("area"),
		uint32(unit), of, value.Order(c.Query("order")))
	if err != nil {
		return err
	}
	return c.JSON(h)
}

func (s *Server) getExchange(c fiber.Ctx) error {
	seq, err := strconv.ParseUint(c.Params("seq"), 10, 64)
	e, ok := s.Engine.Hub.Exchange(seq)
	if err != nil || !ok {
		return problem.New("gone", "This exchange is no longer remembered.",
			"Ferry keeps the latest 4 000, or 32 MB of them.").At(c.Params("seq"))
	}
	now, _ := s.Store.Site()
	view := ExchangeView{Exchange: e, Frames: make([]FrameView, len(e.Frames))}
	for i, f := range e.Frames {
		view.Frames[i] = FrameView{Frame: f, Hex: fmt.Sprintf("% X", f.Octets), Fields: []exchange.Field{}}
	}
	if link, d := now.Link(e.Link), now.Device(e.Device); link != nil && d != nil && len(e.Frames) > 0 {
		if driver, def, err := field.DriverOf(link.Protocol); err == nil {
			for i, fields := range driver.Dissect(e.Frames, labelled(def, d, &e)) {
				view.Frames[i].Fields = append(view.Frames[i].Fields, fields...)
			}
		}
	}
	return c.JSON(view)
}

// labelled decodes the points of a device out of one exchange.
func labelled(def *protocol.Def, d *site.Device, e *exchange.Exchange) []exchange.Labelled {
	list := make([]exchange.Labelled, 0, len(d.Points))
	for i := range d.Points {
		p := &d.Points[i]
		if at := slices.IndexFunc(e.Samples, func(s exchange.Sample) bool { return s.Point == p.ID }); at >= 0 {
			list = append(list, field.LabelSample(p, &e.Samples[at]))
			continue
		}
		if !slices.ContainsFunc(e.Ranges, func(r block.Range) bool { return r.Area == p.Place().Area }) {
			continue
		}
		list = append(list, field.Label(def, p, e))
	}
	return list
}

func (s *Server) postFault(c fiber.Ctx) error {
	var r FaultRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if err := s.Bench.SetFault(r.Device, r.Fault); err != nil {
		return err
	}
	now, _ := s.Store.Site()
	return c.JSON(s.Bench.List(now))
}
