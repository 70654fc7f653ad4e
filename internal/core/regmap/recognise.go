package regmap

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// mostTitles is how many rows of title and remarks may stand above the
// headings.
const mostTitles = 25

// Recognise finds out which row holds the headings and what the columns of a
// table are: because the same headings were read before, by the words of the
// headings, and what they leave open by what the cells hold. A table without
// headings is recognised by its cells alone, and where they do not tell, taken
// in the order of Columns. How addresses and scales are meant is settled by
// what the table says; what it leaves open is asked.
func Recognise(scheme address.Scheme, rows []Row, reading Reading, known []site.Headings) Listing {
	l := Listing{Rows: rows, Reading: reading}
	head, deep := -1, 1
	switch {
	case reading.HeaderRow > 0:
		if head = slices.IndexFunc(rows, func(r Row) bool { return r.Line >= reading.HeaderRow }); head >= 0 {
			deep = depth(scheme, rows, head)
		}
	case reading.HeaderRow == 0:
		head, deep = findHeadings(scheme, rows, known)
	}
	width := widthOf(rows, head)
	l.Columns, l.Bases = make([]Column, width), make([]Basis, width)
	l.Titles = rows[:max(0, head)]
	if head >= 0 {
		l.Headings, l.Rows = joined(rows[head:head+deep], width), rows[head+deep:]
		l.Reading.HeaderRow = rows[head].Line
		if l.remember(known) {
			l.settle(scheme)
			return l
		}
		l.byHeading(scheme)
	} else {
		l.Reading.HeaderRow = -1
	}
	l.byContent(scheme)
	if head < 0 && !slices.Contains(l.Columns, Address) {
		for i := range min(width, len(Columns())) {
			if l.Columns[i] == "" && !slices.Contains(l.Columns, Columns()[i]) {
				l.Columns[i], l.Bases[i] = Columns()[i], ByContent
			}
		}
	}
	l.named()
	l.settle(scheme)
	return l
}

// byHeading takes columns for what their headings say.
func (l *Listing) byHeading(scheme address.Scheme) {
	for i, heading := range l.Headings {
		if column, ok := columnOf(heading); ok && !slices.Contains(l.Columns, column) {
			l.Columns[i], l.Bases[i] = column, ByHeading
		}
	}
	l.contradicted(scheme)
	l.secondAddress()
	// "From" is the first register only where "To" is the last and nothing else
	// is an address; "Registers" may be how many, or which.
	at := slices.Index(l.Columns, Address)
	for i, heading := range l.Headings {
		switch word := plain(heading); {
		case at >= 0:
		case slices.Contains(fromWords, word) && slices.Contains(l.Columns, Until),
			l.Columns[i] == Count && l.share(i, func(c string) bool { return couldBePlace(scheme, c) }) > 0.8:
			l.Columns[i], l.Bases[i] = Address, ByHeading
			at = i
		}
	}
	// "Offset" is the address where nothing else is and it counts up.
	if i := slices.Index(l.Columns, Offset); at < 0 && i >= 0 && !l.anyPlace(scheme) &&
		(l.ascends(i) || l.inBlock(scheme, i)) {
		l.Columns[i] = Address
		at = i
	}
	if at < 0 {
		if i := slices.Index(l.Columns, Until); i >= 0 {
			l.Columns[i], l.Bases[i] = "", NotAtAll
		}
	}
	// A sign for reading without one for writing is the access in one column.
	readable, writable := slices.Index(l.Columns, Readable), slices.Index(l.Columns, Writable)
	if i := max(readable, writable); readable >= 0 != (writable >= 0) &&
		l.share(i, func(c string) bool { _, err := parseAccess(c); return err == nil }) > 0.5 {
		l.Columns[max(readable, writable)] = Access
		if slices.Index(l.Columns, Access) != max(readable, writable) {
			l.Columns[max(readable, writable)], l.Bases[max(readable, writable)] = "", NotAtAll
		}
	}
}

// anyPlace reports whether a column that no heading told holds addresses.
func (l *Listing) anyPlace(scheme address.Scheme) bool {
	for i, column := range l.Columns {
		if column == "" && l.share(i, func(c string) bool { return looksLikePlace(scheme, c) }) >= 0.8 {
			return true
		}
	}
	return false
}

// ascends reports whether a column holds nothing but whole numbers, each greater
// than the one before.
func (l *Listing) ascends(at int) bool {
	before, filled := -1, 0
	for cell := range l.cells(at) {
		n, err := strconv.Atoi(cell)
		if err != nil || n <= before {
			return false
		}
		before = n
		filled++
	}
	return filled > 1
}

