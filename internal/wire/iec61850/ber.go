// Package iec61850 turns MMS (ISO 9506-2) as IEC 61850-8-1 uses it into octets and back, with the
// session, presentation and association under it in their fixed usual forms (ISO 8327-1, ISO 8823-1,
// ISO 8650-1).
//
// The readers take whatever comes: what is broken is an error that says so.
package iec61850

import (
	"errors"
	"fmt"
)

// element is one of BER (ISO 8825-1): a tag, a length, and its content.
type element struct {
	tag     uint32 // the first octet in the lower eight bits, above it those of a long tag
	content []byte
	head    int // octets of tag and length
}

// Bits of a tag.
const (
	constructed = 0x20
	context     = 0x80
)

// MostMessage bounds a message.
const MostMessage = 1 << 20

var errCut = errors.New("an element is cut short")

// next reads the element at the beginning of b, and returns what is behind it.
func next(b []byte) (e element, rest []byte, err error) {
	if len(b) < 2 {
		return e, nil, errCut
	}
	e.tag = uint32(b[0])
	at := 1
	if b[0]&0x1F == 0x1F { // the number stands behind it
		for {
			if at >= len(b) || at > 3 {
				return e, nil, errors.New("a tag has no end")
			}
			e.tag = e.tag<<8 | uint32(b[at])
			at++
			if b[at-1]&0x80 == 0 {
				break
			}
		}
	}
	if at >= len(b) {
		return e, nil, errCut
	}
	n := int(b[at])
	at++
	switch {
	case n == 0x80:
		return e, nil, errors.New("an element has no definite length")
	case n > 0x84:
		return e, nil, fmt.Errorf("a length of %d octets", n&0x7F)
	case n > 0x80:
		octets := n & 0x7F
		if at+octets > len(b) {
			return e, nil, errCut
		}
		n = 0
		for range octets {
			n = n<<8 | int(b[at])
			at++
		}
	}
	if n < 0 || n > len(b)-at {
		return e, nil, fmt.Errorf("an element says %d octets, and %d are there", n, len(b)-at)
	}
	e.content, e.head = b[at:at+n], at
	return e, b[at+n:], nil
}

// find returns the content of the first element with a tag among those in b.
func find(b []byte, tag uint32) (content []byte, err error) {
	for len(b) > 0 {
		e, rest, err := next(b)
		if err != nil {
			return nil, err
		}
		if e.tag == tag {
			return e.content, nil
		}
		b = rest
	}
	return nil, fmt.Errorf("element %02X is missing", tag)
}

// way follows tags inwards.
func way(b []byte, tags ...uint32) (content []byte, err error) {
	for _, tag := range tags {
		if b, err = find(b, tag); err != nil {
			return nil, err
		}
	}
	return b, nil
}

// each tells of the elements in b.
func each(b []byte, of func(element) error) error {
	for len(b) > 0 {
		e, rest, err := next(b)
		if err != nil {
			return err
		}
		if err := of(e); err != nil {
			return err
		}
		b = rest
	}
	return nil
}

// wrap puts a tag and a length before content.
func wrap(tag byte, parts ...[]byte) []byte {
	n := 0
	for _, p := range parts {
		n += len(p)
	}
	b := appendLength(append(make([]byte, 0, n+6), tag), n)
	for _, p := range parts {
		b = append(b, p...)
	}
	return b
}

func appendLength(b []byte, n int) []byte {
	switch {
	case n < 0x80:
		return append(b, byte(n))
	case n < 0x100:
		return append(b, 0x81, byte(n))
	case n < 0x10000:
		return append(b, 0x82, byte(n>>8), byte(n))
	}
	return append(b, 0x83, byte(n>>16), byte(n>>8), byte(n))
}

// whole is a whole number in as few octets as it needs, signed.
func whole(tag byte, v int64) []byte {
	octets := []byte{byte(v)}
	for v > 127 || v < -128 {
		v >>= 8
		octets = append([]byte{byte(v)}, octets...)
	}
	return wrap(tag, octets)
}

// natural is a whole number without a sign: the first bit of the first octet is 0.
func natural(tag byte, v uint64) []byte {
	octets := []byte{byte(v)}
	for v >>= 8; v > 0; v >>= 8 {
		octets = append([]byte{byte(v)}, octets...)
	}
	if octets[0]&0x80 != 0 {
		octets = append([]byte{0}, octets...)
	}
	return wrap(tag, octets)
}

// intOf is a signed whole number of up to eight octets.
func intOf(b []byte) (int64, error) {
	if len(b) == 0 || len(b) > 8 {
		return 0, fmt.Errorf("a whole number of %d octets", len(b))
	}
	v := int64(int8(b[0]))
	for _, octet := range b[1:] {
		v = v<<8 | int64(octet)
	}
	return v, nil
}

// uintOf is a whole number without a sign.
func uintOf(b []byte) (uint64, error) {
	if len(b) == 9 && b[0] == 0 {
		b = b[1:]
	}
	if len(b) == 0 || len(b) > 8 {
		return 0, fmt.Errorf("a whole number of %d octets", len(b))
	}
	v := uint64(0)
	for _, octet := range b {
		v = v<<8 | uint64(octet)
	}
	return v, nil
}
