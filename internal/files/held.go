package files

import (
	"cmp"
	"fmt"

	"ferry/internal/core/address"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// heldColumns are what a device, or a file about it, may say of its places.
var heldColumns = []regmap.Column{regmap.Name, regmap.Address, regmap.Type, regmap.Scale, regmap.Offset, regmap.Unit,
	regmap.Decimals, regmap.Access, regmap.Names, regmap.Low, regmap.High, regmap.Remark}

// HeldRows makes a list of what a device has, its headings first. It has the
// columns of which something is said: an intake leaves alone what a list has no
// column for.
func HeldRows(scheme address.Scheme, held []protocol.Held) []regmap.Row {
	all := make([][]string, len(held))
	told := make([]bool, len(heldColumns))
	for i := range held {
		h := &held[i]
		p := site.PointOf(h)
		p.Name = cmp.Or(h.Name, scheme.Short(h.Address))
		all[i] = make([]string, len(heldColumns))
		for k, column := range heldColumns {
			all[i][k] = regmap.Cell(scheme, &p, column)
			told[k] = told[k] || all[i][k] != ""
		}
	}
	rows := make([]regmap.Row, 0, len(held)+1)
	add := func(cell func(k int) string) {
		row := regmap.Row{Line: len(rows) + 1}
		for k := range heldColumns {
			if told[k] {
				row.Cells = append(row.Cells, cell(k))
			}
		}
		rows = append(rows, row)
	}
	add(func(k int) string { return string(heldColumns[k]) })
	for i := range all {
		add(func(k int) string { return all[i][k] })
	}
	return rows
}

// readDescription reads a file about devices of a family.
func readDescription(data []byte, by protocol.Describes, scheme address.Scheme) (*Source, error) {
	held, unread, err := by.Describe(data)
	if err != nil {
		return nil, problem.New("not-readable", fmt.Sprintf("The file cannot be read: %s.", err),
			"Ask for it again, or bring the points in by a table.")
	}
	if len(held)*len(heldColumns) > MostCells {
		return nil, problem.New("too-large", fmt.Sprintf("The file describes %d places, too many at once.", len(held)),
			"Bring them in by parts, as a table.")
	}
	source := &Source{Format: by.Description(), Rows: HeldRows(scheme, held)}
	for _, u := range unread {
		source.Faults = append(source.Faults, regmap.Rejected{Line: u.Line, Column: u.What, Reason: u.Reason})
	}
	return source, nil
}
