package opcua_test

import (
	"context"
	"io"
	"math/rand/v2"
	"net"
	"testing"
	"time"

	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// TestMangled: a server whose octets are damaged costs its own session, and nothing else.
func TestMangled(t *testing.T) {
	s, b, _ := hall(t, fast)
	behind := b.List(s)[0].URL
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	r := rand.New(rand.NewPCG(1, uint64(len(behind))))
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go mangle(c, hostOf(behind), rand.New(rand.NewPCG(r.Uint64(), 7)))
		}
	}()
	driver, _, err := field.DriverOf("opc.tcp")
	if err != nil {
		t.Fatal(err)
	}
	var wanted []protocol.Wanted
	for i := range s.Devices[1].Points {
		wanted = append(wanted, s.Devices[1].Points[i].Wanted())
	}
	end := time.Now().Add(2 * time.Second)
	tries := 0
	for ; time.Now().Before(end); tries++ {
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		conn, _ := driver.Dial(ctx, field.Target{Dial: l.Addr().String(), Settings: protocol.Settings{
			protocol.KeyWithin: protocol.OfInt(300), "publishMs": protocol.OfInt(20)}})
		if conn != nil {
			conn.(field.Reporter).Follow(wanted)
			conn.(field.Lister).List("")
			conn.(field.ItemWriter).WriteItem(wanted[1], value.OfFloat(3), func() (func(), error) { return func() {}, nil })
			time.Sleep(60 * time.Millisecond)
			_ = conn.Close()
		}
		cancel()
	}
	t.Logf("%d sessions", tries)
}

func hostOf(url string) string {
	host := url[len("opc.tcp://"):]
	for i := range host {
		if host[i] == '?' || host[i] == '/' {
			return host[:i]
		}
	}
	return host
}

// mangle passes octets on, some of those of the server damaged.
func mangle(c net.Conn, to string, r *rand.Rand) {
	defer c.Close()
	s, err := net.Dial("tcp", to)
	if err != nil {
		return
	}
	defer s.Close()
	go func() { _, _ = io.Copy(s, c); _ = s.Close() }()
	buffer := make([]byte, 64<<10)
	calm := r.IntN(6)
	for n := 0; ; n++ {
		k, err := s.Read(buffer)
		if err != nil {
			return
		}
		if n >= calm {
			for range 1 + r.IntN(3) {
				at := r.IntN(k)
				switch r.IntN(4) {
				case 0:
					buffer[at] = byte(r.Uint32())
				case 1:
					buffer[at] = 0xFF
				case 2:
					buffer[at] ^= 1 << r.IntN(8)
				case 3:
					for i := at; i < min(k, at+4); i++ {
						buffer[i] = 0xFF
					}
				}
			}
		}
		if _, err := c.Write(buffer[:k]); err != nil {
			return
		}
	}
}
