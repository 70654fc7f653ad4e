package field

import (
	"sync/atomic"
	"time"
)

// latencyBounds are the upper bounds of the buckets in which the time is counted that
// Ferry has a value, from the answer of its source to the beginning of its write.
var latencyBounds = [...]time.Duration{50 * time.Microsecond, 100 * time.Microsecond, 200 * time.Microsecond,
	500 * time.Microsecond, time.Millisecond, 2 * time.Millisecond, 5 * time.Millisecond, 10 * time.Millisecond,
	20 * time.Millisecond, 50 * time.Millisecond, 100 * time.Millisecond, time.Second}

// latencies counts times in buckets.
type latencies struct {
	counts [len(latencyBounds) + 1]atomic.Uint64
	sum    atomic.Int64 // nanoseconds
}

func (l *latencies) add(d time.Duration) {
	i := 0
	for i < len(latencyBounds) && d > latencyBounds[i] {
		i++
	}
	l.counts[i].Add(1)
	l.sum.Add(int64(d))
}

// Latencies are how long Ferry had the values that crossings carried.
type Latencies struct {
	// Buckets counts the times up to each bound in seconds, those below included.
	Buckets map[float64]uint64
	Count   uint64
	Seconds float64 // of all together
}

// Latencies returns how long Ferry has had values since it began.
func (e *Engine) Latencies() Latencies {
	l := Latencies{Buckets: map[float64]uint64{}, Seconds: time.Duration(e.had.sum.Load()).Seconds()}
	for i := range e.had.counts {
		l.Count += e.had.counts[i].Load()
		if i < len(latencyBounds) {
			l.Buckets[latencyBounds[i].Seconds()] = l.Count
		}
	}
	return l
}

// Within returns in how many seconds a share of the values had gone on, from 0 to 1:
// the bound of the bucket in which it lies.
func (l Latencies) Within(share float64) float64 {
	for _, bound := range latencyBounds {
		if float64(l.Buckets[bound.Seconds()]) >= share*float64(l.Count) {
			return bound.Seconds()
		}
	}
	return latencyBounds[len(latencyBounds)-1].Seconds()
}
