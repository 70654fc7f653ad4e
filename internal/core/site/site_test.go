package site

import (
	"encoding/json"
	"errors"
	"reflect"
	"slices"
	"strings"
	"testing"

	_ "ferry/internal/core/family/blocktcp"
	_ "ferry/internal/core/family/modbus"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/layout"
	"ferry/internal/core/problem"
	"ferry/internal/core/value"
)

// tank is a small site with one of everything.
func tank() *Site {
	port := func(host, protocol string) []Port { return []Port{{Line: "net", Host: host, Protocol: protocol}} }
	return &Site{Format: Format, Version: Version, Name: "Tank row A",
		Lines: []Line{{ID: "net", Name: "Plant net", Medium: "ethernet", Network: "192.0.2.0/24"}},
		Devices: []Device{
			{ID: "lss", Name: "LSS controller", Ports: port("192.0.2.10", ""), Points: []Point{}},
			{ID: "do11", Name: "DO probe 11", Ports: port("192.0.2.21", "modbus-tcp"), Map: "modbus-tcp",
				Points: []Point{
					{ID: "o", Name: "Oxygen", Address: block.At("hr", 0), Type: "float32", PaceMs: 1000,
						Access: ReadOnly},
					{ID: "t", Name: "Temp", Address: block.At("hr", 2), Type: "float32", PaceMs: 1000,
						Access: ReadOnly}}},
			{ID: "gate", Name: "Shore gateway", Ports: port("192.0.2.50", "modbus-tcp"), Map: "modbus-tcp",
				Points: []Point{
					{ID: "g", Name: "Oxygen-11", Address: block.At("hr", 100), Type: "int16", PaceMs: 1000,
						Access: ReadWrite}}},
		},
		Links: []Link{{ID: "k1", Asking: "lss", Answering: "do11", Line: "net", Protocol: "modbus-tcp"},
			{ID: "k2", Asking: "lss", Answering: "gate", Line: "net", Protocol: "modbus-tcp"}},
		Crossings: []Crossing{{ID: "x", From: "o", To: "g"}},
	}
}

func edits(kind Kind, id, parent, after string) []Edit {
	return []Edit{{Kind: kind, ID: id, Parent: parent, After: json.RawMessage(after)}}
}

// TestApplyAndInvert: every step leaves the old site as it was, and taking it
// back gives that site again, order included.
func TestApplyAndInvert(t *testing.T) {
	for _, c := range []struct {
		name  string
		edits []Edit
		want  string // the kinds changed
	}{
		{"add a line", edits(KindLine, "n2", "", `{"id":"n2","name":"Pump bay","medium":"ethernet"}`), "line"},
		{"rename a device", edits(KindDevice, "do11", "",
			`{"id":"do11","name":"DO probe 12","map":"modbus-tcp","ports":[{"line":"net","host":"192.0.2.21","protocol":"modbus-tcp"}],"points":null}`), "device"},
		{"the same again", edits(KindPoint, "o", "do11",
			`{"id":"o","name":"Oxygen","address":"hr0","type":"float32","paceMs":1000,"access":"r"}`), ""},
		{"change a point", edits(KindPoint, "o", "do11",
			`{"id":"o","name":"O2","address":"hr8","type":"float32","paceMs":1000,"access":"r"}`), "point"},
		{"remove a point", edits(KindPoint, "o", "do11", `null`), "crossing point"},
		{"remove a device", edits(KindDevice, "do11", "", `null`), "link point crossing point device"},
		{"remove a line", edits(KindLine, "net", "", `null`), "link link device device device line"},
		{"name the site", edits(KindSite, "", "", `{"name":"Skerry Point"}`), "site"},
		{"add a datasheet", edits(KindDatasheet, "sheet", "",
			`{"name":"Optode","map":"modbus-tcp","points":[{"id":"a","name":"Oxygen","address":"hr0","type":"float32","paceMs":1000,"access":"r","useful":true}]}`), "datasheet"},
		{"add a structure", edits(KindStructure, "pump", "",
			`{"name":"Pump","members":[{"name":"Run","type":"bool"},{"name":"Speed","type":"float32","count":2}]}`),
			"structure"},
		{"remember headings", edits(KindHeadings, "h", "", `{"words":["Reg","Tag"],"columns":["address","name"]}`),
			"headings"},
		{"a point with everything", edits(KindPoint, "o", "do11",
			`{"id":"o","name":"Oxygen","address":"hr0","type":"uint16","range":{"rawLow":0,"rawHigh":10,"low":0,"high":1},"powerAt":"hr9","missing":[65535,"NaN"],"names":[{"value":0,"name":"off"}],"low":0,"high":20,"paceMs":1000,"access":"r","from":{"placement":"p","point":"a"}}`), "point"},
		{"a placement", edits(KindDevice, "do11", "",
			`{"id":"do11","name":"DO probe 11","map":"modbus-tcp","namesFor":["mqtt"],"placements":[{"id":"p","datasheet":"gone","shift":-4}],"ports":[{"line":"net","host":"192.0.2.21","protocol":"modbus-tcp"}],"points":null}`), "device"},
		{"remove a crossing", edits(KindCrossing, "x", "", `null`), "crossing"},
	} {
		t.Run(c.name, func(t *testing.T) {
			before := tank()
			next, changes, err := before.Apply(c.edits)
			if err != nil {
				t.Fatal(err)
			}
			if !reflect.DeepEqual(before, tank()) {
				t.Error("the old site was changed")
			}
			var kinds []string
			for _, change := range changes {
				kinds = append(kinds, string(change.Kind))
			}
			if got := strings.Join(kinds, " "); got != c.want {
				t.Errorf("changed %s, want %s", got, c.want)
			}
			back, _, err := next.Apply(Invert(changes))
			if err != nil {
				t.Fatal(err)
			}
			a, _ := json.Marshal(back)
			b, _ := json.Marshal(before)
			if string(a) != string(b) {
				t.Errorf("taken back it is\n%s, and was\n%s", a, b)
			}
		})
	}
}

