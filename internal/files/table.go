package files

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"ferry/internal/core/charset"
	"ferry/internal/core/problem"
	"ferry/internal/core/regmap"
)

// MostCells bounds a table that is read, against files that were made to fill
// the memory.
const MostCells = 2_000_000

// ReadTable reads a table of text: RFC 4180 with commas, or with semicolons or
// tabs as spreadsheets write and copy it, in any set of characters that charset
// knows, with any line ends.
func ReadTable(data []byte) ([]regmap.Row, error) {
	data = []byte(charset.Text(data))
	if bytes.IndexByte(data, 0) >= 0 {
		return nil, problem.New("not-a-table", "The file is not a table of text.",
			"Save it from the spreadsheet as CSV.")
	}
	data = bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n"))
	data = bytes.ReplaceAll(data, []byte("\r"), []byte("\n"))
	data = spaced.ReplaceAll(data, []byte("${1}"+inside+"${2}"))
	r := csv.NewReader(bytes.NewReader(data))
	r.Comma = separator(data)
	r.FieldsPerRecord = -1
	r.LazyQuotes = true
	rows, cells := []regmap.Row{}, 0
	for {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			return rows, nil
		}
		if err != nil {
			return nil, problem.New("not-a-table", err.Error()+".", "A quote may be open to the end of the file.")
		}
		line, _ := r.FieldPos(0)
		if r.Comma == '|' {
			if record = drawn(record); record == nil {
				continue
			}
		}
		for i := range record {
			record[i] = unguard(strings.ReplaceAll(record[i], inside, ";"))
		}
		if cells += len(record); cells > MostCells {
			return nil, problem.New("too-large", fmt.Sprintf("The table has more than %d cells.", MostCells),
				"Bring it in by parts.").At(fmt.Sprintf("line %d", line))
		}
		rows = append(rows, regmap.Row{Line: line, Cells: record})
	}
}

// spaced finds names that stand in a space of names, whose semicolon separates no cells (OPC
// 10000-6, clause 5.3.1.10); inside stands for it while a table is split.
var spaced = regexp.MustCompile(`\b(nsu=[^;\n"]+|ns=[0-9]+);([isgb]=)`)

const inside = "\x1F"

// separator takes the one that splits the most of the first lines alike; titles
// above a table hold none. A comma is the last choice: it stands in numbers too.
func separator(data []byte) rune {
	lines := strings.SplitN(string(data[:min(len(data), 8192)]), "\n", 24)
	if len(lines) > 1 {
		lines = lines[:len(lines)-1] // the last may be cut short
	}
	best, most := ',', 0
	for _, c := range "\t;|," {
		alike := map[int]int{}
		for _, line := range lines {
			if n := outsideQuotes(line, c); n > 0 {
				if alike[n]++; alike[n] > most {
					best, most = c, alike[n]
				}
			}
		}
	}
	return best
}

// drawn takes the cells of a line of a table that is drawn with strokes: those at
// its ends have no cell beyond them, and a line of dashes is none.
func drawn(cells []string) []string {
	dashes := true
	for i := range cells {
		cells[i] = strings.TrimSpace(cells[i])
		dashes = dashes && strings.Trim(cells[i], "-:=+") == ""
	}
	if dashes {
		return nil
	}
	if len(cells) > 2 && cells[0] == "" && cells[len(cells)-1] == "" {
		return cells[1 : len(cells)-1]
	}
	return cells
}

func outsideQuotes(line string, c rune) (n int) {
	quoted := false
	for _, r := range line {
		switch r {
		case '"':
			quoted = !quoted
		case c:
			if !quoted {
				n++
			}
		}
	}
	return n
}

// guard keeps a spreadsheet from taking a text for a formula: such a text gets
// an apostrophe in front, which spreadsheets show as nothing. What spreadsheets
// skip in front of a formula (blanks, line ends, marks without a width) and what
// they take for its signs (the full-width ones) counts too.
func guard(cell string) string {
	rest := strings.TrimLeftFunc(cell,
		func(r rune) bool { return unicode.IsSpace(r) || unicode.IsControl(r) || unicode.Is(unicode.Cf, r) })
	if cell == "" || cell[0] != '\'' && !strings.ContainsRune("\t\r\n", rune(cell[0])) && !strings.HasPrefix(rest,
		"'") {
		first, _ := utf8.DecodeRuneInString(rest)
		if rest == "" || !strings.ContainsRune("=+-@\uFF1D\uFF0B\uFF0D\uFF20", first) {
			return cell
		}
	}
	if _, err := strconv.ParseFloat(cell, 64); err == nil {
		return cell
	}
	return "'" + cell
}

// unguard is the inverse of guard.
func unguard(cell string) string {
	if len(cell) > 1 && cell[0] == '\'' && guard(cell[1:]) == cell {
		return cell[1:]
	}
	return cell
}

// WriteMaps writes the maps of a site as one RFC 4180 table, with the device in
// front of each row; the notations are those of the first map's protocol.
func WriteMaps(w io.Writer, maps []Map) error {
	out := csv.NewWriter(w)
	out.UseCRLF = true
	maps = slices.Clone(maps)
	for i := range maps {
		maps[i].whole = slices.ContainsFunc(maps, func(m Map) bool { return m.Scheme != maps[0].Scheme })
		if i == 0 {
			if err := out.Write(append([]string{"device"}, maps[0].headings()...)); err != nil {
				return err
			}
		}
		for j := range maps[i].Points {
			record := append([]string{maps[i].Device}, maps[i].cells(&maps[i].Points[j])...)
			for k := range record {
				record[k] = guard(record[k])
			}
			if err := out.Write(record); err != nil {
				return err
			}
		}
	}
	out.Flush()
	return out.Error()
}

// WriteTable writes rows as RFC 4180 CSV in UTF-8. No cell is a formula to a spreadsheet.
func WriteTable(w io.Writer, rows [][]string) error {
	out := csv.NewWriter(w)
	out.UseCRLF = true
	for _, row := range rows {
		guarded := make([]string, len(row))
		for i, cell := range row {
			guarded[i] = guard(cell)
		}
		if err := out.Write(guarded); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// WriteMap writes a map as RFC 4180 CSV in UTF-8: the headings, then one row for
// each point, with the other notations of its address at the end.
func WriteMap(w io.Writer, m *Map) error {
	out := csv.NewWriter(w)
	out.UseCRLF = true
	if err := out.Write(m.headings()); err != nil {
		return err
	}
	for i := range m.Points {
		record := m.cells(&m.Points[i])
		for j := range record {
			record[j] = guard(record[j])
		}
		if err := out.Write(record); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}
