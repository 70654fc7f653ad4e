//go:build !linux

package bench

// newTerminal makes a simulated port: there are no pseudo-terminals here that
// tell what they were opened with.
var newTerminal = newPipe
