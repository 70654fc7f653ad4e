package enip

import (
	"slices"
	"time"
)

// spread keeps the last gaps between packets.
type spread struct {
	gaps [spreadMost]time.Duration
	n    int
}

const spreadMost = 200

func (s *spread) add(d time.Duration) { s.gaps[s.n%spreadMost], s.n = d, s.n+1 }

// of is the mean gap, and how far 99 of 100 are from the interval, in milliseconds.
func (s *spread) of(every time.Duration) (mean, jitter float32) {
	n := min(s.n, spreadMost)
	if n == 0 {
		return 0, 0
	}
	total, off := time.Duration(0), make([]float64, 0, n)
	for _, g := range s.gaps[:n] {
		total += g
		off = append(off, float64(max(g-every, every-g)))
	}
	return float32(float64(total) / float64(n) / 1e6), float32(percentile(off) / 1e6)
}

// percentile is the 99th of some numbers.
func percentile(list []float64) float64 {
	slices.Sort(list)
	return list[min(len(list)-1, len(list)*99/100)]
}
