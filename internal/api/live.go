package api

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/crossing"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

func (s *Server) getTimetable(c fiber.Ctx) error {
	plan, _, seq := s.planNow()
	return c.JSON(TimetableView{seq, plan, s.Engine.Hub.Stats(), s.Engine.State(), s.Engine.Hub.Outages()})
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
	s.Engine.Unlock(time.Duration(r.Minutes) * time.Minute)
	return c.JSON(s.Engine.State())
}

func (s *Server) postPrepare(c fiber.Ctx) error {
	var r WriteRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(c.Context(), 10*time.Second)
	defer cancel()
	order, err := s.Engine.Prepare(ctx, r.Point, r.Text)
	if err != nil {
		return err
	}
	return c.JSON(order)
}

func (s *Server) postWrite(c fiber.Ctx) error {
	var r WriteRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	now, _ := s.Store.Site()
	_, p := now.Point(r.Point)
	if p == nil {
		return problem.New("gone", "The point is no longer in the site.", "Reload to see what changed.").At(r.Point)
	}
	v, err := value.Parse(r.Text, p.Type)
	if err != nil {
		return problem.New("bad-value", err.Error()+".", "").At(p.Name)
	}
	ctx, cancel := context.WithTimeout(c.Context(), 30*time.Second)
	defer cancel()
	result, err := s.Engine.Write(ctx, r.Point, v)
	if err != nil {
		return err
	}
	if err := s.Store.AddWritten(c.Context(), who(c), result); err != nil {
		return problem.New("journal", "The value was sent, but the journal could not be written: "+err.Error()+".", "Note the write by hand, and look at the disk.")
	}
	return c.JSON(result)
}

func (s *Server) getExchanges(c fiber.Ctx) error {
	after, _ := strconv.ParseUint(c.Query("after"), 10, 64) // nothing given means from the start
	var links []string
	if link := c.Query("link"); link != "" {
		links = []string{link}
	} else if line := c.Query("line"); line != "" {
		now, _ := s.Store.Site()
		links = append(linksOn(now, line), "") // of a line without links, nothing
	}
	return c.JSON(s.Engine.Hub.Exchanges(after, 300, links...))
}

func (s *Server) getExchange(c fiber.Ctx) error {
	seq, err := strconv.ParseUint(c.Params("seq"), 10, 64)
	e, ok := s.Engine.Hub.Exchange(seq)
	if err != nil || !ok {
		return problem.New("gone", "This exchange is no longer remembered.", "Ferry keeps the latest 4 000.").At(c.Params("seq"))
	}
	now, _ := s.Store.Site()
	view := ExchangeView{Exchange: e, RequestHex: fmt.Sprintf("% X", e.Request), AnswerHex: fmt.Sprintf("% X", e.Answer), Asked: []exchange.Field{}, Answered: []exchange.Field{}}
	if link, d := now.Link(e.Link), now.Device(e.Device); link != nil && d != nil && len(e.Request) > 0 {
		if driver, def, err := field.DriverOf(link.Protocol); err == nil {
			asked, answered := driver.Dissect(e.Request, e.Answer, labelled(def, d, &e))
			view.Asked, view.Answered = append(view.Asked, asked...), append(view.Answered, answered...)
		}
	}
	return c.JSON(view)
}

