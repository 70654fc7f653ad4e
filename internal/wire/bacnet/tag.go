// Package bacnet has the octets of BACnet/IP (ISO 16484-5, annex J; clauses 6, 20 and 21): virtual link,
// network and application layers, tags and values.
package bacnet

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// Element is what one tag stands for (clause 20.2.1): a value in octets, or the opening or closing of
// what lies inside.
type Element struct {
	Number  uint8
	Context bool // else of the application: Number is the kind of the value
	Opens   bool
	Closes  bool
	// Content are the octets of a value. A boolean of the application has none: it is On.
	Content []byte
	On      bool
	// From is where the tag begins among all octets, Head how many octets it has itself.
	From, Head int
}

// To is where the element ends, without what lies inside.
func (e *Element) To() int { return e.From + e.Head + len(e.Content) }

// Application tags (clause 20.2.1.4).
const (
	TagNull        = 0
	TagBoolean     = 1
	TagUnsigned    = 2
	TagSigned      = 3
	TagReal        = 4
	TagDouble      = 5
	TagOctets      = 6
	TagText        = 7
	TagBits        = 8
	TagEnumerated  = 9
	TagDate        = 10
	TagTime        = 11
	TagObject      = 12
	lastTag        = 12
	extendedNumber = 15
	extendedLength = 5
	openingTag     = 6
	closingTag     = 7
)

// next reads a tag with its content; from is where b begins among all octets.
func next(b []byte, from int) (e Element, rest []byte, err error) {
	if len(b) == 0 {
		return e, nil, errors.New("a tag is missing")
	}
	e.From, e.Head, e.Number, e.Context = from, 1, b[0]>>4, b[0]&8 != 0
	cut := func() (Element, []byte, error) {
		return e, nil, fmt.Errorf("the tag at octet %d is cut short", from)
	}
	if e.Number == extendedNumber {
		if len(b) < 2 {
			return cut()
		}
		if e.Number, e.Head = b[1], 2; e.Number < extendedNumber || e.Number == 255 {
			return e, nil, fmt.Errorf("the tag at octet %d has the number %d in an octet of its own", from, e.Number)
		}
	}
	length := uint64(b[0] & 7)
	switch {
	case e.Context && (length == openingTag || length == closingTag):
		e.Opens, e.Closes = length == openingTag, length == closingTag
		return e, b[e.Head:], nil
	case length > extendedLength:
		return e, nil, fmt.Errorf("the tag at octet %d opens or closes, and is one of the application", from)
	case !e.Context && e.Number == TagBoolean:
		if length > 1 {
			return e, nil, fmt.Errorf("the boolean at octet %d is %d", from, length)
		}
		e.On = length == 1
		return e, b[e.Head:], nil
	case length == extendedLength:
		if len(b) < e.Head+1 {
			return cut()
		}
		switch more := b[e.Head]; more {
		case 254:
			if len(b) < e.Head+3 {
				return cut()
			}
			length, e.Head = uint64(binary.BigEndian.Uint16(b[e.Head+1:])), e.Head+3
		case 255:
			if len(b) < e.Head+5 {
				return cut()
			}
			length, e.Head = uint64(binary.BigEndian.Uint32(b[e.Head+1:])), e.Head+5
		default:
			length, e.Head = uint64(more), e.Head+1
		}
	}
	if length > uint64(len(b)-e.Head) {
		return e, nil, fmt.Errorf("the tag at octet %d says %d octets, and %d follow", from, length, len(b)-e.Head)
	}
	end := e.Head + int(length)
	e.Content = b[e.Head:end:end]
	return e, b[end:], nil
}

// appendTag appends a tag with a length.
func appendTag(b []byte, number uint8, context bool, length int) []byte {
	first := byte(0)
	if context {
		first = 8
	}
	if number < extendedNumber {
		first |= number << 4
	} else {
		first |= extendedNumber << 4
	}
	switch {
	case length < extendedLength:
		first |= byte(length)
	default:
		first |= extendedLength
	}
	b = append(b, first)
	if number >= extendedNumber {
		b = append(b, number)
	}
	switch {
	case length < extendedLength:
	case length < 254:
		b = append(b, byte(length))
	case length < 1<<16:
		b = binary.BigEndian.AppendUint16(append(b, 254), uint16(length))
	default:
		b = binary.BigEndian.AppendUint32(append(b, 255), uint32(length))
	}
	return b
}

func appendEdge(b []byte, number uint8, edge byte) []byte {
	if number < extendedNumber {
		return append(b, number<<4|8|edge)
	}
	return append(b, extendedNumber<<4|8|edge, number)
}

