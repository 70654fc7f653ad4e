package api

import (
	"cmp"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/datasheet"
	"ferry/internal/core/finding"
	"ferry/internal/core/layout"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/files"
)

// Bounds of what a preview shows at once.
const (
	previewRows  = 200  // good rows
	shownRejects = 2000 // cells that cannot come in
	shownRemoved = 200
	titleRows    = 15 // rows among which the headings are chosen
	keptHeadings = 200
)

func (s *Server) postIntake(c fiber.Ctx) error {
	var r IntakeRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	d, def, err := s.device(c, c.Params("id"))
	if err != nil {
		return err
	}
	now, _ := s.Store.Site()
	answer := IntakeAnswer{First: []regmap.Row{}, Sheets: []string{}, Unplaced: []string{}, Faults: []regmap.Rejected{}}
	listing := regmap.Listing{Headings: r.Headings, Columns: r.Columns, Rows: r.Rows}
	if r.Reading != nil {
		listing.Reading = *r.Reading
	}
	var structures []site.Structure
	var placements []site.Placement
	if r.Rows == nil {
		data := r.File
		if data == nil {
			data = []byte(r.Text)
		}
		describes, _ := def.Describes()
		source, err := files.ReadSource(data, files.Within{Sheet: r.Sheet, Begin: r.Begin, Describes: describes}, def.Scheme)
		if err != nil {
			return err
		}
		answer.Format, answer.Sheets, answer.Sheet = source.Format, append(answer.Sheets, source.Sheets...),
			source.Sheet
		answer.First = source.Rows[:min(len(source.Rows), titleRows)]
		listing = regmap.Recognise(def.Scheme, source.Rows, listing.Reading, known(&r, now.Headings))
		if err := inBlock(&listing, def.Scheme, r.Begin); err != nil {
			return err
		}
		structures, placements = source.Structures, source.Placements
		answer.Unplaced = append(answer.Unplaced, source.Unplaced[:min(len(source.Unplaced), shownRejects)]...)
		answer.Faults = append(answer.Faults, source.Faults[:min(len(source.Faults), shownRejects)]...)
		if len(r.Columns) == len(listing.Columns) {
			for i := range r.Columns {
				if r.Columns[i] != listing.Columns[i] {
					listing.Bases[i] = regmap.ByChoice
				}
			}
			if listing.Columns = r.Columns; slices.Contains(listing.Bases, regmap.ByChoice) {
				listing.Reading = orNew(r.Reading)
				listing.Settle(def.Scheme)
			}
		}
	} else {
		listing.Reading.Settled = append(listing.Reading.Settled, regmap.AllSettled...)
	}
	if r.Commit && len(listing.Questions) > 0 {
		return problem.New("open-question", listing.Questions[0].Asks, "Answer it first: nothing has come in.")
	}
	i := intake{server: s, device: d, def: def, request: &r, listing: &listing, answer: &answer, now: now,
		structures: structures, placements: placements}
	edits := i.compare()
	if !r.Commit || len(edits) == 0 {
		return c.JSON(answer)
	}
	what := fmt.Sprintf("brought %d points into the map of %s", answer.Added+answer.Changed, d.Name)
	answer.Seq, err = s.change(c, what, func(now *site.Site) ([]site.Edit, error) {
		// Compared again with what the site is at this moment.
		d, err := stillThere(now, d)
		if err != nil {
			return nil, err
		}
		i.now, i.device = now, d
		edits := i.compare()
		return append(i.prelude(), edits...), nil
	})
	if err != nil {
		return err
	}
	return c.JSON(answer)
}

// inBlock says in which block the offsets of a list lie, if it is one of offsets
// and somebody has said it: by the block alone, or its first place.
func inBlock(l *regmap.Listing, scheme address.Scheme, begin string) error {
	begin = strings.TrimSpace(begin)
	if !l.InBlock || begin == "" {
		return nil
	}
	area, ok := block.AreaNamed(scheme, begin)
	if !ok {
		at, err := scheme.Parse(begin, "")
		if place := block.Of(at); err == nil && place.Offset == 0 && place.Bit <= 0 {
			area, ok = block.AreaOf(scheme, place.Area)
		}
	}
	if !ok {
		areas := block.AreasOf(scheme)
		last := areas[len(areas)-1].Key
		return problem.New("bad-address", fmt.Sprintf("%q is no block in which the offsets could lie.", begin),
			fmt.Sprintf("Write it as %s, or as its first place, %s.", last, scheme.Short(block.At(last, 0)))).At("the block")
	}
	l.Reading.Area = area.Key
	l.Settle(scheme)
	return nil
}

// known are the headings that were read before, but not those of a table whose
// columns a person is choosing.
func known(r *IntakeRequest, headings []site.Headings) []site.Headings {
	if r.Columns != nil {
		return nil
	}
	return headings
}

func orNew(r *regmap.Reading) regmap.Reading {
	if r == nil {
		return regmap.Reading{}
	}
	return *r
}

