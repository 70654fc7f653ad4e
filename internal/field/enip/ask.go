package enip

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/enip"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	wire "ferry/internal/wire/enip"
)

var le = binary.LittleEndian

// asked is one question of a message, for all places that lie in one tag or attribute.
type asked struct {
	request wire.Request
	wanted  []protocol.Wanted
	bits    []int // of a tag, that each wants; -1 for the whole
	// elements is how many of an array are asked for at once, each of so many octets; 1 for
	// no array.
	elements, octets int
	whole            bool // what was answered was put together of several answers
}

// questions are those for places: one for each tag, and for each attribute.
func questions(wanted []protocol.Wanted) (list []asked, wrong []field.Sampled) {
	of := map[string]int{}
	for _, w := range wanted {
		q := asked{}
		bit := -1
		if at, ok := family.AttributeOf(w.Address); ok {
			q.request = wire.Request{Service: wire.GetSingle, Path: wire.PathTo(at.Class, at.Instance, at.Number)}
		} else {
			name, _ := family.TagOf(w.Address)
			path, at, err := pathOf(name)
			if err != nil {
				wrong = append(wrong, field.Sampled{ID: w.ID, Quality: value.Bad, Reason: err.Error()})
				continue
			}
			bit = at
			q.request = wire.Request{Service: wire.ReadTag, Path: path, Data: []byte{1, 0}}
		}
		key := q.request.Path.String()
		i, shared := of[key]
		if !shared {
			i = len(list)
			of[key], list = i, append(list, q)
		}
		list[i].wanted, list[i].bits = append(list[i].wanted, w), append(list[i].bits, bit)
	}
	return together(list), wrong
}

// mostElements bounds those of an array that are asked for at once.
const mostElements = 2000

// together makes one question of those for elements of an array that follow each other.
func together(list []asked) []asked {
	merged := list[:0]
	for _, q := range list {
		q.elements = 1
		q.octets = family.KindOf(q.wanted[0].Shape.Type).Octets()
		if n := len(merged); n > 0 && merged[n-1].follows(&q) {
			last := &merged[n-1]
			last.elements++
			last.wanted, last.bits = append(last.wanted, q.wanted...), append(last.bits, q.bits...)
			last.request.Data = le.AppendUint16(nil, uint16(last.elements))
			continue
		}
		merged = append(merged, q)
	}
	return merged
}

// follows reports whether next asks for the element behind the last one of q.
func (q *asked) follows(next *asked) bool {
	one := func(a *asked) (path *wire.Path, index uint32, ok bool) {
		names := a.request.Path.Names
		if a.request.Service != wire.ReadTag || len(names) == 0 || a.octets == 0 ||
			a.wanted[0].Shape.Type == value.TypeBool || len(a.wanted) != a.elements || a.bits[0] >= 0 {
			return nil, 0, false
		}
		last := names[len(names)-1]
		if len(last.Indexes) != 1 {
			return nil, 0, false
		}
		return &a.request.Path, last.Indexes[0], true
	}
	p, from, ok := one(q)
	r, at, okNext := one(next)
	if !ok || !okNext || q.elements >= mostElements || len(p.Names) != len(r.Names) ||
		q.wanted[0].Shape.Type != next.wanted[0].Shape.Type {
		return false
	}
	k := len(p.Names) - 1
	for i := range p.Names[:k] {
		if p.Names[i].Text != r.Names[i].Text || !slices.Equal(p.Names[i].Indexes, r.Names[i].Indexes) {
			return false
		}
	}
	return p.Names[k].Text == r.Names[k].Text && at == from+uint32(q.elements)
}

// partial is the status of an answer that holds only the first part.
const partial = 0x06

// mostParts and mostWhole bound what is put together of parts.
const (
	mostParts = 400
	mostWhole = 1 << 16
)

