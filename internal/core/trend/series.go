// Package trend knows recorded values over time: how they are packed for keeping, thinned
// for drawing, summed up, judged for what their pace hides, and how much later one of them
// shows what another did.
//
// All times are microseconds since 1970. A value stands from its sample until the next one,
// or until a gap.
package trend

import (
	"encoding/binary"
	"errors"
	"math"
	"math/bits"
	"slices"

	"ferry/internal/core/value"
)

// Sample is a value at a time, or the beginning of a gap: from then on it is not known what
// the value is, until the next sample.
type Sample struct {
	AtUs int64
	V    float64 // in engineering units; 0 or 1 for a bool; 0 in a gap
	// Quality is Good or Doubtful; Bad begins a gap.
	Quality value.Quality
	// Reason is why it is doubtful, or why there is none.
	Reason string
}

// Gap reports whether a sample begins a gap.
func (s *Sample) Gap() bool { return s.Quality == value.Bad }

// Pen is one point of a strip, as it was when the recording began.
type Pen struct {
	Point  string `json:"point"`
	Device string `json:"device"`
	Name   string `json:"name"` // of device and point
	Unit   string `json:"unit"`
	// PaceMs is how often it was to be read, 0 for one that is reported.
	PaceMs int `json:"paceMs"`
	// Decimals is how many are shown, -1 for as many as there are.
	Decimals int  `json:"decimals"`
	TwoState bool `json:"twoState,omitempty"`
}

// Note is something that happened to a recording.
type Note struct {
	AtUs     int64  `json:"atUs"`
	Sentence string `json:"sentence"`
}

// Strip is a recording of some points over the same time.
type Strip struct {
	ID   int64  `json:"id"`
	Name string `json:"name"`
	Who  string `json:"who"`
	Mode string `json:"mode"`
	// FromUs is when it began, ToUs when it ended; 0 while it records. UntilUs is when it
	// will end by itself.
	FromUs  int64 `json:"fromUs"`
	ToUs    int64 `json:"toUs"`
	UntilUs int64 `json:"untilUs"`
	// Why is why it ended.
	Why   string `json:"why,omitempty"`
	Pens  []Pen  `json:"pens"`
	Notes []Note `json:"notes"`
	// Samples is how many there are, and Octets what they take on the disk.
	Samples int64 `json:"samples"`
	Octets  int64 `json:"octets"`
}

// The first octet of each packed sample: its quality, and whether its reason follows because
// it is another than that of the sample before.
const (
	packedGood = iota
	packedDoubtful
	packedGap
	packedReason = 4
)

// Pack packs samples in the order of their times: for each an octet of quality, the time
// since the one before as a varint, the octets in which the value differs from the one
// before (exclusive or, from the most significant on, as an unsigned varint of the reversed
// bits), and where it is another the reason, with its length before it.
func Pack(samples []Sample) []byte {
	packed := make([]byte, 0, 4*len(samples)+16)
	var at int64
	var last uint64
	reason := ""
	for i := range samples {
		s := &samples[i]
		kind := byte(packedGood)
		switch s.Quality {
		case value.Doubtful:
			kind = packedDoubtful
		case value.Bad:
			kind = packedGap
		}
		if s.Reason != reason {
			kind |= packedReason
		}
		packed = append(packed, kind)
		packed = binary.AppendVarint(packed, s.AtUs-at)
		at = s.AtUs
		if !s.Gap() {
			v := math.Float64bits(s.V)
			packed = binary.AppendUvarint(packed, bits.Reverse64(v^last))
			last = v
		}
		if s.Reason != reason {
			packed = binary.AppendUvarint(packed, uint64(len(s.Reason)))
			packed = append(packed, s.Reason...)
			reason = s.Reason
		}
	}
	return packed
}

var errPacked = errors.New("the packed samples are damaged")

// Unpack undoes Pack, and adds the samples to those of into.
func Unpack(packed []byte, into []Sample) ([]Sample, error) {
	var at int64
	var last uint64
	reason := ""
	for len(packed) > 0 {
		kind := packed[0]
		packed = packed[1:]
		step, n := binary.Varint(packed)
		if n <= 0 || kind&^packedReason > packedGap {
			return into, errPacked
		}
		packed = packed[n:]
		at += step
		s := Sample{AtUs: at, Quality: value.Good}
		if kind&^packedReason == packedGap {
			s.Quality = value.Bad
		} else {
			if kind&^packedReason == packedDoubtful {
				s.Quality = value.Doubtful
			}
			other, n := binary.Uvarint(packed)
			if n <= 0 {
				return into, errPacked
			}
			packed = packed[n:]
			last ^= bits.Reverse64(other)
			s.V = math.Float64frombits(last)
		}
		if kind&packedReason != 0 {
			length, n := binary.Uvarint(packed)
			if n <= 0 || length > uint64(len(packed)-n) {
				return into, errPacked
			}
			reason = string(packed[n : n+int(length)])
			packed = packed[n+int(length):]
		}
		s.Reason = reason
		into = append(into, s)
	}
	return into, nil
}

// Between cuts samples to a window, with the one before it, whose value stands when the
// window begins. They must be in the order of their times.
func Between(samples []Sample, fromUs, toUs int64) []Sample {
	byTime := func(s Sample, at int64) int {
		switch {
		case s.AtUs < at:
			return -1
		case s.AtUs > at:
			return 1
		}
		return 0
	}
	first, _ := slices.BinarySearchFunc(samples, fromUs, byTime)
	end, _ := slices.BinarySearchFunc(samples, toUs+1, byTime)
	return samples[max(0, first-1):max(end, max(0, first-1))]
}

// Thin leaves so many samples that a chart of so many columns looks as with all of them: of
// each column the first, the least, the greatest and the last, and every gap and return. It
// returns the samples themselves where they are few enough, and says so.
func Thin(samples []Sample, fromUs, toUs int64, columns int) (thin []Sample, all bool) {
	if len(samples) <= 4*columns || columns < 1 || toUs <= fromUs {
		return samples, true
	}
	column := func(s *Sample) int {
		return int(float64(s.AtUs-fromUs) / float64(toUs-fromUs) * float64(columns))
	}
	thin = make([]Sample, 0, 4*columns+16)
	for i := 0; i < len(samples); {
		least, most, j := i, i, i
		at := column(&samples[i])
		for ; j < len(samples) && column(&samples[j]) == at && samples[j].Gap() == samples[i].Gap(); j++ {
			if samples[j].V < samples[least].V {
				least = j
			}
			if samples[j].V > samples[most].V {
				most = j
			}
		}
		if samples[i].Gap() {
			least, most = i, i
		}
		kept := [4]int{i, min(least, most), max(least, most), j - 1}
		for k, n := range kept {
			if k == 0 || n != kept[k-1] {
				thin = append(thin, samples[n])
			}
		}
		i = j
	}
	return thin, false
}
