package files_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"ferry/internal/bench"
	"ferry/internal/core/checkout"
	"ferry/internal/core/handover"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
	"ferry/internal/files"
)

// handed is the pack of a site.
func handed(s *site.Site) *handover.Pack {
	g := checkout.On(s)
	last := map[string]*checkout.Proved{}
	return handover.Make(&handover.Of{Site: s, Plan: timetable.Compile(s), Ground: g, Stops: g.Walk(last), Proofs: last,
		At: time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC), By: "Ines", Mode: "plant"})
}

// TestPackOut: every cell of a pack is in the page and in the workbook, whatever it holds, none
// as a formula; the paper has a page for each section and its contents.
func TestPackOut(t *testing.T) {
	s := bench.Demo()
	s.Name = "=Skerry <b>Point</b>"
	for i := range s.Devices {
		if s.Devices[i].ID == "do11" {
			s.Devices[i].Points[0].Name = "=cmd|' /C calc'!A0"
			s.Devices[i].Points[0].Remark = strings.Repeat("a long remark ", 60) + strings.Repeat("x", 300) + "Ω 水"
		}
	}
	pack := handed(s)
	var page, book, paper bytes.Buffer
	if err := files.WritePackHTML(&page, pack); err != nil {
		t.Fatal(err)
	}
	if err := files.WritePackXLSX(&book, pack); err != nil {
		t.Fatal(err)
	}
	if err := files.WritePackPDF(&paper, pack); err != nil {
		t.Fatal(err)
	}
	if text := page.String(); strings.Contains(text, "<b>Point") || !strings.Contains(text, "=cmd|&#39; /C calc&#39;!A0") {
		t.Error("the page takes a name for markup, or lacks it")
	}
	f, err := excelize.OpenReader(&book)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	cells := map[string]int{}
	for _, sheet := range f.GetSheetList() {
		rows, err := f.GetRows(sheet)
		if err != nil {
			t.Fatal(err)
		}
		for r, row := range rows {
			for c, cell := range row {
				cells[cell]++
				at, _ := excelize.CoordinatesToCellName(c+1, r+1)
				if formula, _ := f.GetCellFormula(sheet, at); formula != "" {
					t.Errorf("%s %s is the formula %q", sheet, at, formula)
				}
			}
		}
	}
	missing := 0
	for _, section := range pack.Sections {
		for _, table := range section.Tables {
			for _, row := range table.Rows {
				for _, cell := range row {
					if cell != "" && cells[cell] == 0 {
						missing++
					}
				}
			}
		}
	}
	if missing > 0 {
		t.Errorf("%d cells are not in the workbook", missing)
	}
	pages := bytes.Count(paper.Bytes(), []byte("/Type /Page\n"))
	if pages < 2+len(pack.Sections) || bytes.Count(paper.Bytes(), []byte("/Dest [")) == 0 &&
		bytes.Count(paper.Bytes(), []byte("/Outlines")) == 0 {
		t.Errorf("%d pages, and no bookmarks", pages)
	}
}

// TestPackBack: a pack comes back as it went out, and what is no pack is refused with its place.
func TestPackBack(t *testing.T) {
	pack := &files.PackFile{Format: files.PackFormat, Version: 1, Site: bench.Demo(),
		Proofs: []checkout.Proved{{Point: "do11-01", Result: checkout.Right, Who: "Ines", AtMs: 1795766400000,
			Mode: "plant"}}}
	out := func() string {
		var b bytes.Buffer
		if err := files.WritePackJSON(&b, pack); err != nil {
			t.Fatal(err)
		}
		return b.String()
	}
	text := out()
	back, err := files.ReadSiteOrPack([]byte(text))
	if err != nil || len(back.Proofs) != 1 || back.Proofs[0].Point != "do11-01" ||
		len(back.Site.Devices) != len(pack.Site.Devices) {
		t.Fatalf("%+v, %v", back, err)
	}
	for name, bad := range map[string]string{
		"newer":              strings.Replace(text, `"version": 1`, `"version": 9`, 1),
		"a proof of nothing": strings.Replace(text, `"point": "do11-01"`, `"point": ""`, 1),
		"an odd result":      strings.Replace(text, `"result": "right"`, `"result": "sure"`, 1),
		"a broken site":      strings.Replace(text, `"modbus-tcp"`, `"no-such"`, 1),
		"cut off":            text[:len(text)/2],
	} {
		if _, err := files.ReadSiteOrPack([]byte(bad)); err == nil {
			t.Errorf("%s is taken", name)
		}
	}
}

// BenchmarkPack hands out a site of 5 000 points, beside printing its maps alone.
func BenchmarkPack(b *testing.B) {
	s := bench.Demo()
	one := s.Device("do11")
	for i := range 280 {
		d := *one
		d.ID, d.Name = fmt.Sprint("more", i), fmt.Sprint("DO probe ", 100+i)
		d.Points = append([]site.Point{}, one.Points...)
		for j := range d.Points {
			d.Points[j].ID = fmt.Sprint(d.ID, "-", j)
		}
		s.Devices = append(s.Devices, d)
	}
	var maps []files.Map
	for i := range s.Devices {
		own, err := files.MapsOf(&s.Devices[i])
		if err != nil {
			b.Fatal(err)
		}
		maps = append(maps, own...)
	}
	pack := handed(s)
	for name, write := range map[string]func(*bytes.Buffer) error{
		"pdf":      func(w *bytes.Buffer) error { return files.WritePackPDF(w, pack) },
		"html":     func(w *bytes.Buffer) error { return files.WritePackHTML(w, pack) },
		"xlsx":     func(w *bytes.Buffer) error { return files.WritePackXLSX(w, pack) },
		"maps pdf": func(w *bytes.Buffer) error { return files.WriteMapPDF(w, &files.MapSheet{Site: s.Name, Maps: maps}) },
	} {
		b.Run(name, func(b *testing.B) {
			b.ReportAllocs()
			size := 0
			for b.Loop() {
				var out bytes.Buffer
				if err := write(&out); err != nil {
					b.Fatal(err)
				}
				size = out.Len()
			}
			b.ReportMetric(float64(size), "octets")
		})
	}
}
