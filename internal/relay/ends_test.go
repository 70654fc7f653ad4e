package relay

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"math/big"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/serial"
	"ferry/internal/pipe"
)

// pair is a certificate that nobody signs.
func pair(t testing.TB) tls.Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	is := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, is, is, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// chain starts two relays: a caller speaks raw to the first, the ends in between speak
// to each other, and the second has the far end.
func chain(t *testing.T, between, calls End, far End, ground Ground) (first, second *Relay) {
	t.Helper()
	between.How, between.At = Listen, "127.0.0.1:0"
	second, err := Start(Setup{Near: between, Far: far}, ground)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = second.Close() })
	calls.How, calls.At = Call, second.Near.At
	if calls.Pin == "shown" {
		calls.Pin = second.State().Shows
	}
	first, err = Start(Setup{Near: End{How: Listen, At: "127.0.0.1:0"}, Far: calls}, ground)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = first.Close() })
	return first, second
}

// played is the far end of a serial port: what it is sent comes back.
func played(t *testing.T) *pipe.Pipe {
	t.Helper()
	p := pipe.New()
	stop := make(chan struct{})
	done := make(chan struct{})
	go func() {
		defer close(done)
		buf := make([]byte, 4096)
		for {
			select {
			case <-stop:
				return
			default:
			}
			if n, open := p.Take(buf, 20*time.Millisecond); n > 0 {
				p.Give(bytes.Clone(buf[:n]))
			} else if !open {
				time.Sleep(5 * time.Millisecond)
			}
		}
	}()
	t.Cleanup(func() { close(stop); <-done; _ = p.Close() })
	return p
}

// TestTunnels: what a caller says passes each kind of tunnel unchanged, every octet that
// there is; and who is not to be let in is not.
func TestTunnels(t *testing.T) {
	certificate := pair(t)
	ground := Ground{Certificate: func() (tls.Certificate, error) { return certificate, nil },
		Secret: func(name string) (string, error) {
			if name == "none" {
				return "", errors.New("it is not kept")
			}
			return "secret of " + name, nil
		}}
	every := make([]byte, 256)
	for i := range every {
		every[i] = byte(i)
	}
	text := string(bytes.Repeat(every, 40))
	at := serial.Format{Baud: 9600, Data: 8, Parity: serial.None, Stop: 2}
	user := func(secret, pin string) End { return End{Speaks: WithUser, User: "row-a", Secret: secret, Pin: pin} }
	for _, c := range []struct {
		name           string
		between, calls End
		fails          string // what the first says then
	}{
		{"raw", End{}, End{}, ""},
		{"TLS", End{Speaks: TLS}, End{Speaks: TLS, Pin: "shown"}, ""},
		{"TLS of another", End{Speaks: TLS}, End{Speaks: TLS, Pin: strings.Repeat("00", 32)}, "another certificate"},
		{"TLS of nobody that this machine trusts", End{Speaks: TLS}, End{Speaks: TLS}, "certificate"},
		{"TLS with user", user("right", ""), user("right", "shown"), ""},
		{"TLS with a wrong secret", user("right", ""), user("wrong", "shown"), "does not take the user"},
		{"a secret that is not kept", user("right", ""), user("none", "shown"), "not kept"},
		{"RFC 2217", End{Speaks: RFC2217}, End{Speaks: RFC2217, Format: &at}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			first, _ := chain(t, c.between, c.calls, End{How: Call, At: echo(t)}, ground)
			conn := call(t, first)
			if c.fails != "" {
				waitFor(t, func() bool { return strings.Contains(first.State().Says, c.fails) })
				ended(t, conn)
				return
			}
			asks(t, conn, "hello")
			asks(t, conn, text)
		})
	}
}

// TestFarPort: the serial port behind a tunnel is set as the caller wishes, by RFC 2217,
// and octets go on unchanged afterwards.
func TestFarPort(t *testing.T) {
	p := played(t)
	usual, wished := serial.Usual, serial.Format{Baud: 9600, Data: 7, Parity: serial.Odd, Stop: 2}
	first, second := chain(t, End{Speaks: RFC2217}, End{Speaks: RFC2217, Format: &wished},
		End{How: SerialAt, At: p.Name, Format: &usual}, Ground{})
	c := call(t, first)
	asks(t, c, "hello")
	waitFor(t, func() bool { return p.Format() == wished })
	asks(t, c, string([]byte{0xFF, 0, 0xFF, 0xFF, 13, 10}))
	if s := first.State(); s.Says != "" {
		t.Errorf("it says %q", s.Says)
	}
	_ = c.Close()
	waitFor(t, func() bool { return second.State().Open == 0 })
	asks(t, call(t, first), "again") // the port was given back, and is opened anew
}

