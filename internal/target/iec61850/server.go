package iec61850

import (
	"net"
	"sync"
	"time"

	family "ferry/internal/core/family/iec61850"
	"ferry/internal/core/value"
	wire "ferry/internal/wire/iec61850"
)

// Config is what a server stands for.
type Config struct {
	// Write takes a value that a client writes to an attribute, or operates a control with; it
	// returns a data access error, -1 for taken. inst is the instance of the logical device. Of a
	// command that is under way ends tells how it ends; else it is nil.
	Write func(by net.Conn, inst string, r family.Ref, v value.Value) (refused int, ends <-chan Ended)
	// Asked is told of each question, and whether it was refused.
	Asked func(by net.Conn, refused bool)
	// Gave is told of the marks of values that a client was given, in an answer or in a report.
	Gave  func(to net.Conn, marks []any, reported bool)
	About wire.Identity
	// Silent has no report be sent: for stand-ins.
	Silent func() bool
}

// Server answers clients.
type Server struct {
	config Config

	mu       sync.Mutex
	space    *space
	sessions map[*session]bool
	closed   bool
	wake     chan struct{}
	done     chan struct{}
	others   sync.WaitGroup
}

// New begins to answer with a model.
func New(config Config, m *family.Model) *Server {
	s := &Server{config: config, space: newSpace(m), sessions: map[*session]bool{}, wake: make(chan struct{}, 1),
		done: make(chan struct{})}
	s.others.Go(s.tells)
	return s
}

// Close ends all conversations.
func (s *Server) Close() error {
	s.mu.Lock()
	s.closed = true
	for each := range s.sessions {
		_ = each.conn.Close() // its own loop ends it
	}
	s.mu.Unlock()
	close(s.done)
	s.others.Wait()
	return nil
}

// Replace has it answer with another model. Clients are thrown out: what they know of it may be wrong.
func (s *Server) Replace(m *family.Model) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.space = newSpace(m)
	for each := range s.sessions {
		_ = each.conn.Close() // its own loop ends it
	}
}

// Attribute is an attribute of the model that is answered with now.
type Attribute struct {
	space *space
	entry *entry
}

// At is the attribute of a reference; nil for none.
func (s *Server) At(r family.Ref) *Attribute {
	s.mu.Lock()
	defer s.mu.Unlock()
	e := s.space.find(r)
	if e == nil || e.kind == family.NoKind {
		return nil
	}
	return &Attribute{s.space, e}
}

// Set has a value stand in an attribute, with its quality and its time beside it; false where the model
// has no such attribute, or none of such a type.
func (s *Server) Set(a *Attribute, v Value) bool {
	now := time.Now()
	s.mu.Lock()
	defer s.mu.Unlock()
	if a == nil || a.space != s.space {
		return false
	}
	e := a.entry
	e.mark = v.Mark
	reason := uint64(0)
	if !v.Value.IsNone() {
		d, err := e.dataOf(v.Value)
		if err != nil {
			return false
		}
		if !d.Same(&e.data) {
			reason |= onData
		}
		e.data = d
	}
	if e.of != nil {
		if q := e.of.quality[e.fc]; q != nil {
			bits := uint64(family.QualityOf(v.Quality, v.Reason))
			if q.data.Bits != bits {
				reason |= onQuality
			}
			q.data = wire.Data{Kind: family.BitString, Bits: bits, Size: q.size}
		}
		if t := e.of.time[e.fc]; t != nil && reason != 0 {
			t.data = wire.Data{Kind: family.UTCTime, Time: v.At, TimeQuality: 0x0A} // exact to a millisecond
			if reason&onData == 0 || v.At.IsZero() {
				t.data.Time = now
			}
		}
	}
	if reason == 0 {
		return true
	}
	moved, as := e, uint64(onData)
	if reason&onData == 0 {
		if moved, as = e.of.quality[e.fc], onQuality; moved == nil {
			return true
		}
	}
	for _, in := range moved.sets {
		var value wire.Data
		for i, each := range in.set.reports {
			if i == 0 {
				value = in.set.members[in.at].value()
			}
			each.changed(in.at, value, e.mark, as, now)
		}
	}
	s.look()
	return true
}

// Lacks lists references that the model has not.
func (s *Server) Lacks(list []family.Ref) (missing []family.Ref) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, r := range list {
		if s.space.find(r) == nil {
			missing = append(missing, r)
		}
	}
	return missing
}

func (s *Server) gave(to net.Conn, marks []any, reported bool) {
	if len(marks) > 0 && s.config.Gave != nil {
		s.config.Gave(to, marks, reported)
	}
}

func (s *Server) look() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// tells sends reports as they are due.
func (s *Server) tells() {
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for {
		now := time.Now()
		type said struct {
			to       *session
			messages [][]byte
			marks    []any
		}
		var due []said
		next := now.Add(time.Hour)
		s.mu.Lock()
		for _, r := range s.space.reports {
			to := r.reserved
			if !r.enabled {
				continue
			}
			if s.config.Silent != nil && s.config.Silent() {
				next = now.Add(time.Second)
				continue
			}
			messages, again := r.due(now)
			if len(messages) > 0 && to != nil {
				due = append(due, said{to, messages, r.given})
			}
			r.given = nil
			if !again.IsZero() && again.Before(next) {
				next = again
			}
		}
		s.mu.Unlock()
		for _, d := range due {
			for _, m := range d.messages {
				d.to.queue(m)
			}
			s.gave(d.to.conn, d.marks, true)
		}
		timer.Reset(max(time.Until(next), time.Millisecond))
		select {
		case <-s.done:
			return
		case <-s.wake:
		case <-timer.C:
		}
	}
}
