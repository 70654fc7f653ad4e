//go:build !linux

package precise

import "time"

// coarse is how much too long the timers of these systems may sleep.
const coarse = time.Millisecond

func pause(d time.Duration) {
	if d > coarse {
		time.Sleep(d - coarse)
	}
}
