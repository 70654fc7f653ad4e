package regmap

import (
	"regexp"
	"slices"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
)

// Aside is a row of a table that is no point, and why: a title between the
// rows, a remark below them, headings that are repeated.
type Aside struct {
	Line int    `json:"line"`
	Text string `json:"text"`
	What string `json:"what"`
}

var footnote = regexp.MustCompile(`^(\*+|\d\)|\(\d\)|†|‡|[¹²³]|note|remark|hinweis|anm|nota|noot|obs|source|legend|see |continued|page |seite )`)

// aside says what a row is that is no point; empty for one that may be.
func (l *Listing) aside(r *Row) string {
	at := slices.Index(l.Columns, Address)
	if at >= 0 && at < len(r.Cells) && plainPlace(r.Cells[at]) && (at >= len(l.Headings) ||
		r.Cells[at] != l.Headings[at]) && len(r.Cells) > 1 {
		return "" // it has an address, as most have
	}
	if len(l.Headings) > 0 && l.repeats(r) {
		return "the headings again"
	}
	if at < 0 || at < len(r.Cells) && strings.TrimSpace(r.Cells[at]) != "" && (filled(r.Cells) > 1 ||
		strings.ContainsAny(r.Cells[at], "0123456789") && !strings.Contains(strings.TrimSpace(r.Cells[at]), " ")) {
		return ""
	}
	words, text := filled(r.Cells), ""
	for i, c := range r.Cells {
		if c = strings.TrimSpace(c); c == "" {
			continue
		}
		if text == "" {
			text = c
		}
		if i < len(l.Columns) && (l.Columns[i] == Type || l.Columns[i] == Unit || l.Columns[i] == Access ||
			l.Columns[i] == Count) {
			return "" // it speaks of a value, whose address is missing
		}
	}
	switch {
	case words == 0:
		return ""
	case footnote.MatchString(folded(text)):
		return "a remark below the table"
	case words == 1:
		return "a title between the rows"
	}
	return ""
}

// repeats reports whether a row is that of the headings once more.
func (l *Listing) repeats(r *Row) bool {
	same, filled := 0, 0
	for i, c := range r.Cells {
		if strings.TrimSpace(c) == "" {
			continue
		}
		filled++
		if i < len(l.Headings) && strings.EqualFold(strings.TrimSpace(c), strings.TrimSpace(l.Headings[i])) {
			same++
		}
	}
	return same > 1 && same*4 >= filled*3
}

// sectioned reports whether titles between the rows say which table the rows
// below them are of.
func (l *Listing) sectioned(scheme address.Scheme) bool {
	for i := range l.Rows {
		if _, ok := l.section(scheme, &l.Rows[i]); ok {
			return true
		}
	}
	return false
}

// section returns the area that a title between the rows names.
func (l *Listing) section(scheme address.Scheme, r *Row) (string, bool) {
	if l.aside(r) != "a title between the rows" {
		return "", false
	}
	area, ok := block.AreaSaid(scheme, folded(strings.Join(r.Cells, " ")))
	return area.Key, ok
}
