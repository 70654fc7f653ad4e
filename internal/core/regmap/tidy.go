package regmap

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/site"
	"ferry/internal/core/unit"
	"ferry/internal/core/value"
)

var (
	// thousands are five and six digits with a mark between thousands.
	thousands = regexp.MustCompile(`^[0134]\d{1,2}[., '\x{00A0}\x{202F}\x{2009}]\d{3}$`)
	hexSuffix = regexp.MustCompile(`(?i)^(?:0x)?([0-9a-f]{1,4})h$`)
	hexPrefix = regexp.MustCompile(`(?i)^(?:&h|\$|16#|h'|x')([0-9a-f]{1,4})'?$`)
	behind    = regexp.MustCompile(`^(\d+)\s*\(\s*(0x[0-9a-fA-F]+|[0-9a-fA-F]+h)\s*\)$`)
	worded    = regexp.MustCompile(`(?i)^(?:register|reg|addr|address|adr)\.? *(\d+)$`)
)

// tidyPlace takes away from an address cell what says nothing: blanks and marks
// between thousands, a number sign, a word in front; and puts 0x before what is
// hexadecimal.
func tidyPlace(text string, reading Reading) string {
	if plainPlace(text) && !reading.Hex && !reading.NoBits {
		return text
	}
	t := strings.TrimSpace(narrowBlanks.Replace(text))
	if thousands.MatchString(t) {
		t = t[:len(t)-4] + t[len(t)-3:]
	}
	t = strings.TrimSpace(strings.TrimLeft(t, "#+"))
	if m := worded.FindStringSubmatch(t); m != nil {
		t = m[1]
	}
	if m := behind.FindStringSubmatch(t); m != nil {
		t = m[1] // the same in hexadecimal follows
	}
	if m := hexSuffix.FindStringSubmatch(t); m != nil {
		return "0x" + m[1]
	}
	if m := hexPrefix.FindStringSubmatch(t); m != nil {
		return "0x" + m[1]
	}
	if reading.NoBits && dotZero.MatchString(t) {
		t, _, _ = strings.Cut(strings.ReplaceAll(t, ",", "."), ".")
	}
	if reading.Hex && hexCell.MatchString(t) {
		return "0x" + t
	}
	return t
}

// parsePlace is ParsePlace by the reading of the table.
func (l *Listing) parsePlace(scheme address.Scheme, text, area string) (address.Address, int, error) {
	clean := tidyPlace(text, l.Reading)
	if l.Reading.Hex {
		// Both ends of a range are hexadecimal.
		for _, between := range []string{" to ", "…", "..", "–", "-", "/"} {
			if from, to, run := strings.Cut(clean, between); run {
				clean = tidyPlace(from, l.Reading) + between + tidyPlace(to, l.Reading)
				break
			}
		}
	}
	if areas := block.AreasOf(scheme); l.Reading.Plain && area == "" && len(areas) > 0 {
		area = areas[0].Key
	}
	if first := strings.FieldsFunc(clean, notDigit); l.Reading.Plain && len(first) > 0 && strings.HasPrefix(clean,
		first[0]) && len(first[0]) >= 5 {
		a, units, err := ParsePlace(scheme, area+clean, area, false)
		if err == nil && l.Reading.FromOne {
			a = counted(a)
		}
		return a, units, err
	}
	a, units, err := ParsePlace(scheme, clean, area, l.Reading.FromOne)
	if err == nil && l.Reading.Hex && l.Reading.FromOne && strings.HasPrefix(clean, "0x") {
		a = counted(a)
	}
	return a, units, err
}

var narrowBlanks = strings.NewReplacer("\u00A0", " ", "\u202F", " ", "\u2009", " ")

// plainPlace reports whether a cell is digits behind at most two small letters,
// as most are: there is nothing to take away.
func plainPlace(text string) bool {
	for i := 0; i < len(text); i++ {
		if c := text[i]; (c < '0' || c > '9') && (i > 1 || c < 'a' || c > 'z') {
			return false
		}
	}
	return text != "" && text[len(text)-1] >= '0' && text[len(text)-1] <= '9'
}

