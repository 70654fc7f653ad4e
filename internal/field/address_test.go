package field

import (
	"net/netip"
	"testing"
)

// TestMayDial: an address that no plant has is refused however it is written,
// and as a name resolves to it.
func TestMayDial(t *testing.T) {
	for text, may := range map[string]bool{
		"192.0.2.10": false, "::ffff:192.0.2.10": false, "::ffff:198.51.100.1": false, "203.0.113.255": false,
		"2001:db8::1": false, "2001:db8::1%eth0": false,
		"0.0.0.0": false, "::": false, "::ffff:0.0.0.0": false, "224.0.0.1": false, "ff02::1%eth0": false,
		"255.255.255.255": false, "::ffff:255.255.255.255": false,
		"127.0.0.1": true, "::1": true, "10.0.0.9": true, "192.0.3.1": true, "fe80::1%eth0": true,
		"::ffff:10.1.2.3": true,
	} {
		if err := mayDial(netip.MustParseAddr(text)); (err == nil) != may {
			t.Errorf("%s: %v", text, err)
		}
		if err := MayDial("tcp", netip.AddrPortFrom(netip.MustParseAddr(text), 502).String(),
			nil); (err == nil) != may {
			t.Errorf("%s when it is dialled: %v", text, err)
		}
	}
	if err := MayDial("tcp", "no address", nil); err == nil {
		t.Error("what is no address is dialled")
	}
}
