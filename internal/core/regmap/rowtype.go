package regmap

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

var countCell = regexp.MustCompile(`^(\d+)(?:[.,]0+)? ?(registers?|regs?|words?|worter|worte|mots?|palabras?|parole|woorden|ord|x ?16 ?bits?|bytes?|octets?)?\.?$`)

// parseCount reads how many registers, or octets, a value takes; countIn is as
// in Reading.
func parseCount(text, countIn string) (n int, octets bool, err error) {
	parts := countCell.FindStringSubmatch(folded(text))
	if parts != nil {
		n, err = strconv.Atoi(parts[1])
		octets = strings.HasPrefix(parts[2], "byte") || strings.HasPrefix(parts[2], "octet") ||
			parts[2] == "" && countIn != ""
		if parts[2] == "" && countIn == "bits" {
			n = (n + 7) / 8
		}
	}
	if parts == nil || err != nil || n < 1 || n > 250 || n > 125 && !octets {
		return 0, false, fmt.Errorf("count %q: give the number of registers of the value, 1 to 125", text)
	}
	return n, octets, nil
}

// parseBits reads a bit or a run of bits: 3, 4-7, 0..3.
func parseBits(text string, fromOne bool) (first, count int, err error) {
	t := bitMarks.Replace(text)
	from, to, run := strings.Cut(t, "-")
	a, errA := strconv.Atoi(from)
	b := a
	var errB error
	if run {
		b, errB = strconv.Atoi(to)
	}
	if fromOne {
		a, b = a-1, b-1
	}
	a, b = min(a, b), max(a, b)
	if errA != nil || errB != nil || a < 0 || b > 15 {
		return 0, 0, fmt.Errorf("bit %q: give a bit of a register, 0 to 15, or a run such as 4-7", text)
	}
	return a, b - a + 1, nil
}

// readType reads the type cell, or makes up the type that fits the address and
// the number of units stated. A width in the cell that the units contradict is
// an error: one of the two is wrong.
func (m *maker) readType(p *site.Point, units int) {
	known, ok := m.cells[m.cell(Type)]
	if !ok {
		known.text, known.said = typeSays(m.cell(Type))
		m.cells[m.cell(Type)] = known
	}
	text, said := known.text, known.said
	if !strings.HasSuffix(text, ")") && !strings.HasSuffix(text, "]") {
		// no bit stands behind it
	} else if parts := typeBit.FindStringSubmatch(text); parts != nil && p.Place().Bit < 0 &&
		strings.TrimSpace(m.cell(Bit)) == "" {
		if first, _, err := parseBits(parts[2], m.listing.Reading.BitFromOne); err == nil {
			p.Address, text = block.WithBit(p.Address, first), parts[1]
		}
	}
	if m.says = said.order; units == 0 {
		units = said.units
	}
	if of := address.Holds(m.scheme, p.Address); of != "" {
		p.Type = of
		if of.IsText() {
			p.Length = usualText
		}
		if _, named := address.KindNamed(m.scheme, text); named || text == "" && !m.has(Type) {
			return
		}
	}
	part := p.Place().Bit >= 0
	if text == "" && !m.has(Type) {
		text = m.typeBeside()
	}
	area, _ := block.AreaOf(m.scheme, p.Place().Area)
	octets := units * area.UnitBits / 8 // as far as the row states them
	if text == "" {
		if p.Type == value.TypeUint16 {
			follow(m.scheme, p, true)
		}
		if p.Type == value.TypeUint16 && units > 1 {
			if wide, ok := ofWidth(value.TypeUint16, 8*octets); ok {
				p.Type = wide
			} else {
				p.Type, p.Length = value.TypeBytes, octets
			}
		}
		m.readSign(p)
		return
	}
	read, ok := m.types[text]
	if !ok {
		var err error
		if read, err = parseType(text); err != nil {
			if read, err = stretched(text, octets, units, err); err != nil {
				m.fail(Type, err)
				return
			}
		} else {
			m.types[text] = read
		}
	}
	if m.listing.InBlock && p.Place().Bit == 0 && read.Type != value.TypeBool && read.Type != value.TypeBits {
		// Lists of members write the bit of every place.
		p.Address, part = block.WithBit(p.Address, -1), false
	}
	if part && p.Type == value.TypeBits && !read.Type.InUnit() {
		return // a bit column says more than the type of the register
	}
	if part && !read.Type.InUnit() {
		if m.cell(Bit) == "" && (read.Type.Bytes(read.Length) > 2 || !read.Type.IsFlags()) {
			m.fail(Type, fmt.Errorf("type %q is that of a whole register, and the address %q names a bit of one: "+
				"one of the two is wrong", text, m.cell(Address)))
			return
		}
		read = shaped{Type: value.TypeBool}
	}
	if area.UnitBits == 1 {
		if read.Type.Bytes(read.Length) > 1 {
			m.fail(Type, fmt.Errorf("type %q takes registers, and %q is one of the %s, of one bit each: one of the "+
				"two is wrong", text, m.cell(Address), area.Title))
			return
		}
		read = shaped{Type: value.TypeBool}
	}
	if have := read.Type.Bytes(read.Length); octets > 0 && have > 1 && !part &&
		(have*8+area.UnitBits-1)/area.UnitBits != units {
		_, plain := namedType(strings.ToLower(text))
		if _, other := namedType(plainType(text)); other {
			plain = true
		}
		wide, ok := ofWidth(read.Type, 8*octets)
		switch {
		case ok && plain: // INT over two registers: their count says how wide
			read.Type = wide
		case read.Type.IsText() && have == units: // the length was counted in units
			read.Length = octets
		default:
			m.fail(Type, fmt.Errorf("type %q takes %d %s, and the row states %d: one of the two is wrong", text,
				(have*8+area.UnitBits-1)/area.UnitBits, area.Title, units))
		}
	}
	if p.Type == value.TypeBits && read.Type == value.TypeBool {
		return // a run of bits is not one bit
	}
	retype(p, read)
	m.readSign(p)
}

