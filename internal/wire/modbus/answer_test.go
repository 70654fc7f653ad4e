package modbus

import (
	"slices"
	"testing"

	family "ferry/internal/core/family/modbus"
)

// held is a memory of 32 units an area.
type held map[string][]byte

func (h held) Read(dst []byte, area string, start, count int) ([]byte, byte) {
	width := h.width(area)
	if (start+count)*width > len(h[area]) {
		return dst, IllegalAddress
	}
	return append(dst, h[area][start*width:(start+count)*width]...), 0
}

func (h held) Change(area string, start, count int, change func([]byte)) byte {
	width := h.width(area)
	if (start+count)*width > len(h[area]) {
		return IllegalAddress
	}
	change(h[area][start*width : (start+count)*width])
	return 0
}

func (h held) Identity() string { return "Shore gateway" }

func (h held) width(area string) int {
	if area == family.Coils || area == family.DiscreteInputs {
		return 1
	}
	return 2
}

// FuzzServe: whatever is asked is answered by its function or an exception of it, in
// a frame that is not too long, and what is refused changes nothing.
func FuzzServe(f *testing.F) {
	for _, pdu := range []string{"\x03\x00\x00\x00\x02", "\x10\x00\x01\x00\x01\x02\x12\x34",
		"\x0f\x00\x00\x00\x09\x02\xff\x01", "\x16\x00\x04\x00\xf2\x00\x25",
		"\x17\x00\x30\x00\x06\x00\x0e\x00\x01\x02\x00\xff", "\x17\x00\x03\x00\x06\x00\x0e\x00\x01\x02\x00\xff",
		"\x2b\x0e\x01\x00", "\x11", "\x05\x00\x00\xff\x00", "\x01\x00\x00\x07\xd0"} {
		f.Add([]byte(pdu))
	}
	f.Fuzz(func(t *testing.T, pdu []byte) {
		if len(pdu) == 0 || len(pdu) > 253 {
			return
		}
		m := held{}
		for _, area := range []string{family.Coils, family.DiscreteInputs, family.HoldingRegisters, family.InputRegisters} {
			m[area] = make([]byte, 32*m.width(area))
		}
		answer := AppendAnswer(nil, pdu, m)
		switch {
		case len(answer) < 2 || len(answer) > 253:
			t.Errorf("% X is answered by %d octets", pdu, len(answer))
		case answer[0] != pdu[0] && answer[0] != pdu[0]|exceptionFlag:
			t.Errorf("% X is answered by function %d", pdu, answer[0])
		case answer[0]&exceptionFlag != 0 && pdu[0]&exceptionFlag == 0 && len(answer) != 2:
			t.Errorf("% X is answered by the exception % X", pdu, answer)
		}
		if answer[0] == pdu[0]|exceptionFlag && pdu[0]&exceptionFlag == 0 {
			for area, octets := range m {
				if slices.ContainsFunc(octets, func(b byte) bool { return b != 0 }) {
					t.Errorf("% X is refused, and changes the %s", pdu, area)
				}
			}
		}
		for _, bit := range m[family.Coils] {
			if bit > 1 {
				t.Errorf("% X makes a coil %d", pdu, bit)
			}
		}
	})
}
