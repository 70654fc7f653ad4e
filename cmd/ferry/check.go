package main

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"ferry/internal/core/finding"
	"ferry/internal/core/route"
	"ferry/internal/core/survey"
	"ferry/internal/core/timetable"
	"ferry/internal/core/value"
)

func checkCommand() *cobra.Command {
	c := &cobra.Command{Use: "check SITE.json",
		Short: "Say what is wrong with a site on paper: its maps, lines, links, crossings and timetable",
		Args:  cobra.ExactArgs(1)}
	asJSON := c.Flags().Bool("json", false, "print one JSON object")
	c.RunE = func(c *cobra.Command, args []string) error {
		s, err := readSite(args[0])
		if err != nil {
			return err
		}
		found := survey.OnPaper(s, nil, nil).Findings(survey.Seen{
			Plan:  timetable.Compile(s).Findings,
			Tried: func(string) *route.Route { return nil },
			Value: func(string) (v value.Value) { return v },
		})
		if *asJSON {
			err = printJSON(c.OutOrStdout(), map[string]any{"site": s.Name, "findings": found})
		} else {
			printFindings(c.OutOrStdout(), found)
			fmt.Fprintf(c.OutOrStdout(), "%s: %d findings\n", printable(s.Name), len(found))
		}
		if err != nil {
			return err
		}
		return verdict(found)
	}
	return c
}

// printFindings prints a line for each.
func printFindings(out io.Writer, found []finding.Finding) {
	for i := range found {
		f := &found[i]
		fmt.Fprintf(out, "%-5s %s: %s %s\n", f.Severity, printable(f.Subject.Name), printable(f.Sentence),
			printable(f.Remedy))
	}
}

// verdict is errFound where something is worse than a note.
func verdict(found []finding.Finding) error {
	for i := range found {
		if found[i].Severity != finding.Note {
			return errFound
		}
	}
	return nil
}