func TestApplyRefuses(t *testing.T) {
	for _, c := range []struct {
		name, code, where string
		edits             []Edit
	}{
		{"a name twice", "invalid", `device "LSS controller"`,
			edits(KindDevice, "do11", "", `{"name":"LSS controller","ports":[],"points":null}`)},
		{"no name", "invalid", "line", edits(KindLine, "net", "", `{"name":" ","medium":"ethernet"}`)},
		{"a bad network", "invalid", "line",
			edits(KindLine, "net", "", `{"name":"n","medium":"ethernet","network":"192.0.2.0"}`)},
		{"a setting out of range", "invalid", "link",
			edits(KindLink, "k1", "",
				`{"asking":"lss","answering":"do11","line":"net","protocol":"modbus-tcp","settings":{"unit":300}}`)},
		{"an unknown field", "invalid", "line net",
			edits(KindLine, "net", "", `{"name":"n","medium":"ethernet","colour":"red"}`)},
		{"a device that asks itself", "invalid", "link",
			edits(KindLink, "k1", "", `{"asking":"lss","answering":"lss","line":"net","protocol":"modbus-tcp"}`)},
		{"a crossing from nowhere", "invalid", "crossing", edits(KindCrossing, "x", "", `{"from":"nowhere","to":"g"}`)},
		{"an address past the table", "invalid", "Oxygen",
			edits(KindPoint, "o", "do11",
				`{"name":"Oxygen","address":"hr65535","type":"float32","paceMs":1000,"access":"r"}`)},
		{"an empty range", "invalid", "Oxygen",
			edits(KindPoint, "o", "do11",
				`{"name":"Oxygen","address":"hr0","type":"uint16","range":{"rawLow":1,"rawHigh":1,"low":0,"high":1},"paceMs":1000,"access":"r"}`)},
		{"a range and a factor", "invalid", "Oxygen",
			edits(KindPoint, "o", "do11",
				`{"name":"Oxygen","address":"hr0","type":"uint16","factor":2,"range":{"rawLow":0,"rawHigh":1,"low":0,"high":1},"paceMs":1000,"access":"r"}`)},
		{"a power of ten in a coil", "invalid", "Oxygen",
			edits(KindPoint, "o", "do11",
				`{"name":"Oxygen","address":"hr0","type":"uint16","powerAt":"co3","paceMs":1000,"access":"r"}`)},
		{"a byte in the middle of a word", "invalid", "Oxygen",
			edits(KindPoint, "o", "do11",
				`{"name":"Oxygen","address":"hr0.3","type":"uint8","paceMs":1000,"access":"r"}`)},
		{"bits past the word", "invalid", "Oxygen",
			edits(KindPoint, "o", "do11",
				`{"name":"Oxygen","address":"hr0.14","type":"bits","length":4,"paceMs":1000,"access":"r"}`)},
		{"an odd UTF-16", "invalid", "Oxygen",
			edits(KindPoint, "o", "do11",
				`{"name":"Oxygen","address":"hr0","type":"text","length":7,"charset":"utf16","paceMs":1000,"access":"r"}`)},
		{"a port that answers in a map", "invalid", "DO probe 11",
			edits(KindDevice, "do11", "",
				`{"name":"DO probe 11","map":"modbus-tcp","ports":[{"line":"net","protocol":"process-image"}],"points":null}`)},
		{"a datasheet with an id twice", "invalid", "datasheet",
			edits(KindDatasheet, "s", "",
				`{"name":"Optode","map":"modbus-tcp","points":[{"id":"a","name":"A","address":"hr0","type":"uint16","paceMs":0,"access":"r"},{"id":"a","name":"B","address":"hr1","type":"uint16","paceMs":0,"access":"r"}]}`)},
		{"a structure in itself", "invalid", "structure",
			edits(KindStructure, "loop", "", `{"name":"Loop","members":[{"name":"Self","structure":"loop"}]}`)},
		{"a member of no type", "invalid", "structure",
			edits(KindStructure, "s", "", `{"name":"S","members":[{"name":"A","type":"quark"}]}`)},
		{"a layout that nobody knows", "invalid", "DO probe 11",
			edits(KindDevice, "do11", "",
				`{"name":"DO probe 11","map":"modbus-tcp","placements":[{"id":"p","structure":"s","rule":"loose"}],"ports":[{"line":"net","host":"192.0.2.21","protocol":"modbus-tcp"}],"points":null}`)},
		{"a manner that is not known", "invalid", "DO probe 11",
			edits(KindDevice, "do11", "",
				`{"name":"DO probe 11","map":"modbus-tcp","limits":{"manners":["sings"]},"ports":[{"line":"net","host":"192.0.2.21","protocol":"modbus-tcp"}],"points":null}`)},
		{"what is gone", "gone", "zz", edits(KindLink, "zz", "", `null`)},
	} {
		t.Run(c.name, func(t *testing.T) {
			next, _, err := tank().Apply(c.edits)
			var p *problem.Problem
			if next != nil || !errors.As(err, &p) || p.Code != c.code || !strings.Contains(p.Where, c.where) {
				t.Errorf("got %+v", err)
			}
		})
	}
}

