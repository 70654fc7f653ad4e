// Package bacnet asks devices of BACnet/IP.
package bacnet

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"sync"
	"time"

	wire "ferry/internal/wire/bacnet"
)

// socket is a port of this machine over which devices are asked: any number of questions at a time, each
// with a number of its own among those that go to the same device.
type socket struct {
	conn *net.UDPConn
	hooks

	// control sees where each question goes, and may refuse it; nil for all.
	control func(to netip.AddrPort) error

	mu    sync.Mutex
	waits map[question]*waiting
	// late are questions whose answers may come yet, since when: their numbers stand for nothing else meanwhile.
	late   map[question]time.Time
	number uint8
	closed chan struct{}
	reader sync.WaitGroup
}

// hooks are told of what goes over a socket; none may keep the reader waiting, and any may be nil.
type hooks struct {
	// heard takes messages that answer no question of this end, with their datagram.
	heard func(from netip.AddrPort, n *wire.Network, m *wire.Message, datagram []byte)
	// linked takes messages of the link layer, networked those of the network layer.
	linked    func(from netip.AddrPort, l *wire.Link)
	networked func(from netip.AddrPort, n *wire.Network)
	// taped takes the octets of questions and of what answers them.
	taped func(out bool, at time.Time, octets []byte)
}

// question tells questions under way apart.
type question struct {
	to     netip.AddrPort
	behind wire.Station
	invoke uint8
}

// waiting is a question that waits for its answer, of which parts may have come.
type waiting struct {
	done  chan answer
	parts []byte
	next  int // the part that is awaited
	first wire.Message
	moved chan struct{} // a part came
}

// answer is what came: the message, whole, with the datagram of its last part.
type answer struct {
	message  wire.Message
	datagram []byte
}

// Bounds of answers in parts.
const (
	mostAnswer   = 8 << 20
	windowTaken  = 16
	mostSegments = 65 // more than 64
	recentPart   = 1
)

// lateFor is for how long an answer may still come, mostLate how many of them are expected.
const (
	lateFor  = 30 * time.Second
	mostLate = 4096
)

// open opens a socket at an address of this machine; port 0 is any.
func open(at netip.AddrPort, h hooks) (*socket, error) {
	conn, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(at))
	if err != nil {
		return nil, err
	}
	s := &socket{conn: conn, hooks: h, waits: map[question]*waiting{}, late: map[question]time.Time{},
		closed: make(chan struct{})}
	s.reader.Go(s.read)
	return s, nil
}

// port is the port of this machine.
func (s *socket) port() uint16 {
	at, _ := s.conn.LocalAddr().(*net.UDPAddr)
	if at == nil {
		return 0
	}
	return at.AddrPort().Port()
}

// Close ends it, and all questions under way.
func (s *socket) Close() error {
	close(s.closed)
	err := s.conn.Close()
	s.reader.Wait()
	return err
}

// read takes what comes until the socket is closed.
func (s *socket) read() {
	buf := make([]byte, wire.MostDatagram)
	for {
		n, from, err := s.conn.ReadFromUDPAddrPort(buf)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			select {
			case <-s.closed:
				return
			case <-time.After(10 * time.Millisecond): // an answer of the network to what was sent before
			}
			continue
		}
		s.take(netip.AddrPortFrom(from.Addr().Unmap(), from.Port()), append([]byte(nil), buf[:n]...))
	}
}

// take takes a datagram. What is none of BACnet/IP is left alone.
func (s *socket) take(from netip.AddrPort, datagram []byte) {
	l, err := wire.ParseLink(datagram)
	if err != nil {
		return
	}
	if l.NPDU == nil {
		if s.linked != nil {
			s.linked(from, &l)
		}
		return
	}
	if l.Function == wire.Forwarded {
		from = l.From
	}
	n, err := wire.ParseNetwork(l.NPDU, l.NPDUAt)
	if err != nil || !n.Carries {
		if err == nil && s.networked != nil {
			s.networked(from, &n)
		}
		return
	}
	m, err := wire.ParseMessage(n.Body, n.BodyAt)
	if err != nil {
		return
	}
	key := question{from, n.From, m.Invoke}
	switch m.Kind {
	case wire.SimpleAck, wire.ErrorAnswer, wire.Reject, wire.Abort:
		s.answered(key, answer{m, datagram})
	case wire.ComplexAck:
		if !m.Segmented {
			s.answered(key, answer{m, datagram})
			return
		}
		s.part(key, &m, datagram)
	default:
		if s.heard != nil {
			s.heard(from, &n, &m, datagram)
		}
	}
}

func (s *socket) answered(key question, a answer) {
	s.mu.Lock()
	w := s.waits[key]
	delete(s.waits, key)
	delete(s.late, key)
	s.mu.Unlock()
	if w != nil {
		if s.taped != nil {
			s.taped(false, time.Now(), a.datagram)
		}
		w.done <- a
	}
}

