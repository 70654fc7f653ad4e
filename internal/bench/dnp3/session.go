package dnp3

import (
	"bytes"
	"time"

	"ferry/internal/bench"
	family "ferry/internal/core/family/dnp3"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	wire "ferry/internal/wire/dnp3"
)

// session is a talk with a master.
type session struct {
	*outstation
	address, master uint16
	joiner          wire.Joiner
	segment         byte
	waits           *waiting // for the confirmation of a fragment
	unasked         *waiting
	number          byte // of the next message that nobody asks for
	frames          int
	last            []byte // the last question, and what was answered: a repeated one gets the same
	said            []byte
}

// waiting is a fragment that is to be confirmed, and what comes behind it.
type waiting struct {
	number byte
	events []event
	rest   [][]byte // the objects of the fragments behind it
	octets []byte
	at     time.Time
}

func newSession(o *outstation, of *protocol.Def, s protocol.Settings) *session {
	return &session{outstation: o, address: uint16(of.Int(s, family.KeyOutstation)),
		master: uint16(of.Int(s, family.KeyMaster))}
}

// mostObjects bounds the objects of a fragment in octets: with its header it has 2048 at most.
const mostObjects = 2044

// end gives up what is not confirmed.
func (s *session) end() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, w := range []*waiting{s.waits, s.unasked} {
		if w != nil {
			s.settle(w.events, false)
		}
	}
	s.waits, s.unasked = nil, nil
}

// hear answers a frame; nil is silence.
func (s *session) hear(f *wire.Frame) []byte {
	if f.Control&wire.FromMaster == 0 || f.To != s.address || f.From != s.master {
		return nil
	}
	if !f.Asks() {
		return nil
	}
	switch f.Function() {
	case wire.AskLinkStatus:
		return s.link(wire.LinkStatus)
	case wire.ResetLink, wire.TestLink:
		return s.link(wire.Ack)
	case wire.ConfirmedData:
		return append(s.link(wire.Ack), s.segmented(f.Data)...)
	case wire.UnconfirmedData:
		return s.segmented(f.Data)
	}
	return s.link(wire.NotSupported)
}

func (s *session) link(function byte) []byte {
	octets, err := (&wire.Frame{Control: function, To: s.master, From: s.address}).Append(nil)
	if err != nil {
		return nil
	}
	return octets
}

