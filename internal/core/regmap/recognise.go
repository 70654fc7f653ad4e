package regmap

import (
	"regexp"
	"slices"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// headingWords are the words by which a heading is recognised, in small letters
// without blanks and marks.
var headingWords = map[Column][]string{
	Name:     {"name", "point", "tag", "pointname", "tagname", "signal", "signalname", "parameter", "variable", "symbol", "parametername", "variablename", "label", "item", "registername", "measurement", "datapoint", "quantity"},
	Address:  {"address", "register", "reg", "addr", "modbusaddress", "registeraddress", "registerno", "registernumber", "regno", "offset0based", "modbusregister", "registers4x", "startaddress", "startregister", "location", "regaddr", "modbusaddr", "modbusreg", "plcaddress", "adr", "addressdec", "addresshex", "addressdecimal", "registerdec", "registerhex"},
	Type:     {"type", "readsas", "datatype", "format", "dataformat", "valuetype", "datatypes", "representation", "registerformat", "encoding", "vartype", "typ"},
	Order:    {"order", "byteorder", "wordorder", "endian", "endianness", "byteandwordorder", "swap"},
	Scale:    {"scale", "factor", "gain", "multiplier", "scaling", "scalefactor", "resolution", "mult", "slope", "scalingfactor", "coefficient", "lsb", "weight"},
	Divisor:  {"divisor", "divider", "div", "divideby"},
	Offset:   {"offset", "bias", "intercept", "zero", "zerooffset"},
	Unit:     {"unit", "units", "eu", "engunit", "engunits", "engineeringunit", "engineeringunits", "uom", "dimension", "unitofmeasure"},
	Decimals: {"decimals", "digits", "decimalplaces", "precision", "dp"},
	Pace:     {"pace", "readevery", "interval", "pollrate", "scanrate", "pollinterval", "rate", "cycle", "period", "updaterate", "pollingrate"},
	Access:   {"access", "rw", "readwrite", "rorw", "permission", "direction", "accesstype", "accessrights", "attribute", "mode", "rwaccess"},
	Names:    {"names", "values", "namedvalues", "enumeration", "enum", "states", "options", "bits", "bitmeaning", "valuelist", "bitdescription", "meaning"},
	Missing:  {"missing", "notavailable", "invalidvalue", "navalue", "nullvalue", "invalid", "errorvalue"},
	Low:      {"low", "min", "minimum", "lowest", "lowlimit", "lowerlimit", "rangemin", "rangelow"},
	High:     {"high", "max", "maximum", "highest", "highlimit", "upperlimit", "rangemax", "rangehigh"},
	Change:   {"change", "fastestchange", "changesevery", "responsetime", "minimumchange"},
	Remark:   {"remark", "remarks", "comment", "comments", "description", "note", "notes", "desc", "explanation", "details", "info"},
	Count:    {"count", "length", "size", "noofregisters", "registers", "numberofregisters", "qty", "quantityofregisters", "words", "noofwords", "len", "numregs", "nrofregisters", "numberofwords", "regcount", "regs"},
	Bit:      {"bit", "bitno", "bitnumber", "bitposition", "bitoffset", "bitnr"},
	Table:    {"table", "registertype", "functioncode", "function", "fc", "objecttype", "area", "memoryarea", "regtype", "modbusfunction", "functioncodes", "readfunction", "modbustype", "modbustable", "block"},
}

var headingOf = func() map[string]Column {
	index := map[string]Column{}
	for column, words := range headingWords {
		for _, word := range words {
			index[word] = column
		}
	}
	return index
}()

// plain strips a heading to its letters and digits; what stands in brackets is
// an explanation.
func plain(heading string) string {
	if i := strings.IndexAny(heading, "([{"); i > 0 {
		heading = heading[:i]
	}
	var b strings.Builder
	for _, r := range strings.ToLower(heading) {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// mostTitles is how many rows of title and remarks may stand above the
// headings.
const mostTitles = 25

// Recognise finds out which row holds the headings and what the columns of a
// table are: because the same headings were read before, by the words of the
// headings, and what they leave open by what the cells hold. A table without
// headings is recognised by its cells alone, and where they do not tell, taken
// in the order of Columns.
func Recognise(scheme address.Scheme, rows []Row, reading Reading, known []site.Headings) Listing {
	l := Listing{Rows: rows, Reading: reading}
	head := -1
	switch {
	case reading.HeaderRow > 0:
		head = slices.IndexFunc(rows, func(r Row) bool { return r.Line >= reading.HeaderRow })
	case reading.HeaderRow == 0:
		head = findHeadings(scheme, rows, known)
	}
	width := widthOf(rows, head)
	l.Columns, l.Bases = make([]Column, width), make([]Basis, width)
	if head >= 0 {
		l.Headings, l.Rows = rows[head].Cells, rows[head+1:]
		l.Reading.HeaderRow = rows[head].Line
		if l.remember(known) {
			l.look()
			return l
		}
		for i, heading := range l.Headings {
			if column, ok := headingOf[plain(heading)]; ok && !slices.Contains(l.Columns, column) {
				l.Columns[i], l.Bases[i] = column, ByHeading
			}
		}
		l.secondAddress()
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
	l.look()
	return l
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

// findHeadings returns the row that looks most like headings, or -1.
func findHeadings(scheme address.Scheme, rows []Row, known []site.Headings) int {
	best, most := -1, 0
	for i := range rows[:min(len(rows), mostTitles)] {
		cells := rows[i].Cells
		if slices.ContainsFunc(known, func(h site.Headings) bool { return sameHeadings(h.Words, cells) }) {
			return i
		}
		found := map[Column]bool{}
		for _, cell := range cells {
			if column, ok := headingOf[plain(cell)]; ok {
				found[column] = true
			}
		}
		score := len(found)
		if (found[Address] || found[Name] && score > 1) && score > most {
			best, most = i, score
		}
	}
	// A single matching word is a heading only if nothing in the row is data.
	if most == 1 && slices.ContainsFunc(rows[best].Cells, func(cell string) bool { return looksLikePlace(scheme, cell) }) {
		return -1
	}
	return best
}

func sameHeadings(a, b []string) bool {
	return slices.EqualFunc(a, b, func(x, y string) bool { return strings.EqualFold(strings.TrimSpace(x), strings.TrimSpace(y)) })
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

// secondAddress settles tables with two columns of addresses, in decimal and
// hexadecimal, of which the first was taken.
func (l *Listing) secondAddress() {
	at := slices.Index(l.Columns, Address)
	if at < 0 {
		return
	}
	for i, heading := range l.Headings {
		if i < len(l.Columns) && l.Columns[i] == "" && headingOf[plain(heading)] == Address && emptyColumn(l.Rows, at) {
			l.Columns[at], l.Bases[at] = "", NotAtAll
			l.Columns[i], l.Bases[i] = Address, ByHeading
			return
		}
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

// placePattern matches what can hardly be anything but a register: notations
// with a table digit, a prefix or a percent sign, and ranges of them.
var placePattern = regexp.MustCompile(`(?i)^\s*(%[iqm][xbwdl]?\d|(hr|ir|co|di)\d|[0134]x\d|0x[0-9a-f]|[0134]\d{4,5}\b|[34]\d,\d{3}$)`)

func looksLikePlace(scheme address.Scheme, cell string) bool {
	if !placePattern.MatchString(cell) {
		return false
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
			if column != "" {
				continue
			}
			if share := l.share(i, t.fits); share >= t.least && share > most {
				best, most = i, share
			}
		}
		if best >= 0 {
			l.Columns[best], l.Bases[best] = t.column, ByContent
		}
	}
	if slices.Contains(l.Columns, Name) || !slices.Contains(l.Columns, Address) {
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

// look settles how bits and bare numbers count where the cells tell: a bit 16
// exists only where bits count from 1.
func (l *Listing) look() {
	at := slices.Index(l.Columns, Bit)
	if at < 0 {
		return
	}
	zero, sixteen := false, false
	for i := range l.Rows {
		if at < len(l.Rows[i].Cells) {
			cell := strings.TrimSpace(l.Rows[i].Cells[at])
			zero = zero || cell == "0"
			sixteen = sixteen || cell == "16"
		}
	}
	l.Reading.BitFromOne = l.Reading.BitFromOne || sixteen && !zero
}
