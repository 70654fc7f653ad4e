package files

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"testing"

	"ferry/internal/core/block"
	"ferry/internal/core/family/blocktcp"
	family "ferry/internal/core/family/modbus"
	"ferry/internal/core/family/opcua"

	"ferry/internal/bench"
	"ferry/internal/core/address"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// TestNodesInTables: a name that holds a semicolon is one cell, whatever separates the cells.
func TestNodesInTables(t *testing.T) {
	const node, other = "nsu=urn:skerry:hall;s=Tank.Oxygen", "ns=2;i=4711"
	for _, sep := range []string{";", ",", "\t", ""} {
		text := node + "\n" + other + "\n"
		want := "[" + node + "] [" + other + "]"
		if sep != "" {
			text = strings.Join([]string{"Name", "Node", "Type"}, sep) + "\n" +
				strings.Join([]string{"Oxygen", node, "Float"}, sep) +
				"\n" + strings.Join([]string{"Count", other, "UInt32"}, sep) + "\n"
			want = "[Name|Node|Type] [Oxygen|" + node + "|Float] [Count|" + other + "|UInt32]"
		}
		rows, err := ReadTable([]byte(text))
		var got []string
		for _, r := range rows {
			got = append(got, "["+strings.Join(r.Cells, "|")+"]")
		}
		if err != nil || strings.Join(got, " ") != want {
			t.Errorf("%q: %v, %v", sep, got, err)
		}
	}
}

// TestMapsInOneTable: maps of several kinds of addresses have their cells under one heading each.
func TestMapsInOneTable(t *testing.T) {
	node, err := opcua.Scheme.Parse("nsu=urn:skerry:hall;s=Tank.Oxygen", "")
	if err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	if err := WriteMaps(&b, []Map{
		{Device: "Gate", Scheme: family.Scheme,
			Points: []site.Point{{Name: "A", Address: block.At("hr", 0), Type: value.TypeUint16,
				Access: site.ReadOnly, Remark: "of the gate"}}},
		{Device: "Hall", Scheme: opcua.Scheme,
			Points: []site.Point{{Name: "B", Address: node, Type: value.TypeFloat32, Band: 0.5,
				Access: site.ReadOnly, Remark: "of the hall"}}}}); err != nil {
		t.Fatal(err)
	}
	rows, err := ReadTable([]byte(b.String()))
	if err != nil || len(rows) != 3 {
		t.Fatalf("%v, %v", rows, err)
	}
	for i, want := range []map[string]string{{"remark": "of the gate", "band": "", "type": "uint16"},
		{"remark": "of the hall", "band": "0.5", "type": "float32", "access": "r"}} {
		for heading, cell := range want {
			at := slices.Index(rows[0].Cells, heading)
			if at < 0 || at >= len(rows[i+1].Cells) || rows[i+1].Cells[at] != cell {
				t.Errorf("%s is not %q in %v", heading, cell, rows[i+1].Cells)
			}
		}
	}
}

// utf16 is a text of plain characters in UTF-16, with its mark.
func utf16(text string) string {
	coded := "\xFF\xFE"
	for _, r := range text {
		coded += string([]byte{byte(r), byte(r >> 8)})
	}
	return coded
}

