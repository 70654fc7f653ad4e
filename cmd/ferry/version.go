package main

import (
	"cmp"
	"fmt"
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"
)

// version counts what is handed out, as CHANGELOG.md does.
const version = "0.9.0"

// build is which Ferry this is.
type build struct {
	Version string `json:"version"`
	// Commit it was built from, with when that was made; empty where the build
	// did not know. Changed is set where the sources were not as committed.
	Commit   string `json:"commit"`
	Date     string `json:"date"`
	Changed  bool   `json:"changed"`
	Go       string `json:"go"`
	Platform string `json:"platform"`
}

func thisBuild() build {
	b := build{Version: version, Go: runtime.Version(), Platform: runtime.GOOS + "/" + runtime.GOARCH}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return b
	}
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			b.Commit = s.Value
		case "vcs.time":
			b.Date = s.Value
		case "vcs.modified":
			b.Changed = s.Value == "true"
		}
	}
	return b
}

func versionCommand() *cobra.Command {
	asJSON := false
	c := &cobra.Command{Use: "version", Short: "Say which Ferry this is", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			b := thisBuild()
			if asJSON {
				return printJSON(c.OutOrStdout(), b)
			}
			changed := ""
			if b.Changed {
				changed = ", with changes that are not committed"
			}
			_, err := fmt.Fprintf(c.OutOrStdout(), "Ferry %s, commit %s%s, %s, %s\n", b.Version,
				cmp.Or(b.Commit, "not known"), changed, b.Go, b.Platform)
			return err
		}}
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	return c
}
