package precise

import (
	"net"
	"testing"
	"time"
)

// TestArrivals: a packet that is read late has the time at which it arrived.
func TestArrivals(t *testing.T) {
	in, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	out, err := net.Dial("udp4", in.LocalAddr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	a := NewArrivals(in)
	if a.Behind(time.Now()) {
		t.Error("nothing has come, and it is behind")
	}
	before := time.Now()
	if _, err := out.Write([]byte{1, 2, 3}); err != nil {
		t.Fatal(err)
	}
	after := time.Now()
	for deadline := after.Add(5 * time.Second); !a.Behind(after); time.Sleep(time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("what came is not seen to wait")
		}
	}
	time.Sleep(80 * time.Millisecond)
	room := make([]byte, 16)
	n, _, at, err := a.Read(room)
	const tick = 5 * time.Millisecond // of the clock that stamps
	if err != nil || n != 3 || at.Before(before.Add(-tick)) || at.After(after.Add(40*time.Millisecond)) {
		t.Errorf("%d octets, %v: at %v after it was sent", n, err, at.Sub(before))
	}
	if a.Behind(after) {
		t.Error("all is read, and it is behind")
	}
}
