package relay

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"strings"
	"syscall"
	"time"

	"ferry/internal/core/serial"
)

// End is one end of a relay: how it is reached, and what it speaks.
type End struct {
	How How `json:"how" jsonschema:"enum=listen,enum=call,enum=port,enum=datagrams"`
	// At is an address with its port, or the path of a serial port of this machine.
	At     string `json:"at"`
	Speaks Speaks `json:"speaks,omitempty" jsonschema:"enum=tls,enum=tls-user,enum=rfc2217"`
	// Format is how a serial port is set: that of this machine, or the one behind a box
	// that speaks RFC 2217.
	Format *serial.Format `json:"format,omitempty"`
	// User, and Secret by the name under which it is kept, are asked for or given.
	User   string `json:"user,omitempty"`
	Secret string `json:"secret,omitempty"`
	// Pin is the SHA-256 of the certificate that the far end of TLS has to show, in
	// hexadecimal.
	Pin string `json:"pin,omitempty"`
	// Gender is that of the port that is joined to a serial port here: dte or dce.
	Gender string `json:"gender,omitempty" jsonschema:"enum=dte,enum=dce"`
}

// How an end is reached.
type How string

// The ways: to wait for calls over TCP, to call, a serial port of this machine, and
// datagrams of UDP.
const (
	Listen    How = "listen"
	Call      How = "call"
	SerialAt  How = "port"
	Datagrams How = "datagrams"
)

// Speaks is what goes over a TCP connection.
type Speaks string

// Raw is the octets alone; WithUser asks for a name and a secret once TLS stands; RFC2217
// has the commands by which a serial port is set between them.
const (
	Raw      Speaks = ""
	TLS      Speaks = "tls"
	WithUser Speaks = "tls-user"
	RFC2217  Speaks = "rfc2217"
)

// Ground is what a relay stands on.
type Ground struct {
	// Certificate is what callers over TLS are shown.
	Certificate func() (tls.Certificate, error)
	// Secret returns a secret by its name.
	Secret func(name string) (string, error)
	// Control may refuse an address that is called.
	Control func(network, address string, c syscall.RawConn) error
	// Far opens the far end where it is that of a link; nil for Setup.Far.
	Far Dial
}

// stream is a connection, or what stands for one.
type stream interface {
	io.ReadWriteCloser
	// At is its address, as it stands in recordings.
	At() netip.AddrPort
}

// check says what is wrong with an end.
func (e *End) check() error {
	switch e.How {
	case Listen, Call, Datagrams:
		if _, _, err := net.SplitHostPort(e.At); err != nil {
			return fmt.Errorf("%q is no address with a port, such as 127.0.0.1:4001", e.At)
		}
	case SerialAt:
		if e.At == "" || e.Format == nil {
			return errors.New("a serial port needs its path and its format")
		}
	default:
		return fmt.Errorf("%q is no way to reach an end: listen, call, port or datagrams", e.How)
	}
	if e.Format != nil {
		if err := e.Format.Check(); err != nil {
			return err
		}
	}
	if !slices.Contains([]Speaks{Raw, TLS, WithUser, RFC2217}, e.Speaks) {
		return fmt.Errorf("%q is nothing that an end speaks: leave it empty, or tls, tls-user or rfc2217", e.Speaks)
	}
	if e.Speaks != Raw && e.How != Listen && e.How != Call {
		return errors.New("TLS and RFC 2217 go over a TCP connection alone")
	}
	if e.Speaks == WithUser && (e.User == "" || e.Secret == "") {
		return errors.New("TLS with a user needs the user's name and secret")
	}
	if e.Speaks == RFC2217 && e.How == Call && e.Format == nil {
		return errors.New("what is to be set at the far port needs a format")
	}
	if !slices.Contains([]string{"", "dte", "dce"}, e.Gender) {
		return fmt.Errorf("%q is no gender of a port: dte or dce", e.Gender)
	}
	if pin := strings.NewReplacer(":", "", " ", "").Replace(e.Pin); pin != "" && len(pin) != 64 {
		return errors.New("a fingerprint has 64 hexadecimal digits")
	}
	return nil
}

// fingerprint is the SHA-256 of a certificate.
func fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	return fmt.Sprintf("%X", sum[:])
}

// handshakeWithin bounds TLS, and the asking for a user.
const handshakeWithin = 10 * time.Second

// tcp is a connection over TCP, secured or not, with its address in recordings.
type tcp struct {
	net.Conn
	at netip.AddrPort
}

func (t tcp) At() netip.AddrPort { return t.at }

// CloseWrite says that nothing more comes from here.
func (t tcp) CloseWrite() error {
	if half, ok := t.Conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return t.Conn.Close()
}

func addressOf(a net.Addr) netip.AddrPort {
	var at netip.AddrPort
	switch a := a.(type) {
	case *net.TCPAddr:
		at = a.AddrPort()
	case *net.UDPAddr:
		at = a.AddrPort()
	}
	return netip.AddrPortFrom(at.Addr().Unmap(), at.Port())
}