func TestDiff(t *testing.T) {
	from, to := tank(), tank()
	to.Name = "Skerry Point"
	to.Lines = append(to.Lines, Line{ID: "n2", Name: "Pump bay", Medium: "ethernet"})
	to.Devices = append(to.Devices[:1:1], to.Devices[2:]...) // DO probe 11 is gone, and what hung on it
	to.Links, to.Crossings = to.Links[1:], []Crossing{}
	to.Datasheets = []Datasheet{{ID: "s", Name: "Optode", Map: "modbus-tcp", Points: []SheetPoint{}}}
	to.Structures = []Structure{{ID: "t", Name: "Pump", Members: []Member{{Name: "Run", Type: "bool"}}}}
	to.Headings = []Headings{{ID: "h", Words: []string{"Reg"}, Columns: []string{"address"}}}
	for _, pair := range [][2]*Site{{from, to}, {to, from}, {from, from}} {
		got, _, err := pair[0].Apply(Diff(pair[0], pair[1]))
		if err != nil {
			t.Fatal(err)
		}
		// The order of what both have is that of the old site.
		if len(got.Devices) != len(pair[1].Devices) || len(got.Links) != len(pair[1].Links) ||
			len(Diff(got, pair[1])) == 0 {
			t.Errorf("got %+v", got)
		}
		if _, changes, err := got.Apply(Diff(got, pair[1])); err != nil || len(changes) != 0 {
			t.Errorf("a second time there are still changes: %+v, %v", changes, err)
		}
	}
}

