package files

import (
	"encoding/binary"
	"math/bits"
	"net/netip"

	"ferry/internal/core/capture"
)

// Sums knows whose packets are recorded with their checksums: a machine that records
// itself leaves them to its card, and none of its own passes.
type Sums struct {
	hosts map[netip.Addr]*hostSums
	last  [2]netip.Addr
	of    [2]*hostSums
}

// hostSums counts the segments of one host that pass, and those that do not.
type hostSums struct{ good, bad int }

// mostSums bounds the hosts that are told apart.
const mostSums = 20_000

// host finds what is known of a host.
func (s *Sums) host(a netip.Addr) *hostSums {
	for i := range s.last {
		if s.last[i] == a && s.of[i] != nil {
			return s.of[i]
		}
	}
	h := s.hosts[a]
	if h == nil {
		h = &hostSums{}
		if len(s.hosts) < mostSums {
			if s.hosts == nil {
				s.hosts = map[netip.Addr]*hostSums{}
			}
			s.hosts[a] = h
		}
	}
	s.last[1], s.of[1] = s.last[0], s.of[0]
	s.last[0], s.of[0] = a, h
	return h
}

// Spoilt reports whether a segment of TCP fails its checksum where others of its host
// pass.
func (s *Sums) Spoilt(p *capture.Packet) bool {
	if p.Kind != capture.TCP || p.Cut > 0 || len(p.Head) == 0 {
		return false
	}
	h := s.host(p.From.Addr())
	if h.good == 0 && h.bad > enoughBad {
		return false
	}
	if passes(p.From.Addr(), p.To.Addr(), p.Head, p.Payload) {
		h.good++
		return false
	}
	h.bad++
	return h.good > 2*h.bad
}

// enoughBad is after how many segments of a host of which none passes no more are looked
// at.
const enoughBad = 200

// passes reports whether a segment with its header passes the checksum of TCP (RFC 9293,
// section 3.1).
func passes(from, to netip.Addr, segment ...[]byte) bool {
	length := 0
	sum := uint64(6) // of the pseudo header: the protocol
	for i, part := range segment {
		if length += len(part); i < len(segment)-1 && len(part)%2 != 0 {
			return true // a header is of whole words
		}
		sum = addWords(sum, part)
	}
	sum = addWords(sum, from.AsSlice())
	sum = addWords(sum, to.AsSlice()) + uint64(length)
	for sum > 0xFFFF {
		sum = sum>>16 + sum&0xFFFF
	}
	return sum == 0xFFFF
}

// addWords adds octets as 16-bit words in one's complement (RFC 1071): eight octets at a
// time, which come to the same.
func addWords(sum uint64, b []byte) uint64 {
	carry := uint64(0)
	for len(b) >= 8 {
		sum, carry = bits.Add64(sum, binary.BigEndian.Uint64(b), carry)
		b = b[8:]
	}
	sum, carry = bits.Add64(sum, 0, carry)
	sum += carry
	var rest [8]byte
	copy(rest[:], b)
	sum, carry = bits.Add64(sum, binary.BigEndian.Uint64(rest[:]), 0)
	return sum + carry
}
