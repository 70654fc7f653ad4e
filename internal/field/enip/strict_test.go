package enip_test

import (
	"encoding/binary"
	"fmt"
)

// strict reads what an originator sends as CIP volumes 1 and 2 write it, and takes nothing
// that they do not allow. It shares nothing with what is tested.
type strict struct {
	frames map[string]int // by what they are
	wrong  []string
	sizes  map[uint32]int // of what goes out, by its identifier
}

func newStrict() *strict { return &strict{frames: map[string]int{}, sizes: map[uint32]int{}} }

func (s *strict) fail(format string, args ...any) {
	if len(s.wrong) < 20 {
		s.wrong = append(s.wrong, fmt.Sprintf(format, args...))
	}
}

// cut reads numbers from the beginning of octets.
type cut struct {
	b   []byte
	bad bool
}

func (c *cut) take(n int) []byte {
	if n < 0 || n > len(c.b) {
		c.bad = true
		return make([]byte, max(n, 0)&0xFFFF)
	}
	head := c.b[:n]
	c.b = c.b[n:]
	return head
}
func (c *cut) u8() int     { return int(c.take(1)[0]) }
func (c *cut) u16() int    { return int(binary.LittleEndian.Uint16(c.take(2))) }
func (c *cut) u32() uint32 { return binary.LittleEndian.Uint32(c.take(4)) }

// tcp reads one frame of the encapsulation (volume 2, clause 2-3).
func (s *strict) tcp(b []byte) {
	c := &cut{b: b}
	command, length, session, status := c.u16(), c.u16(), c.u32(), c.u32()
	c.take(8)
	options := c.u32()
	switch {
	case c.bad || length != len(c.b):
		s.fail("a frame of %d octets says that %d follow its head", len(b), length)
		return
	case status != 0 || options != 0:
		s.fail("command %04X has status %d and options %d", command, status, options)
	}
	switch command {
	case 0x65:
		s.frames["RegisterSession"]++
		if session != 0 || length != 4 || c.u16() != 1 || c.u16() != 0 {
			s.fail("RegisterSession with session %d and % X", session, b[24:])
		}
	case 0x66:
		s.frames["UnRegisterSession"]++
		if length != 0 || session == 0 {
			s.fail("UnRegisterSession with %d octets and session %d", length, session)
		}
	case 0x6F:
		s.frames["SendRRData"]++
		if session == 0 {
			s.fail("SendRRData without a session")
		}
		s.carried(c)
	default:
		s.fail("command %04X is none that was to be sent", command)
	}
}

// carried reads the items of SendRRData (clause 2-6).
func (s *strict) carried(c *cut) {
	handle := c.u32()
	c.u16() // the time limit is this end's to choose
	count := c.u16()
	if c.bad || handle != 0 || count < 2 || count > 4 {
		s.fail("SendRRData with interface %d and %d items", handle, count)
		return
	}
	for i := range count {
		kind, n := c.u16(), c.u16()
		data := c.take(n)
		if c.bad {
			s.fail("item %d is cut short", i)
			return
		}
		switch {
		case i == 0:
			if kind != 0 || n != 0 {
				s.fail("the address item is %04X with %d octets", kind, n)
			}
		case i == 1:
			if kind != 0xB2 {
				s.fail("the data item is %04X", kind)
				return
			}
			s.message(&cut{b: data})
		case kind == 0x8000 || kind == 0x8001:
			if n != 16 || binary.BigEndian.Uint16(data) != 2 || binary.BigEndian.Uint16(data[2:]) == 0 ||
				binary.BigEndian.Uint64(data[8:]) != 0 {
				s.fail("the socket address is % X", data)
			}
		default:
			s.fail("item %d is %04X", i, kind)
		}
	}
	if len(c.b) > 0 {
		s.fail("%d octets follow the items", len(c.b))
	}
}

// message reads a question to the message router (volume 1, clause 2-4).
func (s *strict) message(c *cut) {
	service := c.u8()
	path := c.take(2 * c.u8())
	class, instance, _ := s.path(path, false)
	switch {
	case c.bad || service == 0 || service&0x80 != 0:
		s.fail("service %02X", service)
	case service == 0x54 || service == 0x5B:
		s.frames["Forward_Open"]++
		s.open(c, service == 0x5B)
	case service == 0x4E && class == 6:
		s.frames["Forward_Close"]++
		c.take(10)
		words := c.u8()
		if c.u8() != 0 || 2*words != len(c.b) {
			s.fail("Forward_Close has %d octets for a path of %d words", len(c.b), words)
		}
		s.path(c.b, true)
	case service == 0x01 && len(c.b) == 0:
		s.frames["Get_Attributes_All"]++
	case service == 0x0E && len(c.b) == 0:
		s.frames["Get_Attribute_Single"]++
	default:
		s.fail("service %02X of class %d instance %d with %d octets", service, class, instance, len(c.b))
	}
}