// typeBit is a type with the bit of its register behind it.
var typeBit = regexp.MustCompile(`(?i)^(.*\S)\s*[\[(]\s*bit\s*(\d{1,2})\s*[\])]$`)

// typeWord is a type within a sentence: words that mean something else in prose,
// such as real, are types in capitals alone.
var typeWord = regexp.MustCompile(`\b((?i:u?int ?(?:8|16|32|64)|float ?(?:32|64))|FLOAT|REAL|DOUBLE|[US]?DINT|DWORD|BOOL(?:EAN)?)\b`)

// typeBeside is the type that the remark names, or the name in brackets, in a
// table without a column for it; empty where none or several are named.
func (m *maker) typeBeside() string {
	name := m.cell(Name)
	if at := strings.IndexAny(name, "(["); at >= 0 {
		name = name[at:]
	} else {
		name = ""
	}
	for _, text := range []string{m.cell(Remark), strings.ToUpper(name)} {
		if found := typeWord.FindAllString(text, 2); len(found) == 1 {
			return strings.ReplaceAll(strings.ToLower(found[0]), " ", "")
		}
	}
	return ""
}

// readSign gives a whole number the sign that a column of its own says.
func (m *maker) readSign(p *site.Point) {
	text := folded(strings.TrimSpace(m.cell(Signed)))
	if text == "" || text == "-" || text == "–" {
		return
	}
	signed := text == "signed" || text == "s" || text == "±" || slices.Contains(marks, text)
	if from, to := "int", "uint"; strings.HasPrefix(string(p.Type), from) && !signed ||
		strings.HasPrefix(string(p.Type), to) && signed {
		if signed {
			from, to = to, from
		}
		p.Type = value.Type(strings.Replace(string(p.Type), from, to, 1))
	}
}

// stretched reads a type without its length where the row states how many octets
// or units it takes.
func stretched(text string, octets, units int, err error) (shaped, error) {
	for _, n := range []int{octets, units} {
		if read, again := parseType(text + " " + strconv.Itoa(n)); n > 0 && again == nil {
			return read, nil
		}
	}
	return shaped{}, err
}

// bitMarks are the ways of writing a run of bits.
var bitMarks = strings.NewReplacer("..", "-", "…", "-", "–", "-", ":", "-", " ", "", "bit", "", "Bit", "")

// usualText is for how many octets a text has room of which nobody says the length.
const usualText = 64
