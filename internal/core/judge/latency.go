package judge

import "time"

// Percentile returns the time within which a share of the answers came, to a quarter
// of an octave; 0 where there was none.
func (t *Talk) Percentile(share float64) time.Duration {
	total := int64(0)
	for _, n := range t.Latency {
		total += int64(n)
	}
	want := int64(share * float64(total))
	for i, n := range t.Latency {
		if want -= int64(n); want < 0 || want == 0 && n > 0 {
			return stepEnd(i)
		}
	}
	return 0
}

// Doubling returns how many answers took less than 1 ms, less than 2 ms, and so on,
// doubling, up to the longest.
func (t *Talk) Doubling() []int32 {
	counts := make([]int32, 24)
	most := 0
	for i, n := range t.Latency {
		at := 0
		for limit := time.Millisecond; stepEnd(i) > limit && at < len(counts)-1; limit *= 2 {
			at++
		}
		if counts[at] += n; n > 0 {
			most = max(most, at+1)
		}
	}
	return counts[:most]
}

// stepOf is the step of the distribution that a time falls in.
func stepOf(d time.Duration) int {
	us := uint64(max(d.Microseconds(), 1))
	octave := 63 - leading(us)
	quarter := 0
	if octave >= 2 {
		quarter = int(us>>(octave-2)) & 3
	}
	return min(octave*4+quarter, latencySteps-1)
}

func stepEnd(i int) time.Duration {
	octave, quarter := i/4, i%4
	us := (uint64(1) << octave) * uint64(5+quarter) / 4
	return time.Duration(us) * time.Microsecond
}

func leading(v uint64) int {
	n := 0
	for v&(1<<63) == 0 {
		v <<= 1
		n++
	}
	return n
}
