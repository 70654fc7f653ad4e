package regmap

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"ferry/internal/core/block"
	_ "ferry/internal/core/family/blocktcp"
	_ "ferry/internal/core/family/modbus"
	family "ferry/internal/core/family/modbus"

	"ferry/internal/core/address"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

func TestSetCell(t *testing.T) {
	base := site.Point{Name: "Oxygen", Address: block.At("hr", 0), Type: value.TypeFloat32, Order: "CDAB", PaceMs: 1000,
		Access: site.ReadOnly}
	for _, c := range []struct {
		column Column
		text   string
		want   string // the row after it, or the start of the error
	}{
		{Name, " DO 11 ", "DO 11|40001|float32|CDAB||||1 s||r||||||"},
		{Name, " ", "error: a point needs a name"},
		{Address, "0x0A", "Oxygen|40011|float32|CDAB||||1 s||r||||||"},
		{Address, "30005.3", "Oxygen|30005.3|bool|||||1 s||r||||||"},
		{Address, "00001", "Oxygen|00001|bool|||||1 s||r||||||"},
		{Address, "465536", "error: address 465536: the value would run past"},
		{Address, "nowhere", "error: address"},
		{Type, "REAL", "Oxygen|40001|float32|CDAB||||1 s||r||||||"},
		{Type, "uint64", "Oxygen|40001|uint64|GHEFCDAB||||1 s||r||||||"},
		{Type, "text 16", "Oxygen|40001|text 16|||||1 s||r||||||"},
		{Type, "bool", "Oxygen|40001.0|bool|||||1 s||r||||||"},
		{Type, "text", "error: type \"text\": a text needs its length"},
		{Order, "abcd", "Oxygen|40001|float32|ABCD||||1 s||r||||||"},
		{Order, "ABCE", "error: order"},
		{Scale, "/10", "Oxygen|40001|float32|CDAB|÷ 10|||1 s||r||||||"},
		{Scale, "× 2,5", "Oxygen|40001|float32|CDAB|× 2.5|||1 s||r||||||"},
		{Scale, "0", "error: scale"},
		{Pace, "250 ms", "Oxygen|40001|float32|CDAB||||250 ms||r||||||"},
		{Pace, "2min", "Oxygen|40001|float32|CDAB||||2 min||r||||||"},
		{Pace, "once", "Oxygen|40001|float32|CDAB||||once||r||||||"},
		{Pace, "often", "error: pace"},
		{Change, "0.5 s", "Oxygen|40001|float32|CDAB||||1 s||r|||||500 ms|"},
		{Change, "once", "error: fastest change"},
		{Decimals, "13", "error: decimals"},
		{Access, "R/W", "Oxygen|40001|float32|CDAB||||1 s||rw||||||"},
		{Access, "x", "error: access"},
	} {
		p := base
		err := SetCell(family.Scheme, &p, c.column, c.text)
		got := strings.Join(rowOf(&p), "|")
		if err != nil {
			if !reflect.DeepEqual(p, base) {
				t.Errorf("%s = %q failed and changed the point", c.column, c.text)
			}
			got = "error: " + err.Error()
		}
		if got != c.want && !(strings.HasPrefix(c.want, "error") && strings.HasPrefix(got, c.want)) {
			t.Errorf("%s = %q gives\n%s, want\n%s", c.column, c.text, got, c.want)
		}
	}
}

func rowOf(p *site.Point) []string {
	cells := []string{}
	for _, column := range ColumnsFor(family.Scheme) {
		cells = append(cells, Cell(family.Scheme, p, column))
	}
	return cells
}

func rows(text string) (list []Row) {
	for i, line := range strings.Split(text, "\n") {
		list = append(list, Row{i + 1, strings.Split(line, ",")})
	}
	return list
}

func TestTable(t *testing.T) {
	table := Recognise(family.Scheme, rows("Tag,Register,Data "+
		"type,EU,Colour\nOxygen,40001,REAL,mg/L,red\nTemp,4oo03,float32,°C,\n,,,,\nPump,40010,uint17,Hz,\nValve,00001,,,\nLevel,30001,int16,%,,surplus"), Reading{}, nil)
	if got := fmt.Sprint(table.Columns); got != "[name address type unit ]" {
		t.Fatalf("columns are taken as %s", got)
	}
	points, lines, rejected := table.Points(family.Scheme)
	if len(points) != 2 || points[1].Type != value.TypeBool || fmt.Sprint(lines) != "[2 6]" {
		t.Errorf("points %+v from lines %v", points, lines)
	}
	want := []string{"3 Register 4oo03", "5 Data type uint17", "7 column 6 surplus"}
	if len(rejected) != len(want) {
		t.Fatalf("rejected %+v", rejected)
	}
	for i, r := range rejected {
		if got := fmt.Sprintf("%d %s %s", r.Line, r.Column, r.Cell); got != want[i] || r.Reason == "" {
			t.Errorf("rejected %q (%s), want %q", got, r.Reason, want[i])
		}
	}
	if bare := Recognise(family.Scheme, rows("40001,Oxygen\n40003,Temp"), Reading{}, nil); bare.Columns[0] != Address ||
		bare.Columns[1] != Name || len(bare.Rows) != 2 {
		t.Errorf("a table without headings is taken as %+v", bare)
	}
}

