package crossing

import (
	"fmt"
	"math"
	"strings"
	"time"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Words says in short what a crossing does on the way: "÷ 100, moves by 5".
func Words(c *site.Crossing) string {
	if c.Beats() {
		return "counts on every " + span(c.BeatMs)
	}
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
	for words, ties := range bothWords {
		if c.Both == ties && ties != site.OneWay {
			parts = append(parts, words)
		}
	}
	switch {
	case c.Deadband > 0 && c.Percent:
		parts = append(parts, fmt.Sprintf("moves by %g %%", c.Deadband))
	case c.Deadband > 0:
		parts = append(parts, fmt.Sprintf("moves by %g", c.Deadband))
	}
	if c.Round {
		parts = append(parts, "with each round")
	}
	for _, rule := range []struct {
		says string
		ms   int
	}{{"every ", c.PaceMs}, {"at least every ", c.AtLeastMs}, {"at most every ", c.AtMostMs}} {
		if rule.ms > 0 {
			parts = append(parts, rule.says+span(rule.ms))
		}
	}
	if c.PerDay > 0 {
		parts = append(parts, fmt.Sprintf("%d times a day", c.PerDay))
	}
	switch c.Quiet {
	case site.Substitute:
		words := "when quiet " + c.Substitute
		if c.QuietMs > 0 {
			words += " after " + span(c.QuietMs)
		}
		parts = append(parts, words)
	case site.StopQuiet:
		words := "stops when quiet"
		if c.QuietMs > 0 {
			words += " for " + span(c.QuietMs)
		}
		parts = append(parts, words)
	}
	switch c.Tells {
	case site.TellsQuality:
		parts = append(parts, "with quality")
	case site.TellsAll:
		parts = append(parts, "with limits and texts")
	}
	for words, start := range startWords {
		if c.Start == start && start != site.SourceWins {
			parts = append(parts, words)
		}
	}
	return strings.Join(parts, ", ")
}

// bothWords and startWords say who wins.
var (
	bothWords = map[string]site.Ties{"both ways": site.LaterTies, "both ways (source wins)": site.SourceTies,
		"both ways (target wins)": site.TargetTies}
	startWords = map[string]site.Start{"source wins at first": site.SourceWins, "target wins at first": site.TargetWins,
		"from the first good value": site.WaitForGood}
)

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
