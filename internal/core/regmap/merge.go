package regmap

import (
	"reflect"
	"slices"

	"ferry/internal/core/address"
	"ferry/internal/core/site"
)

// Effect says what a row of a table does to a map.
type Effect string

// A row adds a point, changes one, leaves it as it is; a point that no row
// speaks of is removed, if that is wanted.
const (
	Adds    Effect = "added"
	Changes Effect = "changed"
	Keeps   Effect = "same"
	Removes Effect = "removed"
)

// Merged is a map after a table was brought in.
type Merged struct {
	// Points are those of the table, in its order: a point that the map has
	// already keeps its id and whatever the table has no column for.
	Points  []site.Point
	Effects []Effect
	// Changed lists the columns that differ, for each point that is changed.
	Changed [][]Column
	// Removed are the points of the map that no row speaks of.
	Removed []*site.Point
}

// Merge matches points with those of a map: by name, and what is left by
// address and type, as a point that was renamed. given lists the columns that
// the table has.
func Merge(scheme address.Scheme, old []site.Point, points []site.Point, given []Column) Merged {
	m := Merged{Points: slices.Clone(points), Effects: make([]Effect, len(points)),
		Changed: make([][]Column, len(points))}
	byName := make(map[string]int, len(old))
	type place struct {
		at  address.Address
		typ string
	}
	byPlace := make(map[place]int, len(old))
	taken := make([]bool, len(old))
	for i := len(old) - 1; i >= 0; i-- {
		byName[old[i].Name] = i
		if !old[i].Address.IsZero() {
			byPlace[place{old[i].Address, PrintType(&old[i])}] = i
		}
	}
	match := make([]int, len(points))
	for i := range points {
		match[i] = -1
		if at, ok := byName[points[i].Name]; ok && !taken[at] {
			match[i], taken[at] = at, true
		}
	}
	for i := range points {
		if match[i] >= 0 {
			continue
		}
		if at, ok := byPlace[place{points[i].Address, PrintType(&points[i])}]; ok && !taken[at] {
			match[i], taken[at] = at, true
		}
	}
	has := func(columns ...Column) bool {
		return slices.ContainsFunc(columns, func(c Column) bool { return slices.Contains(given, c) })
	}
	for i := range points {
		if match[i] < 0 {
			m.Effects[i] = Adds
			continue
		}
		was := &old[match[i]]
		m.Points[i] = overlaid(was, &points[i], has)
		m.Effects[i] = Keeps
		if !reflect.DeepEqual(m.Points[i], *was) {
			m.Effects[i] = Changes
			for _, column := range Columns() {
				if Cell(scheme, was, column) != Cell(scheme, &m.Points[i], column) {
					m.Changed[i] = append(m.Changed[i], column)
				}
			}
		}
	}
	for i := range old {
		if !taken[i] {
			m.Removed = append(m.Removed, &old[i])
		}
	}
	return m
}

// kept says which columns of a table speak of which part of a point, and how
// that part stays as it was where the table has none of them.
var kept = []struct {
	columns []Column
	keep    func(p, was *site.Point)
}{
	{[]Column{Order}, func(p, was *site.Point) { p.Order = was.Order }},
	{[]Column{Scale, Divisor},
		func(p, was *site.Point) { p.Factor, p.Range, p.PowerAt = was.Factor, was.Range, was.PowerAt }},
	{[]Column{Offset}, func(p, was *site.Point) { p.Offset = was.Offset }},
	{[]Column{Unit}, func(p, was *site.Point) { p.Unit = was.Unit }},
	{[]Column{Pace}, func(p, was *site.Point) { p.PaceMs = was.PaceMs }},
	{[]Column{Decimals}, func(p, was *site.Point) { p.Decimals = was.Decimals }},
	{[]Column{Access}, func(p, was *site.Point) { p.Access = was.Access }},
	{[]Column{Names}, func(p, was *site.Point) { p.Names = was.Names }},
	{[]Column{Missing}, func(p, was *site.Point) { p.Missing = was.Missing }},
	{[]Column{Low}, func(p, was *site.Point) { p.Low = was.Low }},
	{[]Column{High}, func(p, was *site.Point) { p.High = was.High }},
	{[]Column{Change}, func(p, was *site.Point) { p.ChangeMs = was.ChangeMs }},
	{[]Column{Band}, func(p, was *site.Point) { p.Band = was.Band }},
	{[]Column{Told}, func(p, was *site.Point) { p.Told = was.Told }},
	{[]Column{Remark}, func(p, was *site.Point) { p.Remark = was.Remark }},
}

// overlaid returns was with what the table gives for it.
func overlaid(was, row *site.Point, has func(...Column) bool) site.Point {
	p := *row
	p.ID, p.From, p.Map, p.Link = was.ID, was.From, was.Map, was.Link
	// The address alone may say that a bit is meant.
	if !has(Type, Count, Bit) && row.Place().Bit == was.Place().Bit && row.Place().Area == was.Place().Area {
		retype(&p, shaped{was.Type, was.Length, was.Charset, was.Padding})
	}
	for _, part := range kept {
		if !has(part.columns...) {
			part.keep(&p, was)
		}
	}
	return p
}