type intake struct {
	server  *Server
	now     *site.Site
	device  *site.Device
	def     *protocol.Def
	request *IntakeRequest
	listing *regmap.Listing
	answer  *IntakeAnswer
	// structures and placements are those of declarations.
	structures []site.Structure
	placements []site.Placement
}

// compare fills in the answer and returns the edits of the points.
func (i *intake) compare() []site.Edit {
	l, answer, scheme := i.listing, i.answer, i.def.Scheme
	points, lines, rejected := l.Points(scheme)
	displaced := []regmap.Displaced{}
	if answer.InBlock = l.InBlock; l.InBlock {
		displaced = regmap.CompareOffsets(points, lines)
	}
	answer.Headings, answer.Columns, answer.Bases, answer.Reading = append([]string{}, l.Headings...),
		append([]regmap.Column{}, l.Columns...), append([]regmap.Basis{}, l.Bases...), l.Reading
	answer.Notes, answer.Questions, answer.Asides = append([]string{}, l.Notes...),
		append([]regmap.Question{}, l.Questions...),
		append([]regmap.Aside{}, l.Asides[:min(len(l.Asides), shownRemoved)]...)
	answer.Total, answer.Preview = len(l.Rows)-len(l.Asides), []IntakeRow{}
	answer.Rejected = append([]regmap.Rejected{}, rejected[:min(len(rejected), shownRejects)]...)
	answer.RejectedRows, answer.Removed = []regmap.Row{}, []string{}
	answer.Added, answer.Changed, answer.Same = 0, 0, 0
	bad := map[int]bool{}
	for _, reject := range answer.Rejected {
		bad[reject.Line] = true
	}
	for _, row := range l.Rows {
		if bad[row.Line] {
			answer.RejectedRows = append(answer.RejectedRows, row)
		}
	}
	if strings.HasPrefix(answer.Format, "iec") {
		i.keepUnsaid(points)
	}
	merged := regmap.Merge(scheme, i.device.Points, points, l.Columns)
	origins := i.origins()
	edits := make([]site.Edit, 0, len(points))
	after := *i.device
	after.Points = nil
	for k := range merged.Points {
		p := &merged.Points[k]
		if from, ok := origins[p.Name]; ok && (p.From == nil || *p.From != from) {
			p.From = &from
			if merged.Effects[k] == regmap.Keeps {
				edits = append(edits, site.Put(site.KindPoint, p.ID, i.device.ID, p))
			}
		}
		switch merged.Effects[k] {
		case regmap.Adds:
			p.ID = newID()
			p.Map = i.device.Mark()
			answer.Added++
		case regmap.Changes:
			answer.Changed++
		default:
			answer.Same++
		}
		if len(answer.Preview) < previewRows && (merged.Effects[k] != regmap.Keeps || answer.Same <= previewRows/2) {
			answer.Preview = append(answer.Preview,
				IntakeRow{lines[k], cellsOf(scheme, p, regmap.ColumnsFor(scheme)), merged.Effects[k],
					append([]regmap.Column{}, merged.Changed[k]...)})
		}
		if merged.Effects[k] == regmap.Keeps {
			continue
		}
		edits = append(edits, site.Put(site.KindPoint, p.ID, i.device.ID, p))
	}
	answer.RemovedCount = len(merged.Removed)
	for k, p := range merged.Removed {
		if k < shownRemoved {
			answer.Removed = append(answer.Removed, p.Name)
		}
		if i.request.Replace {
			edits = append(edits, site.Edit{Kind: site.KindPoint, ID: p.ID, Parent: i.device.ID})
		} else {
			after.Points = append(after.Points, *p)
		}
	}
	after.Points = append(after.Points, merged.Points...)
	found := append([]finding.Finding{}, regmap.DisplacedFindings(displaced, i.device)...)
	found = append(found, regmap.Check(scheme, &after, i.def.Most(nil))...)
	answer.FindingCount = len(found)
	answer.Findings = found[:min(len(found), 50)]
	for k := range answer.Findings {
		answer.Findings[k].Fixes = nil // they are offered once the points are there
	}
	return edits
}

// keepUnsaid fills in what a point of the map has and declarations leave empty:
// its remark, and the names of its values.
func (i *intake) keepUnsaid(points []site.Point) {
	own := make(map[string]*site.Point, len(i.device.Points))
	for k := range i.device.Points {
		own[i.device.Points[k].Name] = &i.device.Points[k]
	}
	for k := range points {
		if was := own[points[k].Name]; was != nil {
			points[k].Remark = cmp.Or(points[k].Remark, was.Remark)
			if len(points[k].Names) == 0 && points[k].Type == was.Type {
				points[k].Names = was.Names
			}
		}
	}
}

// structureIDs are the ids of the site's structures by name.
func (i *intake) structureIDs() map[string]string {
	ids := map[string]string{}
	for _, old := range i.now.Structures {
		ids[old.Name] = old.ID
	}
	return ids
}

