// Package peer talks to another Ferry over the interface that its windows use: it
// reads its site and proposes changes, under the name of a user of the other.
package peer

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"syscall"
	"time"

	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/files"
)

// Address is where another Ferry is, and as whom it is spoken to. None of it is kept.
type Address struct {
	// URL is as it is typed in the browser, such as https://192.0.2.20:8642.
	URL        string `json:"url"`
	Name       string `json:"name"`
	Passphrase string `json:"passphrase"`
	// Fingerprint is the SHA-256 of a certificate that a person has compared, in pairs
	// of hexadecimal digits; empty for one that this machine trusts.
	Fingerprint string `json:"fingerprint,omitempty"`
}

// Peer is another Ferry, signed in to.
type Peer struct {
	base   *url.URL
	client *http.Client
	// Host is its address or name.
	Host string
}

// Bounds of what another Ferry may say, and for how long it is waited for.
const (
	mostAnswer = 64 << 20
	patience   = 20 * time.Second
)

// Open signs in to another Ferry. control may forbid addresses, as net.Dialer.Control
// does. It fails with the code certificate-unknown, and the fingerprint as its place,
// where nobody has said that the certificate is the right one.
func Open(ctx context.Context, a Address, control func(network, address string, c syscall.RawConn) error) (*Peer,
	error) {
	base, err := url.Parse(strings.TrimSpace(a.URL))
	if err == nil && base.Scheme == "" || err != nil && !strings.Contains(a.URL, "://") {
		base, err = url.Parse("https://" + strings.TrimSpace(a.URL))
	}
	if err != nil || base.Host == "" || base.User != nil || base.Scheme != "http" && base.Scheme != "https" {
		return nil, problem.New("url", fmt.Sprintf("%q is no address of a Ferry.", a.URL),
			"Write it as in the browser: https://192.0.2.20:8642.")
	}
	if ip := net.ParseIP(base.Hostname()); base.Scheme == "http" && a.Passphrase != "" && (ip == nil || !ip.IsLoopback()) {
		return nil, problem.New("not-secure", "The passphrase would go over the network in clear.",
			"Write https: a Ferry that others reach speaks TLS.").At(base.Host)
	}
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	dialer := net.Dialer{Timeout: 5 * time.Second, Control: control}
	p := &Peer{base: &url.URL{Scheme: base.Scheme, Host: base.Host}, Host: base.Hostname(), client: &http.Client{Jar: jar,
		Timeout: patience, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{DialContext: dialer.DialContext, TLSClientConfig: trusting(base.Hostname(), a.Fingerprint),
			TLSHandshakeTimeout: 5 * time.Second, DisableKeepAlives: true, MaxResponseHeaderBytes: 64 << 10}}}
	var me struct {
		Guarded bool `json:"guarded"`
	}
	if err := p.ask(ctx, http.MethodGet, "/api/me", nil, &me); err != nil {
		return nil, err
	}
	if !me.Guarded {
		return p, nil
	}
	if a.Passphrase == "" {
		return nil, problem.New("sign-in", p.Host+" wants to know who asks.",
			"Give the name and the passphrase of a user there who may edit.").At(p.Host)
	}
	return p, p.ask(ctx, http.MethodPost, "/api/sign-in",
		map[string]string{"name": a.Name, "passphrase": a.Passphrase}, nil)
}

// unknownCertificate is a certificate that nobody has said to be the right one.
type unknownCertificate struct{ fingerprint string }

func (u unknownCertificate) Error() string { return "its certificate is not known here" }

// trusting lets a certificate pass that this machine trusts, or that has a
// fingerprint.
func trusting(host, fingerprint string) *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: true, // VerifyConnection does it
		VerifyConnection: func(s tls.ConnectionState) error {
			if len(s.PeerCertificates) == 0 {
				return errors.New("it shows no certificate")
			}
			leaf := s.PeerCertificates[0]
			sum := sha256.Sum256(leaf.Raw)
			shown := strings.ReplaceAll(fmt.Sprintf("% X", sum[:]), " ", ":")
			if digits(fingerprint) != "" {
				if digits(fingerprint) != digits(shown) {
					return unknownCertificate{shown} // it has changed, or somebody stands between
				}
				return nil
			}
			among := x509.NewCertPool()
			for _, c := range s.PeerCertificates[1:] {
				among.AddCert(c)
			}
			if _, err := leaf.Verify(x509.VerifyOptions{DNSName: host, Intermediates: among}); err != nil {
				return unknownCertificate{shown}
			}
			return nil
		}}
}

