package bacnet

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// TestPlaces: places are read in every notation, printed in one, and wrong ones are said.
func TestPlaces(t *testing.T) {
	for text, want := range map[string]string{"analog-input:3": "analog-input:3", "AI3": "analog-input:3",
		"ai 3": "analog-input:3",
		"0:3":  "analog-input:3", "Analog Input 3": "analog-input:3", "BV:4194302": "binary-value:4194302",
		"MSV7":                             "multi-state-value:7",
		"analog-value:2.priority-array[8]": "analog-value:2.priority-array[8]",
		"AV2.Priority Array[0]":            "analog-value:2.priority-array[0]",
		"device:4050.object-list":          "device:4050.object-list", "AI3.present-value": "analog-input:3", "150:9.512": "150:9.512",
		"acc1.units": "accumulator:1.units"} {
		p, err := ParsePlace(text)
		if err != nil || p.String() != want {
			t.Errorf("%s: %s, %v", text, p, err)
			continue
		}
		if again, ok := PlaceOf(p.Address()); !ok || again != p {
			t.Errorf("%s: %+v became %+v", text, p, again)
		}
		for _, n := range Scheme.Notations(p.Address()) {
			if again, err := ParsePlace(n.Text); err != nil || again != p {
				t.Errorf("%s as %s: %+v, %v", text, n.Text, again, err)
			}
		}
	}
	for text, want := range map[string]string{"3": "say of which type", "": "a type of object and an instance",
		"XY3":       `no type of object "XY"`,
		"AI4194303": "from 0 to 4194302", "AI3.colour": `no property "colour"`, "AI3.units[": "in brackets",
		"2000:1": "no type of object",
		"AI":     "a type of object and an instance"} {
		if p, err := ParsePlace(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %+v, %v", text, p, err)
		}
	}
	if a, err := Scheme.Parse("7", "analog-value"); err != nil || Scheme.Short(a) != "analog-value:7" {
		t.Errorf("%v, %v", a, err)
	}
	at, _ := Scheme.Parse("AI3", "")
	if err := Scheme.Check(at, value.Shape{Type: value.TypeText}); err == nil {
		t.Error("an analogue input holds a text")
	}
}

// TestUnits: each unit is found by its name, by how people write it, and by its number; small and large
// letters that mean other units do not mix.
func TestUnits(t *testing.T) {
	for n := range units {
		if is, ok := UnitCalled(n.Name()); !ok || is != n {
			t.Errorf("%s is %d, and not %d", n.Name(), is, n)
		}
	}
	for text, want := range map[string]Unit{"°C": 62, "kWh": 19, "mg/L": 215, "mg/l": 215, "m³/h": 135, "m3/h": 135,
		"mW": 132, "MW": 49, "mΩ": 145,
		"MΩ": 123, "V": 5, "mV": 124, "MV": 7, "Hz": 27, "%": 98, "kW": 48, "bar": 55, "mbar": 134, "mS": 202,
		"ms": 159, "S": 173, "s": 73, "S/m": 174, "µS": 190, "": NoUnits, "62": 62,
		"degrees celsius": 62, "MWh": 146, "pH": 234, "kvar": 12, "Mvar": 13, "mm": 30} {
		if is, ok := UnitCalled(text); !ok || is != want {
			t.Errorf("%s is %d (%s), want %d", text, is, is.Name(), want)
		}
	}
	if u, ok := UnitCalled("fish per tank"); ok {
		t.Errorf("fish per tank is %s", u.Name())
	}
	if got := Unit(62).Short() + Unit(25).Short() + NoUnits.Short() +
		Unit(9000).Short(); got != "°Ccycles per hourunit 9000" {
		t.Error(got)
	}
}

func FuzzPlace(f *testing.F) {
	for _, text := range []string{"analog-input:3", "AV2.priority-array[8]", "150:9.512", "device:1"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p, err := ParsePlace(text)
		if err != nil {
			return
		}
		if again, err := ParsePlace(p.String()); err != nil || again != p {
			t.Errorf("%q: %+v became %+v, %v", text, p, again, err)
		}
	})
}

