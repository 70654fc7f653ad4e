package site

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"

	"ferry/internal/core/problem"
)

// Kind names a kind of object that an edit can change.
type Kind string

// The kinds. KindSite is the site's own name and remark.
const (
	KindSite      Kind = "site"
	KindLine      Kind = "line"
	KindDevice    Kind = "device"
	KindPoint     Kind = "point"
	KindLink      Kind = "link"
	KindCrossing  Kind = "crossing"
	KindList      Kind = "list"
	KindDatasheet Kind = "datasheet"
	KindStructure Kind = "structure"
	KindHeadings  Kind = "headings"
	KindLookout   Kind = "lookout"
	KindOutlet    Kind = "outlet"
)

// Kinds lists all kinds, each after those on which it depends.
func Kinds() []Kind {
	return []Kind{KindSite, KindDatasheet, KindStructure, KindLine, KindDevice, KindPoint, KindLink, KindList,
		KindCrossing, KindHeadings, KindOutlet, KindLookout}
}

// Edit asks for one object to be created, replaced or removed.
type Edit struct {
	Kind   Kind   `json:"kind"`
	ID     string `json:"id"`
	Parent string `json:"parent,omitempty"` // the device of a point
	// Index is where a new object goes among its siblings; missing or out of
	// range means last.
	Index *int `json:"index,omitempty"`
	// After is the whole object, or null to remove it.
	After json.RawMessage `json:"after"`
}

// Change is one object's step from Before to After. A nil Before means that
// it was created, a nil After that it was removed. A device's own JSON leaves
// its points out: they are objects of their own.
type Change struct {
	Kind   Kind            `json:"kind"`
	ID     string          `json:"id"`
	Parent string          `json:"parent,omitempty"`
	Index  int             `json:"index"`
	Before json.RawMessage `json:"before,omitempty"`
	After  json.RawMessage `json:"after,omitempty"`
}

// Apply carries out edits in order and returns the new site with every change
// made, those that follow by themselves included: removing a device removes
// its points and links, and removing a point the crossings on it. The old site
// is left as it was. On any error nothing is changed.
func (s *Site) Apply(edits []Edit) (*Site, []Change, error) {
	next := s.clone()
	a := applier{site: next, owned: map[string]bool{}, at: map[Kind]map[string]int{}, looked: map[Kind]int{}}
	for i := range edits {
		if err := a.apply(edits[i]); err != nil {
			return nil, nil, err
		}
	}
	if err := next.Validate(); err != nil {
		return nil, nil, err
	}
	for i := range next.Devices {
		// A site stays for long: what its maps grew by in advance is given back.
		if d := &next.Devices[i]; a.owned[d.ID] && cap(d.Points)-len(d.Points) > 8 {
			d.Points = slices.Clip(slices.Clone(d.Points))
		}
	}
	return next, a.changes, nil
}

// Invert returns the edits that take changes back.
func Invert(changes []Change) []Edit {
	edits := make([]Edit, 0, len(changes))
	for _, c := range slices.Backward(changes) {
		index := c.Index
		edits = append(edits, Edit{Kind: c.Kind, ID: c.ID, Parent: c.Parent, Index: &index, After: c.Before})
	}
	return edits
}

// clone copies the top-level slices; points are copied when first touched.
func (s *Site) clone() *Site {
	c := *s
	c.Lines = slices.Clone(s.Lines)
	c.Devices = slices.Clone(s.Devices)
	c.Links = slices.Clone(s.Links)
	c.Crossings = slices.Clone(s.Crossings)
	c.Lists = slices.Clone(s.Lists)
	c.Datasheets = slices.Clone(s.Datasheets)
	c.Structures = slices.Clone(s.Structures)
	c.Headings = slices.Clone(s.Headings)
	c.Lookouts = slices.Clone(s.Lookouts)
	c.Outlets = slices.Clone(s.Outlets)
	return &c
}

type applier struct {
	site    *Site
	changes []Change
	owned   map[string]bool           // devices whose points are already copied
	places  map[string]map[string]int // device -> point id -> index, kept while only replacing
	at      map[Kind]map[string]int   // id -> index, kept while nothing moves
	looked  map[Kind]int              // how often an object of a kind was looked for
	// crossed are the points that crossings have to do with, or had; nil for not worked
	// out.
	crossed map[string]bool
}

