package dnp3

import (
	"bytes"
	"testing"
)

// TestSegments: what was cut is put together; what is missing, comes twice or out of order is told.
func TestSegments(t *testing.T) {
	var j Joiner
	for _, n := range []int{0, 1, MostSegment, MostSegment + 1, 5 * MostSegment, 20_000} {
		fragment := bytes.Repeat([]byte{7}, n)
		segments, next := Segments(fragment, 62)
		if want := byte(62+len(segments)) & 0x3F; next != want {
			t.Errorf("%d octets: the next is %d", n, next)
		}
		for i, s := range segments {
			got, whole, err := j.Take(s)
			if err != nil || whole != (i == len(segments)-1) || whole && !bytes.Equal(got, fragment) {
				t.Fatalf("%d octets, segment %d: %d octets, %v, %v", n, i, len(got), whole, err)
			}
			if i < len(segments)-1 {
				if _, whole, err := j.Take(s); whole || err != nil && i > 0 {
					t.Fatalf("the same once more: %v, %v", whole, err)
				}
			}
		}
	}
	segments, _ := Segments(make([]byte, 3*MostSegment), 0)
	for name, order := range map[string][]int{"the first is missing": {1}, "one is missing": {0, 2},
		"a new one begins": {0, 1, 0}} {
		j, failed := Joiner{}, false
		for _, i := range order {
			if _, _, err := j.Take(segments[i]); err != nil {
				failed = true
			}
		}
		if !failed {
			t.Errorf("%s, and nothing is said", name)
		}
	}
}