// TestShown: values are shown with their names, and names can be typed.
func TestShown(t *testing.T) {
	decimals := 2
	mode := Point{Type: value.TypeEnum, Names: []Naming{{0, "off"}, {2, "by the clock"}}}
	alarms := Point{Type: value.TypeFlags, Names: []Naming{{0, "low flow"}, {3, "hot"}}}
	plain := Point{Type: value.TypeFloat32, Decimals: &decimals}
	for _, c := range []struct {
		p    *Point
		v    value.Value
		want string
	}{
		{&mode, value.OfUint(2), "2 · by the clock"}, {&mode, value.OfUint(7), "7"},
		{&alarms, value.OfUint(9), "low flow, hot"}, {&alarms, value.OfUint(16), "bit 4"},
		{&alarms, value.OfUint(0), "none"},
		{&plain, value.OfFloat(8.456), "8.46"}, {&plain, value.OfText("A"), "A"},
	} {
		if got := c.p.Shown(c.v); got != c.want {
			t.Errorf("%v is shown as %q, want %q", c.v, got, c.want)
		}
	}
	for _, c := range []struct {
		p    *Point
		text string
		want value.Value
	}{
		{&mode, "By the clock", value.OfInt(2)}, {&mode, "1", value.OfInt(1)},
		{&mode, "2 · by the clock", value.OfInt(2)}, {&mode, "0 = Off", value.OfInt(0)}, {&mode, "2 · off", value.Value{}},
		{&mode, "0off", value.Value{}},
		{&alarms, "hot, low flow", value.OfUint(9)}, {&alarms, "4", value.OfInt(4)}, {&mode, "maybe", value.Value{}},
	} {
		if got, err := c.p.ParseValue(c.text); got != c.want || (err != nil) != c.want.IsNone() {
			t.Errorf("%q reads as %v, %v", c.text, got, err)
		}
	}
}

// TestLay: a structure in registers and in bytes.
func TestLay(t *testing.T) {
	s := &Site{Structures: []Structure{{ID: "v", Name: "Valve",
		Members: []Member{{Name: "Open", Type: "bool"}, {Name: "Travel", Type: "uint16"}}}}}
	row := &Structure{ID: "r", Name: "Row",
		Members: []Member{{Name: "V", Structure: "v", Count: 2, First: 1},
			{Name: "Spare", Type: "uint32", Reserve: true}, {Name: "Mode", Type: "uint8"}}}
	for _, c := range []struct {
		rule  layout.Rule
		start address.Address
		want  string
	}{
		{layout.Registers, block.At("hr", 10),
			"V[1].Open hr10.0 V[1].Travel hr11 V[2].Open hr12.0 V[2].Travel hr13 Mode hr16.8"},
		{layout.Words, block.At("db7", 10),
			"V[1].Open db7:10.0 V[1].Travel db7:12 V[2].Open db7:14.0 V[2].Travel db7:16 Mode db7:22"},
	} {
		unitBits := map[string]int{"hr": 16, "db7": 8}[block.Of(c.start).Area]
		points, err := s.Lay(row, c.rule, c.start, unitBits)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for i := range points {
			got = append(got, points[i].Name+" "+points[i].Address.String())
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: %s, want %s", c.rule, strings.Join(got, " "), c.want)
		}
	}
}

// TestSameReading changes each field of a point in turn: a value goes on
// counting only where what changed is the name or the judgement of it.
func TestSameReading(t *testing.T) {
	judged := []string{"ID", "Name", "Unit", "Remark", "From", "PaceMs", "Access", "Decimals", "Low", "High",
		"ChangeMs", "Band", "Told", "Names"}
	fields := reflect.TypeFor[Point]()
	for i := range fields.NumField() {
		var p, q Point
		v := reflect.ValueOf(&q).Elem().Field(i)
		switch v.Kind() {
		case reflect.Pointer:
			v.Set(reflect.New(v.Type().Elem()))
		case reflect.Slice:
			v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		case reflect.String:
			v.SetString("x")
		case reflect.Int:
			v.SetInt(1)
		case reflect.Float64:
			v.SetFloat(1)
		case reflect.Struct:
			v.Set(reflect.ValueOf(block.At("hr", 1)))
		default:
			t.Fatalf("a field of kind %v", v.Kind())
		}
		name := fields.Field(i).Name
		if same := p.SameReading(&q); same != slices.Contains(judged, name) || !q.SameReading(&q) {
			t.Errorf("%s differs: the same reading %v", name, same)
		}
	}
	p, q := Point{Range: &value.Range{RawHigh: 1}}, Point{Range: &value.Range{RawHigh: 1}}
	if !p.SameReading(&q) {
		t.Error("the same range is another")
	}
}
