//go:build !unix

package lookout

import "os/exec"

// group leaves what a program started to itself: here that is not known.
func group(*exec.Cmd) {}
