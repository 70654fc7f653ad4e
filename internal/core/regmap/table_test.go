package regmap

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ferry/internal/core/block"
	"ferry/internal/core/family/blocktcp"
	family "ferry/internal/core/family/modbus"

	"ferry/internal/core/address"
	"ferry/internal/core/finding"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

func TestParseType(t *testing.T) {
	for text, want := range map[string]string{
		"float32": "float32", "FLOAT": "float32", "REAL": "float32", "LREAL": "float64", "Float 64": "float64",
		"32 bit float": "float32", "IEEE 754": "float32", "double": "float64",
		"U32": "uint32", "u_int32": "uint32", "UINT32": "uint32", "DWORD": "uint32", "unsigned 32": "uint32",
		"32-bit unsigned integer": "uint32", "INT32U": "uint32",
		"INT16U": "uint16", "S16": "int16", "INT": "int16", "SINT": "int8", "Signed Int 16": "int16", "int64": "int64",
		"LWORD": "uint64", "short": "int16", "long": "int32",
		"Bool": "bool", "BIT": "bool", "Bitmap": "flags", "bitmap32": "flags32", "WORD": "uint16", "enum": "enum",
		"enum 32": "enum32", "bits 4": "bits 4", "bitfield 3": "bits 3",
		"BCD": "bcd16", "BCD32": "bcd32", "Mod10k 32": "base10k 2", "modulo 10000 (64 bit)": "base10k 4",
		"STRING[16]": "text 16", "String(8)": "text 8", "char 12": "text 12",
		"text 16 latin1 space": "text 16 latin1 space", "WSTRING 20": "text 20 utf16",
		"timestamp": "unix", "DATE_AND_TIME": "dt", "TIME": "time", "cp56": "cp56", "raw 6": "bytes 6",
		"text": "", "FOO": "", "uint17": "", "bits": "", "bits 17": "", "text 300": "", "float 16": "", "": "",
		"12": "",
	} {
		s, err := parseType(text)
		got := ""
		if err == nil {
			p := site.Point{}
			retype(&p, s)
			got = PrintType(&p)
		}
		if got != want || (err == nil) != (want != "") {
			t.Errorf("%q reads as %q, %v; want %q", text, got, err, want)
		}
	}
}

func TestParsePlace(t *testing.T) {
	for _, c := range []struct {
		text, area string
		one        bool
		want       string
		units      int
	}{
		{"40001", "", false, "hr0", 0}, {"30,001", "", false, "ir0", 0}, {"4x0012", "", false, "hr11", 0},
		{"0x1F", "", false, "hr31", 0}, {"0x1F", "ir", false, "ir31", 0},
		{"40011-40012", "", false, "hr10", 2}, {"40011–40014", "", false, "hr10", 4},
		{"40011/12", "", false, "hr10", 2}, {"40011 to 40012", "", false, "hr10", 2},
		{"100..103", "ir", false, "ir100", 4},
		{"12", "ir", false, "ir12", 0}, {"12", "ir", true, "ir11", 0}, {"40012", "", true, "hr11", 0},
		{"40005.3", "", false, "hr4.3", 0}, {"%MW10", "", false, "hr10", 0},
		{"10240", "hr", false, "hr10240", 0}, {"40003", "hr", false, "hr2", 0},
		{"0", "", true, "", 0}, {"40012-40011", "", false, "", 0}, {"40001-40300", "", false, "", 0},
		{"4o001", "", false, "", 0},
	} {
		a, units, err := ParsePlace(family.Scheme, c.text, c.area, c.one)
		if err != nil {
			a = address.Address{}
		}
		if a.String() != c.want || units != c.units {
			t.Errorf("%q in %q reads as %q, %d units, %v; want %q, %d", c.text, c.area, a, units, err, c.want, c.units)
		}
	}
}

