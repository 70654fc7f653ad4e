package main

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// heldPlace is a place as ferry browse --json prints it.
type heldPlace struct {
	Address  string     `json:"address"`
	Name     string     `json:"name"`
	Type     value.Type `json:"type"`
	Unit     string     `json:"unit"`
	Writable bool       `json:"writable"`
	Remark   string     `json:"remark"`
	Low      *float64   `json:"low,omitempty"`
	High     *float64   `json:"high,omitempty"`
	// Names are those of whole values.
	Names map[int]string `json:"names,omitempty"`
}

// browseWithin bounds how long a device may take to list all that it has.
const browseWithin = 10 * time.Minute

func browseCommand() *cobra.Command {
	c := &cobra.Command{Use: "browse URL", Short: "List the places that a device says it has", Args: cobra.ExactArgs(1)}
	asJSON := c.Flags().Bool("json", false, "print one JSON object")
	c.RunE = func(c *cobra.Command, args []string) error {
		t, err := parseTarget(args[0])
		if err != nil {
			return err
		}
		if _, ok := t.def.Lists(); !ok {
			return fmt.Errorf("a device does not list what it has in %s: read what its map says", t.def.Title)
		}
		ctx, cancel := context.WithTimeout(c.Context(), browseWithin)
		defer cancel()
		places := []heldPlace{}
		more, err := field.ListAll(ctx, &t.link, t.target, func(page []protocol.Held) {
			for i := range page {
				h := &page[i]
				p := heldPlace{t.def.Scheme.Short(h.Address), h.Name, h.Shape.Type, h.Unit, h.Writable, h.Remark, h.Low, h.High,
					h.Names}
				if *asJSON {
					places = append(places, p)
					continue
				}
				access := "r "
				if p.Writable {
					access = "rw"
				}
				fmt.Fprintf(c.OutOrStdout(), "%-48s %-8s %s %-8s %s\n", printable(p.Address), p.Type, access, printable(p.Unit),
					printable(p.Name))
			}
		})
		if err != nil {
			fmt.Fprintln(c.ErrOrStderr(), err)
			return errFound
		}
		if *asJSON {
			return printJSON(c.OutOrStdout(), map[string]any{"places": places, "more": more})
		}
		if more {
			fmt.Fprintf(c.ErrOrStderr(), "The device has more than the %d that were listed.\n", field.MostHeld)
		}
		return nil
	}
	return c
}
