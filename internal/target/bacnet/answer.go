package bacnet

import (
	"time"

	family "ferry/internal/core/family/bacnet"
	wire "ferry/internal/wire/bacnet"
)

// Reasons of rejects and aborts (clauses 18.8 and 18.9).
const (
	rejectInvalid      = 4 // invalid tag
	rejectUnknown      = 9 // unrecognized service
	abortTooLong       = 1 // buffer overflow
	abortNotSegmented  = 4 // segmentation not supported
	abortOutOfResource = 9
)

// confirmed answers a question.
func (s *Server) confirmed(from asker, m *wire.Message) {
	refuse := func(kind wire.Kind, reason uint8) {
		s.asked(from, true)
		s.send(from, &wire.Message{Kind: kind, Invoke: m.Invoke, Reason: reason, Server: kind == wire.Abort}, false)
	}
	if m.Segmented {
		refuse(wire.Abort, abortNotSegmented)
		return
	}
	fail := func(f *wire.Failure) {
		s.asked(from, true)
		s.send(from, &wire.Message{Kind: wire.ErrorAnswer, Invoke: m.Invoke, Service: m.Service,
			Body: wire.AppendFailure(nil, *f)}, false)
	}
	if s.config.Lets != nil && !s.config.Lets(from.from) {
		refuse(wire.Abort, abortOutOfResource)
		return
	}
	if s.space.device.lacks(m.Service) {
		refuse(wire.Reject, rejectUnknown)
		return
	}
	switch m.Service {
	case wire.ReadProperty:
		ref, err := wire.ParseReadProperty(m.Body, m.BodyAt)
		if err != nil {
			refuse(wire.Reject, rejectInvalid)
			return
		}
		values, failed := s.space.read(ref)
		if failed != nil {
			fail(failed)
			return
		}
		s.answer(from, m, wire.AppendReadAnswer(nil, s.itself(ref), values))
		s.gave(from, []wire.Result{{Reference: ref}}, false)
	case wire.ReadPropertyMultiple:
		list, err := wire.ParseReadMultiple(m.Body, m.BodyAt)
		if err != nil {
			refuse(wire.Reject, rejectInvalid)
			return
		}
		var results []wire.Result
		count := 0
		for _, ref := range list {
			for _, each := range s.space.expand(ref) {
				values, failed := s.space.read(each)
				if count += 1 + len(values); count > mostAnswered {
					refuse(wire.Abort, abortTooLong)
					return
				}
				if failed != nil && s.space.device.AllOrNone {
					fail(failed)
					return
				}
				results = append(results, wire.Result{Reference: s.itself(each), Values: values, Failed: failed})
			}
		}
		s.answer(from, m, wire.AppendMultipleAnswer(nil, results))
		s.gave(from, results, false)
	case wire.WriteProperty:
		w, err := wire.ParseWrite(m.Body, m.BodyAt)
		if err != nil {
			refuse(wire.Reject, rejectInvalid)
			return
		}
		if failed := s.write(from.from, &w); failed != nil {
			fail(failed)
			return
		}
		s.acknowledge(from, m)
	case wire.SubscribeCOV:
		wished, err := wire.ParseSubscription(m.Body, m.BodyAt)
		if err != nil {
			refuse(wire.Reject, rejectInvalid)
			return
		}
		sub, failed := s.subscribe(from, &wished)
		if failed != nil {
			fail(failed)
			return
		}
		s.acknowledge(from, m)
		if sub != nil {
			s.report(sub, time.Now())
		}
	case wire.ReadRange:
		p, ok, err := wire.ParsePart(m.Body, m.BodyAt)
		if err != nil {
			refuse(wire.Reject, rejectInvalid)
			return
		}
		s.part(from, m, &p, ok, fail)
	default:
		refuse(wire.Reject, rejectUnknown)
	}
}

// itself names the device by its own instance where it was asked for by the one that stands for any.
func (s *Server) itself(ref wire.Reference) wire.Reference {
	if ref.Object == wire.ID(uint16(family.Device), wire.AnyInstance) {
		ref.Object = s.space.id()
	}
	return ref
}

func (s *Server) asked(from asker, refused bool) {
	if s.config.Asked != nil {
		s.config.Asked(from.from, refused)
	}
}

// gave tells which values somebody was given.
func (s *Server) gave(to asker, results []wire.Result, reported bool) {
	if s.config.Gave == nil {
		return
	}
	var marks []any
	for i := range results {
		r := &results[i]
		if family.Property(r.Property) != family.PresentValue || r.Failed != nil {
			continue
		}
		if o := s.space.by[r.Object]; o != nil && o.mark != nil {
			marks = append(marks, o.mark)
		}
	}
	if len(marks) > 0 {
		s.config.Gave(to.from, marks, reported)
	}
}

// acknowledge answers that it is done.
func (s *Server) acknowledge(from asker, m *wire.Message) {
	s.asked(from, false)
	s.send(from, &wire.Message{Kind: wire.SimpleAck, Invoke: m.Invoke, Service: m.Service}, false)
}

// part answers a question for a run of a list.
func (s *Server) part(from asker, m *wire.Message, p *wire.Part, ok bool, fail func(*wire.Failure)) {
	whole := p.Reference
	if !ok || p.Index != wire.Whole {
		fail(notAList)
		return
	}
	values, failed := s.space.read(whole)
	if failed != nil {
		fail(failed)
		return
	}
	first, last := 1, len(values)
	switch n := int(p.Count); {
	case n > 0:
		first, last = int(min(p.First, 1<<30)), min(len(values), int(min(p.First, 1<<30))+n-1)
	case n < 0:
		last = int(min(p.First, 1<<30))
		first = max(1, last+n+1)
	}
	if first < 1 || first > len(values) || last > len(values) || last < first {
		first, last = 1, 0
	}
	s.answer(from, m, wire.AppendPartAnswer(nil, s.itself(whole), first == 1 && last > 0, last == len(values) &&
		last > 0, false, values[first-1:last]))
}
