package dnp3

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/dnp3"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	wire "ferry/internal/wire/dnp3"
)

// Follow begins to poll an outstation: what it sends unasked is held back until all that is there
// was read (IEEE 1815, clause 5.1.6), then enabled by class.
func (c *conn) Follow(wanted []protocol.Wanted) (field.Reply, []field.Refusal) {
	s := c.toward()
	if err := c.own(); err != nil {
		return c.gone(), nil
	}
	defer c.release()
	s.mu.Lock()
	s.follows = false
	s.wanted = map[family.Object][]protocol.Wanted{}
	clear(s.told)
	for _, w := range wanted {
		if o, ok := family.ObjectOf(w.Address); ok {
			o.How = family.Latch // how it is operated is not how it is read
			s.wanted[o] = append(s.wanted[o], w)
		}
	}
	s.due = due{}
	s.mu.Unlock()
	if len(wanted) == 0 {
		return s.greet(), nil
	}
	if c.trial {
		s.mu.Lock()
		s.follows = true
		s.mu.Unlock()
		if reply := s.poll("what stands there", objectsOf(0), c.breaks); !reply.OK() {
			return reply, nil
		}
		return field.Reply{Outcome: exchange.Answered, Left: true}, s.absent(wanted)
	}
	var first answer
	if s.unasks() { // else what it sends so is none of this end's to stop: another may have enabled it
		if first = s.ask(&question{function: wire.FnDisable, objects: objectsOf(1, 2, 3)}, c.breaks); !first.OK() {
			return first.Reply, nil
		}
	}
	s.mu.Lock()
	s.follows = true
	s.mu.Unlock()
	if first.indications&wire.Restarted != 0 {
		s.clearRestart(c.breaks)
	}
	if reply := s.poll("integrity poll", everything(), c.breaks); !reply.OK() {
		return reply, nil
	}
	refused := s.absent(wanted)
	last := s.enable(c.breaks)
	last.Frames = append(slices.Clone(first.Frames), last.Frames...)
	s.plan()
	if reply, no := last.refusal("to send events unasked"); no {
		return reply, refused
	}
	return last.Reply, refused
}

// gone is the reply where there is no connection any more, or somebody called the question off.
func (c *conn) gone() field.Reply {
	if c.over.Load() {
		return c.Ended()
	}
	return field.Failure(field.ErrCalledOff, false)
}

// absent asks for those points by themselves that the integrity poll did not bring: they may be in no
// class, or not there.
func (s *station) absent(wanted []protocol.Wanted) (refused []field.Refusal) {
	var missing []protocol.Wanted
	s.mu.Lock()
	for _, w := range wanted {
		o, ok := family.ObjectOf(w.Address)
		o.How = family.Latch
		if _, known := s.told[o]; ok && !known {
			missing = append(missing, w)
		}
	}
	s.mu.Unlock()
	for part := range slices.Chunk(missing, askedAtOnce) {
		a, samples := s.askItems(part)
		report := field.Report{Operation: rulesOf(s.conn.def).Asking(part), Frames: a.Frames, Of: int(s.address) + 1,
			At: a.SentAt}
		for i := range a.messages {
			report.Octets = append(report.Octets, a.messages[i].octets...)
		}
		for _, sample := range samples {
			if sample.Code == 0 {
				report.Samples = append(report.Samples, sample)
				continue
			}
			refused = append(refused, field.Refusal{ID: sample.ID, Code: sample.Code, Sentence: sample.Reason})
		}
		s.conn.hand(report)
	}
	return refused
}

func rulesOf(def *protocol.Def) protocol.Asks {
	asks, _ := def.Asks()
	return asks
}

// askedAtOnce is how many objects are asked for with one question by their indexes.
const askedAtOnce = 30

// AskItems asks for objects by their indexes.
func (c *conn) AskItems(wanted []protocol.Wanted) (field.Reply, []field.Sampled) {
	if err := c.own(); err != nil {
		return c.gone(), nil
	}
	defer c.release()
	s := c.toward()
	a, samples := s.askItems(wanted)
	if reply, refused := a.refusal("the question"); refused && len(samples) == 0 {
		return reply, nil
	}
	return a.Reply, samples
}

