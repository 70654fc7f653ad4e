// Package asleft compares a site with what it was at another time, object by object and in
// words, so that it can be seen what somebody has left behind, and single things brought back.
package asleft

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"ferry/internal/core/crossing"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// Since is how an object stands now against then.
type Since string

// The ways in which it can differ.
const (
	Added   Since = "new"     // it is there now and was not then
	Gone    Since = "gone"    // it was there then and is not now
	Changed Since = "changed" // it is another
)

// Divergence is one object that is not as it was.
type Divergence struct {
	Kind   site.Kind `json:"kind"`
	ID     string    `json:"id"`
	Parent string    `json:"parent,omitempty"`
	Name   string    `json:"name"`
	Since  Since     `json:"since" jsonschema:"enum=new,enum=gone,enum=changed"`
	// Words say what differs, one thing each.
	Words []string `json:"words"`

	edit site.Edit
}

// Key names the object.
func (d *Divergence) Key() string { return string(d.Kind) + " " + d.ID }

// object is one of a site, as it is compared.
type object struct {
	kind       site.Kind
	id, parent string
	name       string
	doc        []byte // canonical
	own        any
	device     *site.Device // of a point
}

// Divergences lists what differs between a site then and now, in the order of the site.
func Divergences(then, now *site.Site) (list []Divergence) {
	list = []Divergence{}
	was, is := objects(then), objects(now)
	before := make(map[string]*object, len(was))
	for i := range was {
		before[string(was[i].kind)+" "+was[i].id] = &was[i]
	}
	there := make(map[string]bool, len(is))
	for i := range is {
		o := &is[i]
		key := string(o.kind) + " " + o.id
		there[key] = true
		old := before[key]
		switch {
		case old == nil:
			list = append(list, Divergence{Kind: o.kind, ID: o.id, Parent: o.parent, Name: o.name, Since: Added,
				Words: []string{}, edit: site.Edit{Kind: o.kind, ID: o.id, Parent: o.parent}})
		case old.parent != o.parent || !bytes.Equal(old.doc, o.doc):
			list = append(list, Divergence{Kind: o.kind, ID: o.id, Parent: o.parent, Name: o.name, Since: Changed,
				Words: differing(then, now, old, o),
				edit:  site.Edit{Kind: o.kind, ID: o.id, Parent: o.parent, After: old.doc}})
		}
	}
	for i := range was {
		if o := &was[i]; !there[string(o.kind)+" "+o.id] {
			list = append(list, Divergence{Kind: o.kind, ID: o.id, Parent: o.parent, Name: o.name, Since: Gone,
				Words: []string{}, edit: site.Edit{Kind: o.kind, ID: o.id, Parent: o.parent, After: o.doc}})
		}
	}
	kinds := site.Kinds()
	slices.SortStableFunc(list, func(a, b Divergence) int {
		return cmp.Compare(slices.Index(kinds, a.Kind), slices.Index(kinds, b.Kind))
	})
	return list
}

// Bring returns the edits that make those of the divergences with the given keys as they were
// then: what was is put back in the order in which it depends on other things, and what is new
// is taken away in the other order.
func Bring(list []Divergence, keys []string) (edits []site.Edit) {
	wanted := map[string]bool{}
	for _, key := range keys {
		wanted[key] = true
	}
	for i := range slices.Backward(list) {
		if d := &list[i]; wanted[d.Key()] && d.Since == Added {
			edits = append(edits, d.edit)
		}
	}
	for i := range list {
		if d := &list[i]; wanted[d.Key()] && d.Since != Added {
			edits = append(edits, d.edit)
		}
	}
	return edits
}

// objects lists everything that a site has.
func objects(s *site.Site) (list []object) {
	add := func(kind site.Kind, id, parent, name string, own any, d *site.Device) {
		doc, err := json.Marshal(own)
		if err != nil {
			doc = []byte(fmt.Sprintf("%q", err)) // it is not the same as anything
		}
		list = append(list, object{kind, id, parent, name, doc, own, d})
	}
	add(site.KindSite, "", "", s.Name, map[string]string{"name": s.Name, "remark": s.Remark}, nil)
	names := map[string]string{}
	for i := range s.Lines {
		add(site.KindLine, s.Lines[i].ID, "", s.Lines[i].Name, s.Lines[i], nil)
	}
	for i := range s.Devices {
		d := s.Devices[i]
		names[d.ID] = d.Name
		whole := &s.Devices[i]
		d.Points = nil
		add(site.KindDevice, d.ID, "", d.Name, d, nil)
		for j := range whole.Points {
			p := &whole.Points[j]
			names[p.ID] = d.Name + " · " + p.Name
			add(site.KindPoint, p.ID, d.ID, names[p.ID], *p, whole)
		}
	}
	for _, l := range s.Links {
		add(site.KindLink, l.ID, "", names[l.Asking]+" → "+names[l.Answering], l, nil)
	}
	for _, l := range s.Lists {
		add(site.KindList, l.ID, "", l.Name, l, nil)
	}
	for _, x := range s.Crossings {
		from := names[x.From]
		if from == "" {
			from = "heartbeat"
		}
		add(site.KindCrossing, x.ID, "", from+" → "+names[x.To], x, nil)
	}
	for _, d := range s.Datasheets {
		add(site.KindDatasheet, d.ID, "", d.Name, d, nil)
	}
	for _, t := range s.Structures {
		add(site.KindStructure, t.ID, "", t.Name, t, nil)
	}
	for _, h := range s.Headings {
		add(site.KindHeadings, h.ID, "", h.ID, h, nil)
	}
	for _, o := range s.Outlets {
		add(site.KindOutlet, o.ID, "", o.Name, o, nil)
	}
	for _, l := range s.Lookouts {
		add(site.KindLookout, l.ID, "", l.Name, l, nil)
	}
	return list
}