// answer makes a caller's connection what its end speaks: the side that is called.
func (e *End) answer(c net.Conn, g *Ground, set func(serial.Format) serial.Format) (stream, error) {
	at := addressOf(c.RemoteAddr())
	switch e.Speaks {
	case TLS, WithUser:
		pair, err := g.Certificate()
		if err != nil {
			return nil, fmt.Errorf("there is no certificate to show: %w", err)
		}
		secured := tls.Server(c, &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12})
		if err := c.SetDeadline(time.Now().Add(handshakeWithin)); err != nil {
			return nil, err
		}
		if err := secured.Handshake(); err != nil {
			return nil, fmt.Errorf("%s does not come over TLS: %w", at, err)
		}
		if e.Speaks == WithUser {
			secret, err := g.Secret(e.Secret)
			if err != nil {
				return nil, err
			}
			if err := admit(secured, e.User, secret); err != nil {
				return nil, fmt.Errorf("%s is not let in: %w", at, err)
			}
		}
		return tcp{secured, at}, c.SetDeadline(time.Time{})
	case RFC2217:
		format := serial.Usual
		if e.Format != nil {
			format = *e.Format
		}
		return newTelnet(tcp{c, at}, true, format, set), nil
	}
	return tcp{c, at}, nil
}

// call opens a connection to an end: the side that calls. note is what is worth knowing
// of it, empty for nothing.
func (e *End) call(ctx context.Context, g *Ground) (_ stream, note string, err error) {
	dialer := net.Dialer{Timeout: connectWithin, Control: g.Control}
	c, err := dialer.DialContext(ctx, "tcp", e.At)
	if err != nil {
		return nil, "", err
	}
	defer func() {
		if err != nil {
			_ = c.Close()
		}
	}()
	stop := context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	at := addressOf(c.RemoteAddr())
	switch e.Speaks {
	case TLS, WithUser:
		if err := c.SetDeadline(time.Now().Add(handshakeWithin)); err != nil {
			return nil, "", err
		}
		secured := tls.Client(c, e.trusts())
		if err := secured.HandshakeContext(ctx); err != nil {
			return nil, "", err
		}
		if e.Speaks == WithUser {
			secret, err := g.Secret(e.Secret)
			if err != nil {
				return nil, "", err
			}
			if err := signIn(secured, e.User, secret); err != nil {
				return nil, "", err
			}
		}
		return tcp{secured, at}, "", c.SetDeadline(time.Time{})
	case RFC2217:
		t := newTelnet(tcp{c, at}, false, *e.Format, nil)
		if err := c.SetReadDeadline(time.Now().Add(3 * time.Second)); err != nil {
			return nil, "", err
		}
		switch is, ok := t.ask(*e.Format); {
		case !ok:
			note = "The box does not say that it has set its port: it may not know RFC 2217."
		case is != *e.Format:
			note = fmt.Sprintf("The box has set its port to %s, not to %s.", is, *e.Format)
		}
		return t, note, c.SetReadDeadline(time.Time{})
	}
	return tcp{c, at}, "", nil
}

// trusts takes the certificate that was pinned, and without a pin one that this machine
// trusts for the name.
func (e *End) trusts() *tls.Config {
	host, _, _ := net.SplitHostPort(e.At)
	pin := strings.ToUpper(strings.NewReplacer(":", "", " ", "").Replace(e.Pin))
	config := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if pin == "" {
		return config
	}
	config.InsecureSkipVerify = true // in the place of the chain the certificate itself is compared
	config.VerifyPeerCertificate = func(raw [][]byte, _ [][]*x509.Certificate) error {
		if len(raw) == 0 {
			return errors.New("it shows no certificate")
		}
		if is := fingerprint(raw[0]); subtle.ConstantTimeCompare([]byte(is), []byte(pin)) != 1 {
			return fmt.Errorf("it shows another certificate: its fingerprint is %s", is)
		}
		return nil
	}
	return config
}

// admit asks a caller for its user and secret, a line each.
func admit(c io.ReadWriter, user, secret string) error {
	var got [2]string
	for i, prompt := range []string{"user: ", "password: "} {
		if _, err := io.WriteString(c, prompt); err != nil {
			return err
		}
		line, err := readLine(c)
		if err != nil {
			return err
		}
		got[i] = line
	}
	right := subtle.ConstantTimeCompare([]byte(got[0]), []byte(user)) &
		subtle.ConstantTimeCompare([]byte(got[1]), []byte(secret))
	if right != 1 {
		time.Sleep(time.Second) // nobody tries thousands
		_, _ = io.WriteString(c, "no\r\n")
		return errors.New("its user or secret is wrong")
	}
	_, err := io.WriteString(c, "ok\r\n")
	return err
}

// signIn gives user and secret to who asks for them.
func signIn(c io.ReadWriter, user, secret string) error {
	for _, text := range []string{user, secret} {
		if err := readUntil(c, ':'); err != nil {
			return fmt.Errorf("it does not ask for a user: %w", err)
		}
		if _, err := io.WriteString(c, text+"\r\n"); err != nil {
			return err
		}
	}
	line := ""
	for line == "" {
		var err error
		if line, err = readLine(c); err != nil {
			return fmt.Errorf("it hangs up once it has the user: %w", err)
		}
		line = strings.TrimSpace(line)
	}
	if strings.HasPrefix(line, "no") {
		return errors.New("it does not take the user, or the secret")
	}
	return nil
}

// readLine reads a short line, octet by octet: what follows it is data.
func readLine(c io.Reader) (string, error) {
	var line []byte
	for b := [1]byte{}; len(line) < 256; {
		if _, err := io.ReadFull(c, b[:]); err != nil {
			return "", err
		}
		if b[0] == '\n' {
			return strings.TrimRight(string(line), "\r"), nil
		}
		line = append(line, b[0])
	}
	return "", errors.New("a line of more than 256 octets")
}

func readUntil(c io.Reader, mark byte) error {
	for n, b := 0, [1]byte{}; n < 512; n++ {
		if _, err := io.ReadFull(c, b[:]); err != nil {
			return err
		}
		if b[0] == mark {
			return nil
		}
	}
	return errors.New("what it says is no question")
}