// digits are the hexadecimal digits of a fingerprint.
func digits(fingerprint string) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune("0123456789ABCDEF", r) {
			return r
		}
		return -1
	}, strings.ToUpper(fingerprint))
}

// ask sends a request and reads its answer into a value, nil for not at all.
func (p *Peer) ask(ctx context.Context, method, path string, body, into any) error {
	var sent io.Reader
	if body != nil {
		data, err := json.Marshal(body)
		if err != nil {
			return err
		}
		sent = bytes.NewReader(data)
	}
	r, err := http.NewRequestWithContext(ctx, method, p.base.JoinPath(path).String(), sent)
	if err != nil {
		return err
	}
	r.Header.Set("X-Ferry-Window", "another Ferry")
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	answer, err := p.client.Do(r)
	if err != nil {
		return p.failed(err)
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.Body, mostAnswer+1))
	switch {
	case err != nil:
		return p.failed(err)
	case len(data) > mostAnswer:
		return problem.New("too-large", "Its answer is larger than a site can be.", "").At(p.Host)
	case answer.StatusCode/100 != 2:
		var said problem.Problem
		if json.Unmarshal(data, &said) != nil || said.Sentence == "" {
			return notFerry(p.Host)
		}
		said.Where = strings.TrimSuffix(p.Host+": "+said.Where, ": ")
		return &said
	case into == nil:
		return nil
	}
	if raw, is := into.(*[]byte); is {
		*raw = data
		return nil
	}
	if json.Unmarshal(data, into) != nil {
		return notFerry(p.Host)
	}
	return nil
}

func notFerry(host string) error {
	return problem.New("no-ferry", "Something answers there, and it is no Ferry.",
		"Compare the address with that in the browser of the other machine.").At(host)
}

// failed says why there is no answer: a service that is not started is told from a
// machine that is not there.
func (p *Peer) failed(err error) error {
	var unknown unknownCertificate
	var name *net.DNSError
	say := func(code, sentence, do string) error { return problem.New(code, sentence, do).At(p.Host) }
	switch {
	case errors.As(err, &unknown):
		return problem.New("certificate-unknown", "Nobody has compared its certificate yet.",
			"Compare the fingerprint with the one that the other Ferry shows under Users, and say that it is the same.").
			At(unknown.fingerprint)
	case errors.Is(err, syscall.ECONNREFUSED):
		return say("not-started", "The machine is there, and no Ferry is started at that port.",
			"Start it there so that others reach it, and compare the port.")
	case errors.As(err, &name):
		return say("no-such-name", "The name "+name.Name+" is not known to any name server.", "Give its IP address.")
	case strings.Contains(err.Error(), "server gave HTTP response to HTTPS client"):
		return say("not-secure", "It does not speak TLS.", "Write http, if it is on this machine.")
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, syscall.EHOSTUNREACH),
		errors.Is(err, syscall.ENETUNREACH):
		return say("not-there", "The machine does not answer.", "Is it on, and on this network?")
	}
	var refused *net.OpError
	if errors.As(err, &refused) && refused.Timeout() {
		return say("not-there", "The machine does not answer.", "Is it on, and on this network?")
	}
	return say("not-reached", "It is not reached: "+err.Error()+".", "")
}

// Site reads its site.
func (p *Peer) Site(ctx context.Context) (*site.Site, error) {
	var data []byte
	if err := p.ask(ctx, http.MethodGet, "/api/file/site.json", nil, &data); err != nil {
		return nil, err
	}
	return files.ReadSite(data)
}

// Create adds objects to its site as one step, under the name of the user there.
func (p *Peer) Create(ctx context.Context, what string, edits []site.Edit) error {
	return p.ask(ctx, http.MethodPost, "/api/edit", map[string]any{"what": what, "edits": edits}, nil)
}

// Answer has it answer as one of its devices.
func (p *Peer) Answer(ctx context.Context, device string) error {
	return p.ask(ctx, http.MethodPost, "/api/run/start", map[string]any{"links": []string{device}}, nil)
}
