package serial

import (
	"bytes"
	"fmt"
	"math"
	"slices"
	"testing"
)

func format(t testing.TB, text string) Format {
	f, err := ParseFormat(text)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// TestTimes: the times of the serial line guide.
func TestTimes(t *testing.T) {
	for _, c := range []struct {
		format string
		bits   int
		char   float64 // ms
	}{
		{"9600:8E1", 11, 1.1458}, {"19200:8E1", 11, 0.5729}, {"19200:8N1", 10, 0.5208},
		{"19200:8N2", 11, 0.5729}, {"38400:8E1", 11, 0.2865}, {"115200:7O1", 10, 0.0868},
	} {
		f := format(t, c.format)
		near := func(a, b float64) bool { return math.Abs(a-b) < 0.0001 }
		if f.Bits() != c.bits || !near(f.CharMs(), c.char) {
			t.Errorf("%s: %d bits, %.4f ms, want %v", c.format, f.Bits(), f.CharMs(), c)
		}
	}
	for _, bad := range []string{"", "fast", "19200:8X1", "19200:9E1", "19200:8E3", "12:8E1", "19200:8E11"} {
		if f, err := ParseFormat(bad); err == nil {
			t.Errorf("%q is taken for %s", bad, f)
		}
	}
}

// TestWave: what is sent is received by an end that is set alike, octet for
// octet; parity is seen; the two levels of a line that two drive are low.
func TestWave(t *testing.T) {
	data := []byte("\x00\xFF\x55\xAA\x0E\x03\x04Tank row A")
	for _, f := range UsualFormats() {
		wave, end := Send(data, f, 2.5)
		chars := Receive(wave, f)
		if got := Delivered(chars, f); !bytes.Equal(got, data) ||
			math.Abs(end-2.5-float64(len(data))*f.CharMs()) > 1e-6 {
			t.Fatalf("%s: % X comes as % X", f, data, got)
		}
	}
	even, odd, none := format(t, "19200:8E1"), format(t, "19200:8O1"), format(t, "19200:8N1")
	wave, _ := Send(data, odd, 0)
	for i, c := range Receive(wave, even) {
		if !c.Bad || c.Value != data[i] {
			t.Errorf("octet %d of the other parity comes as %+v", i, c)
		}
	}
	// A device that overlooks stop bits understands one parity bit too many.
	wave, _ = Send(data, even, 0)
	for i, c := range Receive(wave, none) {
		if c.Value != data[i] {
			t.Errorf("octet %d with a parity bit too many comes as %+v", i, c)
		}
	}
	a, _ := Send([]byte{0xF0}, none, 0)
	b, _ := Send([]byte{0x3C}, none, 0)
	if got := Receive(Merge(a, b), none); len(got) != 1 || got[0].Value != 0x30 {
		t.Errorf("two at once give %+v", got)
	}
}

// TestExplain: another parity is told from the octets of one answer; another
// rate, of which less is left, is at least among the guesses.
func TestExplain(t *testing.T) {
	own := format(t, "19200:8E1")
	answer := []byte{14, 3, 4, 0x12, 0x9A, 0x43, 0x21, 0x5B, 0xC0}
	heads := []Head{{answer[:3], len(answer)}, {[]byte{14, 0x83}, 5}}
	for _, text := range []string{"19200:8N1", "19200:8O1", "9600:8E1", "38400:8E1", "9600:8N1"} {
		f := format(t, text)
		wave, _ := Send(answer, f, 0)
		seen := Delivered(Receive(wave, own), own)
		guesses := Explain(seen, heads, own)
		at := slices.IndexFunc(guesses, func(g Guess) bool { return g.Format == f })
		if at < 0 || f.Baud == own.Baud && at > 0 {
			t.Errorf("%s: % X is explained by %v", text, seen, guesses)
		}
	}
	if got := Explain([]byte{7, 7, 7, 7, 7, 7, 7, 7}, heads, own); len(got) > 0 && got[0].Share >= 0.6 {
		t.Errorf("octets of no meaning are explained as %+v", got[0])
	}
}

func TestWires(t *testing.T) {
	yes, no := true, false
	ports := func(terminated ...*bool) []Port {
		var list []Port
		for i, on := range terminated {
			biased := &no
			if i == 0 {
				biased = &yes
			}
			list = append(list, Port{UnitLoad: 1, Terminated: on, Biased: biased})
		}
		return list
	}
	for _, c := range []struct {
		name  string
		wires Wires
		want  string
	}{
		{"right", Wires{TIA485Two, 19200, 800, ports(&yes, &no, &yes)}, "[]"},
		{"too long", Wires{TIA485Two, 500_000, 800, ports(&yes, &yes)}, "[line-too-long]"},
		{"too long for RS-232", Wires{TIA232, 38400, 10, ports(nil, nil)}, "[line-too-long]"},
		{"three on RS-232", Wires{TIA232, 9600, 3, ports(nil, nil, nil)}, "[too-many-ports]"},
		{"33 loads", Wires{TIA485Two, 9600, 3, ports(make([]*bool, 33)...)}, "[too-much-load]"},
		{"three terminators", Wires{TIA485Two, 19200, 800, ports(&yes, &yes, &yes)}, "[terminated-too-often]"},
		{"one terminator on a long line", Wires{TIA485Two, 115200, 900, ports(&yes, &no)}, "[not-terminated]"},
		{"none on a short one", Wires{TIA485Two, 9600, 20, ports(&no, &no)}, "[]"},
		{"nobody has looked", Wires{TIA485Two, 115200, 900, ports(&yes, nil)}, "[]"},
		{"no bias", Wires{TIA485Two, 9600, 20,
			[]Port{{UnitLoad: 1, Terminated: &no, Biased: &no}, {UnitLoad: 1, Terminated: &no, Biased: &no}}},
			"[not-biased]"},
		{"four wires need none", Wires{TIA485Four, 9600, 20,
			[]Port{{UnitLoad: 1, Terminated: &no, Biased: &no}, {UnitLoad: 1, Terminated: &no, Biased: &no}}}, "[]"},
	} {
		var codes []string
		for _, f := range c.wires.Check() {
			codes = append(codes, f.Code)
		}
		if got := fmt.Sprint(codes); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
	if Cable("dte", "dte") != "crossed" || Cable("dte", "dce") != "straight" || Cable("", "dce") != "" {
		t.Error("the cable between two ports is another")
	}
}

// FuzzReceive: whatever a line carries, a receiver gets no more characters than
// there are starts, in order.
func FuzzReceive(f *testing.F) {
	f.Add([]byte{3, 9, 1, 200, 4}, "9600:8N1")
	f.Fuzz(func(t *testing.T, gaps []byte, text string) {
		own, err := ParseFormat(text)
		if err != nil {
			return
		}
		var w Wave
		at := 0.0
		for i, gap := range gaps {
			at += float64(gap) / 50
			w = append(w, Edge{at, i%2 == 1})
		}
		last := -1.0
		for _, c := range Receive(w, own) {
			if c.End <= last {
				t.Fatalf("characters end at %g and %g", last, c.End)
			}
			last = c.End
		}
	})
}