// TestExchange: lists of several layouts, separators and sets of characters are read, what is no object is
// told with its line, and what is written is read back the same.
func TestExchange(t *testing.T) {
	low, high := 4.0, 20.5
	x := Exchange{Project: "Skerry Point Hatchery", Version: "3", Author: "Ines", Changed: "2026-11-27",
		Rows: []ExchangeRow{
			{Key: "M1_P", Device: 4050, Name: "Meter 1 power", Type: AnalogInput, Instance: 1,
				Description: "Active power; all phases", Unit: 48, Reports: true},
			{Key: "SP", Device: 4050, Name: "Setpoint", Type: AnalogValue, Instance: 2, Low: &low, High: &high,
				Settable: true, Unit: 62},
			{Key: "MODE", Device: 4050, Name: "Mode", Type: MultiValue, Instance: 3, Texts: 1, Unit: NoUnits}}}
	text, err := x.Append(nil)
	if err != nil {
		t.Fatal(err)
	}
	again, wrong, err := ReadExchange(text)
	if err != nil || len(wrong) > 0 || again.Project != x.Project || again.Layout != "2.3" || len(again.Rows) != 3 {
		t.Fatalf("%+v, %v, %v", again, wrong, err)
	}
	for i := range x.Rows {
		got := again.Rows[i]
		got.Line = 0
		if (got.Low == nil) != (x.Rows[i].Low == nil) || got.Low != nil && (*got.Low != *x.Rows[i].Low ||
			*got.High != *x.Rows[i].High) {
			t.Errorf("limits of %+v", got)
		}
		got.Low, got.High = x.Rows[i].Low, x.Rows[i].High
		if got != x.Rows[i] {
			t.Errorf("%+v became %+v", x.Rows[i], got)
		}
	}
	for _, c := range []struct {
		name, text  string
		rows        int
		wrong, fail string
	}{
		{"commas, by other headings and an order of its own", "object-name,object-type,# keyname\nx\n", 0, "",
			"no list of objects"},
		{"commas", "#keyname,device obj.-instance,object-name,object-type,object-instance,unit-code\nA,1,Oxygen,0,1,98\nB,1,Pump,BI,2,\n", 2, "", ""},
		{"tabs and Latin letters",
			"#keyname\tdevice obj.-instance\tobject-name\tobject-type\tobject-instance\nA\t1\tZ\xe4hler\t0\t1\n", 1, "",
			""},
		{"a type that is none", "#keyname;device obj.-instance;object-name;object-type;object-instance\nA;1;X;9999;1\n",
			0, `line 2: there is no type of object "9999"`, ""},
		{"an instance that is none",
			"#keyname;device obj.-instance;object-name;object-type;object-instance\nA;1;X;0;5000000\n", 0, "up to 4194302",
			""},
		{"a unit that is none",
			"#keyname;device obj.-instance;object-name;object-type;object-instance;unit-code\nA;1;X;0;1;fish\n", 0,
			`no unit "fish"`, ""},
		{"nothing", "", 0, "", "no list of objects"}, {"a text", "hello\nworld", 0, "", "no list of objects"},
	} {
		x, wrong, err := ReadExchange([]byte(c.text))
		if (err != nil) != (c.fail != "") || err != nil && !strings.Contains(err.Error(), c.fail) {
			t.Errorf("%s: %v", c.name, err)
		}
		if len(x.Rows) != c.rows || c.wrong != "" && (len(wrong) != 1 || !strings.Contains(wrong[0], c.wrong)) {
			t.Errorf("%s: %d rows, %v", c.name, len(x.Rows), wrong)
		}
	}
	if x, _, _ := ReadExchange([]byte("#keyname\tdevice obj.-instance\tobject-name\tobject-type\tobject-instance\nA\t1\tZ\xe4hler\t0\t1\n")); x.Rows[0].Name != "Zähler" {
		t.Errorf("%q", x.Rows[0].Name)
	}
}

func FuzzExchange(f *testing.F) {
	f.Add([]byte("PROJECT_NAME;A\n#keyname;device obj.-instance;object-name;object-type;object-instance\nA;1;X;0;1\n"))
	f.Add([]byte("#keyname,device obj.-instance,object-name,object-type,object-instance,unit-code\nA,1,\"a\nb\",0,1,98\n"))
	f.Add([]byte("#keyname;device obj.-instance;object-name;object-type;object-instance;state-text-reference\nA;1;X;13;1;2\n#Reference Number;Text 1\n2;off;on\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		x, _, err := ReadExchange(data)
		if err != nil {
			return
		}
		text, err := x.Append(nil)
		if err != nil {
			t.Fatal(err)
		}
		again, wrong, err := ReadExchange(text)
		if err != nil || len(wrong) > 0 && len(x.Rows) > 0 || len(again.Rows) > len(x.Rows) {
			t.Fatalf("%d became %d rows, %v, %v", len(x.Rows), len(again.Rows), wrong, err)
		}
	})
}