// Open appends an opening tag, Close a closing one.
func Open(b []byte, number uint8) []byte { return appendEdge(b, number, openingTag) }

// Close is as Open.
func Close(b []byte, number uint8) []byte { return appendEdge(b, number, closingTag) }

// appendUint appends a number in as few octets as it takes, at least one.
func appendUint(b []byte, v uint64) []byte {
	n := 1
	for v>>(8*n) != 0 && n < 8 {
		n++
	}
	for ; n > 0; n-- {
		b = append(b, byte(v>>(8*(n-1))))
	}
	return b
}

func appendInt(b []byte, v int64) []byte {
	n := 1
	for n < 8 && (v < -(1<<(8*n-1)) || v >= 1<<(8*n-1)) {
		n++
	}
	for ; n > 0; n-- {
		b = append(b, byte(v>>(8*(n-1))))
	}
	return b
}

// tagged appends a value in octets with its tag.
func tagged(b []byte, number uint8, context bool, content []byte) []byte {
	return append(appendTag(b, number, context, len(content)), content...)
}

// ContextUint appends a number under a context tag.
func ContextUint(b []byte, number uint8, v uint64) []byte {
	return tagged(b, number, true, appendUint(nil, v))
}

// ContextObject appends an object under a context tag.
func ContextObject(b []byte, number uint8, o ObjectID) []byte {
	return tagged(b, number, true, binary.BigEndian.AppendUint32(nil, uint32(o)))
}

// uintOf reads a number of one to eight octets.
func uintOf(b []byte) (v uint64, err error) {
	if len(b) == 0 || len(b) > 8 {
		return 0, fmt.Errorf("a number of %d octets", len(b))
	}
	for _, o := range b {
		v = v<<8 | uint64(o)
	}
	return v, nil
}

func intOf(b []byte) (v int64, err error) {
	u, err := uintOf(b)
	if err != nil {
		return 0, err
	}
	shift := 64 - 8*len(b)
	return int64(u<<shift) >> shift, nil
}

// reader goes through the tags of a service.
type reader struct {
	b    []byte
	from int
}

// next reads a tag.
func (r *reader) next() (Element, error) {
	e, rest, err := next(r.b, r.from)
	if err == nil {
		r.from += len(r.b) - len(rest)
		r.b = rest
	}
	return e, err
}

// peek reports whether a context tag of a number comes next: a value, or one that opens.
func (r *reader) peek(number uint8) bool {
	e, _, err := next(r.b, r.from)
	return err == nil && e.Context && e.Number == number && !e.Closes
}

// closes takes a closing tag where it comes next.
func (r *reader) closes(number uint8) bool {
	e, _, err := next(r.b, r.from)
	if err != nil || !e.Closes || e.Number != number {
		return false
	}
	_, _ = r.next() // it was read a moment ago
	return true
}

// value takes a context value.
func (r *reader) value(number uint8) (Element, error) {
	e, err := r.next()
	switch {
	case err != nil:
		return e, err
	case !e.Context || e.Number != number || e.Opens || e.Closes:
		return e, fmt.Errorf("at octet %d is no context tag %d with a value", e.From, number)
	}
	return e, nil
}

func (r *reader) uint(number uint8) (uint64, error) {
	e, err := r.value(number)
	if err != nil {
		return 0, err
	}
	v, err := uintOf(e.Content)
	if err != nil {
		return 0, fmt.Errorf("at octet %d: %w", e.From, err)
	}
	return v, nil
}

// small is uint, of at most 32 bits.
func (r *reader) small(number uint8) (uint32, error) {
	v, err := r.uint(number)
	if err == nil && v > 1<<32-1 {
		err = fmt.Errorf("context tag %d is %d", number, v)
	}
	return uint32(v), err
}

func (r *reader) object(number uint8) (ObjectID, error) {
	e, err := r.value(number)
	if err == nil && len(e.Content) != 4 {
		err = fmt.Errorf("the object at octet %d has %d octets", e.From, len(e.Content))
	}
	if err != nil {
		return 0, err
	}
	return ObjectID(binary.BigEndian.Uint32(e.Content)), nil
}

// opens takes an opening tag.
func (r *reader) opens(number uint8) error {
	e, err := r.next()
	if err == nil && (!e.Opens || e.Number != number) {
		err = fmt.Errorf("at octet %d opening tag %d is missing", e.From, number)
	}
	return err
}

// over fails where octets are left.
func (r *reader) over() error {
	if len(r.b) > 0 {
		return fmt.Errorf("%d octets behind the end", len(r.b))
	}
	return nil
}
