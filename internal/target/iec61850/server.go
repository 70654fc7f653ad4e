package iec61850

import (
	"errors"
	"io"
	"net"
	"slices"
	"sync"
	"time"

	family "ferry/internal/core/family/iec61850"
	"ferry/internal/core/value"
	wire "ferry/internal/wire/iec61850"
	"ferry/internal/wire/isotcp"
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

// session is a conversation with a client.
type session struct {
	server *Server
	conn   net.Conn
	size   isotcp.Size

	mu      sync.Mutex
	waiting [][]byte
	octets  int // of what waits, or is being sent
	room    sync.Cond
	over    bool
	woken   chan struct{}
	ended   chan struct{}
}

// Bounds of what waits for a client that does not take it: in octets behind which its next question is not
// answered before it takes some, and behind which it is hung up on.
const (
	mostWaiting = 1 << 20
	mostQueued  = 32 << 20
	within      = 10 * time.Second
)

// queue has a message sent; a client that takes none any more is hung up on.
func (c *session) queue(mms []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.octets >= mostQueued {
		_ = c.conn.Close() // its loop ends it
		return
	}
	c.waiting = append(c.waiting, mms)
	c.octets += len(mms)
	select {
	case c.woken <- struct{}{}:
	default:
	}
}

// taken notes that the client has taken so many octets, or that it is over.
func (c *session) taken(octets int, over bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.octets -= octets
	c.over = c.over || over
	c.room.Broadcast()
}

// waits until there is room for the answer to a further question.
func (c *session) waits() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for c.octets > mostWaiting && !c.over {
		c.room.Wait()
	}
}

// writes sends what waits until the conversation ends.
func (c *session) writes() {
	defer c.taken(0, true)
	var octets []byte
	taken := 0
	for {
		c.mu.Lock()
		list := c.waiting
		c.waiting = nil
		c.mu.Unlock()
		if len(list) == 0 {
			select {
			case <-c.ended:
				return
			case <-c.woken:
			}
			continue
		}
		octets, taken = octets[:0], 0
		for i, mms := range list {
			octets = isotcp.AppendData(octets, wire.Speak(mms), c.size)
			taken += len(mms)
			if len(octets) < 1<<16 && i < len(list)-1 {
				continue
			}
			if c.conn.SetWriteDeadline(time.Now().Add(within)) != nil {
				return
			}
			if _, err := c.conn.Write(octets); err != nil {
				_ = c.conn.Close() // the loop that reads ends it
				return
			}
			c.taken(taken, false)
			octets, taken = octets[:0], 0
		}
	}
}

// Take answers a client until the connection ends.
func (s *Server) Take(conn net.Conn) {
	c := &session{server: s, conn: conn, size: isotcp.Size8192, woken: make(chan struct{}, 1), ended: make(chan struct{})}
	c.room.L = &c.mu
	s.mu.Lock()
	if s.closed {
		s.mu.Unlock()
		return
	}
	s.sessions[c] = true
	s.mu.Unlock()
	var writer sync.WaitGroup
	writer.Go(c.writes)
	_ = c.converse() // how it ended is the client's to know
	close(c.ended)
	_ = conn.Close()
	writer.Wait()
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.sessions, c)
	for _, r := range s.space.reports {
		if r.reserved == c {
			r.stop()
		}
	}
	for _, d := range s.space.domains {
		for _, e := range d.items {
			if e.of != nil && e.of.control != nil && e.of.control.selected == c {
				e.of.control.selected = nil
			}
		}
	}
}

// frame reads a frame of the transport.
func frame(conn net.Conn, held *[]byte) (isotcp.TPDU, error) {
	buf := make([]byte, 4096)
	for {
		n, err := isotcp.Frame(*held, 1<<16)
		if err != nil {
			return isotcp.TPDU{}, err
		}
		if n > 0 {
			t, err := isotcp.ParseTPDU((*held)[:n])
			t.Rest = slices.Clone(t.Rest)
			*held = append((*held)[:0], (*held)[n:]...)
			return t, err
		}
		got, err := conn.Read(buf)
		if err != nil {
			return isotcp.TPDU{}, err
		}
		*held = append(*held, buf[:got]...)
	}
}

var errOver = errors.New("the conversation is over")

