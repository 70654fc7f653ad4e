package crossing

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// parseSpan reads a time as span prints it.
func parseSpan(text string) (ms int, err error) {
	m := spanText.FindStringSubmatch(text)
	if m == nil {
		return 0, fmt.Errorf("%q is no time: write it as 500 ms, 10 s, 5 min or 1 h", text)
	}
	n, err := strconv.ParseFloat(m[1], 64)
	if n *= map[string]float64{"ms": 1, "s": 1000, "min": 60_000, "h": 3_600_000}[m[2]]; err != nil || n > 1e9 {
		return 0, fmt.Errorf("%q is no time that can be kept", text)
	}
	return int(n), nil
}

// ParseWords reads what Words says, or a part of it, from a table: parts with commas
// between, "÷ 10, moves by 0.5, both ways". Nothing is as it is.
func ParseWords(text string) (x site.Crossing, err error) {
	for _, part := range splitParts(text) {
		if err := parsePart(&x, part); err != nil {
			return x, err
		}
	}
	return x, nil
}

// splitParts parts a text at its commas, but not within brackets.
func splitParts(text string) (parts []string) {
	depth, from := 0, 0
	for i, r := range text {
		switch r {
		case '(', '[':
			depth++
		case ')', ']':
			depth--
		case ',', ';':
			if depth > 0 {
				continue
			}
			parts, from = append(parts, strings.TrimSpace(text[from:i])), i+1
		}
	}
	parts = append(parts, strings.TrimSpace(text[from:]))
	return slices.DeleteFunc(parts, func(p string) bool { return p == "" })
}

var (
	scalePart = regexp.MustCompile(`^(?:([×xX*÷/])\s*(-?[\d.]+(?:[eE][-+]?\d+)?))?\s*(?:([+−-])\s*([\d.]+(?:[eE][-+]?\d+)?))?$`)
	unitPart  = regexp.MustCompile(`^(\S+)\s*(?:→|->)\s*(\S+)$`)
	bitPart   = regexp.MustCompile(`^(into |packed from )?bit (\d+)$`)
	clampPart = regexp.MustCompile(`^within (\S+)\s*(?:…|\.\.+|to)\s*(\S+)$`)
	boundPart = regexp.MustCompile(`^at (least|most) (\S+)$`)
	movesPart = regexp.MustCompile(`^moves by ([\d.]+)\s*(%)?$`)
	rowPart   = regexp.MustCompile(`^(-?\d+)\s*(?:→|->|=)\s*(-?\d+)$`)
	elsePart  = regexp.MustCompile(`^else (-?\d+)$`)
	charsPart = regexp.MustCompile(`^(\d+) characters$`)
	rulePart  = regexp.MustCompile(`^(at least |at most )?every ([\d.]+\s*\w+)$`)
	dayPart   = regexp.MustCompile(`^(\d{1,9}) times a day$`)
	quietPart = regexp.MustCompile(`^when quiet (.+?)(?: after ([\d.]+\s*(?:ms|s|min|h)))?$`)
	stopPart  = regexp.MustCompile(`^stops when quiet(?: for (.+))?$`)
	spanText  = regexp.MustCompile(`^([\d.]+)\s*(ms|s|min|h)$`)
	readPart  = regexp.MustCompile(`^read as (\S+)(?: (\S+))?$`)
)

func parsePart(x *site.Crossing, part string) error {
	number := func(text string) float64 {
		f, err := strconv.ParseFloat(strings.ReplaceAll(text, "−", "-"), 64)
		if err != nil {
			return math.NaN()
		}
		return f
	}
	step := func(s site.Step) { x.Way = append(x.Way, s) }
	switch {
	case part == "as it is":
	case bothWords[part] != site.OneWay:
		x.Both = bothWords[part]
	case startWords[part] != site.SourceWins || part == "source wins at first":
		x.Start = startWords[part]
	case part == "upside down":
		step(site.Step{Do: site.DoNot})
	case part == "by their units":
		step(site.Step{Do: site.DoUnit})
	case part == "as a total":
		step(site.Step{Do: site.DoCount})
	case strings.HasPrefix(part, "="):
		step(site.Step{Do: site.DoFormula, Formula: strings.TrimSpace(part[1:])})
	case movesPart.MatchString(part):
		m := movesPart.FindStringSubmatch(part)
		x.Deadband, x.Percent = number(m[1]), m[2] != ""
	case part == "with each round":
		x.Round = true
	case part == "with quality":
		x.Tells = site.TellsQuality
	case part == "with limits and texts":
		x.Tells = site.TellsAll
	case rulePart.MatchString(part):
		m := rulePart.FindStringSubmatch(part)
		ms, err := parseSpan(m[2])
		switch m[1] {
		case "at least ":
			x.AtLeastMs = ms
		case "at most ":
			x.AtMostMs = ms
		default:
			x.PaceMs = ms
		}
		return err
	case dayPart.MatchString(part):
		x.PerDay, _ = strconv.Atoi(dayPart.FindStringSubmatch(part)[1]) // of digits
	case stopPart.MatchString(part):
		var err error
		x.Quiet, x.QuietMs, x.Substitute = site.StopQuiet, 0, ""
		if m := stopPart.FindStringSubmatch(part); m[1] != "" {
			x.QuietMs, err = parseSpan(m[1])
		}
		return err
	case quietPart.MatchString(part):
		var err error
		m := quietPart.FindStringSubmatch(part)
		if x.Quiet, x.QuietMs, x.Substitute = site.Substitute, 0, m[1]; m[2] != "" {
			x.QuietMs, err = parseSpan(m[2])
		}
		return err
	case bitPart.MatchString(part):
		m := bitPart.FindStringSubmatch(part)
		bit, _ := strconv.Atoi(m[2]) // of digits
		step(site.Step{Do: map[string]site.StepKind{"": site.DoBit, "into ": site.DoPut,
			"packed from ": site.DoPack}[m[1]], Bit: bit})
	case clampPart.MatchString(part):
		m := clampPart.FindStringSubmatch(part)
		least, most := number(m[1]), number(m[2])
		step(site.Step{Do: site.DoClamp, Least: &least, Most: &most})
	case boundPart.MatchString(part):
		m := boundPart.FindStringSubmatch(part)
		bound := number(m[2])
		if m[1] == "least" {
			step(site.Step{Do: site.DoClamp, Least: &bound})
		} else {
			step(site.Step{Do: site.DoClamp, Most: &bound})
		}
	case charsPart.MatchString(part):
		n, _ := strconv.Atoi(charsPart.FindStringSubmatch(part)[1]) // of digits
		step(site.Step{Do: site.DoText, Length: n})
	case readPart.MatchString(part):
		m := readPart.FindStringSubmatch(part)
		step(site.Step{Do: site.DoReread, Type: value.Type(m[1]), Order: value.Order(m[2])})
	case tablePart(x, part):
	case scalePart.MatchString(part):
		return parseScale(x, scalePart.FindStringSubmatch(part), number, part)
	case unitPart.MatchString(part):
		m := unitPart.FindStringSubmatch(part)
		step(site.Step{Do: site.DoUnit, From: m[1], To: m[2]})
	default:
		return fmt.Errorf("%q is no step that is known: write it as ÷ 10, °C → °F, bit 3, upside down, 3→2 · else 4, "+
			"moves by 0.5, every 10 s, at least every 1 min, with each round, with quality, when quiet 0, both ways, or = and "+
			"a formula", part)
	}
	return nil
}

