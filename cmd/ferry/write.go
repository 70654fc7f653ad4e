package main

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"ferry/internal/core/site"
	"ferry/internal/field"
)

func writeCommand() *cobra.Command {
	c := &cobra.Command{Use: "write URL POINT=VALUE --yes", Short: "Write one point of a device and read it back",
		Args: cobra.ExactArgs(2)}
	yes := c.Flags().Bool("yes", false, "really write; without it, only say what would be written")
	journal := c.Flags().String("journal", defaultWriteLog(), "file in which every write is kept, as JSON lines")
	asJSON := c.Flags().Bool("json", false, "print one JSON object")
	c.RunE = func(c *cobra.Command, args []string) error {
		t, err := parseTarget(args[0])
		if err != nil {
			return err
		}
		p, v, err := parseAssignment(t.def, args[1])
		if err != nil {
			return err
		}
		p.ID = "0"
		result, err := field.WriteTarget(c.Context(), writeLog{*journal}, operator(), &t.link,
			t.device([]site.Point{p}), t.target, v, *yes)
		if err != nil {
			return err
		}
		if *asJSON {
			if err := printJSON(c.OutOrStdout(), result); err != nil {
				return err
			}
		} else {
			o := result.Order
			where := t.target.Dial + ", " + o.Address
			if station := t.def.StationWords(t.link.Settings); station != "" {
				where += ", " + station
			}
			fmt.Fprintf(c.OutOrStdout(), "%s: %s → %s (function %s, words %s)\n", where, printable(o.Old),
				printable(o.New), o.Function, o.Words)
			fmt.Fprintln(c.OutOrStdout(), printable(result.Sentence))
		}
		if !*yes {
			return errors.New("nothing was written: add --yes to write")
		}
		if !result.OK {
			return errFound
		}
		return nil
	}
	return c
}