// rest asks for what did not fit into the answer to a question for a tag (Read Tag Fragmented:
// the count of elements, and the octet from which on).
func (c *conn) rest(q *asked, a *wire.Answer) *field.Reply {
	if a.Status != partial || q.request.Service != wire.ReadTag {
		return nil
	}
	whole := append([]byte(nil), a.Data...)
	for part := 0; a.Status == partial; part++ {
		if len(whole) < 2 || part >= mostParts || len(whole) > mostWhole {
			reply := c.Garbled(fmt.Errorf("the parts of the answer have no end, after %d octets", len(whole)))
			return &reply
		}
		r := wire.Request{Service: wire.ReadPart, Path: q.request.Path,
			Data: le.AppendUint32(append([]byte(nil), q.request.Data...), uint32(len(whole)-2))}
		more, failed := c.ask(&r, nil)
		if failed != nil {
			return failed
		}
		if more.Status != 0 && more.Status != partial {
			*a = more
			return nil
		}
		if len(more.Data) <= 2 || more.Data[0] != whole[0] || more.Data[1] != whole[1] {
			reply := c.Garbled(fmt.Errorf("a part of the answer holds nothing, or another type"))
			return &reply
		}
		whole = append(whole, more.Data[2:]...)
		a.Status = more.Status
	}
	a.Data, q.whole = whole, true
	return nil
}

func pathOf(name string) (p wire.Path, bit int, err error) {
	parts, bit, err := family.ParseTag(name)
	p = wire.Path{Class: -1, Instance: -1, Attribute: -1}
	for _, part := range parts {
		p.Names = append(p.Names, wire.Name{Text: part.Text, Indexes: part.Indexes})
	}
	return p, bit, err
}

// AskItems asks for places in one message where the device takes several questions in
// one, and one by one where it does not.
func (c *conn) AskItems(wanted []protocol.Wanted) (reply field.Reply, samples []field.Sampled) {
	reply = c.Question(true, func() field.Reply {
		var one field.Reply
		one, samples = c.askItems(wanted)
		return one
	})
	return reply, samples
}

func (c *conn) askItems(wanted []protocol.Wanted) (field.Reply, []field.Sampled) {
	list, samples := questions(wanted)
	done := field.Reply{Outcome: exchange.Answered, Left: true}
	if len(list) > 1 && !c.single {
		messages := make([][]byte, len(list))
		for i := range list {
			messages[i] = list[i].request.Append(nil)
		}
		a, failed := c.ask(&wire.Request{Service: wire.Multiple, Path: wire.PathTo(wire.ClassRouter, 1, -1),
			Data: wire.AppendMultiple(nil, messages...)}, nil)
		if failed != nil {
			return *failed, nil
		}
		const notKnown, oneFailed = 0x08, 0x1E
		switch a.Status {
		case 0, oneFailed:
			answers, err := wire.ParseMultiple(a.Data)
			if err == nil && len(answers) != len(list) {
				err = fmt.Errorf("%d questions were asked in one message, and %d are answered", len(list), len(answers))
			}
			if err != nil {
				return c.Garbled(err), nil
			}
			for i := range list {
				answer, err := wire.ParseAnswer(answers[i])
				if err == nil && answer.Service != list[i].request.Service {
					err = fmt.Errorf("it answers service %02X, and %02X was asked", answer.Service, list[i].request.Service)
				}
				if err != nil {
					return c.Garbled(err), nil
				}
				if failed := c.rest(&list[i], &answer); failed != nil {
					return *failed, nil
				}
				c.learn(&list[i].request, &answer)
				samples = append(samples, list[i].samples(&answer, c.PlaceOf)...)
			}
			return done, samples
		case notKnown:
			c.single = true // a device that takes one question in a message
			done.Manner |= exchange.Singly
		default:
			return declined(&a), nil
		}
	}
	for i := range list {
		a, failed := c.ask(&list[i].request, nil)
		if failed != nil {
			return *failed, nil
		}
		if failed := c.rest(&list[i], &a); failed != nil {
			return *failed, nil
		}
		c.learn(&list[i].request, &a)
		got := list[i].samples(&a, c.PlaceOf)
		if len(list) == 1 && a.Status != 0 {
			return declined(&a), got
		}
		samples = append(samples, got...)
	}
	return done, samples
}

