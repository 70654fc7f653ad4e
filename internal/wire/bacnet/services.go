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
