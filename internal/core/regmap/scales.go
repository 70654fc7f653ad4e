package regmap

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// printScale prints the scale cell: "÷ 10", "× 0.25", "4000…20000 → 0…100
// clamped", with "× 10^ADDRESS" behind it where a register holds a power of ten.
func printScale(scheme address.Scheme, p *site.Point) string {
	text := printFactor(p.Factor)
	if r := p.Range; r != nil {
		text = fmt.Sprintf("%s…%s → %s…%s", printNumber(r.RawLow), printNumber(r.RawHigh), printNumber(r.Low),
			printNumber(r.High))
		if r.Clamp {
			text += " clamped"
		}
	}
	if !p.PowerAt.IsZero() {
		text = strings.TrimSpace(text + " × 10^" + scheme.Short(p.PowerAt))
	}
	return text
}

// parseScale reads a scale cell into p.
func parseScale(scheme address.Scheme, p *site.Point, text string) error {
	p.Factor, p.Range, p.PowerAt = 0, nil, address.Address{}
	rest := strings.TrimSpace(text)
	if at := strings.LastIndex(rest, "10^"); at >= 0 {
		exponent := strings.TrimSpace(rest[at+3:])
		rest = strings.TrimRight(rest[:at], "×x* ")
		if n, err := strconv.Atoi(strings.ReplaceAll(exponent, "−", "-")); err == nil && n >= -30 && n <= 30 &&
			len(exponent) < 4 {
			if rest != "" {
				return fmt.Errorf("scale %q: write a factor or a power of ten, not both", text)
			}
			p.Factor = math.Pow10(n)
			if n < 0 {
				p.Factor = 1 / math.Pow10(-n)
			}
			if n == 0 {
				p.Factor = 0
			}
			return nil
		}
		if allDigits(exponent) && len(exponent) < 5 {
			return fmt.Errorf("scale %q: 10^%s is no power of ten that makes sense; write the register that holds "+
				"it in full", text, exponent)
		}
		power, err := scheme.Parse(exponent, p.Place().Area)
		if err != nil {
			return fmt.Errorf("scale %q: after 10^ comes a power or the address of the register that holds it: %w",
				text, err)
		}
		p.PowerAt = power
	}
	raw, engineering, isRange := strings.Cut(strings.ReplaceAll(rest, "->", "→"), "→")
	if isRange {
		r := &value.Range{}
		for _, word := range []string{"clamped", "clamp"} {
			if cut, ok := strings.CutSuffix(strings.TrimSpace(engineering), word); ok {
				engineering, r.Clamp = cut, true
				break
			}
		}
		var err error
		if r.RawLow, r.RawHigh, err = parseEnds(raw); err == nil {
			r.Low, r.High, err = parseEnds(engineering)
		}
		if err == nil {
			err = r.Check()
		}
		if err != nil {
			return fmt.Errorf("scale %q: write a range as 4000…20000 → 0…100: %w", text, err)
		}
		p.Range, p.Offset = r, 0
		return nil
	}
	factor, err := parseFactor(rest)
	p.Factor = factor
	return err
}

// parseEnds reads the two ends of a range: 0…100, 0..100, 0 to 100.
func parseEnds(text string) (low, high float64, err error) {
	for _, between := range []string{"…", "..", " to ", "–"} {
		if a, b, ok := strings.Cut(text, between); ok {
			if low, err = value.ParseFloat(a); err == nil {
				high, err = value.ParseFloat(b)
			}
			return low, high, err
		}
	}
	return 0, 0, fmt.Errorf("%q has not two ends", strings.TrimSpace(text))
}

