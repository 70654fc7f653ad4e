package codebook_test

import (
	"strings"
	"testing"

	"ferry/internal/core/codebook"
	_ "ferry/internal/families"
)

// TestFind: a number is found as the boxes show it, in every system and protocol that
// has it, and a text by its words.
func TestFind(t *testing.T) {
	for _, c := range []struct{ text, first, of string }{
		{"2", "illegal data address", "Modbus TCP"},
		{"0x0B", "gateway target device failed to respond", "Modbus"},
		{"0bh", "gateway target device failed to respond", "Modbus"},
		{"10061", "ECONNREFUSED", "Windows"},
		{"111", "ECONNREFUSED", "Linux"},
		{"econnreset", "ECONNRESET", "Linux"},
		{"forcibly closed", "ECONNRESET", "Linux"},
		{"exception-address", "illegal data address", "Modbus"},
		{"-2", "EAI_NONAME", "Linux"},
		{"0x8E", "session taken over", "MQTT"},
		{"0x0127", "size towards it wrong", "EtherNet/IP"},
	} {
		found := codebook.Find(c.text)
		if len(found) == 0 || !strings.Contains(found[0].Name, c.first) || !strings.Contains(found[0].Of, c.of) {
			t.Errorf("%s: %+v", c.text, found)
		}
	}
	for _, text := range []string{"", "  ", "no such thing at all", "99999"} {
		if found := codebook.Find(text); len(found) > 0 {
			t.Errorf("%q: %+v", text, found)
		}
	}
	for _, e := range codebook.All() {
		if e.Means == "" || e.Look == "" || e.Name == "" {
			t.Errorf("%+v says too little", e)
		}
	}
}
