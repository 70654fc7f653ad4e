package api

import (
	"errors"
	"fmt"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/address"
	"ferry/internal/core/finding"
	"ferry/internal/core/problem"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// postBulk changes or copies many points in one step; a dry run says what it
// would do.
func (s *Server) postBulk(c fiber.Ctx) error {
	var r BulkRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	d, def, err := s.device(c, c.Params("id"))
	if err != nil {
		return err
	}
	answer, what, edits, err := bulk(&r, d, def.Scheme)
	if err != nil {
		return err
	}
	if r.Dry || len(edits) == 0 {
		return c.JSON(answer)
	}
	answer.Seq, err = s.change(c, what, func(now *site.Site) ([]site.Edit, error) {
		d, err := stillThere(now, d)
		if err != nil {
			return nil, err
		}
		_, _, edits, err := bulk(&r, d, def.Scheme)
		return edits, err
	})
	if err != nil {
		return err
	}
	return c.JSON(answer)
}

// bulk works out what a request does to a map: in numbers, in words, in edits.
func bulk(r *BulkRequest, d *site.Device,
	scheme address.Scheme) (answer BulkAnswer, what string, edits []site.Edit, err error) {
	index := make(map[string]*site.Point, len(d.Points))
	for i := range d.Points {
		index[d.Points[i].ID] = &d.Points[i]
	}
	points := make([]*site.Point, 0, len(r.Points))
	for _, id := range r.Points {
		if index[id] == nil {
			return answer, "", nil,
				problem.New("gone", "One of the points is no longer in the map.", "Reload to see what changed.").At(id)
		}
		points = append(points, index[id])
	}
	answer = BulkAnswer{Cells: []finding.CellFix{}, Names: []string{}}
	var cells []finding.CellFix
	switch r.Action {
	case "fill":
		cells, err = filled(r, scheme, points)
		what = fmt.Sprintf("filled %s of %s down", amount(len(cells), "cell"), d.Name)
	case "replace":
		cells, err = regmap.Replace(scheme, points, r.Columns, r.Search)
		what = fmt.Sprintf("replaced %s by %s in %s of %s", r.Search.Find, r.Search.With, amount(len(cells), "cell"),
			d.Name)
	case "duplicate":
		var copies []site.Point
		copies, err = regmap.Duplicate(scheme, points, r.Times, r.Step, max(1, r.Counting))
		what = fmt.Sprintf("copied %s of %s %s", amount(len(points), "point"), d.Name, amount(r.Times, "time"))
		answer.Count = len(copies)
		for i := range copies {
			copies[i].ID = newID()
			if len(answer.Names) < previewRows {
				answer.Names = append(answer.Names,
					fmt.Sprintf("%s at %s", copies[i].Name, regmap.Cell(scheme, &copies[i], regmap.Address)))
			}
			edits = append(edits, site.Put(site.KindPoint, copies[i].ID, d.ID, copies[i]))
		}
	default:
		err = fmt.Errorf("%q is nothing that can be done to many points", r.Action)
	}
	if err == nil && r.Action != "duplicate" {
		answer.Count = len(cells)
		answer.Cells = append(answer.Cells, cells[:min(len(cells), previewRows)]...)
		edits, err = regmap.CellEdits(scheme, d, cells)
	}
	var known *problem.Problem
	if err != nil && !errors.As(err, &known) {
		err = problem.New("cannot-do", err.Error()+".", "").At(d.Name)
	}
	return answer, what, edits, err
}

// filled returns the cells of a fill down, column by column.
func filled(r *BulkRequest, scheme address.Scheme, points []*site.Point) (cells []finding.CellFix, err error) {
	if len(r.Columns) == 0 {
		return nil, errors.New("select the cells to fill")
	}
	for _, column := range r.Columns {
		step := r.Step
		if column == regmap.Name {
			step = r.Counting
		}
		more, err := regmap.FillDown(scheme, points, column, step)
		if err != nil {
			return nil, err
		}
		cells = append(cells, more...)
	}
	return cells, nil
}
