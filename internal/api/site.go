package api

import (
	"bytes"
	"cmp"
	"fmt"
	"runtime/debug"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/bench"
	"ferry/internal/core/configured"
	"ferry/internal/core/crossing"
	"ferry/internal/core/exchange"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/route"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/files"
	"ferry/internal/store"
)

func (s *Server) getSite(c fiber.Ctx) error {
	plan, snapshot := s.planNow(c.Context())
	now := snapshot.Site
	view := SiteView{Seq: snapshot.Seq, Name: now.Name, Remark: now.Remark, Lines: now.Lines, Protocols: protocol.All(),
		Manners: exchange.Manners,
		Devices: []DeviceView{}, Links: []LinkView{}, Crossings: []CrossingView{}, Lists: append([]site.List{}, now.Lists...),
		Lookouts: append([]site.Lookout{}, now.Lookouts...), Outlets: append([]site.Outlet{}, now.Outlets...),
		Routes:   []route.Route{},
		Versions: map[string]int64{}, Faults: bench.Faults(), Models: bench.Models(), StandIns: s.Bench.List(now),
		Load: plan.Links, LineLoad: plan.Lines,
		Checklists: map[string][]site.AccessLine{}, AccessKinds: site.AccessKinds(), Standards: []StandardTitle{}}
	for _, standard := range serial.Standards() {
		view.Standards = append(view.Standards, StandardTitle{standard, standard.Title()})
	}
	view.CanUndo, view.CanRedo = snapshot.CanUndo, snapshot.CanRedo
	for i := range now.Devices {
		d := DeviceView{Device: now.Devices[i], PointCount: len(now.Devices[i].Points),
			Maps: now.MapsOf(&now.Devices[i])}
		d.Points = []site.Point{}
		if d.Ports == nil {
			d.Ports = []site.Port{}
		}
		view.Devices = append(view.Devices, d)
		if list := now.Checklist(&now.Devices[i]); len(list) > 0 {
			view.Checklists[d.ID] = list
		}
	}
	s.mu.Lock()
	tried := make(map[string]*route.Route, len(s.routes))
	for id, r := range s.routes {
		tried[id] = r
	}
	s.mu.Unlock()
	for i := range now.Links {
		l := &now.Links[i]
		seen := LinkView{Link: *l, FaceToFace: route.FaceToFace(now, l), Facing: route.Facing(now, l),
			Configuration: configured.Of(now, l)}
		seen.Standing, seen.Lacking = standing(now, l)
		view.Links = append(view.Links, seen)
		if r := tried[l.ID]; r != nil {
			view.Routes = append(view.Routes, *r)
		} else {
			view.Routes = append(view.Routes, *route.Plan(now, l))
		}
	}
	ends := crossingEnds(now)
	ruled := now.Ruled()
	for i := range now.Crossings {
		x := crossingView(&now.Crossings[i], ends)
		x.Words = crossing.Words(&ruled[i])
		x.EnableName = ends[ruled[i].Enable].Name
		view.Crossings = append(view.Crossings, x)
	}
	for _, kind := range []site.Kind{site.KindSite, site.KindLine, site.KindDevice, site.KindLink, site.KindCrossing,
		site.KindList, site.KindLookout, site.KindOutlet} {
		for id, version := range snapshot.Versions(kind, "") {
			view.Versions[string(kind)+":"+id] = version
		}
	}
	if c.Request().URI().QueryArgs().Has("since") {
		return s.sendSite(c, &view)
	}
	return c.JSON(view)
}

// crossingEnds shows the points that crossings go from and to, by id.
func crossingEnds(now *site.Site) map[string]CrossingEnd {
	ends := map[string]CrossingEnd{}
	for i := range now.Crossings {
		for id := range now.Crossings[i].Points {
			ends[id] = CrossingEnd{}
		}
	}
	for i := range now.Lists {
		if id := now.Lists[i].Enable; id != "" {
			ends[id] = CrossingEnd{}
		}
	}
	nameEnds(now, ends)
	return ends
}

// nameEnds fills in what the points are whose ids ends has.
func nameEnds(now *site.Site, ends map[string]CrossingEnd) {
	if len(ends) == 0 {
		return
	}
	for i := range now.Devices {
		d := &now.Devices[i]
		for j := range d.Points {
			p := &d.Points[j]
			if _, is := ends[p.ID]; !is {
				continue
			}
			end := CrossingEnd{Device: d.ID, Name: d.Name + " · " + p.Name, Type: string(p.Type), Unit: p.Unit,
				Address: p.Address.String()}
			if scheme, err := d.SchemeOf(p); err == nil {
				end.Address = regmap.Cell(scheme, p, regmap.Address)
			}
			ends[p.ID] = end
		}
	}
}