// open reads Forward_Open and Large_Forward_Open (clause 3-5.5.2).
func (s *strict) open(c *cut, large bool) {
	if tick := c.u8(); tick > 15 {
		s.fail("priority and tick time %02X", tick)
	}
	if c.u8() == 0 {
		s.fail("no time-out ticks")
	}
	c.u32()
	if c.u32() == 0 {
		s.fail("no identifier of what comes in")
	}
	c.u16()
	c.u16()
	c.u32()
	if multiplier := c.u8(); multiplier > 7 {
		s.fail("multiplier %d", multiplier)
	}
	if r := c.take(3); r[0] != 0 || r[1] != 0 || r[2] != 0 {
		s.fail("reserved octets % X", r)
	}
	for way := range 2 {
		if us := c.u32(); us < 100 {
			s.fail("interval of %d µs", us)
		}
		var params uint32
		if large {
			params = c.u32()
			if params&0x00FF0000 != 0 && params>>16&0x01FF != 0 {
				s.fail("reserved bits in %08X", params)
			}
			params = params >> 16
		} else {
			params = uint32(c.u16())
		}
		if casting := params >> 13 & 3; casting == 3 || params&0x1000 != 0 {
			s.fail("network parameters %04X of way %d", params, way)
		}
	}
	if transport := c.u8(); transport&0x80 != 0 || transport&0x0F > 1 || transport&0x70 != 0 {
		s.fail("transport %02X", transport)
	}
	words := c.u8()
	if c.bad || 2*words != len(c.b) {
		s.fail("Forward_Open has %d octets for a path of %d words", len(c.b), words)
		return
	}
	if class, _, points := s.path(c.b, true); class != 4 || points != 2 {
		s.fail("the path leads to class %d with %d connection points", class, points)
	}
}

// path reads a padded path (appendix C-1).
func (s *strict) path(b []byte, connecting bool) (class, instance, points int) {
	c := &cut{b: b}
	for len(c.b) > 0 && !c.bad {
		kind := c.u8()
		number := func() int {
			switch kind & 3 {
			case 0:
				return c.u8()
			case 1:
				if c.u8() != 0 {
					s.fail("a segment %02X is not padded", kind)
				}
				return c.u16()
			}
			s.fail("segment %02X", kind)
			return 0
		}
		switch {
		case kind == 0x34:
			if c.u8() != 4 {
				s.fail("the electronic key has no format 4")
			}
			c.take(8)
		case kind&^3 == 0x20:
			class = number()
		case kind&^3 == 0x24:
			instance = number()
		case kind&^3 == 0x2C:
			number()
			points++
		case kind&^3 == 0x30 && !connecting:
			number()
		case kind == 0x80 && connecting:
			c.take(2 * c.u8())
		default:
			s.fail("segment %02X in % X", kind, b)
			return
		}
	}
	if c.bad {
		s.fail("the path % X is cut short", b)
	}
	return class, instance, points
}

// udp reads a packet of a cyclic connection (volume 2, clause 3-2).
func (s *strict) udp(b []byte) {
	c := &cut{b: b}
	s.frames["cyclic"]++
	if c.u16() != 2 || c.u16() != 0x8002 || c.u16() != 8 {
		s.fail("a packet begins % X", b[:min(len(b), 8)])
		return
	}
	id, sequence := c.u32(), c.u32()
	if c.u16() != 0xB1 {
		s.fail("the second item of a packet is no connected data")
		return
	}
	n := c.u16()
	if c.bad || n != len(c.b) || id == 0 || sequence == 0 {
		s.fail("a packet of %d octets of data has %d, identifier %d, number %d", n, len(c.b), id, sequence)
	}
	if was, known := s.sizes[id]; known && was != n {
		s.fail("packets of %08X have %d octets, and %d", id, n, was)
	}
	s.sizes[id] = n
}
