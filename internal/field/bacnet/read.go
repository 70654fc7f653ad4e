package bacnet

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	wire "ferry/internal/wire/bacnet"
)

// sought is a point with what is read for it.
type sought struct {
	protocol.Wanted
	place family.Place
	refs  []wire.Reference
}

// sought is what is read for points; what names no object is told in samples.
func seek(wanted []protocol.Wanted) (list []sought, samples []field.Sampled) {
	for _, w := range wanted {
		p, ok := family.PlaceOf(w.Address)
		if !ok {
			samples = append(samples, field.Sampled{ID: w.ID, Quality: value.Bad, Reason: "its address names no object"})
			continue
		}
		object := wire.ID(uint16(p.Type), p.Instance)
		s := sought{Wanted: w, place: p,
			refs: []wire.Reference{{Object: object, Property: uint32(p.Property), Index: p.Index}}}
		if p.Property == family.PresentValue {
			s.refs = append(s.refs, whole(object, family.StatusFlags))
		}
		list = append(list, s)
	}
	return list, samples
}

// Octets that a property takes in a question and in its answer at most, with its object.
const (
	refOctets    = 12
	resultOctets = 22
	headOctets   = 40
)

// AskItems asks for properties, with the status of those that have one.
func (c *conn) AskItems(wanted []protocol.Wanted) (reply field.Reply, samples []field.Sampled) {
	reply = c.owned(func(ctx context.Context) (reply field.Reply) {
		samples, reply = c.items(ctx, wanted)
		return reply
	})
	return reply, samples
}

// items reads points, in as many questions as it takes. The turn is held. A device may refuse a question for one of
// its points: it is asked again for halves, down to that one, which from then on is asked for alone.
func (c *conn) items(ctx context.Context, wanted []protocol.Wanted) ([]field.Sampled, field.Reply) {
	list, samples := seek(wanted)
	reply := field.Reply{Outcome: exchange.Answered}
	slices.SortStableFunc(list, func(a, b sought) int { return cmp.Compare(c.apart(&a), c.apart(&b)) })
	atOnce := len(list)
	for len(list) > 0 {
		n := min(len(list), c.bears(), atOnce)
		if at := slices.IndexFunc(list[:n], func(s sought) bool { return c.apart(&s) > 0 }); at >= 0 {
			n = max(at, 1)
		}
		results, is := c.properties(ctx, list[:n])
		if !is.OK() {
			if is.Outcome != exchange.Declined {
				return samples, is
			}
			if tooMuch(is.Code) {
				c.bearsLess(n)
			}
			atOnce = max(n/2, 1) // one alone is not refused as a whole
			continue
		}
		for i := range list[:n] {
			samples = append(samples, c.sampled(ctx, &list[i], results[i]))
		}
		reply, list = is, list[n:]
		if n == atOnce {
			atOnce *= 2
		}
	}
	return samples, reply
}

// apart is 1 for a point that is asked for alone, and 0 for others.
func (c *conn) apart(s *sought) int {
	if c.alone[s.ID] {
		return 1
	}
	return 0
}

func refusedSample(id string, code int) field.Sampled {
	return field.Sampled{ID: id, Quality: value.Bad, Code: code, Reason: "the device refuses it: " + family.Words(code)}
}

// tooMuch reports whether a device says with a code that it was asked for too much at once.
func tooMuch(code int) bool {
	return slices.Contains([]int{family.AbortCode(family.AbortBuffer), family.AbortCode(family.AbortNoSegments),
		family.AbortCode(family.AbortTooLong), family.AbortCode(0), family.AbortCode(9), family.RejectCode(1),
		family.RejectCode(7)}, code)
}

// bears is how many points one question may be about.
func (c *conn) bears() int {
	if c.single {
		return 1
	}
	n := max(1, (c.most-headOctets)/(2*max(refOctets, resultOctets)))
	if c.perAsk > 0 {
		n = min(n, c.perAsk)
	}
	return n
}

// bearsLess notes that so many were too many.
func (c *conn) bearsLess(n int) {
	c.perAsk = max(1, n/2)
	c.keep("perAsk", c.perAsk)
}