func (s *session) segmented(segment []byte) []byte {
	fragment, whole, _ := s.joiner.Take(segment) // what does not follow is forgotten
	if !whole {
		return nil
	}
	f, err := wire.ReadFragment(fragment)
	if err != nil || f.Function.Answers() {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if f.Function == wire.FnConfirm {
		return s.confirmed(&f)
	}
	if s.waits != nil { // another question takes the place of a confirmation
		s.settle(s.waits.events, false)
		s.waits = nil
	}
	if f.Function != wire.FnRead && bytes.Equal(fragment, s.last) && len(s.said) > 0 {
		return s.said // the same question once more: nothing is done twice
	}
	s.last = fragment
	s.said = s.answer(&f)
	return s.said
}

// confirmed takes in a confirmation, and sends what is behind it.
func (s *session) confirmed(f *wire.Fragment) []byte {
	if s.fault().Kind == "unconfirmed" {
		return nil
	}
	number := f.Control & wire.NumberMask
	if f.Control&wire.Unsolicited != 0 {
		if s.unasked != nil && s.unasked.number == number {
			s.settle(s.unasked.events, true)
			s.unasked = nil
		}
		return nil
	}
	w := s.waits
	if w == nil || w.number != number {
		return nil
	}
	s.waits = nil
	s.settle(w.events, true)
	if len(w.rest) == 0 {
		return nil
	}
	return s.next((number+1)&wire.NumberMask, w.rest, false, nil)
}

// next sends the first of several fragments; the others follow once it is confirmed.
func (s *session) next(number byte, objects [][]byte, first bool, events []event) []byte {
	f := wire.Fragment{Control: number, Function: wire.FnResponse, Indications: s.indications(), Objects: objects[0]}
	if first {
		f.Control |= wire.First
	}
	rest := objects[1:]
	switch {
	case s.fault().Kind == "endless":
		rest = objects
	case len(rest) == 0:
		f.Control |= wire.Last
	}
	if len(rest) > 0 || len(events) > 0 {
		f.Control |= wire.Confirm
		s.waits = &waiting{number: number, events: events, rest: rest}
	}
	return s.framed(&f)
}

// framed are the octets of a fragment in frames.
func (s *session) framed(f *wire.Fragment) (octets []byte) {
	segments, next := wire.Segments(f.Append(nil), s.segment)
	if s.segment = next; s.fault().Kind == "order" && len(segments) > 1 {
		segments[0], segments[1] = segments[1], segments[0]
	}
	for _, segment := range segments {
		at := len(octets)
		var err error
		octets, err = (&wire.Frame{Control: wire.Primary | wire.UnconfirmedData, To: s.master, From: s.address,
			Data: segment}).
			Append(octets)
		if err != nil {
			return nil
		}
		if s.frames++; s.fault().Kind == "check" && s.frames%3 == 0 {
			octets[at+wire.Places(1)] ^= 0x10
		}
	}
	return octets
}

// reply is an answer with few objects.
func (s *session) reply(f *wire.Fragment, refused wire.Indications, objects []byte) []byte {
	return s.framed(&wire.Fragment{Control: wire.First | wire.Last | f.Control&wire.NumberMask, Function: wire.FnResponse,
		Indications: s.indications() | refused, Objects: objects})
}

// answer answers a question.
func (s *session) answer(f *wire.Fragment) []byte {
	switch f.Function {
	case wire.FnRead:
		return s.read(f)
	case wire.FnWrite:
		return s.write(f)
	case wire.FnSelect, wire.FnOperate, wire.FnDirect, wire.FnDirectNoAck:
		answer := s.operate(f)
		if f.Function == wire.FnDirectNoAck {
			return nil
		}
		return answer
	case wire.FnFreeze, wire.FnFreezeNoAck, wire.FnFreezeClear:
		s.freeze()
		return s.reply(f, 0, nil)
	case wire.FnEnable, wire.FnDisable:
		if s.fault().Kind == "never-unasked" {
			return s.reply(f, wire.NoFunction, nil)
		}
		return s.reply(f, s.enable(f), nil)
	case wire.FnDelay:
		delay, _ := wire.AppendObjects(nil, wire.Count8, []wire.Object{{Group: 52, Variation: 2, Value: value.OfUint(0)}})
		return s.reply(f, 0, delay)
	case wire.FnRecordTime:
		return s.reply(f, 0, nil)
	}
	return s.reply(f, wire.NoFunction, nil)
}

// enable has the events of classes sent unasked, or not.
func (s *session) enable(f *wire.Fragment) wire.Indications {
	for b := f.Objects; len(b) > 0; {
		h, rest, err := wire.ReadHeader(b)
		if err != nil || h.Group != 60 || h.Variation < 2 || h.Variation > 4 {
			return wire.ParameterError
		}
		s.enabled[h.Variation-1] = f.Function == wire.FnEnable
		b = rest
	}
	return 0
}

// freeze keeps what the counters are now: the frozen ones of the same index.
func (s *session) freeze() {
	for _, h := range s.held() {
		if h.Kind != family.FrozenCounter {
			continue
		}
		running := family.Object{Kind: family.Counter, Index: h.Index}.Address()
		if v, ok := s.of.Memory.Value(running); ok {
			s.frozen[h.key()] = v
		}
	}
}

// write takes what is written to it: that its restart was seen, and the time.
func (s *session) write(f *wire.Fragment) []byte {
	h, rest, err := wire.ReadHeader(f.Objects)
	switch {
	case err != nil:
		return s.reply(f, wire.ParameterError, nil)
	case h.Group == 80 && h.Start == 7:
		s.restarted = false
	case h.Group == 50 && len(rest) >= 6:
		s.ahead, s.needsTime = time.Until(wire.TimeOf(rest)), false
	default:
		return s.reply(f, wire.ObjectUnknown, nil)
	}
	return s.reply(f, 0, nil)
}

// operate selects commands, or carries them out.
func (s *session) operate(f *wire.Fragment) []byte {
	var list []wire.Object
	h, _, err := wire.ReadHeader(f.Objects)
	if err == nil {
		err = wire.Objects(f.Objects, func(o wire.Object) { list = append(list, o) })
	}
	if err != nil || len(list) == 0 {
		return s.reply(f, wire.ParameterError, nil)
	}
	selected := bytes.Equal(s.selected, f.Objects) && time.Now().Before(s.until)
	for i := range list {
		c := &list[i]
		at, there := s.output(c)
		switch {
		case s.fault().Kind == "local":
			c.Status = 7
		case s.fault().Kind == "blocked":
			c.Status = 15
		case !there:
			c.Status = 4
		case f.Function == wire.FnOperate && (!selected || s.fault().Kind == "forgets"):
			c.Status = 2
		case f.Function != wire.FnSelect:
			s.carryOut(c, at)
		}
	}
	if s.selected = nil; f.Function == wire.FnSelect {
		s.selected, s.until = bytes.Clone(f.Objects), time.Now().Add(selection)
	}
	objects, err := wire.AppendObjects(nil, h.Qualifier, list)
	if err != nil {
		return s.reply(f, wire.ParameterError, nil)
	}
	return s.reply(f, 0, objects)
}

// output is the object that a command operates.
func (s *session) output(c *wire.Object) (at held, there bool) {
	kind, _ := family.KindOf(c.Group)
	for _, h := range s.held() {
		if h.Kind == kind && h.Index == c.Index && h.at.Writable {
			return h, true
		}
	}
	return at, false
}

func (s *session) carryOut(c *wire.Object, at held) {
	v := c.Value
	if c.Group == 12 {
		switch code := c.Control.Code; {
		case code&0x40 != 0, code&0x0F == 3:
			v = value.OfBool(true)
		case code&0x80 != 0, code&0x0F == 4, code&0x0F == 2:
			v = value.OfBool(false)
		default:
			v = value.OfBool(true)
			s.pulses[at.key()] = time.Now().Add(time.Duration(c.Control.On) * time.Millisecond)
		}
	}
	s.of.Memory.Set(at.at.Address, v)
}

// unsolicited are the octets that are to be sent unasked, none for nothing.
func (s *session) push(now time.Time) []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	if w := s.unasked; w != nil {
		if now.Sub(w.at) < again {
			return nil
		}
		w.at = now
		return w.octets
	}
	if s.waits != nil {
		return nil
	}
	events := s.take(s.enabled, 100)
	if len(events) == 0 {
		return nil
	}
	w := &waiting{number: s.number & wire.NumberMask, events: events, at: now}
	s.number++
	f := wire.Fragment{Control: wire.First | wire.Last | wire.Confirm | wire.Unsolicited | w.number,
		Function:    wire.FnUnsolicited,
		Indications: s.indications(), Objects: eventObjects(events)}
	s.unasked, w.octets = w, s.framed(&f)
	return w.octets
}

