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
	// Station is where the device is behind the address; zero where it has that itself.
	Station wire.Station
	// Send sends a datagram.
	Send func(to netip.AddrPort, datagram []byte)
	// Write has a value stand in an object that clients command; nil for taken.
	Write func(by netip.AddrPort, object wire.ObjectID, v wire.Value) *wire.Failure
	// Lets reports whether somebody is answered; nil for all.
	Lets func(by netip.AddrPort) bool
	// Asked is told of each question, and whether it was refused; Gave of the marks of the values that somebody
	// was given, in an answer or in a report. Both may be nil.
	Asked func(by netip.AddrPort, refused bool)
	Gave  func(to netip.AddrPort, marks []any, reported bool)
}

// Server answers as a device.
type Server struct {
	config  Config
	station wire.Station

	mu        sync.Mutex
	space     *space
	transfers map[asker]*transfer // answers that go out in parts
	wishes    map[wish]*subscription
	followed  map[wire.ObjectID][]*subscription
	reports   map[uint8]*report // that are to be confirmed, by their numbers
	readers   map[asker]*reader // to whom such are under way
	invoke    uint8
	done      chan struct{}
	others    sync.WaitGroup
}

// asker is who asked a question, with its number.
type asker struct {
	from   netip.AddrPort
	behind wire.Station
	invoke uint8
}

// Bounds of what a server keeps for others.
const (
	mostTransfers     = 200
	mostTransferred   = 64 << 20 // octets of all of them together
	mostAnswered      = 100_000  // values in one answer
	mostSubscriptions = 5000
	ticksEvery        = 100 * time.Millisecond
)

// New begins to answer. The revision of its database begins with the second of the day and year: who knows an
// earlier one after a restart lists anew.
func New(config Config, d Device, objects []*Object) *Server {
	s := &Server{config: config, station: config.Station, space: newSpace(d, objects, uint64(time.Now().Unix())),
		transfers: map[asker]*transfer{}, wishes: map[wish]*subscription{},
		followed: map[wire.ObjectID][]*subscription{}, reports: map[uint8]*report{}, readers: map[asker]*reader{},
		done: make(chan struct{})}
	s.others.Go(s.ticks)
	return s
}

// Station is where it is behind its address.
func (s *Server) Station() wire.Station { return s.station }

// Close ends it.
func (s *Server) Close() {
	close(s.done)
	s.others.Wait()
}

// Replace has it answer with other objects: those who subscribed to one that is there still go on.
func (s *Server) Replace(d Device, objects []*Object) {
	s.mu.Lock()
	defer s.mu.Unlock()
	was := s.space
	s.space = newSpace(d, objects, was.changed+1)
	for _, o := range objects {
		if old := was.by[o.ID]; old != nil && o.Commanded && old.Commanded { // who commands it goes on to
			o.commands = old.commands
		}
	}
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
	for _, sub := range s.wishes {
		if !sub.until.IsZero() && now.After(sub.until) {
			s.forget(sub)
		}
	}
}

// hear takes a message; all is set for one that went to all.
func (s *Server) hear(key asker, m *wire.Message, all bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch m.Kind {
	case wire.Confirmed:
		if !all { // nobody answers a question that goes to all
			s.confirmed(key, m)
		}
	case wire.Unconfirmed:
		s.unconfirmed(key, m)
	case wire.SegmentAck:
		s.acknowledged(key, m) // not every asker says rightly that it is none who answers
	case wire.SimpleAck, wire.ErrorAnswer, wire.Reject:
		s.confirmedReport(key, m.Kind != wire.SimpleAck)
	case wire.Abort:
		delete(s.transfers, key)
		s.confirmedReport(key, true)
	}
}

// send sends a message to who asked.
func (s *Server) send(to asker, m *wire.Message, expects bool) {
	n := wire.Network{To: to.behind, From: s.station, Expects: expects, Carries: true, Body: m.Append(nil)}
	l := wire.Link{Function: wire.Unicast, NPDU: n.Append(nil)}
	s.config.Send(to.from, l.Append(nil))
}

// iAm says that the device is there.
func (s *Server) iAm() *wire.Message {
	d := &s.space.device
	p := wire.Presence{Device: s.space.id(), MostOctets: uint32(d.most()), Segmentation: d.segmentation(),
		Vendor: d.VendorID}
	return &wire.Message{Kind: wire.Unconfirmed, Service: wire.IAm, Body: p.Append(nil)}
}

// instance is that of the device.
func (s *Server) instance() uint32 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.space.device.Instance
}

// presence are the octets of it.
func (s *Server) presence() []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.iAm().Append(nil)
}

// unconfirmed answers who is there, and who has what.
func (s *Server) unconfirmed(from asker, m *wire.Message) {
	switch m.Service {
	case wire.WhoIs:
		of, err := wire.ParseWhoIs(m.Body, m.BodyAt)
		if err != nil || !of.Asks(s.space.device.Instance) {
			return
		}
		s.send(from, s.iAm(), false)
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

// Standing is what stands in an object.
type Standing struct {
	Value       wire.Value
	Flags       uint8
	Reliability uint32
	// Commanded is set for what clients have commanded: the object has that already.
	Commanded bool
	Mark      any // which Gave hands back
}

// Set has a value stand in an object; false where there is no such object.
func (s *Server) Set(id wire.ObjectID, is Standing) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	o := s.space.by[id]
	if o == nil {
		return false
	}
	if !is.Commanded || !o.Commanded {
		o.Value = is.Value
		o.differs = o.held() && is.Value.Tag != wire.TagNull && !same(o.present(), is.Value)
	}
	o.Flags, o.Reliability, o.mark = is.Flags, is.Reliability, is.Mark
	if o.Value.Tag != wire.TagNull && o.Flags&Fault == 0 {
		if reliability := o.beyond(); reliability != NoFault {
			o.Flags, o.Reliability = o.Flags|Fault, reliability
		}
	}
	s.moved(o)
	return true
}

// same reports whether two single values are the same.
func same(a, b wire.Value) bool {
	return a.Tag == b.Tag && a.Uint == b.Uint && a.Int == b.Int && a.Float == b.Float && a.Text == b.Text
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
	o.differs = false
	before, was := o.present(), o.commands[at-1]
	v.From, v.To = 0, 0
	o.commands[at-1] = v
	is := o.present()
	if !same(is, before) {
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