// part takes a part of an answer, and acknowledges it where its turn is (clause 5.4.4.2).
func (s *socket) part(key question, m *wire.Message, datagram []byte) {
	s.mu.Lock()
	w := s.waits[key]
	if w == nil {
		s.mu.Unlock()
		return
	}
	if s.taped != nil {
		s.taped(false, time.Now(), datagram)
	}
	ack := wire.Message{Kind: wire.SegmentAck, Invoke: key.invoke, Window: max(1, min(m.Window, windowTaken))}
	var whole *answer
	switch behind := m.Number - uint8(w.next); {
	case behind == 0:
		if w.next == 0 {
			w.first = *m
		}
		w.parts = append(w.parts, m.Body...)
		w.next++
		ack.Number = m.Number
		select {
		case w.moved <- struct{}{}:
		default:
		}
		if !m.Follows {
			is := w.first
			is.Segmented, is.Follows, is.Body, is.BodyAt = false, false, w.parts, 0
			whole = &answer{is, datagram}
			delete(s.waits, key)
		} else if w.next != 1 && w.next%int(ack.Window) != 0 {
			s.mu.Unlock()
			return // it is acknowledged with the last of its window
		}
	case int8(behind) < 0:
		ack.Number = uint8(w.next - 1) // it came twice
	default:
		ack.Number, ack.Refused = uint8(w.next-1), true // one is missing
	}
	if len(w.parts) > mostAnswer {
		delete(s.waits, key)
		s.mu.Unlock()
		_ = s.send(key, &wire.Message{Kind: wire.Abort, Invoke: key.invoke, Reason: 1},
			false) // whether it arrives is the device's to see
		w.done <- answer{message: wire.Message{Kind: wire.Abort, Reason: 1}}
		return
	}
	s.mu.Unlock()
	_ = s.send(key, &ack, false) // what does not arrive is sent again by the device
	if whole != nil {
		w.done <- *whole
	}
}

func (s *socket) send(to question, m *wire.Message, expects bool) error {
	n := wire.Network{To: to.behind, Expects: expects, Carries: true, Body: m.Append(nil)}
	octets := (&wire.Link{Function: wire.Unicast, NPDU: n.Append(nil)}).Append(nil)
	if s.taped != nil && (expects || m.Kind == wire.SegmentAck) {
		s.taped(true, time.Now(), octets)
	}
	return s.sendOctets(to.to, octets)
}

func (s *socket) sendOctets(to netip.AddrPort, octets []byte) error {
	if s.control != nil {
		if err := s.control(to); err != nil {
			return err
		}
	}
	_, err := s.conn.WriteToUDPAddrPort(octets, to)
	return err
}

// Errors of questions.
var (
	errSilent = errors.New("no answer came")
	errOther  = errors.New("it answers another service")
	errBusy   = errors.New("more questions are under way to it than have numbers")
	errClosed = errors.New("the socket is closed")
)

// refusedError is an answer that says no.
type refusedError struct {
	kind    wire.Kind
	failure wire.Failure // of an error
	reason  uint8        // of a reject or an abort
}

func (e *refusedError) Error() string {
	switch e.kind {
	case wire.Reject:
		return fmt.Sprintf("it rejects the question, reason %d", e.reason)
	case wire.Abort:
		return fmt.Sprintf("it breaks off, reason %d", e.reason)
	}
	return fmt.Sprintf("it refuses, class %d, code %d", e.failure.Class, e.failure.Code)
}

// ask asks a question and returns what answers it; it is sent again so many times where nothing comes
// within a while, unless once is set: a write is never sent twice.
func (s *socket) ask(ctx context.Context, to netip.AddrPort, behind wire.Station, service uint8, body []byte,
	within time.Duration, again int, once bool) (wire.Message, error) {
	key, w, err := s.begin(to, behind)
	if err != nil {
		return wire.Message{}, err
	}
	defer s.end(key)
	m := wire.Message{Kind: wire.Confirmed, Invoke: key.invoke, Service: service, Body: body, TakesSegments: true,
		MostSegments: mostSegments, MostOctets: wire.MostOctets}
	if once {
		again = 0
	}
	for try := 0; try <= again; try++ {
		if err := s.send(key, &m, true); err != nil {
			return wire.Message{}, err
		}
		a, err := s.await(ctx, w, within)
		if err == nil && a.Service != service {
			err = fmt.Errorf("%w: %s in the place of %s", errOther, wire.ServiceName(a.Kind, a.Service),
				wire.ServiceName(wire.Confirmed, service))
		}
		if !errors.Is(err, errSilent) {
			return a, err
		}
	}
	return wire.Message{}, errSilent
}

// begin finds a number for a question: one that may still be answered is taken only where there is no other.
func (s *socket) begin(to netip.AddrPort, behind wire.Station) (question, *waiting, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, anyway := range []bool{false, true} {
		for range 256 {
			s.number++
			key := question{to, behind, s.number}
			if s.waits[key] != nil || !anyway && time.Since(s.late[key]) < lateFor {
				continue
			}
			w := &waiting{done: make(chan answer, 1), moved: make(chan struct{}, recentPart)}
			s.waits[key] = w
			delete(s.late, key)
			return key, w, nil
		}
	}
	return question{}, nil, errBusy
}

// end gives a question up that was not answered, if it was not.
func (s *socket) end(key question) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.waits[key] == nil {
		return
	}
	delete(s.waits, key)
	if len(s.late) >= mostLate {
		maps.DeleteFunc(s.late, func(_ question, since time.Time) bool { return time.Since(since) >= lateFor })
	}
	if len(s.late) < mostLate {
		s.late[key] = time.Now()
	}
}

// await waits for the answer; while parts of it come, the time begins anew.
func (s *socket) await(ctx context.Context, w *waiting, within time.Duration) (wire.Message, error) {
	timer := time.NewTimer(within)
	defer timer.Stop()
	for {
		select {
		case a := <-w.done:
			switch m := a.message; m.Kind {
			case wire.ErrorAnswer:
				f, err := wire.ParseFailure(m.Body, m.BodyAt)
				if err != nil {
					return m, err
				}
				return m, &refusedError{kind: m.Kind, failure: f}
			case wire.Reject, wire.Abort:
				return m, &refusedError{kind: m.Kind, reason: m.Reason}
			default:
				return m, nil
			}
		case <-w.moved:
			timer.Reset(within)
		case <-timer.C:
			return wire.Message{}, errSilent
		case <-ctx.Done():
			return wire.Message{}, ctx.Err()
		case <-s.closed:
			return wire.Message{}, errClosed
		}
	}
}