// TestScaleCells: what a scale cell says comes back as it is printed.
func TestScaleCells(t *testing.T) {
	for text, want := range map[string]string{
		"0.1": "÷ 10", "×0.25": "÷ 4", "x 2,5": "× 2.5", "1/100": "÷ 100", "10^-2": "÷ 100", "10^3": "× 1000", "1": "",
		"": "", "-": "",
		"4000..20000 -> 0..100": "4000…20000 → 0…100", "0…65535 → -50…150 clamped": "0…65535 → -50…150 clamped",
		"× 10^40012": "× 10^40012", "0.1 x 10^hr11": "÷ 10 × 10^40012",
		"ten": "!", "0": "!", "4000..20000 -> 5..5": "!", "2 × 10^3": "!", "10^40": "!",
	} {
		p := site.Point{Name: "Level", Address: block.At("hr", 0), Type: value.TypeInt16, Access: site.ReadOnly}
		err := SetCell(family.Scheme, &p, Scale, text)
		got := Cell(family.Scheme, &p, Scale)
		if err != nil {
			got = "!"
		}
		if got != want {
			t.Errorf("%q is kept as %q, %v; want %q", text, got, err, want)
		}
		if again := p; err == nil && (SetCell(family.Scheme, &again, Scale, got) != nil ||
			Cell(family.Scheme, &again, Scale) != got) {
			t.Errorf("%q does not come back", got)
		}
	}
	p := site.Point{Name: "Mode", Address: block.At("hr", 0), Type: value.TypeInt16, Access: site.ReadOnly}
	for column, texts := range map[Column][2]string{
		Names: {"0=off, 1: hand,2 auto", "0 off; 1 hand; 2 auto"}, Missing: {"0x8000 32767", "-32768; 32767"},
		Low: {"-1,5", "-1.5"},
	} {
		if err := SetCell(family.Scheme, &p, column, texts[0]); err != nil ||
			Cell(family.Scheme, &p, column) != texts[1] {
			t.Errorf("%s %q is kept as %q, %v", column, texts[0], Cell(family.Scheme, &p, column), err)
		}
	}
	for column, text := range map[Column]string{Names: "off", Missing: "none", Low: "low"} {
		if err := SetCell(family.Scheme, &p, column, text); err == nil {
			t.Errorf("%s %q is kept", column, text)
		}
	}
}

// TestRecogniseOtherWords: a list in other words, under a title, with columns
// that only their content tells.
func TestRecogniseOtherWords(t *testing.T) {
	list := Recognise(family.Scheme, rows("Skerry Point,,,,,,,\nRegister "+
		"list,,,,,,,\nFunction,Reg,Bit,Parameter,,Divisor,EU,R/W\n03,1,,Oxygen,U32,10,mg/L,R\n03,3,16,Alarm,BOOL,,,RO\n03,3,1-4,Step,UINT,,,RO\n4,7,,Level,INT,100,m,R\nCoil,2,,Valve,BOOL,,,R/W"),
		Reading{FromOne: true}, nil)
	if got := fmt.Sprint(list.Columns); got != "[table address bit name type divisor unit access]" {
		t.Fatalf("columns %s", got)
	}
	if list.Bases[4] != ByContent || !list.Reading.BitFromOne || list.Reading.HeaderRow != 3 {
		t.Errorf("bases %v, reading %+v", list.Bases, list.Reading)
	}
	points, _, rejected := list.Points(family.Scheme)
	var got []string
	for i := range points {
		p := &points[i]
		got = append(got, fmt.Sprintf("%s %s %s %s %s", p.Name, p.Address, PrintType(p), Cell(family.Scheme, p, Scale),
			p.Access))
	}
	want := "Oxygen hr0 uint32 ÷ 10 r|Alarm hr2.15 bool  r|Step hr2.0 bits 4  r|Level ir6 int16 ÷ 100 r|Valve " +
		"co1 bool  rw"
	if strings.Join(got, "|") != want || len(rejected) > 0 {
		t.Errorf("got  %s\nwant %s\n%+v", strings.Join(got, "|"), want, rejected)
	}

	// Remembered, the same headings are read as a person corrected them.
	known := []site.Headings{{ID: "h", Words: []string{"A", "B", "C"}, Columns: []string{"address", "", "name"}}}
	again := Recognise(family.Scheme, rows("A,B,C\n40001,x,Oxygen"), Reading{}, known)
	if fmt.Sprint(again.Columns) != "[address  name]" || again.Bases[0] != ByMemory {
		t.Errorf("remembered as %v by %v", again.Columns, again.Bases)
	}

	// The count of registers says how wide a plain word is, or contradicts it.
	counted := Recognise(family.Scheme,
		rows("Name,Address,Type,Size\nA,40001,INT,2\nB,40003-40006,FLOAT,\nC,40010,ASCII,4\nD,40020,U32,1"), Reading{},
		nil)
	points, _, rejected = counted.Points(family.Scheme)
	if len(points) != 3 || points[0].Type != value.TypeInt32 || points[1].Type != value.TypeFloat64 ||
		PrintType(&points[2]) != "text 8" || len(rejected) != 1 ||
		!strings.Contains(rejected[0].Reason, "one of the two is wrong") {
		t.Errorf("%+v, %+v", points, rejected)
	}
}

