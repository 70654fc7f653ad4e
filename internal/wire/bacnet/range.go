package bacnet

import (
	"fmt"
	"math"
)

// Part is a question for a run of a list or an array (ReadRange-Request): Count from First on, the first 1,
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
