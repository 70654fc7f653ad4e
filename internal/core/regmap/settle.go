package regmap

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/value"
)

// The keys of questions.
const (
	asksBase  = "base"
	asksArea  = "table"
	asksScale = "scale"
	asksOrder = "order"
	asksPlain = "digits"
	asksShown = "decimals"
)

// settle finds out how the addresses, scales and orders of a table are meant,
// and says by what: the headings, the titles above them, or what the cells of
// the whole column hold. Where two readings remain it asks.
func (l *Listing) settle(scheme address.Scheme) {
	l.Notes, l.Questions = []string{}, []Question{}
	at := slices.Index(l.Columns, Address)
	heading := ""
	if at >= 0 && at < len(l.Headings) {
		heading = l.Headings[at]
	}
	titles := l.titles()
	l.settleBits()
	l.settleCount()
	if l.InBlock = at >= 0 && l.inBlock(scheme, at); l.InBlock {
		l.settleArea(scheme, at, heading, titles)
	} else if at >= 0 {
		l.settleHex(at, heading)
		l.settleDots(at)
		l.settlePlain(scheme, at)
		l.settleArea(scheme, at, heading, titles)
		l.settleBase(scheme, at, heading, titles)
	}
	l.settleScale(scheme)
	l.settleShown(scheme)
	l.settleOrder(scheme, titles)
	l.leftOut()
}

// AllSettled are the keys of every question, for rows that were read before.
var AllSettled = []string{asksBase, asksArea, asksScale, asksOrder, asksPlain, asksShown, "hex", "lengths"}

// Settle is done anew once a person has chosen columns.
func (l *Listing) Settle(scheme address.Scheme) { l.settle(scheme) }

// titles is what stands above the headings, and below the table, as one text in
// small letters without accents.
func (l *Listing) titles() string {
	var text []string
	for _, r := range l.Titles {
		text = append(text, r.Cells...)
	}
	for i := range l.Rows {
		if l.aside(&l.Rows[i]) != "" {
			text = append(text, l.Rows[i].Cells...)
		}
	}
	return folded(strings.Join(text, " \n "))
}

func (l *Listing) note(format string, args ...any) {
	l.Notes = append(l.Notes, fmt.Sprintf(format, args...))
}

func (l *Listing) settled(key string) bool { return slices.Contains(l.Reading.Settled, key) }

// settleBits: a bit 16 exists only where bits count from 1.
func (l *Listing) settleBits() {
	at := slices.Index(l.Columns, Bit)
	if at < 0 {
		return
	}
	zero, sixteen := false, false
	for cell := range l.cells(at) {
		zero = zero || cell == "0"
		sixteen = sixteen || cell == "16"
	}
	if sixteen && !zero && !l.Reading.BitFromOne {
		l.Reading.BitFromOne = true
		l.note("Bits count from 1: there is a bit 16, and no bit 0.")
	}
}

// settleCount finds out whether lengths count bits or octets: their heading says
// so, or all of them are widths of types in bits.
func (l *Listing) settleCount() {
	at := slices.Index(l.Columns, Count)
	if l.settled("lengths") {
		return
	}
	if l.Reading.CountIn = ""; at < 0 { // a person may have chosen another column
		return
	}
	heading := ""
	if at < len(l.Headings) {
		heading = folded(l.Headings[at])
	}
	switch {
	case saysWords.MatchString(heading):
		return
	case saysBits.MatchString(heading):
		l.Reading.CountIn = "bits"
		l.note("The lengths are in bits: the heading “%s” says so.", l.Headings[at])
		return
	case saysOctets.MatchString(heading):
		l.Reading.CountIn = "octets"
		l.note("The lengths are in octets: the heading “%s” says so.", l.Headings[at])
		return
	}
	wide, single := false, false
	for cell := range l.cells(at) {
		if cell != "1" && cell != "8" && cell != "16" && cell != "32" && cell != "64" {
			return
		}
		wide, single = wide || len(cell) == 2, single || cell == "1"
	}
	// One register and sixteen are lengths too, where no type says otherwise.
	if types := slices.Index(l.Columns, Type); wide && (types < 0 && !single ||
		types >= 0 && l.share(types,
			func(c string) bool { s, err := parseType(c); return err != nil || s.Type.IsText() }) == 0) {
		l.Reading.CountIn = "bits"
		l.note("The lengths are in bits: each is 1, 8, 16, 32 or 64, and no number takes 16 registers.")
	}
}

// cells are the filled cells of a column.
func (l *Listing) cells(at int) func(yield func(string) bool) {
	return func(yield func(string) bool) {
		for i := range l.Rows {
			if at >= len(l.Rows[i].Cells) || l.aside(&l.Rows[i]) != "" {
				continue
			}
			if cell := strings.TrimSpace(l.Rows[i].Cells[at]); cell != "" && !yield(cell) {
				return
			}
		}
	}
}

var hexCell = regexp.MustCompile(`(?i)^[0-9a-f]{1,4}h?$`)

