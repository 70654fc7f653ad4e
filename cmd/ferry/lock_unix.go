//go:build unix

package main

import (
	"os"
	"syscall"
)

// lockFile takes a file for this process, or fails; the lock goes with the file.
func lockFile(f *os.File) error { return syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) }
