package enip

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"ferry/internal/core/protocol"
)

// TestDraw: a data sheet becomes both ends of a connection, a map and parameters; the
// ends agree.
func TestDraw(t *testing.T) {
	data, err := os.ReadFile("../../../../docs/examples/uv-reactor-ur12.eds")
	if err != nil {
		t.Fatal(err)
	}
	d, err := cyclicRules{}.Draw(data, 0)
	if err != nil || len(d.Unread) > 0 {
		t.Fatalf("%v, %v", err, d.Unread)
	}
	if len(d.Held) != 18 || len(d.Aside) != 2 || d.Connections != 6 || d.PerSecond != 1000 || len(d.Choices) != 2 ||
		d.Sizes[AreaIn] != 36 {
		t.Errorf("%d places, %d aside, %+v", len(d.Held), len(d.Aside), d)
	}
	if h := d.Held[17]; Assemblies.Short(h.Address) != "in:32" || h.Name != "Intensity 9" || h.Shape.Type != "float32" ||
		*h.High != 200 {
		t.Errorf("the last is %+v at %s", h, Assemblies.Short(h.Address))
	}
	f := cyclicRules{}.Face(&protocol.Ends{Asking: "a", Answering: "b", Ask: d.Ask, Answer: d.Answer,
		Knows: func(string) bool { return true }, PerSecond: d.PerSecond})
	if f.Refused != nil || f.Ways[0].AskingOctets != 38 || f.Ways[1].AskingOctets != 24 || f.Ways[0].IntervalMs != 50 ||
		f.Ways[1].IntervalMs != 200 {
		t.Errorf("%+v, %+v", f.Refused, f.Ways)
	}
	if d, err = (cyclicRules{}).Draw(data, 1); err != nil || WayOut(d.Ask).Format != FormatHeartbeat ||
		WayOut(d.Ask).Count != 0 {
		t.Errorf("input only: %v, %+v", err, d.Ask)
	}
	if _, err := (cyclicRules{}).Draw(data, 2); err == nil {
		t.Error("there is no third connection")
	}
}

// TestDrawConfiguration: the members of a configuration are places with their scales, and
// what is sent is what is usual.
func TestDrawConfiguration(t *testing.T) {
	data, err := os.ReadFile("../../../../docs/examples/wiper-drive-wd3.eds")
	if err != nil {
		t.Fatal(err)
	}
	d, err := cyclicRules{}.Draw(data, 0)
	if err != nil || len(d.Unread) > 0 {
		t.Fatalf("%v, %v", err, d.Unread)
	}
	_, octets, err := cyclicRules{}.Configured(d.Ask)
	if got := spacedHex(octets); err != nil || got != "1e 00 1e 00 58 02 00 00" {
		t.Errorf("it sends %s, %v", got, err)
	}
	var places []string
	for _, h := range d.Held {
		if at := Assemblies.Short(h.Address); strings.HasPrefix(at, "config") {
			low := "-"
			if h.Low != nil {
				low = fmt.Sprint(*h.Low, *h.High)
			}
			places = append(places, fmt.Sprintf("%s %s %s × %g, %s, %d names", at, h.Name, h.Shape.Type, h.Factor, low,
				len(h.Names)))
		}
	}
	want := "config:0 Ramp up uint16 × 0.1, 0.1 60, 0 names\nconfig:2 Ramp down uint16 × 0.1, 0.1 60, 0 names\n" +
		"config:4 Speed limit uint16 × 0.1, 5 60, 0 names\nconfig:6.0 Reversal allowed bool × 0, -, 0 names\n" +
		"config:7 Without connection uint8 × 0, 0 2, 3 names"
	if got := strings.Join(places, "\n"); got != want {
		t.Errorf("places are\n%s\nwant\n%s", got, want)
	}
	for _, c := range []struct{ stated, says string }{
		{"0x0000,0xC7,2,\"P\",\"\",\"\",0,9,0,1,10,1,0,,,,,1", "its descriptor says that it has none"},
		{"0x0004,0xC7,2,\"P\",\"\",\"\",0,9,0,1,0,1,0,,,,,1", "its scale \"0\" is none"},
		{"0x0004,0xC7,2,\"P\",\"\",\"\",0,9,0,1,10,1,0,Param3,,,,1", "other parameters hold its scale"},
	} {
		e, err := ParseEDS([]byte("[File]\n[Device]\n[Params]\nParam1 = 0,,," + c.stated + ";\n"))
		if err != nil || len(e.Unread) != 1 || !strings.Contains(e.Unread[0].Reason, c.says) || e.Params[0].Factor != 0 {
			t.Errorf("%s: %v, %+v, %+v", c.stated, err, e.Unread, e.Params)
		}
	}
}

