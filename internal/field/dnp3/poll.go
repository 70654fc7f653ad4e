package dnp3

import (
	"fmt"
	"strings"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/dnp3"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
	wire "ferry/internal/wire/dnp3"
)

// due is what an outstation is asked for, and when.
type due struct {
	at      map[poll]time.Time
	restart bool // it says that it was restarted
	time    bool // it wants the time
	all     bool // everything is to be asked for, because something may be missing
	events  wire.Indications
	retry   time.Time // nothing is asked before
}

// poll is something that is asked for at a pace of its own.
type poll byte

const (
	integrity poll = iota
	class1
	class2
	class3
	freeze
	alive
)

var pollTitles = [...]string{"integrity poll", "poll of class 1", "poll of class 2", "poll of class 3",
	"freeze of the counters",
	"state of the link"}

// every is how often something is asked for; 0 for never.
func (s *station) every(p poll) time.Duration {
	switch p {
	case integrity:
		return time.Duration(s.int(family.KeyIntegrity)) * time.Second
	case class1, class2, class3:
		return time.Duration(family.ClassEvery(s.has(), int(p))) * time.Millisecond
	case freeze:
		return time.Duration(s.int(family.KeyFreeze)) * time.Second
	}
	return time.Duration(s.int(family.KeyAlive)) * time.Second
}

// objectsOf are the headers that ask for classes.
func objectsOf(classes ...int) (objects []byte) {
	for _, class := range classes {
		h := wire.Header{Group: 60, Variation: byte(class + 1), Qualifier: wire.AllOf}
		objects = h.Append(objects)
	}
	return objects
}

// everything are all events and all that is there, in the order in which it counts (IEEE 1815,
// clause 5.1.4).
func everything() []byte { return objectsOf(1, 2, 3, 0) }

// indicated takes in what an outstation says of itself.
func (s *station) indicated(is wire.Indications) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.follows || s.conn.trial {
		return
	}
	s.due.restart = s.due.restart || is&wire.Restarted != 0
	s.due.time = is&wire.NeedTime != 0
	if is&wire.EventOverflow != 0 {
		clear(s.told) // what was missed is not known
		s.due.all = s.due.all || s.due.events&wire.EventOverflow == 0
	}
	s.due.events = is
	if s.due.restart || s.due.time || s.due.all {
		s.conn.wake(s.conn.wakes)
	}
}

// pace asks for what is due, until the connection ends.
func (c *conn) pace() {
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for c.life.Err() == nil && !c.over.Load() {
		s, next := c.next(time.Now())
		if s != nil {
			if c.hold(c.life.Done()) != nil {
				return
			}
			c.run(s)
			c.release()
			continue
		}
		timer.Reset(max(time.Until(next), time.Millisecond))
		select {
		case <-timer.C:
		case <-c.wakes:
		case <-c.life.Done():
		}
	}
}

// next is the outstation of which something is due, nil for none before a time.
func (c *conn) next(now time.Time) (first *station, at time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	at = now.Add(time.Minute)
	for _, s := range c.stations {
		if when, ok := s.when(); ok && when.Before(at) {
			first, at = s, when
		}
	}
	if at.After(now) {
		return nil, at
	}
	return first, at
}

// when is when something is due; false for never.
func (s *station) when() (at time.Time, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.follows {
		return at, false
	}
	if s.due.restart || s.due.all || s.due.time && s.due.at != nil {
		return s.due.retry, true
	}
	for _, when := range s.due.at {
		if !ok || when.Before(at) {
			at, ok = when, true
		}
	}
	if ok && at.Before(s.due.retry) {
		at = s.due.retry
	}
	return at, ok
}

