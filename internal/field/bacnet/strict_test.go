package bacnet_test

import (
	"encoding/binary"
	"errors"
	"fmt"
	"unicode/utf8"
)

// strict reads a datagram as the standard has it, octet by octet and without the code of Ferry: what it does not
// know, or what is longer or shorter than it says, is an error. It knows what an answering end sends.
func strict(b []byte) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("% X: %v", b, p)
		}
	}()
	s := &strictly{b: b}
	s.want(0x81, "the type of the link layer")
	function := s.octet()
	if n := s.number(2); n != len(b) {
		s.fail("it says %d octets, and has %d", n, len(b))
	}
	switch function {
	case 0x00: // a result
		s.number(2)
		return s.end()
	case 0x04: // forwarded, from an address and port
		s.take(6)
	case 0x03, 0x07: // a table of subnets, or of foreign devices
		for len(s.b) > 0 {
			s.take(10)
		}
		return s.end()
	case 0x0A, 0x0B:
	default:
		s.fail("the function %02X", function)
	}
	s.want(1, "the version of the network layer")
	control := s.octet()
	if control&0x50 != 0 {
		s.fail("bits of the control octet that are kept: %02X", control)
	}
	station := func(what string, needs bool) {
		if n := s.number(2); n == 0 || needs && n == 0xFFFF {
			s.fail("%s in the network %d", what, n)
		}
		if n := s.number(1); n > 7 || needs && n == 0 {
			s.fail("%s with an address of %d octets", what, n)
		} else {
			s.take(n)
		}
	}
	if control&0x20 != 0 {
		station("it goes to somebody", false)
	}
	if control&0x08 != 0 {
		station("it comes from somebody", true)
	}
	if control&0x20 != 0 && s.octet() == 0 {
		s.fail("no hop is left to it")
	}
	if control&0x80 != 0 {
		switch kind := s.octet(); kind {
		case 0x01: // networks that are reached
			for len(s.b) > 0 {
				s.number(2)
			}
		case 0x03:
			s.take(3)
		default:
			s.fail("the network message %02X", kind)
		}
		return s.end()
	}
	s.message()
	return s.end()
}

type strictly struct{ b []byte }

func (s *strictly) fail(format string, more ...any) { panic(fmt.Sprintf(format, more...)) }

func (s *strictly) take(n int) []byte {
	if n > len(s.b) {
		s.fail("%d octets are wanted, and %d left", n, len(s.b))
	}
	part := s.b[:n]
	s.b = s.b[n:]
	return part
}

func (s *strictly) octet() byte { return s.take(1)[0] }

func (s *strictly) number(n int) (v int) {
	for _, b := range s.take(n) {
		v = v<<8 | int(b)
	}
	return v
}

func (s *strictly) want(b byte, what string) {
	if is := s.octet(); is != b {
		s.fail("%s is %02X", what, is)
	}
}

func (s *strictly) end() error {
	if len(s.b) > 0 {
		return fmt.Errorf("% X is left", s.b)
	}
	return nil
}

func (s *strictly) message() {
	first := s.octet()
	switch kind := first >> 4; kind {
	case 0: // a question: a report that is to be confirmed
		if first&0x0F != 0 || s.octet()&0x0F > 5 {
			s.fail("the head of a question")
		}
		s.octet()
		s.want(1, "the service of a question of an answering end")
		s.change()
	case 1:
		if first != 0x10 {
			s.fail("bits of %02X", first)
		}
		switch service := s.octet(); service {
		case 0:
			s.application(12, 4)
			s.application(2, 2)
			if v := s.application(9, 1); v[0] > 3 {
				s.fail("the segmentation %d", v[0])
			}
			s.application(2, 2)
		case 1:
			s.application(12, 4)
			s.application(12, 4)
			s.application(7, 0)
		case 2:
			s.change()
		default:
			s.fail("the service %d", service)
		}
	case 2:
		s.take(1)
		if service := s.octet(); first != 0x20 || service != 5 && service != 15 {
			s.fail("it is done, of the service %d", service)
		}
	case 3:
		s.octet()
		if first&8 != 0 { // in parts, of which each has some octets
			s.octet()
			if w := s.octet(); w < 1 || w > 127 {
				s.fail("a window of %d", w)
			}
			s.octet()
			if len(s.b) == 0 {
				s.fail("an empty part")
			}
			s.take(len(s.b))
			return
		}
		if first != 0x30 {
			s.fail("bits of %02X", first)
		}
		s.answer(s.octet())
	case 5:
		s.take(2)
		if v := s.application(9, 2); len(v) > 1 && v[0] != 0 || v[len(v)-1] > 7 {
			s.fail("the class of an error %X", v)
		}
		s.application(9, 2)
	case 6:
		if s.take(1); s.octet() > 9 {
			s.fail("the reason of a reject")
		}
	case 7:
		if s.take(1); first != 0x71 || s.octet() > 11 {
			s.fail("the reason of an abort")
		}
	default:
		s.fail("a message of the kind %d", kind)
	}
}