func TestReadTable(t *testing.T) {
	const want = "[1:Name|Address|Remark] [2:Oxygen|40001|at the inlet, row A] [3:Temp|40003|°C]"
	for name, text := range map[string]string{
		"commas":                      "Name,Address,Remark\nOxygen,40001,\"at the inlet, row A\"\nTemp,40003,°C\n",
		"semicolons and Windows ends": "Name;Address;Remark\r\nOxygen;40001;at the inlet, row A\r\nTemp;40003;°C\r\n",
		"tabs, as spreadsheets copy":  "Name\tAddress\tRemark\nOxygen\t40001\tat the inlet, row A\nTemp\t40003\t°C",
		"a byte order mark": "\xEF\xBB\xBFName,Address,Remark\nOxygen,40001,\"at the inlet, row " +
			"A\"\nTemp,40003,°C\n",
		"Latin-1":                         "Name;Address;Remark\nOxygen;40001;at the inlet, row A\nTemp;40003;\xB0C\n",
		"UTF-16, as spreadsheets save it": utf16("Name\tAddress\tRemark\r\nOxygen\t40001\tat the inlet, row A\r\nTemp\t40003\t°C\r\n"),
		"drawn with strokes": "| Name | Address | Remark |\n| Oxygen | 40001 | at the inlet, row A |\n| Temp | " +
			"40003 | °C |\n",
		"old line ends": "Name;Address;Remark\rOxygen;40001;at the inlet, row A\rTemp;40003;°C\r",
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
	rows, err := ReadTable([]byte("UV doser, rev. 2\nName;Address;Scale\n---;---;---\nDose;40001;0,1\n"))
	if err != nil || len(rows) != 4 || len(rows[3].Cells) != 3 {
		t.Errorf("a table below a title: %v, %v", rows, err)
	}
	rows, err = ReadTable([]byte("Name | Address\n--- | ---\nDose | 40001\n"))
	if err != nil || len(rows) != 2 || rows[1].Line != 3 || rows[1].Cells[1] != "40001" {
		t.Errorf("a table with a line of dashes: %v, %v", rows, err)
	}
	if _, err := ReadTable([]byte("PK\x03\x04\x00\x00")); err == nil {
		t.Error("a binary file is read as a table")
	}
}

// fullMap is a map with one point of every kind of cell.
func fullMap(t *testing.T) Map {
	t.Helper()
	rows := []string{
		"name;address;type;order;scale;offset;unit;pace;decimals;access;names;missing;low;high;remark",
		"Oxygen;40001;float32;CDAB;;;mg/L;1 s;2;r;;NaN;0;20;=HYPERLINK(1)",
		"Level;40003;int16;;4000…20000 → 0…100 clamped;;%;500 ms;1;r;;0x8000;0;100;'quoted \"twice\"",
		"Energy;40004;uint32;CDAB;÷ 10 × 10^40010;;kWh;1 min;;r;;4294967295;;;",
		"Mode;40006;enum;;;;;5 s;;rw;0 off\\; 1 hand\\; 2 auto;;;;-1 is no mode",
		"Step;40007.4;bits 3;;;;;once;;r;0 idle;;;;",
		"High byte;40008.8;int8;;;;;1 s;;r;;;;;",
		"Lamp;40009.15;bool;;;;;1 s;;rw;;;;;",
		"Flags;40011;flags32;BADC;;;;1 s;;r;0 ready\\; 31 fault;;;;",
		"Label;40020;text 16 utf16 space;BA;;;;once;;rw;;;;;",
		"Serial;40030;text 7 latin1;;;;;once;;r;;;;;+41",
		"Total;40040;base10k 3;;× 2.5;-2.5;m³;1 s;;r;;;;;",
		"Hours;40050;bcd32;;;;h;1 s;;r;;;;;",
		"Since;40060;cp56;;;;;1 s;;r;;;;;",
		"Raw;40070;bytes 5;;;;;1 s;;r;;;;;",
	}
	m := Map{Device: "DO probe 11", Model: "Optode", Protocol: "modbus-tcp", Scheme: family.Scheme}
	var table []regmap.Row
	for i, row := range rows {
		cells := strings.Split(strings.ReplaceAll(row, `\;`, "\x00"), ";")
		for j := range cells {
			cells[j] = strings.ReplaceAll(cells[j], "\x00", ";")
		}
		table = append(table, regmap.Row{Line: i + 1, Cells: cells})
	}
	listing := regmap.Recognise(family.Scheme, table, regmap.Reading{}, nil)
	points, _, rejected := listing.Points(family.Scheme)
	if len(rejected) > 0 {
		t.Fatalf("%+v", rejected)
	}
	m.Points = points
	return m
}

// TestMapRoundTrip: a map comes back from every format as it was handed out,
// and no cell of it can be taken for a formula.
func TestMapRoundTrip(t *testing.T) {
	m := fullMap(t)
	for name, write := range map[string]func(io.Writer) error{
		"csv":  func(w io.Writer) error { return WriteMap(w, &m) },
		"json": func(w io.Writer) error { return WriteMapJSON(w, &m) },
		"xlsx": func(w io.Writer) error { return WriteWorkbook(w, []Map{m}) },
		"xml":  func(w io.Writer) error { return WriteIEC(w, "Skerry Point", "2026-11-23T12:00:00", nil, []Map{m}) },
	} {
		t.Run(name, func(t *testing.T) {
			var b bytes.Buffer
			if err := write(&b); err != nil {
				t.Fatal(err)
			}
			if name == "csv" && strings.Contains(b.String(), ",=") {
				t.Error("it is handed out with a formula")
			}
			source, err := ReadSource(b.Bytes(), Within{}, family.Scheme)
			if err != nil {
				t.Fatal(err)
			}
			listing := regmap.Recognise(family.Scheme, source.Rows, regmap.Reading{}, nil)
			points, _, rejected := listing.Points(family.Scheme)
			if len(rejected) > 0 || len(points) != len(m.Points) {
				t.Fatalf("%d of %d points come back, %+v", len(points), len(m.Points), rejected)
			}
			for i := range points {
				for _, column := range regmap.Columns() {
					if got, want := regmap.Cell(family.Scheme, &points[i], column),
						regmap.Cell(family.Scheme, &m.Points[i], column); got != want {
						t.Errorf("%s of %s comes back as %q, was %q", column, m.Points[i].Name, got, want)
					}
				}
			}
		})
	}
}

// TestMapSheets: both printed forms hold every point; the PDF is well formed.
func TestMapSheets(t *testing.T) {
	m := fullMap(t)
	sheet := &MapSheet{Site: "Skerry Point Hatchery", Printed: "2026-11-23 14:00", Maps: []Map{m}}
	var html, pdf bytes.Buffer
	if err := WriteMapSheet(&html, sheet); err != nil {
		t.Fatal(err)
	}
	for _, p := range m.Points {
		if !strings.Contains(html.String(), "<b>"+p.Name+"</b>") {
			t.Errorf("%s is not on the sheet", p.Name)
		}
	}
	for _, text := range []string{"400001", "hr0", "0x0000", "%MW0", "4000…20000 → 0…100 clamped",
		"0 off; 1 hand; 2 auto"} {
		if !strings.Contains(html.String(), text) {
			t.Errorf("%q is not on the sheet", text)
		}
	}
	if err := WriteMapPDF(&pdf, sheet); err != nil {
		t.Fatal(err)
	}
	if !bytes.HasPrefix(pdf.Bytes(), []byte("%PDF-")) || !bytes.Contains(pdf.Bytes(), []byte("%%EOF")) {
		t.Error("this is no PDF")
	}
}

// TestReadIEC: structures and arrays are taken apart by the layout of the area
// they lie in.
func TestReadIEC(t *testing.T) {
	doc := `<?xml version="1.0"?><Project xmlns="www.iec.ch/public/TC65SC65BWG7TF10" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance"><Types><GlobalNamespace>
<DataTypeDecl name="Mode"><UserDefinedTypeSpec xsi:type="EnumTypeWithNamedValueSpec"><Enumerator name="Off"/><Enumerator name="Auto"><Value><SimpleValue value="4"/></Value></Enumerator></UserDefinedTypeSpec></DataTypeDecl>
<DataTypeDecl name="Tank"><UserDefinedTypeSpec xsi:type="StructTypeSpec"><Member name="Open"><Type><TypeName>BOOL</TypeName></Type></Member><Member name="Level"><Type><TypeName>REAL</TypeName></Type></Member><Member name="Mode"><Type><TypeName>Mode</TypeName></Type></Member></UserDefinedTypeSpec></DataTypeDecl>
</GlobalNamespace></Types><Instances><Configuration name="c"><Resource name="r" resourceTypeName="x"><GlobalVars>
<Variable name="Run"><Documentation>The pump runs</Documentation><Type><TypeName>BOOL</TypeName></Type><Address address="%IX0.3"/></Variable>
<Variable name="Lost"><Type><TypeName>Tank</TypeName></Type><Address address="%Z9"/></Variable><Variable name="Clock"><Type><TypeName>TIME_OF_DAY</TypeName></Type><Address address="%MD90"/></Variable>
<Variable name="Row"><Type><InstantlyDefinedType xsi:type="ArrayTypeSpec"><BaseType><TypeName>Tank</TypeName></BaseType><DimensionSpec dimensionNumber="1"><IndexRange lower="1" upper="2"/></DimensionSpec></InstantlyDefinedType></Type><Address address="%MB10"/></Variable>
</GlobalVars></Resource></Configuration></Instances></Project>`
	source, err := ReadSource([]byte(doc), Within{}, blocktcp.Scheme)
	if err != nil {
		t.Fatal(err)
	}
	listing := regmap.Recognise(blocktcp.Scheme, source.Rows, regmap.Reading{}, nil)
	points, _, rejected := listing.Points(blocktcp.Scheme)
	var got []string
	for i := range points {
		got = append(got, points[i].Name+" "+regmap.Cell(blocktcp.Scheme, &points[i], regmap.Address)+" "+
			regmap.Cell(blocktcp.Scheme, &points[i], regmap.Names))
	}
	want := "Run %IX0.3 |Row[1].Open %MX10.0 |Row[1].Level %MD12 |Row[1].Mode %MW16 0 Off; 4 Auto|Row[2].Open " +
		"%MX18.0 |Row[2].Level %MD20 |Row[2].Mode %MW24 0 Off; 4 Auto"
	var bad []string
	for _, r := range rejected {
		bad = append(bad, r.Column+" "+r.Cell)
	}
	if strings.Join(got, "|") != want || strings.Join(bad, "|") != "address %Z9|type Tank|type TIME_OF_DAY" {
		t.Errorf("got %q\nwant %q\n%+v", strings.Join(got, "|"), want, rejected)
	}
	for _, bad := range []string{"<Project><GlobalVars>", "<html></html>", "<!DOCTYPE x [<!ENTITY a 'b'>]><Project/>"} {
		if _, err := ReadSource([]byte(bad), Within{}, blocktcp.Scheme); err == nil {
			t.Errorf("%q is read", bad)
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
	const golden = "../bench/demo.site.json"
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
	whole, err := os.ReadFile("../bench/demo.site.json")
	if err != nil {
		t.Fatal(err)
	}
	text := string(whole)
	for _, c := range []struct{ name, text, code, where string }{
		{"a newer version", strings.Replace(text, `"version": 1`, `"version": 2`, 1), "newer-version", "version"},
		{"another format", `{"format":"recipe","version":1}`, "not-a-site", "format"},
		{"cut short", text[:len(text)/2], "unreadable", "line "},
		{"two devices of one name", strings.ReplaceAll(text, `"DO probe 12"`, `"DO probe 11"`), "invalid",
			`].name, line `},
		{"a text for a number", strings.Replace(text, `"paceMs": 1000`, `"paceMs": "often"`, 1), "unreadable",
			"].paceMs, line "},
		{"an unknown field", strings.Replace(text, `"remark"`, `"colour"`, 1), "unreadable", "colour, line "},
		{"a bad address", strings.Replace(text, `"hr0"`, `"hr"`, 1), "unreadable", "].address, line "},
		{"a pace that cannot be", strings.Replace(text, `"paceMs": 1000`, `"paceMs": 3`, 1), "invalid",
			"].paceMs, line "},
		{"a host that is none", strings.Replace(text, `"host": "192.0.2.`, `"host": "192.0.2.x`, 1), "invalid",
			".ports[0]"},
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
		takeApart(rows)
	})
}

// takeApart turns rows into points in both kinds of addressing.
func takeApart(rows []regmap.Row) {
	for _, scheme := range []address.Scheme{family.Scheme, blocktcp.Scheme} {
		listing := regmap.Recognise(scheme, rows, regmap.Reading{}, nil)
		listing.Points(scheme)
	}
}

// FuzzReadSource reads whatever claims to be a workbook, a JSON map or an IEC
// 61131-10 document.
func FuzzReadSource(f *testing.F) {
	var book bytes.Buffer
	if err := WriteWorkbook(&book, []Map{{Device: "A", Scheme: family.Scheme,
		Points: []site.Point{{Name: "Oxygen", Address: block.At("hr", 0), Type: "uint16", Access: "r"}}}}); err != nil {
		f.Fatal(err)
	}
	f.Add(book.Bytes())
	f.Add([]byte(`[{"name":"Oxygen","register":40001,"type":"REAL"}]`))
	f.Add([]byte(`{"format":"ferry-map","version":1,"protocol":"modbus-tcp","points":[{"id":"a","name":"x","address":"hr0","type":"uint16","paceMs":1000,"access":"r"}]}`))
	f.Add([]byte(`<Project><Types><DataTypeDecl name="T"><UserDefinedTypeSpec type="StructTypeSpec"><Member name="a"><Type><TypeName>T</TypeName></Type></Member></UserDefinedTypeSpec></DataTypeDecl></Types><GlobalVars><Variable name="v"><Type><TypeName>T</TypeName></Type><Address address="%MW0"/></Variable></GlobalVars></Project>`))
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, scheme := range []address.Scheme{family.Scheme, blocktcp.Scheme} {
			source, err := ReadSource(data, Within{}, scheme)
			if err != nil {
				continue
			}
			takeApart(source.Rows)
		}
	})
}

