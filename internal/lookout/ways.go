package lookout

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/field"
)

// Catching is who takes on the bench what would leave this machine.
type Catching interface {
	Mail(secured bool) string // where mails are taken
	Web() string              // and what is posted
}

// Ways are those by which outlets are told.
type Ways struct {
	Engine *field.Engine
	// Kept returns secrets.
	Kept func(kind protocol.Kind, name string) ([]byte, error)
	// Programs are those that were allowed when Ferry was started, by their names.
	Programs map[string]string
	// Catcher takes what would leave, on the bench; Authority is who signs it there, in
	// PEM.
	Catcher   func() (Catching, error)
	Authority func() []byte
}

// tell tells an outlet.
func (w *Ways) tell(ctx context.Context, o *site.Outlet, n *Notice) error {
	switch o.Way {
	case site.ByMail:
		return w.mail(ctx, o, n)
	case site.ByWebhook:
		return w.post(ctx, o, n)
	case site.ByMessage:
		text, err := n.JSON()
		if err != nil {
			return err
		}
		return w.Engine.Message(ctx, o.Link, o.Topic, string(text))
	case site.ByProgram:
		return w.run(ctx, o, n)
	}
	return fmt.Errorf("%q is no way to tell", o.Way)
}

// secret is what an outlet needs to be let in; empty for nothing.
func (w *Ways) secret(o *site.Outlet) (string, error) {
	if o.Secret == "" {
		return "", nil
	}
	if w.Kept == nil {
		return "", fmt.Errorf("the secret %q is not kept on this machine", o.Secret)
	}
	data, err := w.Kept(protocol.Secret, o.Secret)
	return string(data), err
}

// dialer dials what a plant has, or on the bench the catcher in its place.
func dialer(instead string) func(ctx context.Context, network, address string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		d := net.Dialer{Timeout: 10 * time.Second}
		if instead != "" {
			return d.DialContext(ctx, "tcp", instead)
		}
		d.Control = field.MayDial
		return d.DialContext(ctx, network, address)
	}
}

// mail sends a mail.
func (w *Ways) mail(ctx context.Context, o *site.Outlet, n *Notice) error {
	host, port, err := net.SplitHostPort(o.Server)
	if err != nil {
		return err
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return err
	}
	m := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := errors.Join(m.From(o.From), m.To(o.To...)); err != nil {
		return err
	}
	m.Subject(n.Title)
	m.SetDateWithValue(n.At)
	m.SetMessageID()
	m.SetBodyString(mail.TypeTextPlain, n.Text)
	secured := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	options := []mail.Option{mail.WithPort(number), mail.WithTimeout(20 * time.Second), mail.WithHELO("ferry.localdomain")}
	instead := ""
	if w.Engine.Mode() == field.Bench {
		catcher, err := w.Catcher()
		if err != nil {
			return err
		}
		instead = catcher.Mail(o.Safe == site.WithTLS)
		secured.RootCAs, secured.ServerName = x509.NewCertPool(), "localhost"
		secured.RootCAs.AppendCertsFromPEM(w.Authority())
	}
	switch dial := dialer(instead); o.Safe {
	case site.WithTLS:
		options = append(options, mail.WithSSL(), mail.WithDialContextFunc(overTLS(dial, secured)))
	case site.StartTLS:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory), mail.WithDialContextFunc(dial))
	default:
		options = append(options, mail.WithTLSPolicy(mail.NoTLS), mail.WithDialContextFunc(dial))
	}
	options = append(options, mail.WithTLSConfig(secured))
	if o.User != "" {
		secret, err := w.secret(o)
		if err != nil {
			return err
		}
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(o.User),
			mail.WithPassword(secret))
	}
	client, err := mail.NewClient(host, options...)
	if err != nil {
		return err
	}
	if err := client.DialAndSendWithContext(ctx, m); err != nil {
		return problem.New("not-sent", "The mail was not taken by "+o.Server+": "+err.Error()+".",
			"Look at the server's address, how it is spoken to, and the user with the secret.")
	}
	return nil
}

// overTLS speaks TLS from the first octet on.
func overTLS(dial func(context.Context, string, string) (net.Conn, error), config *tls.Config) func(context.Context,
	string, string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		secured := tls.Client(conn, config)
		if err := secured.HandshakeContext(ctx); err != nil {
			return nil, errors.Join(err, conn.Close())
		}
		return secured, nil
	}
}

// post posts a notice to the web. It goes nowhere else than it was told to.
func (w *Ways) post(ctx context.Context, o *site.Outlet, n *Notice) error {
	body, err := n.JSON()
	if err != nil {
		return err
	}
	address, instead := o.URL, ""
	if w.Engine.Mode() == field.Bench {
		catcher, err := w.Catcher()
		if err != nil {
			return err
		}
		instead = catcher.Web()
		if rest, is := strings.CutPrefix(address, "https://"); is {
			address = "http://" + rest // the catcher has no certificate of another's name
		}
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	secret, err := w.secret(o)
	if err != nil {
		return err
	}
	if secret != "" {
		r.Header.Set("Authorization", "Bearer "+secret)
	}
	client := http.Client{Transport: &http.Transport{DialContext: dialer(instead), DisableKeepAlives: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := client.Do(r)
	if err != nil {
		return problem.New("not-sent", "Nothing took the post: "+err.Error()+".", "Look at its address.")
	}
	defer answer.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(answer.Body, 200)) // only for the words of an error
	if answer.StatusCode/100 != 2 {
		return problem.New("not-sent", fmt.Sprintf("%s answered the post with %s. %s", o.URL, answer.Status,
			strings.TrimSpace(string(said))), "Look at its address and at the secret.")
	}
	return nil
}

// run runs a program that was allowed by name, with the notice on its standard input.
func (w *Ways) run(ctx context.Context, o *site.Outlet, n *Notice) error {
	path, ok := w.Programs[o.Program]
	if !ok {
		return problem.New("not-allowed", fmt.Sprintf("No program was allowed as %q when Ferry was started.", o.Program),
			"Start Ferry with --program "+o.Program+"=PATH.")
	}
	text, err := n.JSON()
	if err != nil {
		return err
	}
	said := &bounded{most: 2000}
	c := exec.CommandContext(ctx, path)
	c.Stdin, c.Stdout, c.Stderr, c.WaitDelay = bytes.NewReader(text), said, said, time.Second
	group(c)
	if err := c.Run(); err != nil {
		return problem.New("not-run", fmt.Sprintf("%s failed: %v. %s", o.Program, err, strings.TrimSpace(said.String())), "")
	}
	return nil
}

// bounded keeps the first octets that are written to it.
type bounded struct {
	bytes.Buffer
	most int
}

func (b *bounded) Write(p []byte) (int, error) {
	b.Buffer.Write(p[:min(len(p), max(0, b.most-b.Len()))])
	return len(p), nil
}