func notDigit(r rune) bool { return r < '0' || r > '9' }

// said is what a type cell says beside the type.
type said struct {
	units int    // registers, 0 for nothing
	order string // ABCD, CDAB, little, or empty
}

var (
	inBrackets = regexp.MustCompile(`[(\[{,;/]?\s*\b(\d+)\s*(registers?|regs?|words?|worter|worte|mots|palabras|parole|woorden|x 16 ?bits?)\b\.?\s*[)\]}]?`)
	orderPart  = regexp.MustCompile(`[(\[{,;/]?\s*\b((msw|lsw|msb|high|low)[ -]?(order )?(word|byte|register)?[ -]?first|(big|little)[ -]?endian( words?)?|(word|words|byte|bytes)[ -]?swapped|swapped|(lsw|msw|low[ -]?wor[dt]|high[ -]?wor[dt]|(nieder|hoch)wertiges wort) zuerst|poids (faible|fort) (en premier|d'abord)|palabra (baja|alta|menos significativa|mas significativa) primero|parola (bassa|alta) prima|abcd|cdab|badc|dcba)\b\s*[)\]}]?`)
	digitsPart = regexp.MustCompile(`\b(\d+)[ -]?(digits?|stellen|stellig|chiffres|digitos|cifre|cijfers|siffror)\b`)
)

// typeSays takes out of a type cell what it says of registers and order, and
// puts its words into those that parseType knows.
func typeSays(cell string) (text string, s said) {
	text = strings.TrimSpace(cell)
	low := folded(text)
	if m := orderPart.FindStringSubmatchIndex(low); m != nil {
		s.order = orderSaid(low[m[2]:m[3]])
		low = strings.TrimSpace(low[:m[0]] + " " + low[m[1]:])
		text = low
	}
	if m := inBrackets.FindStringSubmatchIndex(low); m != nil && strings.TrimSpace(low[:m[0]]+low[m[1]:]) != "" {
		s.units, _ = strconv.Atoi(low[m[2]:m[3]])
		low = strings.TrimSpace(low[:m[0]] + " " + low[m[1]:])
		text = low
	}
	if m := digitsPart.FindStringSubmatchIndex(low); m != nil {
		n, _ := strconv.Atoi(low[m[2]:m[3]])
		low = strings.TrimSpace(low[:m[0]]+low[m[1]:]) + " " + strconv.Itoa(4*n)
		text = low
	}
	return strings.TrimSpace(text), s
}

// orderSaid reads an order in words; "little" leaves open what it swaps.
func orderSaid(text string) string {
	switch t := folded(text); {
	case saysLowWord.MatchString(t):
		return "CDAB"
	case saysHigh.MatchString(t), strings.Contains(t, "msb"):
		return "ABCD"
	case saysLittle.MatchString(t):
		return "little"
	case strings.HasPrefix(t, "byte") && strings.Contains(t, "swap"):
		return "BADC"
	case strings.Contains(t, "swap"):
		return "CDAB"
	case strings.Contains(t, "badc"):
		return "BADC"
	case strings.Contains(t, "dcba"):
		return "DCBA"
	}
	return ""
}

var orderWords = []string{"irst", "uerst", "remier", "abord", "rimero", "rima", "erst", "swap", "ndian", "CDAB", "ABCD",
	"cdab", "abcd"}

// remarkedOrder reads an order out of a remark that says which word comes first.
func remarkedOrder(remark string) string {
	if !slices.ContainsFunc(orderWords, func(word string) bool { return strings.Contains(remark, word) }) {
		return "" // the patterns are slow, and few remarks speak of it
	}
	switch t := folded(remark); {
	case saysLowWord.MatchString(t):
		return "CDAB"
	case saysHigh.MatchString(t):
		return "ABCD"
	}
	return ""
}

