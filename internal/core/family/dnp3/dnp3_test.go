package dnp3

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// TestAddresses: objects are read in every way in which lists have them, and printed in one.
func TestAddresses(t *testing.T) {
	for text, want := range map[string]string{"ai3": "ai3", "AI 3": "ai3", "analog input 3": "ai3", "30:3": "ai3",
		"g30v5 3": "ai3",
		"bi[0]":   "bi0", "Binary Input 12": "bi12", "crob 4": "bo4", "bo4.pulse": "bo4.pulse", "BO4.TRIP": "bo4.trip",
		"41:2":                 "ao2",
		"frozen counter 65535": "fctr65535", "double-bit binary input 1": "dbi1", "octet string 0": "str0"} {
		a, err := Scheme.Parse(text, "")
		if err != nil || Scheme.Short(a) != want {
			t.Errorf("%s: %s, %v", text, Scheme.Short(a), err)
		}
		if back, err := address.ParseCanonical(a.String()); err != nil || back != a {
			t.Errorf("%s: %s comes back as %s", text, a, back)
		}
	}
	if a, err := Scheme.Parse("7", "Analog Input"); err != nil || Scheme.Short(a) != "ai7" {
		t.Errorf("a bare number: %v, %v", a, err)
	}
	for text, says := range map[string]string{"3": "say of which kind", "xx3": "its kind is none of",
		"ai65536": "from 0 to 65535",
		"ai":      "an index", "ai3.pulse": "only binary outputs", "bo3.hold": "pulse or trip", "": "an index"} {
		if _, err := Scheme.Parse(text, ""); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, want %s", text, err, says)
		}
	}
}

// TestQuality: flags become quality by the kind of object.
func TestQuality(t *testing.T) {
	for _, c := range []struct {
		kind  Kind
		flags byte
		want  value.Quality
		says  string
	}{
		{BinaryInput, 0x01, value.Good, ""}, {BinaryInput, 0x00, value.Bad, "not online"},
		{AnalogInput, 0x05, value.Bad, "lost"},
		{AnalogInput, 0x03, value.Doubtful, "restart"}, {BinaryInput, 0x21, value.Doubtful, "chatters"},
		{AnalogInput, 0x21, value.Doubtful, "over its range"}, {AnalogInput, 0x41, value.Doubtful, "reference"},
		{Counter, 0x21, value.Good, ""}, {Counter, 0x41, value.Doubtful, "did not go on"},
		{AnalogInput, 0x09, value.Good, "forced at the device behind it"},
		{BinaryOutput, 0x11, value.Good, "forced at the outstation"},
	} {
		if q, why := QualityOf(c.kind, c.flags); q != c.want || !strings.Contains(why, c.says) || c.says == "" && why != "" {
			t.Errorf("%s %02X: %s, %q", c.kind.Short(), c.flags, q, why)
		}
	}
}

const aProfile = `<?xml version="1.0" encoding="UTF-8"?>
<dnp:DNP3DeviceProfileDocument xmlns:dnp="http://www.dnp3.org/DNP3/DeviceProfile/Nov2014">
 <dnp:referenceDevice><dnp:configuration>
  <dnp:deviceConfig><dnp:deviceName><dnp:currentValue><dnp:value>PS-1</dnp:value></dnp:currentValue></dnp:deviceName></dnp:deviceConfig>
  <dnp:linkConfig><dnp:dataLinkAddress><dnp:currentValue><dnp:value>12</dnp:value></dnp:currentValue></dnp:dataLinkAddress></dnp:linkConfig>
 </dnp:configuration>
 <dnp:dataPointsList>
  <dnp:binaryInputPoints><dnp:dataPoints>
   <dnp:binaryInput><dnp:index>3</dnp:index><dnp:name>Pump 1 runs</dnp:name><dnp:changeEventClass>one</dnp:changeEventClass>
    <dnp:nameState0>stopped</dnp:nameState0><dnp:nameState1>running</dnp:nameState1></dnp:binaryInput>
   <dnp:binaryInput><dnp:index>x</dnp:index></dnp:binaryInput>
  </dnp:dataPoints></dnp:binaryInputPoints>
  <dnp:analogInputPoints><dnp:dataPoints>
   <dnp:analogInput><dnp:index>22</dnp:index><dnp:name>Level &amp; flow</dnp:name><dnp:changeEventClass><dnp:two/></dnp:changeEventClass>
    <dnp:scaleFactor>0.01</dnp:scaleFactor><dnp:units>m</dnp:units></dnp:analogInput>
  </dnp:dataPoints></dnp:analogInputPoints>
 </dnp:dataPointsList></dnp:referenceDevice>
</dnp:DNP3DeviceProfileDocument>`

// TestProfile: the points of a device profile come in, what cannot be read is told with its line, and
// what goes out comes back.
func TestProfile(t *testing.T) {
	r := rules{tcp: true}
	if !r.Described([]byte(aProfile)) || r.Described([]byte("<UANodeSet/>")) {
		t.Error("a profile is not told by how it begins")
	}
	held, unread, err := r.Describe([]byte(aProfile))
	if err != nil || len(held) != 2 || len(unread) != 1 || unread[0].Line == 0 {
		t.Fatalf("%+v %+v %v", held, unread, err)
	}
	if h := held[0]; h.Name != "Pump 1 runs" || h.Told != "1" || h.Names[1] != "running" ||
		Scheme.Short(h.Address) != "bi3" {
		t.Errorf("%+v", h)
	}
	if h := held[1]; h.Name != "Level & flow" || h.Told != "2" || h.Factor != 0.01 || h.Unit != "m" {
		t.Errorf("%+v", h)
	}
	back, _, err := r.Describe(r.DescribeOut(protocol.Whose{}, held, time.Unix(0, 0)))
	if err != nil || !reflect.DeepEqual(back, held) {
		t.Errorf("%v\n%+v\n%+v", err, back, held)
	}
	d, err := r.Draw([]byte(aProfile), 0)
	if err != nil || d.Name != "PS-1" || d.Ask[KeyOutstation] != protocol.OfInt(12) || len(d.Held) != 2 {
		t.Errorf("%+v %v", d, err)
	}
	for text, says := range map[string]string{"<a/>": "it is no device profile",
		"<DNP3DeviceProfileDocument/>":             "lists no points",
		"<!DOCTYPE x><DNP3DeviceProfileDocument/>": "document type"} {
		if _, _, err := r.Describe([]byte(text)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

func FuzzObject(f *testing.F) {
	for _, text := range []string{"ai3", "bo4.pulse", "30:3", "g30v5 3", "analog input [3]", "…9", "\xff1"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		a, err := Scheme.Parse(text, "")
		if err != nil {
			return
		}
		if back, err := Scheme.Parse(Scheme.Short(a), ""); err != nil || back != a {
			t.Errorf("%q is %s, and comes back as %s, %v", text, a, back, err)
		}
	})
}

func FuzzProfile(f *testing.F) {
	f.Add([]byte(aProfile))
	f.Add([]byte("<DNP3DeviceProfileDocument><dataPoints><counter><index>1</index></counter></dataPoints></DNP3DeviceProfileDocument>"))
	f.Fuzz(func(_ *testing.T, data []byte) { _, _, _ = rules{}.Describe(data) })
}