func FuzzReadSite(f *testing.F) {
	whole, err := os.ReadFile("../bench/demo.site.json")
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

// TestKeptSiteFile: a site file of version 0.9 opens for good, and each point of
// it means what it meant: every cell as that version printed it.
func TestKeptSiteFile(t *testing.T) {
	data, err := os.ReadFile("testdata/kept-0.9.site.json")
	if err != nil {
		t.Fatal(err)
	}
	s, err := ReadSite(data)
	if err != nil {
		t.Fatal(err)
	}
	want, err := os.ReadFile("testdata/kept-0.9.txt")
	if err != nil {
		t.Fatal(err)
	}
	if got := printedSite(s); got != string(want) {
		t.Errorf("it reads as\n%s", got)
	}
}

// printedSite prints what links and points of a site mean, as a person sees it.
func printedSite(s *site.Site) string {
	var b strings.Builder
	for i := range s.Links {
		l := &s.Links[i]
		fmt.Fprintf(&b, "%s: %s asks %s on %s in %s, %v\n", l.ID, l.Asking, l.Answering, l.Line, l.Protocol, l.Settings)
	}
	for i := range s.Devices {
		d := &s.Devices[i]
		scheme, err := protocol.SchemeOf(d.Map)
		for p := range d.Points {
			if err != nil {
				fmt.Fprintf(&b, "%s: %v\n", d.Name, err)
				break
			}
			fmt.Fprintf(&b, "%s:", d.Name)
			for _, column := range regmap.ColumnsFor(family.Scheme) {
				fmt.Fprintf(&b, " %s |", regmap.Cell(scheme, &d.Points[p], column))
			}
			b.WriteByte('\n')
		}
	}
	for i := range s.Crossings {
		fmt.Fprintf(&b, "%s: from %s to %s\n", s.Crossings[i].ID, s.Crossings[i].From, s.Crossings[i].To)
	}
	return b.String()
}