// declared returns the structures of declarations with the ids that they have in
// the site, where one of that name is in it.
func (i *intake) declared() []site.Structure {
	ids := i.structureIDs()
	list := slices.Clone(i.structures)
	for k := range list {
		t := &list[k]
		t.ID = cmp.Or(ids[t.Name], t.ID)
		t.Members = slices.Clone(t.Members)
		old := i.now.Structure(t.ID)
		for n := range t.Members {
			m := &t.Members[n]
			if m.Structure != "" {
				m.Structure = cmp.Or(ids[m.Structure], m.Structure)
			}
			if old != nil {
				keepWhatIsSaid(m, old)
			}
		}
		if old != nil {
			t.Remark = cmp.Or(t.Remark, old.Remark)
		}
	}
	with := *i.now
	with.Structures = append(slices.Clone(list), i.now.Structures...)
	return slices.DeleteFunc(list, func(t site.Structure) bool {
		laid, err := with.Laid(&t)
		if err == nil {
			_, _, err = layout.Lay(laid, layout.Words)
		}
		return err != nil // it has been said why
	})
}

// keepWhatIsSaid keeps of a member what declarations say nothing of.
func keepWhatIsSaid(m *site.Member, of *site.Structure) {
	at := slices.IndexFunc(of.Members, func(old site.Member) bool { return old.Name == m.Name && old.Type == m.Type })
	if at < 0 {
		return
	}
	old := &of.Members[at]
	m.Unit, m.Remark, m.Order = cmp.Or(m.Unit, old.Unit), cmp.Or(m.Remark, old.Remark), cmp.Or(m.Order, old.Order)
	if m.Factor == 0 {
		m.Factor = old.Factor
	}
	if m.Names == nil {
		m.Names = old.Names
	}
	m.Reserve = old.Reserve
}

// placed returns the placements of declarations, those that the device has
// already with their ids.
func (i *intake) placed() []site.Placement {
	ids := i.structureIDs()
	list := slices.Clone(i.placements)
	for k := range list {
		pl := &list[k]
		pl.Structure, pl.PaceMs = cmp.Or(ids[pl.Structure], pl.Structure), 1000
		pl.ID, pl.Map = fmt.Sprintf("%s-%s-%d", i.device.ID, pl.Area, pl.Start), i.device.Mark()
		for _, old := range i.device.Placements {
			if old.Map == pl.Map && old.Area == pl.Area && old.Start == pl.Start && old.Structure == pl.Structure {
				pl.ID, pl.PaceMs, pl.Access = old.ID, old.PaceMs, old.Access
			}
		}
	}
	return list
}

// origins says of which placement each point of the declarations is, by its name.
func (i *intake) origins() map[string]site.Origin {
	if len(i.placements) == 0 {
		return nil
	}
	with := *i.now
	with.Structures = append(i.declared(), i.now.Structures...)
	origins := map[string]site.Origin{}
	for _, pl := range i.placed() {
		expected, err := datasheet.Expected(&with, i.device, &pl)
		if err != nil {
			continue // it is no longer one that can be laid out, and has said so
		}
		for k := range expected {
			origins[expected[k].Name] = *expected[k].From
		}
	}
	return origins
}

// prelude returns the edits that go before those of the points: the device's
// protocol, the structures of the document, and the memory of its headings.
func (i *intake) prelude() (edits []site.Edit) {
	for _, t := range i.declared() {
		if old := i.now.Structure(t.ID); old == nil || !reflect.DeepEqual(*old, t) {
			edits = append(edits, site.Put(site.KindStructure, t.ID, "", t))
		}
	}
	whole := i.device.Whole()
	copied := *whole
	copied.Map, copied.Points = cmp.Or(copied.Map, i.def.Name), nil
	copied.Placements = slices.Clone(copied.Placements)
	for _, pl := range i.placed() {
		at := slices.IndexFunc(copied.Placements, func(old site.Placement) bool { return old.ID == pl.ID })
		if at < 0 {
			copied.Placements = append(copied.Placements, pl)
		}
	}
	if copied.Map != whole.Map || len(copied.Placements) != len(whole.Placements) {
		edits = append(edits, site.Put(site.KindDevice, copied.ID, "", copied))
	}
	if words := i.answer.Headings; len(words) > 0 && i.request.Rows == nil {
		h := site.Headings{ID: newID(), Words: words, Columns: make([]string, len(words))}
		for k := range min(len(words), len(i.listing.Columns)) {
			h.Columns[k] = string(i.listing.Columns[k])
		}
		at := slices.IndexFunc(i.now.Headings,
			func(old site.Headings) bool { return slices.EqualFunc(old.Words, words, strings.EqualFold) })
		if at >= 0 {
			h.ID = i.now.Headings[at].ID
		}
		if at < 0 || !slices.Equal(i.now.Headings[at].Columns, h.Columns) {
			edits = append(edits, site.Put(site.KindHeadings, h.ID, "", h))
		}
		if at < 0 && len(i.now.Headings) >= keptHeadings {
			edits = append(edits, site.Edit{Kind: site.KindHeadings, ID: i.now.Headings[0].ID})
		}
	}
	return edits
}
