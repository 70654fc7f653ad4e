package trend

import (
	"math"
	"slices"
)

// Lag is how much later a far shore shows what a source did.
type Lag struct {
	// Moves is how often the far shore became another value, and Matched for how many of
	// these the source had that value before.
	Moves   int `json:"moves"`
	Matched int `json:"matched"`
	// The delays of the matched ones, in milliseconds.
	LeastMs  float64 `json:"leastMs"`
	MedianMs float64 `json:"medianMs"`
	P95Ms    float64 `json:"p95Ms"`
	WorstMs  float64 `json:"worstMs"`
	// WorstAtUs is when the far shore showed it that took longest.
	WorstAtUs int64 `json:"worstAtUs"`
	// ReadMs is by how much each of them may be wrong, because neither shore is looked at
	// all the time: the median intervals of both.
	ReadMs float64 `json:"readMs"`
}

// Delay measures how much later far shows what source did. source is in what the crossing
// makes of it; two values within tolerance are the same. Each move of the far shore counts
// from the last moment, at most mostUs before, at which the source became that value. A value
// that the source had more than once counts from the last time: of something that repeats
// faster than it is carried, the delay is at least what is said.
func Delay(source, far []Sample, tolerance float64, mostUs int64) Lag {
	lag := Lag{}
	same := func(a, b float64) bool { return math.Abs(a-b) <= tolerance }
	type became struct {
		at int64
		v  float64
	}
	var moves []became
	for i := range source {
		if !source[i].Gap() && (i == 0 || source[i-1].Gap() || source[i-1].V != source[i].V) {
			moves = append(moves, became{source[i].AtUs, source[i].V})
		}
	}
	var delays []float64
	worst := math.Inf(-1)
	for i := 1; i < len(far); i++ {
		if far[i].Gap() || far[i-1].Gap() || same(far[i].V, far[i-1].V) {
			continue
		}
		lag.Moves++
		at := far[i].AtUs
		k, _ := slices.BinarySearchFunc(moves, at+1, func(m became, at int64) int {
			if m.at < at {
				return -1
			}
			return 1
		})
		for k--; k >= 0 && at-moves[k].at <= mostUs; k-- {
			if !same(moves[k].v, far[i].V) {
				continue
			}
			// It may have crept within the tolerance: the first of a run counts.
			for k > 0 && at-moves[k-1].at <= mostUs && same(moves[k-1].v, far[i].V) {
				k--
			}
			ms := float64(at-moves[k].at) / 1000
			delays = append(delays, ms)
			if ms > worst {
				worst, lag.WorstAtUs = ms, at
			}
			break
		}
	}
	if lag.Matched = len(delays); lag.Matched > 0 {
		slices.Sort(delays)
		lag.LeastMs, lag.MedianMs = delays[0], delays[len(delays)/2]
		lag.P95Ms, lag.WorstMs = delays[len(delays)*95/100], delays[len(delays)-1]
	}
	lag.ReadMs = interval(source) + interval(far)
	return lag
}

// interval is the median time from one sample to the next, in milliseconds.
func interval(samples []Sample) float64 {
	var list []float64
	for i := 1; i < len(samples); i++ {
		if !samples[i].Gap() && !samples[i-1].Gap() {
			list = append(list, float64(samples[i].AtUs-samples[i-1].AtUs)/1000)
		}
	}
	if len(list) == 0 {
		return 0
	}
	slices.Sort(list)
	return list[len(list)/2]
}
