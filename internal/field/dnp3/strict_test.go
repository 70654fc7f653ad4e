package dnp3_test

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"ferry/internal/bench"
	"ferry/internal/core/site"
)

// strict reads what a master sends, by the letter of IEEE 1815 and without a word of Ferry's own code.
type strict struct {
	held      []byte
	fragment  []byte
	open      bool
	segment   byte
	frames    int
	fragments int
	note      func(said string)
}

// crcOf is the check of clause 9.2.5, bit by bit.
func crcOf(b []byte) uint16 {
	var crc uint16
	for _, octet := range b {
		for bit := range 8 {
			carry := crc&1 ^ uint16(octet>>bit)&1
			if crc >>= 1; carry != 0 {
				crc ^= 0xA6BC
			}
		}
	}
	return ^crc
}

// take reads octets; an error is a frame that the standard does not have.
func (s *strict) take(b []byte) error {
	s.held = append(s.held, b...)
	for len(s.held) >= 10 {
		h := s.held
		if h[0] != 0x05 || h[1] != 0x64 || h[2] < 5 {
			return fmt.Errorf("a frame begins with % X", h[:3])
		}
		data := int(h[2]) - 5
		blocks := (data + 15) / 16
		if len(h) < 10+data+2*blocks {
			return nil
		}
		if crcOf(h[:8]) != binary.LittleEndian.Uint16(h[8:]) {
			return fmt.Errorf("the check of the header is wrong: % X", h[:10])
		}
		var user []byte
		for at, left := 10, data; left > 0; {
			n := min(left, 16)
			if crcOf(h[at:at+n]) != binary.LittleEndian.Uint16(h[at+n:]) {
				return fmt.Errorf("the check of a block is wrong")
			}
			user, at, left = append(user, h[at:at+n]...), at+n+2, left-n
		}
		if err := s.frame(h[3], user); err != nil {
			return err
		}
		s.held = append([]byte(nil), h[10+data+2*blocks:]...)
		s.frames++
	}
	return nil
}

func (s *strict) frame(control byte, user []byte) error {
	if control&0x80 == 0 {
		return fmt.Errorf("control %02X: the bit of a master is not set", control)
	}
	if control&0x40 == 0 { // it answers: nothing follows
		if f := control & 0x0F; f != 0 && f != 1 && f != 11 && f != 15 || len(user) > 0 {
			return fmt.Errorf("control %02X with %d octets", control, len(user))
		}
		return nil
	}
	switch control & 0x0F {
	case 0, 2, 9:
		if len(user) > 0 {
			return fmt.Errorf("a frame about the link with %d octets", len(user))
		}
		return nil
	case 4:
		if control&0x10 != 0 {
			return fmt.Errorf("control %02X counts what nobody confirms", control)
		}
	default:
		return fmt.Errorf("function %d of the link", control&0x0F)
	}
	if len(user) < 2 {
		return fmt.Errorf("a segment of %d octets", len(user))
	}
	first, last, number := user[0]&0x40 != 0, user[0]&0x80 != 0, user[0]&0x3F
	switch {
	case first == s.open:
		return fmt.Errorf("a segment %02X, and a fragment is open: %v", user[0], s.open)
	case s.fragments+s.frames > 0 && s.open && number != (s.segment+1)&0x3F:
		return fmt.Errorf("segment %d behind %d", number, s.segment)
	}
	if first {
		s.fragment = nil
	}
	s.segment, s.open = number, !last
	s.fragment = append(s.fragment, user[1:]...)
	if !last {
		return nil
	}
	s.fragments++
	return asked(s.fragment, s.note)
}

// sizes are the octets of objects that a master sends, by group and variation.
var sizes = map[[2]byte]int{{12, 1}: 11, {41, 1}: 5, {41, 2}: 3, {41, 3}: 5, {41, 4}: 9, {50, 1}: 6, {50, 3}: 6}

