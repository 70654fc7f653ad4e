package bacnet

import (
	"net/netip"
	"sync"
	"time"

	family "ferry/internal/core/family/bacnet"
	wire "ferry/internal/wire/bacnet"
)

// Config is what a server stands on.
type Config struct {
	// Send sends a datagram, Broadcast one to all of this subnet.
	Send      func(to netip.AddrPort, datagram []byte)
	Broadcast func(datagram []byte)
	// Write has a value stand in an object that clients command; nil for taken.
	Write func(by netip.AddrPort, object wire.ObjectID, v wire.Value) *wire.Failure
	// Asked is told of each question, and whether it was refused.
	Asked func(by netip.AddrPort, refused bool)
}

// Server answers as a device.
type Server struct {
	config Config

	mu        sync.Mutex
	space     *space
	transfers map[asker]*transfer // answers that go out in parts
	wishes    map[wish]*subscription
	followed  map[wire.ObjectID][]*subscription
	reports   map[uint8]*report // that are to be confirmed, by their numbers
	invoke    uint8
	foreign   map[netip.AddrPort]foreigner
	done      chan struct{}
	others    sync.WaitGroup
}

// asker is who asked a question, with its number.
type asker struct {
	from   netip.AddrPort
	behind wire.Station
	invoke uint8
}

// foreigner is a device of another subnet that has its broadcasts brought.
type foreigner struct {
	seconds uint16
	until   time.Time
}

// Bounds of what a server keeps for others.
const (
	mostTransfers     = 200
	mostSubscriptions = 5000
	mostForeign       = 128
	ticksEvery        = 100 * time.Millisecond
	graceOfForeign    = 30 * time.Second // annex J.5.2.3
)

// New begins to answer.
func New(config Config, d Device, objects []*Object) *Server {
	s := &Server{config: config, space: newSpace(d, objects, 1), transfers: map[asker]*transfer{}, wishes: map[wish]*subscription{}, followed: map[wire.ObjectID][]*subscription{},
		reports: map[uint8]*report{}, foreign: map[netip.AddrPort]foreigner{}, done: make(chan struct{})}
	s.others.Go(s.ticks)
	return s
}

// Close ends it.
func (s *Server) Close() {
	close(s.done)
	s.others.Wait()
}

// Replace has it answer with other objects: those who subscribed to one that is there still go on.
func (s *Server) Replace(d Device, objects []*Object) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.space = newSpace(d, objects, s.space.changed+1)
	for w, sub := range s.wishes {
		if s.space.by[w.object] == nil {
			s.forget(sub)
		}
	}
}

// ticks sends again what is not confirmed, and ends what has lasted.
func (s *Server) ticks() {
	tick := time.NewTicker(ticksEvery)
	defer tick.Stop()
	for {
		select {
		case <-s.done:
			return
		case now := <-tick.C:
			s.mu.Lock()
			s.tick(now)
			s.mu.Unlock()
		}
	}
}

// tick does what is due at a time. The lock is held.
func (s *Server) tick(now time.Time) {
	for key, t := range s.transfers {
		if now.Before(t.due) {
			continue
		}
		if t.tries++; t.tries > retriesHere {
			delete(s.transfers, key)
			continue
		}
		s.sendWindow(key, t, now)
	}
	s.resend(now)
	for at, f := range s.foreign {
		if now.After(f.until) {
			delete(s.foreign, at)
		}
	}
	for _, sub := range s.wishes {
		if !sub.until.IsZero() && now.After(sub.until) {
			s.forget(sub)
		}
	}
}

