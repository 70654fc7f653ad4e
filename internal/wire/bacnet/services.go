package bacnet

import (
	"encoding/binary"
	"fmt"
	"math"
)

// Reference is a property of an object, or one element of it.
type Reference struct {
	Object   ObjectID
	Property uint32
	// Index is the element, 0 how many there are; -1 for the whole.
	Index int64
}

// Whole is the index of the whole property.
const Whole = -1

// mostIndex bounds the index of an element.
const mostIndex = math.MaxUint32

// AppendReadProperty appends the body of a question for a property (clause 21, ReadProperty-Request).
func AppendReadProperty(b []byte, r Reference) []byte {
	b = ContextUint(ContextObject(b, 0, r.Object), 1, uint64(r.Property))
	if r.Index >= 0 {
		b = ContextUint(b, 2, uint64(r.Index))
	}
	return b
}

// property reads a property with its index, behind the object, under tags of their own.
func (r *reader) property(ref *Reference, property, index uint8) (err error) {
	if ref.Property, err = r.small(property); err != nil {
		return err
	}
	ref.Index = Whole
	if e, _, err := next(r.b, r.from); err == nil && e.Context && e.Number == index && !e.Opens && !e.Closes {
		n, err := r.uint(index)
		if err != nil || n > mostIndex {
			return fmt.Errorf("the element at octet %d is none", e.From)
		}
		ref.Index = int64(n)
	}
	return nil
}

// ParseReadProperty reads one.
func ParseReadProperty(b []byte, from int) (ref Reference, err error) {
	r := &reader{b, from}
	if ref.Object, err = r.object(0); err != nil {
		return ref, err
	}
	if err = r.property(&ref, 1, 2); err != nil {
		return ref, err
	}
	return ref, r.over()
}

// AppendReadAnswer appends the body of the answer (ReadProperty-ACK).
func AppendReadAnswer(b []byte, ref Reference, values []Value) []byte {
	b = Open(AppendReadProperty(b, ref), 3)
	for i := range values {
		b = values[i].Append(b)
	}
	return Close(b, 3)
}

// ParseReadAnswer reads one.
func ParseReadAnswer(b []byte, from int) (ref Reference, values []Value, err error) {
	r := &reader{b, from}
	if ref, values, err = r.valued(); err != nil {
		return ref, nil, err
	}
	return ref, values, r.over()
}

// valued reads a property with its values.
func (r *reader) valued() (ref Reference, values []Value, err error) {
	if ref.Object, err = r.object(0); err != nil {
		return ref, nil, err
	}
	if err = r.property(&ref, 1, 2); err != nil {
		return ref, nil, err
	}
	if err = r.opens(3); err != nil {
		return ref, nil, err
	}
	values, err = r.values(3)
	return ref, values, err
}

// Result is what a property was read as: values, or a failure.
type Result struct {
	Reference
	Values []Value
	Failed *Failure
}

// AppendReadMultiple appends the body of a question for properties of objects (ReadPropertyMultiple-Request).
// Those of one object that follow each other go together.
func AppendReadMultiple(b []byte, list []Reference) []byte {
	for i := 0; i < len(list); {
		object := list[i].Object
		b = Open(ContextObject(b, 0, object), 1)
		for ; i < len(list) && list[i].Object == object; i++ {
			b = ContextUint(b, 0, uint64(list[i].Property))
			if list[i].Index >= 0 {
				b = ContextUint(b, 1, uint64(list[i].Index))
			}
		}
		b = Close(b, 1)
	}
	return b
}

// mostReferences bounds what one question asks for.
const mostReferences = 10_000

// ParseReadMultiple reads one.
func ParseReadMultiple(b []byte, from int) (list []Reference, err error) {
	r := &reader{b, from}
	for len(r.b) > 0 {
		var ref Reference
		if ref.Object, err = r.object(0); err != nil {
			return list, err
		}
		if err = r.opens(1); err != nil {
			return list, err
		}
		for !r.closes(1) {
			if err = r.property(&ref, 0, 1); err != nil {
				return list, err
			}
			if list = append(list, ref); len(list) > mostReferences {
				return list, fmt.Errorf("it asks for more than %d properties", mostReferences)
			}
		}
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("it asks for nothing")
	}
	return list, nil
}

// AppendMultipleAnswer appends the body of the answer (ReadPropertyMultiple-ACK).
func AppendMultipleAnswer(b []byte, list []Result) []byte {
	for i := 0; i < len(list); {
		object := list[i].Object
		b = Open(ContextObject(b, 0, object), 1)
		for ; i < len(list) && list[i].Object == object; i++ {
			each := &list[i]
			b = ContextUint(b, 2, uint64(each.Property))
			if each.Index >= 0 {
				b = ContextUint(b, 3, uint64(each.Index))
			}
			if each.Failed != nil {
				b = Close(AppendFailure(Open(b, 5), *each.Failed), 5)
				continue
			}
			b = Open(b, 4)
			for k := range each.Values {
				b = each.Values[k].Append(b)
			}
			b = Close(b, 4)
		}
		b = Close(b, 1)
	}
	return b
}

