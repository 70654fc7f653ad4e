package dnp3

import (
	"bytes"
	"encoding/hex"
	"errors"
	"strings"
	"testing"
)

// TestFrames: frames as the standard writes them, whole and broken.
func TestFrames(t *testing.T) {
	if got := check([]byte("123456789")); got != 0xEA82 {
		t.Errorf("the check is %04X", got)
	}
	// A request for the status of the link, of 1 to 1024, and its octets by hand.
	for text, want := range map[string]Frame{
		"05 64 05 C9 01 00 00 04": {Control: FromMaster | Primary | AskLinkStatus, To: 1, From: 1024},
	} {
		head, _ := hex.DecodeString(strings.ReplaceAll(text, " ", ""))
		b, err := want.Append(nil)
		if err != nil || !bytes.Equal(b[:8], head) || len(b) != 10 {
			t.Errorf("% X, %v", b, err)
		}
	}
	for n := range MostData + 1 {
		f := Frame{Control: 0x44, To: 0xFFFF, From: uint16(n), Data: bytes.Repeat([]byte{byte(n)}, n)}
		b, err := f.Append([]byte{9})
		if err != nil {
			t.Fatal(err)
		}
		b = b[1:]
		back, err := Read(b)
		if err != nil || back.To != f.To || back.From != f.From || !bytes.Equal(back.Data, f.Data) {
			t.Fatalf("%d octets: %+v, %v", n, back, err)
		}
		for i := range b[3:] {
			b[3+i] ^= 0x10
			if _, err := Read(b); !errors.Is(err, ErrCheck) {
				t.Fatalf("%d octets, one broken at %d: %v", n, 3+i, err)
			}
			b[3+i] ^= 0x10
		}
	}
	if _, err := (&Frame{Data: make([]byte, 251)}).Append(nil); err == nil {
		t.Error("a frame that is too long is written")
	}
}

func FuzzRead(f *testing.F) {
	b, _ := (&Frame{Control: 0xC4, To: 1, From: 2, Data: []byte{0xC0, 0xC0, 1, 60, 2, 6}}).Append(nil)
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		frame, err := Read(b)
		if err != nil {
			return
		}
		if again, err := frame.Append(nil); err != nil || !bytes.Equal(again, b) {
			t.Errorf("% X is written as % X, %v", b, again, err)
		}
	})
}
