package field

import (
	"maps"
	"sync"
	"time"
)

// Worn is how often a point was written on a day, for targets that wear.
type Worn struct {
	Point string `json:"point"`
	Day   string `json:"day"` // as 2006-01-02, by the clock of this machine
	Count int    `json:"count"`
}

// wear counts the writes of today into the targets of crossings.
type wear struct {
	mu     sync.Mutex
	day    string
	ends   time.Time // of the day
	counts map[string]int
	toKeep map[string]bool
}

// turn goes to the day of a moment. The lock is held.
func (w *wear) turn(now time.Time) {
	if now.Before(w.ends) && w.counts != nil {
		return
	}
	y, m, d := now.Date()
	w.ends = time.Date(y, m, d+1, 0, 0, 0, 0, now.Location())
	if day := now.Format(time.DateOnly); day != w.day {
		w.day, w.counts, w.toKeep = day, map[string]int{}, map[string]bool{}
	}
}

// today returns how often a point was written today, and when the next day begins.
func (w *wear) today(point string, now time.Time) (int, time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.turn(now)
	return w.counts[point], w.ends
}

func (w *wear) add(point string, now time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.turn(now)
	w.counts[point]++
	w.toKeep[point] = true
}

// Worn returns how often points were written today.
func (e *Engine) Worn() map[string]int {
	e.worn.mu.Lock()
	defer e.worn.mu.Unlock()
	e.worn.turn(time.Now())
	return maps.Clone(e.worn.counts)
}

// DrainWorn returns the counts that changed since the last call; RecallWorn brings
// back those of an earlier run of the program, and is for before anything runs.
func (e *Engine) DrainWorn() (list []Worn) {
	e.worn.mu.Lock()
	defer e.worn.mu.Unlock()
	for point := range e.worn.toKeep {
		list = append(list, Worn{point, e.worn.day, e.worn.counts[point]})
	}
	clear(e.worn.toKeep)
	return list
}

// AgainWorn has counts handed over once more that could not be kept.
func (e *Engine) AgainWorn(list []Worn) {
	e.worn.mu.Lock()
	defer e.worn.mu.Unlock()
	for _, w := range list {
		if w.Day == e.worn.day {
			e.worn.toKeep[w.Point] = true
		}
	}
}

// RecallWorn takes up the counts of today that an earlier run of the program kept.
func (e *Engine) RecallWorn(list []Worn) {
	e.worn.mu.Lock()
	defer e.worn.mu.Unlock()
	e.worn.turn(time.Now())
	for _, w := range list {
		if w.Day == e.worn.day {
			e.worn.counts[w.Point] += w.Count
		}
	}
}
