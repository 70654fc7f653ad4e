package api

import (
	"context"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/address"
	"ferry/internal/core/configured"
	"ferry/internal/core/drawn"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
)

// standing finds the points in which the connection of a link tells of itself.
func standing(now *site.Site, l *site.Link) (has []StandingPoint, lacking int) {
	def, _ := protocol.Named(l.Protocol)
	held := def.StandingPoints()
	d := now.Device(l.Answering)
	if len(held) == 0 || d == nil {
		return nil, 0
	}
	at := map[address.Address]*site.Point{}
	for i := range d.Points {
		if p := &d.Points[i]; p.Link == "" || p.Link == l.ID {
			at[p.Address] = p
		}
	}
	for _, h := range held {
		if p := at[h.Address]; p != nil {
			has = append(has, StandingPoint{Point: p.ID, Name: p.Name, Unit: p.Unit, Switch: h.Writable &&
				p.Access != site.ReadOnly})
		} else {
			lacking++
		}
	}
	return has, lacking
}

// postStanding adds the points in which the connection of a link tells of itself to the
// map of its device, those that it has not yet.
func (s *Server) postStanding(c fiber.Ctx) error {
	id, count := c.Params("id"), 0
	seq, err := s.change(c, "added the points of a connection", func(now *site.Site) ([]site.Edit, error) {
		l := now.Link(id)
		if l == nil {
			return nil, problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(id)
		}
		def, _ := protocol.Named(l.Protocol)
		d := now.Device(l.Answering)
		if d == nil {
			return nil, problem.New("gone", "The device is no longer in the site.", "Reload to see what changed.").At(id)
		}
		names, at := map[string]bool{}, map[address.Address]bool{}
		for i := range d.Points {
			names[d.Points[i].Name], at[d.Points[i].Address] = true, true
		}
		var edits []site.Edit
		for _, h := range def.StandingPoints() {
			if at[h.Address] {
				continue
			}
			p := site.PointOf(&h)
			p.ID, p.PaceMs = newID(), 1000
			for n := 2; names[p.Name]; n++ {
				p.Name = fmt.Sprintf("%s %d", h.Name, n)
			}
			if d.Map != l.Protocol {
				p.Map = l.Protocol
			}
			edits = append(edits, site.Put(site.KindPoint, p.ID, d.ID, p))
		}
		count = len(edits)
		return edits, nil
	})
	if err != nil {
		return err
	}
	return c.JSON(NotedView{fmt.Sprintf("%d points were added.", count), seq})
}

// postSurvey asks the device of a link what its answering end is set to, and sets that beside
// what the plan says. Nothing changes by it.
func (s *Server) postSurvey(c fiber.Ctx) error {
	now, _ := s.Store.Site()
	l := now.Link(c.Params("id"))
	if l == nil {
		return problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(c.Params("id"))
	}
	d := now.Device(l.Answering)
	def, _ := protocol.Named(l.Protocol)
	if d == nil || d.PortFor(l) == nil {
		return problem.New("gone", "The device has no port on the line of the link.", "Give it one.").At(c.Params("id"))
	}
	ctx, cancel := context.WithTimeout(c.Context(), time.Minute)
	defer cancel()
	told, err := s.Engine.Survey(ctx, l.ID, c.Query("deep") != "")
	if err != nil {
		return err
	}
	view := SurveyView{Rows: []SurveyRow{}, Offers: told.Offers}
	port := d.PortFor(l)
	for _, setting := range def.Settings {
		says, ok := told.Settings[setting.Key]
		if !ok {
			continue
		}
		row := SurveyRow{Key: setting.Key, Title: setting.Title, Unit: setting.Unit,
			Plan: def.Value(port.Settings, setting.Key), Says: says}
		row.Known = port.Knows(setting.Key) && !(row.Plan.String() == "" || row.Plan.String() == "0")
		row.Same = row.Known && row.Plan == says
		view.Rows = append(view.Rows, row)
	}
	view.Aside = s.aside(ctx, now, l)
	if told.Configuration != nil {
		if view.Configuration = configured.Of(now, l); view.Configuration != nil {
			view.Configuration.Beside(now, l, told.Configuration)
			view.Held, view.HeldSame = strings.ToUpper(fmt.Sprintf("% x", told.Configuration)),
				view.Configuration.Same(told.Configuration)
		}
	}
	return c.JSON(view)
}

