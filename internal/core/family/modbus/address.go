package modbus

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/value"
)

// The areas of Modbus: the four tables of the Modbus Application Protocol
// Specification V1.1b3, clause 4.3, each of 65 536 units numbered from 0 on
// the wire.
const (
	Coils            = "co"
	DiscreteInputs   = "di"
	InputRegisters   = "ir"
	HoldingRegisters = "hr"
)

// Scheme is the addressing of Modbus over every transport.
//
// It reads and prints the 1-based five-digit notation (40003; coils 00001),
// the six-digit one (400003), the table digit with an x (4x3), the wire offset
// in decimal (hr2, or 2 where the table is known) and hexadecimal (0x0002), and
// IEC 61131-3 direct addresses (%MW2, %IW2, %QX2, %IX2) with word n at wire
// offset n and double word n (%MD1) at 2n. A bit of a register follows a point: 40003.5, %MX2.5.
var Scheme block.Shape = scheme{}

type scheme struct{}

type table struct {
	block.Area
	word     string // IEC prefix of the unit itself
	wordsBit string // IEC prefix of one bit of a 16-bit unit
}

var tables = []table{
	{block.Area{Key: HoldingRegisters, Title: "holding registers", UnitBits: 16, Units: 65536, Writable: true,
		Digit: "4"}, "%MW", "%MX"},
	{block.Area{Key: InputRegisters, Title: "input registers", UnitBits: 16, Units: 65536, Digit: "3"},
		"%IW", "%IX"},
	{block.Area{Key: Coils, Title: "coils", UnitBits: 1, Units: 65536, Writable: true, Digit: "0"},
		"%QX", ""},
	{block.Area{Key: DiscreteInputs, Title: "discrete inputs", UnitBits: 1, Units: 65536, Digit: "1"},
		"%IX", ""},
}

func (scheme) Areas() []block.Area {
	areas := make([]block.Area, len(tables))
	for i, t := range tables {
		areas[i] = t.Area
	}
	return areas
}

// Area finds an area by its key, without making the list of all.
func (scheme) Area(key string) (block.Area, bool) {
	for i := range tables {
		if tables[i].Key == key {
			return tables[i].Area, true
		}
	}
	return block.Area{}, false
}

// areaWords are the ways in which lists name the tables, in small letters
// without blanks, and the function codes that read and write them (Modbus
// Application Protocol V1.1b3, clause 6).
var areaWords = map[string]string{
	"co": Coils, "coil": Coils, "coils": Coils, "0x": Coils, "digitaloutput": Coils, "outputcoil": Coils,
	"di": DiscreteInputs, "discreteinput": DiscreteInputs, "discreteinputs": DiscreteInputs, "discrete": DiscreteInputs,
	"1x": DiscreteInputs, "digitalinput": DiscreteInputs, "inputstatus": DiscreteInputs, "contact": DiscreteInputs,
	"ir": InputRegisters, "inputregister": InputRegisters, "inputregisters": InputRegisters, "input": InputRegisters,
	"3x": InputRegisters, "analoginput": InputRegisters,
	"hr": HoldingRegisters, "holdingregister": HoldingRegisters, "holdingregisters": HoldingRegisters,
	"holding": HoldingRegisters, "4x": HoldingRegisters, "analogoutput": HoldingRegisters,
	// Function codes, Modbus Application Protocol V1.1b3, clause 6.
	"1": Coils, "5": Coils, "15": Coils, "2": DiscreteInputs,
	"3": HoldingRegisters, "6": HoldingRegisters, "16": HoldingRegisters, "4": InputRegisters,
}

var (
	areaMarks  = strings.NewReplacer(" ", "", "_", "", "-", "", "(", "", ")", "")
	areaSplits = strings.NewReplacer("/", ",", ";", ",", "+", ",", "&", ",")
)

// AreaNamed reads how a list names a table: a word, or a function code in any
// of its spellings (3, 03, 0x03, FC03), the first where several are listed.
func (scheme) AreaNamed(text string) (string, bool) {
	first, _, _ := strings.Cut(areaSplits.Replace(strings.ToLower(areaMarks.Replace(text))), ",")
	for _, prefix := range []string{"functioncode", "function", "fc", ":"} {
		first = strings.TrimPrefix(first, prefix)
	}
	if key, ok := areaWords[first]; ok {
		return key, true
	}
	key, ok := areaWords[strings.TrimLeft(strings.TrimPrefix(first, "0x"), "0")]
	return key, ok
}