// notSwapped are the ways of saying that nothing is exchanged.
var notSwapped = []string{"no", "none", "n", "nein", "non", "nee", "nao", "nej", "not swapped", "normal", "0", "false"}

// readOrder takes the order from its own cell, from that of the type, from a
// remark, or from what the whole table says.
func (m *maker) readOrder(p *site.Point) {
	width := p.Type.Bytes(p.Length)
	text := strings.TrimSpace(m.cell(Order))
	if said := orderSaid(text); said != "" {
		text = said
	} else if text == "" {
		text = m.says
	}
	if text == "" && width > 2 && !p.Type.IsText() {
		text = remarkedOrder(m.cell(Remark))
	}
	if text == "" && width > 2 && !p.Type.IsText() {
		text = m.listing.Reading.Order
	}
	if text == "little" {
		text = m.listing.Reading.Little
	}
	if text == "-" || text == "–" || text == "" || slices.Contains(notSwapped, folded(text)) {
		return
	}
	if heading := folded(m.listing.heading(Order)); slices.Contains(marks, folded(text)) && strings.Contains(heading,
		"swap") {
		switch {
		case strings.Contains(heading, "word"):
			text = "CDAB"
		case strings.Contains(heading, "byte"):
			text = "BADC"
		}
		if width <= 2 {
			text = text[:min(len(text), 2)]
			if text == "CD" {
				return
			}
		}
	}
	if width <= 2 && m.cell(Order) == "" {
		return // the order of words says nothing of a single one
	}
	m.fail(Order, setCell(m.scheme, p, Order, text))
}

var (
	unitScale   = regexp.MustCompile(`^[×x*]?\s*(\d+(?:[.,]\d+)?|1/\d+|10\^-?\d+)\s*[×x*]?\s+?([^\d\s].*)$`)
	unitTight   = regexp.MustCompile(`^(\d+[.,]\d+)([^\d\s].*)$`)
	unitBracket = regexp.MustCompile(`^(.*\S)\s*[\[(]\s*([^\[\]()]{1,12})\s*[\])]$`)
	perDigit    = regexp.MustCompile(`^(.*?)\s*(?:per|/|pro)\s*(?:digit|count|bit|lsb|step|schritt)s?$`)
)

// name takes the name with a unit in brackets behind it apart, where the row
// has no other.
func (m *maker) name(p *site.Point) {
	p.Name = strings.TrimSpace(m.cell(Name))
	if p.Name == "" && strings.TrimSpace(m.cell(Remark)) != "" {
		p.Name = strings.TrimSpace(m.cell(Remark))
	}
	if p.Name == "" {
		if m.has(Name) {
			m.fail(Name, setCell(m.scheme, p, Name, ""))
		}
		p.Name = strings.TrimSpace(m.cell(Address))
		return
	}
	if !strings.HasSuffix(p.Name, ")") && !strings.HasSuffix(p.Name, "]") {
		return
	}
	if parts := unitBracket.FindStringSubmatch(p.Name); parts != nil && strings.TrimSpace(m.cell(Unit)) == "" {
		if unit := unitOf(parts[2]); unit != "" {
			p.Name, p.Unit = parts[1], unit
		}
	}
}

// unitOf returns a text if it is a unit that is known, in its usual spelling.
func unitOf(text string) string {
	if text = strings.TrimSpace(text); KnownUnit(text) {
		return text
	}
	return ""
}

