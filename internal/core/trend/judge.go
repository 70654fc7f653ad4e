package trend

import (
	"fmt"
	"math"
	"slices"
	"strconv"
)

// Seems is what the shape of a trend owes to how it was read rather than to the plant.
type Seems struct {
	// Code is one of steps-from-pace, plateaus-from-device, swings-between-reads,
	// steps-of-resolution, pace-not-kept.
	Code     string `json:"code"`
	Sentence string `json:"sentence"`
	Do       string `json:"do"`
}

const (
	leastJudged = 24 // samples, below which nothing is said
	leastMoves  = 8  // changes of value
)

// stays is a run of samples with one value.
type stays struct {
	n  int   // how many samples
	us int64 // from its first sample to the first of the next
}

// Judge says what in samples comes from the pace at which they were read, or from how often
// and how finely the device renews its value. paceMs is the pace that was meant, 0 for values
// that are reported.
func Judge(samples []Sample, paceMs int) (list []Seems) {
	list = []Seems{}
	var runs []stays
	var jumps, intervals []float64
	reversals, reads := 0, 0
	low, high := math.Inf(1), math.Inf(-1)
	direction := 0.0
	whole := false // whether the run in hand began with a change, so that its length is known
	run := stays{}
	var since int64
	for i := range samples {
		s := &samples[i]
		if s.Gap() {
			whole, run, direction = false, stays{}, 0
			continue
		}
		reads++
		low, high = min(low, s.V), max(high, s.V)
		if i == 0 || samples[i-1].Gap() {
			run, since = stays{n: 1}, s.AtUs
			continue
		}
		intervals = append(intervals, float64(s.AtUs-samples[i-1].AtUs)/1000)
		step := s.V - samples[i-1].V
		if step == 0 {
			run.n++
			continue
		}
		if whole {
			run.us = s.AtUs - since
			runs = append(runs, run)
		}
		whole, run, since = true, stays{n: 1}, s.AtUs
		jumps = append(jumps, math.Abs(step))
		if d := math.Copysign(1, step); d != direction {
			if direction != 0 {
				reversals++
			}
			direction = d
		}
	}
	if reads < leastJudged || len(intervals) == 0 {
		return list
	}
	slices.Sort(intervals)
	interval := intervals[len(intervals)/2]
	if paceMs > 0 {
		if late := keptBadly(intervals, float64(paceMs)); late != nil {
			list = append(list, *late)
		}
	}
	if len(jumps) < leastMoves || paceMs == 0 {
		return list
	}
	slices.Sort(jumps)
	span, jump := high-low, jumps[len(jumps)/2]
	moving := float64(len(jumps)) / float64(len(intervals))
	two := len(distinct(samples, 3)) <= 2 // a state has no slope
	switch {
	case two:
	case moving > 0.6 && float64(reversals) > 0.6*float64(len(jumps)):
		list = append(list, Seems{"swings-between-reads",
			fmt.Sprintf("It turns at %d of %d reads: it swings about as fast as it is read, or it is noise, and its shape "+
				"here is that of the pace.", reversals, len(intervals)),
			fmt.Sprintf("Read it at %s for a minute: if the swings get slower and smoother, they are the plant's.",
				ms(interval/4))})
	case moving > 0.6 && span > 0 && jump > span/20:
		list = append(list, Seems{"steps-from-pace",
			fmt.Sprintf("It is another at %d of 100 reads, and moves by %s of its whole range of %s from one to the next: "+
				"these steps come from the pace of %s, not from the plant.", int(math.Round(100*moving)), figure(jump),
				figure(span), ms(interval)),
			fmt.Sprintf("Read it at %s to see its shape.", ms(interval*20*jump/span/2))})
	}
	if every, ok := renewed(runs, interval); ok && !two {
		list = append(list, Seems{"plateaus-from-device",
			fmt.Sprintf("Its plateaus last %s each, whatever it does: the device renews the value every %s, and of %s reads "+
				"one brings something new.", ms(every), ms(every), strconv.FormatFloat(math.Round(every/interval), 'f', -1, 64)),
			fmt.Sprintf("Nothing is seen more by reading it faster than every %s; look in the device for the time of its "+
				"filter or of its cycle.", ms(every))})
	}
	if step, ok := coarse(jumps, span); ok && !two {
		list = append(list, Seems{"steps-of-resolution",
			fmt.Sprintf("It moves in steps of %s, and %d of its changes are of one step: that is how finely the device gives "+
				"it.", figure(step), within(jumps, step)),
			"Plateaus of one step are no standstill. Look whether the device has the value in a finer register or with " +
				"another scale."})
	}
	return list
}

// keptBadly says that a pace was not kept; nil where it was.
func keptBadly(intervals []float64, pace float64) *Seems {
	median, late := intervals[len(intervals)/2], 0
	for _, ms := range intervals {
		if ms > 1.5*pace {
			late++
		}
	}
	if late*50 < len(intervals) && median <= 1.2*pace {
		return nil
	}
	return &Seems{"pace-not-kept",
		fmt.Sprintf("It was to be read every %s and was read every %s (median), %d of %d times more than half a pace late, "+
			"at worst after %s: plateaus of that length come from the line.", ms(pace), ms(median), late, len(intervals),
			ms(intervals[len(intervals)-1])),
		"Look at the timetable of its line, and at what was late there."}
}

// renewed returns how often the device renews a value, in milliseconds: its plateaus last
// several reads, and all about equally long.
func renewed(runs []stays, interval float64) (every float64, ok bool) {
	if len(runs) < leastMoves {
		return 0, false
	}
	lengths := make([]float64, len(runs))
	sum := 0.0
	for i, r := range runs {
		lengths[i] = float64(r.us) / 1000
		sum += lengths[i]
	}
	slices.Sort(lengths)
	every = lengths[len(lengths)/2]
	if every < 2.5*interval {
		return 0, false
	}
	// A value that happens to stay gives a plateau of twice the length: no fault of the rule.
	alike := 0
	for _, l := range lengths {
		if times := math.Round(l / every); times >= 1 && times <= 3 && math.Abs(l-times*every) <= 1.2*interval {
			alike++
		}
	}
	return every, alike*10 >= len(lengths)*9
}

// coarse returns the step in multiples of which a value moves, where that is wide against
// what it moves over.
func coarse(jumps []float64, span float64) (step float64, ok bool) {
	step = jumps[0]
	if step <= 0 || span/step > 40 || span/step < 3 {
		return 0, false
	}
	for _, j := range jumps {
		if times := j / step; math.Abs(times-math.Round(times)) > 0.01*times {
			return 0, false
		}
	}
	return step, within(jumps, step)*2 > len(jumps)
}

func within(jumps []float64, step float64) (n int) {
	for _, j := range jumps {
		if j < 1.5*step {
			n++
		}
	}
	return n
}

// distinct returns the values that occur, and stops when there are so many.
func distinct(samples []Sample, most int) (list []float64) {
	for i := range samples {
		if !samples[i].Gap() && !slices.Contains(list, samples[i].V) {
			if list = append(list, samples[i].V); len(list) >= most {
				break
			}
		}
	}
	return list
}

func ms(n float64) string {
	if n >= 1000 {
		return strconv.FormatFloat(n/1000, 'g', 3, 64) + " s"
	}
	return strconv.FormatFloat(math.Max(1, math.Round(n)), 'f', -1, 64) + " ms"
}

func figure(v float64) string { return strconv.FormatFloat(v, 'g', 3, 64) }