// Hear takes a datagram. What is none of BACnet/IP is left alone.
func (s *Server) Hear(from netip.AddrPort, datagram []byte) {
	l, err := wire.ParseLink(datagram)
	if err != nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	switch l.Function {
	case wire.Unicast:
		s.network(from, &l, false)
	case wire.Broadcast:
		s.spread(from, from, &l, false)
		s.network(from, &l, true)
	case wire.Distribute:
		if _, known := s.foreign[from]; !known {
			s.result(from, wire.DistributeRefused)
			return
		}
		s.spread(from, from, &l, true)
		s.network(from, &l, true)
	case wire.Forwarded:
		if l.From.IsValid() && l.From.Addr().IsValid() {
			s.network(l.From, &l, true)
		}
	case wire.RegisterForeign:
		if len(s.foreign) >= mostForeign && s.foreign[from].until.IsZero() {
			s.result(from, wire.RegisterRefused)
			return
		}
		s.foreign[from] = foreigner{l.Seconds, time.Now().Add(time.Duration(l.Seconds)*time.Second + graceOfForeign)}
		s.result(from, wire.LinkDone)
	case wire.DeleteForeign:
		result := uint16(wire.DeleteForeignRefused)
		if _, known := s.foreign[l.Table[0].At]; known {
			delete(s.foreign, l.Table[0].At)
			result = wire.LinkDone
		}
		s.result(from, result)
	case wire.ReadForeign:
		answer := wire.Link{Function: wire.ReadForeignAck}
		for at, f := range s.foreign {
			left := max(0, time.Until(f.until)/time.Second)
			answer.Table = append(answer.Table, wire.Entry{At: at, Seconds: f.seconds, Left: uint16(min(left, 65535))})
		}
		s.config.Send(from, answer.Append(nil))
	case wire.ReadTable:
		s.config.Send(from, (&wire.Link{Function: wire.ReadTableAck}).Append(nil))
	case wire.WriteTable:
		s.result(from, wire.WriteTableRefused)
	}
}

func (s *Server) result(to netip.AddrPort, result uint16) {
	s.config.Send(to, (&wire.Link{Function: wire.LinkResult, Result: result}).Append(nil))
}

// spread brings a broadcast to the foreign devices but the one from which it came, and one of theirs to
// this subnet (annex J.4.5).
func (s *Server) spread(from, but netip.AddrPort, l *wire.Link, here bool) {
	if len(s.foreign) == 0 {
		return
	}
	b := (&wire.Link{Function: wire.Forwarded, From: from, NPDU: l.NPDU}).Append(nil)
	for at := range s.foreign {
		if at != but {
			s.config.Send(at, b)
		}
	}
	if here {
		s.config.Broadcast(b)
	}
}

// network takes what is in a message of the link.
func (s *Server) network(from netip.AddrPort, l *wire.Link, all bool) {
	n, err := wire.ParseNetwork(l.NPDU, l.NPDUAt)
	if err != nil || !n.Carries {
		return
	}
	if n.To.Network != 0 && n.To.Network != wire.EveryNetwork {
		return // it is for stations behind a router
	}
	m, err := wire.ParseMessage(n.Body, n.BodyAt)
	if err != nil {
		return
	}
	key := asker{from, n.From, m.Invoke}
	switch m.Kind {
	case wire.Confirmed:
		if !all { // nobody answers a question that goes to all
			s.confirmed(key, &m)
		}
	case wire.Unconfirmed:
		s.unconfirmed(key, &m)
	case wire.SegmentAck:
		s.acknowledged(key, &m) // not every asker says rightly that it is none who answers
	case wire.SimpleAck, wire.ErrorAnswer, wire.Reject:
		s.confirmedReport(key, m.Kind != wire.SimpleAck)
	case wire.Abort:
		delete(s.transfers, key)
		s.confirmedReport(key, true)
	}
}

// send sends a message to who asked.
func (s *Server) send(to asker, m *wire.Message, expects bool) {
	n := wire.Network{To: to.behind, Expects: expects, Carries: true, Body: m.Append(nil)}
	l := wire.Link{Function: wire.Unicast, NPDU: n.Append(nil)}
	s.config.Send(to.from, l.Append(nil))
}