// phrases are the phrases by which titles, headings and remarks say which
// table a list is of.
var phrases = []struct {
	area   string
	phrase *regexp.Regexp
}{
	{InputRegisters, regexp.MustCompile(`\binput registers?\b|\beingangsregister\b|\bregistres? d.?entree\b|\bregistros? de entrada\b|\bregistri d.? ?ingresso\b|\binvoerregisters?\b|\bingangsregister\b|\b(fc|function|function code|fonction|funktion|funktionscode|funcion|funzione|functie|funcao) ?:? ?0?4\b|\b3x\b`)},
	{HoldingRegisters, regexp.MustCompile(`\bholding registers?\b|\bhalteregister\b|\bregistres? de maintien\b|\bregistros? de retencion\b|\bregistri di mantenimento\b|\bhoudregisters?\b|\bregistradores? de retencao\b|\b(fc|function|function code|fonction|funktion|funktionscode|funcion|funzione|functie|funcao) ?:? ?0?3\b|\b4x\b`)},
	{Coils, regexp.MustCompile(`\bcoils?\b|\b(fc|function|function code) ?:? ?0?1\b`)},
	{DiscreteInputs, regexp.MustCompile(`\bdiscrete inputs?\b|\b(fc|function|function code) ?:? ?0?2\b`)},
}

// AreaSaid finds the one table that a sentence speaks of, in small letters
// without accents; none if it speaks of several.
func (scheme) AreaSaid(text string) (area string, ok bool) {
	for _, each := range phrases {
		if each.phrase.MatchString(text) {
			if area != "" && area != each.area {
				return "", false
			}
			area = each.area
		}
	}
	return area, area != ""
}

func tableOf(match func(table) bool) (table, bool) {
	for _, t := range tables {
		if match(t) {
			return t, true
		}
	}
	return table{}, false
}

func (scheme) Parse(text, hint string) (address.Address, error) {
	clean := strings.ToLower(strings.TrimSpace(text))
	if clean == "" {
		return address.Address{}, fmt.Errorf("the address is empty: write it as 40003, 400003, hr2, 0x0002 or %%MW2")
	}
	if strings.HasPrefix(clean, "%") {
		return parseIEC(text, clean)
	}
	unit, bitText, hasBit := strings.Cut(clean, ".")
	table, offset, err := parseUnit(text, unit, hint)
	if err != nil {
		return address.Address{}, err
	}
	a, err := bounded(text, table, offset)
	if err == nil && hasBit {
		return withBit(text, table, a, bitText)
	}
	return a, err
}

// parseUnit reads everything but a bit and an IEC address. The offset it
// returns counts from 0 and may still be out of bounds.
func parseUnit(text, unit, hint string) (table, int64, error) {
	if len(unit) > 2 {
		if t, ok := tableOf(func(t table) bool { return t.Key == unit[:2] }); ok {
			digits, base := unit[2:], 10 // a leading zero is no octal number to a technician
			if hex, is := strings.CutPrefix(strings.ToLower(digits), "0x"); is {
				digits, base = hex, 16
			}
			n, err := strconv.ParseInt(digits, base, 64)
			if err != nil || unit[2] == '-' || unit[2] == '+' {
				return t, 0, fmt.Errorf("address %q: %q is not a wire offset", text, unit[2:])
			}
			return t, n, nil
		}
	}
	if len(unit) > 2 && unit[1] == 'x' && unit[0] != '0' || strings.HasPrefix(unit, "0x") && len(unit) == 7 {
		// 4x0003: the table digit, then the number from 1. 0x is hexadecimal,
		// but for five digits, which no 16-bit offset has.
		if t, ok := tableOf(func(t table) bool { return t.Digit == unit[:1] }); ok {
			n, err := strconv.ParseUint(unit[2:], 10, 32)
			if err != nil {
				return t, 0, fmt.Errorf("address %q: %q is not a register number", text, unit[2:])
			}
			return t, int64(n) - 1, nil
		}
	}
	hinted, known := tableOf(func(t table) bool { return t.Key == hint })
	if !known {
		hinted = tables[0]
	}
	if strings.HasPrefix(unit, "0x") {
		n, err := strconv.ParseUint(unit[2:], 16, 32)
		if err != nil {
			return hinted, 0, fmt.Errorf("address %q: %q is not hexadecimal", text, unit[2:])
		}
		return hinted, int64(n), nil
	}
	n, err := strconv.ParseUint(unit, 10, 32)
	if err != nil {
		return hinted, 0, fmt.Errorf("address %q is in no notation of Modbus: write it as 40003, 400003, hr2, "+
			"0x0002 or %%MW2", text)
	}
	if len(unit) < 5 {
		return hinted, int64(n), nil
	}
	t, ok := tableOf(func(t table) bool { return t.Digit == unit[:1] })
	if !ok || len(unit) > 6 {
		return hinted, 0, fmt.Errorf("address %q: five and six digits begin with 0, 1, 3 or 4; for a wire offset "+
			"write %s%s", text, hinted.Key, unit)
	}
	number, _ := strconv.ParseInt(unit[1:], 10, 64)
	return t, number - 1, nil
}

