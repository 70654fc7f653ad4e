// Package precise waits to within some hundredths of a millisecond. The timers
// of the Go runtime wake up to a millisecond late, which on a fast serial line
// is as long as the silence between two frames.
package precise

import (
	"runtime"
	"time"
)

// slack is how late the kernel wakes a sleeping thread at worst when it is
// quiet: what is left of a wait is spent awake.
const slack = 90 * time.Microsecond

// Until returns at t, or at once if t has passed. It keeps a thread, and a share
// of the runtime, for as long: it is for waits of milliseconds, and not for
// hundreds of them at once.
func Until(t time.Time) {
	for {
		left := time.Until(t)
		switch {
		case left <= 0:
			return
		case left > slack:
			pause(left - slack) // woken early, it goes round again
		default:
			runtime.Gosched()
		}
	}
}

// Near returns at about t, some hundredths of a millisecond late, or at once if t has
// passed. It keeps a thread for as long, and nothing of its time.
func Near(t time.Time) {
	if left := time.Until(t); left > 0 {
		pause(left)
	}
}
