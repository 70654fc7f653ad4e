package opcua

import (
	"fmt"
	"math"
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/value"
	"ferry/internal/field"
	wire "ferry/internal/wire/opcua"
)

// A server that says that there is nothing new may have lost what it watches its nodes by. So
// when it says so, some of the nodes are read: what reads otherwise than it told, and is not told
// in time, is doubtful.

// looking is such a read.
type looking struct {
	came  chan answered // nil where none is under way
	of    []int         // which nodes, by client handle
	next  int           // the first of the next read
	asked []exchange.Frame
	at    time.Time
	apart map[int]apart // nodes that read otherwise than they were told
}

// apart is since when a node does, and how it reads.
type apart struct {
	since time.Time
	reads *ua.DataValue
}

// mostLooked is how many nodes are read at once.
const mostLooked = 200

// awaits is the longest that a change may take until it is told.
func (s *subscription) awaits(f *followed) time.Duration { return 2*(f.every+s.every) + time.Second }

// look reads some nodes, and tells of those that have read otherwise for too long.
func (s *subscription) look(at time.Time) {
	l := &s.looking
	var doubtful []field.Sampled
	for handle, is := range l.apart {
		f := &s.followed[handle]
		if at.Sub(is.since) < s.awaits(f) {
			continue
		}
		one := s.sampled(f, is.reads)
		if one.Quality == "" || one.Quality == value.Good {
			one.Quality, one.Reason = value.Doubtful, "the server says that there is nothing new, and reads otherwise"
		}
		doubtful = append(doubtful, one)
		delete(l.apart, handle)
	}
	if len(doubtful) > 0 {
		s.of.hand(field.Report{At: at, Own: true, Samples: doubtful})
	}
	if l.came != nil {
		return
	}
	request := &ua.ReadRequest{TimestampsToReturn: ua.TimestampsToReturnBoth}
	l.of = l.of[:0]
	for range min(mostLooked, s.of.limits.reads, len(s.followed)) {
		handle := l.next % len(s.followed)
		l.next = handle + 1
		if f := &s.followed[handle]; !f.refused {
			l.of = append(l.of, handle)
			request.NodesToRead = append(request.NodesToRead, f.node)
		}
	}
	if len(l.of) == 0 {
		return
	}
	into := make(chan answered, 1)
	request.SetHeader(head(s.of.token, s.of.within))
	l.at = time.Now()
	id, err := s.of.post(wire.AnyMessage, request, into, kept)
	if err != nil {
		return // the connection has ended, which is told otherwise
	}
	l.came, l.asked = into, []exchange.Frame{{Out: true, Octets: s.of.take(id)}}
}

// looked takes in what was read.
func (s *subscription) looked(a answered) {
	l := &s.looking
	l.came = nil
	at := time.Now()
	frames := append(l.asked, exchange.Frame{AfterMs: float64(at.Sub(l.at)) / float64(time.Millisecond), Octets: a.octets})
	s.of.hand(field.Report{At: l.at, Operation: fmt.Sprintf("look whether %d values are as told", len(l.of)),
		Frames: frames, Aside: true})
	answer, ok := a.response.(*ua.ReadResponse)
	if !ok || a.err != nil || len(answer.Results) != len(l.of) {
		return // a server that does not let its nodes be read tells no more than it told
	}
	for i, handle := range l.of {
		was, is := s.followed[handle].told, answer.Results[i]
		before, known := l.apart[handle]
		switch {
		case alike(was, is), s.near(&s.followed[handle], is), is == nil, family.Refuses(uint32(is.Status)),
			was == nil && uint32(is.Status)>>30 != 0:
			delete(l.apart, handle)
			continue
		case !known:
			before.since = at
		}
		if l.apart == nil {
			l.apart = map[int]apart{}
		}
		l.apart[handle] = apart{before.since, is}
	}
}

// near reports whether a value is so near to what was told last that it is not told after it.
func (s *subscription) near(f *followed, is *ua.DataValue) bool {
	if f.band == 0 || f.told == nil || is == nil || f.told.Status>>16 != is.Status>>16 {
		return false
	}
	a, why := s.of.partOf(f.told.Value, &f.of)
	b, other := s.of.partOf(is.Value, &f.of)
	return why == "" && other == "" && math.Abs(a.Float()-b.Float()) <= f.band
}

// alike reports whether two values are the same, their times apart.
func alike(a, b *ua.DataValue) bool {
	if a == nil || b == nil {
		return a == b
	}
	return a.Status>>16 == b.Status>>16 && wire.Alike(a.Value, b.Value)
}
