package bacnet

import (
	"time"

	wire "ferry/internal/wire/bacnet"
)

// transfer is an answer that goes out in parts (clause 5.4.5).
type transfer struct {
	service uint8
	parts   [][]byte
	base    int // the first part that is not acknowledged
	window  int // how many go out at a time
	due     time.Time
	tries   int
}

// Parts: how many octets of a part are not its content, how many are proposed at a time, and how long an
// acknowledgement may take.
const (
	partHead     = 5
	windowHere   = 16
	partPatience = segmentMs * time.Millisecond
)

// answer sends an answer: as it is, or in parts where it is longer than the asker takes.
func (s *Server) answer(to asker, m *wire.Message, body []byte) {
	s.asked(to, false)
	most := min(max(50, m.MostOctets), s.space.device.most())
	if len(body)+3 <= most {
		s.send(to, &wire.Message{Kind: wire.ComplexAck, Invoke: m.Invoke, Service: m.Service, Body: body}, false)
		return
	}
	abort := func(reason uint8) {
		s.send(to, &wire.Message{Kind: wire.Abort, Invoke: m.Invoke, Reason: reason, Server: true}, false)
	}
	size := most - partHead
	count := (len(body) + size - 1) / size
	switch {
	case !m.TakesSegments || s.space.device.NoParts:
		abort(abortNotSegmented)
		return
	case m.MostSegments > 0 && m.MostSegments <= segmentsHere && count > m.MostSegments || count > 4096:
		abort(abortTooLong)
		return
	case len(s.transfers) >= mostTransfers || s.transferred()+len(body) > mostTransferred:
		abort(abortOutOfResource)
		return
	}
	t := &transfer{service: m.Service, window: 1}
	for from := 0; from < len(body); from += size {
		t.parts = append(t.parts, body[from:min(len(body), from+size)])
	}
	s.transfers[to] = t
	s.sendWindow(to, t, time.Now()) // the first alone: its acknowledgement says how many are taken at a time
}

// transferred is how many octets go out in parts.
func (s *Server) transferred() (octets int) {
	for _, t := range s.transfers {
		for _, part := range t.parts {
			octets += len(part)
		}
	}
	return octets
}

// sendWindow sends the parts whose turn it is.
func (s *Server) sendWindow(to asker, t *transfer, now time.Time) {
	for i := t.base; i < min(len(t.parts), t.base+t.window); i++ {
		s.send(to, &wire.Message{Kind: wire.ComplexAck, Segmented: true, Follows: i < len(t.parts)-1, Invoke: to.invoke,
			Number: uint8(i), Window: windowHere, Service: t.service, Body: t.parts[i]}, true)
	}
	t.due = now.Add(partPatience)
}

// acknowledged goes on behind the parts that have arrived.
func (s *Server) acknowledged(from asker, m *wire.Message) {
	t := s.transfers[from]
	if t == nil {
		return
	}
	arrived := int(m.Number - uint8(t.base)) // parts behind the base, of numbers that begin anew after 255
	if arrived >= t.window {
		if !m.Refused || m.Number != uint8(t.base-1) {
			return // of a part that was not sent, or long ago
		}
		arrived = -1
	}
	t.base += arrived + 1
	t.window = max(1, min(int(m.Window), windowHere))
	t.tries = 0
	if t.base >= len(t.parts) {
		delete(s.transfers, from)
		return
	}
	s.sendWindow(from, t, time.Now())
}