// contradicted gives up what a heading said of a column where no cell of it can
// be that: "Function" may be what a value is for, and under "Scaling" may stand
// types.
func (l *Listing) contradicted(scheme address.Scheme) {
	for i, column := range l.Columns {
		switch column {
		case Name:
			if l.share(i, func(c string) bool { _, kind := address.KindNamed(scheme, c); return kind }) < 1 ||
				emptyColumn(l.Rows, i) || slices.Contains(l.Columns, Table) {
				continue
			}
			l.Columns[i] = Table // it says of which kind each is
			for k, heading := range l.Headings {
				if word, known := columnOf(heading); known && word == Name && k != i && l.Columns[k] == "" {
					l.Columns[k], l.Bases[k] = Name, ByHeading
					break
				}
			}
			continue
		case Table:
			if l.share(i, func(c string) bool {
				_, ok := block.AreaNamed(scheme, c)
				_, kind := address.KindNamed(scheme, c)
				return ok || kind
			}) > 0 ||
				emptyColumn(l.Rows, i) {
				continue
			}
		case Names:
			if slices.Contains(l.Columns, Remark) && slices.Contains(l.Columns, Name) || emptyColumn(l.Rows, i) ||
				l.share(i, func(c string) bool { _, err := parseNames(c); return err == nil }) > 0 {
				continue
			}
			if !slices.Contains(l.Columns, Name) {
				l.Columns[i] = Name // the meaning of the register, not of its values
				continue
			}
		case Scale, Divisor:
			if slices.Contains(l.Columns, Type) ||
				l.share(i, func(c string) bool {
					s, err := parseType(c)
					return err == nil && s.Type != "" &&
						!allDigits(c)
				}) < 0.9 {
				continue
			}
		default:
			continue
		}
		l.Columns[i], l.Bases[i] = "", NotAtAll
	}
}

var fromWords = []string{"from", "first", "von", "ab", "de", "du", "desde", "da", "van", "fran"}

// couldBePlace reports whether a cell names a register rather than says how
// many: a range of them, or a number beyond what a value takes.
func couldBePlace(scheme address.Scheme, cell string) bool {
	a, units, err := ParsePlace(scheme, cell, "", false)
	return err == nil && (units > 1 || block.Of(a).Offset > 16 || looksLikePlace(scheme, cell))
}

// named takes the description for the name where a table has no column of names.
func (l *Listing) named() {
	if slices.Contains(l.Columns, Name) {
		return
	}
	if at := slices.Index(l.Columns, Remark); at >= 0 && !emptyColumn(l.Rows, at) {
		l.Columns[at] = Name
	}
}

// widthOf is the number of columns: that of the headings, unless many rows go
// on beside them.
func widthOf(rows []Row, head int) int {
	from := rows[max(0, head):min(len(rows), max(0, head)+sampled)]
	widest, wide := 0, 0
	for i := range from {
		widest = max(widest, len(from[i].Cells))
		if head >= 0 && len(from[i].Cells) > len(rows[head].Cells) {
			wide++
		}
	}
	if head >= 0 && wide*5 < len(from) {
		return len(rows[head].Cells)
	}
	return widest
}

// findHeadings returns the row that looks most like headings, or -1, and over
// how many rows they go.
func findHeadings(scheme address.Scheme, rows []Row, known []site.Headings) (at, deep int) {
	best, most := -1, 0
	for i := range rows[:min(len(rows), mostTitles)] {
		cells := rows[i].Cells
		if slices.ContainsFunc(known, func(h site.Headings) bool { return sameHeadings(h.Words, cells) }) {
			return i, 1
		}
		found := headingsIn(cells)
		score := len(found)
		if score < 3 && slices.ContainsFunc(cells, func(c string) bool { return allDigits(strings.TrimSpace(c)) }) {
			continue // numbers stand in rows, not in headings
		}
		if (found[Address] || found[Name] && score > 1 || score > 2) && score > most {
			best, most = i, score
		}
	}
	// A single matching word is a heading only if nothing in the row is data.
	if most == 1 && slices.ContainsFunc(rows[best].Cells,
		func(cell string) bool { return looksLikePlace(scheme, cell) }) {
		return -1, 1
	}
	if best < 0 {
		return -1, 1
	}
	// The row above may be the first of two: it is, if both together say more.
	if best > 0 {
		above := rows[best-1].Cells
		both := headingsIn(joined(rows[best-1:best+1], max(len(above), len(rows[best].Cells))))
		if len(headingsIn(above)) > 0 && filled(above) > 1 && len(both) > most {
			return best - 1, 2
		}
	}
	return best, depth(scheme, rows, best)
}

