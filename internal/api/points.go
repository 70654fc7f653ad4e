package api

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/fathom"
	"ferry/internal/core/finding"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/files"
	"ferry/internal/store"
)

func (s *Server) getPoints(c fiber.Ctx) error {
	plan, snapshot := s.planNow(c.Context())
	d, def, err := mappedDevice(snapshot.Site, c.Params("id"), c.Query("map"))
	if err != nil {
		return err
	}
	seq, versions := snapshot.Seq, snapshot.Versions(site.KindPoint, d.ID)
	view := PointsView{Seq: seq, Device: d.ID, Map: def.Name, Mark: d.Mark(), Columns: regmap.ColumnsFor(def.Scheme),
		Areas: block.AreasIn(def.Scheme, d.Places), Rows: make([]PointRow, 0, len(d.Points)), Count: len(d.Points),
		Requests: []MapRequest{}, Findings: s.mapFindings(d), Choices: choices(), TableColumns: regmap.TableColumns(),
		Example: def.Example, Notations: handedIn(d), NameRules: regmap.NameRules()}
	if called, ok := def.Lists(); ok && snapshot.Site.LinkIn(d.ID, def.Name) != nil {
		view.Listed = called
	}
	if by, ok := def.Describes(); ok {
		view.Described = by.Description()
	}
	// A window that has the map already gets the rows that changed since.
	since, err := strconv.ParseInt(c.Query("since", "-1"), 10, 64)
	view.Partial = err == nil && since >= 0 && c.Query("count") == strconv.Itoa(len(d.Points))
	for i := range d.Points {
		if version := versions[d.Points[i].ID]; !view.Partial || version > since {
			view.Rows = append(view.Rows, row(def.Scheme, view.Columns, &d.Points[i], version))
		}
	}
	link := ""
	for _, r := range plan.Requests {
		if r.Device == d.ID && (link == "" || link == r.Link) {
			link = r.Link
			for _, each := range r.Ranges {
				view.Requests = append(view.Requests,
					MapRequest{ID: r.ID, Operation: r.Operation, Range: each, Unused: r.Unused})
			}
		}
	}
	view.Extents = extents(snapshot.Site, d, def, view.Areas)
	return c.JSON(view)
}

// extents lists how far the areas of a map go that a connection carries as a whole.
func extents(now *site.Site, d *site.Device, def *protocol.Def, areas []block.Area) (list []MapExtent) {
	link := now.LinkIn(d.ID, def.Name)
	if link == nil {
		return nil
	}
	for _, a := range areas {
		if carried, whole := def.Image(link.Settings, a.Key); whole {
			list = append(list, MapExtent{Area: a.Key, Carried: carried, Size: max(carried, int(d.Limits.Areas[a.Key]))})
		}
	}
	return list
}

// handedIn lists the notations in which the map of a device can be handed out.
func handedIn(d *site.Device) []address.Notation {
	m, err := files.MapOf(d)
	if err != nil {
		return []address.Notation{}
	}
	return append([]address.Notation{}, m.Notations()...)
}

func row(scheme address.Scheme, columns []regmap.Column, p *site.Point, version int64) PointRow {
	r := PointRow{ID: p.ID, Version: version, Cells: cellsOf(scheme, p, columns), Area: p.Place().Area,
		Start: p.Place().Offset}
	if area, ok := block.AreaOf(scheme, p.Place().Area); ok {
		r.Units = p.Units(area.UnitBits)
	}
	return r
}

func cellsOf(scheme address.Scheme, p *site.Point, columns []regmap.Column) []string {
	cells := make([]string, len(columns))
	for i, column := range columns {
		cells[i] = regmap.Cell(scheme, p, column)
	}
	return cells
}

// choices are the usual entries of columns that have few.
func choices() map[regmap.Column][]string {
	types := []string{}
	for _, t := range value.Types() {
		least, most, needed := t.Length()
		if !needed {
			types = append(types, string(t))
			continue
		}
		for _, n := range []int{least, 4, 8, 16} {
			if n >= least && n <= most && (n == least || n > 2) && (n == least || t.IsText()) {
				types = append(types, fmt.Sprintf("%s %d", t, n))
			}
		}
	}
	orders := []string{}
	for _, width := range []int{4, 8} {
		for _, o := range value.Orders(width) {
			orders = append(orders, string(o))
		}
	}
	return map[regmap.Column][]string{
		regmap.Type: types, regmap.Order: append(orders, "BA"),
		regmap.Pace: {"500 ms", "1 s", "5 s", "30 s", "once"}, regmap.Access: {"r", "rw", "w"},
	}
}

