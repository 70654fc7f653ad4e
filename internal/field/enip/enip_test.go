package enip_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"ferry/internal/bench"
	_ "ferry/internal/bench/enip"
	"ferry/internal/core/address"
	family "ferry/internal/core/family/enip"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	_ "ferry/internal/field/enip"
	"ferry/internal/field/fieldtest"
)

// auger is a feed controller with tags, and a device with objects behind the same address.
func auger(t *testing.T, settings protocol.Settings) (*field.Engine, *bench.Bench) {
	t.Helper()
	place := func(text string) address.Address {
		a, err := family.Scheme.Parse(text, "")
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	s := &site.Site{Format: site.Format, Version: site.Version, Name: "Skerry Point Hatchery",
		Lines: []site.Line{{ID: "net", Name: "Plant network", Medium: site.Ethernet, Network: "192.0.2.0/24"}},
		Devices: []site.Device{
			{ID: "lss", Name: "LSS controller", Ports: []site.Port{{Line: "net", Host: "192.0.2.10"}}},
			{ID: "feed", Name: "Feed controller", Map: "enip",
				Ports: []site.Port{{Line: "net", Host: "192.0.2.71", Protocol: "enip"}}, Points: []site.Point{
					{ID: "turns", Name: "Turns", Address: place("Auger.Turns"), Type: "int32", Access: site.ReadOnly, PaceMs: 100},
					{ID: "level", Name: "Level", Address: place("Row[3].Level"), Type: "float32", Access: site.ReadOnly, PaceMs: 100},
					{ID: "set", Name: "Setpoint", Address: place("Setpoint"), Type: "int16", Access: site.ReadWrite, PaceMs: 100},
					{ID: "bit", Name: "Running", Address: place("Mode.2"), Type: "bool", Access: site.ReadWrite, PaceMs: 100},
					{ID: "mode", Name: "Mode", Address: place("Mode"), Type: "uint16", Access: site.ReadWrite, PaceMs: 100},
					{ID: "speed", Name: "Speed", Address: place("4/100/3:4"), Type: "uint16", Access: site.ReadWrite, PaceMs: 100},
					{ID: "alarm", Name: "Alarm", Address: place("4/100/3:6.5"), Type: "bool", Access: site.ReadWrite, PaceMs: 100},
					{ID: "limit", Name: "Limit", Address: place("100/1/7"), Type: "uint32", Access: site.ReadWrite, PaceMs: 100}}}},
		Links: []site.Link{{ID: "up", Asking: "lss", Answering: "feed", Line: "net", Protocol: "enip", Settings: settings}}}
	return fieldtest.Benched(t, s)
}

// TestAsked: tags and attributes are read by their names, several in one message or one
// by one, by a route or without; and written.
func TestAsked(t *testing.T) {
	for name, settings := range map[string]protocol.Settings{"together": nil,
		"one by one": {family.KeyTogether: protocol.OfText("one")}, "by a route": {family.KeyRoute: protocol.OfText("1,0")},
		"connected": {family.KeyOver: protocol.OfText("connected"), family.KeyRoute: protocol.OfText("1,0")}} {
		t.Run(name, func(t *testing.T) {
			e, _ := auger(t, settings)
			if err := e.Start(nil); err != nil {
				t.Fatal(err)
			}
			for _, id := range []string{"turns", "level", "set", "mode", "speed", "alarm", "limit"} {
				fieldtest.Wait(t, id+" to be good", func() bool {
					live, _ := e.Hub.Point(id)
					return live.Quality == value.Good
				})
			}
			if list := e.Hub.Exchanges(0, 100, "up"); len(list) == 0 || len(list[len(list)-1].Frames) < 2 {
				t.Errorf("exchanges are %+v", list)
			}
		})
	}
}

// TestWrites: tags and attributes are written and read back, by every way; what the device
// does not take is said with its status.
func TestWrites(t *testing.T) {
	for name, settings := range map[string]protocol.Settings{"alone": nil,
		"connected": {family.KeyOver: protocol.OfText("connected"), family.KeyRoute: protocol.OfText("1,0")}} {
		t.Run(name, func(t *testing.T) {
			e, b := auger(t, settings)
			for _, c := range []struct{ point, text string }{{"set", "-42"}, {"mode", "5"}, {"limit", "123456"}, {"bit", "off"},
				{"speed", "1450"}, {"alarm", "on"}, {"speed", "12"}} {
				if r := write(t, e, c.point, c.text); !r.OK || r.ReadBack != c.text {
					t.Errorf("%s: %+v", c.point, r)
				}
			}
			s := e.Site()
			if m, alarm := held(t, b, s, "Mode", "uint16").Int(), held(t, b, s, "4/100/3:6.5", "bool").Bool(); m != 1 || !alarm {
				t.Errorf("beside what was written stand %d and %v", m, alarm)
			}
			if r := write(t, e, "bit", "on"); !r.OK || held(t, b, s, "Mode", "uint16").Int() != 5 {
				t.Errorf("the bit again: %+v", r)
			}
			if err := b.SetFault("feed", bench.Fault{Kind: "setup"}); err != nil {
				t.Fatal(err)
			}
			for _, id := range []string{"set", "bit", "speed"} {
				if r := write(t, e, id, "1"); r.OK || !strings.Contains(r.Sentence, "did not take it: device state conflict") {
					t.Errorf("in set-up: %+v", r)
				}
			}
			if err := b.SetFault("feed", bench.Fault{Kind: "retyped"}); err != nil {
				t.Fatal(err)
			}
			if r := write(t, e, "set", "7"); r.OK || !strings.Contains(r.Sentence, "it is LREAL, and the map says int16") {
				t.Errorf("of another type: %+v", r)
			}
		})
	}
}

// TestArrays: elements that follow each other are read together, in as many parts as they
// need; beyond the end of an array each says so, and the others are read.
func TestArrays(t *testing.T) {
	e, b := auger(t, nil)
	s := *e.Site()
	d := s.Devices[1]
	d.Points = nil
	for i := range 150 {
		at := address.Named(family.Tags, fmt.Sprintf("Row[3].Turns[%d]", i))
		d.Points = append(d.Points, site.Point{ID: fmt.Sprintf("t%d", i), Name: fmt.Sprintf("Turn %d", i), Address: at,
			Type: "float32", Access: site.ReadOnly, PaceMs: 100})
	}
	s.Devices = []site.Device{s.Devices[0], d}
	if err := b.Sync(&s); err != nil {
		t.Fatal(err)
	}
	e.Update(&s, 1)
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "all elements", func() bool {
		for i := range 150 {
			if l, _ := e.Hub.Point(fmt.Sprintf("t%d", i)); l.Quality != value.Good || l.Value.Float() == 0 {
				return false
			}
		}
		return true
	})
	list := e.Hub.Exchanges(0, 100, "up")
	parts := 0
	for _, x := range list {
		parts = max(parts, len(x.Frames)/2)
	}
	if parts > 12 {
		t.Errorf("they took %d questions in one exchange", parts)
	}
}

