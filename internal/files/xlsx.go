package files

import (
	"archive/zip"
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"

	"ferry/internal/core/address"
	"ferry/internal/core/problem"
	"ferry/internal/core/regmap"
)

// Bounds of a workbook, against archives that were made to fill the memory: what
// it may unpack to, how many parts and sheets it may have, the longest text that
// cells share, and all text of a sheet, in octets.
const (
	mostUnzipped = 128 << 20
	mostParts    = 2000
	mostSheets   = 100
	longestText  = 8 << 10
	mostText     = 64 << 20
)

// checkWorkbook unpacks a workbook once, keeps nothing, and refuses it if it is
// more than any table. A workbook says of itself how large it is; that is not
// believed.
func checkWorkbook(data []byte) error {
	tooLarge := func(what, do string) error { return problem.New("too-large", what, do) }
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return problem.New("not-a-table", "The file is no workbook that can be read: "+err.Error()+".",
			"Save it from the spreadsheet as XLSX or CSV, without a password.")
	}
	if len(archive.File) > mostParts {
		return tooLarge(fmt.Sprintf("The workbook has %d parts.", len(archive.File)),
			"Save only the sheet of the table.")
	}
	total := int64(0)
	for _, f := range archive.File {
		part, err := f.Open()
		if err != nil {
			return problem.New("not-a-table", "A part of the workbook cannot be read: "+err.Error()+".",
				"Save it again from the spreadsheet.").At(f.Name)
		}
		n, longest, cells, err := unpack(part, mostUnzipped-total)
		_ = part.Close() // it was read, and nothing was written
		if err != nil {
			return problem.New("not-a-table", "A part of the workbook cannot be read: "+err.Error()+".",
				"Save it again from the spreadsheet.").At(f.Name)
		}
		if cells > MostCells {
			return tooLarge(fmt.Sprintf("A sheet has more than %d cells.", MostCells), "Bring it in by parts.")
		}
		if total += n; total >= mostUnzipped {
			return tooLarge(fmt.Sprintf("The workbook unpacks to more than %d MB.", mostUnzipped>>20),
				"Save only the table, as CSV or in a workbook of its own.")
		}
		if longest > longestText {
			return tooLarge(fmt.Sprintf("A cell of the workbook holds a text of %d characters or more.", longestText),
				"Take that text out.")
		}
	}
	return nil
}

// unpack reads up to most octets of a part. It finds the longest text that cells
// share (an element si; whatever is inside counts) and counts the cells
// (elements c), whichever part they stand in.
func unpack(part io.Reader, most int64) (n int64, longest, cells int, err error) {
	r := bufio.NewReaderSize(io.LimitReader(part, most), 64<<10)
	share, within := 0, false
	for {
		chunk, err := r.ReadSlice('>') // one tag, with the text before it
		n += int64(len(chunk))
		tag := chunk[bytes.LastIndexByte(chunk, '<')+1:]
		if share += len(chunk); within {
			longest = max(longest, share)
		}
		switch {
		case bytes.HasPrefix(tag, []byte("si>")):
			share, within = 0, true
		case bytes.HasPrefix(tag, []byte("/si>")):
			within = false
		case len(tag) > 1 && tag[0] == 'c' && (tag[1] == '>' || tag[1] == ' ' || tag[1] == '/'):
			cells++
		}
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
		case errors.Is(err, io.EOF):
			return n, longest, cells, nil
		case err != nil:
			return n, longest, cells, err
		}
	}
}

// ReadWorkbook reads one sheet of an XLSX workbook (ISO/IEC 29500), the first
// with anything in it if sheet is empty, and lists the sheets. Cells come as
// the values that they hold, not as they are formatted.
func ReadWorkbook(data []byte, sheet string,
	scheme address.Scheme) (rows []regmap.Row, sheets []string, chosen string, err error) {
	if err := checkWorkbook(data); err != nil {
		return nil, nil, "", err
	}
	f, err := excelize.OpenReader(bytes.NewReader(data),
		excelize.Options{RawCellValue: true, UnzipSizeLimit: mostUnzipped, UnzipXMLSizeLimit: 16 << 20})
	if err != nil {
		return nil, nil, "", problem.New("not-a-table", "The file is no workbook that can be read: "+err.Error()+".",
			"Save it from the spreadsheet as XLSX or CSV, without a password.")
	}
	defer func() {
		if closeErr := f.Close(); err == nil && closeErr != nil {
			err = closeErr
		}
	}()
	if sheets = f.GetSheetList(); len(sheets) > mostSheets {
		return nil, nil, "", problem.New("too-large", fmt.Sprintf("The workbook has %d sheets.", len(sheets)),
			"Save only the sheet of the table.")
	}
	if sheet != "" {
		rows, err = sheetRows(f, sheet)
		return rows, sheets, sheet, err
	}
	// The sheet that looks most like a list is taken; the first, where none does.
	best := -1
	for _, name := range sheets {
		of, err := sheetRows(f, name)
		if err != nil {
			return nil, sheets, name, err
		}
		like := regmap.Likeness(scheme, of)
		if like > best || best == 0 && like == 0 && len(rows) <= 1 {
			best, rows, chosen = like, of, name
		}
	}
	return rows, sheets, chosen, nil
}

func sheetRows(f *excelize.File, sheet string) ([]regmap.Row, error) {
	it, err := f.Rows(sheet)
	if err != nil {
		return nil, problem.New("no-sheet", "The workbook has no sheet "+sheet+".", "Choose one of its sheets.")
	}
	rows, cells, text := []regmap.Row{}, 0, 0
	for line := 1; it.Next(); line++ {
		record, err := it.Columns()
		if err != nil {
			return nil, problem.New("not-a-table", "A row cannot be read: "+err.Error()+".",
				"Open the file in a spreadsheet and save it again.").At(fmt.Sprintf("%s, row %d", sheet, line))
		}
		if cells += len(record); cells > MostCells || line > MostCells {
			return nil, problem.New("too-large", fmt.Sprintf("The sheet has more than %d cells.", MostCells),
				"Bring it in by parts.").At(sheet)
		}
		if len(record) == 0 {
			continue
		}
		for i := range record {
			record[i] = tidyNumber(record[i])
			text += len(record[i])
		}
		if text > mostText {
			return nil, problem.New("too-large", fmt.Sprintf("The sheet holds more than %d MB of text.", mostText>>20),
				"Bring it in by parts.").At(sheet)
		}
		for len(record) > 0 && record[len(record)-1] == "" {
			record = record[:len(record)-1]
		}
		record = slices.Clip(slices.Clone(record)) // cells far to the right leave no room behind
		rows = append(rows, regmap.Row{Line: line, Cells: record})
	}
	if err := it.Error(); err != nil {
		return nil, problem.New("not-a-table", "The sheet cannot be read to its end: "+err.Error()+".",
			"Open the file in a spreadsheet and save it again.").At(sheet)
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
	if err := out.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2",
		ActivePane: "bottomLeft"}); err != nil {
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
