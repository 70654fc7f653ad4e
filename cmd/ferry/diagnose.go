package main

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/recording"
)

// diagnoseCommand judges recordings of traffic.
func diagnoseCommand() *cobra.Command {
	c := &cobra.Command{Use: "diagnose CAPTURE...",
		Short: "Say what is wrong from recordings of traffic",
		Long: "Say what is wrong from recordings of traffic. Several are read in their order, as one that was parted;\n" +
			"their packets are counted on from one to the next. Recordings of networks are pcap or pcapng, compressed with\n" +
			"gzip or not; recordings of serial lines are lines with octets in hexadecimal, with a time and who speaks where\n" +
			"they say so, or the octets themselves with --serial. - reads standard input.",
		Args: cobra.MinimumNArgs(1)}
	asJSON := c.Flags().Bool("json", false, "print one JSON object")
	set := c.Flags().String("serial", "", "how the line was set of which a file is a recording, as 19200:8E1")
	path := c.Flags().String("site", "", "site file to compare with")
	talks := c.Flags().Bool("talks", false, "say who asks whom for what, how often, and how long answers take")
	c.RunE = func(c *cobra.Command, args []string) error {
		var s *site.Site
		if *path != "" {
			var err error
			if s, err = readSite(*path); err != nil {
				return err
			}
		}
		var format *serial.Format
		if *set != "" {
			f, err := serial.ParseFormat(*set)
			if err != nil {
				return err
			}
			format = &f
		}
		reading := recording.New(s)
		for _, name := range args {
			if err := readCapture(c, reading, name, format); err != nil {
				return err
			}
		}
		result := reading.Finish()
		var err error
		if *asJSON {
			err = printJSON(c.OutOrStdout(), struct {
				recording.Result
				Talks []recording.TalkView `json:"talks"`
			}{result, reading.Talks()})
		} else {
			printDiagnosis(c.OutOrStdout(), &result)
			if *talks {
				printTalks(c.OutOrStdout(), reading.Talks())
			}
		}
		if err != nil {
			return err
		}
		return verdict(result.Findings)
	}
	return c
}

func readCapture(c *cobra.Command, reading *recording.Reading, name string, format *serial.Format) error {
	from := c.InOrStdin()
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		from = f
	}
	return reading.Read(c.Context(), recording.Source{Name: name, From: from, Serial: format})
}

// printTalks prints who asks whom, a line each, and below it for what.
func printTalks(out io.Writer, talks []recording.TalkView) {
	for i := range talks {
		t := &talks[i]
		fmt.Fprintf(out, "%s asks %s (%s) %d times: %d answered, %d refused, %d without answer, %d broken; median %.1f ms, "+
			"99 %% %.1f ms, longest %.1f ms\n", t.Asker, printable(t.Answerer), t.At, t.Asked, t.Answered, t.Declined, t.None,
			t.Garbled, t.MedianMs, t.P99Ms, t.MostMs)
		for _, r := range t.Requests {
			fmt.Fprintf(out, "      %s: %d times, every %.0f ms, %d answered\n", printable(r.Says), r.Asked, r.EveryMs,
				r.Answered)
		}
	}
}

func printDiagnosis(out io.Writer, r *recording.Result) {
	for i := range r.Findings {
		f := &r.Findings[i]
		fmt.Fprintf(out, "%-5s %s (%s, %d times): %s\n", f.Severity, printable(f.Title), f.Code, f.Count,
			printable(f.Sentence))
		for _, line := range f.Evidence {
			fmt.Fprintf(out, "      %s\n", printable(line))
		}
		if f.Else != "" {
			fmt.Fprintf(out, "      or else: %s\n", printable(f.Else))
		}
		fmt.Fprintf(out, "      remedy: %s\n", printable(f.Remedy))
	}
	for _, line := range r.Said {
		fmt.Fprintf(out, "      %s\n", printable(strings.TrimSpace(line)))
	}
	fmt.Fprintf(out, "%d packets, %d connections, %d exchanges, %d findings\n", r.Packets, r.Connections, r.Exchanges,
		len(r.Findings))
}
