package bacnet

import (
	"fmt"
	"math"
)

// Range are the instances that are asked for, both ends included (WhoIs-Request); all where First is
// greater than Last.
type Range struct{ First, Last uint32 }

// Everybody asks for all instances.
var Everybody = Range{1, 0}

// Asks reports whether an instance is asked for.
func (r Range) Asks(instance uint32) bool {
	return r.First > r.Last || instance >= r.First && instance <= r.Last
}

// AppendWhoIs appends the body of the question who is there.
func AppendWhoIs(b []byte, of Range) []byte {
	if of.First > of.Last {
		return b
	}
	return ContextUint(ContextUint(b, 0, uint64(of.First)), 1, uint64(of.Last))
}

// ParseWhoIs reads one.
func ParseWhoIs(b []byte, from int) (of Range, err error) {
	if len(b) == 0 {
		return Everybody, nil
	}
	r := &reader{b, from}
	if of.First, err = r.small(0); err != nil {
		return of, err
	}
	if of.Last, err = r.small(1); err != nil {
		return of, err
	}
	if of.First > of.Last || of.Last > AnyInstance {
		return of, fmt.Errorf("it asks for the instances from %d to %d", of.First, of.Last)
	}
	return of, r.over()
}

// Presence is who is there (I-Am-Request).
type Presence struct {
	Device       ObjectID
	MostOctets   uint32
	Segmentation Segmentation
	Vendor       uint32
}

// Segmentation says what parts a device takes and sends (BACnetSegmentation).
type Segmentation uint8

// The kinds of segmentation.
const (
	SegmentsBoth Segmentation = iota
	SegmentsSent
	SegmentsTaken
	SegmentsNot
)

// Append appends the body.
func (p *Presence) Append(b []byte) []byte {
	for _, v := range []Value{Object(p.Device), Unsigned(uint64(p.MostOctets)), Enumerated(uint64(p.Segmentation)),
		Unsigned(uint64(p.Vendor))} {
		b = v.Append(b)
	}
	return b
}

// plain reads values of the application, of the kinds that are wanted.
func (r *reader) plain(kinds ...uint8) ([]Value, error) {
	list := make([]Value, 0, len(kinds))
	for _, kind := range kinds {
		e, err := r.next()
		if err != nil {
			return nil, err
		}
		v, err := valueOf(&e)
		if err != nil || e.Context || v.Tag != kind {
			return nil, fmt.Errorf("at octet %d a value of type %d is missing", e.From, kind)
		}
		list = append(list, v)
	}
	return list, r.over()
}

// ParseIAm reads one.
func ParseIAm(b []byte, from int) (p Presence, err error) {
	list, err := (&reader{b, from}).plain(TagObject, TagUnsigned, TagEnumerated, TagUnsigned)
	if err != nil {
		return p, err
	}
	if list[2].Uint > uint64(SegmentsNot) {
		return p, fmt.Errorf("the segmentation is %d", list[2].Uint)
	}
	return Presence{list[0].Object, uint32(min(list[1].Uint, math.MaxUint32)), Segmentation(list[2].Uint),
		uint32(min(list[3].Uint, math.MaxUint32))}, nil
}

// Sought is what is looked for in devices of a range: an object by its identifier, or by its name
// (WhoHas-Request).
type Sought struct {
	Range
	Object ObjectID
	Name   string
	ByName bool
}

// Append appends the body.
func (s *Sought) Append(b []byte) []byte {
	b = AppendWhoIs(b, s.Range)
	if s.ByName {
		return tagged(b, 3, true, append([]byte{charsUTF8}, s.Name...))
	}
	return ContextObject(b, 2, s.Object)
}

// ParseWhoHas reads one.
func ParseWhoHas(b []byte, from int) (s Sought, err error) {
	r := &reader{b, from}
	s.Range = Everybody
	if r.peek(0) {
		if s.First, err = r.small(0); err != nil {
			return s, err
		}
		if s.Last, err = r.small(1); err != nil {
			return s, err
		}
	}
	if s.ByName = r.peek(3); s.ByName {
		e, err := r.value(3)
		if err != nil {
			return s, err
		}
		if s.Name, err = textOf(e.Content); err != nil {
			return s, err
		}
		return s, r.over()
	}
	if s.Object, err = r.object(2); err != nil {
		return s, err
	}
	return s, r.over()
}

// Found is who has what was sought (I-Have-Request).
type Found struct {
	Device, Object ObjectID
	Name           string
}

// Append appends the body.
func (f *Found) Append(b []byte) []byte {
	for _, v := range []Value{Object(f.Device), Object(f.Object), Text(f.Name)} {
		b = v.Append(b)
	}
	return b
}

// ParseIHave reads one.
func ParseIHave(b []byte, from int) (f Found, err error) {
	list, err := (&reader{b, from}).plain(TagObject, TagObject, TagText)
	if err != nil {
		return f, err
	}
	return Found{list[0].Object, list[1].Object, list[2].Text}, nil
}
