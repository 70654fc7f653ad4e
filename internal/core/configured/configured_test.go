package configured

import (
	"encoding/json"
	"strings"
	"testing"

	"ferry/internal/core/block"
	"ferry/internal/core/family/enip"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// wiper is a drive whose set-up is sent when its connection is opened.
func wiper(data string) (*site.Site, *site.Link) {
	low, high, one := 0.1, 60.0, 1
	settings := protocol.Settings{enip.KeyConfigAt: protocol.OfInt(6)}
	if data != "" {
		settings[enip.KeyConfig], settings[enip.KeyConfigData] = protocol.OfText(enip.ConfigData), protocol.OfText(data)
	}
	at := func(offset uint32) site.Point {
		return site.Point{Address: block.At(enip.AreaConfig, offset), Type: "uint16", Access: site.ReadOnly}
	}
	ramp, ways, lost := at(0), at(2), at(4)
	ramp.ID, ramp.Name, ramp.Factor, ramp.Decimals, ramp.Unit, ramp.Low, ramp.High = "ramp", "Ramp up", 0.1, &one, "s",
		&low, &high
	ways.ID, ways.Name, ways.Type, ways.Address = "ways", "Reversal allowed", "bool", block.WithBit(ways.Address, 3)
	lost.ID, lost.Name, lost.Type, lost.Names = "lost", "Without connection", "uint8",
		[]site.Naming{{Value: 0, Name: "stops"}, {Value: 2, Name: "parks"}}
	s := &site.Site{Lines: []site.Line{{ID: "uv", Medium: site.Ethernet}},
		Devices: []site.Device{{ID: "lss", Name: "LSS controller", Ports: []site.Port{{Line: "uv"}}},
			{ID: "wiper", Name: "Wiper drive", Map: enip.Cyclic.Name, Points: []site.Point{lost, ways, ramp},
				Ports: []site.Port{{Line: "uv", Protocol: enip.Cyclic.Name,
					Settings: protocol.Settings{enip.KeyWants: protocol.OfText(enip.ConfigData),
						enip.KeyWantsSize: protocol.OfInt(6)}}}}},
		Links: []site.Link{{ID: "up", Asking: "lss", Answering: "wiper", Line: "uv", Protocol: enip.Cyclic.Name,
			Settings: settings}}}
	return s, &s.Links[0]
}

// TestSet: a value typed becomes octets, its neighbours stay, and what cannot be is said.
func TestSet(t *testing.T) {
	for _, c := range []struct{ data, point, text, hex, says string }{
		{"1E 00 08 00 02 07", "ramp", "2,5", "19 00 08 00 02 07", ""},
		{"1E 00 F7 00 02 07", "ways", "on", "1E 00 FF 00 02 07", ""},
		{"1E 00 FF 00 02 07", "ways", "off", "1E 00 F7 00 02 07", ""},
		{"1E 00 F7 00 02 07", "lost", "stops", "1E 00 F7 00 00 07", ""},
		{"", "lost", "parks", "00 00 00 00 02 00", ""}, // as many octets as the device wants
		{"1E", "ramp", "1", "0A 00 00 00 00 00", ""},
		{"1E 00 F7 00 02 07", "ramp", "7000", "", "70000"},
		{"1E 00 F7 00 02 07", "ramp", "fast", "", "fast"},
		{"1E 00 F7 00 02 07", "gone", "1", "", "no part"},
		{"1E 0", "ramp", "1", "", "Put its octets right"},
	} {
		s, l := wiper(c.data)
		edit, err := Set(s, l, c.point, c.text)
		if c.says != "" {
			if err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s = %s: %v", c.point, c.text, err)
			}
			continue
		}
		var after site.Link
		if err != nil || json.Unmarshal(edit.After, &after) != nil {
			t.Errorf("%s = %s: %v", c.point, c.text, err)
			continue
		}
		got := after.Settings
		if got[enip.KeyConfigData].Text() != c.hex || got[enip.KeyConfig].Text() != enip.ConfigData ||
			got[enip.KeyConfigAt].Int() != 6 {
			t.Errorf("%s = %s sends %v", c.point, c.text, got)
		}
	}
}

// TestBeside: what is sent and what the device holds are set side by side.
func TestBeside(t *testing.T) {
	s, l := wiper("BC 02 08 00 02 07")
	c := Of(s, l)
	if c.Octets != 6 || c.Wants != 6 || c.Free != 2 || len(c.Parameters) != 3 {
		t.Fatalf("%+v", c)
	}
	c.Beside(s, l, []byte{0x19, 0, 0x08, 0})
	var got []string
	for _, p := range c.Parameters {
		got = append(got, strings.Join([]string{p.Place, p.Shown, p.Limits, p.Device}, "|"))
		if p.Beyond != (p.Point == "ramp") || p.Differs != (p.Point != "ways") {
			t.Errorf("%+v", p)
		}
	}
	if want := "config:0|70.0|0.1 to 60.0|2.5 config:2.3|on||on config:4|2 · parks||none"; strings.Join(got, " ") != want {
		t.Errorf("got  %s\nwant %s", strings.Join(got, " "), want)
	}
	if c.Same([]byte{0x19}) || !c.Same([]byte{0xBC, 2, 8, 0, 2, 7}) {
		t.Error("sameness")
	}
	s.Devices[1].Points = nil
	s.Devices[1].Ports[0].Settings = nil
	l.Settings = nil
	if c := Of(s, l); c != nil {
		t.Errorf("there is none, and it is %+v", c)
	}
}
