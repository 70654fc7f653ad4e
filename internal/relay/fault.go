package relay

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"ferry/internal/core/capture"
)

// Fault is something that a relay does wrong on purpose, on the bench.
type Fault struct {
	Kind string `json:"kind" jsonschema:"enum=,enum=delay,enum=drop,enum=flip,enum=split,enum=cut,enum=mute"`
	// Value is what the kind counts: milliseconds for delay and split, per cent of the pieces
	// for drop and flip, octets after which cut hangs up.
	Value int `json:"value,omitempty"`
}

// Faults are the kinds, with what each does in words and the bounds of its value.
var Faults = []struct {
	Kind, Title, Unit    string
	Default, Least, Most int
}{
	{"", "none", "", 0, 0, 0},
	{"delay", "answers come late", "ms", 300, 1, 60_000},
	{"drop", "pieces are lost", "%", 20, 1, 100},
	{"flip", "an octet is spoilt", "%", 20, 1, 100},
	{"split", "answers come in two pieces", "ms", 80, 1, 10_000},
	{"cut", "hangs up after so many octets back", "octets", 400, 1, 1 << 30},
	{"mute", "nothing comes back", "", 0, 0, 0},
}

func (f Fault) check() error {
	for _, k := range Faults {
		if k.Kind == f.Kind {
			if f.Value < k.Least || f.Value > k.Most {
				return fmt.Errorf("the fault %q takes %d to %d", k.Title, k.Least, k.Most)
			}
			return nil
		}
	}
	return fmt.Errorf("%q is no fault of a relay", f.Kind)
}

// spoiler plays the fault of a relay.
type spoiler struct {
	fault Fault
	mu    sync.Mutex
	dice  *rand.Rand
	back  int // octets that went back
}

func newSpoiler(f Fault) *spoiler { return &spoiler{fault: f, dice: rand.New(rand.NewPCG(7, 11))} }

func (s *spoiler) chance(percent int) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.dice.IntN(100) < percent
}

// errCut is the fault that hangs up.
var errCut = errors.New("the relay hangs up, as its fault says")

// write hands octets on that came at a time, as the fault has it, and tells of what has
// gone on, and when.
func (s *spoiler) write(ctx context.Context, side capture.Side, to io.Writer, said []byte, at time.Time,
	gone func(at time.Time, octets []byte)) error {
	put := func(b []byte) error {
		if len(b) == 0 {
			return nil
		}
		_, err := to.Write(b)
		gone(at, b)
		return err
	}
	if s.fault.Kind == "" || side == capture.Asker && s.fault.Kind != "drop" {
		return put(said)
	}
	wait := func() {
		select {
		case <-time.After(time.Duration(s.fault.Value) * time.Millisecond):
		case <-ctx.Done():
		}
		at = time.Now()
	}
	switch s.fault.Kind {
	case "delay":
		wait()
	case "drop":
		if s.chance(s.fault.Value) {
			return nil
		}
	case "flip":
		if len(said) > 0 && s.chance(s.fault.Value) {
			said = slices.Clone(said)
			said[len(said)/2] ^= 0x10
		}
	case "split":
		if len(said) > 1 {
			if err := put(said[:len(said)/2]); err != nil {
				return err
			}
			wait()
			said = said[len(said)/2:]
		}
	case "cut":
		s.mu.Lock()
		s.back += len(said)
		over := s.back > s.fault.Value
		if over {
			s.back = 0
		}
		s.mu.Unlock()
		if over {
			return errCut
		}
	case "mute":
		return nil
	}
	return put(said)
}
