package serial

import (
	"cmp"
	"math"
	"slices"
)

// Edge is a change of the level of a line at a moment in milliseconds.
type Edge struct {
	At   float64
	High bool
}

// Wave is the level of a line over time: high (idle) until its first edge.
type Wave []Edge

// Send returns the wave of characters that follow each other without a pause
// from a moment on, and the moment at which the last stop bit ends.
func Send(data []byte, f Format, at float64) (Wave, float64) {
	bit := 1000 / float64(f.Baud)
	var w Wave
	high := true
	set := func(level bool) {
		if level != high {
			w = append(w, Edge{at, level})
			high = level
		}
	}
	for _, b := range data {
		set(false)
		at += bit
		ones := 0
		for i := range f.Data {
			one := b>>i&1 == 1
			if one {
				ones++
			}
			set(one)
			at += bit
		}
		if f.Parity != None {
			set((ones%2 == 1) == (f.Parity == Even))
			at += bit
		}
		set(true)
		at += float64(f.Stop) * bit
	}
	return w, at
}

// Merge returns what a line carries that two drive at once: low wins.
func Merge(a, b Wave) Wave {
	all := make(Wave, 0, len(a)+len(b))
	i, j := 0, 0
	levelA, levelB, high := true, true, true
	for i < len(a) || j < len(b) {
		var at float64
		if j >= len(b) || i < len(a) && a[i].At <= b[j].At {
			at, levelA = a[i].At, a[i].High
			i++
		} else {
			at, levelB = b[j].At, b[j].High
			j++
		}
		if level := levelA && levelB; level != high {
			all = append(all, Edge{at, level})
			high = level
		}
	}
	return all
}

// Char is one character as a receiver sees it.
type Char struct {
	Value byte
	// Bad is set where parity or stop bit are not as they should be.
	Bad bool
	// End is the moment at which the receiver has it: the middle of its first
	// stop bit.
	End float64
}

// Receive reads a wave with a receiver set to f, which samples each bit in its
// middle and begins anew with every start bit.
func Receive(w Wave, f Format) []Char {
	bit := 1000 / float64(f.Baud)
	next := 0 // the first edge that lies ahead
	level := func(at float64) bool {
		for next < len(w) && w[next].At <= at {
			next++
		}
		return next == 0 || w[next-1].High
	}
	var chars []Char
	for next < len(w) {
		if w[next].High {
			next++
			continue
		}
		start := w[next].At
		if level(start + bit/2) {
			continue // too short for a start bit
		}
		var c Char
		ones := 0
		at := start + 1.5*bit
		for i := range f.Data {
			if level(at) {
				c.Value |= 1 << i
				ones++
			}
			at += bit
		}
		if f.Parity != None {
			odd := ones%2 == 1
			c.Bad = level(at) != (odd == (f.Parity == Even))
			at += bit
		}
		if !level(at) {
			c.Bad = true
			// The next start bit can only come after the line has been high.
			for next < len(w) && !w[next].High {
				next++
			}
		}
		c.End = at
		chars = append(chars, c)
	}
	return chars
}

// Delivered returns what a serial port hands to its program: with parity
// checking on, a bad character arrives as zero.
func Delivered(chars []Char, f Format) []byte {
	data := make([]byte, len(chars))
	for i, c := range chars {
		if !c.Bad || f.Parity == None {
			data[i] = c.Value
		}
	}
	return data
}

// Guess is a format that the far end may have, and how well it explains what
// arrived.
type Guess struct {
	Format Format `json:"format"`
	// Share of the characters that must have come, as they would look from
	// that format, that did come, 0 to 1.
	Share float64 `json:"share"`
}

// Head is how an answer must begin, and how many octets the whole of it has, 0
// where nobody can tell.
type Head struct {
	Octets []byte
	Length int
}

// fills is how many made-up endings are tried to see how many characters a
// receiver that is set otherwise takes an answer for.
const fills = 24

// Explain ranks the formats at which a sender of an answer that begins as one
// of the heads would make a receiver set to own see what it saw: as far as its
// octets can be foretold, and in how many. A zero says less than other octets,
// because every bad character arrives as one. Formats that explain little are
// left out, and so is own.
func Explain(received []byte, heads []Head, own Format) []Guess {
	var guesses []Guess
	for _, f := range UsualFormats() {
		if f.Baud == own.Baud && f.Frame() == own.Frame() {
			continue
		}
		best := 0.0
		for _, h := range heads {
			best = max(best, explains(received, h, f, own))
		}
		if best >= 0.5 {
			guesses = append(guesses, Guess{f, best})
		}
	}
	slices.SortStableFunc(guesses, func(a, b Guess) int {
		return cmp.Compare(b.Share-0.1*float64(distance(b.Format, own)), a.Share-0.1*float64(distance(a.Format, own)))
	})
	return guesses
}

func explains(received []byte, h Head, f, own Format) float64 {
	length := h.Length
	if length == 0 {
		length = len(h.Octets) + 1
	}
	whole := make([]byte, max(length, len(h.Octets)))
	copy(whole, h.Octets)
	least, most := len(whole)*20, 0
	var seen []byte // what all endings have in common
	for n := range fills {
		x := uint32(2*n + 1)
		for i := len(h.Octets); i < len(whole); i++ {
			x = x*1664525 + 1013904223 // a usual linear congruence
			whole[i] = byte(x >> 24)
		}
		wave, _ := Send(whole, f, 0)
		now := Delivered(Receive(wave, own), own)
		least, most = min(least, len(now)), max(most, len(now))
		if n == 0 {
			seen = now
		}
		same := 0
		for same < len(seen) && same < len(now) && seen[same] == now[same] {
			same++
		}
		seen = seen[:same]
	}
	if h.Length == 0 {
		least, most = 0, math.MaxInt
	}
	if len(seen) == 0 || len(received) < len(seen) || len(received) < least-1 || len(received)-1 > most {
		return 0
	}
	right, of := 0.0, 0.0
	for i, b := range seen {
		weight := 1.0
		if b == 0 {
			weight = 0.5
		}
		of += weight
		if received[i] == b {
			right += weight
		}
	}
	if len(received) < least || len(received) > most {
		return unlikely * right / of // one character more or less, by noise
	}
	return right / of
}

// unlikely weighs an explanation that would bring another number of characters.
const unlikely = 0.7

// Nearest lists the usual formats, those first that differ from own in the
// fewest settings, own itself at the head: people change one at a time.
func Nearest(own Format) []Format {
	list := UsualFormats()
	slices.SortStableFunc(list, func(a, b Format) int { return cmp.Compare(distance(a, own), distance(b, own)) })
	return list
}

// distance counts in how many settings two formats differ: people change one
// at a time.
func distance(a, b Format) int {
	n := 0
	if a.Baud != b.Baud {
		n += 2
	}
	if a.Parity != b.Parity {
		n++
	}
	if a.Stop != b.Stop {
		n++
	}
	return n
}
