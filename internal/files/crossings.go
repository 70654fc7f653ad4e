package files

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"io"

	"github.com/xuri/excelize/v2"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/crossing"
	"ferry/internal/core/pairing"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// crossingRow is one crossing in a list that is handed out. Its first three columns
// are what pairing by a table reads.
type crossingRow struct {
	From        string `json:"from"`
	To          string `json:"to"`
	Way         string `json:"way"`
	FromAddress string `json:"fromAddress"`
	FromUnit    string `json:"fromUnit,omitempty"`
	ToAddress   string `json:"toAddress"`
	ToType      string `json:"toType"`
	ToUnit      string `json:"toUnit,omitempty"`
	ToScale     string `json:"toScale,omitempty"`
	Remark      string `json:"remark,omitempty"`
}

var crossingHeadings = []string{"From", "To", "Way", "From address", "From unit", "To address", "To type", "To unit",
	"To scale", "Remark"}

func (r *crossingRow) cells() []string {
	return []string{r.From, r.To, r.Way, r.FromAddress, r.FromUnit, r.ToAddress, r.ToType, r.ToUnit, r.ToScale,
		r.Remark}
}

func crossingRows(s *site.Site, crossings []site.Crossing) []crossingRow {
	type end struct {
		name, address string
		point         *site.Point
	}
	ends := map[string]end{}
	for i := range crossings {
		ends[crossings[i].From], ends[crossings[i].To] = end{}, end{}
	}
	for i := range s.Devices {
		d := &s.Devices[i]
		for j := range d.Points {
			p := &d.Points[j]
			if _, wanted := ends[p.ID]; !wanted {
				continue
			}
			e := end{d.Name + " · " + p.Name, p.Address.String(), p}
			if scheme, err := d.SchemeOf(p); err == nil {
				e.address = scheme.Short(p.Address)
				if area, ok := block.AreaOf(scheme, p.Place().Area); ok {
					e.address += ", " + area.Title
				}
			}
			ends[p.ID] = e
		}
	}
	rows := make([]crossingRow, 0, len(crossings))
	for i := range crossings {
		x := &crossings[i]
		from, to := ends[x.From], ends[x.To]
		if x.Beats() {
			from = end{"Ferry's heartbeat", "", &site.Point{}}
		}
		if from.point == nil || to.point == nil {
			continue
		}
		row := crossingRow{From: from.name, To: to.name, Way: crossing.Words(x), FromAddress: from.address,
			FromUnit:  from.point.Unit,
			ToAddress: to.address, ToType: string(to.point.Type), ToUnit: to.point.Unit, Remark: x.Remark}
		if scale := (value.Linear{Factor: to.point.Factor, Offset: to.point.Offset}); !scale.IsIdentity() {
			row.ToScale = crossing.Words(&site.Crossing{Factor: scale.Factor, Offset: scale.Offset})
		}
		rows = append(rows, row)
	}
	return rows
}

// WriteCrossings writes a list of crossings as csv, xlsx or json, for whoever
// programs the other end, and for pairing by a table.
func WriteCrossings(w io.Writer, format string, s *site.Site, crossings []site.Crossing) error {
	rows := crossingRows(s, crossings)
	cells := make([][]string, len(rows))
	for i := range rows {
		cells[i] = rows[i].cells()
	}
	return writeRows(w, format, "Crossings", crossingHeadings, cells, rows)
}

// nameRow is one name of a list that is handed out. Its first four columns are what
// the list takes back from a table.
type nameRow struct {
	Here      string       `json:"here"`
	There     string       `json:"there"`
	Way       string       `json:"way"`
	Goes      pairing.Goes `json:"goes"`
	HereIs    string       `json:"hereIs"` // address
	ThereIs   string       `json:"thereIs"`
	ThereType string       `json:"thereType"`
	Unit      string       `json:"unit,omitempty"` // on the far side
	Remark    string       `json:"remark,omitempty"`
}

var nameHeadings = []string{"Local name", "Far name", "Way", "Direction", "Local address", "Far address", "Far type",
	"Far unit", "Remark"}

