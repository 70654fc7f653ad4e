package files

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"slices"

	"github.com/xuri/excelize/v2"

	"ferry/internal/core/handover"
	"ferry/internal/core/route"
)

//go:embed pack.html.tmpl
var packText string

var packPage = template.Must(template.New("pack").Funcs(template.FuncMap{
	"inc":     func(n int) int { return n + 1 },
	"percent": func(share float64) string { return fmt.Sprintf("%.1f %%", 100*share) },
	"share": func(share float64, columns []handover.Column) string {
		sum := 0.0
		for _, c := range columns {
			sum += c.Share
		}
		return fmt.Sprintf("%.2f", 100*share/sum)
	},
	"mark": func(r route.Result) string {
		return map[route.Result]string{route.Good: "✓", route.Doubt: "▲", route.Fault: "✗"}[r] +
			map[bool]string{true: "○"}[r == route.NotTried]
	},
	"class": func(cell string) string {
		switch cell {
		case "right":
			return "good"
		case "wrong", "no", "fault":
			return "fault"
		case "to be proved again", "doubt", "perhaps":
			return "doubt"
		}
		return ""
	},
}).Parse(packText))

// WritePackHTML writes a pack as one page that needs nothing else, to be read on a screen and
// printed.
func WritePackHTML(w io.Writer, pack *handover.Pack) error { return packPage.Execute(w, pack) }

// sheetOf is what a sheet of a pack's workbook holds: the tables that are named so, one below
// the other, under the columns of all of them.
type sheetOf struct {
	name    string
	columns []handover.Column
	tables  []*handover.Table
}

// sheetsOf gathers the tables of a pack by the names of their sheets.
func sheetsOf(pack *handover.Pack) (sheets []*sheetOf) {
	for i := range pack.Sections {
		for j := range pack.Sections[i].Tables {
			t := &pack.Sections[i].Tables[j]
			at := slices.IndexFunc(sheets, func(s *sheetOf) bool { return s.name == t.Sheet })
			if at < 0 {
				at = len(sheets)
				sheets = append(sheets, &sheetOf{name: t.Sheet})
			}
			s := sheets[at]
			s.tables = append(s.tables, t)
			s.columns = merged(s.columns, t.Columns, t.Sheet == "Settings")
		}
	}
	return sheets
}

// merged adds the columns that are new, each after the one before it. The ends of a link stand
// in the same places, whatever their names.
func merged(columns, more []handover.Column, byPlace bool) []handover.Column {
	if byPlace {
		if len(columns) == 0 {
			columns = slices.Clone(more)
			columns[1].Title, columns[2].Title = "Asking end", "Answering end"
		}
		return columns
	}
	at := 0
	for _, c := range more {
		if n := slices.IndexFunc(columns, func(other handover.Column) bool { return other.Title == c.Title }); n >= 0 {
			at = n + 1
			continue
		}
		columns = slices.Insert(columns, min(at, len(columns)), c)
		at++
	}
	return columns
}

// WritePackXLSX writes the tables of a pack as a workbook: a sheet for each kind, in whose
// first column stands which device, link or table a row is of. No cell is a formula.
func WritePackXLSX(w io.Writer, pack *handover.Pack) (err error) {
	f := excelize.NewFile()
	defer func() {
		if closeErr := f.Close(); err == nil {
			err = closeErr
		}
	}()
	bold, err := f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return err
	}
	if err := f.SetSheetName(f.GetSheetName(0), "Cover"); err != nil {
		return err
	}
	cover := &sheetOf{name: "Cover", columns: []handover.Column{{Title: "Says", Share: 0.8}}}
	facts := handover.Table{Title: pack.Site, Columns: cover.columns}
	for _, fact := range pack.Facts {
		facts.Rows = append(facts.Rows, []string{fact.Name + ": " + fact.Says})
	}
	cover.tables = []*handover.Table{&facts}
	for _, s := range append([]*sheetOf{cover}, sheetsOf(pack)...) {
		if s != cover {
			if _, err := f.NewSheet(s.name); err != nil {
				return err
			}
		}
		if err := s.write(f, bold); err != nil {
			return fmt.Errorf("the sheet %s: %w", s.name, err)
		}
	}
	return f.Write(w)
}

func (s *sheetOf) write(f *excelize.File, bold int) error {
	out, err := f.NewStreamWriter(s.name)
	if err != nil {
		return err
	}
	if err := out.SetColWidth(1, 1, 30); err != nil {
		return err
	}
	head := []any{excelize.Cell{StyleID: bold, Value: "Of"}}
	for i, c := range s.columns {
		if err := out.SetColWidth(i+2, i+2, max(9, 110*c.Share)); err != nil {
			return err
		}
		head = append(head, excelize.Cell{StyleID: bold, Value: c.Title})
	}
	if err := out.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2",
		ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	if err := out.SetRow("A1", head); err != nil {
		return err
	}
	n := 2
	for _, t := range s.tables {
		place := make([]int, len(t.Columns))
		for i, c := range t.Columns {
			place[i] = slices.IndexFunc(s.columns, func(other handover.Column) bool { return other.Title == c.Title })
			if place[i] < 0 {
				place[i] = i // the ends of a link
			}
		}
		for _, row := range t.Rows {
			cells := make([]any, 1+len(s.columns))
			cells[0] = t.Title
			for i, cell := range row {
				if cell != "" {
					cells[1+place[i]] = cell // a string is written as one, never as a formula
				}
			}
			if err := out.SetRow(fmt.Sprintf("A%d", n), cells); err != nil {
				return err
			}
			n++
		}
	}
	return out.Flush()
}