// ParseMultipleAnswer reads one.
func ParseMultipleAnswer(b []byte, from int) (list []Result, err error) {
	r := &reader{b, from}
	for len(r.b) > 0 {
		var ref Reference
		if ref.Object, err = r.object(0); err != nil {
			return list, err
		}
		if err = r.opens(1); err != nil {
			return list, err
		}
		for !r.closes(1) {
			if err = r.property(&ref, 2, 3); err != nil {
				return list, err
			}
			one := Result{Reference: ref}
			if r.peek(5) {
				at := r.from
				if err = r.opens(5); err != nil {
					return list, err
				}
				values, err := r.values(5)
				if err != nil {
					return list, err
				}
				if len(values) != 2 || values[0].Tag != TagEnumerated || values[1].Tag != TagEnumerated {
					return list, fmt.Errorf("the error at octet %d does not say its class and its code", at)
				}
				one.Failed = &Failure{uint32(values[0].Uint), uint32(values[1].Uint)}
			} else {
				if err = r.opens(4); err != nil {
					return list, err
				}
				if one.Values, err = r.values(4); err != nil {
					return list, err
				}
			}
			if list = append(list, one); len(list) > mostReferences {
				return list, fmt.Errorf("it tells of more than %d properties", mostReferences)
			}
		}
	}
	return list, nil
}

// Written is what is written to a property: its values, and the priority, 0 for none (WriteProperty-Request).
type Written struct {
	Reference
	Values   []Value
	Priority uint8
}

// Priorities of commands (clause 19.2): the first is the strongest.
const (
	FirstPriority = 1
	LastPriority  = 16
)

// AppendWrite appends the body of a write.
func AppendWrite(b []byte, w *Written) []byte {
	b = AppendReadAnswer(b, w.Reference, w.Values)
	if w.Priority > 0 {
		b = ContextUint(b, 4, uint64(w.Priority))
	}
	return b
}

// ParseWrite reads one.
func ParseWrite(b []byte, from int) (w Written, err error) {
	r := &reader{b, from}
	if w.Reference, w.Values, err = r.valued(); err != nil {
		return w, err
	}
	if r.peek(4) {
		n, err := r.uint(4)
		if err != nil {
			return w, err
		}
		if n < FirstPriority || n > LastPriority {
			return w, fmt.Errorf("the priority is %d: they go from %d to %d", n, FirstPriority, LastPriority)
		}
		w.Priority = uint8(n)
	}
	return w, r.over()
}

// Subscription is a wish to be told of changes of an object (SubscribeCOV-Request).
type Subscription struct {
	Process uint32
	Object  ObjectID
	// Cancels ends it; else Confirms says whether its reports are to be confirmed, and Seconds how long
	// it lasts, 0 for without end.
	Cancels, Confirms bool
	Seconds           uint32
}

// Append appends the body.
func (s *Subscription) Append(b []byte) []byte {
	b = ContextObject(ContextUint(b, 0, uint64(s.Process)), 1, s.Object)
	if s.Cancels {
		return b
	}
	on := uint64(0)
	if s.Confirms {
		on = 1
	}
	return ContextUint(ContextUint(b, 2, on), 3, uint64(s.Seconds))
}

// ParseSubscription reads one.
func ParseSubscription(b []byte, from int) (s Subscription, err error) {
	r := &reader{b, from}
	if s.Process, err = r.small(0); err != nil {
		return s, err
	}
	if s.Object, err = r.object(1); err != nil {
		return s, err
	}
	if s.Cancels = !r.peek(2) && !r.peek(3); s.Cancels {
		return s, r.over()
	}
	on := uint64(0)
	if r.peek(2) {
		if on, err = r.uint(2); err != nil || on > 1 {
			return s, fmt.Errorf("it does not say whether its reports are to be confirmed")
		}
	}
	s.Confirms = on == 1
	if r.peek(3) {
		if s.Seconds, err = r.small(3); err != nil {
			return s, err
		}
	}
	return s, r.over()
}

// Change is a report of values of an object (COVNotification-Request).
type Change struct {
	Process uint32
	Device  ObjectID
	Object  ObjectID
	Seconds uint32 // for which the subscription lasts still
	Values  []Told
}

// Told is a property in a report.
type Told struct {
	Property uint32
	Index    int64
	Values   []Value
	Priority uint8 // 0 for not said
}

