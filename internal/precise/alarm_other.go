//go:build !linux

package precise

import "time"

// alarm is nothing here: the pacer sleeps by itself.
type alarm struct{}

func newAlarm() *alarm { return nil }

func (*alarm) set(time.Duration) {}
func (*alarm) wait() bool        { return false }
func (*alarm) close()            {}
