package main

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"ferry/internal/core/address"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

func probeCommand() *cobra.Command {
	c := &cobra.Command{Use: "probe URL [POINT...]", Short: "Walk the five stops to a device", Args: cobra.MinimumNArgs(1)}
	asJSON := c.Flags().Bool("json", false, "print one JSON object")
	c.RunE = func(c *cobra.Command, args []string) error {
		t, err := parseTarget(args[0])
		if err != nil {
			return err
		}
		points, err := parsePoints(t.def, args[1:])
		if err != nil {
			return err
		}
		if len(points) == 0 {
			// With no map there is still one register that most devices have.
			points = []site.Point{{ID: "0", Name: "first register", Address: address.At(t.def.Scheme.Areas()[0].Key, 0), Type: value.TypeUint16, PaceMs: 1000, Access: site.ReadOnly}}
		}
		ctx, cancel := context.WithTimeout(c.Context(), time.Minute)
		defer cancel()
		r, err := field.TryTarget(ctx, &t.link, t.device(points), t.dial)
		if err != nil {
			return err
		}
		if *asJSON {
			if err := printJSON(c.OutOrStdout(), r); err != nil {
				return err
			}
		} else {
			printRoute(c, r)
		}
		if r.StopsAt != nil {
			return errFound
		}
		return nil
	}
	return c
}

func printRoute(c *cobra.Command, r *route.Route) {
	for _, stop := range r.Stops {
		fmt.Fprintf(c.OutOrStdout(), "%-8s %-9s %s\n", stop.Stop, stop.Result, stop.Saw)
		if stop.Remedy != "" {
			fmt.Fprintf(c.OutOrStdout(), "%18s %s\n", "", stop.Remedy)
		}
	}
	if r.StopsAt != nil {
		fmt.Fprintf(c.OutOrStdout(), "The message stops at %s.\n", *r.StopsAt)
	}
}
