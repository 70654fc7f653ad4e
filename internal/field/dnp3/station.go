package dnp3

import (
	"bytes"
	"sync"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/dnp3"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	wire "ferry/internal/wire/dnp3"
)

// station is an outstation on a connection: what is wanted of it, and where the talk with it stands.
type station struct {
	conn    *conn
	address uint16

	mu       sync.Mutex
	settings protocol.Settings
	// wanted are the points by what they are of; none until somebody follows them.
	wanted  map[family.Object][]protocol.Wanted
	follows bool
	number  byte // of the next question
	segment byte // of the next segment that goes out

	// What comes: the frames of the fragment that is under way, and where answers and states of the
	// link are waited for.
	joiner  wire.Joiner
	coming  message
	answers chan message
	states  chan byte

	// unasked is the last message that nobody asked for: it comes again where its confirmation was lost.
	unasked []byte
	// told is what each object was told to be last, with its time.
	told map[family.Object]was
	// overflow is set where the outstation has lost events: times of before say nothing any more.
	due due
}

// was is what an object was.
type was struct {
	value value.Value
	flags byte
	at    time.Time
}

// message is a fragment with the frames that it came in.
type message struct {
	wire.Fragment
	at     time.Time // of its first frame
	octets []byte    // of all frames
	parts  []partly
	wrong  string // why it is no fragment; empty where it is one
}

// partly says where a part of a fragment stands: from its octet so on, in the frame that begins there.
type partly struct{ from, frame int }

// place is where an octet of the fragment stands among those of the frames.
func (m *message) place(i int) int {
	for k := len(m.parts) - 1; k >= 0; k-- {
		if p := m.parts[k]; i >= p.from {
			return p.frame + wire.Places(i-p.from+1) // behind the octet of the transport
		}
	}
	return 0
}

func newStation(c *conn, address uint16) *station {
	return &station{conn: c, address: address, answers: make(chan message, 8), states: make(chan byte, 4),
		told: map[family.Object]was{}, wanted: map[family.Object][]protocol.Wanted{}}
}

func (s *station) set(settings protocol.Settings) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.settings = settings
}

func (s *station) has() protocol.Settings {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.settings
}

func (s *station) int(key string) int { return s.conn.def.Int(s.has(), key) }

// master is the address of this end.
func (s *station) master() int { return s.int(family.KeyMaster) }

func (s *station) within() time.Duration {
	return time.Duration(s.int(protocol.KeyWithin)) * time.Millisecond
}

// take takes in a frame of the outstation.
func (s *station) take(f *wire.Frame, octets []byte, at time.Time) {
	if !f.Asks() {
		select {
		case s.states <- f.Function():
		default:
		}
		return
	}
	switch f.Function() {
	case wire.AskLinkStatus:
		s.link(wire.LinkStatus)
	case wire.ResetLink, wire.TestLink:
		s.link(wire.Ack)
	case wire.ConfirmedData:
		s.link(wire.Ack)
		s.join(f, octets, at)
	case wire.UnconfirmedData:
		s.join(f, octets, at)
	}
}

// link says something of the link.
func (s *station) link(function byte) {
	frame := wire.Frame{Control: wire.FromMaster | function, To: s.address, From: uint16(s.master())}
	octets, err := frame.Append(nil)
	if err == nil {
		_ = s.conn.send(octets) // that it failed is known to the connection
	}
}

// join puts segments together, and hands on what is whole.
func (s *station) join(f *wire.Frame, octets []byte, at time.Time) {
	if len(f.Data) == 0 {
		return
	}
	m := &s.coming
	if wire.Begins(f.Data[0]) {
		*m = message{at: at}
	}
	from := s.joiner.Len()
	if wire.Begins(f.Data[0]) {
		from = 0
	}
	body, whole, err := s.joiner.Take(f.Data)
	if whole || s.joiner.Len() > from { // it is not the same once more
		m.parts = append(m.parts, partly{from, len(m.octets)})
		m.octets = append(m.octets, octets...)
	}
	switch {
	case err != nil && !whole:
		s.deliver(message{at: at, octets: bytes.Clone(octets), wrong: err.Error()})
		*m = message{}
		return
	case !whole:
		return
	}
	done := *m
	*m = message{}
	var fault error
	if done.Fragment, fault = wire.ReadFragment(body); fault != nil {
		done.wrong = fault.Error()
	}
	s.deliver(done)
}

// deliver hands a fragment to who waits for it, or takes it in where nobody asked for it.
func (s *station) deliver(m message) {
	if m.wrong == "" && m.Function == wire.FnUnsolicited {
		s.unsolicited(&m)
		return
	}
	select {
	case s.answers <- m:
	default: // nobody waits for so many
	}
}