// Append appends the body.
func (c *Change) Append(b []byte) []byte {
	b = ContextObject(ContextObject(ContextUint(b, 0, uint64(c.Process)), 1, c.Device), 2, c.Object)
	b = Open(ContextUint(b, 3, uint64(c.Seconds)), 4)
	for i := range c.Values {
		t := &c.Values[i]
		b = ContextUint(b, 0, uint64(t.Property))
		if t.Index >= 0 {
			b = ContextUint(b, 1, uint64(t.Index))
		}
		b = Open(b, 2)
		for k := range t.Values {
			b = t.Values[k].Append(b)
		}
		b = Close(b, 2)
		if t.Priority > 0 {
			b = ContextUint(b, 3, uint64(t.Priority))
		}
	}
	return Close(b, 4)
}

// ParseChange reads one.
func ParseChange(b []byte, from int) (c Change, err error) {
	r := &reader{b, from}
	if c.Process, err = r.small(0); err != nil {
		return c, err
	}
	for number, into := range []*ObjectID{&c.Device, &c.Object} {
		if *into, err = r.object(uint8(number + 1)); err != nil {
			return c, err
		}
	}
	if c.Seconds, err = r.small(3); err != nil {
		return c, err
	}
	if err = r.opens(4); err != nil {
		return c, err
	}
	for !r.closes(4) {
		var ref Reference
		if err = r.property(&ref, 0, 1); err != nil {
			return c, err
		}
		t := Told{Property: ref.Property, Index: ref.Index}
		if err = r.opens(2); err != nil {
			return c, err
		}
		if t.Values, err = r.values(2); err != nil {
			return c, err
		}
		if r.peek(3) {
			n, err := r.uint(3)
			if err != nil {
				return c, err
			}
			t.Priority = uint8(min(n, LastPriority))
		}
		if c.Values = append(c.Values, t); len(c.Values) > mostReferences {
			return c, fmt.Errorf("it tells of more than %d properties", mostReferences)
		}
	}
	return c, r.over()
}

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

// Part is a question for a run of a list or an array (ReadRange-Request): Count from Index on, the first 1,
// backwards where it is negative; the whole where both are 0.
type Part struct {
	Reference
	First uint32
	Count int32
}

// Append appends the body.
func (p *Part) Append(b []byte) []byte {
	b = AppendReadProperty(b, p.Reference)
	if p.Count == 0 {
		return b
	}
	b = Open(b, 3)
	first, count := Unsigned(uint64(p.First)), Signed(int64(p.Count))
	return Close(count.Append(first.Append(b)), 3)
}

// ParsePart reads one; ok is false for one by number or by time, which are not asked of lists.
func ParsePart(b []byte, from int) (p Part, ok bool, err error) {
	r := &reader{b, from}
	if p.Object, err = r.object(0); err != nil {
		return p, false, err
	}
	if err = r.property(&p.Reference, 1, 2); err != nil {
		return p, false, err
	}
	if len(r.b) == 0 {
		return p, true, nil
	}
	if !r.peek(3) {
		return p, false, nil
	}
	if err = r.opens(3); err != nil {
		return p, false, err
	}
	values, err := r.values(3)
	if err != nil {
		return p, false, err
	}
	if len(values) != 2 || values[0].Tag != TagUnsigned || values[1].Tag != TagSigned || values[0].Uint > math.MaxUint32 ||
		values[1].Int == 0 || values[1].Int < math.MinInt16 || values[1].Int > math.MaxInt16 {
		return p, false, fmt.Errorf("the range at octet %d is none", r.from)
	}
	p.First, p.Count = uint32(values[0].Uint), int32(values[1].Int)
	return p, true, r.over()
}

// AppendPartAnswer appends the body of the answer (ReadRange-ACK): of which property, whether it has the
// first and the last item and whether more follow, how many there are, and these.
func AppendPartAnswer(b []byte, ref Reference, first, last, more bool, values []Value) []byte {
	b = AppendReadProperty(b, ref)
	flags := byte(0)
	for i, on := range []bool{first, last, more} {
		if on {
			flags |= 0x80 >> i
		}
	}
	b = tagged(b, 3, true, []byte{5, flags})
	b = Open(ContextUint(b, 4, uint64(len(values))), 5)
	for i := range values {
		b = values[i].Append(b)
	}
	return Close(b, 5)
}

// ContextBits are n bits under a context tag.
func ContextBits(number uint8, v *Value) Value {
	return Value{Opaque: true, Context: number, Text: string(v.content())}
}

// ObjectOf reads an object of four octets.
func ObjectOf(octets string) (ObjectID, bool) {
	if len(octets) != 4 {
		return 0, false
	}
	return ObjectID(binary.BigEndian.Uint32([]byte(octets))), true
}
