package mqtt

import (
	"bytes"
	"io"
	"net"
	"strings"
	"testing"
	"testing/iotest"
)

// piece is a connection that gives octets as a reader has them.
type piece struct {
	net.Conn
	io.Reader
}

func (p piece) Read(b []byte) (int, error) { return p.Reader.Read(b) }
func (p piece) Close() error               { return nil }

// TestLimited: packets of every length pass whole, however they come apart, and one that
// is too long ends it before it is read.
func TestLimited(t *testing.T) {
	packet := func(n int) []byte {
		head := []byte{0x30}
		for rest := n; ; {
			octet := byte(rest & 0x7F)
			if rest >>= 7; rest > 0 {
				head = append(head, octet|0x80)
				continue
			}
			return append(append(head, octet), bytes.Repeat([]byte{0xFF}, n)...)
		}
	}
	var all []byte
	for _, n := range []int{0, 1, 127, 128, 16_383, 16_384, 70_000, 0, 5} {
		all = append(all, packet(n)...)
	}
	for name, r := range map[string]io.Reader{"whole": bytes.NewReader(all), "octet by octet": iotest.OneByteReader(
		bytes.NewReader(all)), "halves": iotest.HalfReader(bytes.NewReader(all))} {
		got, err := io.ReadAll(&limited{Conn: piece{nil, r}})
		if err != nil || !bytes.Equal(got, all) {
			t.Errorf("%s: %d octets of %d, %v", name, len(got), len(all), err)
		}
	}
	for name, octets := range map[string][]byte{"too long": append(append([]byte{}, all...), 0x30, 0xFF, 0xFF, 0xFF, 0x7F),
		"no length": {0x30, 0xFF, 0xFF, 0xFF, 0xFF, 0x01}} {
		_, err := io.ReadAll(&limited{Conn: piece{nil, iotest.OneByteReader(bytes.NewReader(octets))}})
		if err == nil || !strings.Contains(err.Error(), "are the most") {
			t.Errorf("%s: %v", name, err)
		}
	}
}
