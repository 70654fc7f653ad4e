package files

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"ferry/internal/core/block"
	family "ferry/internal/core/family/modbus"

	"github.com/xuri/excelize/v2"

	"ferry/internal/core/site"
)

// book makes a workbook of sheets with rows.
func book(t *testing.T, sheets map[string][][]any, order ...string) []byte {
	t.Helper()
	f := excelize.NewFile()
	defer f.Close()
	for i, name := range order {
		var err error
		if i == 0 {
			err = f.SetSheetName("Sheet1", name)
		} else {
			_, err = f.NewSheet(name)
		}
		if err != nil {
			t.Fatal(err)
		}
		for r, row := range sheets[name] {
			if err := f.SetSheetRow(name, fmt.Sprintf("A%d", r+1), &row); err != nil {
				t.Fatal(err)
			}
		}
	}
	var b bytes.Buffer
	if err := f.Write(&b); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestReadWorkbook(t *testing.T) {
	data := book(t, map[string][][]any{
		"Cover":     {{"Skerry Point"}},
		"Registers": {{"Reg", "Gain"}, {30001, 0.1}, {}, {"40,003", 1.0 / 3}},
		"Old":       {{"Reg"}, {1}},
	}, "Cover", "Registers", "Old")
	for _, c := range []struct{ sheet, chosen, want string }{
		{"", "Registers", "1:Reg|Gain 2:30001|0.1 4:40,003|0.333333333333333"}, {"Old", "Old", "1:Reg 2:1"},
		{"Cover", "Cover", "1:Skerry Point"},
	} {
		rows, sheets, chosen, err := ReadWorkbook(data, c.sheet, family.Scheme)
		if err != nil || chosen != c.chosen || len(sheets) != 3 {
			t.Fatalf("%q: %v, %s of %v", c.sheet, err, chosen, sheets)
		}
		var got []string
		for _, r := range rows {
			got = append(got, fmt.Sprintf("%d:%s", r.Line, strings.Join(r.Cells, "|")))
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%q reads as %s, want %s", c.sheet, strings.Join(got, " "), c.want)
		}
	}
	for name, bad := range map[string][]byte{"cut short": data[:len(data)/2], "no archive": []byte("PK\x03\x04")} {
		if _, _, _, err := ReadWorkbook(bad, "", family.Scheme); err == nil {
			t.Errorf("%s: it is read", name)
		}
	}
	if _, _, _, err := ReadWorkbook(data, "Gone", family.Scheme); err == nil {
		t.Error("a sheet that is not there is read")
	}
}

// TestWriteWorkbook: devices of one name get sheets of their own, and what
// looks like a formula stays a text.
func TestWriteWorkbook(t *testing.T) {
	point := site.Point{Name: "=1+1", Address: block.At("hr", 0), Type: "uint16", Access: "r", Remark: "@SUM(A1)"}
	long := strings.Repeat("Tank row with a long name ", 3)
	var maps []Map
	for _, name := range []string{"A/B:C", "a-b-c", long, long} {
		maps = append(maps, Map{Device: name, Scheme: family.Scheme, Points: []site.Point{point}})
	}
	var b bytes.Buffer
	if err := WriteWorkbook(&b, maps); err != nil {
		t.Fatal(err)
	}
	f, err := excelize.OpenReader(&b)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	sheets := f.GetSheetList()
	if len(sheets) != 4 || sheets[0] != "A-B-C" || sheets[1] != "a-b-c (2)" || len(sheets[2]) > 31 ||
		sheets[2] == sheets[3] {
		t.Errorf("sheets %q", sheets)
	}
	for _, sheet := range sheets {
		formula, err := f.GetCellFormula(sheet, "A2")
		text, err2 := f.GetCellValue(sheet, "A2")
		if formula != "" || text != "=1+1" || err != nil || err2 != nil {
			t.Errorf("%s: %q, formula %q, %v %v", sheet, text, formula, err, err2)
		}
	}
}

// TestPDFBreaksPages: a long map goes over many pages, a cell longer than a page
// too, and nothing is cut off.
func TestPDFBreaksPages(t *testing.T) {
	m := Map{Device: "Gateway", Scheme: family.Scheme}
	for i := range 300 {
		m.Points = append(m.Points, site.Point{Name: fmt.Sprintf("Point-%03d", i), Address: block.At("hr", uint32(2*i)),
			Type: "float32", Access: "r", Remark: "Ω ‰ ³ → … °C"})
	}
	m.Points[5].Remark = strings.Repeat("a very long remark ", 400)
	var b, empty bytes.Buffer
	if err := WriteMapPDF(&b, &MapSheet{Site: "Skerry Point", Maps: []Map{m}}); err != nil {
		t.Fatal(err)
	}
	if pages := bytes.Count(b.Bytes(), []byte("/Type /Page\n")); pages < 10 || pages > 40 {
		t.Errorf("%d pages", pages)
	}
	if err := WriteMapPDF(&empty, &MapSheet{Site: "Skerry Point"}); err != nil || empty.Len() == 0 {
		t.Errorf("an empty sheet: %v", err)
	}
}