// fewLooks is how many objects of a kind are looked for one after the other before
// it is worth to know where all of them are.
const fewLooks = 8

// find returns the index of an object, -1 where there is none.
func find[T any](a *applier, kind Kind, list []T, id func(*T) *string, want string) int {
	if known := a.at[kind]; known != nil {
		if i, ok := known[want]; ok {
			return i
		}
		return -1
	}
	if a.looked[kind]++; a.looked[kind] > fewLooks {
		known := make(map[string]int, len(list))
		for i := range list {
			known[*id(&list[i])] = i
		}
		a.at[kind] = known
		return find(a, kind, list, id, want)
	}
	for i := range list {
		if *id(&list[i]) == want {
			return i
		}
	}
	return -1
}

// moved notes that an object was put in or taken out of a list of so many, which
// leaves the others where they are if it is the last.
func (a *applier) moved(kind Kind, id string, index, count int, there bool) {
	known := a.at[kind]
	switch {
	case known == nil:
	case index != count-1:
		delete(a.at, kind)
		a.looked[kind] = 0
	case there:
		known[id] = index
	default:
		delete(known, id)
	}
}

func (a *applier) apply(e Edit) error {
	remove := len(e.After) == 0 || bytes.Equal(bytes.TrimSpace(e.After), []byte("null"))
	if e.ID == "" && e.Kind != KindSite {
		return problem.New("invalid", "an edit names no object.", "").At(string(e.Kind))
	}
	switch e.Kind {
	case KindSite:
		return a.editSite(e, remove)
	case KindLine:
		if remove {
			a.removeOfLine(e.ID)
		}
		return edit(a, e, &a.site.Lines, remove, func(l *Line) *string { return &l.ID })
	case KindDevice:
		if remove {
			a.removeOfDevice(e.ID)
		}
		return a.editDevice(e, remove)
	case KindPoint:
		return a.editPoint(e, remove)
	case KindLink:
		if remove {
			a.removeOfLink(e.ID)
		}
		return edit(a, e, &a.site.Links, remove, func(l *Link) *string { return &l.ID })
	case KindCrossing:
		if !remove {
			a.crossed = nil
		}
		return edit(a, e, &a.site.Crossings, remove, func(c *Crossing) *string { return &c.ID })
	case KindList:
		if remove {
			a.removeOfList(e.ID)
		}
		return edit(a, e, &a.site.Lists, remove, func(l *List) *string { return &l.ID })
	case KindDatasheet:
		return edit(a, e, &a.site.Datasheets, remove, func(d *Datasheet) *string { return &d.ID })
	case KindStructure:
		return edit(a, e, &a.site.Structures, remove, func(t *Structure) *string { return &t.ID })
	case KindHeadings:
		return edit(a, e, &a.site.Headings, remove, func(h *Headings) *string { return &h.ID })
	case KindLookout:
		return edit(a, e, &a.site.Lookouts, remove, func(l *Lookout) *string { return &l.ID })
	case KindOutlet:
		if remove {
			a.removeOfOutlet(e.ID)
		}
		return edit(a, e, &a.site.Outlets, remove, func(o *Outlet) *string { return &o.ID })
	}
	return problem.New("invalid", fmt.Sprintf("%q is not a kind of object.", e.Kind), "")
}

// decode reads an object strictly: an unknown field is an error, not lost.
func decode(e Edit, into any) error {
	d := json.NewDecoder(bytes.NewReader(e.After))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return problem.New("invalid", err.Error()+".", "").At(string(e.Kind) + " " + e.ID)
	}
	return nil
}

// Put returns the edit that creates an object or replaces it. It panics if the
// object cannot be encoded, which no object of a site is.
func Put(kind Kind, id, parent string, v any) Edit {
	return Edit{Kind: kind, ID: id, Parent: parent, After: encode(v)}
}

func encode(v any) json.RawMessage {
	data, err := json.Marshal(v)
	if err != nil {
		panic("site: an object that was decoded cannot be encoded: " + err.Error())
	}
	return data
}

