package api

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/address"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/files"
	"ferry/internal/store"
)

func (s *Server) getPoints(c fiber.Ctx) error {
	d, def, seq, err := s.device(c.Params("id"))
	if err != nil {
		return err
	}
	plan, _, _ := s.planNow()
	versions := s.Store.Versions(site.KindPoint)
	view := PointsView{Seq: seq, Device: d.ID, Columns: regmap.Columns(), Areas: def.Scheme.Areas(), Rows: make([]PointRow, len(d.Points)),
		Requests: []timetable.Request{}, Findings: regmap.Check(def.Scheme, d, def.MaxUnits), Choices: choices()}
	for i := range d.Points {
		view.Rows[i] = row(def.Scheme, &d.Points[i], versions[d.Points[i].ID])
	}
	link := ""
	for _, r := range plan.Requests {
		if r.Device == d.ID && (link == "" || link == r.Link) {
			link = r.Link
			view.Requests = append(view.Requests, r)
		}
	}
	return c.JSON(view)
}

func row(scheme address.Scheme, p *site.Point, version int64) PointRow {
	r := PointRow{ID: p.ID, Version: version, Cells: cellsOf(scheme, p), Area: p.Address.Area, Start: p.Address.Offset}
	if area, ok := address.AreaOf(scheme, p.Address.Area); ok {
		r.Units = p.Units(area.UnitBits)
	}
	return r
}

