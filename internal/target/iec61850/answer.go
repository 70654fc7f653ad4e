package iec61850

import (
	"slices"
	"time"

	family "ferry/internal/core/family/iec61850"
	wire "ferry/internal/wire/iec61850"
)

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