// TestWrong: each fault stops the message where it belongs, and no value of another type is
// taken for good.
func TestWrong(t *testing.T) {
	e, b := auger(t, nil)
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	live := func(id string) field.Live { l, _ := e.Hub.Point(id); return l }
	fieldtest.Wait(t, "the run", func() bool { return live("level").Quality == value.Good })
	for _, c := range []struct {
		fault string
		value int
		says  string
		stop  route.Stop
	}{
		{"session", 0, "grants no session", route.Session}, {"retyped", 0, "and the map says", route.Points},
		{"renamed", 0, "path segment error", route.Points}, {"context", 0, "which was not asked", route.Session},
		{"garbage", 0, "", route.Session}, {"short", 0, "", route.Session}, {"pieces", 40, "", ""}, {"singly", 0, "", ""},
	} {
		if err := b.SetFault("feed", bench.Fault{Kind: c.fault, Value: c.value}); err != nil {
			t.Fatal(err)
		}
		if c.stop == route.Points {
			fieldtest.Wait(t, "bad under "+c.fault, func() bool {
				l := live("level")
				return l.Quality == value.Bad && strings.Contains(l.Reason, c.says)
			})
		}
		e.Stop(nil)
		r, err := e.Try(context.Background(), "up")
		if err != nil {
			t.Fatal(err)
		}
		saw := fmt.Sprint(r.Stops)
		switch {
		case c.stop == "" && r.StopsAt != nil, c.stop != "" && (r.StopsAt == nil || *r.StopsAt != c.stop):
			t.Errorf("%s: it stops at %v: %s", c.fault, r.StopsAt, saw)
		case !strings.Contains(strings.ToLower(saw), strings.ToLower(c.says)):
			t.Errorf("%s: %s", c.fault, saw)
		}
		if err := b.SetFault("feed", bench.Fault{}); err != nil {
			t.Fatal(err)
		}
		if err := e.Start(nil); err != nil {
			t.Fatal(err)
		}
		fieldtest.Wait(t, "good after "+c.fault, func() bool { return live("level").Quality == value.Good })
	}
}
