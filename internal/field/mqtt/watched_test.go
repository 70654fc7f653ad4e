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

// TestWatched: packets of every length pass whole, however they come apart, and one that
// is too long ends it before it is read.
func TestWatched(t *testing.T) {
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
		got, err := io.ReadAll(&watched{Conn: piece{nil, r}})
		if err != nil || !bytes.Equal(got, all) {
			t.Errorf("%s: %d octets of %d, %v", name, len(got), len(all), err)
		}
	}
	for name, octets := range map[string][]byte{
		"are the most":          append(append([]byte{}, all...), 0x30, 0xFF, 0xFF, 0xFF, 0x7F),
		"more than four octets": {0x30, 0xFF, 0xFF, 0xFF, 0xFF, 0x01}} {
		_, err := io.ReadAll(&watched{Conn: piece{nil, iotest.OneByteReader(bytes.NewReader(octets))}})
		if err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestWitnessed: what a session says is kept for the record packet by packet, its password
// starred out, and a message is found again by its payload.
func TestWitnessed(t *testing.T) {
	said := func(w *watched) (list []string) {
		for _, s := range w.take() {
			list = append(list, string(s.octets))
		}
		return list
	}
	for version, extra := range map[byte]string{4: "", 5: "\x00"} {
		head := "\x00\x04MQTT" + string(version) + "\xC2\x00\x3C" + extra + "\x00\x05ferry\x00\x03hal\x00\x06"
		packet := func(secret string) string {
			return "\x10" + string(rune(len(head+secret))) + head + secret
		}
		w := &watched{Conn: sink{}}
		for _, part := range []string{packet("salmon")[:9], packet("salmon")[9:] + "\xC0", "\x00"} {
			if _, err := w.Write([]byte(part)); err != nil {
				t.Fatal(err)
			}
		}
		if got := said(w); len(got) != 2 || got[0] != packet("******") || got[1] != "\xC0\x00" {
			t.Errorf("version %d: kept %q", version, got)
		}
	}
	w := &watched{Conn: piece{nil, strings.NewReader("\x30\x06\x00\x01thi\x9A\x30\x05\x00\x01tlo\xD0\x00")}}
	if _, err := io.ReadAll(w); err != nil {
		t.Fatal(err)
	}
	packet, at := w.message([]byte("lo"))
	if string(packet) != "\x30\x05\x00\x01tlo" || at != 5 || len(w.told) != 0 {
		t.Errorf("packet %q, payload from %d, %d are left", packet, at, len(w.told))
	}
	if packet, at := w.message([]byte("hi")); string(packet) != "hi" || at != 0 {
		t.Errorf("packet %q, payload from %d", packet, at)
	}
}

// sink is a connection that takes everything.
type sink struct{ net.Conn }

func (sink) Write(b []byte) (int, error) { return len(b), nil }
