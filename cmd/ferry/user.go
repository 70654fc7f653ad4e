package main

import (
	"bufio"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"ferry/internal/accounts"
)

func userCommand() *cobra.Command {
	c := &cobra.Command{Use: "user", Short: "Who may sign in to a Ferry that others can reach"}
	dir := c.PersistentFlags().String("data", "ferry-data", "data folder of that Ferry")
	add := &cobra.Command{Use: "add NAME",
		Short: "Add a user, or change one; the passphrase is read from a file or from standard input",
		Args:  cobra.ExactArgs(1)}
	role := add.Flags().String("role", string(accounts.Edit), "look, edit or plant")
	file := add.Flags().String("passphrase-file", "", "file with the passphrase")
	add.RunE = func(c *cobra.Command, args []string) error {
		passphrase, err := readPassphrase(*file)
		if err == nil && *file == "" {
			passphrase, err = askPassphrase(c)
		}
		if err != nil {
			return err
		}
		return changeUsers(*dir,
			func(a *accounts.Accounts) error { return a.Put(args[0], accounts.Role(*role), passphrase) })
	}
	remove := &cobra.Command{Use: "remove NAME", Short: "Remove a user", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			return changeUsers(*dir, func(a *accounts.Accounts) error { return a.Remove(args[0]) })
		}}
	list := &cobra.Command{Use: "list", Short: "List the users", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			a, err := accounts.Open(*dir)
			if err != nil {
				return err
			}
			for _, u := range a.Users() {
				fmt.Fprintf(c.OutOrStdout(), "%-24s %s\n", u.Name, u.Role)
			}
			return nil
		}}
	c.AddCommand(add, remove, list)
	return c
}

// changeUsers changes the users of a folder that no Ferry serves.
func changeUsers(dir string, change func(*accounts.Accounts) error) error {
	release, err := lockFolder(dir)
	if err != nil {
		return fmt.Errorf("%w; while it runs, its users are changed in the browser", err)
	}
	defer release()
	a, err := accounts.Open(dir)
	if err != nil {
		return err
	}
	return change(a)
}

func askPassphrase(c *cobra.Command) (string, error) {
	fmt.Fprint(c.ErrOrStderr(), "Passphrase: ")
	line, err := bufio.NewReader(io.LimitReader(c.InOrStdin(), 1<<16)).ReadString('\n')
	if err != nil && err != io.EOF {
		return "", err
	}
	passphrase := strings.TrimRight(line, "\r\n")
	return passphrase, accounts.CheckPassphrase(passphrase)
}
