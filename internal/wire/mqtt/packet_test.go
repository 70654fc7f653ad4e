package mqtt

import (
	"bytes"
	"strings"
	"testing"

	"ferry/internal/core/exchange"
)

func said(fields []exchange.Field) string {
	var list []string
	for _, f := range fields {
		if f.Meaning != "" {
			list = append(list, f.Label+"="+f.Meaning)
		} else {
			list = append(list, f.Label)
		}
	}
	return strings.Join(list, "; ")
}

// TestLabels: every octet of a packet is said to be something, in either version.
func TestLabels(t *testing.T) {
	for packet, want := range map[string]string{
		"\x10\x1B\x00\x04MQTT\x04\xC2\x00\x3C\x00\x05ferry\x00\x03hal\x00\x03sea": "packet=connect; octets follow=27; protocol=MQTT; " +
			"version=3.1.1; flags=new session, user, password; sign of life every, s=60; client id=ferry; user=hal; password",
		"\x20\x02\x00\x05":                "packet=connected; octets follow=2; session=new; code=user not authorised",
		"\x33\x0B\x00\x03a/b\x00\x098.42": "packet=publish, service 1, retained; octets follow=11; topic=a/b; number=9; payload=8.42",
		"\x30\x0A\x00\x03a/b\x008.42":     "packet=publish, service 0; octets follow=10; topic=a/b; properties; payload=8.42",
		"\x82\x0A\x00\x07\x00\x01a\x01\x00\x01b\x00": "packet=subscribe; octets follow=10; number=7; topic=a; service=1; topic=b; " +
			"service=0",
		"\x82\x07\x00\x07\x00\x00\x01a\x02": "packet=subscribe; octets follow=7; number=7; properties; topic=a; service=2",
		"\x90\x04\x00\x07\x01\x80":          "packet=subscribed; octets follow=4; number=7; code=granted, service 1; code=refused",
		"\xE0\x00":                          "packet=disconnect; octets follow=0",
		"\x10\x05\x00\x04MQT":               "packet=connect; octets follow=5; cut short",
	} {
		fields := Labels([]byte(packet))
		if got := said(fields); got != want {
			t.Errorf("%q\nis  %s\nand %s", packet, got, want)
		}
		covers(t, packet, fields)
	}
}

func covers(t *testing.T, packet string, fields []exchange.Field) {
	t.Helper()
	at := 0
	for _, f := range fields {
		if f.From != at || f.To <= f.From || f.To > len(packet) {
			t.Fatalf("%q: %v is a gap, or runs over", packet, f)
		}
		at = f.To
	}
	if at != len(packet) && len(packet) >= 2 {
		t.Fatalf("%q: what follows octet %d is nothing", packet, at)
	}
}

// FuzzPackets: whatever comes is labelled whole, and a password does not stay.
func FuzzPackets(f *testing.F) {
	for _, packet := range []string{"\x10\x1B\x00\x04MQTT\x04\xC2\x00\x3C\x00\x05ferry\x00\x03hal\x00\x03sea",
		"\x20\x02\x00\x05",
		"\x33\x0B\x00\x03a/b\x00\x098.42", "\x82\x07\x00\x07\x00\x00\x01a\x02", "\x90\x04\x00\x07\x01\x80", "\xE0\x00", ""} {
		f.Add([]byte(packet))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		n, err := Frame(b, mostPacket)
		if err != nil || n == 0 || n > len(b) {
			return
		}
		b = b[:n]
		covers(t, string(b), Labels(b))
		_, _ = Topic(b), Number(b)
		if kept := bytes.Clone(b); Kind(kept) == Connect {
			Mask(kept)
			if fields, whole := connectFields(b); whole {
				for _, f := range fields {
					if f.Label == "password" && f.To > f.From+2 && strings.Trim(string(kept[f.From+2:f.To]), "*") != "" {
						t.Fatalf("%q keeps %q", b, kept)
					}
				}
			}
		}
		_ = recognise([2][]byte{b, nil})
	})
}
