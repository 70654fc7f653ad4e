package files

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/block"
	family "ferry/internal/core/family/modbus"
	_ "ferry/internal/families"

	"ferry/internal/core/layout"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// packed makes a workbook of one sheet out of what its parts repeat.
func packed(t testing.TB, parts map[string]func(io.Writer)) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	all := map[string]func(io.Writer){
		"[Content_Types].xml":        text(`<?xml version="1.0"?><Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"/><Override PartName="/xl/worksheets/sheet1.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"/><Override PartName="/xl/sharedStrings.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sharedStrings+xml"/></Types>`),
		"_rels/.rels":                text(`<?xml version="1.0"?><Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="xl/workbook.xml"/></Relationships>`),
		"xl/workbook.xml":            text(`<?xml version="1.0"?><workbook xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="Map" sheetId="1" r:id="r1"/></sheets></workbook>`),
		"xl/_rels/workbook.xml.rels": text(`<?xml version="1.0"?><Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet" Target="worksheets/sheet1.xml"/><Relationship Id="r2" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/sharedStrings" Target="sharedStrings.xml"/></Relationships>`),
	}
	for name, write := range parts {
		all[name] = write
	}
	for name, write := range all {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		write(w)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func text(s string) func(io.Writer) { return func(w io.Writer) { _, _ = io.WriteString(w, s) } }

func repeated(head, each string, n int, tail string) func(io.Writer) {
	return func(w io.Writer) {
		_, _ = io.WriteString(w, head)
		block := strings.Repeat(each, 1000)
		for range n / 1000 {
			_, _ = io.WriteString(w, block)
		}
		_, _ = io.WriteString(w, tail)
	}
}

const sheetHead = `<?xml version="1.0"?><worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>`

// TestBombs: a file that costs far more than it weighs is refused before it does.
func TestBombs(t *testing.T) {
	long := strings.Repeat("tide", 8000)
	for _, c := range []struct {
		name string
		make func(t testing.TB) []byte
	}{
		{"blank to 140 MB", func(t testing.TB) []byte {
			return packed(t, map[string]func(io.Writer){"xl/worksheets/sheet1.xml": repeated(sheetHead, " ",
				140_000_000, `</sheetData></worksheet>`)})
		}},
		{"millions of cells", func(t testing.TB) []byte {
			return packed(t, map[string]func(io.Writer){"xl/worksheets/sheet1.xml": repeated(sheetHead,
				`<row><c><v>1</v></c></row>`, 2_100_000, `</sheetData></worksheet>`)})
		}},
		{"cells far to the right", func(t testing.TB) []byte {
			return packed(t, map[string]func(io.Writer){"xl/worksheets/sheet1.xml": func(w io.Writer) {
				_, _ = io.WriteString(w, sheetHead)
				for i := range 5_000 {
					fmt.Fprintf(w, `<row r="%d"><c r="XFD%d"><v>1</v></c></row>`, i+1, i+1)
				}
				_, _ = io.WriteString(w, `</sheetData></worksheet>`)
			}})
		}},
		{"one long text in every cell", func(t testing.TB) []byte {
			return packed(t, map[string]func(io.Writer){
				"xl/sharedStrings.xml": text(`<?xml version="1.0"?><sst xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><si><r><t>` + long + `</t></r><r><t>` + long + `</t></r></si></sst>`),
				"xl/worksheets/sheet1.xml": repeated(sheetHead, `<row><c t="s"><v>0</v></c><c t="s"><v>0</v></c></row>`,
					200_000, `</sheetData></worksheet>`)})
		}},
		{"a text just short enough, in every cell", func(t testing.TB) []byte {
			return packed(t, map[string]func(io.Writer){
				"xl/sharedStrings.xml": text(`<?xml version="1.0"?><sst xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><si><r><t>` + long[:4000] + `</t></r><r><t>` + long[:4000] + `</t></r></si></sst>`),
				"xl/worksheets/sheet1.xml": repeated(sheetHead, `<row><c t="s"><v>0</v></c><c t="s"><v>0</v></c></row>`,
					200_000, `</sheetData></worksheet>`)})
		}},
		{"thousands of parts", func(t testing.TB) []byte {
			parts := map[string]func(io.Writer){}
			for i := range 5000 {
				parts[fmt.Sprint("xl/worksheets/extra", i, ".xml")] = text("<a/>")
			}
			return packed(t, parts)
		}},
		{"a document of 30 MB", func(testing.TB) []byte {
			return []byte(`<?xml version="1.0"?><Project>` + strings.Repeat(" ", 30_000_000) + `</Project>`)
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			bomb := c.make(t)
			most, stop := watched()
			began := time.Now()
			_, err := ReadSource(bomb, Within{}, nil)
			stop()
			var p *problem.Problem
			if !errors.As(err, &p) || p.Do == "" {
				t.Errorf("it gives %v", err)
			}
			t.Logf("%.2f MB: refused after %.2f s with %.0f MB more: %v", float64(len(bomb))/1e6,
				time.Since(began).Seconds(), most()/1e6, err)
			if most() > 400e6 {
				t.Errorf("it takes %.0f MB", most()/1e6)
			}
		})
	}
}

// watched returns by how much the heap has grown at most until it is stopped.
func watched() (most func() float64, stop func()) {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	before, peak := m.HeapAlloc, uint64(0)
	done, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for {
			select {
			case <-done:
				return
			case <-time.After(5 * time.Millisecond):
			}
			runtime.ReadMemStats(&m)
			peak = max(peak, m.HeapAlloc)
		}
	}()
	return func() float64 { return max(0, float64(peak)-float64(before)) }, func() { close(done); <-ended }
}