func bounded(text string, t table, offset int64) (address.Address, error) {
	if offset < 0 {
		return address.Address{},
			fmt.Errorf("address %q: this notation counts from 1, so %s0000 does not exist", text, t.Digit)
	}
	if offset >= int64(t.Units) {
		return address.Address{},
			fmt.Errorf("address %q: wire offset %d is past the last of the %s, 65535", text, offset, t.Title)
	}
	return block.At(t.Key, uint32(offset)), nil
}

func withBit(text string, t table, a address.Address, bitText string) (address.Address, error) {
	bit, err := strconv.ParseUint(bitText, 10, 8)
	if err != nil || bit > 15 {
		return address.Address{}, fmt.Errorf("address %q: %q is not a bit of a register, 0 to 15", text, bitText)
	}
	if t.UnitBits == 1 {
		return address.Address{},
			fmt.Errorf("address %q: the %s are single bits and have no bit %d", text, t.Title, bit)
	}
	return block.WithBit(a, int(bit)), nil
}

func parseIEC(text, clean string) (address.Address, error) {
	if len(clean) < 4 {
		return address.Address{}, fmt.Errorf("address %q is too short for a direct address such as %%MW2", text)
	}
	prefix := strings.ToUpper(clean[:3])
	double := prefix == "%MD" || prefix == "%ID"
	if double {
		prefix = prefix[:2] + "W"
	}
	unit, bitText, hasBit := strings.Cut(clean[3:], ".")
	n, err := strconv.ParseUint(unit, 10, 32)
	if err != nil {
		return address.Address{}, fmt.Errorf("address %q: %q is not a number", text, clean[3:])
	}
	t, ok := tableOf(func(t table) bool {
		if hasBit {
			return t.wordsBit == prefix || t.word == prefix && t.UnitBits == 16
		}
		return t.word == prefix
	})
	if !ok {
		return address.Address{},
			fmt.Errorf("address %q: Modbus tables are reached as %%MW, %%IW, %%QX and %%IX, a bit of a word as %%MX2.5",
				text)
	}
	if double {
		n *= 2 // double words count in pairs of words
	}
	a, err := bounded(text, t, int64(n))
	if err == nil && hasBit {
		return withBit(text, t, a, bitText)
	}
	return a, err
}

// unmistakable matches notations with a table digit, a prefix or a percent sign,
// and ranges of them.
var unmistakable = regexp.MustCompile(
	`(?i)^\s*(%[iqm][xbwdl]?\d|(hr|ir|co|di)\d|[0134]x\d|0x[0-9a-f]|` +
		`[0134]\d{4,5}\b|[34]\d,\d{3}$)`)

// Unmistakable reports whether a text can hardly be anything but a register.
func (scheme) Unmistakable(text string) bool { return unmistakable.MatchString(text) }

func (scheme) Short(a address.Address) string {
	at := block.Of(a)
	t, ok := tableOf(func(t table) bool { return t.Key == at.Area })
	if !ok {
		return a.String()
	}
	if at.Offset < 9999 {
		return fmt.Sprintf("%s%04d%s", t.Digit, at.Offset+1, bitSuffix(at))
	}
	return fmt.Sprintf("%s%05d%s", t.Digit, at.Offset+1, bitSuffix(at))
}

func bitSuffix(at block.Place) string {
	if at.Bit < 0 {
		return ""
	}
	return "." + strconv.Itoa(at.Bit)
}

func (scheme) Notations(a address.Address) []address.Notation {
	at := block.Of(a)
	t, ok := tableOf(func(t table) bool { return t.Key == at.Area })
	if !ok {
		return nil
	}
	out := make([]address.Notation, 0, 6)
	if at.Offset < 9999 {
		out = append(out, address.Notation{Name: "1-based",
			Text: fmt.Sprintf("%s%04d%s", t.Digit, at.Offset+1, bitSuffix(at))})
	}
	iec := fmt.Sprintf("%s%d", t.word, at.Offset)
	if at.Bit >= 0 {
		iec = fmt.Sprintf("%s%d.%d", t.wordsBit, at.Offset, at.Bit)
	}
	return append(out, []address.Notation{
		{Name: "6-digit", Text: fmt.Sprintf("%s%05d%s", t.Digit, at.Offset+1, bitSuffix(at))},
		{Name: "table and number", Text: fmt.Sprintf("%sx%05d%s", t.Digit, at.Offset+1, bitSuffix(at))},
		{Name: "on the wire", Text: fmt.Sprintf("%s%d%s", t.Key, at.Offset, bitSuffix(at))},
		{Name: "hexadecimal", Text: fmt.Sprintf("0x%04X%s", at.Offset, bitSuffix(at))},
		{Name: "IEC 61131-3", Text: iec},
	}...)
}

// Compare orders addresses by table, wire offset and bit.
func (s scheme) Compare(a, b address.Address) int { return block.Compare(s, a, b) }

// Check says why a value cannot be kept at an address.
func (s scheme) Check(a address.Address, shape value.Shape) error { return block.Check(s, a, shape) }
