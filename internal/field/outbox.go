package field

import (
	"context"
	"sync"
)

// Outbox keeps the reports of a connection in order until they are taken: whoever takes octets in is
// never held up by whoever takes reports. It is for many goroutines.
type Outbox struct {
	most int
	out  chan Report
	fed  chan struct{}

	mu    sync.Mutex
	waits []Report
	shut  bool
}

// NewOutbox returns one in which at most so many reports wait.
func NewOutbox(most int) *Outbox {
	return &Outbox{most: most, out: make(chan Report, 64), fed: make(chan struct{}, 1)}
}

// Reports is as in Reporter.
func (o *Outbox) Reports() <-chan Report { return o.out }

// Room reports whether another report can wait.
func (o *Outbox) Room() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return len(o.waits) < o.most
}

// Put has a report handed over; false is that too many wait, and that this one was not taken.
func (o *Outbox) Put(report Report) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(o.waits) >= o.most {
		return false
	}
	o.waits = append(o.waits, report)
	o.wake()
	return true
}

// Shut ends the reports behind what waits.
func (o *Outbox) Shut() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.shut = true
	o.wake()
}

func (o *Outbox) wake() {
	select {
	case o.fed <- struct{}{}:
	default:
	}
}

// Run hands over what waits until the box is shut and empty, or until life ends; then the reports end.
func (o *Outbox) Run(life context.Context) {
	defer close(o.out)
	for {
		o.mu.Lock()
		waits, shut := o.waits, o.shut
		o.waits = nil
		o.mu.Unlock()
		for i := range waits {
			select {
			case o.out <- waits[i]:
			case <-life.Done():
				return
			}
		}
		if len(waits) > 0 {
			continue
		}
		if shut {
			return
		}
		select {
		case <-o.fed:
		case <-life.Done():
			return
		}
	}
}