// TestNoRFC2217: a box that does not know the commands is said to be so.
func TestNoRFC2217(t *testing.T) {
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
			go func() { _, _ = io.Copy(io.Discard, c) }()
		}
	}()
	r, err := Start(Setup{Near: End{How: Listen, At: "127.0.0.1:0"},
		Far: End{How: Call, At: l.Addr().String(), Speaks: RFC2217, Format: &serial.Usual}}, Ground{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = r.Close() })
	call(t, r)
	waitFor(t, func() bool { return strings.Contains(r.State().Says, "may not know RFC 2217") })
}

// TestSerialEnds: from TCP to a serial port shared by two callers, from a serial port to
// TCP, and a port that is only listened at.
func TestSerialEnds(t *testing.T) {
	p := played(t)
	shared, err := Start(Setup{Near: End{How: Listen, At: "127.0.0.1:0"},
		Far: End{How: SerialAt, At: p.Name, Format: &serial.Usual, Gender: "dce"}}, Ground{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = shared.Close() })
	one, two := call(t, shared), call(t, shared)
	asks(t, one, "one")
	heard := make([]byte, 3)
	_ = two.SetDeadline(time.Now().Add(5 * time.Second))
	if _, err := io.ReadFull(two, heard); err != nil || string(heard) != "one" {
		t.Errorf("the other caller hears %q, %v", heard, err)
	}
	if notes := strings.Join(shared.State().Notes, " "); !strings.Contains(notes, "straight") ||
		!strings.Contains(notes, "share the serial port") {
		t.Errorf("notes %q", notes)
	}

	asker := pipe.New()
	t.Cleanup(func() { _ = asker.Close() })
	from, err := Start(Setup{Near: End{How: SerialAt, At: asker.Name, Format: &serial.Usual},
		Far: End{How: Call, At: echo(t)}}, Ground{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = from.Close() })
	waitFor(t, func() bool { return from.State().Open == 1 })
	back := func(p *pipe.Pipe, n int) string {
		var got []byte
		for end := time.Now().Add(5 * time.Second); len(got) < n && time.Now().Before(end); {
			buf := make([]byte, 100)
			k, _ := p.Take(buf, 50*time.Millisecond)
			got = append(got, buf[:k]...)
		}
		return string(got)
	}
	asker.Give([]byte("request"))
	if got := back(asker, 7); got != "request" {
		t.Errorf("%q comes back over the serial port", got)
	}

	tap := pipe.New()
	t.Cleanup(func() { _ = tap.Close() })
	listens, err := Start(Setup{Watch: true, Near: End{How: SerialAt, At: tap.Name, Format: &serial.Usual}}, Ground{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = listens.Close() })
	waitFor(t, func() bool { return listens.State().Open == 1 })
	if says := listens.State().Says; !strings.Contains(says, "Nothing is heard yet") {
		t.Errorf("it says %q", says)
	}
	tap.Give([]byte("overheard"))
	waitFor(t, func() bool { return listens.State().Received == 9 })
	if n, _ := tap.Take(make([]byte, 10), 100*time.Millisecond); n != 0 || listens.State().Sent != 0 {
		t.Errorf("a port that only listens has sent %d octets", n)
	}
}

// TestDatagrams: each datagram goes on as one, each caller has its own, and who is not
// on the list is not heard.
func TestDatagrams(t *testing.T) {
	far, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = far.Close() })
	go func() {
		buf := make([]byte, 65536)
		for {
			n, from, err := far.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			_, _ = far.WriteToUDPAddrPort(buf[:n], from)
		}
	}()
	setup := Setup{Near: End{How: Datagrams, At: "127.0.0.1:0"}, Far: End{How: Datagrams, At: far.LocalAddr().String()}}
	r, err := Start(setup, Ground{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = r.Close() })
	for _, text := range []string{"one", strings.Repeat("long", 8000)} {
		c, err := net.Dial("udp", r.Near.At)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = c.Close() })
		if _, err := io.WriteString(c, text); err != nil {
			t.Fatal(err)
		}
		buf := make([]byte, 65536)
		_ = c.SetDeadline(time.Now().Add(5 * time.Second))
		if n, err := c.Read(buf); err != nil || string(buf[:n]) != text {
			t.Errorf("%d octets came back, %v", n, err)
		}
	}
	waitFor(t, func() bool {
		s := r.State()
		return s.Callers == 2 && s.Sent == 32003 && s.Received == 32003
	})
	setup.Allow = []string{"192.0.2.0/24"}
	closed, err := Start(setup, Ground{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = closed.Close() })
	c, err := net.Dial("udp", closed.Near.At)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Close() })
	if _, err := io.WriteString(c, "hello"); err != nil {
		t.Fatal(err)
	}
	waitFor(t, func() bool { return closed.State().Away == 1 })
}