// asked reads a fragment of a master (clause 4.2), and notes its function with each object.
func asked(b []byte, note func(string)) error {
	if len(b) < 2 {
		return fmt.Errorf("a fragment of %d octets", len(b))
	}
	if b[0]&0xC0 != 0xC0 || b[0]&0x20 != 0 {
		return fmt.Errorf("application control %02X of a master", b[0])
	}
	function := b[1]
	if b[0]&0x10 != 0 && function != 0 {
		return fmt.Errorf("a master sends function %d as if nobody had asked for it", function)
	}
	note(fmt.Sprintf("%d", function))
	carries := map[byte]bool{2: true, 3: true, 4: true, 5: true}[function]
	switch function {
	case 0, 23, 24:
		if len(b) > 2 {
			return fmt.Errorf("function %d with objects", function)
		}
	case 1, 2, 3, 4, 5, 7, 20, 21:
		if len(b) == 2 {
			return fmt.Errorf("function %d without objects", function)
		}
	default:
		return fmt.Errorf("function %d", function)
	}
	for b = b[2:]; len(b) > 0; {
		if len(b) < 3 {
			return fmt.Errorf("an object header of %d octets", len(b))
		}
		group, variation, qualifier := b[0], b[1], b[2]
		note(fmt.Sprintf("%d %d.%d", function, group, variation))
		b = b[3:]
		octets := map[byte]int{0x00: 2, 0x01: 4, 0x06: 0, 0x07: 1, 0x08: 2, 0x17: 1, 0x28: 2}
		n, known := octets[qualifier]
		if !known || len(b) < n {
			return fmt.Errorf("object %d.%d with qualifier %02X", group, variation, qualifier)
		}
		count := 0
		switch qualifier {
		case 0x00:
			count = int(b[1]) - int(b[0]) + 1
		case 0x01:
			count = int(binary.LittleEndian.Uint16(b[2:])) - int(binary.LittleEndian.Uint16(b)) + 1
		case 0x07, 0x17:
			count = int(b[0])
		case 0x08, 0x28:
			count = int(binary.LittleEndian.Uint16(b))
		}
		if b = b[n:]; qualifier != 0x06 && count < 1 {
			return fmt.Errorf("object %d.%d %d times", group, variation, count)
		}
		if group == 60 && (variation < 1 || variation > 4 || qualifier != 0x06) {
			return fmt.Errorf("class object %d.%d with qualifier %02X", group, variation, qualifier)
		}
		if !carries {
			continue
		}
		size, prefix := sizes[[2]byte{group, variation}], map[byte]int{0x17: 1, 0x28: 2}[qualifier]
		if group == 80 && variation == 1 {
			size = 0
			if n := (count + 7) / 8; len(b) >= n {
				b = b[n:]
				continue
			}
		}
		if size == 0 || len(b) < count*(size+prefix) {
			return fmt.Errorf("%d of object %d.%d in %d octets", count, group, variation, len(b))
		}
		b = b[count*(size+prefix):]
	}
	return nil
}

// tapped is a bench of whose connections everything that Ferry sends is read strictly.
type tapped struct {
	*bench.Bench
	t      testing.TB
	mu     sync.Mutex
	ways   map[string]string
	frames atomic.Int64
	said   sync.Map // functions with their objects
}

func newTapped(t testing.TB, b *bench.Bench) *tapped {
	tap := &tapped{Bench: b, t: t, ways: map[string]string{}}
	t.Cleanup(func() {
		if n := tap.frames.Load(); n > 0 {
			t.Logf("%d frames of Ferry's were read strictly", n)
		}
	})
	return tap
}

// Dial is where something stands between.
func (b *tapped) Dial(s *site.Site, l *site.Link) string {
	to := b.Bench.Dial(s, l)
	if !strings.HasPrefix(to, "127.") {
		return to
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if at, known := b.ways[to]; known {
		return at
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.t.Fatal(err)
	}
	b.t.Cleanup(func() { _ = listener.Close() })
	b.ways[to] = listener.Addr().String()
	go func() {
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			go b.pass(near, to)
		}
	}()
	return b.ways[to]
}

func (b *tapped) pass(near net.Conn, to string) {
	defer func() { _ = near.Close() }()
	far, err := net.Dial("tcp", to)
	if err != nil {
		return
	}
	defer func() { _ = far.Close() }()
	go func() {
		_, _ = io.Copy(near, far) // until either ends
		_ = near.Close()
	}()
	s := &strict{note: func(said string) { b.said.Store(said, true) }}
	buf := make([]byte, 4096)
	for {
		n, err := near.Read(buf)
		if err != nil {
			b.frames.Add(int64(s.frames))
			return
		}
		if err := s.take(buf[:n]); err != nil {
			b.t.Errorf("Ferry sent what the standard does not have: %v", err)
			return
		}
		if _, err := far.Write(buf[:n]); err != nil {
			return
		}
	}
}