// TestFace: each way in which two ends do not agree is said with the status that follows,
// and the first fix puts it right.
func TestFace(t *testing.T) {
	n, text, on := protocol.OfInt, protocol.OfText, protocol.OfSwitch
	for _, c := range []struct {
		name, says    string
		code          int
		ask, answer   protocol.Settings
		unknown       string
		fixes, unsure int
	}{
		{name: "agree"},
		{name: "header missing", says: "the header of 4 is missing", code: 0x0127,
			ask: protocol.Settings{KeyOutFormat: text(FormatPlain)}, fixes: 3},
		{name: "header too much", says: "the header of 4 is too much", code: 0x0127,
			answer: protocol.Settings{KeyOutHead: on(false)}, fixes: 2},
		{name: "elements for octets", says: "counts elements and the other octets", code: 0x0128,
			ask: protocol.Settings{KeyInCount: n(36)}, fixes: 2},
		{name: "sequence counted", says: "as a sequence count is", code: 0x0128,
			answer: protocol.Settings{KeyInOctets: n(38)}, fixes: 2},
		{name: "fewer sleeves", says: "counts 32 octets from it", code: 0x0128, ask: protocol.Settings{KeyInCount: n(9)},
			answer: protocol.Settings{KeyInOctets: n(30)}, fixes: 2},
		{name: "counted as data", ask: protocol.Settings{KeyOutFormat: text(FormatCounted), KeyOutCount: n(11)}},
		{name: "too fast", says: "more often than every 80 ms", code: 0x0111, answer: protocol.Settings{KeyLeast: n(80)},
			fixes: 1},
		{name: "empty wanted", says: "an empty configuration", code: 0x0126,
			answer: protocol.Settings{KeyWants: text(ConfigEmpty)}, fixes: 1},
		{name: "data wanted", says: "a configuration of 6 octets", code: 0x0126,
			answer: protocol.Settings{KeyWants: text(ConfigData), KeyWantsSize: n(6)}, fixes: 1},
		{name: "another product", says: "and it is 1234/43/66/2.1", code: 0x0114,
			ask:    protocol.Settings{KeyKey: text(KeyExact), KeyVendor: n(1234), KeyProduct: n(65)},
			answer: protocol.Settings{KeyIdentity: text("1234/43/66/2.1")}, fixes: 2},
		{name: "older revision", says: "revision 2.4", code: 0x0116, ask: protocol.Settings{KeyKey: text(KeyCompatible),
			KeyMajor: n(2), KeyMinor: n(4)}, answer: protocol.Settings{KeyIdentity: text("1234/43/66/2.1")}, fixes: 2},
		{name: "size not known", unknown: KeyInOctets, unsure: 1},
		{name: "configuration not known", unknown: KeyWants, unsure: 1},
		{name: "an empty one is there", unknown: KeyWants, answer: protocol.Settings{KeyWantsSize: n(0)}, unsure: 1,
			fixes: 1},
		{name: "an empty one is sent", unknown: KeyWants, ask: protocol.Settings{KeyConfig: text(ConfigEmpty)},
			answer: protocol.Settings{KeyWantsSize: n(0)}},
	} {
		ask := protocol.Settings{KeyInCount: n(9), KeyInWidth: text("4"), KeyOutCount: n(9), KeyOutWidth: text("2"),
			KeyOutFormat: text(FormatHeader)}
		answer := protocol.Settings{KeyInOctets: n(36), KeyOutOctets: n(18), KeyOutHead: on(true)}
		for k, v := range c.ask {
			ask[k] = v
		}
		for k, v := range c.answer {
			answer[k] = v
		}
		ends := protocol.Ends{Asking: "LSS controller", Answering: "UV reactor", Ask: ask, Answer: answer,
			Knows: func(k string) bool { return k != c.unknown }}
		f := cyclicRules{}.Face(&ends)
		unsure := 0
		for _, w := range f.Ways {
			if w.Verdict == protocol.Unsure {
				unsure++
			}
		}
		for _, r := range f.Rows {
			if r.Verdict == protocol.Unsure {
				unsure++
			}
		}
		if (f.Refused != nil) != (c.code != 0) || f.Refused != nil &&
			(f.Refused.Code != ext(c.code) || !strings.Contains(f.Refused.Says, c.says)) ||
			len(f.Fixes) != c.fixes || unsure != c.unsure {
			t.Errorf("%s: %+v, %d not sure, fixes %+v", c.name, f.Refused, unsure, f.Fixes)
			continue
		}
		for _, fix := range f.Fixes {
			again := protocol.Ends{Asking: ends.Asking, Answering: ends.Answering, Ask: with(ask, fix.Ask),
				Answer: with(answer, fix.Answer), Knows: ends.Knows}
			if g := (cyclicRules{}).Face(&again); g.Refused != nil {
				t.Errorf("%s: after %q it is refused still: %+v", c.name, fix.Title, g.Refused)
			}
		}
		for key, s := range map[string]protocol.Settings{"asking": ask, "answering": answer} {
			for k, v := range s {
				setting, ok := Cyclic.Setting(k)
				if !ok || setting.Check(v) != nil {
					t.Errorf("%s: %s end: %s is %v: %v", c.name, key, k, v, setting.Check(v))
				}
			}
		}
	}
}