// differing says in words what differs between two states of an object.
func differing(then, now *site.Site, was, is *object) (words []string) {
	switch {
	case was.kind == site.KindPoint:
		words = pointWords(was, is)
	case was.kind == site.KindCrossing:
		words = crossingWords(then, now, was, is)
	}
	if len(words) > 0 {
		return words
	}
	var a, b any
	if json.Unmarshal(was.doc, &a) != nil || json.Unmarshal(is.doc, &b) != nil {
		return []string{"it is another"}
	}
	var def *protocol.Def
	if l, ok := is.own.(site.Link); ok {
		def, _ = protocol.Named(l.Protocol)
	}
	fields(&words, def, "", a, b)
	return words
}

func pointWords(was, is *object) (words []string) {
	a, _ := was.own.(site.Point)
	b, _ := is.own.(site.Point)
	before, err := was.device.SchemeOf(&a)
	after, err2 := is.device.SchemeOf(&b)
	if err != nil || err2 != nil {
		return nil
	}
	for _, column := range regmap.Columns() {
		say(&words, string(column), regmap.Cell(before, &a, column), regmap.Cell(after, &b, column))
	}
	return words
}

func crossingWords(then, now *site.Site, was, is *object) (words []string) {
	a, _ := was.own.(site.Crossing)
	b, _ := is.own.(site.Crossing)
	say(&words, "source", nameIn(then, a.From), nameIn(now, b.From))
	say(&words, "target", nameIn(then, a.To), nameIn(now, b.To))
	say(&words, "way", crossing.Words(&a), crossing.Words(&b))
	say(&words, "switched off", fmt.Sprint(a.Off), fmt.Sprint(b.Off))
	say(&words, "remark", a.Remark, b.Remark)
	return words
}

func nameIn(s *site.Site, id string) string {
	d, p := s.Point(id)
	if p == nil {
		return ""
	}
	return d.Name + " · " + p.Name
}

func say(words *[]string, what, was, is string) {
	if was == is {
		return
	}
	none := func(text string) string { return cmp.Or(text, "none") }
	*words = append(*words, fmt.Sprintf("%s was %s, is %s", what, none(was), none(is)))
}

// mostWords bounds what is said of one object.
const mostWords = 40

// fields says which fields of two JSON values differ, by their paths.
func fields(words *[]string, def *protocol.Def, path string, was, is any) {
	if len(*words) >= mostWords {
		return
	}
	a, ok := was.(map[string]any)
	b, ok2 := is.(map[string]any)
	if ok && ok2 {
		keys := map[string]bool{}
		for key := range a {
			keys[key] = true
		}
		for key := range b {
			keys[key] = true
		}
		names := make([]string, 0, len(keys))
		for key := range keys {
			names = append(names, key)
		}
		slices.Sort(names)
		for _, key := range names {
			at := strings.TrimPrefix(path+", "+plain(def, key), ", ")
			fields(words, def, at, a[key], b[key])
		}
		return
	}
	x, ok := was.([]any)
	y, ok2 := is.([]any)
	if ok && ok2 {
		for i := range max(len(x), len(y)) {
			var m, n any
			if i < len(x) {
				m = x[i]
			}
			if i < len(y) {
				n = y[i]
			}
			at := fmt.Sprintf("%s %d", path, i+1)
			fields(words, def, at, m, n)
		}
		return
	}
	say(words, path, shown(was), shown(is))
}

func shown(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	}
	text, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(text)
}

// plain is the name of a field as people read it: that of the setting, or its words apart.
func plain(def *protocol.Def, key string) string {
	if def != nil {
		if s, ok := def.Setting(key); ok {
			return strings.ToLower(s.Title)
		}
	}
	var out strings.Builder
	for i, r := range key {
		if unicode.IsUpper(r) && i > 0 {
			out.WriteByte(' ')
		}
		out.WriteRune(unicode.ToLower(r))
	}
	return out.String()
}