// aside tries the other ways by which the asking end of a link asks the same device: what a
// description of the device says of its parameters is there, or not.
func (s *Server) aside(ctx context.Context, now *site.Site, l *site.Link) (list []AsideView) {
	for i := range now.Links {
		other := &now.Links[i]
		if other.Answering != l.Answering || other.Asking != l.Asking || other.Protocol == l.Protocol {
			continue
		}
		def, _ := protocol.Named(other.Protocol)
		if def == nil {
			continue
		}
		view := AsideView{Link: other.ID, Title: def.Title, Result: route.NotTried}
		r, err := s.Engine.Try(ctx, other.ID)
		if err != nil {
			view.Result, view.Says = route.Fault, err.Error()
			list = append(list, view)
			continue
		}
		for _, check := range r.Stops {
			if check.Stop == route.Points || r.StopsAt != nil && check.Stop == *r.StopsAt {
				view.Result, view.Says = check.Result, check.Saw
				break
			}
		}
		list = append(list, view)
	}
	return list
}

// postConfiguration has a value of a point sent when the connection of a link is opened.
func (s *Server) postConfiguration(c fiber.Ctx) error {
	var asked ConfigurationOrder
	if err := bind(c, &asked); err != nil {
		return err
	}
	said := ""
	seq, err := s.change(c, "set a value of a configuration", func(now *site.Site) ([]site.Edit, error) {
		l := now.Link(c.Params("id"))
		if l == nil {
			return nil, problem.New("gone", "The link is no longer in the site.",
				"Reload to see what changed.").At(c.Params("id"))
		}
		var edit site.Edit
		var err error
		if asked.Held != "" {
			held, failed := hex.DecodeString(strings.Join(strings.Fields(asked.Held), ""))
			if failed != nil {
				return nil, problem.New("invalid", "What the device holds is no hexadecimal.", "Ask it again.").At(l.ID)
			}
			said = fmt.Sprintf("The %d octets that the device holds are sent from the next opening on.", len(held))
			edit, err = configured.Take(now, l, held)
		} else {
			said = "It is sent from the next opening of the connection on."
			edit, err = configured.Set(now, l, asked.Point, asked.Text)
		}
		return []site.Edit{edit}, err
	})
	if err != nil {
		return err
	}
	return c.JSON(NotedView{said, seq})
}

// postDrawn puts a device on a line that a file describes; a dry run says what it would be.
// The body is the file.
func (s *Server) postDrawn(c fiber.Ctx) error {
	if len(c.Body()) > mostDrawn {
		return problem.New("too-large", fmt.Sprintf("The file has more than %d MB: a description of a device has less.",
			mostDrawn>>20), "")
	}
	def, by := protocol.DrawnBy(c.Body())
	if by == nil {
		return problem.New("not-known", "The file is no description of a device that Ferry knows.",
			"Data sheets, device profiles and files of whole stations are known by how they begin: choose the file itself, unpacked.")
	}
	choice, _ := strconv.Atoi(c.Query("choice")) // none is the first
	d, err := by.Draw(c.Body(), choice)
	if err != nil {
		return problem.New("not-read", "The file cannot be made a device of: "+err.Error()+".", "").At(c.Query("name"))
	}
	view := DrawnView{Title: def.Title, Name: d.Name, Choices: d.Choices, Points: len(d.Held), Aside: len(d.Aside),
		Unread: []UnreadView{}, Serves: d.FileKey != ""}
	for _, u := range d.Unread {
		view.Unread = append(view.Unread, UnreadView{u.Line, u.What, u.Reason})
	}
	if c.Query("dry") != "" {
		return c.JSON(view)
	}
	at := drawn.Place{Line: c.Params("id"), Asking: c.Query("asking"), Host: c.Query("host"),
		Served: c.Query("served") != ""}
	if at.Served && d.FileKey != "" {
		at.File = asKept(d.Name)
		if err := s.Vault.Put(protocol.File, at.File, c.Body()); err != nil {
			return problem.New("not-kept", "The file cannot be kept: "+err.Error()+".", "").At(d.Name)
		}
	}
	view.Seq, err = s.change(c, "added "+d.Name+" from a file", func(now *site.Site) (edits []site.Edit,
		err error) {
		edits, view.Device, view.Link, err = drawn.Device(now, def, &d, at, newID)
		return edits, err
	})
	if err != nil {
		return err
	}
	return c.JSON(view)
}

// mostDrawn bounds a file that describes a device.
const mostDrawn = 64 << 20