// TestAlive: what all links to a device exchange with it is set beside what it bears.
func TestAlive(t *testing.T) {
	ask := protocol.Settings{KeyInEvery: protocol.OfInt(50), KeyOutEvery: protocol.OfInt(200),
		KeyInCount: protocol.OfInt(2)}
	answer := protocol.Settings{KeyInOctets: protocol.OfInt(2), KeyOutHead: protocol.OfSwitch(false)}
	for _, c := range []struct {
		bears       float64
		takes, more int
		others      float64
		says        string
		verdict     string
		refused     bool
	}{
		{0, 0, 0, 0, "25 packets a second", protocol.Agrees, false},
		{40, 2, 0, 0, "25 packets a second of 40 the device bears", protocol.Agrees, false},
		{40, 2, 1, 20, "25 packets a second, 45 with the 1 other link to it, and the device bears 40", protocol.Differs,
			false},
		{100, 2, 2, 20, "25 packets a second, 45 with the 2 other links to it; 3 connections, and the device takes 2",
			protocol.Differs, true},
	} {
		f := cyclicRules{}.Face(&protocol.Ends{Ask: ask, Answer: answer, Knows: func(string) bool { return true },
			PerSecond: c.bears, Connections: c.takes, Others: c.more, OthersPerSecond: c.others})
		if f.Alive.Says != c.says || f.Alive.Verdict != c.verdict || (f.Refused != nil) != c.refused {
			t.Errorf("%+v: %+v, %+v", c, f.Alive, f.Refused)
		}
	}
}

func with(s, more protocol.Settings) protocol.Settings {
	all := protocol.Settings{}
	for _, each := range []protocol.Settings{s, more} {
		for k, v := range each {
			all[k] = v
		}
	}
	return all
}

// FuzzDraw: whatever a data sheet holds becomes settings that are ones, and places that
// can be written down.
func FuzzDraw(f *testing.F) {
	f.Add(sheet(f), 0)
	if data, err := os.ReadFile("../../../../docs/examples/uv-reactor-ur12.eds"); err == nil {
		f.Add(data, 1)
	}
	if data, err := os.ReadFile("../../../../docs/examples/wiper-drive-wd3.eds"); err == nil {
		f.Add(data, 0)
	}
	f.Fuzz(func(t *testing.T, data []byte, choice int) {
		d, err := cyclicRules{}.Draw(data, choice)
		if err != nil {
			return
		}
		for _, s := range []protocol.Settings{d.Ask, d.Answer} {
			for k, v := range s {
				if setting, ok := Cyclic.Setting(k); !ok || setting.Check(v) != nil {
					t.Errorf("%s is %v: %v", k, v, setting.Check(v))
				}
			}
		}
		for _, h := range d.Held {
			if err := Assemblies.Check(h.Address, h.Shape); err != nil {
				t.Errorf("%s: %v", h.Address, err)
			}
			if again, err := Assemblies.Parse(Assemblies.Short(h.Address), ""); err != nil || again != h.Address {
				t.Errorf("%s reads as %s, %v", h.Address, again, err)
			}
		}
		_ = fmt.Sprint(d)
	})
}
