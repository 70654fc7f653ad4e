package main

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"ferry/internal/core/block"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

func probeCommand() *cobra.Command {
	c := &cobra.Command{Use: "probe URL [POINT...]", Short: "Walk the five stops to a device",
		Args: cobra.MinimumNArgs(1)}
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
		ctx, cancel := context.WithTimeout(c.Context(), time.Minute)
		defer cancel()
		var r *route.Route
		if len(points) > 0 {
			r, err = field.TryTarget(ctx, &t.link, t.device(points), t.target)
		} else {
			r, err = probeFirst(ctx, t)
		}
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

// probeFirst walks the stops without a map: with the first unit of one area
// after the other, until the device has it; with none where places have names.
func probeFirst(ctx context.Context, t *target) (r *route.Route, err error) {
	areas := block.AreasOf(t.def.Scheme)
	if len(areas) == 0 {
		return field.TryTarget(ctx, &t.link, t.device(nil), t.target)
	}
	carried := areas[:0:0]
	for _, area := range areas {
		if n, whole := t.def.Image(t.link.Settings, area.Key); !whole || n > 0 {
			carried = append(carried, area)
		}
	}
	for _, area := range carried {
		p := site.Point{ID: "0", Name: "the first of the " + area.Title, Address: block.At(area.Key, 0),
			Type: value.TypeUint16, PaceMs: 1000, Access: site.ReadOnly}
		if area.UnitBits == 1 {
			p.Type = value.TypeBool
		}
		r, err = field.TryTarget(ctx, &t.link, t.device([]site.Point{p}), t.target)
		if err != nil || r.StopsAt == nil || *r.StopsAt != route.Points {
			break
		}
	}
	return r, err
}

func printRoute(c *cobra.Command, r *route.Route) {
	for _, stop := range r.Stops {
		fmt.Fprintf(c.OutOrStdout(), "%-8s %-9s %s\n", stop.Stop, stop.Result, printable(stop.Saw))
		if stop.Remedy != "" {
			fmt.Fprintf(c.OutOrStdout(), "%18s %s\n", "", printable(stop.Remedy))
		}
	}
	if r.StopsAt != nil {
		fmt.Fprintf(c.OutOrStdout(), "The message stops at %s.\n", *r.StopsAt)
	}
}