func TestMerge(t *testing.T) {
	point := func(id, name string, offset uint32) site.Point {
		return site.Point{ID: id, Name: name, Address: block.At("hr", offset), Type: value.TypeUint16, PaceMs: 5000,
			Unit: "mg/L", Access: site.ReadOnly}
	}
	old := []site.Point{point("a", "Oxygen", 0), point("b", "Level", 1), point("c", "Old name", 2),
		point("d", "Gone", 3)}
	list := Recognise(family.Scheme,
		rows("Name,Address,Unit\nOxygen,40001,mg/L\nLevel,40002,%\nNew name,40003,mg/L\nExtra,40010,V"), Reading{}, nil)
	points, _, _ := list.Points(family.Scheme)
	m := Merge(family.Scheme, old, points, list.Columns)
	if got := fmt.Sprint(m.Effects); got != "[same changed changed added]" {
		t.Errorf("effects %s", got)
	}
	if fmt.Sprint(m.Changed) != "[[] [unit] [name] []]" || m.Points[2].ID != "c" || m.Points[1].PaceMs != 5000 {
		t.Errorf("changed %v, points %+v", m.Changed, m.Points)
	}
	if len(m.Removed) != 1 || m.Removed[0].ID != "d" {
		t.Errorf("removed %+v", m.Removed)
	}
}

func TestBulk(t *testing.T) {
	var points []*site.Point
	for i := range 4 {
		points = append(points, &site.Point{ID: fmt.Sprint(i), Name: "Tank-09", Address: block.At("hr", 10),
			Type: value.TypeFloat32, Access: site.ReadOnly})
	}
	will := func(column Column, step int) string {
		cells, err := FillDown(family.Scheme, points, column, step)
		var got []string
		for _, c := range cells {
			got = append(got, c.Will)
		}
		if err != nil {
			return err.Error()
		}
		return strings.Join(got, " ")
	}
	if got := will(Name, 0); got != "Tank-10 Tank-11 Tank-12" {
		t.Errorf("names count on as %s", got)
	}
	if got := will(Address, 0); got != "40013 40015 40017" {
		t.Errorf("addresses go on as %s", got)
	}
	if got := will(Address, 10); got != "40021 40031 40041" {
		t.Errorf("by ten: %s", got)
	}
	points[0].Address, points[0].Type = block.WithBit(points[0].Address, 14), value.TypeBool
	points[1].Type, points[2].Type = value.TypeBool, value.TypeBool
	if got := will(Address, 0); got != "40011.15 40012.0 40012.1" {
		t.Errorf("bits go on as %s", got)
	}
	copies, err := Duplicate(family.Scheme, points[3:], 2, 100, 1)
	if err != nil || len(copies) != 2 || copies[1].Name != "Tank-11" || copies[1].Place().Offset != 210 {
		t.Errorf("copies %+v, %v", copies, err)
	}
	if _, err := Duplicate(family.Scheme, points[3:], 1, 70000, 1); err == nil {
		t.Error("a copy leaves the table")
	}
	cells, err := Replace(family.Scheme, points, []Column{Name, Type}, Search{Find: "tank", With: "Row"})
	if err != nil || len(cells) != 4 || cells[0].Will != "Row-09" {
		t.Errorf("replaced %+v, %v", cells, err)
	}
}

