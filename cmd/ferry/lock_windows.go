package main

import (
	"os"

	"golang.org/x/sys/windows"
)

// lockFile takes a file for this process, or fails; the lock goes with the file.
func lockFile(f *os.File) error {
	return windows.LockFileEx(windows.Handle(f.Fd()), windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY,
		0, 1, 0, &windows.Overlapped{})
}