// WriteNames writes a list of names as csv, xlsx or json.
func WriteNames(w io.Writer, format string, s *site.Site, l *site.List) error {
	far := s.Device(l.Far)
	theirs := map[string]*site.Point{}
	for i := range far.Points {
		theirs[far.Points[i].ID] = &far.Points[i]
	}
	var crossings []site.Crossing
	for i := range s.Crossings {
		if s.Crossings[i].List == l.ID {
			crossings = append(crossings, s.Crossings[i])
		}
	}
	rows, cells := []nameRow{}, [][]string{}
	for i, r := range crossingRows(s, crossings) {
		x := &crossings[i]
		goes := pairing.GoesOf(x, func(id string) bool { return theirs[id] != nil })
		row := nameRow{Here: r.From, Way: r.Way, Goes: goes, HereIs: r.FromAddress, ThereIs: r.ToAddress, Remark: r.Remark}
		p := theirs[x.To]
		if goes == pairing.FromThere {
			row.Here, row.HereIs, row.ThereIs, p = r.To, r.ToAddress, r.FromAddress, theirs[x.From]
		}
		row.There, row.ThereType, row.Unit = p.Name, string(p.Type), p.Unit
		if scheme, err := far.SchemeOf(p); err == nil && len(block.AreasOf(scheme)) == 0 {
			row.There = scheme.Short(p.Address)
		}
		rows = append(rows, row)
		cells = append(cells, []string{row.Here, row.There, row.Way, string(row.Goes), row.HereIs, row.ThereIs, row.ThereType,
			row.Unit, row.Remark})
	}
	return writeRows(w, format, "Names", nameHeadings, cells, rows)
}

// writeRows writes rows of cells as csv or xlsx, or records as json.
func writeRows(w io.Writer, format, title string, headings []string, rows [][]string, records any) error {
	switch format {
	case "json":
		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		return e.Encode(records)
	case "xlsx":
		return writeBook(w, title, headings, rows)
	}
	if _, err := io.WriteString(w, "\uFEFF"); err != nil {
		return err
	}
	out := csv.NewWriter(w)
	if err := out.Write(headings); err != nil {
		return err
	}
	for _, cells := range rows {
		guarded := make([]string, len(cells))
		for j := range cells {
			guarded[j] = guard(cells[j])
		}
		if err := out.Write(guarded); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

func writeBook(w io.Writer, title string, headings []string, rows [][]string) (err error) {
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
	if err := f.SetSheetName("Sheet1", title); err != nil {
		return err
	}
	out, err := f.NewStreamWriter(title)
	if err != nil {
		return err
	}
	for i := range headings {
		width := 18.0
		if i < 3 {
			width = 34
		}
		if err := out.SetColWidth(i+1, i+1, width); err != nil {
			return err
		}
	}
	write := func(row int, cells []string, style int) error {
		record := make([]any, len(cells))
		for i, cell := range cells {
			record[i] = excelize.Cell{StyleID: style, Value: cell}
		}
		at, err := excelize.CoordinatesToCellName(1, row)
		if err != nil {
			return err
		}
		return out.SetRow(at, record)
	}
	if err := write(1, headings, bold); err != nil {
		return err
	}
	for i := range rows {
		if err := write(i+2, rows[i], 0); err != nil {
			return err
		}
	}
	if err := out.Flush(); err != nil {
		return err
	}
	return f.Write(w)
}

// ReadPlainTable reads the cells of a table of text or of the first sheet of a
// workbook.
func ReadPlainTable(data []byte) ([][]string, error) {
	var rows []regmap.Row
	var err error
	switch {
	case bytes.HasPrefix(data, []byte("PK\x03\x04")):
		var scheme address.Scheme // by which the sheet is chosen that is a list
		if scheme, err = protocol.SchemeOf(protocol.MapOr("")); err == nil {
			rows, _, _, err = ReadWorkbook(data, "", scheme)
		}
	case bytes.HasPrefix(data, []byte("\xD0\xCF\x11\xE0")):
		err = problem.New("not-a-table", "The file is a workbook of the old binary kind, or has a password.",
			"Save it from the spreadsheet as XLSX or CSV.")
	default:
		rows, err = ReadTable(data)
	}
	if err != nil {
		return nil, err
	}
	cells := make([][]string, len(rows))
	for i := range rows {
		cells[i] = rows[i].Cells
	}
	return cells, nil
}
