// Command ferry commissions fieldbus and industrial Ethernet links: it serves
// the browser application, and does parts of the job on the command line.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"unicode"

	"github.com/spf13/cobra"

	_ "ferry/internal/families"
)

// Exit codes.
const (
	exitFine  = 0
	exitFound = 1 // findings, or a read that failed
	exitUsage = 2 // wrong usage or unreadable input
)

// errFound ends a command that worked and found something wrong; what it is
// has been printed.
var errFound = errors.New("found")

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(run(ctx, os.Args[1:], os.Stdout, os.Stderr))
}

func run(ctx context.Context, args []string, out, errOut io.Writer) int {
	root := &cobra.Command{
		Use: "ferry", Short: "Commission links between controllers, panels, remote I/O and instruments",
		SilenceUsage: true, SilenceErrors: true, CompletionOptions: cobra.CompletionOptions{DisableDefaultCmd: true},
	}
	root.AddCommand(serveCommand(), demoCommand(), benchCommand(), probeCommand(), browseCommand(), readCommand(),
		writeCommand(), mapCommand(), fathomCommand(), timetableCommand(), checkCommand(), runCommand(),
		crossingsCommand(), diagnoseCommand(), userCommand(), versionCommand())
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.ExecuteContext(ctx)
	switch {
	case err == nil:
		return exitFine
	case errors.Is(err, errFound):
		return exitFound
	}
	fmt.Fprintln(errOut, "ferry:", printable(err.Error()))
	return exitUsage
}

// printable makes text that may come from a device fit for a terminal: nothing
// in it moves the cursor or changes colours.
func printable(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || unicode.IsPrint(r):
			return r
		case unicode.Is(unicode.Zs, r): // such as between thousands
			return ' '
		}
		return '\uFFFD'
	}, text)
}

// printJSON prints one object and nothing else.
func printJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}
