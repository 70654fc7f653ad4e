package field_test

import (
	"encoding/binary"
	"strings"
	"sync/atomic"
	"testing"

	"ferry/internal/core/block"
	"ferry/internal/core/pairing"
	"ferry/internal/core/site"
	"ferry/internal/field"
)

// TestProveEnd: a place is read alone, and is there, not there, refused or not heard; what
// is not there is remembered as long as the point means the same place, and the mode stays.
func TestProveEnd(t *testing.T) {
	p := newPlant(t)
	var answers atomic.Int32
	p.bench["gate"].behave(func(request, _ []byte) ([]byte, bool) {
		code := byte(answers.Load())
		if binary.BigEndian.Uint16(request[8:]) != 3 || code == 0 {
			return nil, false
		}
		if code == 0xFF {
			return []byte{}, true
		}
		return append(append([]byte(nil), request[:4]...), 0, 3, request[6], request[7]|0x80, code), true
	})
	p.bench["gate"].set(3, 42)
	missing := func() string { _, at := p.site.Point("gate-3"); return p.Missing(at) }
	for _, c := range []struct {
		code    byte
		verdict pairing.Verdict
		says    string
	}{{0, pairing.There, "It answers there: 42."}, {4, pairing.Refusing, "It refuses"},
		{0xFF, pairing.Unheard, "no answer came"}, {2, pairing.Absent, "It has nothing at"}} {
		answers.Store(int32(c.code))
		proof, err := p.ProveEnd(t.Context(), "gate-3")
		if err != nil || proof.Verdict != c.verdict || !strings.Contains(proof.Sentence, c.says) {
			t.Errorf("code %d: %+v, %v", c.code, proof, err)
		}
		if (missing() != "") != (c.code == 2) {
			t.Errorf("code %d: missing %q", c.code, missing())
		}
	}
	if got := p.bench["gate"].written(); len(got) > 0 {
		t.Errorf("written: %v", got)
	}
	p.change(t, "gate-3", func(q *site.Point) { q.Address = block.At("hr", 9) })
	if missing() != "" {
		t.Error("another place is said to be missing")
	}
	if _, err := p.ProveEnd(t.Context(), "nothing"); err == nil {
		t.Error("a point that is not in the site was proved")
	}
	p.change(t, "gate-3", func(q *site.Point) { q.Address = block.At("hr", 3) })
	if _, err := p.ProveEnd(t.Context(), "gate-3"); err != nil || missing() == "" {
		t.Errorf("missing %q, %v", missing(), err)
	}
	if err := p.SetMode(field.Plant); err != nil {
		t.Fatal(err)
	}
	if missing() != "" {
		t.Error("what the bench has not is said of the plant")
	}
}