func cellsOf(scheme address.Scheme, p *site.Point) []string {
	columns := regmap.Columns()
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
		if t == value.TypeText {
			types = append(types, "text 8", "text 16")
			continue
		}
		types = append(types, string(t))
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
	now, _ := s.Store.Site()
	d, p := now.Point(c.Params("id"))
	if p == nil {
		return problem.New("gone", "The point is no longer in the site.", "Reload to see what changed.").At(c.Params("id"))
	}
	scheme, err := protocol.SchemeOf(d.Map)
	if err != nil {
		return problem.From(err, "protocol")
	}
	live, _ := s.Engine.Hub.Point(p.ID)
	view := PointView{Point: *p, Device: d.ID, Version: s.Store.Versions(site.KindPoint)[p.ID], Notations: scheme.Notations(p.Address), Live: live, Words: []Word{}}
	if view.Notations == nil {
		view.Notations = []address.Notation{}
	}
	if area, ok := address.AreaOf(scheme, p.Address.Area); ok {
		view.AreaTitle, view.Writable = area.Title, area.Writable && p.Access != site.ReadOnly
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
	d, def, _, err := s.device(c.Params("id"))
	if err != nil {
		return err
	}
	index := make(map[string]int, len(d.Points))
	for i := range d.Points {
		index[d.Points[i].ID] = i
	}
	changed := map[string]*site.Point{}
	bases := map[string]int64{}
	var order []string
	for _, cell := range r.Cells {
		p := changed[cell.Point]
		if p == nil {
			at, ok := index[cell.Point]
			if !ok {
				return problem.New("gone", "The point is no longer in the map.", "Reload to see what changed.").At(cell.Point)
			}
			copied := d.Points[at]
			p = &copied
			changed[cell.Point], bases[cell.Point] = p, cell.Base
			order = append(order, cell.Point)
		}
		if err := regmap.SetCell(def.Scheme, p, cell.Column, cell.Text); err != nil {
			return problem.New("bad-cell", err.Error()+".", "").At(fmt.Sprintf("%s, column %s", p.Name, cell.Column))
		}
	}
	edits := make([]store.BasedEdit, 0, len(order))
	for _, id := range order {
		data, err := json.Marshal(changed[id])
		if err != nil {
			return err
		}
		edits = append(edits, store.BasedEdit{Edit: site.Edit{Kind: site.KindPoint, ID: id, Parent: d.ID, After: data}, Base: bases[id]})
	}
	what := r.What
	if what == "" {
		what = "changed the map of " + d.Name
	}
	entry, err := s.Store.Edit(c.Context(), who(c), what, edits)
	return s.step(c, entry, err)
}

// previewRows bounds the good rows that a preview shows.
const previewRows = 100

// shownRejects bounds the rejected rows that go to the browser at once.
const shownRejects = 2000

func (s *Server) postIntake(c fiber.Ctx) error {
	var r IntakeRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	d, def, _, err := s.device(c.Params("id"))
	if err != nil {
		return err
	}
	table := regmap.Table{Headings: r.Headings, Columns: r.Columns, Rows: r.Rows}
	if r.Rows == nil {
		rows, err := files.ReadTable([]byte(r.Text))
		if err != nil {
			return err
		}
		table = regmap.Recognise(def.Scheme, rows)
	}
	if len(r.Columns) > 0 {
		table.Columns = r.Columns
	}
	points, lines, rejected := table.Points(def.Scheme)
	answer := IntakeAnswer{Headings: table.Headings, Columns: table.Columns, Total: len(table.Rows), Preview: []IntakeRow{},
		Rejected: rejected[:min(len(rejected), shownRejects)], RejectedRows: []regmap.Row{}}
	if answer.Headings == nil {
		answer.Headings = []string{}
	}
	if answer.Columns == nil {
		answer.Columns = []regmap.Column{}
	}
	if answer.Rejected == nil {
		answer.Rejected = []regmap.Rejected{}
	}
	bad := map[int]bool{}
	for _, reject := range answer.Rejected {
		bad[reject.Line] = true
	}
	for _, row := range table.Rows {
		if bad[row.Line] {
			answer.RejectedRows = append(answer.RejectedRows, row)
		}
	}
	edits := intakeEdits(d, def.Scheme, points, lines, &answer)
	if !r.Commit {
		return c.JSON(answer)
	}
	if len(edits) > 0 {
		if d.Map == "" {
			copied := *d
			copied.Map, copied.Points = def.Name, nil
			data, err := json.Marshal(copied)
			if err != nil {
				return err
			}
			edits = slices.Insert(edits, 0, site.Edit{Kind: site.KindDevice, ID: d.ID, After: data})
		}
		entry, err := s.Store.Change(c.Context(), who(c), fmt.Sprintf("brought %d points into the map of %s", answer.Added+answer.Changed, d.Name),
			func(*site.Site) ([]site.Edit, error) { return edits, nil })
		if err != nil {
			return err
		}
		answer.Seq = entry.Seq
		if err := s.changed(); err != nil {
			return err
		}
	}
	return c.JSON(answer)
}

// intakeEdits makes the edits that bring points in: a point whose name the map
// has already is changed, any other is added.
func intakeEdits(d *site.Device, scheme address.Scheme, points []site.Point, lines []int, answer *IntakeAnswer) []site.Edit {
	known := make(map[string]*site.Point, len(d.Points))
	for i := range d.Points {
		known[d.Points[i].Name] = &d.Points[i]
	}
	edits := make([]site.Edit, 0, len(points))
	for i := range points {
		p := &points[i]
		effect := "added"
		if old := known[p.Name]; old != nil {
			p.ID = old.ID
			effect = "changed"
			if reflect.DeepEqual(*p, *old) {
				effect = "same"
			}
			delete(known, p.Name) // a second row of that name is a new point
		} else {
			p.ID = newID()
		}
		switch effect {
		case "added":
			answer.Added++
		case "changed":
			answer.Changed++
		default:
			answer.Same++
		}
		if len(answer.Preview) < previewRows {
			answer.Preview = append(answer.Preview, IntakeRow{lines[i], cellsOf(scheme, p), effect})
		}
		if effect == "same" {
			continue
		}
		data, err := json.Marshal(p)
		if err != nil {
			continue // a point made of cells always encodes
		}
		edits = append(edits, site.Edit{Kind: site.KindPoint, ID: p.ID, Parent: d.ID, After: data})
	}
	return edits
}

// newID makes an id that no other object has.
func newID() string { return strings.ToLower(rand.Text()[:12]) }

func (s *Server) getMapFile(c fiber.Ctx) error {
	d, def, _, err := s.device(c.Params("id"))
	if err != nil {
		return err
	}
	var b bytes.Buffer
	if err := files.WriteMap(&b, def.Scheme, d.Points); err != nil {
		return err
	}
	c.Set("Content-Type", "text/csv; charset=utf-8")
	c.Attachment(strings.ReplaceAll(d.Name, "/", "-") + ".csv")
	return c.Send(b.Bytes())
}