// TestChecks: every check finds its fault, and its fix, applied, removes it.
func TestChecks(t *testing.T) {
	for _, c := range []struct {
		table  string // name, address, type, and further columns by heading
		device site.Device
		code   string
		fixes  int
	}{
		{"Name,Address,Type\nA,40001,uint32\nB,40002,uint16", site.Device{}, "overlap", 2},
		{"Name,Address,Type\nA,40001,uint16\nB,40003,uint16\nC,40004,uint16", site.Device{}, "gaps", 0},
		{"Name,Address,Type\nFlow (high word),40001,uint16\nFlow (low word),40002,uint16", site.Device{}, "halves", 0},
		{"Name,Address,Type\nA,40001.3,bool\nB,40001.2,bits 4", site.Device{}, "bit-twice", 0},
		{"Name,Address,Type\nA,40001.8,uint8\nB,40001,bits 9", site.Device{}, "bit-twice", 0},
		{"Name,Address,Type\nA,40010,uint16", site.Device{Limits: site.Limits{Areas: map[string]uint32{"hr": 9}}},
			"past-device", 1},
		{"Name,Address,Type\nA,40002,float32", site.Device{Limits: site.Limits{EvenPairs: true}}, "odd-pair", 2},
		{"Name,Address,Type,Access\nA,30001,uint16,rw", site.Device{}, "write-to-read-only", 2},
		{"Name,Address,Type\nA,40001,uint16\nA,40002,uint16", site.Device{}, "name-twice", 1},
		{"Name,Address,Type\nWater temp,40001,uint16\nWaterTemp,40002,uint16", site.Device{}, "name-blanks", 1},
		{"Name,Address,Type\nLevelO,40001,uint16\nLevel0,40002,uint16", site.Device{}, "name-look-alike", 1},
		{"Name,Address,Type\nTank 1 °C,40001,uint16", site.Device{NamesFor: []string{"iec61131"}}, "name-far-side", 1},
		{"Name,Address,Type,Unit\nA,40001,uint16,uS/cm", site.Device{}, "unit-spelling", 1},
		{"Name,Address,Type,Unit\nFlow1,40001,uint16,m³/h\nFlow2,40002,uint16,m³/h\nFlow3,40003,uint16,m³/h\nFlow4,40004,uint16,l/s", site.Device{}, "unit-at-odds", 1},
		{"Name,Address,Type,Unit\nWaterTemp,40001,uint16,bar", site.Device{}, "unit-against-name", 0},
		{"Name,Address,Type,Scale,High\nA,40001,int16,0.1,5000", site.Device{}, "limit-unreachable", 1},
		{"Name,Address,Type,Low,High\nA,40001,int16,10,5", site.Device{}, "limits-crossed", 1},
		{"Name,Address,Type,Names\nA,40001,enum,0 off; 1 on; 3 auto", site.Device{}, "name-missing", 1},
		{"Name,Address,Type,Names\nA,40001,flags,16 on", site.Device{}, "name-out-of-range", 0},
		{"Name,Address,Type,Missing\nA,40001,uint16,70000", site.Device{}, "code-out-of-range", 0},
		{"Name,Address,Type,Decimals\nA,40001,uint16,2", site.Device{}, "decimals-of-integer", 2},
	} {
		t.Run(c.code, func(t *testing.T) {
			lines := strings.Split(c.table, "\n")
			var table []Row
			for i, line := range lines {
				cells := strings.Split(line, ",")
				table = append(table, Row{i + 1, cells})
			}
			list := Recognise(family.Scheme, table, Reading{}, nil)
			points, _, rejected := list.Points(family.Scheme)
			if len(rejected) > 0 {
				t.Fatalf("%+v", rejected)
			}
			d := c.device
			d.ID, d.Name, d.Points = "d", "Device", points
			for i := range d.Points {
				d.Points[i].ID = fmt.Sprint(i)
			}
			found := Check(family.Scheme, &d, family.TCP.Most(nil))
			at := slices.IndexFunc(found, func(f finding.Finding) bool { return f.Code == c.code })
			if at < 0 {
				t.Fatalf("not among %+v", found)
			}
			if f := found[at]; len(f.Fixes) != c.fixes || f.Sentence == "" || f.Subject.Column == "" {
				t.Errorf("%+v", f)
			}
			for _, fix := range found[at].Fixes {
				fixed := d
				fixed.Points = slices.Clone(d.Points)
				for _, cell := range fix.Cells {
					i := slices.IndexFunc(fixed.Points, func(p site.Point) bool { return p.ID == cell.Point })
					if err := SetCell(family.Scheme, &fixed.Points[i], Column(cell.Column), cell.Will); err != nil {
						t.Fatalf("%s: %v", fix.Title, err)
					}
				}
				for _, f := range Check(family.Scheme, &fixed, family.TCP.Most(nil)) {
					if f.Code == c.code {
						t.Errorf("%s leaves it: %s", fix.Title, f.Sentence)
					}
				}
			}
		})
	}
}

