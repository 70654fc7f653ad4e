package precise

import (
	"container/heap"
	"sync"
	"time"
)

// Beat is what is due again and again. Act runs when it is due, and returns when it is due
// next, zero for never more.
type Beat struct {
	Due  time.Time
	Act  func(now time.Time) (next time.Time)
	at   int       // in the heap, -1 while it acts
	wish time.Time // for when it was hurried meanwhile
	gone bool
}

// Pacer runs all that is due in cycles, one after the other, and sleeps by the clock of the
// system: a timer of the runtime for each would be up to a millisecond late.
type Pacer struct {
	mu    sync.Mutex
	beats beats
	runs  bool
	alarm *alarm // nil where the system has none
}

// longestSleep is how long the pacer may sleep without looking for what is new, where
// nobody can wake it, and longestWait where somebody can.
const (
	longestSleep = 2 * time.Millisecond
	longestWait  = time.Second
)

// Add has something run from a time on.
func (p *Pacer) Add(b *Beat) {
	p.mu.Lock()
	defer p.mu.Unlock()
	heap.Push(&p.beats, b)
	if !p.runs {
		p.runs, p.alarm = true, newAlarm()
		go p.run()
	}
	p.wake(b)
}

// wake ends the sleep where something is due before all else. The lock is held.
func (p *Pacer) wake(b *Beat) {
	if p.alarm != nil && b.at == 0 {
		p.alarm.set(0)
	}
}

// Hurry has something run no later than at a time.
func (p *Pacer) Hurry(b *Beat, due time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case b.gone:
	case b.at < 0:
		b.wish = due
	case due.Before(b.Due):
		b.Due = due
		heap.Fix(&p.beats, b.at)
		p.wake(b)
	}
}

// Drop takes something out; it may run once more if it is about to.
func (p *Pacer) Drop(b *Beat) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if b.gone = true; b.at >= 0 && b.at < len(p.beats) && p.beats[b.at] == b {
		heap.Remove(&p.beats, b.at)
	}
	if len(p.beats) == 0 && p.alarm != nil {
		p.alarm.set(0) // it has nothing to wait for
	}
}

func (p *Pacer) run() {
	for {
		p.mu.Lock()
		if len(p.beats) == 0 {
			if p.runs = false; p.alarm != nil {
				p.alarm.close()
				p.alarm = nil
			}
			p.mu.Unlock()
			return
		}
		now := time.Now()
		b := p.beats[0]
		if wait := b.Due.Sub(now); wait > 0 {
			alarm := p.alarm
			if alarm != nil {
				alarm.set(min(wait, longestWait))
			}
			p.mu.Unlock()
			if alarm == nil || !alarm.wait() {
				Near(now.Add(min(wait, longestSleep)))
			}
			continue
		}
		heap.Pop(&p.beats)
		p.mu.Unlock()
		next := b.Act(now)
		if next.IsZero() {
			continue
		}
		p.mu.Lock()
		if !b.wish.IsZero() && b.wish.Before(next) {
			next = b.wish
		}
		if b.wish = (time.Time{}); !b.gone {
			b.Due = next
			heap.Push(&p.beats, b)
		}
		p.mu.Unlock()
	}
}

type beats []*Beat

func (l beats) Len() int           { return len(l) }
func (l beats) Less(i, k int) bool { return l[i].Due.Before(l[k].Due) }
func (l beats) Swap(i, k int) {
	l[i], l[k] = l[k], l[i]
	l[i].at, l[k].at = i, k
}

func (l *beats) Push(x any) {
	b := x.(*Beat)
	b.at = len(*l)
	*l = append(*l, b)
}

func (l *beats) Pop() any {
	old := *l
	b := old[len(old)-1]
	*l, b.at = old[:len(old)-1], -1
	return b
}
