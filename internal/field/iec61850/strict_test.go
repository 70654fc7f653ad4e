package iec61850_test

import (
	"encoding/binary"
	"fmt"
	"net"
	"sync"
	"sync/atomic"
	"testing"
)

// strict reads what one end of a conversation says, by the letter of RFC 1006, ISO 8073, 8327, 8823,
// 8650 and 9506 and without a word of Ferry's own code.
type strict struct {
	asks     bool // it is the end that asks
	held     []byte
	message  []byte
	messages int
}

func (s *strict) take(b []byte) error {
	s.held = append(s.held, b...)
	for len(s.held) >= 4 {
		n := int(binary.BigEndian.Uint16(s.held[2:]))
		if s.held[0] != 3 || s.held[1] != 0 || n < 7 {
			return fmt.Errorf("TPKT % X", s.held[:4])
		}
		if len(s.held) < n {
			return nil
		}
		tpdu := s.held[4:n]
		s.held = append([]byte(nil), s.held[n:]...)
		li := int(tpdu[0])
		if li+1 > len(tpdu) {
			return fmt.Errorf("a TPDU says %d octets of head", li)
		}
		switch tpdu[1] & 0xF0 {
		case 0xE0, 0xD0:
			if (tpdu[1] == 0xE0) != s.asks || li+1 != len(tpdu) {
				return fmt.Errorf("TPDU % X", tpdu)
			}
		case 0xF0:
			if li != 2 || tpdu[2]&0x7F != 0 {
				return fmt.Errorf("data TPDU % X", tpdu[:3])
			}
			if s.message = append(s.message, tpdu[3:]...); tpdu[2] == 0x80 {
				if err := s.spdu(s.message); err != nil {
					return err
				}
				s.message = nil
				s.messages++
			}
		default:
			return fmt.Errorf("TPDU %02X", tpdu[1])
		}
	}
	return nil
}

// tlv is one element of BER; strictly: definite, as short as may be, and filling what it is in.
type tlv struct {
	tag     byte
	content []byte
	parts   []tlv
}

func readAll(b []byte, depth int) (list []tlv, err error) {
	for len(b) > 0 {
		if len(b) < 2 || depth > 40 || b[0]&0x1F == 0x1F {
			return nil, fmt.Errorf("an element begins with % X", b[:min(4, len(b))])
		}
		e, n, at := tlv{tag: b[0]}, int(b[1]), 2
		if n >= 0x80 {
			k := n & 0x7F
			if k < 1 || k > 3 || len(b) < 2+k || b[2] == 0 {
				return nil, fmt.Errorf("a length % X", b[1:min(5, len(b))])
			}
			n = 0
			for _, octet := range b[2 : 2+k] {
				n = n<<8 | int(octet)
			}
			if at += k; n < 0x80 || k == 2 && n < 0x100 || k == 3 && n < 0x10000 {
				return nil, fmt.Errorf("a length of %d in %d octets", n, k)
			}
		}
		if at+n > len(b) {
			return nil, fmt.Errorf("an element of %d octets in %d", n, len(b)-at)
		}
		if e.content = b[at : at+n]; e.tag&0x20 != 0 {
			if e.parts, err = readAll(e.content, depth+1); err != nil {
				return nil, err
			}
		}
		list, b = append(list, e), b[at+n:]
	}
	return list, nil
}

func (s *strict) spdu(b []byte) error {
	if b[0] == 0x0D || b[0] == 0x0E {
		if (b[0] == 0x0D) != s.asks || int(b[1]) != len(b)-2 &&
			(b[1] != 0xFF || int(binary.BigEndian.Uint16(b[2:])) != len(b)-4) {
			return fmt.Errorf("an SPDU % X of %d octets", b[:4], len(b))
		}
		return nil
	}
	if len(b) < 5 || b[0] != 1 || b[1] != 0 || b[2] != 1 || b[3] != 0 {
		return fmt.Errorf("an SPDU begins with % X", b[:4])
	}
	list, err := readAll(b[4:], 0)
	if err != nil {
		return err
	}
	if len(list) != 1 || list[0].tag != 0x61 || len(list[0].parts) != 1 || list[0].parts[0].tag != 0x30 {
		return fmt.Errorf("a presentation that is none")
	}
	pdv := list[0].parts[0].parts
	if len(pdv) != 2 || pdv[0].tag != 0x02 || len(pdv[0].content) != 1 || pdv[0].content[0] != 3 ||
		pdv[1].tag != 0xA0 || len(pdv[1].parts) > 1 {
		return fmt.Errorf("presented data that is none of MMS")
	}
	if pdv[1].content[0] == 0x8B || pdv[1].content[0] == 0x8C { // conclude has no parts
		return nil
	}
	return s.mms(pdv[1].parts[0])
}

