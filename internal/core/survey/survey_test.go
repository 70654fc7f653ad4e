package survey

import (
	"slices"
	"testing"

	_ "ferry/internal/core/family/blocktcp"
	_ "ferry/internal/core/family/modbus"
	"ferry/internal/core/finding"
	"ferry/internal/core/habit"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

func hall() *site.Site {
	return &site.Site{Name: "Skerry Point Hatchery",
		Lines: []site.Line{{ID: "net", Name: "Plant net", Medium: site.Ethernet, Network: "192.0.2.0/24"}},
		Devices: []site.Device{
			{ID: "laptop", Name: "Laptop", Ports: []site.Port{{Line: "net", Host: "192.0.2.1"}}},
			{ID: "hall", Name: "Hall", Map: "modbus-tcp", Ports: []site.Port{
				{Line: "net", Host: "198.51.100.2", Protocol: "modbus-tcp"},
				{Line: "net", Host: "198.51.100.2", Protocol: "block-tcp"}}},
		},
		Links: []site.Link{{ID: "a", Asking: "laptop", Answering: "hall", Line: "net", Protocol: "modbus-tcp"},
			{ID: "b", Asking: "laptop", Answering: "hall", Line: "net", Protocol: "block-tcp"}}}
}

func codes(list []finding.Finding, link string) (codes []string) {
	for _, f := range list {
		if f.Subject.ID == link {
			codes = append(codes, f.Code)
		}
	}
	return codes
}

// TestTryCountsMore: what a try of a link has seen takes the place of what the
// paper says of it, and of that link alone.
func TestTryCountsMore(t *testing.T) {
	p := OnPaper(hall(), nil, nil)
	seen := Seen{Tried: func(string) *route.Route { return nil }, Value: func(string) value.Value { return value.Value{} }}
	for _, link := range []string{"a", "b"} {
		if got := codes(p.Findings(seen), link); !slices.Contains(got, "route-wire") {
			t.Errorf("on paper %s has %v: its address is in another network", link, got)
		}
	}
	tried := route.New("a")
	tried.Set(route.Points, route.Fault, "Refused.", "")
	seen.Tried = func(link string) *route.Route {
		if link == "a" {
			return tried
		}
		return nil
	}
	list := p.Findings(seen)
	if got := codes(list, "a"); !slices.Equal(got, []string{"route-points"}) {
		t.Errorf("after a try it has %v", got)
	}
	if got := codes(list, "b"); !slices.Contains(got, "route-wire") {
		t.Errorf("the other has %v", got)
	}
	if !slices.IsSortedFunc(list, func(a, b finding.Finding) int {
		rank := map[finding.Severity]int{finding.Fault: 0, finding.Doubt: 1, finding.Note: 2}
		return rank[a.Severity] - rank[b.Severity]
	}) {
		t.Error("the worst does not come first")
	}
}

// TestChecksWhatChanged: a map that stayed as it was is not checked again.
func TestChecksWhatChanged(t *testing.T) {
	s, asked := hall(), []string{}
	check := func(d *site.Device) []finding.Finding {
		asked = append(asked, d.ID)
		return nil
	}
	first := OnPaper(s, nil, check)
	next := *s
	next.Devices = slices.Clone(s.Devices)
	next.Devices[1].Name = "Hall 2"
	if OnPaper(&next, first, check); !slices.Equal(asked, []string{"laptop", "hall", "hall"}) {
		t.Errorf("checked were %v", asked)
	}
}

// TestNoteThinking: what was measured over two links of one device goes into the
// port of each, in one edit.
func TestNoteThinking(t *testing.T) {
	s := hall()
	edits, links := NoteThinking(s, map[string]site.Think{"a": {MedianMs: 4.126, WorstMs: 9},
		"b": {MedianMs: 2, WorstMs: 3}, "gone": {MedianMs: 1}})
	if links != 2 || len(edits) != 1 {
		t.Fatalf("%d links in %d edits", links, len(edits))
	}
	after, _, err := s.Apply(edits)
	if err != nil {
		t.Fatal(err)
	}
	ports := after.Device("hall").Ports
	if ports[0].Think == nil || ports[0].Think.MedianMs != 4.13 || ports[1].Think == nil || ports[1].Think.MedianMs != 2 {
		t.Errorf("the ports have %+v", ports)
	}
}

func TestNotes(t *testing.T) {
	s := hall()
	if _, _, err := NoteManner(s, "a", "sings"); err == nil {
		t.Error("a manner that is none was noted")
	}
	if _, _, err := NoteHabits(s, "a", habit.Device{}); err == nil {
		t.Error("nothing was noted")
	}
	if _, _, err := NoteManner(s, "gone", "dozes"); err == nil {
		t.Error("something was noted of no link")
	}
	for range 2 {
		edit, d, err := NoteManner(s, "a", "dozes")
		if err != nil || d.ID != "hall" {
			t.Fatal(err)
		}
		if s, _, err = s.Apply([]site.Edit{edit}); err != nil || len(s.Device("hall").Limits.Manners) != 1 {
			t.Errorf("%v: %+v", err, s.Device("hall").Limits)
		}
	}
}
