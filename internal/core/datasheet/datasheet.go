// Package datasheet places reusable maps and structures into the maps of
// devices, and tells which devices still follow them and which have departed.
package datasheet

import (
	"cmp"
	"fmt"
	"math"
	"reflect"
	"slices"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/layout"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// Extent is how far the structures that are placed in an area of a device reach.
type Extent struct {
	Area string
	// End is the first unit behind the last of them, Name that structure's.
	End  int
	Name string
}

// Extents returns the extents of the areas of a device into which structures
// were placed, in the order of the placements. What cannot be laid out any more
// has none.
func Extents(s *site.Site, d *site.Device) (extents []Extent) {
	scheme, err := protocol.SchemeOf(protocol.MapOr(d.Map))
	if err != nil {
		return nil
	}
	for i := range d.Placements {
		pl := &d.Placements[i]
		if in, err := protocol.SchemeOf(mapOf(d, pl)); err != nil || in != scheme {
			continue // it is in another map of the device
		}
		t := s.Structure(pl.Structure)
		area, ok := block.AreaOf(scheme, pl.Area)
		if t == nil || !ok || area.UnitBits < 8 {
			continue
		}
		laid, err := s.Laid(t)
		if err != nil {
			continue
		}
		_, octets, err := layout.Lay(laid, pl.Rule)
		if err != nil {
			continue
		}
		e := Extent{pl.Area, int(pl.Start) + (octets+area.Octets()-1)/area.Octets(), t.Name}
		at := slices.IndexFunc(extents, func(x Extent) bool { return x.Area == e.Area })
		if at < 0 {
			extents = append(extents, e)
		} else if extents[at].End < e.End {
			extents[at] = e
		}
	}
	return extents
}

// mapOf names the protocol in whose addressing a structure is placed.
func mapOf(d *site.Device, pl *site.Placement) string {
	return protocol.MapOr(cmp.Or(pl.Map, d.Whole().Map))
}

// Expected returns the points that a placement in d stands for, without ids, in
// the order of its datasheet or structure. It fails if what was placed is no longer
// in the site, or if a point would leave its area.
func Expected(s *site.Site, d *site.Device, pl *site.Placement) ([]site.Point, error) {
	if pl.Structure != "" {
		return expectedOfStructure(s, d, pl)
	}
	sheet := s.Datasheet(pl.Datasheet)
	if sheet == nil {
		return nil, fmt.Errorf("the datasheet is no longer in the site")
	}
	scheme, err := protocol.SchemeOf(sheet.Map)
	if err != nil {
		return nil, err
	}
	points := make([]site.Point, 0, len(sheet.Points))
	for i := range sheet.Points {
		if !sheet.Points[i].Useful && !pl.All {
			continue
		}
		p, err := placed(scheme, &sheet.Points[i].Point, pl)
		if err != nil {
			return nil, err
		}
		// Protocols of a family share their maps.
		if own, err := protocol.SchemeOf(protocol.MapOr(d.Whole().Map)); err != nil || own != scheme {
			p.Map = sheet.Map
		}
		points = append(points, p)
	}
	return points, nil
}

func placed(scheme address.Scheme, of *site.Point, pl *site.Placement) (site.Point, error) {
	p := *of
	p.From = &site.Origin{Placement: pl.ID, Point: of.ID}
	p.ID, p.Name = "", pl.Prefix+of.Name
	if pl.PaceMs > 0 {
		p.PaceMs = pl.PaceMs
	}
	var err error
	if p.Address, err = shifted(scheme, of.Address, pl.Shift, p.Name); err == nil {
		p.PowerAt, err = shifted(scheme, of.PowerAt, pl.Shift, p.Name)
	}
	return p, err
}

func shifted(scheme address.Scheme, a address.Address, by int, name string) (address.Address, error) {
	at := block.Of(a)
	if at.Area == "" || by == 0 {
		return a, nil
	}
	area, ok := block.AreaOf(scheme, at.Area)
	to := int64(at.Offset) + int64(by)
	if !ok || to < 0 || to >= int64(area.Units) {
		return a, fmt.Errorf("with a shift of %d, %s would lie outside the %s", by, name, area.Title)
	}
	return block.Moved(a, uint32(to)), nil
}

func expectedOfStructure(s *site.Site, d *site.Device, pl *site.Placement) ([]site.Point, error) {
	t := s.Structure(pl.Structure)
	if t == nil {
		return nil, fmt.Errorf("the structure is no longer in the site")
	}
	scheme, err := protocol.SchemeOf(mapOf(d, pl))
	if err != nil {
		return nil, err
	}
	area, _ := block.AreaOf(scheme, pl.Area)
	points, err := s.Lay(t, pl.Rule, block.At(pl.Area, pl.Start), area.UnitBits)
	if err != nil {
		return nil, err
	}
	for i := range points {
		p := &points[i]
		p.From = &site.Origin{Placement: pl.ID, Point: p.Name}
		p.Name = pl.Prefix + p.Name
		p.PaceMs, p.Map = pl.PaceMs, pl.Map
		if pl.Access != "" {
			p.Access = pl.Access
		}
	}
	return points, nil
}

// Place returns the edits that put a placement into the map of a device: the
// placement itself, and its points. newID names them.
func Place(s *site.Site, d *site.Device, pl site.Placement, newID func() string) ([]site.Edit, error) {
	pl.ID = newID()
	d = d.Whole()
	own := *d
	own.Points = nil
	own.Placements = append(slices.Clone(d.Placements), pl)
	if sheet := s.Datasheet(pl.Datasheet); sheet != nil {
		scheme, err := protocol.SchemeOf(sheet.Map)
		if err != nil {
			return nil, err
		}
		if len(d.Points) == 0 {
			own.Limits = sheet.Limits
			// Protocols of a family share their maps: a serial device keeps its own.
			if has, err := protocol.SchemeOf(own.Map); err != nil || has != scheme {
				own.Map = sheet.Map
			}
		}
		if d.Model == "" {
			own.Model = sheet.Name
		}
	}
	own.Map = protocol.MapOr(own.Map)
	points, err := Expected(s, &own, &pl)
	if err != nil {
		return nil, err
	}
	edits := []site.Edit{site.Put(site.KindDevice, d.ID, "", own)}
	for i := range points {
		points[i].ID = newID()
		edits = append(edits, site.Put(site.KindPoint, points[i].ID, d.ID, points[i]))
	}
	return edits, nil
}

// Of makes a datasheet of a device: every point, all of them useful, with its
// access checklist and for how long it thinks. Names lose the prefix.
func Of(s *site.Site, d *site.Device, name, prefix string) site.Datasheet {
	sheet := site.Datasheet{Name: name, Map: d.Map, Limits: d.Limits, Access: s.Checklist(d), ThinkMs: thinks(d),
		Points: make([]site.SheetPoint, len(d.Points))}
	for i := range d.Points {
		p := d.Points[i]
		p.Map, p.Link = "", ""
		if len(p.Name) > len(prefix) && p.Name[:len(prefix)] == prefix {
			p.Name = p.Name[len(prefix):]
		}
		p.From = nil
		sheet.Points[i] = site.SheetPoint{Point: p, Useful: true}
	}
	return sheet
}

// thinks is how long a device was seen, or is stated, to think, in whole
// milliseconds; 0 where nobody knows.
func thinks(d *site.Device) int {
	for i := range d.Ports {
		p := &d.Ports[i]
		if p.Think != nil {
			return int(math.Ceil(p.Think.MedianMs))
		}
		if ms := p.Settings[protocol.KeyThink].Int(); ms > 0 {
			return ms
		}
	}
	return 0
}

// Departure is one place where a device is not what its datasheet says.
type Departure struct {
	Point  string        `json:"point"` // id; empty for one that is missing
	Name   string        `json:"name"`
	Column regmap.Column `json:"column"` // empty for a whole point
	Is     string        `json:"is"`
	Should string        `json:"should"`
}

// Standing is how a placement stands to what was placed.
type Standing struct {
	Device    string         `json:"device"`
	Placement site.Placement `json:"placement"`
	// Points is how many points follow in every cell.
	Points     int         `json:"points"`
	Departures []Departure `json:"departures"`
	// Problem says why nothing can be compared.
	Problem string `json:"problem,omitempty"`
}

// Compare tells for each placement of a device where its points have departed.
func Compare(s *site.Site, d *site.Device) []Standing {
	list := []Standing{}
	for i := range d.Placements {
		list = append(list, compare(s, d, &d.Placements[i]))
	}
	return list
}

func compare(s *site.Site, d *site.Device, pl *site.Placement) Standing {
	st := Standing{Device: d.ID, Placement: *pl, Departures: []Departure{}}
	points, err := Expected(s, d, pl)
	if err != nil {
		st.Problem = err.Error() + "."
		return st
	}
	there := owned(d, pl.ID)
	for i := range points {
		want := &points[i]
		scheme, err := d.SchemeOf(want)
		if err != nil {
			st.Problem = err.Error() + "."
			return st
		}
		is := there[want.From.Point]
		delete(there, want.From.Point)
		if is == nil {
			st.Departures = append(st.Departures,
				Departure{Name: want.Name, Should: "a point at " + regmap.Cell(scheme, want, regmap.Address)})
			continue
		}
		follows := true
		for _, column := range regmap.Columns() {
			if a, b := regmap.Cell(scheme, is, column), regmap.Cell(scheme, want, column); a != b {
				st.Departures = append(st.Departures, Departure{is.ID, is.Name, column, a, b})
				follows = false
			}
		}
		if follows {
			st.Points++
		}
	}
	for i := range d.Points { // in the order of the map, not of the index
		if p := &d.Points[i]; p.From != nil && there[p.From.Point] == p {
			st.Departures = append(st.Departures,
				Departure{Point: p.ID, Name: p.Name, Is: "a point that the datasheet does not place"})
		}
	}
	return st
}

// owned indexes the points of a placement by what they came from.
func owned(d *site.Device, placement string) map[string]*site.Point {
	index := map[string]*site.Point{}
	for i := range d.Points {
		if p := &d.Points[i]; p.From != nil && p.From.Placement == placement {
			index[p.From.Point] = p
		}
	}
	return index
}

// Follow returns the edits by which devices follow a datasheet or a structure
// from one state to another: a cell that was as the old one said takes the new
// value, one that had departed stays; points that are new are added, and those
// that are gone are removed unless they had departed.
func Follow(before, after *site.Site, newID func() string) []site.Edit {
	var edits []site.Edit
	for i := range after.Devices {
		d := &after.Devices[i]
		for k := range d.Placements {
			pl := &d.Placements[k]
			if unchanged(before, after, pl) {
				continue
			}
			old, errOld := Expected(before, d, pl)
			now, errNow := Expected(after, d, pl)
			if errOld == nil && errNow == nil {
				edits = append(edits, follow(d, pl, old, now, newID)...)
			}
		}
	}
	return edits
}

func unchanged(before, after *site.Site, pl *site.Placement) bool {
	if pl.Structure != "" {
		return reflect.DeepEqual(before.Structures, after.Structures) // one may be part of another
	}
	return reflect.DeepEqual(before.Datasheet(pl.Datasheet), after.Datasheet(pl.Datasheet))
}

func follow(d *site.Device, pl *site.Placement, old, now []site.Point, newID func() string) (edits []site.Edit) {
	there := owned(d, pl.ID)
	was := map[string]*site.Point{}
	for i := range old {
		was[old[i].From.Point] = &old[i]
	}
	for i := range now {
		want := now[i]
		is, before := there[want.From.Point], was[want.From.Point]
		delete(was, want.From.Point)
		switch {
		case is == nil && before == nil:
			want.ID = newID()
			edits = append(edits, site.Put(site.KindPoint, want.ID, d.ID, want))
		case is != nil && before != nil:
			if merged := threeWay(is, before, &want); !reflect.DeepEqual(merged, *is) {
				edits = append(edits, site.Put(site.KindPoint, is.ID, d.ID, merged))
			}
		}
	}
	for _, gone := range old {
		if is := there[gone.From.Point]; is != nil && was[gone.From.Point] != nil && same(is, &gone) {
			edits = append(edits, site.Edit{Kind: site.KindPoint, ID: is.ID, Parent: d.ID})
		}
	}
	return edits
}

// same reports whether a point is as it was placed.
func same(is, placed *site.Point) bool {
	a := *is
	a.ID = placed.ID
	return reflect.DeepEqual(a, *placed)
}

// threeWay takes each field from now where the point had the field of before.
func threeWay(is, before, now *site.Point) site.Point {
	merged := *is
	a, b, c := reflect.ValueOf(&merged).Elem(), reflect.ValueOf(before).Elem(), reflect.ValueOf(now).Elem()
	for i := range a.NumField() {
		name := a.Type().Field(i).Name
		if name == "ID" || name == "From" {
			continue
		}
		if reflect.DeepEqual(a.Field(i).Interface(), b.Field(i).Interface()) {
			a.Field(i).Set(c.Field(i))
		}
	}
	return merged
}

// Return gives the edits that bring the points of a placement back to what was
// placed: all of them, or those with the given ids.
func Return(s *site.Site, d *site.Device, placement string, points []string, newID func() string) ([]site.Edit, error) {
	at := slices.IndexFunc(d.Placements, func(pl site.Placement) bool { return pl.ID == placement })
	if at < 0 {
		return nil, fmt.Errorf("the placement is no longer in the device")
	}
	expected, err := Expected(s, d, &d.Placements[at])
	if err != nil {
		return nil, err
	}
	there := owned(d, placement)
	var edits []site.Edit
	for i := range expected {
		p := expected[i]
		is := there[p.From.Point]
		switch {
		case is == nil && len(points) == 0:
			p.ID = newID()
			edits = append(edits, site.Put(site.KindPoint, p.ID, d.ID, p))
		case is != nil && (len(points) == 0 || slices.Contains(points, is.ID)):
			if p.ID = is.ID; !reflect.DeepEqual(p, *is) {
				edits = append(edits, site.Put(site.KindPoint, p.ID, d.ID, p))
			}
		}
	}
	return edits, nil
}
