package crossing

import (
	"fmt"
	"strings"
	"testing"

	"ferry/internal/core/block"
	"ferry/internal/core/site"
)

// TestDryRun: what would have been written, by each kind of rule, from values that are
// made up.
func TestDryRun(t *testing.T) {
	low, high, decimals := 0.0, 20.0, 2
	from := &site.Point{ID: "s", Name: "Oxygen", Address: block.At("hr", 0), Type: "float32", Unit: "mg/L"}
	to := &site.Point{ID: "t", Name: "Oxygen-11", Address: block.At("hr", 9), Type: "int16", Factor: 0.01, Low: &low,
		High: &high, Decimals: &decimals}
	for _, c := range []struct{ name, text, want string }{
		{"every change", "8\n8\n8.5", "0=8.00 2=8.50"},
		{"times", "0 8\n0,5 9", "0=8.00 0.5=9.00"},
		{"a time in seconds", "0 8\n0.5 9", "0=8.00 0.5=9.00"},
		{"bad", "8\nbad no answer\n8", "0=8.00 2=8.00"},
		{"no number", "8\neight", "line 2"},
		{"ramp", "0 … 4 in 4 s", "0=0.00 1=1.00 2=2.00 3=3.00 4=4.00"},
		{"a ramp that is too long", "0 … 4 in 99999 s", "line 1"},
		{"nothing", "", ""},
	} {
		samples, err := MadeUp(c.text, from)
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			got = dryWords(t, &site.Crossing{From: "s", To: "t"}, from, to, samples)
		}
		if got != c.want && (err == nil || !strings.Contains(got, c.want)) {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
	ramp, err := MadeUp("0 … 10 in 20 s", from)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		x    site.Crossing
		want string
	}{
		{site.Crossing{Deadband: 3}, "0=0.00 6=3.00 12=6.00 18=9.00"},
		{site.Crossing{AtMostMs: 8000}, "0=0.00 8=4.00 16=8.00 24=10.00"},
		{site.Crossing{PerDay: 2}, "0=0.00 1=0.50"},
		{site.Crossing{Enable: "e", Deadband: 8}, "0=0.00 16=8.00"},
	} {
		x := c.x
		x.From, x.To = "s", "t"
		if got := dryWords(t, &x, from, to, ramp); got != c.want {
			t.Errorf("%+v: %s, want %s", c.x, got, c.want)
		}
	}
	if _, err := DryRun(&site.Crossing{BeatMs: 1000, To: "t"}, nil, to, nil, nil); err == nil {
		t.Error("a heartbeat has a dry run")
	}
	if _, err := DryRun(&site.Crossing{From: "s", To: "t"}, from, to, nil, []DrySample{{AtMs: 2}, {AtMs: 1}}); err == nil {
		t.Error("times go back")
	}
}

func dryWords(t *testing.T, x *site.Crossing, from, to *site.Point, samples []DrySample) string {
	t.Helper()
	dry, err := DryRun(x, from, to, nil, samples)
	if err != nil {
		t.Fatal(err)
	}
	var list []string
	for _, w := range dry.Writes {
		list = append(list, fmt.Sprintf("%g=%s", float64(w.AtMs)/1000, w.Shown))
	}
	return strings.Join(list, " ")
}