// converse takes the connection, the association, and then question after question.
func (c *session) converse() error {
	var held, message []byte
	t, err := frame(c.conn, &held)
	if err != nil {
		return err
	}
	if t.Kind != isotcp.ConnectRequest {
		return errors.New("it does not begin with a connection of the transport")
	}
	if t.Size >= isotcp.Size(7) && t.Size < c.size {
		c.size = t.Size
	}
	if _, err := c.conn.Write(isotcp.AppendConfirm(nil, t.Calling, t.Called, c.size)); err != nil {
		return err
	}
	for {
		c.waits()
		if t, err = frame(c.conn, &held); err != nil {
			return err
		}
		if t.Kind != isotcp.Data {
			return io.EOF
		}
		if message = append(message, t.Rest...); len(message) > wire.MostMessage {
			return errors.New("a message without end")
		}
		if !t.Last {
			continue
		}
		h, err := wire.Hear(message)
		message = nil
		switch {
		case err != nil:
			return err
		case h.Ends:
			return errOver
		case h.Associates:
			i := wire.DefaultInitiation()
			i.Size = max(1000, min(i.Size, h.Initiation.Size))
			i.Outstanding = max(1, min(i.Outstanding, h.Initiation.Outstanding))
			octets := isotcp.AppendData(nil, wire.Accept(i), c.size)
			if _, err := c.conn.Write(octets); err != nil {
				return err
			}
			continue
		}
		m, err := wire.ParseMessage(h.MMS)
		if err != nil {
			c.queue(wire.Rejection(m.Invoke))
			continue
		}
		switch m.Kind {
		case wire.ConcludeRequest:
			c.queue(wire.Conclusion(wire.ConcludeResponse))
			time.Sleep(20 * time.Millisecond) // it is on its way before the connection ends
			return errOver
		case wire.Request:
			answer, refused := c.answer(&m)
			if c.server.config.Asked != nil {
				c.server.config.Asked(c.conn, refused)
			}
			if answer != nil { // else it comes once it is known
				c.queue(answer)
			}
		}
	}
}

// Errors of services (ISO 9506-2, ServiceError).
const (
	classDefinition = 2
	classService    = 4
	classAccess     = 7
	codeUndefined   = 1
	codeNotThere    = 2
)

// answer answers a question.
func (c *session) answer(m *wire.Message) (octets []byte, refused bool) {
	s := c.server
	s.mu.Lock()
	defer s.mu.Unlock()
	switch m.Service {
	case wire.Identify:
		return wire.Answer(m.Invoke, wire.Identify, s.config.About.Octets()), false
	case wire.GetNameList:
		return c.names(m)
	case wire.Read:
		return c.read(m)
	case wire.Write:
		return c.write(m)
	case wire.GetTypeOf:
		n, err := wire.ReadTypeOf(m.Body)
		if err != nil {
			return wire.Rejection(m.Invoke), true
		}
		e := s.space.at(n)
		if e == nil {
			return wire.Refusal(m.Invoke, classAccess, codeNotThere), true
		}
		t := e.describes()
		return wire.Answer(m.Invoke, wire.GetTypeOf, wire.TypeAnswer(&t)), false
	case wire.GetMembersOf:
		n, err := wire.ReadMembersOf(m.Body)
		if err != nil {
			return wire.Rejection(m.Invoke), true
		}
		if d := s.space.exact(n.Domain); d != nil && d.sets[n.Item] != nil {
			return wire.Answer(m.Invoke, wire.GetMembersOf, wire.Members(d.sets[n.Item].names)), false
		}
		return wire.Refusal(m.Invoke, classDefinition, codeUndefined), true
	}
	return wire.Refusal(m.Invoke, classService, codeUndefined), true
}

// exact is a domain by its name on the wire.
func (s *space) exact(name string) *domain {
	for _, d := range s.domains {
		if d.name == name {
			return d
		}
	}
	return nil
}

func (s *space) at(n wire.Name) *entry {
	if d := s.exact(n.Domain); d != nil {
		return d.items[n.Item]
	}
	return nil
}

// namesAtOnce is how many names one answer has.
const namesAtOnce = 400

func (c *session) names(m *wire.Message) (octets []byte, refused bool) {
	q, err := wire.ReadNameList(m.Body)
	if err != nil {
		return wire.Rejection(m.Invoke), true
	}
	var all []string
	switch d := c.server.space.exact(q.Domain); {
	case q.Class == wire.Domains:
		for _, d := range c.server.space.domains {
			all = append(all, d.name)
		}
	case q.Domain == "": // the device itself has none
	case d == nil:
		return wire.Refusal(m.Invoke, classAccess, codeNotThere), true
	case q.Class == wire.Variables:
		all = d.order
	case q.Class == wire.Lists:
		all = d.setOrder
	}
	if q.After != "" {
		at := slices.Index(all, q.After)
		if at < 0 {
			return wire.Refusal(m.Invoke, classAccess, codeNotThere), true
		}
		all = all[at+1:]
	}
	more := len(all) > namesAtOnce
	return wire.Answer(m.Invoke, wire.GetNameList, wire.Names(all[:min(len(all), namesAtOnce)], more)), false
}

func (c *session) read(m *wire.Message) (octets []byte, refused bool) {
	names, list, err := wire.ReadRead(m.Body)
	if err != nil {
		return wire.Rejection(m.Invoke), true
	}
	if list {
		d := c.server.space.exact(names[0].Domain)
		if d == nil || d.sets[names[0].Item] == nil {
			return wire.Refusal(m.Invoke, classDefinition, codeUndefined), true
		}
		var results []wire.Result
		var marks []any
		for _, e := range d.sets[names[0].Item].members {
			results = append(results, wire.Result{Data: e.value(), Refused: -1})
			marks = e.marks(marks)
		}
		c.server.gave(c.conn, marks, false)
		return wire.Answer(m.Invoke, wire.Read, wire.ReadAnswer(results)), false
	}
	results := make([]wire.Result, len(names))
	var marks []any
	for i, n := range names {
		e := c.server.space.at(n)
		if e == nil {
			results[i].Refused, refused = family.AccessNotThere, true
			continue
		}
		results[i] = wire.Result{Data: c.value(e), Refused: -1}
		marks = e.marks(marks)
	}
	c.server.gave(c.conn, marks, false)
	return wire.Answer(m.Invoke, wire.Read, wire.ReadAnswer(results)), refused
}

