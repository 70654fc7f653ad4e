package image

import (
	"testing"

	"ferry/internal/core/address"
	_ "ferry/internal/core/family/modbus"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// gateway is what the panels of Skerry Point read: what is carried into it, and
// what they may write.
func gateway(t *testing.T) *site.Device {
	t.Helper()
	scheme, err := protocol.SchemeOf("modbus-tcp")
	if err != nil {
		t.Fatal(err)
	}
	at := func(text string) address.Address {
		a, err := scheme.Parse(text, "")
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	limit := func(v float64) *float64 { return &v }
	d := &site.Device{ID: "gate", Name: "Panel gateway", Map: "modbus-tcp", Serving: &site.Serving{}, Points: []site.Point{
		{ID: "oxygen", Name: "Oxygen-11", Address: at("40001"), Type: value.TypeFloat32, Access: site.ReadOnly},
		{ID: "alone", Name: "Unfed", Address: at("40003"), Type: value.TypeUint16, Access: site.ReadOnly},
		{ID: "set", Name: "Speed setpoint", Address: at("40004"), Type: value.TypeFloat32, Access: site.ReadWrite,
			Low: limit(0), High: limit(50)},
		{ID: "low", Name: "Low bit", Address: at("40006.0"), Type: value.TypeBool, Access: site.ReadWrite},
		{ID: "high", Name: "High bit", Address: at("40006.15"), Type: value.TypeBool, Access: site.ReadOnly},
		{ID: "tenths", Name: "Level", Address: at("40008"), Type: value.TypeInt16, Factor: 0.1, Access: site.ReadOnly},
	}}
	return d
}

func fresh(t *testing.T) *Image {
	t.Helper()
	fed := map[string]bool{"oxygen": true, "high": true, "tenths": true}
	m, err := New(gateway(t), func(id string) bool { return fed[id] })
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// TestRead: a client is never given what nobody put there.
func TestRead(t *testing.T) {
	m, holding := fresh(t), gateway(t).Points[0].Place().Area
	put := func(id string, v value.Value) {
		if _, err := m.Put(id, v); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		name         string
		before       func()
		start, count int
		refusal      Refusal
		gives        string
	}{
		{"fed and nothing put yet", nil, 0, 2, NoValue, ""},
		{"half of it", nil, 1, 1, NoValue, ""},
		{"nothing feeds it and nobody may write it", nil, 2, 1, NoValue, ""},
		{"what clients write begins with zero", nil, 3, 2, None, "\x00\x00\x00\x00"},
		{"a word of which one bit has no value", nil, 5, 1, NoValue, ""},
		{"between points", nil, 6, 1, None, "\x00\x00"},
		{"beyond the map", nil, 7, 2, NoPlace, ""},
		{"before it", nil, -1, 1, NoPlace, ""},
		{"no unit", nil, 0, 0, NoPlace, ""},
		{"put", func() { put("oxygen", value.OfFloat(9.5)) }, 0, 2, None, "\x41\x18\x00\x00"},
		{"a bit put", func() { put("high", value.OfBool(true)) }, 5, 1, None, "\x80\x00"},
		{"scaled", func() { put("tenths", value.OfFloat(-1.2)) }, 7, 1, None, "\xff\xf4"},
		{"all, of which one has none", nil, 0, 8, NoValue, ""},
	} {
		if c.before != nil {
			c.before()
		}
		got, refusal := m.Read(nil, holding, c.start, c.count)
		if refusal != c.refusal || string(got) != c.gives {
			t.Errorf("%s: % X, %q; want % X, %q", c.name, got, refusal, c.gives, c.refusal)
		}
	}
	if _, err := m.Put("tenths", value.OfFloat(1e6)); err == nil {
		t.Error("a value that does not fit is put")
	}
	if got, _ := m.Read(nil, holding, 7, 1); string(got) != "\xff\xf4" {
		t.Errorf("after one that did not fit there is % X", got)
	}
}

// TestChange: a write is whole or not at all, only where it may be, and a number
// counts once all of it has come.
func TestChange(t *testing.T) {
	m, holding := fresh(t), gateway(t).Points[0].Place().Area
	for _, id := range []string{"high", "oxygen"} {
		if _, err := m.Put(id, value.OfFloat(1)); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		name         string
		start        int
		octets       string
		refusal      Refusal
		wrote        string // the points
		stands       string // at start afterwards
		value        float64
		valueOfPoint string
	}{
		{"read-only", 0, "\x00\x00\x00\x00", ReadOnly, "", "\x3f\x80\x00\x00", 0, ""},
		{"beyond", 8, "\x00\x00", NoPlace, "", "", 0, ""},
		{"between points", 6, "\x00\x01", ReadOnly, "", "\x00\x00", 0, ""},
		{"a writable and what is none", 4, "\x00\x00\x00\x00\x00\x00", ReadOnly, "", "\x00\x00\x80\x00\x00\x00", 0, ""},
		{"whole", 3, "\x42\x20\x00\x00", None, "set ", "\x42\x20\x00\x00", 40, "set"},
		{"over its limit", 3, "\x42\x70\x00\x00", BadValue, "", "\x42\x20\x00\x00", 40, "set"},
		{"half a number", 3, "\x41\x20", None, "", "\x41\x20", 0, ""},
		{"the other half", 4, "\x00\x00", None, "set ", "\x00\x00", 10, "set"},
		{"the bit that may be", 5, "\x80\x01", None, "low ", "\x80\x01", 1, "low"},
		{"the bit beside it as well", 5, "\x00\x00", ReadOnly, "", "\x80\x01", 1, "low"},
	} {
		written, refusal := m.Change(holding, c.start, len(c.octets)/2, func(octets []byte) { copy(octets, c.octets) })
		names := ""
		for _, w := range written {
			names += w.Point.ID + " "
		}
		got, _ := m.Read(nil, holding, c.start, len(c.stands)/2)
		if refusal != c.refusal || names != c.wrote || string(got) != c.stands {
			t.Errorf("%s: %q, wrote %q, stands % X; want %q, %q, % X", c.name, refusal, names, got, c.refusal, c.wrote,
				c.stands)
		}
		if c.valueOfPoint == "" {
			continue
		}
		if raw, _, ok := m.Raw(c.valueOfPoint); !ok || raw.Float() != c.value {
			t.Errorf("%s: %s is %v, want %v", c.name, c.valueOfPoint, raw, c.value)
		}
	}
}

// TestKeep: a new map keeps the values of points that mean the same, wherever they
// lie, and of no others.
func TestKeep(t *testing.T) {
	before := fresh(t)
	for id, v := range map[string]float64{"oxygen": 9.5, "set": 40, "tenths": 1.2} {
		if _, err := before.Put(id, value.OfFloat(v)); err != nil {
			t.Fatal(err)
		}
	}
	d := gateway(t)
	d.Points[2].Type = value.TypeUint32 // means another thing now
	m, err := New(d, func(id string) bool { return id == "oxygen" || id == "high" })
	if err != nil {
		t.Fatal(err)
	}
	m.Keep(before)
	for id, want := range map[string]float64{"oxygen": 9.5, "set": 0} {
		if raw, _, ok := m.Raw(id); !ok || raw.Float() != want {
			t.Errorf("%s is %v, %v; want %v", id, raw, ok, want)
		}
	}
	if _, _, ok := m.Raw("tenths"); ok {
		t.Error("what nothing feeds any more has its last value")
	}
}
