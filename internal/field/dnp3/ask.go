package dnp3

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/dnp3"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
	wire "ferry/internal/wire/dnp3"
)

// mostFragments bounds those of one answer.
const mostFragments = 500

// answer is what came of a question.
type answer struct {
	field.Reply
	messages []message
	// indications are those of the last fragment.
	indications wire.Indications
}

// question is one with what is made of its answers.
type question struct {
	function wire.Function
	objects  []byte
	// once is set where it is not asked again, whatever comes.
	once bool
	// each takes in a fragment before it is confirmed; false is that it cannot be, now.
	each func(m *message) bool
	// pass lets the octets go; nil for no need.
	pass field.Pass
}

// errBroken is that somebody broke a wait off.
var errBroken = errors.New("it was called off")

// hold waits for the turn to ask.
func (c *conn) hold(breaks <-chan struct{}) error {
	select {
	case c.turn <- struct{}{}:
		if c.over.Load() {
			<-c.turn
			return errBroken
		}
		return nil
	case <-breaks:
	case <-c.life.Done():
	}
	return errBroken
}

func (c *conn) release() { <-c.turn }

// own begins a question of who owns the connection: earlier calls to break off count no more.
func (c *conn) own() error {
	select {
	case <-c.breaks:
	default:
	}
	return c.hold(c.breaks)
}

// ask asks once or again, and hands over what is due after it. The turn is held.
func (s *station) ask(q *question, breaks <-chan struct{}) (a answer) {
	tape := &field.Tape{}
	tape.Begin()
	tries := 1
	if !q.once {
		tries += s.int(protocol.KeyRetries)
	}
	for try := range tries {
		from := tape.Len()
		if a = s.once(q, tape, breaks); a.Outcome != exchange.NoAnswer || len(a.messages) > 0 {
			break
		}
		if try < tries-1 { // the last is told of by who asks
			failed := a.Reply
			s.conn.hand(field.Report{At: tape.Began(), Operation: q.function.String() + ", asked again", Failed: &failed,
				Frames: slices.Clone(tape.Frames()[from:]), Of: int(s.address) + 1})
		}
	}
	a.Frames, a.SentAt = tape.Frames(), tape.Began()
	if a.OK() {
		s.indicated(a.indications)
	}
	return a
}

// once asks once.
func (s *station) once(q *question, tape *field.Tape, breaks <-chan struct{}) (a answer) {
	c := s.conn
	for len(s.answers) > 0 { // what came too late
		<-s.answers
	}
	c.mu.Lock()
	c.strange, c.spoiled, c.rest = "", 0, nil
	c.mu.Unlock()
	number := s.number & wire.NumberMask
	s.number++
	octets, err := s.frames(&wire.Fragment{Control: wire.First | wire.Last | number, Function: q.function,
		Objects: q.objects})
	if err != nil {
		a.Reply = field.Reply{Outcome: exchange.NotAllowed, Sentence: err.Error()}
		return a
	}
	left, refused := field.Let(q.pass)
	if refused != nil {
		a.Reply = *refused
		return a
	}
	err = c.send(octets)
	left()
	tape.Out(time.Now(), octets)
	if err != nil {
		a.Reply = c.Ended()
		a.Left = true
		return a
	}
	a.Left = true
	timer := time.NewTimer(s.within())
	defer timer.Stop()
	for {
		select {
		case m := <-s.answers:
			tape.In(m.at, m.octets, false)
			switch {
			case m.wrong != "":
				a.Reply = field.Reply{Outcome: exchange.Garbled, Left: true, Sentence: "what came back is no answer: " + m.wrong}
				return a
			case m.Control&wire.NumberMask != number:
				tape.Late(tape.Len() - 1)
				continue // it answers an earlier question
			case m.Function != wire.FnResponse:
				a.Reply = field.Reply{Outcome: exchange.Garbled, Left: true,
					Sentence: fmt.Sprintf("what came back has function %d, which is none of an answer", m.Function)}
				return a
			case (m.Control&wire.First != 0) != (len(a.messages) == 0):
				a.Reply = field.Reply{Outcome: exchange.Garbled, Left: true,
					Sentence: "the fragments of the answer do not follow each other"}
				return a
			}
			a.messages, a.indications = append(a.messages, m), m.Indications
			taken := q.each == nil || q.each(&m)
			if m.Control&wire.Confirm != 0 && taken && (!c.trial || m.Control&wire.Last == 0) {
				s.confirm(&m, tape)
			}
			if m.Control&wire.Last != 0 {
				a.Reply = field.Reply{Outcome: exchange.Answered, Left: true}
				return a
			}
			if len(a.messages) >= mostFragments {
				a.Reply = field.Reply{Outcome: exchange.Garbled, Left: true,
					Sentence: fmt.Sprintf("the answer has more than %d fragments, and no end", mostFragments)}
				return a
			}
			number = (number + 1) & wire.NumberMask
			s.number = number + 1
			timer.Reset(s.within())
		case <-timer.C:
			a.Reply = s.silence()
			c.mu.Lock()
			tape.In(time.Now(), c.rest, false)
			c.mu.Unlock()
			return a
		case <-breaks:
			if c.over.Load() {
				a.Reply = c.Ended()
			} else {
				a.Reply = field.Failure(field.ErrCalledOff, false)
			}
			a.Left = true
			return a
		case <-c.life.Done():
			a.Reply = field.Failure(field.ErrCalledOff, false)
			a.Left = true
			return a
		}
	}
}

// silence says that nothing came, and what came in its place.
func (s *station) silence() field.Reply {
	c := s.conn
	reply := field.Reply{Outcome: exchange.NoAnswer, Left: true,
		Sentence: fmt.Sprintf("outstation %d does not answer master %d within %d ms", s.address, s.master(),
			s.within().Milliseconds())}
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case c.strange != "":
		reply.Cause = exchange.OtherStation
		reply.Sentence += ": " + c.strange
	case c.spoiled > 0:
		reply.Cause = exchange.Check
		reply.Sentence += fmt.Sprintf(": what comes back fails its checks, %d frames", c.spoiled)
	}
	return reply
}

// refusal is the reply to an answer that refuses the question as a whole.
func (a *answer) refusal(what string) (field.Reply, bool) {
	second := byte(a.indications >> 8)
	if code := family.Indicated(second); a.OK() &&
		second&(family.IndNoFunction|family.IndNoObject|family.IndParameter) != 0 {
		reply := a.Reply
		reply.Outcome, reply.Code = exchange.Declined, code
		reply.Sentence = "the outstation refuses " + what + ": " + family.Words(code)
		return reply, true
	}
	return a.Reply, false
}

// state asks for the state of the link; ok is false where nothing comes.
func (s *station) state(ctx context.Context, breaks <-chan struct{}) (tape *field.Tape, ok bool) {
	tape = &field.Tape{}
	tape.Begin()
	for len(s.states) > 0 {
		<-s.states
	}
	frame := wire.Frame{Control: wire.FromMaster | wire.Primary | wire.AskLinkStatus, To: s.address,
		From: uint16(s.master())}
	octets, err := frame.Append(nil)
	if err != nil || s.conn.send(octets) != nil {
		return tape, false
	}
	tape.Out(time.Now(), octets)
	timer := time.NewTimer(s.within())
	defer timer.Stop()
	select {
	case function := <-s.states:
		back := wire.Frame{Control: function, To: uint16(s.master()), From: s.address}
		if octets, err := back.Append(nil); err == nil {
			tape.In(time.Now(), octets, false)
		}
		return tape, true
	case <-timer.C:
	case <-breaks:
	case <-ctx.Done():
	}
	return tape, false
}