// depth is over how many rows the headings that begin in one go.
func depth(scheme address.Scheme, rows []Row, head int) int {
	if head+1 >= len(rows) {
		return 1
	}
	cells := rows[head+1].Cells
	if slices.ContainsFunc(cells,
		func(c string) bool { return looksLikePlace(scheme, c) || allDigits(strings.TrimSpace(c)) }) {
		return 1
	}
	both := headingsIn(joined(rows[head:head+2], max(len(cells), len(rows[head].Cells))))
	one := headingsIn(rows[head].Cells)
	if len(both) > len(one) && len(headingsIn(cells)) > 0 {
		return 2
	}
	return 1
}

// Likeness says how much rows look like a list of points: how many columns of one
// they have, and twice that if addresses are among them. A cover sheet has none.
func Likeness(scheme address.Scheme, rows []Row) int {
	if len(rows) > 200 {
		rows = rows[:200]
	}
	head, deep := findHeadings(scheme, rows, nil)
	if head < 0 {
		if slices.ContainsFunc(rows, func(r Row) bool {
			return len(r.Cells) > 1 && slices.ContainsFunc(r.Cells,
				func(c string) bool { return looksLikePlace(scheme, c) })
		}) {
			return 2
		}
		return 0
	}
	found := headingsIn(joined(rows[head:head+deep], len(rows[head].Cells)))
	if found[Address] {
		return 2 * len(found)
	}
	return len(found)
}

func filled(cells []string) (n int) {
	for _, c := range cells {
		if strings.TrimSpace(c) != "" {
			n++
		}
	}
	return n
}

func headingsIn(cells []string) map[Column]bool {
	found := map[Column]bool{}
	for _, cell := range cells {
		if column, ok := columnOf(cell); ok {
			found[column] = true
		}
	}
	return found
}

// joined makes one row of headings of one or two. Where cells of the upper row
// are merged, the first holds the word for all of them.
func joined(rows []Row, width int) []string {
	if len(rows) == 1 {
		return rows[0].Cells
	}
	upper, lower := rows[0].Cells, rows[1].Cells
	words := make([]string, width)
	over := ""
	for i := range words {
		up, down := "", ""
		if i < len(upper) {
			up = strings.TrimSpace(upper[i])
		}
		if i < len(lower) {
			down = strings.TrimSpace(lower[i])
		}
		switch {
		case up != "":
			over = up
		case down == "":
			over = ""
		default:
			up = over
		}
		words[i] = strings.TrimSpace(up + " " + down)
		if _, ok := columnOf(words[i]); !ok && down != "" {
			if _, ok := columnOf(down); ok {
				words[i] = down
			} else if _, ok := columnOf(up); ok && i < len(upper) && upper[i] != "" {
				words[i] = up + " (" + down + ")"
			}
		}
	}
	return words
}

func sameHeadings(a, b []string) bool {
	return slices.EqualFunc(a, b,
		func(x, y string) bool { return strings.EqualFold(strings.TrimSpace(x), strings.TrimSpace(y)) })
}

// remember takes the columns over from a table that was read before.
func (l *Listing) remember(known []site.Headings) bool {
	for _, h := range known {
		if !sameHeadings(h.Words, l.Headings) {
			continue
		}
		for i, column := range h.Columns {
			if i < len(l.Columns) {
				l.Columns[i], l.Bases[i] = Column(column), ByMemory
				if column == "" {
					l.Bases[i] = NotAtAll
				}
			}
		}
		return true
	}
	return false
}

// secondAddress settles tables with two columns of addresses, of which the first
// was taken: an empty one is none, and of a decimal and a hexadecimal one the
// decimal is taken.
func (l *Listing) secondAddress() {
	at := slices.Index(l.Columns, Address)
	if at < 0 {
		return
	}
	better := func(i int) bool {
		if emptyColumn(l.Rows, at) {
			return !emptyColumn(l.Rows, i)
		}
		return l.hexadecimal(at) && !l.hexadecimal(i) && !emptyColumn(l.Rows, i)
	}
	for i, heading := range l.Headings {
		column, ok := columnOf(heading)
		if !ok || column != Address || i >= len(l.Columns) || l.Columns[i] != "" || !better(i) {
			continue
		}
		l.Columns[at], l.Bases[at] = "", NotAtAll
		l.Columns[i], l.Bases[i] = Address, ByHeading
		at = i
	}
}

