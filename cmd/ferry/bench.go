package main

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"ferry/internal/bench"
	"ferry/internal/core/site"
	"ferry/internal/files"
)

func benchCommand() *cobra.Command {
	c := &cobra.Command{Use: "bench SITE.json | --demo", Short: "Run only the simulated devices of a site",
		Args: cobra.MaximumNArgs(1)}
	demo := c.Flags().Bool("demo", false, "those of the demo site")
	asJSON := c.Flags().Bool("json", false, "print one JSON object")
	c.RunE = func(c *cobra.Command, args []string) (err error) {
		if *demo == (len(args) == 1) {
			return errors.New("give a site file, or --demo")
		}
		s := bench.Demo()
		if !*demo {
			if s, err = readSite(args[0]); err != nil {
				return err
			}
		}
		b := bench.New()
		defer func() { err = errors.Join(err, b.Close()) }()
		if err := b.Sync(s); err != nil {
			return err
		}
		list := b.List(s)
		if *asJSON {
			if err := printJSON(c.OutOrStdout(), map[string]any{"devices": list}); err != nil {
				return err
			}
		} else {
			for _, d := range list {
				fmt.Fprintf(c.OutOrStdout(), "%-20s %s\n", d.Name, d.URL)
			}
		}
		<-c.Context().Done()
		return nil
	}
	return c
}

func readSite(path string) (*site.Site, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	s, err := files.ReadSite(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return s, nil
}
