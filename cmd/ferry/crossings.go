package main

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"ferry/internal/core/crossing"
	"ferry/internal/core/finding"
	"ferry/internal/core/pairing"
	"ferry/internal/core/site"
)

// crossingsCommand holds what is done with the crossings of a site on paper.
func crossingsCommand() *cobra.Command {
	c := &cobra.Command{Use: "crossings", Short: "Work on the crossings of a site on paper"}
	check := &cobra.Command{Use: "check SITE.json",
		Short: "Say what is wrong with the crossings of a site, with the ways out",
		Args:  cobra.ExactArgs(1)}
	asJSON := check.Flags().Bool("json", false, "print one JSON object")
	check.RunE = func(c *cobra.Command, args []string) error {
		s, err := readSite(args[0])
		if err != nil {
			return err
		}
		found := append(crossing.Check(s), pairing.Check(s)...)
		if *asJSON {
			err = printJSON(c.OutOrStdout(), map[string]any{"site": s.Name, "findings": found})
		} else {
			printCrossings(c.OutOrStdout(), s, found)
		}
		if err != nil {
			return err
		}
		return verdict(found)
	}
	c.AddCommand(check)
	return c
}

// printCrossings prints a line for each finding, and for each way out of what is
// wrong with its crossing.
func printCrossings(out io.Writer, s *site.Site, found []finding.Finding) {
	told := map[string]bool{}
	for i := range found {
		printFindings(out, found[i:i+1])
		if id := found[i].Subject.ID; !told[id] {
			told[id] = true
			judged, _ := crossing.Judge(s, id, crossing.Seen{})
			for _, o := range judged.Outs {
				fmt.Fprintf(out, "      way out: %s (%s)\n", printable(o.Title), printable(o.Costs))
			}
		}
	}
	fmt.Fprintf(out, "%s: %s, %s\n", printable(s.Name), counted(len(s.Crossings), "crossing"),
		counted(len(found), "finding"))
}

// counted is a number of things in words.
func counted(n int, thing string) string {
	if n != 1 {
		thing += "s"
	}
	return fmt.Sprintf("%d %s", n, thing)
}