// samples are what an answer brings;
// place says where in the octets of the answer some of them begin.
func (q *asked) samples(a *wire.Answer, place func([]byte) int) (list []field.Sampled) {
	for i, w := range q.wanted {
		s := field.Sampled{ID: w.ID, Quality: value.Good}
		var err error
		switch {
		case a.Status != 0:
			no := declined(a)
			s.Quality, s.Reason, s.Code = value.Bad, no.Sentence, no.Code
		case q.request.Service == wire.ReadTag:
			data, at := a.Data, 0
			if q.elements > 1 && len(data) >= 2 {
				if at = i * q.octets; len(data) < 2+at+q.octets {
					err = fmt.Errorf("%d elements were asked for, and the answer ends before this one", q.elements)
					break
				}
				data = append(append(make([]byte, 0, 2+q.octets), data[:2]...), data[2+at:2+at+q.octets]...)
			}
			s.Value, err = valueOfTag(data, q.bits[i], w.Shape)
			if s.From, s.To = -1, -1; !q.whole {
				s.From = place(a.Data) + 2 + at
				s.To = s.From + len(data) - 2
			}
		default:
			var at, octets int
			s.Value, at, octets, err = valueIn(a.Data, w)
			s.From = place(a.Data) + at
			s.To = s.From + octets
		}
		if err != nil {
			s = field.Sampled{ID: w.ID, Quality: value.Bad, Reason: err.Error(), Cause: exchange.Unfitting}
		}
		list = append(list, s)
	}
	return list
}

// valueOfTag reads a type, and the value behind it.
func valueOfTag(data []byte, bit int, shape value.Shape) (v value.Value, err error) {
	if len(data) < 2 {
		return v, fmt.Errorf("the answer has no type")
	}
	kind := family.Kind(le.Uint16(data))
	if data[0] == byte(family.Structure) {
		kind = family.Structure
	}
	if why := kind.Fits(shape.Type, bit >= 0); why != "" {
		return v, fmt.Errorf("%s", why)
	}
	v, _, err = kind.Decode(data[2:])
	if err != nil || bit < 0 {
		return v, err
	}
	if bit >= 8*kind.Octets() {
		return v, fmt.Errorf("%s has no bit %d", kind, bit)
	}
	return value.OfBool(v.Uint()>>bit&1 != 0), nil
}

// valueIn reads a value out of an attribute.
func valueIn(data []byte, w protocol.Wanted) (v value.Value, from, octets int, err error) {
	at, _ := family.AttributeOf(w.Address)
	if at.Octet >= len(data) {
		return v, 0, 0, fmt.Errorf("the attribute has %d octets, and the map has the value from octet %d on", len(data),
			at.Octet)
	}
	data = data[at.Octet:]
	if at.Bit >= 0 {
		return value.OfBool(data[0]>>at.Bit&1 != 0), at.Octet, 1, nil
	}
	if w.Shape.Type.IsText() {
		kind := family.ShortString
		if len(data) >= 2 && int(le.Uint16(data)) == len(data)-2 && int(data[0]) != len(data)-1 {
			kind = family.STRING
		}
		if int(data[0])+1 > len(data) && kind == family.ShortString {
			// without a count
			return value.OfText(strings.TrimRight(strings.ToValidUTF8(string(data), "?"), "\x00")), at.Octet, len(data), nil
		}
		v, octets, err = kind.Decode(data)
		return v, at.Octet, octets, err
	}
	kind := family.KindOf(w.Shape.Type)
	if kind == 0 {
		return v, 0, 0, fmt.Errorf("EtherNet/IP has no %s: choose another type", w.Shape.Type)
	}
	v, octets, err = kind.Decode(data)
	return v, at.Octet, octets, err
}