// hexadecimal reports whether a column of addresses is: its heading says so, or
// its cells all can be and some cannot be decimal.
func (l *Listing) hexadecimal(at int) bool {
	says := ""
	if at < len(l.Headings) {
		says = folded(l.Headings[at])
	}
	if saysHex.MatchString(says) && !saysDecimal.MatchString(says) || letters.ReplaceAllString(says, "") == "hex" {
		return true
	}
	filled, letter, prefixed := 0, 0, 0
	prefix := byte(0)
	for cell := range l.cells(at) {
		if !hexCell.MatchString(cell) {
			return false
		}
		if filled++; strings.ContainsAny(strings.ToLower(cell), "abcdef") {
			letter++
		}
		if first := cell[0] | 0x20; len(cell) > 1 && first >= 'a' && allDigits(cell[1:]) && (prefix == 0 ||
			prefix == first) {
			prefix = first
			prefixed++
		}
	}
	// One letter before every number is the name of a memory, as in D100.
	return letter > 0 && (filled == 1 || prefixed < filled)
}

func (l *Listing) settleHex(at int, heading string) {
	if l.settled("hex") || l.Reading.Hex {
		return
	}
	if l.Reading.Hex = l.hexadecimal(at); !l.Reading.Hex {
		return
	}
	if saysHex.MatchString(folded(heading)) {
		l.note("The addresses are hexadecimal: the heading “%s” says so.", heading)
	} else {
		l.note("The addresses are hexadecimal: letters A to F stand among them.")
	}
}

var (
	dotZero     = regexp.MustCompile(`^\d+[.,]0+$`)
	dotAnything = regexp.MustCompile(`^\d+[.,]\d+$`)
)

// settleDots: where every number with a point has a zero behind it, and none of
// them is of a type that is a bit, a spreadsheet put it there.
func (l *Listing) settleDots(at int) {
	dotted, whole := 0, 0
	types := slices.Index(l.Columns, Type)
	for i := range l.Rows {
		row := &l.Rows[i]
		if at >= len(row.Cells) || l.aside(row) != "" {
			continue
		}
		switch cell := strings.TrimSpace(row.Cells[at]); {
		case cell == "":
		case dotZero.MatchString(cell):
			dotted++
			if types < 0 || types >= len(row.Cells) {
				continue
			}
			if s, err := parseType(row.Cells[types]); err == nil && s.Type.InUnit() {
				return
			}
		case dotAnything.MatchString(cell) && !thousands.MatchString(cell):
			return
		default:
			whole++
		}
	}
	if dotted == 0 || types < 0 && whole > 0 {
		return
	}
	l.Reading.NoBits = true
	l.note("“.0” behind the addresses is no bit: it stands behind all that have a point.")
}

// settlePlain finds out whether numbers of five digits name a table by their
// first, or are plain numbers: they are where some could not be in the notation,
// or not hold their types. Where shorter numbers stand among them, it is asked.
func (l *Listing) settlePlain(scheme address.Scheme, at int) {
	if l.settled(asksPlain) || l.Reading.Plain || l.Reading.Hex {
		return
	}
	long, short, why := "", "", ""
	tables, types := slices.Index(l.Columns, Table), slices.Index(l.Columns, Type)
	for i := range l.Rows {
		row := &l.Rows[i]
		cell := func(at int) string {
			if at < 0 || at >= len(row.Cells) {
				return ""
			}
			return strings.TrimSpace(row.Cells[at])
		}
		number := strings.FieldsFunc(tidyPlace(cell(at), l.Reading), ofRange)
		if len(number) == 0 || !allDigits(number[0]) || l.aside(row) != "" || cell(tables) != "" {
			continue
		}
		if len(number[0]) < 5 {
			short = cell(at)
			continue
		}
		a, err := scheme.Parse(number[0], "")
		area, ok := block.AreaOf(scheme, block.Of(a).Area)
		said, typeErr := parseType(cell(types))
		switch {
		case err != nil:
			why = fmt.Sprintf("%s is in no notation that names a table", number[0])
		case ok && area.UnitBits == 1 && cell(types) != "" && typeErr == nil && said.Type.Bytes(said.Length) > 1:
			why = fmt.Sprintf("%s would be one of the %s, which hold no %s", number[0], area.Title, said.Type)
		default:
			long = number[0]
		}
	}
	if why != "" {
		l.Reading.Plain = true
		l.note("Numbers of five digits are plain numbers: %s.", why)
		return
	}
	if long == "" || short == "" || strings.Trim(short, "0") == "" {
		return
	}
	l.ask(scheme, Question{Key: asksPlain,
		Asks: fmt.Sprintf("Does the first digit of %s name a table, or is it a plain number, as %s is?", long, short),
		Choices: []Choice{
			l.choice(asksPlain, "names a table", "--digits table", func(r *Reading) { r.Plain = false }),
			l.choice(asksPlain, "plain number", "--digits plain", func(r *Reading) { r.Plain = true }),
		}})
}

// ofRange reports what parts the ends of a range, or a bit from its register.
func ofRange(r rune) bool { return strings.ContainsRune("–…/.- ", r) }