func TestShifted(t *testing.T) {
	d := &site.Device{ID: "ph", Name: "pH 21", Points: []site.Point{
		{ID: "a", Name: "PH", Address: block.At("ir", 1), Type: value.TypeFloat32, Access: site.ReadOnly},
		{ID: "b", Name: "Redox", Address: block.At("ir", 5), Type: value.TypeInt16, Access: site.ReadOnly}}}
	asked := Edges(family.Scheme, d)
	for _, c := range []struct {
		has  []uint32
		want string // addresses after the fix
	}{
		{[]uint32{0, 1}, "30001 30005"}, {[]uint32{5, 6}, "30003 30007"}, {[]uint32{0, 1, 5}, ""},
		{[]uint32{0, 1, 5, 6}, ""}, {nil, ""},
	} {
		edges := slices.Clone(asked)
		for i := range edges {
			edges[i].Answered = slices.Contains(c.has, edges[i].Offset)
		}
		got := ""
		for _, f := range Shifted(family.Scheme, d, edges) {
			for _, cell := range f.Fixes[0].Cells {
				got = strings.TrimSpace(got + " " + cell.Will)
			}
		}
		if got != c.want {
			t.Errorf("a device that has %v: moved to %q, want %q", c.has, got, c.want)
		}
	}
}

func TestUnnamed(t *testing.T) {
	d := &site.Device{Points: []site.Point{
		{ID: "a", Name: "Mode", Type: value.TypeEnum, Names: []site.Naming{{Value: 0, Name: "off"}}},
		{ID: "b", Name: "Flags", Type: value.TypeFlags, Names: []site.Naming{{Value: 0, Name: "ready"}}}}}
	found := Unnamed(d, func(string) value.Value { return value.OfUint(5) })
	if len(found) != 2 || !strings.Contains(found[0].Sentence, "value 5") ||
		!strings.Contains(found[1].Sentence, "bit 2") {
		t.Errorf("%+v", found)
	}
}

func TestParseWords(t *testing.T) {
	for text, want := range map[string]string{"9F3A 4148": "[40762 16712]", "0x9f3a,0x1": "[40762 1]",
		"9F3A4148": "[40762 16712]", "#-2 #65535": "[65534 65535]", "": "[]", "9F3A4": "!", "xyz": "!", "#70000": "!"} {
		words, err := ParseWords(text)
		got := fmt.Sprint(words)
		if err != nil {
			got = "!"
		}
		if got != want {
			t.Errorf("%q reads as %s, %v", text, got, err)
		}
	}
}

// FuzzCells: whatever is typed into a cell, what is kept is printed so that it
// comes back.
func FuzzCells(f *testing.F) {
	f.Add("type", "text 16 latin1 space")
	f.Add("scale", "4000…20000 → 0…100 clamped")
	f.Add("scale", "÷ 10 × 10^40012")
	f.Add("names", "0 off; 1 on")
	f.Add("missing", "0x8000 NaN")
	f.Add("address", "40005.3")
	f.Fuzz(func(t *testing.T, column, text string) {
		for _, scheme := range []block.Shape{family.Scheme, blocktcp.Scheme} {
			p := site.Point{Name: "A", Address: block.At(scheme.Areas()[0].Key, 4), Type: value.TypeInt16,
				Access: site.ReadOnly}
			if SetCell(scheme, &p, Column(column), text) != nil {
				continue
			}
			printed := Cell(scheme, &p, Column(column))
			again := p
			if printed == "" || Column(column) == Name || Column(column) == Remark || Column(column) == Unit {
				continue
			}
			if err := SetCell(scheme, &again, Column(column), printed); err != nil ||
				Cell(scheme, &again, Column(column)) != printed {
				t.Fatalf("%s %q is kept as %q and comes back as %q, %v", column, text, printed,
					Cell(scheme, &again, Column(column)), err)
			}
		}
	})
}

// TestAnotherColumn: what was found out of one column says nothing of another
// that a person chooses in its place.
func TestAnotherColumn(t *testing.T) {
	rows := []Row{{1, []string{"Name", "Address", "Size (bits)", "Regs", "Scale", "Factor k"}},
		{2, []string{"Flow", "40001", "32", "2", "-2", "0.5"}}, {3, []string{"Level", "40003", "16", "1", "-3", "2"}}}
	l := Recognise(family.Scheme, rows, Reading{}, nil)
	if l.Reading.CountIn != "bits" || !l.Reading.PowerScale {
		t.Fatalf("it is read as %+v", l.Reading)
	}
	l.Columns[2], l.Columns[3], l.Columns[4], l.Columns[5] = "", Count, "", Scale
	l.Settle(family.Scheme)
	points, _, rejected := l.Points(family.Scheme)
	if len(rejected) > 0 || len(points) != 2 || points[0].Type != value.TypeUint32 || points[0].Factor != 0.5 ||
		points[1].Factor != 2 {
		t.Errorf("it is read as %+v: %+v, %+v", l.Reading, points, rejected)
	}
}
