package bacnet

import "fmt"

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