// properties reads what points want: with one question, or one for each property where the device knows no
// such question.
func (c *conn) properties(ctx context.Context, list []sought) ([][]result, field.Reply) {
	var refs []wire.Reference
	for i := range list {
		refs = append(refs, list[i].refs...)
	}
	if !c.single && c.apart(&list[0]) == 0 {
		base := c.answered()
		m, reply := c.ask(ctx, wire.ReadPropertyMultiple, wire.AppendReadMultiple(nil, refs), false)
		switch {
		case reply.OK():
			results, err := wire.ParseMultipleAnswer(m.Body, m.BodyAt)
			if err != nil {
				return nil, garbled(err)
			}
			return parted(list, results, base, m.BodyAt > 0)
		case reply.Outcome == exchange.Declined && reply.Code == family.RejectCode(family.RejectUnknownService):
			c.single = true
		case reply.Outcome == exchange.Declined && len(list) == 1: // one at a time says which it is
			if list[0].ID != "" {
				c.alone[list[0].ID] = true
			}
		default:
			return nil, reply
		}
	}
	all := make([][]result, len(list))
	reply := field.Reply{Outcome: exchange.Answered}
	for i := range list {
		for _, ref := range list[i].refs {
			base := c.answered()
			m, is := c.ask(ctx, wire.ReadProperty, wire.AppendReadProperty(nil, ref), false)
			r := result{base: base, plain: m.BodyAt > 0}
			switch {
			case is.OK():
				of, values, err := wire.ParseReadAnswer(m.Body, m.BodyAt)
				if err != nil {
					return nil, garbled(err)
				}
				if of != ref {
					return nil, garbled(fmt.Errorf("it answers another question than that for %s", place(ref)))
				}
				r.values = values
			case is.Outcome == exchange.Declined:
				r.code = is.Code
			default:
				return nil, is
			}
			all[i] = append(all[i], r)
		}
		reply.Left = true
	}
	return all, reply
}

// result is what a property was read as. base is where the datagram begins among all octets that came, plain
// is set where the places of its values are those in it.
type result struct {
	values []wire.Value
	code   int // of a refusal, 0 for none
	base   int
	plain  bool
}

// answered is how many octets have come for the question so far.
func (c *conn) answered() (octets int) {
	for _, f := range c.turn.Frames() {
		if !f.Out && !f.Late {
			octets += len(f.Octets)
		}
	}
	return octets
}

// whole is a property of an object, place what a reference is as an address.
func whole(o wire.ObjectID, p family.Property) wire.Reference {
	return wire.Reference{Object: o, Property: uint32(p), Index: wire.Whole}
}

func place(r wire.Reference) family.Place {
	return family.Place{Type: family.Type(r.Object.Type()), Instance: r.Object.Instance(),
		Property: family.Property(r.Property), Index: r.Index}
}

// parted gives each point its results. An answer that is of anything else than was asked is none.
func parted(list []sought, results []wire.Result, base int, plain bool) ([][]result, field.Reply) {
	all := make([][]result, len(list))
	at := 0
	for i := range list {
		for _, ref := range list[i].refs {
			if at >= len(results) || results[at].Reference != ref {
				return nil, garbled(fmt.Errorf("in the place of %s it has something else", place(ref)))
			}
			r := result{values: results[at].Values, base: base, plain: plain}
			if f := results[at].Failed; f != nil {
				r.code = family.ErrorCode(f.Class, f.Code)
			}
			all[i] = append(all[i], r)
			at++
		}
	}
	if at < len(results) {
		return nil, garbled(fmt.Errorf("it has %d results for %d properties", len(results), at))
	}
	return all, field.Reply{Outcome: exchange.Answered, Left: true}
}

// sampled is the value of a point out of its results.
func (c *conn) sampled(ctx context.Context, s *sought, results []result) field.Sampled {
	first := &results[0]
	if first.code != 0 {
		return refusedSample(s.ID, first.code)
	}
	sample := field.Sampled{ID: s.ID, Quality: value.Good}
	if len(first.values) > 0 {
		if v := &first.values[0]; first.plain && first.base >= 0 {
			sample.From, sample.To = first.base+v.From, first.base+first.values[len(first.values)-1].To
		}
		for i := range first.values {
			sample.Words = first.values[i].Append(sample.Words)
		}
	}
	if len(results) > 1 && len(results[1].values) == 1 {
		sample.Quality, sample.Reason = judged(&results[1].values[0])
		if sample.Quality == value.Bad {
			sample.Reason = c.reliability(ctx, s.place)
		}
	}
	c.fill(&sample, s, first.values)
	return sample
}

// fill has a sample hold a value.
func (c *conn) fill(sample *field.Sampled, s *sought, values []wire.Value) {
	v, err := asValue(values, s.place, s.Shape)
	if err != nil {
		sample.Quality, sample.Reason = value.Bad, err.Error()
		if s.Shape.Type != "" && len(values) > 0 && values[0].Tag != wire.TagNull {
			sample.Cause = exchange.Unfitting
		}
		return
	}
	sample.Value = v
}