// again is after how long a message that nobody confirmed is sent again.
const again = 2 * time.Second

// eventObjects are events in their order, those of one kind that follow each other under one header.
func eventObjects(events []event) (b []byte) {
	for i := 0; i < len(events); {
		n := 1
		for i+n < len(events) && events[i+n].object.Group == events[i].object.Group &&
			events[i+n].object.Variation == events[i].object.Variation {
			n++
		}
		run := make([]wire.Object, n)
		for k := range run {
			run[k] = events[i+k].object
		}
		if with, err := wire.AppendObjects(b, wire.Index16, run); err == nil {
			b = with
		}
		i += n
	}
	return b
}

// read answers a question for classes and ranges.
func (s *session) read(f *wire.Fragment) []byte {
	var classes [4]bool
	var static []wire.Object
	refused := wire.Indications(0)
	extra := []byte(nil)
	for b := f.Objects; len(b) > 0; {
		h, rest, err := wire.ReadHeader(b)
		if err != nil {
			return s.reply(f, wire.ParameterError, nil)
		}
		b = rest
		kind, event := family.KindOf(h.Group)
		switch {
		case h.Group == 60 && h.Variation >= 2 && h.Variation <= 4:
			classes[h.Variation-1] = true
		case h.Group == 60 && h.Variation == 1:
			static = append(static, s.standing(family.NoKind, nil)...)
		case h.Group == 0 && h.Variation == wire.AttrProduct && s.of.Identity != "":
			extra = append([]byte{0, h.Variation, wire.FromTo8, 0, 0, 1, byte(len(s.of.Identity))}, s.of.Identity...)
		case h.Group == 50 && h.Variation == 1:
			extra = wire.AppendTime([]byte{50, 1, wire.Count8, 1}, time.Now().Add(s.ahead))
		case kind == family.NoKind || event:
			refused |= wire.ObjectUnknown
		default:
			found := s.standing(kind, &h)
			if static = append(static, found...); len(found) == 0 || !h.All && len(found) < int(h.Count) {
				refused |= wire.ParameterError
			}
		}
	}
	events := s.take(classes, 150)
	fragments := fill(eventObjects(events), static)
	fragments[len(fragments)-1] = append(fragments[len(fragments)-1], extra...)
	if len(fragments) > 1 || len(events) > 0 {
		return s.next(f.Control&wire.NumberMask, fragments, true, events)
	}
	if s.fault().Kind == "endless" {
		return s.next(f.Control&wire.NumberMask, [][]byte{fragments[0], fragments[0]}, true, nil)
	}
	return s.reply(f, refused, fragments[0])
}

// standing are the objects as they are now: of a kind those in a range, or all.
func (s *session) standing(kind family.Kind, h *wire.Header) (list []wire.Object) {
	for _, each := range s.held() {
		if kind != family.NoKind && (each.Kind != kind || !h.All && (each.Index < h.Start || each.Index >= h.Start+h.Count)) {
			continue
		}
		list = append(list, s.object(&each))
	}
	return list
}

// fill puts objects behind events into fragments, those that follow each other under one header.
func fill(events []byte, list []wire.Object) [][]byte {
	fragments := [][]byte{events}
	for i := 0; i < len(list); {
		n := 1
		for i+n < len(list) && n < 100 && list[i+n].Group == list[i].Group && list[i+n].Variation == list[i].Variation &&
			list[i+n].Index == list[i].Index+uint32(n) {
			n++
		}
		octets, err := wire.AppendObjects(nil, wire.FromTo16, list[i:i+n])
		if err == nil {
			last := &fragments[len(fragments)-1]
			if len(*last)+len(octets) > mostObjects {
				fragments = append(fragments, nil)
				last = &fragments[len(fragments)-1]
			}
			*last = append(*last, octets...)
		}
		i += n
	}
	return fragments
}

var _ bench.Overhears = speech{}
