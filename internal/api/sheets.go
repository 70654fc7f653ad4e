package api

import (
	"fmt"
	"slices"
	"strings"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/block"
	"ferry/internal/core/datasheet"
	"ferry/internal/core/layout"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/shelf"
	"ferry/internal/store"
)

func (s *Server) getSheets(c fiber.Ctx) error {
	snapshot := s.Store.Now()
	now := snapshot.Site
	view := SheetsView{Seq: snapshot.Seq, Columns: regmap.Columns(), Datasheets: []SheetView{},
		Structures: []StructureView{},
		Standings:  []datasheet.Standing{}, Versions: map[string]int64{}, Rules: []RuleView{}}
	for i := range now.Datasheets {
		view.Datasheets = append(view.Datasheets, sheetView(&now.Datasheets[i], false))
	}
	shipped := shelf.Datasheets()
	for i := range shipped {
		if now.Datasheet(shipped[i].ID) == nil {
			view.Datasheets = append(view.Datasheets, sheetView(&shipped[i], true))
		}
	}
	for _, r := range layout.Rules() {
		view.Rules = append(view.Rules, RuleView{r.Rule, r.Title})
	}
	for i := range now.Structures {
		view.Structures = append(view.Structures, structureView(now, &now.Structures[i]))
	}
	for i := range now.Devices {
		view.Standings = append(view.Standings, datasheet.Compare(now, &now.Devices[i])...)
	}
	for _, kind := range []site.Kind{site.KindDatasheet, site.KindStructure} {
		for id, version := range snapshot.Versions(kind, "") {
			view.Versions[id] = version
		}
	}
	return c.JSON(view)
}

func sheetView(d *site.Datasheet, shipped bool) SheetView {
	view := SheetView{ID: d.ID, Name: d.Name, Remark: d.Remark, Map: d.Map, Shipped: shipped, Rows: []SheetRow{},
		ThinkMs: d.ThinkMs, Access: append([]site.AccessLine{}, d.Access...)}
	scheme, err := protocol.SchemeOf(d.Map)
	if err != nil {
		return view // a site with such a datasheet is not kept
	}
	for i := range d.Points {
		p := &d.Points[i]
		view.Rows = append(view.Rows, SheetRow{p.ID, p.Useful, cellsOf(scheme, &p.Point, regmap.Columns())})
	}
	return view
}

func structureView(now *site.Site, t *site.Structure) StructureView {
	view := StructureView{Structure: *t, Laid: []LaidView{}}
	laid, err := now.Laid(t)
	if err != nil {
		return view // a site with such a structure is not kept
	}
	for _, r := range layout.Rules() {
		places, size, err := layout.Lay(laid, r.Rule)
		if err != nil {
			continue // a bit field too wide for bytes has no such layout
		}
		v := LaidView{Rule: r.Rule, Bytes: size, Places: []PlacedView{}}
		for _, p := range places[:min(len(places), 500)] {
			register, bit := p.Register()
			placed := PlacedView{Path: p.Path, Byte: p.Byte, Bit: -1, Register: fmt.Sprint(register)}
			switch {
			case p.PartOfUnit:
				placed.Bit, placed.Register = p.Bit, fmt.Sprintf("%d.%d", register, bit)
				placed.Type = fmt.Sprintf("bit %d", p.Bit)
			case p.Bits == 8:
				placed.Register = fmt.Sprintf("%d, %s byte", register, []string{"high", "low"}[p.Byte%2])
			}
			v.Places = append(v.Places, placed)
		}
		view.Laid = append(view.Laid, v)
	}
	return view
}

// postPlace puts a datasheet or a structure on one device or many. A shipped
// datasheet becomes one of the site with it.
func (s *Server) postPlace(c fiber.Ctx) error {
	var r PlaceRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if len(r.On) == 0 {
		return problem.New("invalid", "No device is chosen.", "Choose the devices to place it on.")
	}
	what := fmt.Sprintf("placed %s on %s", s.placedName(&r), amount(len(r.On), "device"))
	entry, err := s.Store.Change(c.Context(), who(c), what, func(now *site.Site) ([]site.Edit, error) {
		var edits []site.Edit
		if r.Datasheet != "" && now.Datasheet(r.Datasheet) == nil {
			at := slices.IndexFunc(shelf.Datasheets(), func(d site.Datasheet) bool { return d.ID == r.Datasheet })
			if at < 0 {
				return nil, problem.New("gone", "The datasheet is no longer there.",
					"Reload to see what changed.").At(r.Datasheet)
			}
			edits = append(edits, site.Put(site.KindDatasheet, r.Datasheet, "", shelf.Datasheets()[at]))
			next, _, err := now.Apply(edits)
			if err != nil {
				return nil, err
			}
			now = next
		}
		for _, target := range r.On {
			more, err := placeOn(now, &r, target)
			if err != nil {
				return nil, err
			}
			if now, _, err = now.Apply(more); err != nil {
				return nil, err
			}
			edits = append(edits, more...)
		}
		return edits, nil
	})
	return s.step(c, entry, err)
}