func edit[T any](a *applier, e Edit, list *[]T, remove bool, id func(*T) *string) error {
	at := find(a, e.Kind, *list, id, e.ID)
	change := Change{Kind: e.Kind, ID: e.ID, Parent: e.Parent, Index: at}
	if at >= 0 {
		change.Before = encode((*list)[at])
	}
	if remove {
		if at < 0 {
			return gone(e)
		}
		a.moved(e.Kind, e.ID, at, len(*list), false)
		*list = slices.Delete(*list, at, at+1)
		a.changes = append(a.changes, change)
		return nil
	}
	var item T
	if err := decode(e, &item); err != nil {
		return err
	}
	*id(&item) = e.ID
	if at >= 0 {
		(*list)[at] = item
	} else {
		change.Index = place(e.Index, len(*list))
		*list = slices.Insert(*list, change.Index, item)
		a.moved(e.Kind, e.ID, change.Index, len(*list), true)
	}
	change.After = encode(item)
	if !bytes.Equal(change.Before, change.After) {
		a.changes = append(a.changes, change)
	}
	return nil
}

func place(index *int, count int) int {
	if index == nil || *index < 0 || *index > count {
		return count
	}
	return *index
}

func gone(e Edit) error {
	return problem.New("gone", fmt.Sprintf("the %s is no longer in the site.", e.Kind),
		"Reload to see what changed.").At(e.ID)
}

func (a *applier) editSite(e Edit, remove bool) error {
	if remove {
		return problem.New("invalid", "a site cannot be removed from itself.", "")
	}
	type own struct {
		Name   string `json:"name"`
		Remark string `json:"remark,omitempty"`
	}
	var after own
	if err := decode(e, &after); err != nil {
		return err
	}
	before := own{a.site.Name, a.site.Remark}
	if before != after {
		a.site.Name, a.site.Remark = after.Name, after.Remark
		a.changes = append(a.changes, Change{Kind: KindSite, Before: encode(before), After: encode(after)})
	}
	return nil
}

// editDevice keeps the points out of the device's own JSON.
func (a *applier) editDevice(e Edit, remove bool) error {
	var points []Point
	if d := a.site.Device(e.ID); d != nil {
		points = d.Points
		d.Points = nil
	}
	err := edit(a, e, &a.site.Devices, remove, func(d *Device) *string { return &d.ID })
	if err != nil {
		return err
	}
	if d := a.site.Device(e.ID); d != nil {
		if len(d.Points) > 0 {
			return problem.New("invalid", "points are edited one by one, not inside their device.",
				"").At("device " + d.Name)
		}
		d.Points = points
		if d.Points == nil {
			d.Points = []Point{}
		}
	}
	return nil
}

func (a *applier) editPoint(e Edit, remove bool) error {
	d := a.site.Device(e.Parent)
	if d == nil {
		return problem.New("gone", "the device of the point is no longer in the site.",
			"Reload to see what changed.").At(e.Parent)
	}
	if !a.owned[d.ID] {
		d.Points = slices.Clone(d.Points)
		a.owned[d.ID] = true
	}
	if remove {
		a.removeOfPoint(e.ID)
	}
	at, known := a.pointPlace(d, e.ID)
	change := Change{Kind: KindPoint, ID: e.ID, Parent: d.ID, Index: at}
	if known {
		change.Before = encode(d.Points[at])
	}
	if remove {
		if !known {
			return gone(e)
		}
		if at == len(d.Points)-1 {
			delete(a.places[d.ID], e.ID)
		} else {
			delete(a.places, d.ID) // the places of those behind it have moved
		}
		d.Points = slices.Delete(d.Points, at, at+1)
		a.changes = append(a.changes, change)
		return nil
	}
	var p Point
	if err := decode(e, &p); err != nil {
		return err
	}
	p.ID = e.ID
	if known {
		d.Points[at] = p
	} else {
		change.Index = place(e.Index, len(d.Points))
		d.Points = slices.Insert(d.Points, change.Index, p)
		if change.Index == len(d.Points)-1 {
			a.places[d.ID][p.ID] = change.Index
		} else {
			delete(a.places, d.ID)
		}
	}
	change.After = encode(p)
	if !bytes.Equal(change.Before, change.After) {
		a.changes = append(a.changes, change)
	}
	return nil
}

// pointPlace finds a point of d by its id. The index is built once, so that
// tens of thousands of edits of one device stay cheap.
func (a *applier) pointPlace(d *Device, id string) (int, bool) {
	if a.places == nil {
		a.places = map[string]map[string]int{}
	}
	if a.places[d.ID] == nil {
		index := make(map[string]int, len(d.Points))
		for i := range d.Points {
			index[d.Points[i].ID] = i
		}
		a.places[d.ID] = index
	}
	at, known := a.places[d.ID][id]
	return at, known
}

