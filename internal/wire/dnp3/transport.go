package dnp3

import "fmt"

// A segment of the transport function (clause 8.2) is a header in 1 octet and at most MostSegment
// octets of a fragment: 0x80 is set in the last one, 0x40 in the first, the rest counts them.
const (
	MostSegment = MostData - 1
	lastSegment = 0x80
	firstOf     = 0x40
	segmentMask = 0x3F
)

// MostFragment is how many octets a fragment has at most here; 2048 is usual.
const MostFragment = 64 << 10

// Segments cuts a fragment into segments, the first with a number. It returns the number of the next.
func Segments(fragment []byte, number byte) (segments [][]byte, next byte) {
	for first := true; first || len(fragment) > 0; first = false {
		n := min(len(fragment), MostSegment)
		head := number & segmentMask
		if first {
			head |= firstOf
		}
		if n == len(fragment) {
			head |= lastSegment
		}
		segments = append(segments, append([]byte{head}, fragment[:n]...))
		fragment, number = fragment[n:], (number+1)&segmentMask
	}
	return segments, number
}

// Joiner puts segments of one sender together.
type Joiner struct {
	held   []byte
	number byte
	open   bool
}

// Len is how many octets of a fragment are held that is not whole yet.
func (j *Joiner) Len() int {
	if !j.open {
		return 0
	}
	return len(j.held)
}

// Take takes in a segment; the fragment is whole with the last one. A segment that does not follow
// the one before ends what is open: err says so, and what came before is lost (clause 8.2.2).
func (j *Joiner) Take(segment []byte) (fragment []byte, whole bool, err error) {
	if len(segment) == 0 {
		return nil, false, fmt.Errorf("a segment without a header")
	}
	head, data := segment[0], segment[1:]
	switch number := head & segmentMask; {
	case head&firstOf != 0:
		if j.open {
			err = fmt.Errorf("a fragment of %d octets was not ended before the next", len(j.held))
		}
		j.held, j.open = append(j.held[:0], data...), true
		j.number = number
	case !j.open:
		return nil, false, fmt.Errorf("segment %d has no first one before it", number)
	case number != (j.number+1)&segmentMask:
		if number == j.number {
			return nil, false, nil // the same once more
		}
		j.open = false
		return nil, false, fmt.Errorf("segment %d came behind %d", number, j.number)
	default:
		j.held, j.number = append(j.held, data...), number
	}
	if len(j.held) > MostFragment {
		j.open = false
		return nil, false, fmt.Errorf("a fragment of more than %d octets", MostFragment)
	}
	if head&lastSegment == 0 {
		return nil, false, err
	}
	j.open = false
	return append([]byte{}, j.held...), true, err
}

// Begins reports whether a segment with such a header is the first of a fragment.
func Begins(head byte) bool { return head&firstOf != 0 }