// placedName is how a person calls what is to be placed.
func (s *Server) placedName(r *PlaceRequest) string {
	now, _ := s.Store.Site()
	if t := now.Structure(r.Structure); t != nil {
		return t.Name
	}
	for _, sheet := range append(slices.Clone(now.Datasheets), shelf.Datasheets()...) {
		if sheet.ID == r.Datasheet {
			return sheet.Name
		}
	}
	return "something"
}

func amount(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func placeOn(now *site.Site, r *PlaceRequest, target PlaceTarget) ([]site.Edit, error) {
	d, def, err := mappedDevice(now, target.Device, target.Map)
	if err != nil {
		return nil, err
	}
	pl := site.Placement{Datasheet: r.Datasheet, Structure: r.Structure, Prefix: target.Prefix, Shift: target.Shift,
		All: r.All}
	if r.Structure != "" {
		pl.Rule = target.Rule
		pl.Map = d.Mark()
		at, err := def.Scheme.Parse(target.Start, "")
		if err == nil && block.Of(at).Bit >= 0 {
			err = fmt.Errorf("address %q: a structure begins with a whole unit", target.Start)
		}
		if err != nil {
			return nil, problem.New("bad-address", err.Error()+".", "").At(d.Name)
		}
		pl.Area, pl.Start = block.Of(at).Area, block.Of(at).Offset
		if pl.PaceMs, err = regmap.ParsePace(target.Pace); err != nil {
			return nil, problem.New("bad-pace", err.Error()+".", "").At(d.Name)
		}
	}
	edits, err := datasheet.Place(now, d, pl, newID)
	if err != nil {
		return nil, problem.New("cannot-place", err.Error()+".", "Choose another shift or start.").At(d.Name)
	}
	return edits, nil
}

// stillThere finds a device, with the map that it was taken with, in the site that
// a step is about to change.
func stillThere(now *site.Site, was *site.Device) (*site.Device, error) {
	if d := now.Device(was.ID); d != nil {
		return d.In(protocol.MapOr(was.Map)), nil
	}
	return nil, problem.New("gone", "The device is no longer in the site.", "Reload to see what changed.").At(was.ID)
}

// postKeep makes a datasheet of a device's map.
func (s *Server) postKeep(c fiber.Ctx) error {
	var r KeepRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	d, def, err := s.device(c, r.Device)
	if err != nil {
		return err
	}
	if strings.TrimSpace(r.Name) == "" {
		return problem.New("invalid", "The datasheet has no name.", "Name it after the device model.")
	}
	name := strings.TrimSpace(r.Name)
	entry, err := s.Store.Change(c.Context(), who(c), "kept the map of "+d.Name+" as the datasheet "+name,
		func(now *site.Site) ([]site.Edit, error) {
			d, err := stillThere(now, d)
			if err != nil {
				return nil, err
			}
			sheet := datasheet.Of(now, d, name, r.Prefix)
			sheet.ID, sheet.Map = newID(), def.Name
			// The device follows its own datasheet from now on.
			pl := site.Placement{ID: newID(), Datasheet: sheet.ID, Prefix: r.Prefix, All: true}
			own := *d.Whole()
			own.Points, own.Access = nil, nil // the checklist is the datasheet's now
			own.Placements = append(slices.Clone(d.Placements), pl)
			edits := []site.Edit{site.Put(site.KindDatasheet, sheet.ID, "", sheet),
				site.Put(site.KindDevice, d.ID, "", own)}
			for i := range d.Points {
				p := d.Points[i]
				p.From = &site.Origin{Placement: pl.ID, Point: p.ID}
				edits = append(edits, site.Put(site.KindPoint, p.ID, d.ID, p))
			}
			return edits, nil
		})
	return s.step(c, entry, err)
}

// Useful is the column of a datasheet that marks what is placed.
const useful regmap.Column = "useful"

// postSheetCells changes a datasheet, and the devices that follow it with it.
func (s *Server) postSheetCells(c fiber.Ctx) error {
	var r SheetCellsRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	id := c.Params("id")
	what := "changed a datasheet"
	now, _ := s.Store.Site()
	if was := now.Datasheet(id); was != nil {
		what = "changed the datasheet " + was.Name
	}
	entry, err := s.Store.ChangeOf(c.Context(), who(c), what, seen(site.KindDatasheet, id, r.Base),
		func(now *site.Site) ([]site.Edit, error) {
			old := now.Datasheet(id)
			if old == nil {
				return nil, problem.New("gone", "The datasheet is no longer in the site.",
					"Reload to see what changed.").At(id)
			}
			sheet, err := changedSheet(old, &r)
			if err != nil {
				return nil, err
			}
			return withFollowers(now, site.Put(site.KindDatasheet, id, "", sheet))
		})
	return s.step(c, entry, err)
}

// withFollowers adds to an edit what the devices that follow do.
func withFollowers(now *site.Site, edit site.Edit) ([]site.Edit, error) {
	edits := []site.Edit{edit}
	after, _, err := now.Apply(edits)
	if err != nil {
		return nil, err
	}
	return append(edits, datasheet.Follow(now, after, newID)...), nil
}

func changedSheet(old *site.Datasheet, r *SheetCellsRequest) (*site.Datasheet, error) {
	scheme, err := protocol.SchemeOf(old.Map)
	if err != nil {
		return nil, err
	}
	sheet := *old
	if r.ThinkMs != nil {
		sheet.ThinkMs = *r.ThinkMs
	}
	if r.Access != nil {
		sheet.Access = *r.Access
	}
	sheet.Points = slices.DeleteFunc(slices.Clone(old.Points),
		func(p site.SheetPoint) bool { return slices.Contains(r.Remove, p.ID) })
	for _, name := range r.Add {
		sheet.Points = append(sheet.Points,
			site.SheetPoint{Point: site.Point{ID: newID(), Name: name, Type: value.TypeUint16, PaceMs: 1000,
				Access: site.ReadOnly}, Useful: true})
	}
	for _, cell := range r.Cells {
		at := slices.IndexFunc(sheet.Points, func(p site.SheetPoint) bool { return p.ID == cell.Point })
		if at < 0 {
			return nil, problem.New("gone", "The point is no longer in the datasheet.",
				"Reload to see what changed.").At(cell.Point)
		}
		p := &sheet.Points[at]
		if cell.Column == useful {
			p.Useful = cell.Text == "yes"
			continue
		}
		if err := regmap.SetCell(scheme, &p.Point, cell.Column, cell.Text); err != nil {
			return nil, problem.New("bad-cell", err.Error()+".", "").At(fmt.Sprintf("%s, column %s", p.Name,
				cell.Column))
		}
	}
	return &sheet, nil
}

// seen says which version of an object its author saw.
func seen(kind site.Kind, id string, base int64) []store.BasedEdit {
	return []store.BasedEdit{{Edit: site.Edit{Kind: kind, ID: id}, Base: base}}
}

// postStructure keeps a structure, and moves the points that follow it.
func (s *Server) postStructure(c fiber.Ctx) error {
	var r StructureRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	t := r.Structure
	if t.ID == "" {
		t.ID = newID()
	}
	entry, err := s.Store.ChangeOf(c.Context(), who(c), "changed the structure "+t.Name,
		seen(site.KindStructure, t.ID, r.Base), func(now *site.Site) ([]site.Edit, error) {
			return withFollowers(now, site.Put(site.KindStructure, t.ID, "", t))
		})
	return s.step(c, entry, err)
}

// postReturn brings points of a device back to what its datasheet says.
func (s *Server) postReturn(c fiber.Ctx) error {
	var r ReturnRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	d, _, err := s.device(c, c.Params("id"))
	if err != nil {
		return err
	}
	entry, err := s.Store.Change(c.Context(), who(c), "brought "+d.Name+" back to its datasheet",
		func(now *site.Site) ([]site.Edit, error) {
			d, err := stillThere(now, d)
			if err != nil {
				return nil, err
			}
			edits, err := datasheet.Return(now, d.Whole(), r.Placement, r.Points, newID)
			if err != nil {
				return nil, problem.New("gone", err.Error()+".", "Reload to see what changed.").At(d.Name)
			}
			return edits, nil
		})
	return s.step(c, entry, err)
}
