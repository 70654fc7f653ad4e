package precise

import (
	"time"

	"golang.org/x/sys/unix"
)

// pause has the kernel wake this thread, and not a timer of the runtime.
func pause(d time.Duration) {
	spec := unix.NsecToTimespec(d.Nanoseconds())
	_ = unix.Nanosleep(&spec, nil)
}