// unconfirmed answers who is there, and who has what.
func (s *Server) unconfirmed(from asker, m *wire.Message) {
	switch m.Service {
	case wire.WhoIs:
		of, err := wire.ParseWhoIs(m.Body, m.BodyAt)
		if err != nil || !of.Asks(s.space.device.Instance) {
			return
		}
		p := wire.Presence{Device: s.space.id(), MostOctets: wire.MostOctets, Segmentation: wire.SegmentsSent, Vendor: s.space.device.VendorID}
		s.send(from, &wire.Message{Kind: wire.Unconfirmed, Service: wire.IAm, Body: p.Append(nil)}, false)
	case wire.WhoHas:
		sought, err := wire.ParseWhoHas(m.Body, m.BodyAt)
		if err != nil || !sought.Asks(s.space.device.Instance) {
			return
		}
		found := wire.Found{Device: s.space.id()}
		switch o := s.space.by[sought.Object]; {
		case sought.ByName && sought.Name == s.space.device.Name, !sought.ByName && sought.Object == s.space.id():
			found.Object, found.Name = s.space.id(), s.space.device.Name
		case sought.ByName && s.space.named[sought.Name] != nil:
			found.Object, found.Name = s.space.named[sought.Name].ID, sought.Name
		case !sought.ByName && o != nil:
			found.Object, found.Name = o.ID, o.Name
		default:
			return
		}
		s.send(from, &wire.Message{Kind: wire.Unconfirmed, Service: wire.IHave, Body: found.Append(nil)}, false)
	}
}

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
		s.send(from, &wire.Message{Kind: wire.ErrorAnswer, Invoke: m.Invoke, Service: m.Service, Body: wire.AppendFailure(nil, *f)}, false)
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
	case wire.ReadPropertyMultiple:
		list, err := wire.ParseReadMultiple(m.Body, m.BodyAt)
		if err != nil {
			refuse(wire.Reject, rejectInvalid)
			return
		}
		var results []wire.Result
		for _, ref := range list {
			for _, each := range s.space.expand(ref) {
				values, failed := s.space.read(each)
				results = append(results, wire.Result{Reference: s.itself(each), Values: values, Failed: failed})
			}
		}
		s.answer(from, m, wire.AppendMultipleAnswer(nil, results))
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
	s.answer(from, m, wire.AppendPartAnswer(nil, s.itself(whole), first == 1 && last > 0, last == len(values) && last > 0, false, values[first-1:last]))
}

// Set has a value stand in an object, with its status; false where there is no such object.
func (s *Server) Set(id wire.ObjectID, v wire.Value, flags uint8, reliability uint32) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	o := s.space.by[id]
	if o == nil {
		return false
	}
	o.Value, o.Flags, o.Reliability = v, flags, reliability
	if o.Commanded {
		o.standing = v
	}
	s.moved(o)
	return true
}

// moved tells those who subscribed to an object. The lock is held.
func (s *Server) moved(o *Object) {
	now := time.Now()
	for _, sub := range s.followed[o.ID] {
		if sub.tells(o) {
			s.report(sub, now)
		}
	}
}

// write writes a property.
func (s *Server) write(by netip.AddrPort, w *wire.Written) *wire.Failure {
	o := s.space.by[w.Object]
	switch {
	case w.Object == s.space.id():
		return writeDenied
	case o == nil:
		return unknownObject
	}
	if _, _, failed := o.property(family.Property(w.Property)); failed != nil {
		return failed
	}
	switch {
	case family.Property(w.Property) != family.PresentValue || !o.Commanded:
		return writeDenied
	case w.Index != wire.Whole:
		return notAnArray
	case len(w.Values) != 1:
		return wrongType
	}
	at := int(w.Priority)
	if at == 0 {
		at = wire.LastPriority
	}
	if at == minimumTimes {
		return writeDenied
	}
	v := w.Values[0]
	if v.Tag != wire.TagNull || v.Constructed || v.Opaque {
		if failed := o.fits(&v); failed != nil {
			return failed
		}
	}
	before, was := o.present(), o.commands[at-1]
	v.From, v.To = 0, 0
	o.commands[at-1] = v
	is := o.present()
	if is.Tag != before.Tag || is.Uint != before.Uint || is.Int != before.Int || is.Float != before.Float || is.Text != before.Text {
		if failed := s.config.Write(by, o.ID, is); failed != nil {
			o.commands[at-1] = was
			return failed
		}
	}
	s.moved(o)
	return nil
}

// minimumTimes is the priority that is kept for minimum times of on and off (clause 19.2.3).
const minimumTimes = 6