// askItems asks for objects by their indexes, those that follow each other as one range. What the
// outstation leaves out it does not have. The turn is held.
func (s *station) askItems(wanted []protocol.Wanted) (a answer, samples []field.Sampled) {
	of := map[family.Object][]protocol.Wanted{}
	var names []family.Object
	for _, w := range wanted {
		o, ok := family.ObjectOf(w.Address)
		if !ok {
			samples = append(samples, bad(w, 0, "it is no object"))
			continue
		}
		if o.How = family.Latch; of[o] == nil {
			names = append(names, o)
		}
		of[o] = append(of[o], w)
	}
	slices.SortFunc(names, func(x, y family.Object) int { return family.Scheme.Compare(x.Address(), y.Address()) })
	a = s.ask(&question{function: wire.FnRead, objects: rangesOf(names)}, s.conn.breaks)
	if !a.OK() {
		return a, samples
	}
	from := 0
	for i := range a.messages {
		m := &a.messages[i]
		head := len(m.Fragment.Append(nil)) - len(m.Objects)
		err := wire.Objects(m.Objects, func(o wire.Object) {
			kind, _ := family.KindOf(o.Group)
			name := family.Object{Kind: kind, Index: o.Index}
			for _, w := range of[name] {
				sample := field.Sampled{ID: w.ID, Value: o.Value, Quality: value.Good, Time: o.At,
					From: from + m.place(head+o.From), To: from + m.place(head+o.To-1) + 1,
					Words: m.Objects[o.From:o.To]}
				if o.Flagged {
					sample.Quality, sample.Reason = family.QualityOf(kind, o.Flags)
				}
				samples = append(samples, sample)
			}
			delete(of, name)
		})
		if err != nil {
			a.Outcome, a.Sentence = exchange.Garbled, err.Error()
			return a, samples
		}
		from += len(m.octets)
	}
	code := family.Indicated(byte(a.indications >> 8))
	if a.indications&(wire.NoFunction|wire.ObjectUnknown|wire.ParameterError) == 0 {
		code = family.Indicated(family.IndNoObject)
	}
	if len(names) > 1 && len(of) > 0 && a.indications&(wire.ObjectUnknown|wire.ParameterError) != 0 {
		return s.oneByOne(names, of, a, samples) // some refuse a question as a whole for one of its ranges
	}
	for _, name := range names {
		for _, w := range of[name] {
			samples = append(samples,
				bad(w, code, fmt.Sprintf("the outstation does not tell of %s: %s", name, family.Words(code))))
		}
	}
	return a, samples
}

// oneByOne asks for each object alone that did not come with the others.
func (s *station) oneByOne(names []family.Object, of map[family.Object][]protocol.Wanted, all answer,
	samples []field.Sampled) (answer, []field.Sampled) {
	for _, name := range names {
		if len(of[name]) == 0 {
			continue
		}
		a, more := s.askItems(of[name])
		all.Frames = append(all.Frames, a.Frames...)
		from := 0
		for i := range all.messages {
			from += len(all.messages[i].octets)
		}
		for i := range more {
			more[i].From, more[i].To = more[i].From+from, more[i].To+from
		}
		all.messages = append(all.messages, a.messages...)
		if samples = append(samples, more...); !a.OK() {
			all.Reply = a.Reply
			return all, samples
		}
	}
	return all, samples
}

func bad(w protocol.Wanted, code int, why string) field.Sampled {
	return field.Sampled{ID: w.ID, Quality: value.Bad, Code: code, Reason: why}
}

// rangesOf are the headers that ask for objects in their order: one for each run of indexes.
func rangesOf(names []family.Object) (objects []byte) {
	for i := 0; i < len(names); {
		n := 1
		for i+n < len(names) && names[i+n].Kind == names[i].Kind && names[i+n].Index == names[i].Index+uint32(n) {
			n++
		}
		h := wire.Header{Group: names[i].Kind.Static(), Qualifier: wire.FromTo8, Start: names[i].Index, Count: uint32(n)}
		if h.Start+h.Count > 256 {
			h.Qualifier = wire.FromTo16
		}
		objects = h.Append(objects)
		i += n
	}
	return objects
}

// Greet asks for the state of the link, and where nothing comes, for the time: some answer only that.
func (c *conn) Greet() field.Reply {
	if err := c.own(); err != nil {
		return c.gone()
	}
	defer c.release()
	return c.toward().greet()
}

func (s *station) greet() field.Reply {
	tape, ok := s.state(s.conn.life, s.conn.breaks)
	if ok {
		return field.Reply{Outcome: exchange.Answered, Left: true, Frames: tape.Frames(), SentAt: tape.Began()}
	}
	a := s.ask(&question{function: wire.FnRead, objects: []byte{50, 1, wire.Count8, 1}}, s.conn.breaks)
	a.Frames = append(tape.Frames(), a.Frames...)
	return a.Reply
}