// bare returns the cells of a column of addresses that are plain numbers, which
// say neither their table nor where they count from.
func (l *Listing) bare(scheme address.Scheme, at int) (numbers []string, zero bool) {
	tables := slices.Index(l.Columns, Table)
	for i := range l.Rows {
		row := &l.Rows[i]
		if at >= len(row.Cells) || l.aside(row) != "" {
			continue
		}
		cell := strings.TrimSpace(row.Cells[at])
		parts := strings.FieldsFunc(tidyPlace(cell, l.Reading), ofRange)
		if len(parts) == 0 {
			continue
		}
		first := parts[0]
		if !l.Reading.Hex && (!allDigits(first) ||
			len(first) >= 5 && !l.Reading.Plain && l.namesTable(scheme, row, tables, first)) {
			continue
		}
		if _, _, err := l.parsePlace(scheme, cell, ""); err != nil && strings.Trim(first, "0") != "" &&
			!allDigits(first) {
			continue
		}
		numbers = append(numbers, cell)
		zero = zero || strings.Trim(first, "0x") == ""
	}
	return numbers, zero
}

// hexMarked reports whether addresses are marked as hexadecimal, cell by cell:
// then they count from 0, but say no table.
func (l *Listing) hexMarked(at int) bool {
	for cell := range l.cells(at) {
		if strings.HasPrefix(tidyPlace(cell, l.Reading), "0x") && len(cell) < 7 {
			return true
		}
	}
	return false
}

// namesTable reports whether a long number is in a notation that names its
// table, and the row speaks of no other.
func (l *Listing) namesTable(scheme address.Scheme, row *Row, tables int, number string) bool {
	a, err := scheme.Parse(number, "")
	if err != nil {
		return false
	}
	if tables >= 0 && tables < len(row.Cells) {
		if area, ok := block.AreaNamed(scheme, row.Cells[tables]); ok {
			return area.Key == block.Of(a).Area
		}
	}
	return true
}

func (l *Listing) settleArea(scheme address.Scheme, at int, heading, titles string) {
	if l.settled(asksArea) || l.Reading.Area != "" {
		return
	}
	if slices.Contains(l.Columns, Table) && !emptyColumn(l.Rows, slices.Index(l.Columns, Table)) {
		return
	}
	bare, _ := l.bare(scheme, at)
	if len(bare) == 0 && !l.hexMarked(at) && !l.InBlock {
		return
	}
	for _, said := range []struct{ what, text string }{{"the heading “" + heading + "”", folded(heading)},
		{"a title or a remark", titles}} {
		if area, ok := block.AreaSaid(scheme, said.text); ok {
			l.Reading.Area = area.Key
			l.note("The numbers are those of %s: %s says so.", area.Title, said.what)
			return
		}
	}
	if l.sectioned(scheme) {
		return // titles between the rows say it
	}
	areas := block.AreasOf(scheme)
	if len(areas) < 2 {
		return
	}
	bits, others := 0, 0
	if typeAt := slices.Index(l.Columns, Type); typeAt >= 0 {
		for cell := range l.cells(typeAt) {
			if s, err := parseType(cell); err == nil && s.Type == value.TypeBool {
				bits++
			} else {
				others++
			}
		}
	}
	question := Question{Key: asksArea, Asks: "In which table do the numbers count?"}
	if l.InBlock {
		question.Asks = "The list has offsets: in which block, or which of the areas, do they lie?"
	}
	for _, area := range areas {
		if bits > 0 && others == 0 != (area.UnitBits == 1) || bits == 0 && area.UnitBits == 1 {
			continue
		}
		question.Choices = append(question.Choices,
			l.choice(asksArea, "in the "+area.Title, "--table "+area.Key, func(r *Reading) { r.Area = area.Key }))
	}
	l.ask(scheme, question)
}

func (l *Listing) settleBase(scheme address.Scheme, at int, heading, titles string) {
	if _, kinds := scheme.(address.Kinds); kinds || l.settled(asksBase) {
		return // within kinds the standard counts from 0
	}
	bare, zero := l.bare(scheme, at)
	if len(bare) == 0 {
		return
	}
	for _, said := range []struct{ what, text string }{{"the heading “" + heading + "”", folded(heading)},
		{"a title or a remark", titles}} {
		one, none := saysOne.MatchString(said.text), saysZero.MatchString(said.text)
		if one == none {
			continue
		}
		if l.Reading.FromOne = one; one {
			l.note("The numbers count from 1: %s says so.", said.what)
		} else {
			l.note("The numbers count from 0: %s says so.", said.what)
		}
		return
	}
	switch {
	case l.Reading.FromOne:
		return
	case zero:
		l.note("The numbers count from 0: there is a register 0.")
		return
	case l.Reading.Hex:
		l.note("The numbers count from 0, as hexadecimal ones do.")
		return
	}
	l.ask(scheme, Question{Key: asksBase, Asks: "Do the numbers count from 0, as on the wire, or from 1?",
		Choices: []Choice{
			l.choice(asksBase, "from 0", "--from-zero", func(r *Reading) { r.FromOne = false }),
			l.choice(asksBase, "from 1", "--from-one", func(r *Reading) { r.FromOne = true }),
		}})
}