func emptyColumn(rows []Row, at int) bool {
	for i := range rows[:min(len(rows), 50)] {
		if at < len(rows[i].Cells) && strings.TrimSpace(rows[i].Cells[at]) != "" {
			return false
		}
	}
	return true
}

// sampled is how many rows are looked at to recognise columns by content.
const sampled = 200

// looksLikePlace reports whether a cell can hardly be anything but an address.
func looksLikePlace(scheme address.Scheme, cell string) bool {
	if !address.Unmistakable(scheme, cell) {
		return false
	}
	if _, kinds := scheme.(address.Kinds); kinds {
		return true // a range of them is no place that is parsed by itself
	}
	_, _, err := ParsePlace(scheme, cell, "", false)
	return err == nil
}

var orderPattern = regexp.MustCompile(`(?i)^\s*(ABCD|CDAB|BADC|DCBA|AB|BA|[A-H]{8})\s*$`)

// byContent recognises columns that no heading told by what their cells hold.
func (l *Listing) byContent(scheme address.Scheme) {
	type test struct {
		column Column
		fits   func(cell string) bool
		least  float64
	}
	tests := []test{
		{Address, func(c string) bool { return looksLikePlace(scheme, c) }, 0.8},
		{Type, func(c string) bool { _, err := parseType(c); return err == nil && !allDigits(c) }, 0.8},
		{Order, orderPattern.MatchString, 0.9},
		{Access, func(c string) bool { _, err := parseAccess(c); return err == nil }, 0.95},
		{Unit, func(c string) bool { return KnownUnit(strings.TrimSpace(c)) }, 0.7},
	}
	for _, t := range tests {
		if slices.Contains(l.Columns, t.column) {
			continue
		}
		best, most := -1, 0.0
		for i, column := range l.Columns {
			if column != "" || t.column == Address && i < len(l.Headings) &&
				saysHalf.MatchString(folded(l.Headings[i])) {
				continue // half an address is none
			}
			if share := l.share(i, t.fits); share >= t.least && share > most {
				best, most = i, share
			}
		}
		if best >= 0 {
			l.Columns[best], l.Bases[best] = t.column, ByContent
		}
	}
	if slices.Contains(l.Columns, Name) || !slices.Contains(l.Columns, Address) ||
		slices.Contains(l.Columns, Remark) && l.unnamedBy(Remark) {
		return
	}
	// The name is the column of words of which most differ.
	best, most := -1, 0.6
	for i, column := range l.Columns {
		if column != "" {
			continue
		}
		if share := l.distinct(i); share > most {
			best, most = i, share
		}
	}
	if best >= 0 {
		l.Columns[best], l.Bases[best] = Name, ByContent
	}
}

// unnamedBy reports whether a column that its heading told has words that tell
// the rows apart, so that it can stand in for a name.
func (l *Listing) unnamedBy(column Column) bool {
	at := slices.Index(l.Columns, column)
	return l.Bases[at] == ByHeading && l.distinct(at) > 0.9
}

// share returns which part of the filled cells of a column pass a test.
func (l *Listing) share(at int, fits func(string) bool) float64 {
	filled, passed := 0, 0
	for i := range l.Rows[:min(len(l.Rows), sampled)] {
		row := &l.Rows[i]
		if at >= len(row.Cells) || strings.TrimSpace(row.Cells[at]) == "" {
			continue
		}
		filled++
		if fits(row.Cells[at]) {
			passed++
		}
	}
	if filled == 0 {
		return 0
	}
	return float64(passed) / float64(filled)
}

// distinct returns which part of a column's cells are words that stand once.
func (l *Listing) distinct(at int) float64 {
	seen := map[string]bool{}
	filled := 0
	for i := range l.Rows[:min(len(l.Rows), sampled)] {
		row := &l.Rows[i]
		if at >= len(row.Cells) || strings.TrimSpace(row.Cells[at]) == "" {
			continue
		}
		filled++
		if _, err := value.ParseFloat(row.Cells[at]); err != nil {
			seen[row.Cells[at]] = true
		}
	}
	if filled == 0 {
		return 0
	}
	return float64(len(seen)) / float64(filled)
}