// Bits of the status (clause 21, BACnetStatusFlags).
const (
	flagFault      = 1
	flagOverridden = 2
	flagNotService = 3
	flagCount      = 4
)

// judged is the quality that a status stands for.
func judged(flags *wire.Value) (value.Quality, string) {
	switch {
	case flags.Tag != wire.TagBits || flags.Size < flagCount:
		return value.Doubtful, "its status cannot be read"
	case flags.Bit(flagFault):
		return value.Bad, "the device says that it has a fault"
	case flags.Bit(flagNotService):
		return value.Doubtful, "it is out of service: the value is not that of its source"
	case flags.Bit(flagOverridden):
		return value.Doubtful, "it is overridden at the device"
	}
	return value.Good, ""
}

// reliability says why an object has a fault.
func (c *conn) reliability(ctx context.Context, p family.Place) string {
	const faulty = "the device says that it has a fault"
	ref := whole(wire.ID(uint16(p.Type), p.Instance), family.Reliability)
	m, reply := c.ask(ctx, wire.ReadProperty, wire.AppendReadProperty(nil, ref), false)
	if !reply.OK() {
		return faulty
	}
	_, values, err := wire.ParseReadAnswer(m.Body, m.BodyAt)
	if err != nil || len(values) != 1 || values[0].Tag != wire.TagEnumerated || values[0].Uint == 0 {
		return faulty
	}
	return faulty + ": " + family.ReliabilityWords(values[0].Uint)
}

// asValue is what a property holds, as a point of a shape has it.
func asValue(list []wire.Value, p family.Place, shape value.Shape) (v value.Value, err error) {
	switch {
	case len(list) == 1 && list[0].Tag == wire.TagNull && !list[0].Constructed && p.Property == family.PriorityArray:
		return v, fmt.Errorf("nobody commands it at priority %d", p.Index)
	case len(list) == 1 && !list[0].Constructed && !shape.Type.IsText():
		v, err = list[0].Native()
	default:
		v = value.OfText(spell(list))
	}
	switch {
	case err != nil:
	case shape.Type == value.TypeBool && v.Kind() == value.Uint && v.Uint() <= 1: // an enumeration of both states
		v = value.OfBool(v.Uint() == 1)
	case shape.Type != value.TypeBool && shape.Type != "" && v.Kind() == value.Bool:
		v = value.OfUint(uint64(v.Float()))
	}
	if err == nil && v.Kind() == value.Text && shape.Type != "" && !shape.Type.IsText() {
		err = fmt.Errorf("%s is a text, and the map says %s", p, shape.Type)
	}
	return v, err
}

// mostSpelled bounds the text for a list.
const mostSpelled = 2000

// spell is a list of values as a text.
func spell(list []wire.Value) string {
	var b strings.Builder
	for i := range list {
		if i > 0 {
			b.WriteString(", ")
		}
		if b.Len() > mostSpelled {
			b.WriteString("…")
			break
		}
		switch w := &list[i]; {
		case w.Constructed:
			b.WriteString("{" + spell(w.Parts) + "}")
		case w.Tag == wire.TagText && !w.Opaque:
			b.WriteString(w.Text)
		default:
			b.WriteString(w.String())
		}
	}
	return b.String()
}

// Look asks for objects that may not be there.
func (c *conn) Look(list []address.Address) (looked []protocol.Looked, reply field.Reply) {
	reply = c.owned(func(ctx context.Context) field.Reply {
		wanted := make([]protocol.Wanted, len(list))
		for i, a := range list {
			looked = append(looked, protocol.Looked{Address: a, Presence: protocol.Missing})
			wanted[i] = protocol.Wanted{ID: strconv.Itoa(i), Address: a}
		}
		samples, reply := c.items(ctx, wanted)
		for _, s := range samples {
			i, err := strconv.Atoi(s.ID)
			if err != nil {
				continue
			}
			l := &looked[i]
			l.Reason = s.Reason
			switch {
			case s.Code == family.ErrorCode(2, 27):
				l.Presence = protocol.Barred
			case s.Code != 0:
			case s.Value.IsNone():
				l.Presence = protocol.Unclear
			default:
				l.Presence, l.Value = protocol.Here, s.Value
				l.Type = family.Scheme.(address.Kinds).Holds(l.Address)
				if p, ok := family.PlaceOf(l.Address); ok {
					l.Writable = p.Type.Commanded()
				}
			}
		}
		return reply
	})
	return looked, reply
}
