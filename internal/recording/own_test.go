package recording

import (
	"bytes"
	"context"
	"net/netip"
	"testing"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/rehearsal"
)

// TestRelayed: what passed a relay is a recording with every exchange in it.
func TestRelayed(t *testing.T) {
	at := time.Date(2026, 3, 2, 6, 0, 0, 0, time.UTC)
	ends := map[int][2]netip.AddrPort{}
	var passed []Passed
	for n := 1; n <= 50; n++ {
		ends[n] = [2]netip.AddrPort{netip.AddrPortFrom(netip.MustParseAddr(controller), uint16(40000+n)), rehearsal.End(skid)}
		say := func(after time.Duration, side capture.Side, octets []byte) {
			passed = append(passed, Passed{Conn: n, Piece: capture.Piece{At: at.Add(after), Side: side, Octets: octets}})
		}
		passed = append(passed, Passed{Conn: n, Piece: capture.Piece{At: at}, Opened: true})
		say(100*time.Microsecond, capture.Asker, tcp(uint16(n), 1, 3, 0, 0, 0, 1))
		say(200*time.Microsecond, capture.Answerer, tcp(uint16(n), 1, 3, 2, 0, 7))
		passed = append(passed, Passed{Conn: n, Piece: capture.Piece{At: at.Add(time.Millisecond)}, Shut: true})
		at = at.Add(30 * time.Millisecond)
	}
	var out bytes.Buffer
	if err := WriteRelayed(&out, passed, ends); err != nil {
		t.Fatal(err)
	}
	r := New(nil)
	if err := r.Read(context.Background(), Source{Name: "x", From: &out}); err != nil {
		t.Fatal(err)
	}
	if got := r.Finish(); got.Exchanges != 50 || codes(got.Findings) != "connection-churn" {
		t.Errorf("%d exchanges\n%s", got.Exchanges, told(got.Findings))
	}
}
