package certs

import (
	"encoding/pem"
	"strings"
	"testing"
	"time"
)

// TestTrust: who is not trusted, and what is otherwise with a certificate, is said with its reason.
func TestTrust(t *testing.T) {
	now := time.Now()
	made, _, err := Make("Hall supervisor", "urn:skerry:hall", []string{"hall.skerry.example", "192.0.2.90"}, now)
	if err != nil {
		t.Fatal(err)
	}
	block, _ := pem.Decode(made)
	other, _, err := Make("Hall supervisor", "urn:skerry:hall", nil, now)
	if err != nil {
		t.Fatal(err)
	}
	late := now.AddDate(20, 0, 0)
	for name, c := range map[string]struct {
		why, want string
	}{
		"trusted":         {Untrusted(block.Bytes, made, "server", now), ""},
		"nobody trusted":  {Untrusted(block.Bytes, nil, "server", now), "is not trusted (Hall supervisor, fingerprint"},
		"another trusted": {Untrusted(block.Bytes, other, "server", now), "is not trusted"},
		"expired":         {Untrusted(block.Bytes, made, "server", late), "is not valid at this time"},
		"not yet":         {Untrusted(block.Bytes, made, "client", now.AddDate(-1, 0, 0)), "compare the clocks"},
		"octets":          {Untrusted([]byte("x"), made, "client", now), "cannot be read"},

		"as it should be": {notes(block.Bytes, "192.0.2.90", "urn:skerry:hall", now), ""},
		"by name":         {notes(block.Bytes, "hall.skerry.example", "", now), ""},
		"another host": {notes(block.Bytes, "192.0.2.91", "urn:skerry:hall", now),
			"is for hall.skerry.example, 192.0.2.90, and not for 192.0.2.91"},
		"another end":      {notes(block.Bytes, "192.0.2.90", "urn:skerry:shore", now), "urn:skerry:shore"},
		"expired, as note": {notes(block.Bytes, "192.0.2.90", "urn:skerry:hall", late), "and not now"},
		"octets, as note":  {notes([]byte("x"), "", "", now), "cannot be read"},
	} {
		if (c.why == "") != (c.want == "") || !strings.Contains(c.why, c.want) {
			t.Errorf("%s: %q, want %q", name, c.why, c.want)
		}
	}
}

func notes(der []byte, host, application string, now time.Time) string {
	return strings.Join(Elsewhere(der, host, application, now), "; ")
}