// parseFactor reads a factor such as 0.1, × 0.1, ÷ 10, /10 or 1/10.
func parseFactor(text string) (float64, error) {
	t := strings.TrimSpace(text)
	if t == "" || t == "-" || t == "–" {
		return 0, nil
	}
	divide := strings.HasPrefix(t, "÷") || strings.HasPrefix(t, "/") || strings.HasPrefix(t, "1/") ||
		strings.HasPrefix(t, ":")
	t = strings.TrimPrefix(t, "1/")
	t = strings.TrimLeft(t, "÷/×x*: ")
	n, err := value.ParseFloat(t)
	if err != nil || n == 0 {
		return 0, fmt.Errorf("scale %q: write a factor such as 0.1, × 0.1 or ÷ 10, a range such as 4000…20000 → "+
			"0…100, or × 10^ADDRESS", text)
	}
	if divide {
		n = 1 / n
	}
	if n == 1 {
		return 0, nil
	}
	return n, nil
}

// printNames prints named values: "0 none; 1 membrane due".
func printNames(names []site.Naming) string {
	parts := make([]string, len(names))
	for i, n := range names {
		parts[i] = strconv.FormatInt(n.Value, 10) + " " + n.Name
	}
	text := strings.Join(parts, "; ")
	if len(parts) == 1 && strings.Contains(text, ",") {
		text += ";" // or the comma would part it
	}
	return text
}

// parseNames reads named values or bits: a number and a name each, with = or :
// or a blank between, and ; or , or a new line after.
func parseNames(text string) ([]site.Naming, error) {
	separators := ";\n"
	if !strings.ContainsAny(text, separators) {
		separators = ","
	}
	var names []site.Naming
	for part := range strings.FieldsFuncSeq(text, func(r rune) bool { return strings.ContainsRune(separators, r) }) {
		part = strings.TrimSpace(part)
		if part == "" {
			continue
		}
		end := strings.IndexFunc(part,
			func(r rune) bool { return !strings.ContainsRune("+-0123456789abcdefABCDEFxX", r) })
		number, name := part, ""
		if end > 0 {
			number, name = part[:end], strings.TrimSpace(strings.TrimLeft(part[end:], " =:–-\t"))
		}
		whole, ok := value.ParseWhole(number)
		n := whole.Int()
		if !ok || name == "" {
			return nil, fmt.Errorf("names %q: write a number and a name each, such as 0 off; 1 on", part)
		}
		for _, other := range names {
			if other.Value == n {
				return nil, fmt.Errorf("names: %d stands twice, for %s and %s", n, other.Name, name)
			}
		}
		names = append(names, site.Naming{Value: n, Name: name})
	}
	return names, nil
}

func printCodes(codes []value.Value) string {
	parts := make([]string, len(codes))
	for i, c := range codes {
		parts[i] = c.String()
	}
	return strings.Join(parts, "; ")
}

// parseCodes reads raw values that mean "not available". A hexadecimal code of
// a signed type is taken as its bits.
func parseCodes(text string, t value.Type) (codes []value.Value, err error) {
	for part := range strings.FieldsFuncSeq(text, func(r rune) bool { return r == ';' || r == ',' || r == ' ' }) {
		lower := strings.ToLower(part)
		switch {
		case lower == "nan":
			codes = append(codes, value.OfText("NaN"))
		case strings.HasPrefix(lower, "0x") || strings.HasSuffix(lower, "h") && len(lower) > 1:
			n, err := strconv.ParseUint(strings.TrimSuffix(strings.TrimPrefix(lower, "0x"), "h"), 16, 64)
			if err != nil {
				return nil, fmt.Errorf("code %q is not hexadecimal", part)
			}
			if least, _ := t.Range(0); least < 0 && !t.IsFloat() {
				shift := 64 - 8*uint(t.Bytes(0))
				n = uint64(int64(n<<shift) >> shift)
			}
			codes = append(codes, value.OfInt(int64(n)))
		default:
			v, err := value.Parse(part, value.TypeInt64)
			if err != nil {
				return nil, fmt.Errorf("code %q: write the raw value that means not available, such as -32768, "+
					"0xFFFF or NaN", part)
			}
			codes = append(codes, v)
		}
	}
	return codes, nil
}

func parseBound(text string) (*float64, error) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	f, err := value.ParseFloat(text)
	if err != nil {
		return nil, fmt.Errorf("limit %q is not a number", text)
	}
	return &f, nil
}