// TestArraysInStructures: a structure with an array in it comes out as XML, once.
func TestArraysInStructures(t *testing.T) {
	structures := []site.Structure{{ID: "pump", Name: "Pump",
		Members: []site.Member{{Name: "Speed", Type: value.TypeUint16, Count: 4, First: 1},
			{Name: "Run", Type: value.TypeBool}}},
		{ID: "row", Name: "Row", Members: []site.Member{{Name: "Pumps", Structure: "pump", Count: 3}}}}
	var b bytes.Buffer
	if err := WriteIEC(&b, "Skerry Point Hatchery", "2026-11-25T12:00:00", structures, nil); err != nil {
		t.Fatal(err)
	}
	if got := b.String(); strings.Count(got, "ArrayTypeSpec") != 2 ||
		!strings.Contains(got, "<TypeName>Pump</TypeName>") || !strings.Contains(got, "<TypeName>UINT</TypeName>") {
		t.Errorf("%s", got)
	}
}

// TestGuardedCells: no cell begins as a formula does, in whatever disguise; numbers
// stay numbers, and every cell comes back as it was.
func TestGuardedCells(t *testing.T) {
	for _, cell := range []string{"=1+1", "+cmd", "-cmd", "@sum", "\t=1", "\r=1", "\n=1", " =1", "\u00a0=1", "\u200b=1",
		"\ufeff=1", "\uff1d1", "\uff0bx", "\uff20x", "'=1", "''", "-", "+"} {
		guarded := guard(cell)
		if guarded == cell || guarded[0] != '\'' {
			t.Errorf("%q goes out as %q", cell, guarded)
		}
		if back := unguard(guarded); back != cell {
			t.Errorf("%q comes back as %q", cell, back)
		}
	}
	for _, cell := range []string{"-12.5", "+3", "-1e9", "12", "Oxygen", "a=b", "", "hr2", "-0", "%MW0", "it's"} {
		if guard(cell) != cell || unguard(cell) != cell {
			t.Errorf("%q goes out as %q", cell, guard(cell))
		}
	}
}

// FuzzGuard: every cell comes back as it was.
func FuzzGuard(f *testing.F) {
	for _, cell := range []string{"=1", "'=1", "''=", " '=", "\u200b'", "-1"} {
		f.Add(cell)
	}
	f.Fuzz(func(t *testing.T, cell string) {
		if back := unguard(guard(cell)); back != cell {
			t.Errorf("%q goes out as %q and comes back as %q", cell, guard(cell), back)
		}
	})
}

// FuzzStructures: structures out of structures, however they are nested, are laid
// out or refused, and come out as XML.
func FuzzStructures(f *testing.F) {
	f.Add([]byte{0, 1, 2, 3, 4, 5, 6, 7, 8})
	f.Add([]byte{9, 9, 9, 9, 200, 200, 200, 200})
	f.Fuzz(func(t *testing.T, data []byte) {
		if len(data) > 60 {
			t.Skip()
		}
		s := site.Site{}
		for i := range 6 {
			s.Structures = append(s.Structures, site.Structure{ID: fmt.Sprint(i), Name: fmt.Sprint("T", i)})
		}
		for i := 0; i+2 < len(data); i += 3 {
			at := &s.Structures[int(data[i])%6]
			m := site.Member{Name: fmt.Sprint("m", i), Count: int(data[i+1]) * int(data[i+1]), Reserve: data[i]%7 == 0}
			if inner := int(data[i+2]) % 12; inner < 6 {
				m.Structure = fmt.Sprint(inner)
			} else {
				m.Type, m.Length = []value.Type{value.TypeBool, value.TypeUint16, value.TypeFloat64, value.TypeText,
					value.TypeBits, value.TypeInt8}[inner-6], 3
			}
			at.Members = append(at.Members, m)
		}
		for i := range s.Structures {
			for _, rule := range []string{"registers", "words", "natural"} {
				_, _ = s.Lay(&s.Structures[i], layout.Rule(rule), block.At("hr", 0), 16) // refused or not
			}
		}
		if err := WriteIEC(io.Discard, "x", "2026-11-25T12:00:00", s.Structures, nil); err != nil {
			t.Error(err)
		}
	})
}

// FuzzWorkbook: whatever an archive holds, it is a table or refused.
func FuzzWorkbook(f *testing.F) {
	f.Add(packed(f, map[string]func(io.Writer){"xl/worksheets/sheet1.xml": text(sheetHead +
		`<row r="1"><c r="A1" t="inlineStr"><is><t>Tag</t></is></c><c r="B1"><v>40001</v></c></row></sheetData></worksheet>`)}))
	f.Add(packed(f, map[string]func(io.Writer){"xl/worksheets/sheet1.xml": text(sheetHead +
		`<row><c t="s"><v>9</v></c></row></sheetData></worksheet>`),
		"xl/sharedStrings.xml": text(`<sst><si><t>a</t></si></sst>`)}))
	f.Fuzz(func(t *testing.T, data []byte) {
		rows, _, _, err := ReadWorkbook(data, "", family.Scheme)
		var p *problem.Problem
		if err != nil && !errors.As(err, &p) {
			t.Errorf("%v", err)
		}
		if err == nil && len(rows) > MostCells {
			t.Errorf("%d rows", len(rows))
		}
	})
}
