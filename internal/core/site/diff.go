package site

import (
	"encoding/json"
	"slices"
)

// Diff returns the edits that turn one site into another: what is gone is
// removed, leaves first; everything else is put as it is in the other.
func Diff(from, to *Site) []Edit {
	var edits []Edit
	drop := func(kind Kind, id, parent string) {
		edits = append(edits, Edit{Kind: kind, ID: id, Parent: parent})
	}
	put := func(kind Kind, id, parent string, item any) {
		edits = append(edits, Edit{Kind: kind, ID: id, Parent: parent, After: encode(item)})
	}
	if from.Name != to.Name || from.Remark != to.Remark {
		own, _ := json.Marshal(map[string]string{"name": to.Name, "remark": to.Remark}) // two strings always encode
		edits = append(edits, Edit{Kind: KindSite, After: own})
	}
	// Of thousands the last goes first, so that none has to move.
	for _, id := range missing(from.Lookouts, to.Lookouts, func(l Lookout) string { return l.ID }) {
		drop(KindLookout, id, "")
	}
	for _, id := range missing(from.Outlets, to.Outlets, func(o Outlet) string { return o.ID }) {
		drop(KindOutlet, id, "")
	}
	for _, id := range slices.Backward(missing(from.Crossings, to.Crossings, func(c Crossing) string { return c.ID })) {
		drop(KindCrossing, id, "")
	}
	for _, id := range missing(from.Lists, to.Lists, func(l List) string { return l.ID }) {
		drop(KindList, id, "")
	}
	for _, id := range missing(from.Links, to.Links, func(l Link) string { return l.ID }) {
		drop(KindLink, id, "")
	}
	for i := range from.Devices {
		old := &from.Devices[i]
		var kept []Point
		if d := to.Device(old.ID); d != nil {
			kept = d.Points
		}
		gone := missing(old.Points, kept, func(p Point) string { return p.ID })
		for j := len(gone) - 1; j >= 0; j-- {
			drop(KindPoint, gone[j], old.ID)
		}
	}
	for _, id := range missing(from.Devices, to.Devices, func(d Device) string { return d.ID }) {
		drop(KindDevice, id, "")
	}
	for _, id := range missing(from.Lines, to.Lines, func(l Line) string { return l.ID }) {
		drop(KindLine, id, "")
	}
	for _, l := range to.Lines {
		put(KindLine, l.ID, "", l)
	}
	for _, d := range to.Devices {
		points := d.Points
		d.Points = nil
		put(KindDevice, d.ID, "", d)
		for _, p := range points {
			put(KindPoint, p.ID, d.ID, p)
		}
	}
	for _, l := range to.Links {
		put(KindLink, l.ID, "", l)
	}
	for _, l := range to.Lists {
		put(KindList, l.ID, "", l)
	}
	for _, c := range to.Crossings {
		put(KindCrossing, c.ID, "", c)
	}
	for _, id := range missing(from.Datasheets, to.Datasheets, func(d Datasheet) string { return d.ID }) {
		drop(KindDatasheet, id, "")
	}
	for _, id := range missing(from.Structures, to.Structures, func(t Structure) string { return t.ID }) {
		drop(KindStructure, id, "")
	}
	for _, id := range missing(from.Headings, to.Headings, func(h Headings) string { return h.ID }) {
		drop(KindHeadings, id, "")
	}
	for _, d := range to.Datasheets {
		put(KindDatasheet, d.ID, "", d)
	}
	for _, t := range to.Structures {
		put(KindStructure, t.ID, "", t)
	}
	for _, h := range to.Headings {
		put(KindHeadings, h.ID, "", h)
	}
	for _, o := range to.Outlets {
		put(KindOutlet, o.ID, "", o)
	}
	for _, l := range to.Lookouts {
		put(KindLookout, l.ID, "", l)
	}
	return edits
}

// missing lists the ids of from that to has not.
func missing[T any](from, to []T, id func(T) string) (gone []string) {
	there := make(map[string]bool, len(to))
	for _, item := range to {
		there[id(item)] = true
	}
	for _, item := range from {
		if !there[id(item)] {
			gone = append(gone, id(item))
		}
	}
	return gone
}