func (a *applier) removeOfLine(id string) {
	a.unwatch(id)
	for i := len(a.site.Links) - 1; i >= 0; i-- {
		if a.site.Links[i].Line == id {
			a.drop(KindLink, a.site.Links[i].ID, "")
		}
	}
	for _, d := range slices.Clone(a.site.Devices) {
		if d.Port(id) == nil {
			continue
		}
		d.Points = nil
		d.Ports = slices.DeleteFunc(slices.Clone(d.Ports), func(p Port) bool { return p.Line == id })
		a.must(Edit{Kind: KindDevice, ID: d.ID, After: encode(d)})
	}
}

func (a *applier) removeOfDevice(id string) {
	a.unwatch(id)
	for i := len(a.site.Links) - 1; i >= 0; i-- {
		if l := a.site.Links[i]; l.Asking == id || l.Answering == id {
			a.drop(KindLink, l.ID, "")
		}
	}
	for _, l := range slices.Backward(slices.Clone(a.site.Lists)) {
		if l.Far == id {
			a.drop(KindList, l.ID, "")
		}
	}
	if d := a.site.Device(id); d != nil {
		for _, p := range slices.Backward(slices.Clone(d.Points)) {
			a.drop(KindPoint, p.ID, id)
		}
	}
}

// removeOfLink has the points that a link carries by name be carried by whichever
// is left.
func (a *applier) removeOfLink(id string) {
	a.unwatch(id)
	for i := range a.site.Devices {
		d := a.site.Devices[i]
		for _, p := range d.Points {
			if p.Link == id {
				p.Link = ""
				a.must(Put(KindPoint, p.ID, d.ID, p))
			}
		}
	}
}

// removeOfList takes the names of a list with it: on their own they would go on by
// other rules.
func (a *applier) removeOfList(id string) {
	for i := len(a.site.Crossings) - 1; i >= 0; i-- {
		if a.site.Crossings[i].List == id {
			a.drop(KindCrossing, a.site.Crossings[i].ID, "")
		}
	}
}

// removeOfPoint takes the crossings of a point with it. A list that it enabled is
// switched off.
func (a *applier) removeOfPoint(id string) {
	for _, l := range slices.Clone(a.site.Lists) {
		if l.Enable == id {
			l.Enable, l.Off = "", true
			a.must(Put(KindList, l.ID, "", l))
		}
	}
	a.noRole(id)
	a.unwatch(id)
	if a.crossed == nil {
		a.crossed = map[string]bool{}
		for i := range a.site.Crossings {
			for point := range a.site.Crossings[i].Points {
				a.crossed[point] = true
			}
		}
	}
	if !a.crossed[id] {
		return
	}
	for i := len(a.site.Crossings) - 1; i >= 0; i-- {
		if c := &a.site.Crossings[i]; c.Concerns(id) {
			a.drop(KindCrossing, c.ID, "")
		}
	}
}

// noRole has devices do without a point: ports whose address it gave have the one they
// are planned with, and a device whose heartbeat it was has none.
func (a *applier) noRole(id string) {
	for i := range a.site.Devices {
		d := a.site.Devices[i]
		beats := d.Alive != nil && d.Alive.Point == id
		if !beats && !slices.ContainsFunc(d.Ports, func(p Port) bool {
			return p.HostFrom == id || p.Pair != nil && p.Pair.Says == id
		}) {
			continue
		}
		if beats {
			d.Alive = nil
		}
		d.Points, d.Ports = nil, slices.Clone(d.Ports)
		for j := range d.Ports {
			if d.Ports[j].HostFrom == id {
				d.Ports[j].HostFrom = ""
			}
			if pair := d.Ports[j].Pair; pair != nil && pair.Says == id {
				without := *pair
				without.Says = ""
				d.Ports[j].Pair = &without
			}
		}
		a.must(Edit{Kind: KindDevice, ID: d.ID, After: encode(d)})
	}
}

func (a *applier) drop(kind Kind, id, parent string) {
	a.must(Edit{Kind: kind, ID: id, Parent: parent})
}

// must applies an edit of an object that is known to be there.
func (a *applier) must(e Edit) {
	if err := a.apply(e); err != nil {
		panic("site: " + err.Error())
	}
}
