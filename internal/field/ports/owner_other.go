//go:build !linux

package ports

// Owner names the program that has a port open: here that shows only when it is
// opened.
func Owner(string) string { return "" }

// trouble says why this user cannot use a port: here that shows only when it is
// opened.
func trouble(string) string { return "" }