func tablePart(x *site.Crossing, part string) bool {
	s := site.Step{Do: site.DoTable}
	for row := range strings.SplitSeq(part, "·") {
		row = strings.TrimSpace(row)
		if m := rowPart.FindStringSubmatch(row); m != nil {
			from, _ := strconv.ParseInt(m[1], 10, 64)
			to, _ := strconv.ParseInt(m[2], 10, 64)
			s.Table = append(s.Table, site.Becomes{From: from, To: to})
		} else if m := elsePart.FindStringSubmatch(row); m != nil {
			others, _ := strconv.ParseInt(m[1], 10, 64)
			s.Else = &others
		} else {
			return false
		}
	}
	x.Way = append(x.Way, s)
	return true
}

func parseScale(x *site.Crossing, m []string, number func(string) float64, part string) error {
	scale := value.Linear{}
	if m[1] != "" {
		scale.Factor = number(m[2])
		if m[1] == "÷" || m[1] == "/" {
			scale.Factor = 1 / scale.Factor
		}
	}
	if m[3] != "" {
		if scale.Offset = number(m[4]); m[3] != "+" {
			scale.Offset = -scale.Offset
		}
	}
	if math.IsNaN(scale.Factor) || math.IsInf(scale.Factor, 0) || math.IsNaN(scale.Offset) || m[1] != "" &&
		scale.Factor == 0 {
		return fmt.Errorf("%q is no scale", part)
	}
	if len(x.Way) == 0 && x.Scale().IsIdentity() {
		x.Factor, x.Offset = scale.Factor, scale.Offset
		return nil
	}
	x.Way = append(x.Way, site.Step{Do: site.DoScale, Factor: scale.Factor, Offset: scale.Offset})
	return nil
}

// clears are what takes a rule back, where the rules of several crossings are changed.
var clears = map[string]func(x *site.Crossing){
	"when it moves":         func(x *site.Crossing) { x.Round = false },
	"any change":            func(x *site.Crossing) { x.Deadband, x.Percent = 0, false },
	"one way":               func(x *site.Crossing) { x.Both = site.OneWay },
	"the value alone":       func(x *site.Crossing) { x.Tells = site.TellsValue },
	"holds when quiet":      func(x *site.Crossing) { x.Quiet, x.QuietMs, x.Substitute = site.Hold, 0, "" },
	"without a pace":        func(x *site.Crossing) { x.PaceMs = 0 },
	"without a bound a day": func(x *site.Crossing) { x.PerDay = 0 },
}

// Reword returns a crossing of which some rules are others: those that a text names, as
// Words says them. A text that says anything of the way says all of it. A heartbeat has
// no such rules.
func Reword(x *site.Crossing, text string) (site.Crossing, error) {
	after := *x
	if x.Beats() {
		return after, fmt.Errorf("a heartbeat has no source, and no rules for one")
	}
	var named site.Crossing
	parts := splitParts(text)
	if len(parts) == 0 {
		return after, fmt.Errorf("no rule is named")
	}
	for _, part := range parts {
		if clears[part] == nil {
			if err := parsePart(&named, part); err != nil {
				return after, err
			}
		}
	}
	if len(named.Way) > 0 || !named.Scale().IsIdentity() || slices.Contains(parts, "as it is") {
		after.Factor, after.Offset, after.Way = 0, 0, nil
	}
	if named.Round { // which is in the place of these
		after.Deadband, after.Percent, after.AtLeastMs, after.PaceMs, after.Both = 0, false, 0, 0, site.OneWay
	}
	for _, part := range parts {
		if clear := clears[part]; clear != nil {
			clear(&after)
		} else if err := parsePart(&after, part); err != nil {
			return after, err
		}
	}
	return after, nil
}