// mms reads a message; services are those of IEC 61850-8-1 that Ferry may use.
func (s *strict) mms(m tlv) error {
	services := map[byte]bool{0xA1: true, 0x82: true, 0xA2: true, 0xA4: true, 0xA5: true, 0xA6: true, 0xAC: true}
	switch {
	case m.tag == 0xA0 && s.asks, m.tag == 0xA1 && !s.asks:
		if len(m.parts) != 2 || m.parts[0].tag != 0x02 || !services[m.parts[1].tag] || (m.parts[1].tag == 0x82) && !s.asks {
			return fmt.Errorf("a message %02X with %d parts", m.tag, len(m.parts))
		}
		return s.service(m.parts[1])
	case m.tag == 0xA2 && !s.asks:
		if len(m.parts) != 2 || m.parts[0].tag != 0x80 || m.parts[1].tag != 0xA2 {
			return fmt.Errorf("an error with %d parts", len(m.parts))
		}
		return nil
	case m.tag == 0xA3 && !s.asks:
		if len(m.parts) != 1 || m.parts[0].tag != 0xA0 || len(m.parts[0].parts) != 2 {
			return fmt.Errorf("a report with %d parts", len(m.parts))
		}
		return results(m.parts[0].parts[1].parts)
	case m.tag == 0xA4:
		return fmt.Errorf("a rejection")
	}
	return fmt.Errorf("a message of tag %02X", m.tag)
}

func (s *strict) service(of tlv) error {
	switch {
	case of.tag == 0xA4 && s.asks: // read: variables
		if len(of.parts) != 1 || of.parts[0].tag != 0xA1 {
			return fmt.Errorf("a read with %d parts", len(of.parts))
		}
	case of.tag == 0xA4: // its results
		if len(of.parts) != 1 || of.parts[0].tag != 0xA1 {
			return fmt.Errorf("results of a read with %d parts", len(of.parts))
		}
		return results(of.parts[0].parts)
	case of.tag == 0xA5 && s.asks: // write: as many values as variables
		if len(of.parts) != 2 || of.parts[0].tag != 0xA0 || of.parts[1].tag != 0xA0 ||
			len(of.parts[0].parts) != len(of.parts[1].parts) {
			return fmt.Errorf("a write that does not go up")
		}
		return results(of.parts[1].parts)
	case of.tag == 0xA5:
		for _, r := range of.parts {
			if r.tag != 0x80 && (r.tag != 0x81 || len(r.content) > 0) {
				return fmt.Errorf("a result of a write of tag %02X", r.tag)
			}
		}
	}
	return nil
}

// results are values of MMS, or refusals.
func results(list []tlv) error {
	for _, v := range list {
		n := len(v.content)
		ok := false
		switch v.tag {
		case 0x80, 0x85, 0x86:
			ok = n >= 1 && n <= 9 && !(n > 1 && (v.content[0] == 0 && v.content[1] < 0x80 || v.content[0] == 0xFF &&
				v.content[1] >= 0x80))
		case 0xA1, 0xA2:
			if ok = true; results(v.parts) != nil {
				return results(v.parts)
			}
		case 0x83:
			ok = n == 1
		case 0x84:
			ok = n >= 1 && v.content[0] < 8 && (n > 1 || v.content[0] == 0) &&
				(n == 1 || v.content[n-1]&(1<<v.content[0]-1) == 0)
		case 0x87:
			ok = n == 5 && v.content[0] == 8 || n == 9 && v.content[0] == 11
		case 0x89, 0x8A, 0x90:
			ok = true
		case 0x8C:
			ok = n == 4 || n == 6
		case 0x91:
			ok = n == 8
		}
		if !ok {
			return fmt.Errorf("a value % X %X", v.tag, v.content)
		}
	}
	return nil
}

// between puts a strict reader of both ends before a place; it returns where to dial instead, and counts.
func between(t testing.TB, to string) (at string, asked, answered *atomic.Int64) {
	t.Helper()
	asked, answered = &atomic.Int64{}, &atomic.Int64{}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	var all sync.WaitGroup
	t.Cleanup(func() {
		_ = listener.Close()
		all.Wait()
		t.Logf("%d messages of the asking end and %d of the answering one were read strictly", asked.Load(), answered.Load())
	})
	pass := func(from, to net.Conn, s *strict, count *atomic.Int64) {
		defer func() { _, _ = from.Close(), to.Close() }()
		buf := make([]byte, 1<<16)
		for {
			n, err := from.Read(buf)
			if n > 0 {
				before := s.messages
				if err := s.take(buf[:n]); err != nil {
					t.Errorf("what was said is not as the standards have it: %v", err)
					return
				}
				count.Add(int64(s.messages - before))
				if _, err := to.Write(buf[:n]); err != nil {
					return
				}
			}
			if err != nil {
				return
			}
		}
	}
	go func() {
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", to)
			if err != nil {
				_ = near.Close()
				continue
			}
			all.Go(func() { pass(near, far, &strict{asks: true}, asked) })
			all.Go(func() { pass(far, near, &strict{}, answered) })
		}
	}()
	return listener.Addr().String(), asked, answered
}