// step answers a change that was kept, after telling everybody else.
func (s *Server) step(c fiber.Ctx, entry store.Entry, err error) error {
	if err != nil {
		return err
	}
	if err := s.changed(); err != nil {
		return err
	}
	return c.JSON(EditAnswer{entry.Seq, entry.What})
}

// change carries out a step that is worked out from the site as it is when its
// turn comes, and tells everybody else.
func (s *Server) change(c fiber.Ctx, what string, edits func(*site.Site) ([]site.Edit, error)) (seq int64, err error) {
	entry, err := s.Store.Change(c.Context(), who(c), what, edits)
	if err != nil {
		return 0, err
	}
	return entry.Seq, s.changed()
}

func (s *Server) postEdit(c fiber.Ctx) error {
	var r EditRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	entry, err := s.Store.Edit(c.Context(), who(c), r.What, r.Edits)
	s.forgetRoutes(r.Edits)
	return s.step(c, entry, err)
}

// forgetRoutes drops what was seen of links whose ends may have changed.
func (s *Server) forgetRoutes(edits []store.BasedEdit) {
	now, _ := s.Store.Site()
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, e := range edits {
		for id := range s.routes {
			l := now.Link(id)
			if l == nil || e.ID == id || e.ID == l.Answering || e.ID == l.Asking || e.ID == l.Line {
				delete(s.routes, id)
			}
		}
	}
}

func (s *Server) postUndo(c fiber.Ctx) error {
	entry, err := s.Store.Undo(c.Context(), who(c))
	return s.step(c, entry, err)
}

func (s *Server) postRedo(c fiber.Ctx) error {
	entry, err := s.Store.Redo(c.Context(), who(c))
	return s.step(c, entry, err)
}

func (s *Server) getJournal(c fiber.Ctx) error {
	entries, err := s.Store.Journal(c.Context(), 200)
	if err != nil {
		return err
	}
	written, err := s.Store.WrittenList(c.Context(), 200)
	if err != nil {
		return err
	}
	return c.JSON(JournalView{entries, written})
}

func (s *Server) getSiteFile(c fiber.Ctx) error {
	now, _ := s.Store.Site()
	var b bytes.Buffer
	if err := files.WriteSite(&b, now); err != nil {
		return err
	}
	c.Set("Content-Type", "application/json")
	c.Attachment("site.json")
	return c.Send(b.Bytes())
}

// postSiteFile replaces the whole site in one step, which can be undone; of a pack it takes
// the proofs and snapshots besides.
func (s *Server) postSiteFile(c fiber.Ctx) error {
	pack, err := files.ReadSiteOrPack(c.Body())
	if err != nil {
		return err
	}
	entry, err := s.bringIn(c, pack.Site)
	if err == nil && pack.Format == files.PackFormat {
		said, err := s.takePack(c.Context(), pack)
		if err != nil {
			return err
		}
		entry.What += ". " + said
	}
	s.mu.Lock()
	s.routes = map[string]*route.Route{}
	s.mu.Unlock()
	if len(c.Body()) > 1<<20 {
		go debug.FreeOSMemory() // reading a large file took much for a moment
	}
	return s.step(c, entry, err)
}

// device finds a device of the site as it is with the one map that a request is
// about, and the protocol that this is written for.
func (s *Server) device(c fiber.Ctx, id string) (*site.Device, *protocol.Def, error) {
	now, _ := s.Store.Site()
	return mappedDevice(now, id, c.Query("map"))
}

// mappedDevice is a device with one of its maps, by the name of its protocol;
// the empty name is that of the device itself.
func mappedDevice(now *site.Site, id, name string) (*site.Device, *protocol.Def, error) {
	d := now.Device(id)
	if d == nil {
		return nil, nil, problem.New("gone", "The device is no longer in the site.",
			"Reload to see what changed.").At(id)
	}
	name = cmp.Or(name, protocol.MapOr(d.Map))
	def, ok := protocol.Named(name)
	if !ok {
		return nil, nil, problem.New("protocol",
			fmt.Sprintf("The map is written for %q, which this version does not speak.", name), "").At(d.Name)
	}
	return d.In(name), def, nil
}
