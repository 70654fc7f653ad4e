package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

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
		text, err := typedAssignment(c.Context(), t, args[1])
		if err != nil {
			return err
		}
		p, v, err := parseAssignment(t.def, text)
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
			sent := "function " + o.Function
			if o.Words != "" {
				sent += ", words " + o.Words
			}
			fmt.Fprintf(c.OutOrStdout(), "%s: %s → %s (%s)\n", where, cmp.Or(printable(o.Old), "not read"), printable(o.New),
				sent)
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

// typedAssignment is typed for POINT=VALUE.
func typedAssignment(ctx context.Context, t *target, text string) (string, error) {
	for i := strings.LastIndexByte(text, '='); i > 0 && t.def.Looked; i = strings.LastIndexByte(text[:i], '=') {
		parts := cut(t.def, text[:i])
		if len(parts) > 1 {
			break // it says its type
		}
		if _, err := t.def.Scheme.Parse(parts[0], ""); err == nil {
			named, err := typed(ctx, t, parts)
			if err != nil {
				return "", err
			}
			return named[0] + text[i:], nil
		}
	}
	return text, nil
}
