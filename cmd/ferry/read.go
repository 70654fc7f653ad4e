package main

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ferry/internal/core/address"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// reading is one value as ferry read --json prints it.
type reading struct {
	Point   string        `json:"point"`
	Value   value.Value   `json:"value"`
	Quality value.Quality `json:"quality"`
	Reason  string        `json:"reason"`
	Time    string        `json:"time"`
	Words   string        `json:"words"`
}

const rfc3339Millis = "2006-01-02T15:04:05.000Z07:00"

func readCommand() *cobra.Command {
	c := &cobra.Command{Use: "read URL POINT...", Short: "Read points of a device", Args: cobra.MinimumNArgs(2)}
	asJSON := c.Flags().Bool("json", false, "print one JSON object")
	every := c.Flags().Duration("every", time.Second, "time between two reads")
	count := c.Flags().Int("count", 1, "how often to read")
	c.RunE = func(c *cobra.Command, args []string) error {
		if *count < 1 || *every < 10*time.Millisecond {
			return errors.New("give a --count of 1 or more, and 10ms or more for --every")
		}
		t, err := parseTarget(args[0])
		if err != nil {
			return err
		}
		named, err := typed(c.Context(), t, args[1:])
		if err != nil {
			return err
		}
		points, err := parsePoints(t.def, named)
		if err != nil {
			return err
		}
		for i := range points {
			points[i].Name = args[i+1]
		}
		reader, err := field.NewReader(&t.link, t.device(points), t.target)
		if err != nil {
			return err
		}
		defer reader.Close()
		var all []reading
		failed := false
		for i := range *count {
			if i > 0 && !sleep(c.Context(), *every) {
				break
			}
			for _, live := range reader.Read(c.Context()) {
				r := reading{Point: live.Point, Quality: live.Quality, Reason: live.Reason, Words: live.Words,
					Time: time.UnixMilli(live.AtMs).Format(rfc3339Millis)}
				if live.Quality != value.Bad {
					r.Value = live.Value
				}
				failed = failed || live.Quality == value.Bad
				all = append(all, r)
				if !*asJSON {
					printReading(c, r, live.Shown)
				}
			}
		}
		if *asJSON {
			if err := printJSON(c.OutOrStdout(), map[string]any{"points": all}); err != nil {
				return err
			}
		}
		if failed {
			return errFound
		}
		return nil
	}
	return c
}

// mostWords is how much of the octets of a value a line shows: 16 words with their blanks. All of
// them are in JSON.
const mostWords = 80

func printReading(c *cobra.Command, r reading, shown string) {
	if r.Quality == value.Bad {
		shown = "—"
	}
	words, at := r.Words, r.Time[11:23]
	if len(words) > mostWords {
		words = words[:mostWords] + "…"
	}
	if strings.HasPrefix(r.Time, "1970") {
		at = "no value yet" // as long as a time
	}
	fmt.Fprintf(c.OutOrStdout(), "%s  %-24s %16s  %-8s %s  %s\n", at, r.Point, printable(shown), r.Quality, words,
		printable(r.Reason))
}

func sleep(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// typed gives points of a device that can be asked for names, and whose type nobody says, the type
// that the device has them with.
func typed(ctx context.Context, t *target, args []string) ([]string, error) {
	named := append([]string{}, args...)
	if !t.def.Looked {
		return named, nil
	}
	var list []address.Address
	var of []int
	for i, arg := range args {
		if len(cut(t.def, arg)) > 1 {
			continue
		}
		if at, err := t.def.Scheme.Parse(arg, ""); err == nil {
			list, of = append(list, at), append(of, i)
		}
	}
	if len(list) == 0 {
		return named, nil
	}
	looked, err := field.LookAt(ctx, &t.link, t.target, list)
	if err != nil {
		return nil, err
	}
	for k, i := range of {
		kind := looked[k].Type
		if kind == "" {
			kind = value.TypeFloat64 // what is not there, or none of Ferry's, is said when it is read
		}
		named[i] += ":" + string(kind)
		if kind.IsText() {
			_, most, _ := kind.Length()
			named[i] += strconv.Itoa(most)
		}
	}
	return named, nil
}
