package dnp3

import "sync/atomic"

// noted counts the events of all stand-ins in this program, lost those that had no room.
var noted, lost atomic.Int64

// Noted is how many events all stand-ins of this program have noted so far, and how many of them had no
// room and were lost: what masters got is counted against it.
func Noted() (events, gone int64) { return noted.Load(), lost.Load() }
