package regmap

import (
	"regexp"
	"slices"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/value"
)

// multiplies are headings under which a number multiplies what is read.
var multiplies = []string{"resolution", "lsb", "slope", "auflosung", "resolucion", "risoluzione", "resolutie",

	"resolucao", "upplosning"}

var wholeTens = regexp.MustCompile(`^(x|×|\*)? ?10+([.,]0+)?$`)

// settleScale: a factor of 10 may mean that what is read is to be multiplied, or
// that the device has done so.
func (l *Listing) settleScale(scheme address.Scheme) {
	at := slices.Index(l.Columns, Scale)
	if at < 0 || l.settled(asksScale) || at < len(l.Headings) && slices.Contains(multiplies, plain(l.Headings[at])) {
		return
	}
	if l.settlePowers(scheme, at) {
		return
	}
	tens, others := 0, 0
	for cell := range l.cells(at) {
		switch cell = strings.ToLower(cell); {
		case cell == "1" || cell == "-" || cell == "–" || cell == "x1" || cell == "1.0":
		case wholeTens.MatchString(cell):
			tens++
		default:
			others++
		}
	}
	if tens > 0 && others > 0 {
		l.note("A scale of 10 multiplies, as the other scales beside it do.")
	}
	if tens == 0 || others > 0 {
		return
	}
	l.ask(scheme, Question{Key: asksScale,
		Asks: "A scale of 10: is what is read ten times too small, or ten times too large?",
		Choices: []Choice{
			l.choice(asksScale, "divide by it", "--divide", func(r *Reading) { r.Divide = true }),
			l.choice(asksScale, "multiply by it", "--multiply", func(r *Reading) { r.Divide = false }),
		}})
}

// settlePowers: small whole numbers of which some are below nothing are powers
// of ten; where all of them are −1, they may be a change of sign.
func (l *Listing) settlePowers(scheme address.Scheme, at int) bool {
	l.Reading.PowerScale = false // a person may have chosen another column
	below, certain := 0, false
	for cell := range l.cells(at) {
		if !powerCell.MatchString(cell) {
			return false
		}
		if strings.HasPrefix(cell, "-") || strings.HasPrefix(cell, "−") {
			below++
			certain = certain || !strings.HasSuffix(cell, "1")
		}
		certain = certain || cell == "0"
	}
	if below == 0 {
		return false
	}
	if certain {
		l.Reading.PowerScale = true
		l.note("The scales are powers of ten: some are below nothing. -2 stands for × 0.01.")
		return true
	}
	l.ask(scheme, Question{Key: asksScale, Asks: "Is a scale of −1 a change of sign, or a power of ten, × 0.1?",
		Choices: []Choice{
			l.choice(asksScale, "power of ten", "--power", func(r *Reading) { r.PowerScale = true }),
			l.choice(asksScale, "change of sign", "--multiply", func(r *Reading) { r.PowerScale = false }),
		}})
	return true
}

// rowNumbers are headings of columns that only number the rows.
var rowNumbers = []string{"no", "nr", "n", "num", "number", "pos", "position", "item", "index", "lfdnr", "id", "row",

	"line", "zeile", "ligne", "fila", "riga", "regel", "linha", "rad", ""}

// settleShown asks, where whole numbers have decimals and nothing says a scale,
// whether what is read has the point left out.
func (l *Listing) settleShown(scheme address.Scheme) {
	at, types := slices.Index(l.Columns, Decimals), slices.Index(l.Columns, Type)
	if at < 0 || l.settled(asksShown) || slices.Contains(l.Columns, Scale) || slices.Contains(l.Columns, Divisor) ||
		slices.Contains(l.Columns, RawLow) {
		return
	}
	some := false
	for i := range l.Rows {
		row := &l.Rows[i]
		if at >= len(row.Cells) || l.aside(row) != "" {
			continue
		}
		if cell := strings.TrimSpace(row.Cells[at]); len(cell) != 1 || cell < "1" || cell > "9" {
			continue
		}
		said := shaped{Type: value.TypeUint16}
		if types >= 0 && types < len(row.Cells) {
			said, _ = parseType(row.Cells[types]) // one that cannot be read is told elsewhere
		}
		some = some || said.Type.IsWhole()
	}
	if !some {
		return
	}
	l.ask(scheme, Question{Key: asksShown,
		Asks: "Do the decimals say that the point was left out of what is read, or only how many are shown?",
		Choices: []Choice{
			l.choice(asksShown, "the point was left out", "--decimals scale",
				func(r *Reading) { r.PointLeftOut = true }),
			l.choice(asksShown, "shown only", "--decimals shown", func(r *Reading) { r.PointLeftOut = false }),
		}})
}

// leftOut says which columns nothing was made of, though they hold something.
func (l *Listing) leftOut() {
	var words []string
	for i, heading := range l.Headings {
		if i < len(l.Columns) && l.Columns[i] == "" && strings.TrimSpace(heading) != "" && !slices.Contains(rowNumbers,
			plain(heading)) && !emptyColumn(l.Rows, i) {
			words = append(words, "“"+strings.TrimSpace(heading)+"”")
		}
	}
	if len(words) > 0 {
		l.note("Left out, for nothing is known of what they mean: %s.", strings.Join(words, ", "))
	}
}

// settleOrder takes the order of wide values from the titles, and asks where
// “little endian” leaves open whether the bytes of a word are swapped too.
func (l *Listing) settleOrder(scheme address.Scheme, titles string) {
	if l.settled(asksOrder) || l.Reading.Order != "" {
		return
	}
	low, high := saysLowWord.MatchString(titles), saysHigh.MatchString(titles)
	if low != high {
		l.Reading.Order = "ABCD"
		if low {
			l.Reading.Order = "CDAB"
		}
		l.note("Values of several registers come in the order %s: a title or a remark says so.", l.Reading.Order)
		return
	}
	everywhere := saysLittle.MatchString(titles)
	little := everywhere
	for _, column := range []Column{Order, Type} {
		if at := slices.Index(l.Columns, column); at >= 0 {
			for cell := range l.cells(at) {
				if !strings.ContainsAny(cell, "eE") || len(cell) < 9 {
					continue
				}
				text := folded(cell)
				little = little || saysLittle.MatchString(text) && !saysLowWord.MatchString(text)
			}
		}
	}
	if !little {
		return
	}
	ordered := func(title, order string) Choice {
		return l.choice(asksOrder, title+": "+order, "--little "+order, func(r *Reading) {
			if r.Little = order; everywhere {
				r.Order = order
			}
		})
	}
	l.ask(scheme, Question{Key: asksOrder,
		Asks:    "“Little endian”: are only the words exchanged, or the bytes in them too?",
		Choices: []Choice{ordered("the words", "CDAB"), ordered("words and bytes", "DCBA")}})
}
