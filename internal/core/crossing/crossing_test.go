package crossing

import (
	_ "ferry/internal/core/family/blocktcp"
	_ "ferry/internal/core/family/modbus"
	"testing"

	"ferry/internal/core/block"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

func TestCheck(t *testing.T) {
	point := func(id, area string, at uint32, typ value.Type, access site.Access) site.Point {
		return site.Point{ID: id, Name: id, Address: block.At(area, at), Type: typ, Access: access}
	}
	s := &site.Site{
		Devices: []site.Device{
			{ID: "p", Name: "Probe", Map: "modbus-tcp",
				Points: []site.Point{point("o", "hr", 0, "float32", "r"), point("total", "hr", 2, "uint32", "rw"),
					point("label", "hr", 9, "text", "r")}},
			{ID: "g", Name: "Gateway", Map: "modbus-tcp",
				Points: []site.Point{point("g1", "hr", 0, "int16", "rw"), point("g2", "hr", 1, "int16", "r"),
					point("g3", "ir", 1, "int16", "rw")}},
			{ID: "lone", Name: "Lone", Map: "modbus-tcp", Points: []site.Point{point("l", "hr", 0, "float32", "rw")}},
		},
		Links: []site.Link{{ID: "k1", Protocol: "modbus-tcp", Answering: "p"}, {ID: "k2", Protocol: "modbus-tcp", Answering: "g"}},
	}
	for _, c := range []struct {
		name      string
		crossings []site.Crossing
		want      []string
	}{
		{"right", []site.Crossing{{ID: "1", From: "o", To: "g1"}}, nil},
		{"read-only", []site.Crossing{{ID: "1", From: "o", To: "g2"}}, []string{"target-read-only"}},
		{"an area nobody writes", []site.Crossing{{ID: "1", From: "o", To: "g3"}}, []string{"target-area"}},
		{"two writers", []site.Crossing{{ID: "1", From: "o", To: "g1"}, {ID: "2", From: "l", To: "g1"}},
			[]string{"no-link", "two-writers"}},
		{"a circle", []site.Crossing{{ID: "1", From: "total", To: "l"}, {ID: "2", From: "l", To: "total"}},
			[]string{"loop", "no-link", "no-link"}},
		{"too wide", []site.Crossing{{ID: "1", From: "total", To: "g1"}}, []string{"range"}},
		{"text to number", []site.Crossing{{ID: "1", From: "label", To: "g1"}}, []string{"kind"}},
		{"switched off", []site.Crossing{{ID: "1", From: "label", To: "g2", Off: true}}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			s.Crossings = c.crossings
			found := Check(s)
			if len(found) != len(c.want) {
				t.Fatalf("finds %+v, want %v", found, c.want)
			}
			for i, f := range found {
				if f.Code != c.want[i] {
					t.Errorf("finds %s, want %s", f.Code, c.want[i])
				}
			}
		})
	}
}