// value is what a client reads of an entry: of a control block its members, and of SBO what the selection
// came to.
func (c *session) value(e *entry) wire.Data {
	switch {
	case e.report != nil:
		return e.report.member(e.name, e.kind, e.size)
	case e.name == "SBO" && e.fc == "CO" && e.of != nil && e.of.control != nil:
		return wire.Data{Kind: family.VisibleString, Text: e.of.control.choose(c, time.Now())}
	case e.kind != family.NoKind:
		return e.data
	}
	out := wire.Data{Kind: family.Structure, Parts: make([]wire.Data, len(e.parts))}
	for i, p := range e.parts {
		if p.name == "SBO" && p.fc == "CO" { // who reads all selects nothing
			out.Parts[i] = wire.Data{Kind: family.VisibleString}
			continue
		}
		out.Parts[i] = c.value(p)
	}
	return out
}

func (c *session) write(m *wire.Message) (octets []byte, refused bool) {
	names, values, err := wire.ReadWrite(m.Body)
	if err != nil {
		return wire.Rejection(m.Invoke), true
	}
	results := make([]int, len(names))
	waits := make([]operated, 0, len(names))
	for i, n := range names {
		e := c.server.space.at(n)
		if e == nil || e.fc != "CO" || e.of == nil || e.of.control == nil || e.name != "Oper" && e.name != "SBOw" &&
			e.name != "Cancel" {
			results[i] = c.put(e, &values[i])
			refused = refused || results[i] >= 0
			continue
		}
		o := operated{at: i, control: e.of.control, d: values[i], enhanced: e.name == "Oper" && e.of.control.enhanced()}
		var cause int
		results[i], cause, o.ends = o.control.write(c, e.name, &values[i], time.Now())
		if results[i] >= 0 {
			refused = true
			c.queue(o.control.failed(e.name, &values[i], cause))
		} else if o.ends != nil || o.enhanced {
			waits = append(waits, o)
		}
	}
	if len(waits) == 0 {
		return wire.Answer(m.Invoke, wire.Write, wire.WriteAnswer(results)), refused
	}
	go c.terminate(m.Invoke, results, waits)
	return nil, refused
}

// operated is a command of a write: at is its place there.
type operated struct {
	at       int
	control  *control
	d        wire.Data
	enhanced bool
	ends     <-chan Ended
}

// terminate answers a write once its commands have ended, of those with enhanced security at once, and
// tells of their ends behind that (IEC 61850-7-2, clause 20.2).
func (c *session) terminate(invoke uint32, results []int, waits []operated) {
	end := func(o *operated) Ended {
		if o.ends == nil {
			return Ended{-1, 0}
		}
		return awaited(o.ends)
	}
	for i := range waits {
		o := &waits[i]
		if o.enhanced {
			continue
		}
		if e := end(o); e.Refused >= 0 {
			results[o.at] = e.Refused
			c.queue(o.control.failed("Oper", &o.d, e.Cause))
		}
	}
	c.queue(wire.Answer(invoke, wire.Write, wire.WriteAnswer(results)))
	for i := range waits {
		o := &waits[i]
		if !o.enhanced {
			continue
		}
		if e := end(o); e.Refused >= 0 {
			c.queue(o.control.unterminated(o.d, e.Cause))
		} else {
			c.queue(o.control.terminated(o.d))
		}
	}
}

// put writes a value that is no command.
func (c *session) put(e *entry, d *wire.Data) (refused int) {
	s := c.server
	switch {
	case e == nil:
		return family.AccessNotThere
	case e.report != nil:
		if d.Kind != e.kind {
			return family.AccessType
		}
		refused = e.report.write(c, e.name, d, time.Now())
		s.look()
		return refused
	case e.kind == family.NoKind || e.fc == "CO" || e.fc == "ST" || e.fc == "MX":
		return family.AccessDenied
	case d.Kind != e.kind:
		return family.AccessType
	}
	v, ok := plain(d)
	if !ok {
		return family.AccessUnsupported
	}
	r := family.Ref{Device: e.of.domain.name, Node: e.of.path[0], FC: e.fc}
	for at, name := range splitItem(e.item) {
		if at >= 2 {
			r.Path = append(r.Path, name)
		}
	}
	if refused, _ = s.config.Write(c.conn, e.of.domain.inst, r, v); refused < 0 {
		e.data = *d
	}
	return refused
}

func splitItem(item string) (parts []string) {
	from := 0
	for i := range item {
		if item[i] == '$' {
			parts, from = append(parts, item[from:i]), i+1
		}
	}
	return append(parts, item[from:])
}