func (s *strictly) answer(service byte) {
	switch service {
	case 12:
		s.context(0, 4)
		s.context(1, 4)
		if len(s.b) > 0 && s.b[0] == 0x29 || s.b[0] == 0x2A {
			s.context(2, 4)
		}
		s.values(3)
	case 14:
		for len(s.b) > 0 {
			s.context(0, 4)
			s.want(0x1E, "what opens the results of an object")
			for s.b[0] != 0x1F {
				s.context(2, 4)
				if s.b[0]>>4 == 3 && s.b[0]&0x0E == 0x08 {
					s.context(3, 4)
				}
				if s.b[0] == 0x4E {
					s.values(4)
					continue
				}
				s.want(0x5E, "what opens a failure")
				s.application(9, 2)
				s.application(9, 2)
				s.want(0x5F, "what closes a failure")
			}
			s.octet()
		}
	case 26:
		s.context(0, 4)
		s.context(1, 4)
		if bits := s.context(3, 2); len(bits) != 2 || bits[0] != 5 {
			s.fail("the flags of a run")
		}
		s.context(4, 4)
		s.values(5)
	default:
		s.fail("an answer of the service %d", service)
	}
}

func (s *strictly) change() {
	for n, octets := range []int{4, 4, 4, 4} {
		s.context(byte(n), octets)
	}
	s.want(0x4E, "what opens the values of a report")
	for s.b[0] != 0x4F {
		s.context(0, 4)
		s.values(2)
	}
	s.octet()
}

// context takes a context tag of a number, with at least one octet and at most so many.
func (s *strictly) context(number byte, most int) []byte {
	t := s.octet()
	n := int(t & 7)
	if t>>4 != number || t&8 == 0 || n < 1 || n > most {
		s.fail("%02X in the place of context tag %d", t, number)
	}
	v := s.take(n)
	if n > 1 && n < 4 && v[0] == 0 && number != 3 {
		s.fail("a number with more octets than it needs: %X", v)
	}
	return v
}

// values takes what lies between an opening and a closing tag.
func (s *strictly) values(number byte) {
	s.want(number<<4|0x0E, "what opens values")
	for s.b[0] != number<<4|0x0F {
		if s.b[0]&8 != 0 {
			s.fail("%02X among values", s.b[0])
		}
		s.application(s.b[0]>>4, 0)
	}
	s.octet()
}

// application takes a value of a kind, of at most so many octets, 0 for any number.
func (s *strictly) application(kind byte, most int) []byte {
	t := s.octet()
	if t>>4 != kind || t&8 != 0 {
		s.fail("%02X in the place of a value of the kind %d", t, kind)
	}
	if kind == 1 {
		if t&7 > 1 {
			s.fail("a boolean of %d", t&7)
		}
		return nil
	}
	n := int(t & 7)
	if n == 5 {
		if n = s.number(1); n < 5 || n == 255 {
			s.fail("a length of %d in an octet of its own", n)
		}
		if n == 254 {
			if n = s.number(2); n < 254 {
				s.fail("a length of %d in two octets of its own", n)
			}
		}
	} else if n > 5 {
		s.fail("the tag %02X", t)
	}
	if most > 0 && n > most {
		s.fail("a value of %d octets, and %d are the most", n, most)
	}
	v := s.take(n)
	sizes := map[byte]int{0: 0, 4: 4, 5: 8, 10: 4, 11: 4, 12: 4}
	if want, fixed := sizes[kind]; fixed && n != want {
		s.fail("a value of the kind %d with %d octets", kind, n)
	}
	switch kind {
	case 2, 9:
		if n == 0 || n > 1 && v[0] == 0 {
			s.fail("a number with more or fewer octets than it needs: %X", v)
		}
	case 3:
		if n == 0 || n > 1 && (v[0] == 0 && v[1] < 0x80 || v[0] == 0xFF && v[1] >= 0x80) {
			s.fail("a signed number with more or fewer octets than it needs: %X", v)
		}
	case 7:
		if n == 0 || v[0] != 0 || !utf8.Valid(v[1:]) {
			s.fail("a text that is none in UTF-8: %X", v)
		}
	case 8:
		if n == 0 || v[0] > 7 || n == 1 && v[0] != 0 || n > 1 && v[n-1]&(1<<v[0]-1) != 0 {
			s.fail("bits: %X", v)
		}
	case 12:
		if binary.BigEndian.Uint32(v)&0x3FFFFF == 0x3FFFFF {
			s.fail("an object that stands for any")
		}
	}
	return v
}

var errNone = errors.New("nothing was sent")
