package strips

import (
	"fmt"
	"time"
)

// axis places times on the axis of a strip: the clock as it was when the recording began,
// and from there on the monotonic clock, so that a clock that is set does not tear it.
type axis struct {
	base time.Time // with its monotonic reading
	us   int64     // of base
	// set is by how much the clock was set since, which is taken from times that have no
	// monotonic reading.
	set time.Duration
}

func newAxis(at time.Time) axis { return axis{base: at, us: at.UnixMicro()} }

// after moves the axis on, so that it begins after a time.
func (a *axis) after(us int64) { a.us = max(a.us, us+2) }

// of is the place of a time.
func (a *axis) of(at time.Time) int64 {
	since := at.Sub(a.base)
	if at.Round(0) == at { // no monotonic reading
		since -= a.set
	}
	return a.us + since.Microseconds()
}

// least is by how much a clock must have been set to be noticed: less is its keeper's work.
const least = 100 * time.Millisecond

// look notices that the clock was set since the last time, and says so.
func (a *axis) look(now time.Time) (sentence string) { return a.looked(now, now.Round(0)) }

// looked is look with a wall clock that stands beside the monotonic one.
func (a *axis) looked(now, wall time.Time) (sentence string) {
	set := wall.Sub(a.base.Round(0)) - now.Sub(a.base)
	by := set - a.set
	if by.Abs() < least {
		return ""
	}
	a.set = set
	way := "forward"
	if by < 0 {
		way = "back"
	}
	return fmt.Sprintf("The clock of this machine was set %s by %s. Times here go on as if it had not been.", way,
		by.Abs().Round(time.Millisecond))
}
