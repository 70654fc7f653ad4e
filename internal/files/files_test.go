package files

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"

	"ferry/internal/bench"
	"ferry/internal/core/address"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
)

func TestReadTable(t *testing.T) {
	const want = "[1:Name|Address|Remark] [2:Oxygen|40001|at the inlet, row A] [3:Temp|40003|°C]"
	for name, text := range map[string]string{
		"commas":                      "Name,Address,Remark\nOxygen,40001,\"at the inlet, row A\"\nTemp,40003,°C\n",
		"semicolons and Windows ends": "Name;Address;Remark\r\nOxygen;40001;at the inlet, row A\r\nTemp;40003;°C\r\n",
		"tabs, as spreadsheets copy":  "Name\tAddress\tRemark\nOxygen\t40001\tat the inlet, row A\nTemp\t40003\t°C",
		"a byte order mark":           "\xEF\xBB\xBFName,Address,Remark\nOxygen,40001,\"at the inlet, row A\"\nTemp,40003,°C\n",
		"Latin-1":                     "Name;Address;Remark\nOxygen;40001;at the inlet, row A\nTemp;40003;\xB0C\n",
		"old line ends":               "Name;Address;Remark\rOxygen;40001;at the inlet, row A\rTemp;40003;°C\r",
	} {
		rows, err := ReadTable([]byte(text))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		var got []string
		for _, r := range rows {
			got = append(got, fmt.Sprintf("[%d:%s]", r.Line, strings.Join(r.Cells, "|")))
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s reads as %s", name, got)
		}
	}
	if _, err := ReadTable([]byte("PK\x03\x04\x00\x00")); err == nil {
		t.Error("a binary file is read as a table")
	}
}

// TestMapRoundTrip: every map of the demo site comes back as it was handed
// out, and no cell of it can be taken for a formula.
func TestMapRoundTrip(t *testing.T) {
	s := bench.Demo()
	s.Devices[1].Points[0].Remark = "=HYPERLINK(1)"
	s.Devices[1].Points[1].Remark = "'quoted, \"twice\""
	s.Devices[1].Points[1].Offset = -2.5
	for i := range s.Devices {
		d := &s.Devices[i]
		if len(d.Points) == 0 {
			continue
		}
		var b bytes.Buffer
		if err := WriteMap(&b, address.Modbus, d.Points); err != nil {
			t.Fatal(err)
		}
		if strings.Contains(b.String(), ",=") {
			t.Errorf("%s is handed out with a formula", d.Name)
		}
		rows, err := ReadTable(b.Bytes())
		if err != nil {
			t.Fatal(err)
		}
		table := regmap.Recognise(address.Modbus, rows)
		points, _, rejected := table.Points(address.Modbus)
		if len(rejected) > 0 || len(points) != len(d.Points) {
			t.Fatalf("%s: %d of %d points come back, %+v", d.Name, len(points), len(d.Points), rejected)
		}
		for j := range points {
			for _, column := range regmap.Columns() {
				if a, b := regmap.Cell(address.Modbus, &d.Points[j], column), regmap.Cell(address.Modbus, &points[j], column); a != b {
					t.Errorf("%s, %s: %s comes back as %s", d.Name, d.Points[j].Name, a, b)
				}
			}
		}
	}
}

// TestSiteGolden: the demo site is written in its canonical form and comes
// back the same. UPDATE_GOLDEN=1 writes the golden file anew.
func TestSiteGolden(t *testing.T) {
	var b bytes.Buffer
	if err := WriteSite(&b, bench.Demo()); err != nil {
		t.Fatal(err)
	}
	const golden = "testdata/demo.site.json"
	if os.Getenv("UPDATE_GOLDEN") != "" {
		if err := os.WriteFile(golden, b.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(golden)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(b.Bytes(), want) {
		t.Error("the demo site is written otherwise than " + golden)
	}
	s, err := ReadSite(want)
	if err != nil {
		t.Fatal(err)
	}
	var again bytes.Buffer
	if err := WriteSite(&again, s); err != nil || !bytes.Equal(again.Bytes(), want) {
		t.Errorf("it comes back changed, %v", err)
	}
}

func TestReadSiteRefuses(t *testing.T) {
	whole, err := os.ReadFile("testdata/demo.site.json")
	if err != nil {
		t.Fatal(err)
	}
	text := string(whole)
	for _, c := range []struct{ name, text, code, where string }{
		{"a newer version", strings.Replace(text, `"version": 1`, `"version": 2`, 1), "newer-version", "version"},
		{"another format", `{"format":"recipe","version":1}`, "not-a-site", "format"},
		{"cut short", text[:len(text)/2], "unreadable", "line "},
		{"two devices of one name", strings.ReplaceAll(text, `"DO probe 12"`, `"DO probe 11"`), "invalid", `device "DO probe 11"`},
		{"a text for a number", strings.Replace(text, `"paceMs": 1000`, `"paceMs": "often"`, 1), "unreadable", "line "},
		{"an unknown field", strings.Replace(text, `"remark"`, `"colour"`, 1), "unreadable", ""},
		{"a bad address", strings.Replace(text, `"hr0"`, `"hr"`, 1), "unreadable", ""},
		{"nothing", "", "unreadable", "line 1"},
	} {
		_, err := ReadSite([]byte(c.text))
		var p *problem.Problem
		if !errors.As(err, &p) || p.Code != c.code || !strings.Contains(p.Where, c.where) || p.Sentence == "" {
			t.Errorf("%s: %+v", c.name, err)
		}
	}
}

func FuzzReadTable(f *testing.F) {
	f.Add([]byte("Name,Address\nOxygen,40001\n"))
	f.Add([]byte("\xEF\xBB\xBFa;b\r\n\"c;d\"\r\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		rows, err := ReadTable(data)
		if err != nil {
			return
		}
		table := regmap.Recognise(protocol.ModbusTCP.Scheme, rows)
		table.Points(protocol.ModbusTCP.Scheme)
	})
}

func FuzzReadSite(f *testing.F) {
	whole, err := os.ReadFile("testdata/demo.site.json")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(whole)
	f.Add([]byte(`{"format":"ferry-site","version":1,"name":"x","lines":[],"devices":[],"links":[],"crossings":[]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		s, err := ReadSite(data)
		if err != nil {
			return
		}
		var b bytes.Buffer
		if err := WriteSite(&b, s); err != nil {
			t.Fatal(err)
		}
		if _, err := ReadSite(b.Bytes()); err != nil {
			t.Fatalf("what was read and written cannot be read: %v", err)
		}
	})
}