// Identify asks for the attributes that say who made the outstation, what it is, and of which version
// (IEEE 1815, clause 11.9.1).
func (c *conn) Identify() (text, by string, reply field.Reply) {
	if err := c.own(); err != nil {
		return "", "", c.gone()
	}
	defer c.release()
	var objects []byte
	for _, variation := range []byte{wire.AttrManufacturer, wire.AttrProduct, wire.AttrSoftware} {
		objects = append(objects, 0, variation, wire.FromTo8, 0, 0)
	}
	a := c.toward().ask(&question{function: wire.FnRead, objects: objects, once: true}, c.breaks)
	var said []string
	for i := range a.messages {
		if err := wire.Objects(a.messages[i].Objects, func(o wire.Object) {
			if o.Group == 0 && o.Value.Text() != "" {
				said = append(said, o.Value.Text())
			}
		}); err != nil {
			a.Outcome, a.Sentence = exchange.Garbled, err.Error()
		}
	}
	return strings.Join(said, ", "), "device attributes", a.Reply
}

// List tells of all objects that the outstation has in class 0: those that it leaves out of it are not
// among them.
func (c *conn) List(string) (held []protocol.Held, next string, reply field.Reply) {
	if err := c.own(); err != nil {
		return nil, "", c.gone()
	}
	defer c.release()
	a := c.toward().ask(&question{function: wire.FnRead, objects: objectsOf(0)}, c.breaks)
	if reply, refused := a.refusal("to tell of class 0"); refused || !a.OK() {
		return nil, "", reply
	}
	for i := range a.messages {
		if err := wire.Objects(a.messages[i].Objects, func(o wire.Object) {
			if h, ok := heldOf(&o); ok {
				held = append(held, h)
			}
		}); err != nil {
			a.Outcome, a.Sentence = exchange.Garbled, err.Error()
			return nil, "", a.Reply
		}
	}
	return held, "", a.Reply
}

// heldOf is what stands at an object of class 0.
func heldOf(o *wire.Object) (h protocol.Held, ok bool) {
	kind, event := family.KindOf(o.Group)
	if kind == family.NoKind || event || o.Value.IsNone() {
		return h, false
	}
	name := family.Object{Kind: kind, Index: o.Index}
	h = protocol.Held{Address: name.Address(), Name: fmt.Sprintf("%s %d", kind.Title(), o.Index),
		Shape:    value.Shape{Type: kind.Holds(), Bit: -1},
		Writable: kind.Command() != 0}
	switch {
	case kind == family.OctetString:
		h.Shape.Length = int(o.Variation)
	case kind == family.AnalogInput || kind == family.AnalogOutput:
		h.Shape.Type = analogTypes[o.Group][o.Variation]
	case kind == family.Counter || kind == family.FrozenCounter:
		if o.Variation%2 == 0 {
			h.Shape.Type = value.TypeUint16
		}
	}
	return h, h.Shape.Type != ""
}

// analogTypes are those of analogue objects by group and variation.
var analogTypes = map[byte]map[byte]value.Type{
	30: {1: value.TypeInt32, 2: value.TypeInt16, 3: value.TypeInt32, 4: value.TypeInt16, 5: value.TypeFloat32,
		6: value.TypeFloat64},
	40: {1: value.TypeInt32, 2: value.TypeInt16, 3: value.TypeFloat32, 4: value.TypeFloat64},
}

// Look asks for objects that may not be there.
func (c *conn) Look(list []address.Address) ([]protocol.Looked, field.Reply) {
	if err := c.own(); err != nil {
		return nil, c.gone()
	}
	defer c.release()
	looked := make([]protocol.Looked, len(list))
	wanted := make([]protocol.Wanted, len(list))
	for i, at := range list {
		looked[i] = protocol.Looked{Address: at, Presence: protocol.Missing}
		wanted[i] = protocol.Wanted{ID: strconv.Itoa(i), Address: at}
	}
	reply := field.Reply{Outcome: exchange.Answered}
	for part := range slices.Chunk(wanted, askedAtOnce) {
		a, samples := c.toward().askItems(part)
		frames := append(reply.Frames, a.Frames...)
		if reply = a.Reply; !a.OK() {
			return nil, reply
		}
		reply.Frames = frames
		for _, s := range samples {
			i, err := strconv.Atoi(s.ID)
			if err != nil || s.Code != 0 || s.Value.IsNone() {
				continue
			}
			l := &looked[i]
			l.Presence, l.Value, l.Reason = protocol.Here, s.Value, s.Reason
			o, _ := family.ObjectOf(l.Address)
			l.Type, l.Writable = o.Kind.Holds(), o.Kind.Command() != 0
			if s.Value.Kind() == value.Int {
				l.Type = value.TypeInt32
			}
		}
	}
	return looked, reply
}