func (s *Server) getPoint(c fiber.Ctx) error {
	snapshot := s.Store.Now()
	d, p := snapshot.Site.Point(c.Params("id"))
	if p == nil {
		return problem.New("gone", "The point is no longer in the site.",
			"Reload to see what changed.").At(c.Params("id"))
	}
	scheme, err := d.SchemeOf(p)
	if err != nil {
		return problem.From(err, "protocol")
	}
	live, _ := s.Engine.Hub.Point(p.ID)
	view := PointView{Point: *p, Device: d.ID, Version: snapshot.Versions(site.KindPoint, d.ID)[p.ID],
		Notations: address.NotationsFor(scheme, p.Address, 8*p.Type.Bytes(p.Length)), Live: live, Words: []Word{}}
	if view.Notations == nil {
		view.Notations = []address.Notation{}
	}
	view.Carriers = []Carrier{}
	for _, l := range snapshot.Site.Carriers(d, p) {
		asking := snapshot.Site.Device(l.Asking)
		def, known := protocol.Named(l.Protocol)
		if asking == nil || !known {
			continue
		}
		view.Carriers = append(view.Carriers, Carrier{l.ID, asking.Name + ", " + def.Title})
		if items, ok := def.Items(); ok && items.Writable(p.Address) == nil {
			view.Writable = p.Access != site.ReadOnly
		}
	}
	if area, ok := block.AreaOf(scheme, p.Place().Area); ok {
		view.AreaTitle, view.Writable = area.Title, area.Writable && p.Access != site.ReadOnly
	}
	view.Readings, view.Area, view.Start, view.Neighbours = []fathom.Plain{}, p.Place().Area, p.Place().Offset,
		[]address.Notation{}
	if area, ok := block.AreaOf(scheme, p.Place().Area); ok {
		view.Units = p.Units(area.UnitBits)
		if words, err := regmap.ParseWords(live.Words); err == nil && area.UnitBits == 16 && len(words) > 0 {
			view.Readings = fathom.Everything(words)
		}
		if bit := p.Place().Bit; bit >= 0 && area.UnitBits == 16 {
			view.Neighbours = block.Neighbours(p.Place().Offset, bit)
		}
	}
	for text := range strings.FieldsSeq(live.Words) {
		var n uint64
		if _, err := fmt.Sscanf(text, "%X", &n); err != nil {
			return err
		}
		view.Words = append(view.Words, Word{text, fmt.Sprint(n), fmt.Sprintf("%0*b", 4*len(text), n)})
	}
	return c.JSON(view)
}

func (s *Server) getTrend(c fiber.Ctx) error {
	id := c.Params("id")
	trend := s.Engine.Hub.Trend(id)
	since := time.Now().Add(-10 * time.Minute).UnixMilli()
	kept, err := s.Store.Samples(c.Context(), id, since)
	if err != nil {
		return err
	}
	// What the hub remembers is newer; the store has what was before a restart.
	joined := []field.Trend{}
	for _, sample := range kept {
		if len(trend) == 0 || sample.AtMs < trend[0].AtMs {
			joined = append(joined, field.Trend{AtMs: sample.AtMs, V: sample.V})
		}
	}
	for _, t := range trend {
		if t.AtMs >= since {
			joined = append(joined, t)
		}
	}
	return c.JSON(joined)
}

func (s *Server) postCells(c fiber.Ctx) error {
	var r CellsRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	d, def, err := s.device(c, c.Params("id"))
	if err != nil {
		return err
	}
	bases := map[string]int64{}
	cells := make([]finding.CellFix, len(r.Cells))
	for i, cell := range r.Cells {
		if _, ok := bases[cell.Point]; !ok {
			bases[cell.Point] = cell.Base
		}
		cells[i] = finding.CellFix{Point: cell.Point, Column: string(cell.Column), Will: cell.Text}
	}
	changed, err := regmap.CellEdits(def.Scheme, d, cells)
	if err != nil {
		return err
	}
	edits := make([]store.BasedEdit, len(changed))
	for i, edit := range changed {
		edits[i] = store.BasedEdit{Edit: edit, Base: bases[edit.ID]}
	}
	what := r.What
	if what == "" {
		what = "changed the map of " + d.Name
	}
	entry, err := s.Store.Edit(c.Context(), who(c), what, edits)
	return s.step(c, entry, err)
}
