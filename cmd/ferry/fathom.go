package main

import (
	"errors"
	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ferry/internal/core/address"
	"ferry/internal/core/fathom"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// explained is one explanation as ferry fathom --json prints it.
type explained struct {
	Address string      `json:"address"`
	Type    string      `json:"type"`
	Order   string      `json:"order"`
	Scale   float64     `json:"scale"`
	Offset  float64     `json:"offset"`
	Value   value.Value `json:"value"`
	Sure    float64     `json:"sure"`
}

func fathomCommand() *cobra.Command {
	c := &cobra.Command{Use: "fathom",
		Short: "Find out what registers hold, from raw words and what the device's display shows", Args: cobra.NoArgs}
	asJSON := c.Flags().Bool("json", false, "print one JSON object")
	moments := c.Flags().StringArray("words", nil,
		`the words of one moment, such as "9F3A 4148"; again for another moment`)
	shows := c.Flags().StringArray("shows", nil,
		"what the display shows, once for each moment; without it, what looks like something is listed")
	within := c.Flags().Float64("within", 0, "tolerance of the reading; half of its last digit if 0")
	at := c.Flags().String("at", "", "address of the first word; the first of the map if not given")
	expect := c.Flags().String("expect", "", "address at which the manual says the value is")
	c.RunE = func(c *cobra.Command, args []string) error {
		p := places{scheme: protocol.UsualOn(site.Ethernet).Scheme}
		p.start.Bit = -1
		for _, area := range block.AreasOf(p.scheme) {
			if area.UnitBits == 16 {
				p.start.Area = area.Key
				break
			}
		}
		if *at != "" {
			start, err := p.scheme.Parse(*at, "")
			if err != nil {
				return err
			}
			p.start = block.Of(start)
		}
		q := fathom.Query{}
		for _, text := range *moments {
			words, err := regmap.ParseWords(text)
			if err != nil {
				return err
			}
			q.Moments = append(q.Moments, words)
		}
		if len(q.Moments) == 0 {
			return errors.New(`give the words, such as --words "9F3A 4148"`)
		}
		if len(*shows) == 0 {
			return printHints(c, q.Moments[0], p, *asJSON)
		}
		if len(*shows) != len(q.Moments) {
			return fmt.Errorf("there are %d moments and %d readings: give --shows once for each --words",
				len(q.Moments), len(*shows))
		}
		for i, text := range *shows {
			r := fathom.Reading{Moment: i, Shows: text, Within: *within}
			if *expect != "" {
				a, err := p.scheme.Parse(*expect, p.start.Area)
				if err != nil {
					return err
				}
				place := int(block.Of(a).Offset) - int(p.start.Offset)
				r.At = &place
			}
			q.Readings = append(q.Readings, r)
		}
		answer, err := fathom.Search(&q)
		if err != nil {
			return err
		}
		return printAnswer(c, answer, p, *asJSON)
	}
	return c
}

// places are where the words of a search lie.
type places struct {
	scheme address.Scheme
	start  block.Place // of the first word
}

// print names the place of a word, or of a bit of it.
func (p places) print(word, bit int) string {
	at := p.start
	at.Offset, at.Bit = at.Offset+uint32(word), bit
	return p.scheme.Short(at.Address())
}

func printAnswer(c *cobra.Command, answer *fathom.Answer, at places, asJSON bool) error {
	list := []explained{}
	fits := false
	for i := range answer.Candidates {
		a := &answer.Candidates[i]
		bit := a.Bit
		if !a.Type.InUnit() {
			bit = -1
		}
		fits = fits || a.Fits
		p := site.Point{Type: a.Type, Length: a.Length, Order: a.Order}
		list = append(list, explained{at.print(a.At, bit), regmap.PrintType(&p),
			regmap.Cell(at.scheme, &p, regmap.Order), a.Scale, a.Offset, a.Values[len(a.Values)-1], a.Sure})
	}
	if asJSON {
		var ask *string
		if answer.Ask != "" {
			ask = &answer.Ask
		}
		if err := printJSON(c.OutOrStdout(), map[string]any{"candidates": list, "ask": ask}); err != nil {
			return err
		}
	} else {
		for i, e := range list {
			scale := ""
			if e.Scale != 1 || e.Offset != 0 {
				scale = strings.TrimSuffix(fmt.Sprintf("× %g + %g", e.Scale, e.Offset), " + 0")
			}
			fmt.Fprintf(c.OutOrStdout(), "%3.0f %%  %-9s %-9s %-9s %-14s %s%s\n", 100*e.Sure, e.Address, e.Type,
				e.Order, scale, e.Value,
				map[bool]string{false: "  (near, but outside the tolerance)"}[answer.Candidates[i].Fits])
		}
		if answer.Ask != "" {
			fmt.Fprintln(c.OutOrStdout(), answer.Ask)
		}
	}
	if !fits {
		return errFound
	}
	return nil
}

func printHints(c *cobra.Command, words []uint16, at places, asJSON bool) error {
	hints := fathom.Hints(words)
	list := []explained{}
	for _, h := range hints {
		p := site.Point{Type: h.Type, Length: h.Length, Order: h.Order}
		list = append(list, explained{at.print(h.At, -1), regmap.PrintType(&p),
			regmap.Cell(at.scheme, &p, regmap.Order), 1, 0, value.OfText(h.Shows), h.Sure})
	}
	ask := "Without a reading this is a guess: give what the display shows with --shows."
	if asJSON {
		return printJSON(c.OutOrStdout(), map[string]any{"candidates": list, "ask": ask})
	}
	for _, e := range list {
		fmt.Fprintf(c.OutOrStdout(), "%3.0f %%  %-9s looks like %s %s: %s\n", 100*e.Sure, e.Address, e.Type, e.Order,
			e.Value)
	}
	fmt.Fprintln(c.OutOrStdout(), ask)
	return nil
}
