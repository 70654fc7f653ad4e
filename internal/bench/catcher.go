package bench

import (
	"bytes"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/mail"
	"slices"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Bounds of what is caught.
const (
	keptCaught = 200
	mostCaught = 1 << 20 // octets of one
)

// Catcher takes on the bench what would leave this machine otherwise: mails, by a
// server of its own, and what is posted to the web.
type Catcher struct {
	plain, secured, web net.Listener
	mails               *smtp.Server
	posts               *http.Server

	mu      sync.Mutex
	caught  []Caught
	refuses bool
}

// Caught is one mail or one post.
type Caught struct {
	AtMs int64    `json:"atMs"`
	Way  string   `json:"way"` // mail or webhook
	From string   `json:"from,omitempty"`
	To   []string `json:"to"` // addresses, or the host and path that was posted to
	// Subject of a mail, or the method and the form of a post.
	Subject string `json:"subject"`
	Text    string `json:"text"`
	// Secured is set where it came over TLS; User is who signed in.
	Secured bool   `json:"secured,omitempty"`
	User    string `json:"user,omitempty"`
}

// NewCatcher listens on loopback ports of its own.
func NewCatcher() (c *Catcher, err error) {
	c = &Catcher{}
	defer func() {
		if err != nil {
			err = errors.Join(err, c.Close())
		}
	}()
	config, err := Secured(Fault{})
	if err != nil {
		return c, err
	}
	for _, l := range []*net.Listener{&c.plain, &c.secured, &c.web} {
		if *l, err = net.Listen("tcp", loopback(0)); err != nil {
			return c, err
		}
	}
	c.mails = smtp.NewServer(smtp.BackendFunc(func(conn *smtp.Conn) (smtp.Session, error) {
		_, over := conn.TLSConnectionState()
		return &catching{catcher: c, caught: Caught{Way: "mail", Secured: over}, conn: conn}, nil
	}))
	c.mails.Domain, c.mails.TLSConfig, c.mails.MaxMessageBytes = "bench", config, mostCaught
	c.mails.ReadTimeout, c.mails.WriteTimeout = 20*time.Second, 20*time.Second
	c.mails.ErrorLog = quietly{}
	c.posts = &http.Server{Handler: http.HandlerFunc(c.posted), ReadTimeout: 20 * time.Second}
	for _, l := range []net.Listener{c.plain, tls.NewListener(c.secured, config)} {
		go func() { _ = c.mails.Serve(l) }() // it ends when the catcher is closed
	}
	go func() { _ = c.posts.Serve(c.web) }()
	return c, nil
}

// quietly drops what the mail server says of callers that hang up.
type quietly struct{}

func (quietly) Printf(string, ...any) {}
func (quietly) Println(...any)        {}

// Mail is where mails are taken, over TLS from the first octet on or not.
func (c *Catcher) Mail(secured bool) string {
	if secured {
		return c.secured.Addr().String()
	}
	return c.plain.Addr().String()
}

// Web is where posts are taken.
func (c *Catcher) Web() string { return c.web.Addr().String() }

// Refuse has it take nothing, as a server that is out of order.
func (c *Catcher) Refuse(refuses bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.refuses = refuses
}

// List returns what was caught, the newest first.
func (c *Catcher) List() []Caught {
	c.mu.Lock()
	defer c.mu.Unlock()
	list := append([]Caught{}, c.caught...)
	slices.Reverse(list)
	return list
}

// take keeps one, if it is taken.
func (c *Catcher) take(one Caught) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.refuses {
		return false
	}
	one.AtMs = time.Now().UnixMilli()
	c.caught = append(c.caught, one)
	c.caught = c.caught[max(0, len(c.caught)-keptCaught):]
	return true
}

// Close ends it.
func (c *Catcher) Close() (err error) {
	if c.mails != nil {
		err = c.mails.Close()
	}
	if c.posts != nil {
		err = errors.Join(err, c.posts.Close())
	}
	for _, l := range []net.Listener{c.plain, c.secured, c.web} {
		if l != nil {
			_ = l.Close() // its server may have closed it
		}
	}
	return err
}

// posted takes a post.
func (c *Catcher) posted(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostCaught))
	if err != nil {
		http.Error(w, "too much", http.StatusRequestEntityTooLarge)
		return
	}
	one := Caught{Way: "webhook", To: []string{r.Host + r.URL.Path}, Text: string(body),
		Subject: r.Method + " " + r.Header.Get("Content-Type")}
	if r.Header.Get("Authorization") != "" {
		one.User = "with its secret"
	}
	if !c.take(one) {
		http.Error(w, "out of order", http.StatusServiceUnavailable)
	}
}

// catching is one session of the mail server.
type catching struct {
	catcher *Catcher
	conn    *smtp.Conn
	caught  Caught
}

func (s *catching) AuthMechanisms() []string { return []string{sasl.Plain} }

func (s *catching) Auth(mech string) (sasl.Server, error) {
	if mech == sasl.Plain {
		return sasl.NewPlainServer(func(_, user, _ string) error { s.caught.User = user; return nil }), nil
	}
	return nil, fmt.Errorf("%s is not known", mech)
}

func (s *catching) Reset() { s.caught.To, s.caught.From = nil, "" }

func (s *catching) Logout() error { return nil }

func (s *catching) Mail(from string, _ *smtp.MailOptions) error {
	_, s.caught.Secured = s.conn.TLSConnectionState()
	s.caught.From = from
	return nil
}

func (s *catching) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.caught.To = append(s.caught.To, to)
	return nil
}

func (s *catching) Data(r io.Reader) error {
	data, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	one := s.caught
	one.To = slices.Clone(one.To)
	one.Subject, one.Text = readMail(data)
	if !s.catcher.take(one) {
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "out of order"}
	}
	return nil
}

// readMail takes a mail apart; one that cannot be is shown as it came.
func readMail(data []byte) (subject, text string) {
	m, err := mail.ReadMessage(bytes.NewReader(data))
	if err != nil {
		return "", string(data)
	}
	if subject, err = new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject")); err != nil {
		subject = m.Header.Get("Subject")
	}
	body := m.Body
	if m.Header.Get("Content-Transfer-Encoding") == "quoted-printable" {
		body = quotedprintable.NewReader(body)
	}
	all, err := io.ReadAll(body)
	if err != nil {
		return subject, string(data)
	}
	return subject, string(bytes.ReplaceAll(all, []byte("\r\n"), []byte("\n")))
}

// Catcher returns the one of this bench; it begins when it is first asked for.
func (b *Bench) Catcher() (*Catcher, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.catcher == nil {
		c, err := NewCatcher()
		if err != nil {
			log.Printf("the bench catches no mails: %v", err)
			return nil, err
		}
		b.catcher = c
	}
	return b.catcher, nil
}
