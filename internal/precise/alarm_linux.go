package precise

import (
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// alarm wakes one goroutine at a time, by a timer of the kernel that the runtime waits for
// as for a socket: it is some hundredths of a millisecond late, and keeps no thread.
type alarm struct {
	fd   int
	file *os.File
}

// newAlarm makes one; nil where the system has no such timers left.
func newAlarm() *alarm {
	fd, err := unix.TimerfdCreate(unix.CLOCK_MONOTONIC, unix.TFD_NONBLOCK|unix.TFD_CLOEXEC)
	if err != nil {
		return nil
	}
	return &alarm{fd, os.NewFile(uintptr(fd), "timer")}
}

// set has it ring after a time, in the place of any before; it may be called by others than
// the one that waits.
func (a *alarm) set(after time.Duration) {
	spec := unix.ItimerSpec{Value: unix.NsecToTimespec(max(1, after.Nanoseconds()))}
	_ = unix.TimerfdSettime(a.fd, 0, &spec, nil) // it is there as long as the alarm
}

// wait waits until it rings.
func (a *alarm) wait() bool {
	var times [8]byte
	_, err := a.file.Read(times[:])
	return err == nil
}

func (a *alarm) close() { _ = a.file.Close() }