// labelled decodes the points of a device out of one exchange.
func labelled(def *protocol.Def, d *site.Device, e *exchange.Exchange) []exchange.Labelled {
	list := make([]exchange.Labelled, 0, len(d.Points))
	for i := range d.Points {
		p := &d.Points[i]
		if p.Address.Area != e.Area {
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

// checkedSite keeps the findings of the plan, which change only with the site.
type checkedSite struct {
	seq    int64
	valid  bool
	list   []finding.Finding
	routes map[string][]finding.Finding // by link, from the plan alone
	maps   map[string][]finding.Finding // by device, with their fixes
}

// mostOfMap bounds the findings of one map that go to every window; the map
// itself shows them all.
const mostOfMap = 500

// unnamed reports values that came without a name.
func (s *Server) unnamed(d *site.Device) []finding.Finding {
	return regmap.Unnamed(d, func(id string) value.Value {
		live, _ := s.Engine.Hub.Point(id)
		if live.Quality == value.Bad {
			return value.Value{}
		}
		return live.Value
	})
}

// findings joins those of the plan, of the tries and of the traffic.
func (s *Server) findings(at time.Time) []finding.Finding {
	s.mu.Lock()
	now := s.check()
	list := append([]finding.Finding{}, s.checked.list...)
	for i := range now.Links {
		// What a try has seen counts more than what the plan says.
		link := &now.Links[i]
		if r := s.routes[link.ID]; r != nil {
			list = append(list, r.Findings(now, link)...)
		} else {
			list = append(list, s.checked.routes[link.ID]...)
		}
	}
	s.mu.Unlock()
	for i := range now.Devices {
		list = append(list, s.unnamed(&now.Devices[i])...)
	}
	list = append(list, s.Engine.Hub.Findings(now, at)...)
	finding.Sort(list)
	return list
}

// mapFindings returns the findings of one map with their fixes.
func (s *Server) mapFindings(d *site.Device) []finding.Finding {
	s.mu.Lock()
	s.check()
	list := append([]finding.Finding{}, s.checked.maps[d.ID]...)
	s.mu.Unlock()
	return append(list, s.unnamed(d)...)
}

// check brings the findings of the plan up to date, once for each change of the
// site. The lock is held.
func (s *Server) check() *site.Site {
	plan, now, seq := s.planLocked()
	if !s.checked.valid || s.checked.seq != seq {
		maps := make(map[string][]finding.Finding, len(now.Devices))
		list := append([]finding.Finding{}, plan.Findings...)
		for i := range now.Devices {
			d := &now.Devices[i]
			if def, ok := protocol.Named(d.Map); ok {
				found := regmap.Check(def.Scheme, d, def.MaxUnits)
				maps[d.ID] = found
				for _, f := range found[:min(len(found), mostOfMap)] {
					f.Fixes = nil // they are offered in the map itself
					list = append(list, f)
				}
			}
		}
		for i := range now.Lines {
			list = append(list, route.LineFindings(now, &now.Lines[i])...)
		}
		routes := map[string][]finding.Finding{}
		for i := range now.Links {
			routes[now.Links[i].ID] = route.Plan(now, &now.Links[i]).Findings(now, &now.Links[i])
		}
		s.checked = checkedSite{seq, true, append(list, crossing.Check(now)...), routes, maps}
	}
	return now
}

// beat is how often the event stream looks for news. Values that change more
// often are sent once a beat, the latest.
const beat = 250 * time.Millisecond

// stream sends what changed, as server-sent events. Each browser is served at
// its own speed from what the hub remembers.
func (s *Server) stream(c fiber.Ctx) error {
	c.Set("Content-Type", "text/event-stream")
	c.Set("Cache-Control", "no-store")
	return c.SendStreamWriter(func(w *bufio.Writer) {
		ticker := time.NewTicker(beat)
		defer ticker.Stop()
		var rev uint64
		var last Pulse
		quiet := 0
		for first := true; ; first = false {
			if !first {
				<-ticker.C
			}
			at := time.Now()
			var p Pulse
			p.Live, rev = s.Engine.Hub.Since(rev, at)
			if first {
				// A point that is not told of has not been read: a map of tens of
				// thousands is not sent for that.
				p.Live = slices.DeleteFunc(p.Live, func(l field.Live) bool { return l.Quality == value.NotRead })
			}
			_, p.Seq = s.Store.Site()
			p.State = s.Engine.State()
			p.Crossings = s.Engine.Crossings()
			p.Findings = s.findings(at)
			p.Exchange = s.Engine.Hub.LastSeq()
			s.mu.Lock()
			p.Routes = s.routeRev
			s.mu.Unlock()
			whole := p
			p.NowMs = at.UnixMilli()
			// The time left of an unlock is counted down by the browser.
			same := p.Seq == last.Seq && p.Exchange == last.Exchange && p.Routes == last.Routes && p.State.Mode == last.State.Mode &&
				reflect.DeepEqual(p.State.Running, last.State.Running) && (p.State.UnlockedMs > 0) == (last.State.UnlockedMs > 0)
			if reflect.DeepEqual(p.Findings, last.Findings) && !first {
				p.Findings = nil
			}
			last = whole
			if quiet++; same && len(p.Live) == 0 && p.Findings == nil && quiet < 40 && !first {
				continue
			}
			quiet = 0
			data, err := json.Marshal(p)
			if err != nil {
				return
			}
			var b strings.Builder
			b.WriteString("data: ")
			b.Write(data)
			b.WriteString("\n\n")
			if _, err := w.WriteString(b.String()); err != nil {
				return
			}
			if err := w.Flush(); err != nil {
				return // the browser has gone
			}
		}
	})
}
