package files

import (
	"bytes"
	"fmt"
	"io"
	"strings"

	"github.com/xuri/excelize/v2"

	"ferry/internal/core/problem"
	"ferry/internal/core/regmap"
)

// mostUnzipped bounds what a workbook may unpack to, against archives that were
// made to fill the memory.
const mostUnzipped = 512 << 20

// ReadWorkbook reads one sheet of an XLSX workbook (ISO/IEC 29500), the first
// with anything in it if sheet is empty, and lists the sheets. Cells come as
// the values that they hold, not as they are formatted.
func ReadWorkbook(data []byte, sheet string) (rows []regmap.Row, sheets []string, chosen string, err error) {
	f, err := excelize.OpenReader(bytes.NewReader(data), excelize.Options{RawCellValue: true, UnzipSizeLimit: mostUnzipped, UnzipXMLSizeLimit: 64 << 20})
	if err != nil {
		return nil, nil, "", problem.New("not-a-table", "The file is no workbook that can be read: "+err.Error()+".", "Save it from the spreadsheet as XLSX or CSV, without a password.")
	}
	defer func() {
		if closeErr := f.Close(); err == nil && closeErr != nil {
			err = closeErr
		}
	}()
	sheets = f.GetSheetList()
	if sheet != "" {
		rows, err = sheetRows(f, sheet)
		return rows, sheets, sheet, err
	}
	for _, name := range sheets {
		if rows, err = sheetRows(f, name); err != nil || len(rows) > 1 {
			return rows, sheets, name, err
		}
		chosen = name
	}
	return rows, sheets, chosen, nil
}

func sheetRows(f *excelize.File, sheet string) ([]regmap.Row, error) {
	it, err := f.Rows(sheet)
	if err != nil {
		return nil, problem.New("no-sheet", "The workbook has no sheet "+sheet+".", "Choose one of its sheets.")
	}
	rows, cells := []regmap.Row{}, 0
	for line := 1; it.Next(); line++ {
		record, err := it.Columns()
		if err != nil {
			return nil, problem.New("not-a-table", "A row cannot be read: "+err.Error()+".", "Open the file in a spreadsheet and save it again.").At(fmt.Sprintf("%s, row %d", sheet, line))
		}
		if cells += len(record); cells > MostCells || line > MostCells {
			return nil, problem.New("too-large", fmt.Sprintf("The sheet has more than %d cells.", MostCells), "Bring it in by parts.").At(sheet)
		}
		if len(record) == 0 {
			continue
		}
		for i := range record {
			record[i] = tidyNumber(record[i])
		}
		rows = append(rows, regmap.Row{Line: line, Cells: record})
	}
	if err := it.Error(); err != nil {
		return nil, problem.New("not-a-table", "The sheet cannot be read to its end: "+err.Error()+".", "Open the file in a spreadsheet and save it again.").At(sheet)
	}
	return rows, it.Close()
}

// tidyNumber undoes what binary fractions do to decimal ones in workbooks:
// 0.10000000000000001 was typed as 0.1.
func tidyNumber(cell string) string {
	if len(cell) < 17 || !strings.ContainsRune(cell, '.') {
		return cell
	}
	var f float64
	if n, err := fmt.Sscanf(cell, "%g", &f); n != 1 || err != nil || strings.Trim(cell, "0123456789.-+eE") != "" {
		return cell
	}
	return fmt.Sprintf("%.15g", f)
}

// WriteWorkbook writes the maps of a hand-over as an XLSX workbook, a sheet for
// each device. Every cell is a text or a number, never a formula.
func WriteWorkbook(w io.Writer, maps []Map) (err error) {
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
	names := map[string]bool{}
	for i := range maps {
		m := &maps[i]
		sheet := sheetName(m.Device, names)
		if i == 0 {
			err = f.SetSheetName(f.GetSheetName(0), sheet)
		} else {
			_, err = f.NewSheet(sheet)
		}
		if err == nil {
			err = writeSheet(f, sheet, m, bold)
		}
		if err != nil {
			return err
		}
	}
	return f.Write(w)
}

func writeSheet(f *excelize.File, sheet string, m *Map, bold int) error {
	out, err := f.NewStreamWriter(sheet)
	if err != nil {
		return err
	}
	headings := m.headings()
	for i, heading := range headings {
		width := 14.0
		switch regmap.Column(heading) {
		case regmap.Name, regmap.Names, regmap.Remark, regmap.Scale:
			width = 28
		}
		if err := out.SetColWidth(i+1, i+1, width); err != nil {
			return err
		}
	}
	if err := out.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	record := make([]any, len(headings))
	for i, heading := range headings {
		record[i] = excelize.Cell{StyleID: bold, Value: heading}
	}
	if err := out.SetRow("A1", record); err != nil {
		return err
	}
	for i := range m.Points {
		for j, cell := range m.cells(&m.Points[i]) {
			record[j] = cell // a string is written as a text, whatever it begins with
		}
		at, err := excelize.CoordinatesToCellName(1, i+2)
		if err != nil {
			return err
		}
		if err := out.SetRow(at, record); err != nil {
			return err
		}
	}
	return out.Flush()
}

// sheetName makes a name that workbooks allow: 31 characters without []:*?/\,
// each once.
func sheetName(device string, taken map[string]bool) string {
	clean := strings.Map(func(r rune) rune {
		if strings.ContainsRune(`[]:*?/\'`, r) || r < ' ' {
			return '-'
		}
		return r
	}, device)
	if clean == "" {
		clean = "Map"
	}
	for n := 1; ; n++ {
		suffix := ""
		if n > 1 {
			suffix = fmt.Sprintf(" (%d)", n)
		}
		runes := []rune(clean)
		name := string(runes[:min(len(runes), 31-len(suffix))]) + suffix
		if !taken[strings.ToLower(name)] {
			taken[strings.ToLower(name)] = true
			return name
		}
	}
}
