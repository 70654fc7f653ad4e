package trend

import (
	"math"
	"slices"

	"ferry/internal/core/value"
)

// Summary is what a pen showed between two times.
type Summary struct {
	Samples int `json:"samples"`
	// Doubtful are those of doubtful quality.
	Doubtful int `json:"doubtful"`
	// Min and Max are the extremes, with the time of the first of each.
	Min     float64 `json:"min"`
	MinAtUs int64   `json:"minAtUs"`
	Max     float64 `json:"max"`
	MaxAtUs int64   `json:"maxAtUs"`
	// Mean and Deviation weigh each value with the time for which it stood.
	Mean      float64 `json:"mean"`
	Deviation float64 `json:"deviation"`
	Last      float64 `json:"last"`
	Changes   int     `json:"changes"`
	// IntervalMs is the median time from one sample to the next, LongestMs the longest
	// without a gap between them.
	IntervalMs float64 `json:"intervalMs"`
	LongestMs  float64 `json:"longestMs"`
	// CoveredMs is for how long there was a value, GapsMs for how long there was none.
	CoveredMs float64 `json:"coveredMs"`
	GapsMs    float64 `json:"gapsMs"`
}

// Missing is a time for which a pen had no value.
type Missing struct {
	FromUs int64 `json:"fromUs"`
	ToUs   int64 `json:"toUs"`
	// Reason is the first that was given.
	Reason string `json:"reason"`
}

// Sum sums up samples from one time to another. The first may lie before: its value stands
// when the time begins.
func Sum(samples []Sample, fromUs, toUs int64) Summary {
	sum := Summary{Min: math.NaN(), Max: math.NaN()}
	intervals := make([]float64, 0, len(samples))
	var weight, first, second float64
	base := math.NaN() // deviations are of this, so that large values lose nothing
	before := math.NaN()
	for i := range samples {
		s := &samples[i]
		begin, end := max(s.AtUs, fromUs), toUs
		if i+1 < len(samples) {
			end = min(end, samples[i+1].AtUs)
		}
		stood := float64(max(0, end-begin)) / 1000
		if s.Gap() {
			sum.GapsMs += stood
			continue
		}
		sum.CoveredMs += stood
		if math.IsNaN(base) {
			base = s.V
		}
		weight, first, second = weight+stood, first+stood*(s.V-base), second+stood*(s.V-base)*(s.V-base)
		if s.AtUs >= fromUs {
			sum.Samples++
			if s.Quality == value.Doubtful {
				sum.Doubtful++
			}
			if i > 0 && !samples[i-1].Gap() && samples[i-1].AtUs >= fromUs {
				ms := float64(s.AtUs-samples[i-1].AtUs) / 1000
				intervals = append(intervals, ms)
				sum.LongestMs = max(sum.LongestMs, ms)
			}
		}
		if !math.IsNaN(before) && s.V != before && s.AtUs >= fromUs {
			sum.Changes++
		}
		if !(s.V >= sum.Min) {
			sum.Min, sum.MinAtUs = s.V, begin
		}
		if !(s.V <= sum.Max) {
			sum.Max, sum.MaxAtUs = s.V, begin
		}
		sum.Last, before = s.V, s.V
	}
	switch {
	case math.IsNaN(base):
		sum.Min, sum.Max = 0, 0 // nothing was read
	case weight > 0:
		sum.Mean = base + first/weight
		sum.Deviation = math.Sqrt(max(0, second/weight-(first/weight)*(first/weight)))
	default:
		sum.Mean = base
	}
	if len(intervals) > 0 {
		slices.Sort(intervals)
		sum.IntervalMs = intervals[len(intervals)/2]
	}
	return sum
}

// Gaps lists the times without a value, those without an end up to toUs. What follows
// without a value between is one gap.
func Gaps(samples []Sample, fromUs, toUs int64) (list []Missing) {
	for i := range samples {
		if !samples[i].Gap() {
			continue
		}
		end := toUs
		if i+1 < len(samples) {
			end = min(end, samples[i+1].AtUs)
		}
		begin := max(samples[i].AtUs, fromUs)
		if end <= begin {
			continue
		}
		if n := len(list); n > 0 && i > 0 && samples[i-1].Gap() {
			list[n-1].ToUs = end
			continue
		}
		list = append(list, Missing{FromUs: begin, ToUs: end, Reason: samples[i].Reason})
	}
	return list
}
