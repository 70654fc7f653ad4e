package timetable

import (
	"fmt"
	"math"
)

// Counting is what the samples of a value show that counts up.
type Counting struct {
	// PerSecond is how often it counts, Counts how many of them the samples span, and
	// Seen how many of these were seen; Same are reads that brought nothing new.
	PerSecond    float64
	Counts, Seen int
	Reads, Same  int
	// Largest is the greatest step between two reads.
	Largest int
}

// leastCounts is how many counts the samples of a counter must span to be judged.
const leastCounts = 6

// Counts looks whether samples are those of a counter: whole numbers that only rise, but
// for one return to the beginning. ok is false where they are not, or are too few.
func Counts(samples []Sample) (c Counting, ok bool) {
	if len(samples) < leastCounts {
		return c, false
	}
	returns := 0
	for i := 1; i < len(samples); i++ {
		step := samples[i].V - samples[i-1].V
		switch {
		case samples[i].V != math.Trunc(samples[i].V) || step > math.MaxInt32:
			return c, false
		case step < 0:
			if returns++; returns > 1 {
				return c, false
			}
			continue // how far it had come before is not known
		case step == 0:
			c.Same++
		default:
			c.Seen++
			c.Counts += int(step)
			c.Largest = max(c.Largest, int(step))
		}
		c.Reads++
	}
	span := float64(samples[len(samples)-1].AtMs-samples[0].AtMs) / 1000
	if c.Counts < leastCounts || span <= 0 {
		return c, false
	}
	c.PerSecond = float64(c.Counts) / span
	return c, true
}

// Lost is how many counts passed unseen between two reads.
func (c *Counting) Lost() int { return c.Counts - c.Seen }

// ChangeMs is the time from one count to the next.
func (c *Counting) ChangeMs() int { return max(1, int(math.Round(1000/c.PerSecond))) }

// Judge says whether a pace sees every count, and in words what passes unseen.
func (c *Counting) Judge(paceMs int) (verdict Sampled, sees, trusts int, words string) {
	verdict, sees, trusts = Sampling(paceMs, c.ChangeMs())
	rate := fmt.Sprintf("It counts %s times a second", short(c.PerSecond))
	switch lost := c.Lost(); {
	case lost > 0:
		words = fmt.Sprintf("%s, and %s. %s would see each, %s can be trusted.", rate, c.share(lost), paceWord(sees),
			paceWord(trusts))
		return Missed, sees, trusts, words
	case verdict == Missed:
		words = fmt.Sprintf("%s. None was lost in %d reads, but one that comes a little late loses one: %s sees each, %s can be trusted.",
			rate, c.Reads, paceWord(sees), paceWord(trusts))
		return Barely, sees, trusts, words
	case verdict == Barely:
		words = fmt.Sprintf("%s, and each was seen; when it came is known to a read. %s can be trusted.", rate,
			paceWord(trusts))
	default:
		words = fmt.Sprintf("%s, and each was seen; %d of %d reads brought nothing new.", rate, c.Same, c.Reads)
	}
	return verdict, sees, trusts, words
}

// share says how many of the counts were lost, as people count.
func (c *Counting) share(lost int) string {
	part := float64(c.Counts) / float64(lost)
	switch {
	case part < 2:
		return fmt.Sprintf("is seen %s times: %d of %d counts passed unseen, and the value jumps by up to %d",
			short(c.PerSecond*
				float64(c.Seen)/float64(c.Counts)), lost, c.Counts, c.Largest)
	case part < 100:
		return fmt.Sprintf("about every %s count passes unseen (%d of %d), where the value jumps by %d",
			ordinal(int(math.Round(part))), lost, c.Counts, c.Largest)
	}
	return fmt.Sprintf("%d of %d counts passed unseen", lost, c.Counts)
}

func short(n float64) string {
	if n >= 10 || n == math.Trunc(n) {
		return fmt.Sprintf("%.0f", n)
	}
	return fmt.Sprintf("%.1f", n)
}

func ordinal(n int) string {
	suffix := "th"
	if n/10%10 != 1 {
		switch n % 10 {
		case 1:
			suffix = "st"
		case 2:
			suffix = "nd"
		case 3:
			suffix = "rd"
		}
	}
	return fmt.Sprintf("%d%s", n, suffix)
}