// TestDescribe: objects go out as a list, and come back as what they were; what has no value is left out, and
// said.
func TestDescribe(t *testing.T) {
	low, high := 0.0, 100.0
	held := []protocol.Held{
		{Address: Place{Type: AnalogInput, Instance: 101, Property: PresentValue, Index: -1}.Address(),
			Name: "Meter 1 Power; total", Unit: "kW", Remark: "of the hall",
			Low: &low, High: &high, Source: "Meter 1 30013", Shape: value.Shape{Type: value.TypeFloat32, Bit: -1}},
		{Address: Place{Type: BinaryValue, Instance: 2, Property: PresentValue, Index: -1}.Address(), Name: "Fan",
			Writable: true,
			Names:    map[int]string{0: "idle", 1: "runs"}, Shape: value.Shape{Type: value.TypeBool, Bit: -1}}}
	data := rules{}.DescribeOut(protocol.Whose{Site: "Skerry Point", Name: "Energy gateway",
		Settings: protocol.Settings{KeyDevice: protocol.OfInt(4050)}}, held,
		time.Date(2026, 11, 28, 8, 0, 0, 0, time.UTC))
	if !(rules{}).Described(data) || !strings.Contains(string(data), "Meter 1 30013") ||
		!strings.Contains(string(data), "4050;Energy gateway;8;4050") {
		t.Errorf("%s", data)
	}
	data = append(data, "night;4050;Night;17;1;;;;;N;N;;;;;;\nmode;4050;Mode;19;3;;;;;Y;N;;;4;;;\n"...)
	back, unread, err := rules{}.Describe(data)
	if err != nil || len(back) != 3 || back[2].Remark != "its states are row 4 of the list of state texts" ||
		len(unread) != 1 || unread[0].What != "Night" || unread[0].Line == 0 {
		t.Fatalf("%+v, %+v, %v", back, unread, err)
	}
	if h := back[0]; h.Name != held[0].Name || h.Address != held[0].Address || h.Unit != "kW" || *h.High != 100 ||
		h.Writable {
		t.Errorf("%+v", h)
	}
	if h := back[1]; !h.Writable || h.Remark != "0 idle; 1 runs, its states are row 1 of the list of state texts" ||
		h.Shape.Type != value.TypeBool {
		t.Errorf("%+v", h)
	}
}

// TestStateTexts: the names of states go out as a table of their own, one row for all objects that have the same, and
// come back joined to the list, in front or behind, with separators of their own.
func TestStateTexts(t *testing.T) {
	held := func(kind Type, instance uint32, names map[int]string) protocol.Held {
		return protocol.Held{Address: Place{Type: kind, Instance: instance, Property: PresentValue,
			Index: -1}.Address(), Name: fmt.Sprint("Object ", instance), Names: names,
			Shape: value.Shape{Type: kind.Holds(), Bit: -1}}
	}
	whose := protocol.Whose{Site: "Skerry Point", Name: "Energy gateway"}
	tariffs := map[int]string{1: "day", 2: "night", 3: "Wochenende; früh"}
	list := []protocol.Held{held(MultiInput, 1, tariffs), held(BinaryInput, 2, map[int]string{0: "idle", 1: "runs"}),
		held(MultiInput, 3, tariffs), held(MultiInput, 4, map[int]string{1: "a", 3: "c"}), held(AnalogInput, 5, nil)}
	objects, states := rules{}.DescribeOut(whose, list, time.Now()), rules{}.BesideOut(whose, list)
	const want = "# State Text Reference\n# Reference Number;Text 1 or Inactive-Text;Text 2 or Active-Text;Text 3\n1;day;night;\"Wochenende; früh\"\n2;idle;runs;\n"
	if string(states) != want {
		t.Errorf("%s", states)
	}
	tabs := strings.NewReplacer("\"Wochenende; früh\"", "Wochenende, fr\xfch", ";", "\t").Replace(want)
	for name, c := range map[string]struct {
		file  string
		third string
	}{
		"behind":   {string(objects) + "\n" + string(states), "Wochenende; früh"},
		"in front": {string(states) + string(objects), "Wochenende; früh"},
		"by tabs":  {string(objects) + tabs, "Wochenende, früh"},
	} {
		back, unread, err := rules{}.Describe([]byte(c.file))
		if err != nil || len(unread) > 0 || len(back) != 5 {
			t.Fatalf("%s: %v, %v, %d objects", name, err, unread, len(back))
		}
		if !(rules{}).Described([]byte(c.file)) {
			t.Errorf("%s: it is not known for what it is", name)
		}
		if n := back[2].Names; n[1] != "day" || n[3] != c.third || len(n) != 3 || back[1].Names[1] != "runs" ||
			back[1].Names[0] != "idle" || len(back[3].Names) > 0 {
			t.Errorf("%s: %v %v %v", name, back[1].Names, n, back[3].Names)
		}
	}
	if _, _, err := (rules{}).Describe(states); err == nil {
		t.Error("states alone are no objects")
	}
}