// readScale takes the factor from its own cell, from the divisor or from the
// unit, and the unit with it.
func (m *maker) readScale(p *site.Point) {
	in := strings.TrimSpace(m.cell(Unit))
	if in == "-" || in == "–" || in == "—" || strings.EqualFold(in, "n/a") {
		in = ""
	}
	factor := ""
	if in == "" || KnownUnit(in) {
		// as it stands
	} else if parts := unitScale.FindStringSubmatch(in); parts != nil && (KnownUnit(parts[2]) ||
		unit.Near(parts[2]) != "") {
		factor, in = parts[1], parts[2]
	} else if parts := unitTight.FindStringSubmatch(in); parts != nil && KnownUnit(parts[2]) {
		factor, in = parts[1], parts[2]
	}
	if in != "" {
		p.Unit = strings.Trim(in, "[]()")
	}
	scale := strings.TrimSpace(m.cell(Scale))
	word, u := "", ""
	if known, ok := m.scales[scale]; ok {
		word, u = known[0], known[1]
	} else if scale != "" {
		word, u = scaleWords(scale)
		m.scales[scale] = [2]string{word, u}
	}
	if word != "" {
		if scale = word; u != "" && p.Unit == "" {
			p.Unit = u
		}
	}
	if m.listing.Reading.Divide && wholeTens.MatchString(strings.ToLower(scale)) {
		scale = "/" + strings.TrimLeft(strings.ToLower(scale), "x×* ")
	}
	if m.listing.Reading.PowerScale && powerCell.MatchString(scale) {
		scale = "10^" + strings.TrimPrefix(scale, "+")
	}
	divisor := strings.TrimSpace(m.cell(Divisor))
	switch {
	case scale != "" && scale != "-" && scale != "–" && scale != "—":
		m.fail(Scale, setCell(m.scheme, p, Scale, scale))
	case divisor != "" && divisor != "-" && divisor != "–" && divisor != "—":
		f, err := parseFactor(divisor)
		if err == nil && f != 0 && f != 1 {
			if p.Factor = 1 / f; f < 1 { // written as a division, or as what one digit is
				p.Factor = f
			}
		}
		m.fail(Divisor, err)
	case factor != "":
		m.fail(Unit, setCell(m.scheme, p, Scale, factor))
	}
	if at := m.at[columnPlace[Scale]]; at >= 0 && p.Unit == "" && at < len(m.listing.Headings) {
		if parts := unitBracket.FindStringSubmatch(m.listing.Headings[at]); parts != nil {
			p.Unit = unitOf(parts[2])
		}
	}
}

// scaleWords reads a scale that is written in words, with the unit in it.
func scaleWords(text string) (factor, unit string) {
	t := folded(strings.TrimSpace(text))
	if parts := perDigit.FindStringSubmatch(strings.TrimSpace(text)); parts != nil {
		t = folded(parts[1])
		text = parts[1]
	}
	for _, w := range scalePhrases {
		if w.phrase.MatchString(t) {
			return w.factor, ""
		}
	}
	for _, phrase := range dividesBy {
		if m := phrase.FindStringSubmatch(t); m != nil {
			return "/" + m[1], ""
		}
	}
	for _, phrase := range timesBy {
		if m := phrase.FindStringSubmatch(t); m != nil {
			return m[1], ""
		}
	}
	if m := decimalsSaid.FindStringSubmatch(t); m != nil {
		n, _ := strconv.Atoi(m[1])
		return "10^-" + strconv.Itoa(n), ""
	}
	if parts := unitScale.FindStringSubmatch(strings.TrimSpace(text)); parts != nil &&
		KnownUnit(strings.TrimSpace(parts[2])) {
		return parts[1], strings.TrimSpace(parts[2])
	}
	return "", ""
}

