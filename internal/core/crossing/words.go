package crossing

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Words says in short what a crossing does on the way: "÷ 100, moves by 5".
func Words(c *site.Crossing) string {
	var parts []string
	if words := scaleWords(c.Scale()); words != "" {
		parts = append(parts, words)
	}
	for i := range c.Way {
		parts = append(parts, StepWords(&c.Way[i]))
	}
	if len(parts) == 0 {
		parts = []string{"as it is"}
	}
	if c.Both != site.OneWay {
		parts = append(parts, "both ways")
	}
	switch {
	case c.Deadband > 0 && c.Percent:
		parts = append(parts, fmt.Sprintf("moves by %g %%", c.Deadband))
	case c.Deadband > 0:
		parts = append(parts, fmt.Sprintf("moves by %g", c.Deadband))
	}
	if c.PaceMs > 0 {
		parts = append(parts, "every "+span(c.PaceMs))
	}
	switch c.Quiet {
	case site.Substitute:
		words := "else " + c.Substitute
		if c.QuietMs > 0 {
			words = fmt.Sprintf("hold, then %s after %s", c.Substitute, span(c.QuietMs))
		}
		parts = append(parts, words)
	case site.StopQuiet:
		parts = append(parts, "stops when quiet")
	}
	return strings.Join(parts, ", ")
}

// span prints a time as people say it.
func span(ms int) string {
	if ms%1000 != 0 || ms == 0 {
		return fmt.Sprintf("%d ms", ms)
	}
	d := time.Duration(ms) * time.Millisecond
	switch {
	case d%time.Hour == 0:
		return fmt.Sprintf("%d h", d/time.Hour)
	case d%time.Minute == 0:
		return fmt.Sprintf("%d min", d/time.Minute)
	}
	return fmt.Sprintf("%d s", d/time.Second)
}

func scaleWords(scale value.Linear) string {
	var parts []string
	switch f := scale.Factor; {
	case f == 0 || f == 1:
	case f > 0 && f < 1 && 1/math.Round(1/f) == f:
		parts = append(parts, fmt.Sprintf("÷ %.0f", math.Round(1/f)))
	default:
		parts = append(parts, fmt.Sprintf("× %g", f))
	}
	switch {
	case scale.Offset > 0:
		parts = append(parts, fmt.Sprintf("+ %g", scale.Offset))
	case scale.Offset < 0:
		parts = append(parts, fmt.Sprintf("− %g", -scale.Offset))
	}
	return strings.Join(parts, " ")
}

// StepWords says in short what a step does.
func StepWords(s *site.Step) string {
	switch s.Do {
	case site.DoScale:
		if words := scaleWords(value.Linear{Factor: s.Factor, Offset: s.Offset}); words != "" {
			return words
		}
		return "as it is"
	case site.DoUnit:
		if s.From == "" && s.To == "" {
			return "by their units"
		}
		return orElse(s.From, "its unit") + " → " + orElse(s.To, "its unit")
	case site.DoClamp:
		switch {
		case s.Least != nil && s.Most != nil:
			return fmt.Sprintf("within %g … %g", *s.Least, *s.Most)
		case s.Least != nil:
			return fmt.Sprintf("at least %g", *s.Least)
		case s.Most != nil:
			return fmt.Sprintf("at most %g", *s.Most)
		}
		return "within no bounds"
	case site.DoNot:
		return "upside down"
	case site.DoBit:
		return fmt.Sprintf("bit %d", s.Bit)
	case site.DoPut:
		return fmt.Sprintf("into bit %d", s.Bit)
	case site.DoPack:
		return fmt.Sprintf("packed from bit %d", s.Bit)
	case site.DoTable:
		return tableWords(s)
	case site.DoCount:
		return "as a total"
	case site.DoReread:
		return strings.TrimSpace(fmt.Sprintf("read as %s %s", s.Type, s.Order))
	case site.DoText:
		return fmt.Sprintf("%d characters", s.Length)
	case site.DoFormula:
		if runes := []rune(s.Formula); len(runes) > 40 {
			return "= " + string(runes[:40]) + "…"
		}
		return "= " + s.Formula
	}
	return string(s.Do)
}

func tableWords(s *site.Step) string {
	var rows []string
	for i, row := range s.Table {
		if i == 3 {
			rows = append(rows, "…")
			break
		}
		rows = append(rows, fmt.Sprintf("%d→%d", row.From, row.To))
	}
	if s.Else != nil {
		rows = append(rows, fmt.Sprintf("else %d", *s.Else))
	}
	return strings.Join(rows, " · ")
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
	everyPart = regexp.MustCompile(`^every ([\d.]+)\s*(ms|s|min|h)$`)
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
	case part == "both ways":
		x.Both = site.LaterTies
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
	case everyPart.MatchString(part):
		m := everyPart.FindStringSubmatch(part)
		x.PaceMs = int(number(m[1]) * map[string]float64{"ms": 1, "s": 1000, "min": 60_000, "h": 3_600_000}[m[2]])
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
			"moves by 0.5, both ways, or = and a formula", part)
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