func TestCheck(t *testing.T) {
	at := func(name, where string, typ value.Type) site.Point {
		a, err := address.ParseCanonical(where)
		if err != nil {
			t.Fatal(err)
		}
		return site.Point{ID: name, Name: name, Address: a, Type: typ, Length: 8, PaceMs: 1000, Access: site.ReadOnly}
	}
	long := at("Long", "hr0", value.TypeText)
	long.Length = 40
	written := at("Written", "ir0", value.TypeUint16)
	written.Access = site.ReadWrite
	for _, c := range []struct {
		name   string
		points []site.Point
		limits site.Limits
		want   string
	}{
		{"a right map", []site.Point{at("A", "hr0", "uint32"), at("B", "hr2", "uint16"), at("Bit", "hr2.3", "bool")},
			site.Limits{}, ""},
		{"overlap", []site.Point{at("A", "hr0", "uint32"), at("B", "hr1", "uint32")}, site.Limits{},
			"overlap:address:B"},
		{"overlap behind a nested one",
			[]site.Point{at("A", "hr0", "uint64"), at("B", "hr1", "uint16"), at("C", "hr3", "uint16")}, site.Limits{},
			"overlap:address:B overlap:address:C"},
		{"two areas do not overlap", []site.Point{at("A", "hr0", "uint32"), at("B", "ir1", "uint32")}, site.Limits{},
			""},
		{"one address twice", []site.Point{at("A", "hr0", "uint32"), at("B", "hr0", "uint32")}, site.Limits{},
			"address-twice:address:B"},
		{"one bit twice", []site.Point{at("A", "hr0.1", "bool"), at("B", "hr0.1", "bool")}, site.Limits{},
			"bit-twice:address:B"},
		{"names", []site.Point{at("Oxygen", "hr0", "uint16"), at("OXYGEN", "hr1", "uint16")}, site.Limits{},
			"name-case:name:OXYGEN"},
		{"one name twice", []site.Point{at("A", "hr0", "uint16"), at("A", "hr1", "uint16")}, site.Limits{},
			"name-twice:name:A"},
		{"past the device", []site.Point{at("A", "hr9", "uint32")}, site.Limits{Areas: map[string]uint32{"hr": 10}},
			"past-device:address:A"},
		{"longer than a request", []site.Point{long}, site.Limits{MaxRegisters: 16}, "too-long:type:Long"},
		{"written to read-only", []site.Point{written}, site.Limits{}, "write-to-read-only:access:Written"},
		{"no address", []site.Point{{ID: "A", Name: "A", Type: "uint16"}}, site.Limits{}, "no-address:address:A"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var got []string
			for _, f := range Check(family.Scheme,
				&site.Device{Name: "DO probe 11", Points: c.points, Limits: c.limits}, family.TCP.Most(nil)) {
				got = append(got, f.Code+":"+f.Subject.Column+":"+f.Subject.ID)
				if f.Sentence == "" || f.Remedy == "" {
					t.Errorf("%s says nothing", f.Code)
				}
			}
			if strings.Join(got, " ") != c.want {
				t.Errorf("finds %v, want %s", got, c.want)
			}
		})
	}
}

func FuzzTable(f *testing.F) {
	f.Add("name,address,type\nOxygen,40001,float32")
	f.Add("40001,A\n,\n\"")
	f.Fuzz(func(t *testing.T, text string) {
		table := Recognise(family.Scheme, rows(text), Reading{}, nil)
		points, _, _ := table.Points(family.Scheme)
		for i := range points {
			if err := site.CheckPoint(family.Scheme, &points[i]); err != nil {
				t.Fatalf("a row became a point that cannot be kept: %v", err)
			}
			for _, column := range ColumnsFor(family.Scheme) {
				p := points[i]
				if cell := Cell(family.Scheme, &p, column); cell != "" {
					if err := SetCell(family.Scheme, &p, column, cell); err != nil {
						t.Fatalf("cell %s prints %q, which cannot be typed: %v", column, cell, err)
					}
				}
			}
		}
	})
}
