package api

import (
	"fmt"
	"slices"
	"strings"

	"github.com/gofiber/fiber/v3"

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
	d, def, _, err := s.device(c.Params("id"))
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
	if r.Rows == nil {
		data := r.File
		if data == nil {
			data = []byte(r.Text)
		}
		source, err := files.ReadSource(data, files.Within{Sheet: r.Sheet, Begin: r.Begin}, def.Scheme)
		if err != nil {
			return err
		}
		answer.Format, answer.Sheets, answer.Sheet = source.Format, append(answer.Sheets, source.Sheets...), source.Sheet
		answer.First = source.Rows[:min(len(source.Rows), titleRows)]
		listing = regmap.Recognise(def.Scheme, source.Rows, listing.Reading, known(&r, now.Headings))
		structures = source.Structures
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
	i := intake{server: s, device: d, def: def, request: &r, listing: &listing, answer: &answer, now: now}
	edits := i.compare()
	if !r.Commit || len(edits) == 0 {
		return c.JSON(answer)
	}
	what := fmt.Sprintf("brought %d points into the map of %s", answer.Added+answer.Changed, d.Name)
	answer.Seq, err = s.change(c, what, func(now *site.Site) ([]site.Edit, error) {
		// Compared again with what the site is at this moment.
		d, err := stillThere(now, d.ID)
		if err != nil {
			return nil, err
		}
		i.now, i.device = now, d
		edits := i.compare()
		return append(i.prelude(structures), edits...), nil
	})
	if err != nil {
		return err
	}
	return c.JSON(answer)
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
}

// compare fills in the answer and returns the edits of the points.
func (i *intake) compare() []site.Edit {
	l, answer, scheme := i.listing, i.answer, i.def.Scheme
	points, lines, rejected := l.Points(scheme)
	answer.Headings, answer.Columns, answer.Bases, answer.Reading = append([]string{}, l.Headings...), append([]regmap.Column{}, l.Columns...), append([]regmap.Basis{}, l.Bases...), l.Reading
	answer.Notes, answer.Questions, answer.Asides = append([]string{}, l.Notes...), append([]regmap.Question{}, l.Questions...), append([]regmap.Aside{}, l.Asides[:min(len(l.Asides), shownRemoved)]...)
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
	merged := regmap.Merge(scheme, i.device.Points, points, l.Columns)
	edits := make([]site.Edit, 0, len(points))
	after := *i.device
	after.Points = nil
	for k := range merged.Points {
		p := &merged.Points[k]
		switch merged.Effects[k] {
		case regmap.Adds:
			p.ID = newID()
			answer.Added++
		case regmap.Changes:
			answer.Changed++
		default:
			answer.Same++
		}
		if len(answer.Preview) < previewRows && (merged.Effects[k] != regmap.Keeps || answer.Same <= previewRows/2) {
			answer.Preview = append(answer.Preview, IntakeRow{lines[k], cellsOf(scheme, p), merged.Effects[k], append([]regmap.Column{}, merged.Changed[k]...)})
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
	found := regmap.Check(scheme, &after, i.def.Most(nil))
	answer.FindingCount = len(found)
	answer.Findings = found[:min(len(found), 50)]
	for k := range answer.Findings {
		answer.Findings[k].Fixes = nil // they are offered once the points are there
	}
	return edits
}

// prelude returns the edits that go before those of the points: the device's
// protocol, the structures of the document, and the memory of its headings.
func (i *intake) prelude(structures []site.Structure) (edits []site.Edit) {
	if i.device.Map == "" {
		copied := *i.device
		copied.Map, copied.Points = i.def.Name, nil
		edits = append(edits, site.Put(site.KindDevice, copied.ID, "", copied))
	}
	for k := range structures {
		t := structures[k]
		if !slices.ContainsFunc(i.now.Structures, func(old site.Structure) bool { return old.ID == t.ID || old.Name == t.Name }) {
			edits = append(edits, site.Put(site.KindStructure, t.ID, "", t))
		}
	}
	if words := i.answer.Headings; len(words) > 0 && i.request.Rows == nil {
		h := site.Headings{ID: newID(), Words: words, Columns: make([]string, len(words))}
		for k := range min(len(words), len(i.listing.Columns)) {
			h.Columns[k] = string(i.listing.Columns[k])
		}
		at := slices.IndexFunc(i.now.Headings, func(old site.Headings) bool { return slices.EqualFunc(old.Words, words, strings.EqualFold) })
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