var (
	scalePhrases = []struct {
		phrase *regexp.Regexp
		factor string
	}{
		{regexp.MustCompile(`^(in )?(one |a )?(tenths?|zehntel|dixiemes?|decimas?|decimi|tiende|decimos?|tiondelar?)( of .*)?$`), "0.1"},
		{regexp.MustCompile(`^(in )?(one |a )?(hundredths?|hundertstel|centiemes?|centesimas?|centesimi|honderdste|centesimos?|hundradelar?)( of .*)?$`), "0.01"},
		{regexp.MustCompile(`^(in )?(one |a )?(thousandths?|tausendstel|milliemes?|milesimas?|millesimi|duizendste|milesimos?|tusendelar?)( of .*)?$`), "0.001"},
		{regexp.MustCompile(`^(none|no|no scaling|unity|direct|1:1|as is|keine?|aucune?|ninguno|nessuno|geen|nenhum|ingen|n/a)$`), "1"},
	}
	dividesBy = []*regexp.Regexp{
		regexp.MustCompile(`^(?:value |reading |register |wert |valeur )?(?:divide[ds]?|divided|teilen|geteilt|diviser|divise|dividir|dividere|diviso|delen|gedeeld|dividera)(?: by| durch| par| por| per| door| med)? (\d+)$`),
		regexp.MustCompile(`^(?:value|reading|raw|register|wert|n)? ?[/÷:] ?(\d+)$`),
		regexp.MustCompile(`^(?:value|reading)? ?(?:is )?(?:multiplied by|times) (\d+) (?:in|by) the device$`),
		regexp.MustCompile(`^(\d+) ?= ?1(?:[.,]0+)?(?: ?\S+)?$`),
		regexp.MustCompile(`^1 ?[/:] ?(\d+)$`),
	}
	timesBy = []*regexp.Regexp{
		regexp.MustCompile(`^(?:multiply|multiplied|multiplizieren|multiplier|multiplicar|moltiplicare|vermenigvuldigen|multiplicera)(?: by| mit| par| por| per| met| med)? (\d+(?:[.,]\d+)?)$`),
		regexp.MustCompile(`^1 ?= ?(\d+(?:[.,]\d+)?)(?: ?\S+)?$`),
		regexp.MustCompile(`^(?:lsb|bit|digit|count)s? ?= ?(\d+(?:[.,]\d+)?)(?: ?\S+)?$`),
	}
	decimalsSaid = regexp.MustCompile(`^(\d) (?:decimals?|decimal places?|nachkommastellen?|decimales?|decimali|decimale|decimalen|casas? decima(?:l|is)|decimaler)$`)
)

// marks are the ways of saying yes in a column of crosses.
var marks = []string{"x", "✓", "✔", "•", "●", "yes", "y", "ja", "j", "oui", "si", "sim", "1", "+", "r", "w", "true"}

// accessWords are words and letters for the access in other languages, without
// what stands between them.
var accessWords = func() map[string]site.Access {
	words := map[string]site.Access{}
	for access, list := range map[site.Access]string{
		site.ReadOnly: "l lesen nurlesen lecture lectureseule lectura sololectura lettura solalettura sololettura " +
			"lezen alleenlezen leitura somenteleitura soleitura las las endastlasning",
		site.ReadWrite: "le ls lesenschreiben lesenundschreiben schreiblese lectureecriture lecturaescritura " +
			"letturascrittura lezenschrijven leituraescrita lasskriv",
		site.WriteOnly: "schreiben nurschreiben ecriture escritura scrittura schrijven escrita skriv",
	} {
		for word := range strings.FieldsSeq(list) {
			words[word] = access
		}
	}
	return words
}()

// readAccess takes the access from its cell, or from two columns of marks.
func (m *maker) readAccess(p *site.Point) {
	text := m.cell(Access)
	access, ok := m.accesses[text]
	if !ok {
		access = accessWords[letters.ReplaceAllString(folded(text), "")]
		m.accesses[text] = access
	}
	if access != "" {
		p.Access = access
	} else {
		m.set(p, Access)
	}
	if !m.has(Writable) {
		return
	}
	yes := func(column Column) bool {
		t := folded(strings.TrimSpace(m.cell(column)))
		for _, mark := range marks {
			if t == mark {
				return true
			}
		}
		return false
	}
	switch read, write := yes(Readable) || !m.has(Readable), yes(Writable); {
	case read && write:
		p.Access = site.ReadWrite
	case write:
		p.Access = site.WriteOnly
	}
}