// TestBothCall: who asks is called by Ferry, and who answers calls it.
func TestBothCall(t *testing.T) {
	asking, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = asking.Close() })
	r, err := Start(Setup{Near: End{How: Call, At: asking.Addr().String()}, Far: End{How: Listen, At: "127.0.0.1:0"}},
		Ground{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = r.Close() })
	near, err := asking.Accept()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = near.Close() })
	far, err := net.Dial("tcp", r.Far.At)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = far.Close() })
	go func() { _, _ = io.Copy(far, far) }()
	asks(t, near, "who calls whom does not matter")
}

// TestEscapeAndFaults: the octets that end a caller end it, also where they come in
// pieces, and each fault of the bench does what it says.
func TestEscapeAndFaults(t *testing.T) {
	to := echo(t)
	r := started(t, Setup{Escape: "2B 2B 2B"}, to)
	c := call(t, r)
	asks(t, c, "++ is none")
	asks(t, c, "+")
	_, _ = io.WriteString(c, "+")
	time.Sleep(20 * time.Millisecond)
	_, _ = io.WriteString(c, "+x")
	time.Sleep(20 * time.Millisecond)
	_, _ = io.ReadFull(c, make([]byte, 1))
	ended(t, c)
	if len(r.State().Notes) != 1 {
		t.Errorf("notes %q", r.State().Notes)
	}
	for _, f := range []struct {
		fault Fault
		back  string // of "request", within half a second
		least time.Duration
	}{
		{Fault{}, "request", 0},
		{Fault{"delay", 120}, "request", 120 * time.Millisecond},
		{Fault{"drop", 100}, "", 0},
		{Fault{"flip", 100}, "reqeest", 0},
		{Fault{"split", 60}, "request", 60 * time.Millisecond},
		{Fault{"cut", 3}, "", 0},
		{Fault{"mute", 0}, "", 0},
	} {
		t.Run("fault "+f.fault.Kind, func(t *testing.T) {
			r := started(t, Setup{Fault: f.fault}, to)
			c := call(t, r)
			began := time.Now()
			if _, err := io.WriteString(c, "request"); err != nil {
				t.Fatal(err)
			}
			_ = c.SetDeadline(time.Now().Add(500 * time.Millisecond))
			got := make([]byte, 7)
			n, _ := io.ReadFull(c, got)
			if string(got[:n]) != f.back || time.Since(began) < f.least {
				t.Errorf("%q came back after %v", got[:n], time.Since(began))
			}
			waitFor(t, func() bool { // what the caller got is what is recorded
				said, _ := r.Said()
				passed := ""
				for _, s := range said {
					if s.Side == 1 {
						passed += string(s.Octets)
					}
				}
				return passed == f.back
			})
		})
	}
	for _, bad := range []Setup{{Fault: Fault{"burn", 0}}, {Fault: Fault{"drop", 0}}, {Escape: "x"},
		{Near: End{How: Listen, At: "here"}}, {Near: End{How: SerialAt, At: "/dev/ttyS9"}},
		{Near: End{How: Listen, At: "127.0.0.1:0", Speaks: WithUser}}, {Near: End{How: Datagrams, At: "127.0.0.1:0"}},
		{Near: End{How: Listen, At: "127.0.0.1:0", Gender: "x"}}, {Near: End{How: "guess"}}} {
		if bad.Near.How == "" {
			bad.Near = End{How: Listen, At: "127.0.0.1:0"}
		}
		if r, err := Start(bad, Ground{Far: Dialled(to, netip.AddrPort{})}); err == nil {
			_ = r.Close()
			t.Errorf("%+v is taken", bad)
		}
	}
}

// quiet is a stream that takes everything and says nothing.
type quiet struct{ bytes.Buffer }

func (*quiet) At() netip.AddrPort { return netip.AddrPort{} }
func (*quiet) Close() error       { return nil }

// FuzzTelnet: whatever octets come, in whatever pieces, they are taken in; and data that
// is sent by one side is read by the other as it was.
func FuzzTelnet(f *testing.F) {
	f.Add([]byte{1, 2, 255, 255, 3}, true)
	f.Add([]byte{255, 250, 44, 1, 0, 0, 37, 128, 255, 240, 9}, true)
	f.Add([]byte{255, 253, 44, 255, 251, 0, 255, 250, 44, 255, 255, 255}, false)
	f.Fuzz(func(t *testing.T, data []byte, server bool) {
		end := newTelnet(&quiet{}, server, serial.Usual, func(f serial.Format) serial.Format { return f })
		for _, b := range data {
			end.take(nil, []byte{b})
		}
		if err := end.format.Check(); server && err != nil {
			t.Errorf("the port is set to %v: %v", end.format, err)
		}
		wire := &quiet{}
		from := newTelnet(wire, false, serial.Usual, nil)
		if _, err := from.Write(data); err != nil {
			t.Fatal(err)
		}
		if got := newTelnet(&quiet{}, true, serial.Usual, nil).take(nil, wire.Bytes()); !bytes.Equal(got, data) {
			t.Errorf("% x becomes % x", data, got)
		}
	})
}
