package files

import (
	"encoding/binary"
	"net/netip"
	"testing"
)

// TestChecksum: sums of eight octets at a time come to those of two, and a spoilt octet is
// seen.
func TestChecksum(t *testing.T) {
	from, to := netip.MustParseAddr("192.0.2.10"), netip.MustParseAddr("192.0.2.21")
	for n := range 40 {
		segment := make([]byte, 20+n)
		for i := range segment {
			segment[i] = byte(i*37 + n)
		}
		segment[16], segment[17] = 0, 0
		sum := uint32(6 + len(segment))
		for _, b := range [][]byte{from.AsSlice(), to.AsSlice(), segment} {
			for i := range b {
				sum += uint32(b[i]) << (8 * (1 - i%2))
			}
		}
		for sum > 0xFFFF {
			sum = sum>>16 + sum&0xFFFF
		}
		binary.BigEndian.PutUint16(segment[16:], ^uint16(sum))
		if !passes(from, to, segment[:20], segment[20:]) {
			t.Errorf("%d octets: it does not pass", len(segment))
		}
		segment[n/2]++
		if passes(from, to, segment[:20], segment[20:]) {
			t.Errorf("%d octets, one of them spoilt: it passes", len(segment))
		}
	}
}
