package shelf

import (
	"testing"

	_ "ferry/internal/families"

	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// TestDatasheets: every shipped datasheet is one that a site can keep, and its
// map has no fault.
func TestDatasheets(t *testing.T) {
	list := Datasheets()
	if len(list) < 12 {
		t.Errorf("%d datasheets", len(list))
	}
	s := &site.Site{Format: site.Format, Version: site.Version, Name: "Skerry Point", Datasheets: list}
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	for _, sheet := range list {
		d := site.Device{ID: sheet.ID, Name: sheet.Name, Map: sheet.Map, Limits: sheet.Limits}
		useful := 0
		for _, p := range sheet.Points {
			d.Points = append(d.Points, p.Point)
			if p.Useful {
				useful++
			}
		}
		if useful == 0 || useful == len(sheet.Points) && len(sheet.Points) > 12 {
			t.Errorf("%s marks %d of %d points as useful", sheet.Name, useful, len(sheet.Points))
		}
		def, _ := protocol.Named(sheet.Map)
		for _, f := range regmap.Check(def.Scheme, &d, def.Most(nil)) {
			if f.Severity != finding.Note {
				t.Errorf("%s: %s", sheet.Name, f.Sentence)
			}
		}
	}
}