// frames are the octets of a fragment, cut into frames.
func (s *station) frames(f *wire.Fragment) ([]byte, error) {
	s.mu.Lock()
	segments, next := wire.Segments(f.Append(nil), s.segment)
	s.segment = next
	s.mu.Unlock()
	var octets []byte
	for _, segment := range segments {
		frame := wire.Frame{Control: wire.FromMaster | wire.Primary | wire.UnconfirmedData, To: s.address,
			From: uint16(s.master()), Data: segment}
		var err error
		if octets, err = frame.Append(octets); err != nil {
			return nil, err
		}
	}
	return octets, nil
}

// tell sends a fragment that has no answer.
func (s *station) tell(f *wire.Fragment, tape *field.Tape) error {
	octets, err := s.frames(f)
	if err == nil {
		if err = s.conn.send(octets); err == nil {
			tape.Out(time.Now(), octets)
		}
	}
	return err
}

// confirm confirms a fragment.
func (s *station) confirm(m *message, tape *field.Tape) {
	control := wire.First | wire.Last | m.Control&(wire.Unsolicited|wire.NumberMask)
	_ = s.tell(&wire.Fragment{Control: control, Function: wire.FnConfirm},
		tape) // that it failed is known to the connection
}

// unsolicited takes in what the outstation sent by itself.
func (s *station) unsolicited(m *message) {
	s.mu.Lock()
	follows := s.follows
	body := m.Fragment.Append(nil)
	again := bytes.Equal(body, s.unasked)
	s.mu.Unlock()
	if !follows || s.conn.trial {
		return // it is nobody's here, and stays the outstation's
	}
	tape := &field.Tape{}
	tape.Begin()
	report := s.report(m, "sent unasked", !again)
	if again {
		report.Operation = "sent unasked, the same again"
	}
	tape.In(m.at, m.octets, false)
	if m.Control&wire.Confirm != 0 {
		s.mu.Lock()
		s.unasked = body
		s.mu.Unlock()
		// What is confirmed is gone at the outstation: it is confirmed once it is taken in.
		if report.At, report.Frames = m.at, tape.Frames(); !s.conn.outbox.Room() {
			s.mu.Lock()
			s.unasked = nil
			s.mu.Unlock()
			return
		}
		s.confirm(m, tape)
	}
	report.At, report.Frames = m.at, tape.Frames()
	s.conn.hand(report)
	s.indicated(m.Indications)
}

// report is what a fragment tells. samples is whether its values are taken in.
func (s *station) report(m *message, operation string, samples bool) field.Report {
	report := field.Report{At: m.at, Operation: operation, Octets: m.octets, Of: int(s.address) + 1}
	if m.wrong != "" {
		report.Wrong = m.wrong
		return report
	}
	head := len(m.Fragment.Append(nil)) - len(m.Objects)
	if err := wire.Objects(m.Objects, func(o wire.Object) {
		if samples {
			report.Samples = append(report.Samples, s.samples(&o, m, head)...)
		}
	}); err != nil {
		report.Wrong = err.Error()
	}
	return report
}

// samples are what an object says of points; head is where the objects begin in the fragment.
func (s *station) samples(o *wire.Object, m *message, head int) (list []field.Sampled) {
	kind, event := family.KindOf(o.Group)
	if kind == family.NoKind || o.Value.IsNone() || o.Group == kind.Command() && !event || o.Group == 13 || o.Group == 43 {
		return nil
	}
	name := family.Object{Kind: kind, Index: o.Index}
	s.mu.Lock()
	defer s.mu.Unlock()
	wanted := s.wanted[name]
	if len(wanted) == 0 {
		return nil
	}
	sampled := field.Sampled{Value: o.Value, Quality: value.Good, Time: o.At, From: m.place(head + o.From),
		To: m.place(head+o.To-1) + 1, Words: m.Objects[o.From:o.To]}
	if o.Flagged {
		sampled.Quality, sampled.Reason = family.QualityOf(kind, o.Flags)
	}
	if o.Unset && sampled.Quality == value.Good {
		sampled.Reason = "its time is that of a clock that was not set"
	}
	is := was{o.Value, o.Flags, o.At}
	if before, known := s.told[name]; known && !event && before.value == is.value && before.flags == is.flags {
		is.at, sampled.Time = before.at, before.at // it has been so since the event
	}
	s.told[name] = is
	for _, w := range wanted {
		sampled.ID = w.ID
		list = append(list, sampled)
	}
	return list
}

// Dissect labels the octets of frames.
func (driver) Dissect(frames []exchange.Frame, points []exchange.Labelled) [][]exchange.Field {
	out, in := exchange.Sides(frames)
	return exchange.Spread(frames, wire.Labels(out, nil), wire.Labels(in, points))
}
