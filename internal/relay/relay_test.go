package relay

import (
	"bytes"
	"io"
	"net"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/capture"
)

// echo answers each octet with itself, one more.
func echo(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				buf := make([]byte, 64<<10)
				for {
					n, err := c.Read(buf)
					if err != nil {
						return
					}
					if _, err := c.Write(buf[:n]); err != nil {
						return
					}
				}
			}()
		}
	}()
	return l.Addr().String()
}

func started(t testing.TB, setup Setup, to string) *Relay {
	t.Helper()
	setup.Near = End{How: Listen, At: "127.0.0.1:0"}
	r, err := Start(setup, Ground{Far: Dialled(to, netip.MustParseAddrPort("192.0.2.21:502"))})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = r.Close() })
	return r
}

func call(t testing.TB, r *Relay) net.Conn {
	t.Helper()
	c, err := net.Dial("tcp", r.Near.At)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Close() })
	return c
}

// asks says something and reads it back.
func asks(t testing.TB, c net.Conn, text string) {
	t.Helper()
	back := make([]byte, len(text))
	if err := c.SetDeadline(time.Now().Add(5 * time.Second)); err != nil {
		t.Fatal(err)
	}
	if _, err := io.WriteString(c, text); err != nil {
		t.Fatal(err)
	}
	if _, err := io.ReadFull(c, back); err != nil || string(back) != text {
		t.Fatalf("%q came back: %v", back, err)
	}
}

func ended(t testing.TB, c net.Conn) {
	t.Helper()
	_ = c.SetDeadline(time.Now().Add(5 * time.Second))
	if n, err := c.Read(make([]byte, 1)); n > 0 || err == nil {
		t.Errorf("it is still open: %d octets, %v", n, err)
	}
}

// TestRelay: what is said is passed on unchanged, counted, and remembered with its side
// and in its order.
func TestRelay(t *testing.T) {
	r := started(t, Setup{}, echo(t))
	c := call(t, r)
	asks(t, c, "one")
	asks(t, c, strings.Repeat("two", 50_000))
	_ = c.Close()
	waitFor(t, func() bool { return r.State().Open == 0 })
	said, ends := r.Said()
	var sides [2]bytes.Buffer
	for i, s := range said {
		sides[s.Side].Write(s.Octets)
		if i > 0 && s.At.Before(said[i-1].At.Add(-time.Second)) {
			t.Error("time runs backwards")
		}
	}
	if want := "one" + strings.Repeat("two", 50_000); sides[capture.Asker].String() != want ||
		sides[capture.Answerer].String() != want || said[0].What != Opened || len(ends) != 1 ||
		ends[1][1].String() != "192.0.2.21:502" {
		t.Errorf("%d and %d octets, %v", sides[0].Len(), sides[1].Len(), ends)
	}
	if s := r.State(); s.Sent != 150_003 || s.Received != 150_003 || s.Callers != 1 || s.Says != "" {
		t.Errorf("%+v", s)
	}
}

func waitFor(t testing.TB, done func() bool) {
	t.Helper()
	for range 500 {
		if done() {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Fatal("it does not come to that")
}

// TestWhoIsLetIn: any line that matches lets a caller in; one at a time where that is
// set; and what is quiet for too long is ended.
func TestWhoIsLetIn(t *testing.T) {
	to := echo(t)
	for _, c := range []struct {
		name  string
		setup Setup
		lets  bool
	}{
		{"everybody", Setup{}, true},
		{"the second line matches", Setup{Allow: []string{"10.20.0.0/16", "127.0.0.0/8"}}, true},
		{"no line matches", Setup{Allow: []string{"10.20.0.0/16", "192.0.2.7"}}, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := started(t, c.setup, to)
			conn := call(t, r)
			if c.lets {
				asks(t, conn, "hello")
				return
			}
			ended(t, conn)
			waitFor(t, func() bool { return r.State().Away == 1 })
		})
	}
	t.Run("one at a time", func(t *testing.T) {
		r := started(t, Setup{One: true}, to)
		first := call(t, r)
		asks(t, first, "hello")
		ended(t, call(t, r))
		_ = first.Close()
		waitFor(t, func() bool { return r.State().Open == 0 })
		asks(t, call(t, r), "again")
	})
	t.Run("quiet for too long", func(t *testing.T) {
		r := started(t, Setup{Idle: 1}, to)
		c := call(t, r)
		asks(t, c, "hello")
		ended(t, c)
	})
	t.Run("nobody there", func(t *testing.T) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		_ = l.Close()
		r := started(t, Setup{}, l.Addr().String())
		ended(t, call(t, r))
		waitFor(t, func() bool { return strings.Contains(r.State().Says, "does not take the connection") })
	})
	for _, bad := range []Setup{{Allow: []string{"everybody"}}, {Idle: -1}} {
		bad.Near = End{How: Listen, At: "127.0.0.1:0"}
		if _, err := Start(bad, Ground{Far: Dialled("", netip.AddrPort{})}); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}

// BenchmarkRelay sets a question and its answer through the relay beside the same
// through a bare copy loop.
func BenchmarkRelay(b *testing.B) {
	to := echo(b)
	bare, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { _ = bare.Close() })
	go func() {
		for {
			near, err := bare.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", to)
			if err != nil {
				return
			}
			go copyLoop(near, far)
			go copyLoop(far, near)
		}
	}()
	r := started(b, Setup{}, to)
	for _, through := range []struct{ name, address string }{{"bare copy", bare.Addr().String()}, {"relay", r.Near.At}} {
		for _, size := range []int{12, 32 << 10} {
			b.Run(through.name+map[bool]string{true: "/question", false: "/bulk"}[size == 12], func(b *testing.B) {
				c, err := net.Dial("tcp", through.address)
				if err != nil {
					b.Fatal(err)
				}
				defer c.Close()
				text := make([]byte, size)
				b.SetBytes(int64(size))
				b.ReportAllocs()
				var took []time.Duration
				for b.Loop() {
					began := time.Now()
					if _, err := c.Write(text); err != nil {
						b.Fatal(err)
					}
					if _, err := io.ReadFull(c, text); err != nil {
						b.Fatal(err)
					}
					took = append(took, time.Since(began))
				}
				slices.Sort(took)
				b.ReportMetric(float64(took[len(took)/2].Nanoseconds())/1e3, "p50-us")
				b.ReportMetric(float64(took[len(took)*99/100].Nanoseconds())/1e3, "p99-us")
			})
		}
	}
}

// copyLoop is a bare copy: io.Copy would have the kernel do it.
func copyLoop(from, to net.Conn) {
	defer to.Close()
	buf := make([]byte, 32<<10)
	for {
		n, err := from.Read(buf)
		if err != nil {
			return
		}
		if _, err := to.Write(buf[:n]); err != nil {
			return
		}
	}
}