// run asks for what is due. The turn is held. Who is silent is left alone for a while, so that those
// that share the connection are not kept waiting.
func (c *conn) run(s *station) {
	breaks := c.life.Done()
	ok := true
	switch restarted, everythingDue, timeDue := s.wants(); {
	case restarted:
		ok = s.restarted(breaks)
	case everythingDue:
		ok = s.polled("integrity poll after lost events", everything(), breaks)
	case timeDue:
		ok = s.setTime(breaks)
	default:
		ok = s.polls(breaks)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.due.retry = (time.Time{}); !ok {
		s.due.retry = time.Now().Add(4 * time.Duration(c.def.Int(s.settings, protocol.KeyWithin)) * time.Millisecond)
	}
}

// wants is what is due out of order; each is told once.
func (s *station) wants() (restarted, all, clock bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d := &s.due
	switch {
	case d.restart:
		restarted = true
	case d.all:
		d.all, all = false, true
	case d.time:
		d.time, clock = false, s.conn.def.Value(s.settings, family.KeyTime).Text() == family.TimeAsked
	}
	return restarted, all, clock
}

// polls asks for all whose time has come, classes with one question.
func (s *station) polls(breaks <-chan struct{}) bool {
	now := time.Now()
	s.mu.Lock()
	var ready []poll
	for p := integrity; p <= alive; p++ {
		if when, planned := s.due.at[p]; planned && !when.After(now) {
			ready = append(ready, p)
		}
	}
	s.mu.Unlock()
	var classes []int
	var titles []string
	ok, asked := true, false
	for _, p := range ready {
		switch p {
		case integrity:
			ok, asked = s.polled(pollTitles[p], everything(), breaks), true
		case class1, class2, class3:
			if !asked { // an integrity poll brings them
				classes, titles = append(classes, int(p)), append(titles, fmt.Sprint(int(p)))
			}
		case freeze:
			ok, asked = s.freeze(breaks), true
		}
	}
	if len(classes) > 0 && ok {
		ok, asked = s.polled("poll of class "+strings.Join(titles, ", "), objectsOf(classes...), breaks), true
	}
	if len(ready) == 1 && ready[0] == alive {
		ok, asked = s.live(breaks), true
	}
	s.planned(ready, now, asked)
	return ok
}

// planned plans what was asked for anew. What was asked is a sign of life.
func (s *station) planned(ready []poll, now time.Time, asked bool) {
	var every [alive + 1]time.Duration
	for p := integrity; p <= alive; p++ {
		every[p] = s.every(p)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range ready {
		next := s.due.at[p].Add(every[p])
		if next.Before(now) {
			next = now.Add(every[p])
		}
		s.due.at[p] = next
	}
	if asked {
		s.due.at[alive] = now.Add(every[alive])
	}
}

// plan plans everything from now on.
func (s *station) plan() {
	var every [alive + 1]time.Duration
	for p := integrity; p <= alive; p++ {
		every[p] = s.every(p)
	}
	now := time.Now()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.due.at = map[poll]time.Time{}
	for p, each := range every {
		if each > 0 {
			s.due.at[poll(p)] = now.Add(each)
		}
	}
	s.conn.wake(s.conn.wakes)
}

// poll reads classes, and hands over what they bring.
func (s *station) poll(title string, objects []byte, breaks <-chan struct{}) field.Reply {
	report := field.Report{At: time.Now(), Operation: title, Of: int(s.address) + 1}
	q := question{function: wire.FnRead, objects: objects, each: s.taker(&report, title)}
	a := s.ask(&q, breaks)
	report.Frames = a.Frames
	s.failed(&report, &a.Reply)
	s.conn.hand(report)
	return a.Reply
}

// polled is whether a poll went well.
func (s *station) polled(title string, objects []byte, breaks <-chan struct{}) bool {
	reply := s.poll(title, objects, breaks)
	return reply.OK()
}

// failed notes in a report that its question had no answer.
func (s *station) failed(report *field.Report, reply *field.Reply) {
	if !reply.OK() && reply.Outcome != exchange.CalledOff {
		report.Failed = reply
	}
}

// taker takes the fragments of an answer into a report. What is confirmed is gone at the outstation:
// nothing is, where the report will not be taken.
func (s *station) taker(report *field.Report, title string) func(m *message) bool {
	return func(m *message) bool {
		got := s.report(m, title, true)
		if got.Wrong != "" {
			report.Wrong = got.Wrong
		}
		from := len(report.Octets)
		for i := range got.Samples {
			got.Samples[i].From += from
			got.Samples[i].To += from
		}
		report.Octets = append(report.Octets, m.octets...)
		report.Samples = append(report.Samples, got.Samples...)
		return s.conn.outbox.Room()
	}
}

// restarted does what a restart asks for: its indication is cleared, everything is read, and the
// events that come unasked are enabled anew (IEEE 1815, clause 5.1.6).
func (s *station) restarted(breaks <-chan struct{}) bool {
	tape, ok := s.clearRestart(breaks)
	s.conn.hand(field.Report{At: time.Now(), Operation: "clear the indication of a restart", Frames: tape, Aside: true,
		Of: int(s.address) + 1})
	if !ok {
		return false
	}
	s.mu.Lock()
	clear(s.told)
	s.due.restart = false
	s.mu.Unlock()
	if !s.polled("integrity poll after a restart", everything(), breaks) {
		s.mu.Lock()
		s.due.restart = true
		s.mu.Unlock()
		return false
	}
	a := s.enable(breaks)
	if len(a.Frames) > 0 {
		s.conn.hand(field.Report{At: time.Now(), Operation: "enable events unasked", Frames: a.Frames, Aside: true,
			Of: int(s.address) + 1})
	}
	return a.OK()
}

// clearRestart clears the indication of a restart: object 80.1, index 7 (clause 4.5.6).
func (s *station) clearRestart(breaks <-chan struct{}) ([]exchange.Frame, bool) {
	a := s.ask(&question{function: wire.FnWrite, objects: []byte{80, 1, wire.FromTo8, 7, 7, 0}}, breaks)
	return a.Frames, a.OK()
}

// unasks reports whether any class of events is to be sent unasked.
func (s *station) unasks() bool {
	settings := s.has()
	return family.Unasked(settings, 1) || family.Unasked(settings, 2) || family.Unasked(settings, 3)
}

// enable has the outstation send the events of classes unasked that are set so; the answer is good
// where there are none.
func (s *station) enable(breaks <-chan struct{}) answer {
	var classes []int
	for class := 1; class <= 3; class++ {
		if family.Unasked(s.has(), class) {
			classes = append(classes, class)
		}
	}
	if len(classes) == 0 {
		return answer{Reply: field.Reply{Outcome: exchange.Answered}}
	}
	return s.ask(&question{function: wire.FnEnable, objects: objectsOf(classes...)}, breaks)
}

// setTime sets the clock of the outstation: over a network by the time at which the question left,
// over a serial line by how long it was on its way (clause 10.3).
func (s *station) setTime(breaks <-chan struct{}) bool {
	report := field.Report{At: time.Now(), Operation: "set the clock", Aside: true, Of: int(s.address) + 1}
	defer func() { s.conn.hand(report) }()
	function, variation := wire.FnRecordTime, byte(3)
	if s.conn.def == family.Serial {
		function, variation = wire.FnDelay, 1
	}
	a := s.ask(&question{function: function}, breaks)
	report.Frames = a.Frames
	if !a.OK() {
		return false
	}
	if _, refused := a.refusal(""); refused && function == wire.FnRecordTime {
		function, variation = wire.FnDelay, 1
		more := s.ask(&question{function: function}, breaks)
		if a = more; !a.OK() {
			return false
		}
	}
	at := a.SentAt
	if function == wire.FnDelay {
		at = time.Now().Add(s.delay(&a))
	}
	objects := wire.AppendTime([]byte{50, variation, wire.Count8, 1}, at)
	written := s.ask(&question{function: wire.FnWrite, objects: objects, once: true}, breaks)
	report.Frames = append(report.Frames, written.Frames...)
	if reply, refused := written.refusal("the time"); refused {
		s.mu.Lock()
		s.due.time = false
		s.mu.Unlock()
		report.Failed = &reply
	}
	return written.OK()
}

// delay is how long a question is on its way to the outstation, out of how long its answer took less
// what it says that it took itself.
func (s *station) delay(a *answer) time.Duration {
	took, own := time.Duration(0), time.Duration(0)
	for _, f := range a.Frames {
		if !f.Out {
			took = time.Duration(f.AfterMs * float64(time.Millisecond))
		}
	}
	for i := range a.messages {
		_ = wire.Objects(a.messages[i].Objects, func(o wire.Object) { // without it the whole time counts
			if o.Group == 52 {
				unit := time.Millisecond
				if o.Variation == 1 {
					unit = time.Second
				}
				own = time.Duration(o.Value.Uint()) * unit
			}
		})
	}
	return max(0, (took-own)/2)
}

// freeze freezes all counters.
func (s *station) freeze(breaks <-chan struct{}) bool {
	a := s.ask(&question{function: wire.FnFreeze, objects: []byte{20, 0, wire.AllOf}, once: true}, breaks)
	report := field.Report{At: time.Now(), Operation: "freeze the counters", Frames: a.Frames, Aside: true,
		Of: int(s.address) + 1}
	if reply, refused := a.refusal("to freeze the counters"); refused || !a.OK() {
		report.Failed = &reply
	}
	s.conn.hand(report)
	return a.OK()
}

// live asks for the state of the link, and where nothing comes, whether the outstation talks at all.
func (s *station) live(breaks <-chan struct{}) bool {
	report := field.Report{At: time.Now(), Operation: pollTitles[alive], Of: int(s.address) + 1}
	tape, ok := s.state(s.conn.life, breaks)
	report.Frames = tape.Frames()
	if !ok {
		a := s.ask(&question{function: wire.FnRead, objects: []byte{50, 1, wire.Count8, 1}}, breaks)
		report.Frames, ok = append(report.Frames, a.Frames...), a.OK()
		s.failed(&report, &a.Reply)
	}
	s.conn.hand(report)
	return ok
}