// readRaw takes a range of raw values, which the lowest and the highest value
// stand for, as the scale.
func (m *maker) readRaw(p *site.Point) {
	rawLow, rawHigh := strings.TrimSpace(m.cell(RawLow)), strings.TrimSpace(m.cell(RawHigh))
	if rawLow == "" || rawHigh == "" || p.Low == nil || p.High == nil || p.Factor != 0 || p.Range != nil {
		return
	}
	if low, high := printNumber(*p.Low), printNumber(*p.High); rawLow != low || rawHigh != high {
		m.fail(RawHigh, setCell(m.scheme, p, Scale, rawLow+"…"+rawHigh+" → "+low+"…"+high))
	}
}

var powerCell = regexp.MustCompile(`^[-−+]?\d$`)

var rangeCell = regexp.MustCompile(`^([+-−–]?\d[\d  ]*(?:[.,]\d+)?)\s*(\S*?)\s*(?:\.{2,3}|…|–|—|-|~| to | bis | a | à | tot | ate | till )\s*([+-−]?\d[\d  ]*(?:[.,]\d+)?)\s*(.*)$`)

// readLimits reads a range such as "0…20 mg/L" into the limits, and its unit.
func (m *maker) readLimits(p *site.Point) {
	text := strings.TrimSpace(m.cell(Limits))
	if text == "" {
		return
	}
	parts := rangeCell.FindStringSubmatch(strings.ReplaceAll(text, "−", "-"))
	if parts == nil {
		if p.Remark == "" {
			p.Remark = text // it is no range of numbers: it is kept as it stands
		}
		return
	}
	low, errLow := value.ParseFloat(parts[1])
	high, errHigh := value.ParseFloat(parts[3])
	if errLow != nil || errHigh != nil || low >= high {
		return
	}
	if p.Type == value.TypeBool || p.Type.IsText() {
		return
	}
	if p.Low == nil {
		p.Low = &low
	}
	if p.High == nil {
		p.High = &high
	}
	if unit := unitOf(parts[4]); p.Unit == "" && unit != "" {
		p.Unit = unit
	}
}

var (
	bitNames   = regexp.MustCompile(`(?i)\b(?:bit|b)\s*(\d{1,2})\s*[:=–-]\s*([^,;\n:=]+)`)
	stateNames = regexp.MustCompile(`(?:^|[,;\n(]\s*)(\d{1,5})\s*[:=–-]\s*([^,;\n:=()]+)`)
)

// readNames takes the names of bits and states out of a remark, where no column
// of names is filled.
func (m *maker) readNames(p *site.Point) {
	if len(p.Names) > 0 || !p.Type.IsWhole() || strings.TrimSpace(m.cell(Names)) != "" || p.Unit != "" {
		return
	}
	text := m.cell(Remark)
	if text == "" {
		text = p.Remark // what stood where the limits do
	}
	text = strings.ReplaceAll(text, " / ", "; ")
	if !strings.ContainsAny(text, ":=–-") || !strings.ContainsAny(text, "0123456789") {
		return
	}
	take := func(found [][]string) (names []site.Naming) {
		seen := map[int64]bool{}
		for _, each := range found {
			n, err := strconv.ParseInt(each[1], 10, 32)
			name := strings.TrimSpace(each[2])
			if err != nil || name == "" || seen[n] {
				return nil
			}
			seen[n] = true
			names = append(names, site.Naming{Value: n, Name: name})
		}
		return names
	}
	width := 8 * p.Type.Bytes(p.Length)
	if names := take(bitNames.FindAllStringSubmatch(text, -1)); len(names) > 1 && (width == 16 || width == 32) {
		for _, n := range names {
			if n.Value >= int64(width) {
				return
			}
		}
		p.Names, p.Type, p.Length = names, value.TypeFlags, 0
		if width == 32 {
			p.Type = value.TypeFlags32
		}
		return
	}
	if names := take(stateNames.FindAllStringSubmatch(text, -1)); len(names) > 1 && p.Factor == 0 && (width == 16 ||
		width == 32) && !p.Type.IsFlags() {
		p.Names, p.Type, p.Length = names, value.TypeEnum, 0
		if width == 32 {
			p.Type = value.TypeEnum32
		}
	}
}
