package mqtt

import (
	"strings"
	"testing"
	"time"

	"ferry/internal/core/value"
)

func TestAddress(t *testing.T) {
	for text, want := range map[string]string{
		"skerry/row-a/do11/oxygen": "skerry/row-a/do11/oxygen", " skerry/do11 $.oxygen.value ": "skerry/do11 $.oxygen.value",
		"skerry/do11$.v": "skerry/do11 $.v", "/": "/", "$SYS/broker/uptime": "$SYS/broker/uptime",
	} {
		a, err := Scheme.Parse(text, "")
		if err != nil || Scheme.Short(a) != want {
			t.Errorf("%q is read as %q, %v", text, Scheme.Short(a), err)
		}
		if err := Scheme.Check(a, value.Shape{Type: value.TypeFloat32}); err != nil {
			t.Errorf("%q: %v", text, err)
		}
	}
	for _, bad := range []string{"", "skerry/#", "skerry/+/oxygen", "a\x00b", "skerry $.", "skerry $.a..b",
		strings.Repeat("x", 70000)} {
		if a, err := Scheme.Parse(bad, ""); err == nil {
			t.Errorf("%.20q is read as %v", bad, a)
		}
	}
}

func TestPayload(t *testing.T) {
	f32, whole, bit, text := value.Shape{Type: "float32"}, value.Shape{Type: "uint64"}, value.Shape{Type: "bool"},
		value.Shape{Type: "text", Length: 20}
	for _, c := range []struct {
		payload, path string
		shape         value.Shape
		want          value.Value
		says          string
	}{
		{"8.42", "", f32, value.OfFloat(8.42), ""},
		{" 18446744073709551615 ", "", whole, value.OfUint(1<<64 - 1), ""},
		{"on", "", bit, value.OfBool(true), ""}, {"0", "", bit, value.OfBool(false), ""},
		{"true", "", bit, value.OfBool(true), ""},
		{"row A", "", text, value.OfText("row A"), ""}, {`"row A"`, "", text, value.OfText(`"row A"`), ""},
		{`{"value":8.42,"quality":"good"}`, "", f32, value.OfFloat(8.42), ""},
		{`{"oxygen":{"v":8.42}}`, "oxygen.v", f32, value.OfFloat(8.42), ""},
		{`{"a":"1.5"}`, "a", f32, value.OfFloat(1.5), ""},
		{"", "", f32, value.Value{}, "empty"}, {"n/a", "", f32, value.Value{}, `"n/a", which is no number`},
		{`{"oxygen":1}`, "", f32, value.Value{}, "name its member"}, {`{"oxygen":1}`, "temp", f32, value.Value{},
			"has no $.temp"},
		{`{"oxygen":1}`, "oxygen.v", f32, value.Value{}, "$.oxygen of the payload is no object"},
		{"8.4", "v", f32, value.Value{}, "is no object"},
		{"x", "v", f32, value.Value{}, "no JSON"}, {`{"v":null}`, "v", f32, value.Value{}, "no value: null"},
		{`{"v":[1]}`, "v", f32, value.Value{}, "an object or a list"},
		{"maybe", "", bit, value.Value{}, "neither on nor off"},
		{`{"v":true}`, "v", f32, value.Value{}, "came as true"},
	} {
		var path []string
		if c.path != "" {
			path = strings.Split(c.path, ".")
		}
		p, err := Read([]byte(c.payload), path, c.shape)
		if p.Value != c.want && err == nil || (err != nil) != (c.says != "") || err != nil &&
			!strings.Contains(err.Error(), c.says) {
			t.Errorf("%q at %q: %v, %v; want %v %s", c.payload, c.path, p.Value, err, c.want, c.says)
		}
	}
	at := time.Date(2026, 11, 26, 6, 30, 0, 250e6, time.UTC)
	whole2 := Payload{Value: value.OfFloat(8.42), Time: at, Quality: value.Good, Unit: "mg/L"}
	data, err := whole2.JSON()
	if want := `{"value":8.42,"time":"2026-11-26T06:30:00.250Z","quality":"good","unit":"mg/L"}`; err != nil ||
		string(data) != want {
		t.Errorf("it is written as %s, %v", data, err)
	}
	if back, err := Read(data, nil, f32); err != nil || back != whole2 {
		t.Errorf("and read as %+v, %v", back, err)
	}
	for v, want := range map[value.Value]string{value.OfFloat(1e21): "1e+21", value.OfBool(true): "1",
		value.OfInt(-3): "-3", value.OfText("ä"): "ä", value.OfMoment(0): "1970-01-01T00:00:00Z"} {
		if got := string(Plain(v)); got != want {
			t.Errorf("%v is published as %s, want %s", v, got, want)
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, s := range []string{"8.4", `{"value":1,"time":"2026-11-26T06:30:00Z"}`, `{"a":{"b":2}}`, "NaN", "1e999",
		`{"value":{"value":1}}`} {
		f.Add([]byte(s), "a.b")
	}
	f.Fuzz(func(t *testing.T, data []byte, path string) {
		for _, typ := range []value.Type{"float32", "uint16", "bool", "text", "unix"} {
			p, err := Read(data, strings.Split(path, "."), value.Shape{Type: typ, Length: 8})
			if err == nil && p.Value.IsNone() {
				t.Errorf("%q at %q is no value and no error", data, path)
			}
		}
		if _, err := Put(data, []string{"a", "b"}, value.OfInt(1)); err != nil {
			t.Error(err)
		}
		if a, err := Scheme.Parse(path, ""); err == nil {
			if again, err := Scheme.Parse(Scheme.Short(a), ""); err != nil || again != a {
				t.Errorf("%q is read as %q, which is read as %q, %v", path, Scheme.Short(a), Scheme.Short(again), err)
			}
		}
	})
}
