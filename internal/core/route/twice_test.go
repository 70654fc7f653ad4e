package route_test

import (
	"strings"
	"testing"

	_ "ferry/internal/core/family/bacnet"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
)

// TestTwice: a number that has to be unique on all networks is found twice, also on another line, once; and so are
// two ends that cannot share an address.
func TestTwice(t *testing.T) {
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "a", Name: "Plant net", Medium: site.Ethernet},
		{ID: "b", Name: "Buildings net", Medium: site.Ethernet}}
	add := func(id, line, host string, device, network int) {
		s.Devices = append(s.Devices,
			site.Device{ID: id, Name: id,
				Ports: []site.Port{{Line: line, Host: host, Protocol: "bacnet-ip",
					Settings: protocol.Settings{"device": protocol.OfInt(device), "network": protocol.OfInt(network)}}}})
	}
	add("one", "a", "192.0.2.1", 4050, 0)
	add("two", "b", "192.0.2.2", 4050, 0)
	add("three", "a", "192.0.2.1", 4051, 0)
	add("four", "a", "192.0.2.1", 4052, 1001)
	var said []string
	for i := range s.Lines {
		for _, f := range route.LineFindings(s, &s.Lines[i]) {
			said = append(said, f.Code+" "+f.Subject.ID+" "+f.Sentence)
		}
	}
	want := []string{"place-twice three one and three are both to answer at 192.0.2.1",
		"station-twice two one and two both have the device instance 4050"}
	if len(said) != len(want) || !strings.HasPrefix(said[0], want[0]) || !strings.HasPrefix(said[1], want[1]) {
		t.Errorf("%q", said)
	}
}
