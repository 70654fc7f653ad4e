// Package certs makes certificates for Ferry's own ends, and says what is in those of others.
package certs

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"
)

// Bounds of what is made: the octets of the key and for how long the certificate counts.
const (
	keyBits = 2048
	counts  = 5 * 365 * 24 * time.Hour
)

// Make makes a key and a certificate that it signs itself, in PEM: of an end that is called so,
// by its address as an application (RFC 5280, clause 4.2.1.6), and by its hosts, which are names
// or addresses.
func Make(name, application string, hosts []string, now time.Time) (certificate, key []byte, err error) {
	private, err := rsa.GenerateKey(rand.Reader, keyBits)
	if err != nil {
		return nil, nil, err
	}
	of, err := url.Parse(application)
	if err != nil {
		return nil, nil, err
	}
	number, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return nil, nil, err
	}
	is := &x509.Certificate{SerialNumber: number, Subject: pkix.Name{CommonName: name, Organization: []string{"Ferry"}},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(counts), URIs: []*url.URL{of}, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageContentCommitment | x509.KeyUsageKeyEncipherment |
			x509.KeyUsageDataEncipherment | x509.KeyUsageCertSign,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth, x509.ExtKeyUsageServerAuth}}
	for _, host := range hosts {
		if ip := net.ParseIP(host); ip != nil {
			is.IPAddresses = append(is.IPAddresses, ip)
		} else if host != "" {
			is.DNSNames = append(is.DNSNames, host)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, is, is, &private.PublicKey, private)
	if err != nil {
		return nil, nil, err
	}
	held, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return nil, nil, err
	}
	return PEM(der), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: held}), nil
}

// PEM is a certificate as files have it.
func PEM(der []byte) []byte { return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}) }

// EndCertificate is what a certificate of an end says.
type EndCertificate struct {
	Name        string `json:"name"`
	Issuer      string `json:"issuer"` // empty for itself
	Fingerprint string `json:"fingerprint"`
	FromMs      int64  `json:"fromMs"`
	ToMs        int64  `json:"toMs"`
	// Hosts are the names and addresses that it is for, Application that of the application.
	Hosts       []string `json:"hosts"`
	Application string   `json:"application"`
}

// Fingerprint is that of a certificate in DER: SHA-256, in pairs of hexadecimal digits.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	pairs := make([]string, len(sum))
	for i, octet := range sum {
		pairs[i] = fmt.Sprintf("%02X", octet)
	}
	return strings.Join(pairs, ":")
}

// Read says what is in a certificate in DER.
func Read(der []byte) (EndCertificate, error) {
	c, err := x509.ParseCertificate(der)
	if err != nil {
		return EndCertificate{}, fmt.Errorf("the certificate cannot be read: %w", err)
	}
	says := EndCertificate{Name: c.Subject.CommonName, Fingerprint: Fingerprint(der), FromMs: c.NotBefore.UnixMilli(),
		ToMs: c.NotAfter.UnixMilli(), Hosts: append([]string{}, c.DNSNames...)}
	if c.Issuer.String() != c.Subject.String() {
		says.Issuer = c.Issuer.CommonName
	}
	for _, ip := range c.IPAddresses {
		says.Hosts = append(says.Hosts, ip.String())
	}
	for _, u := range c.URIs {
		says.Application = u.String()
	}
	return says, nil
}

// First is the first certificate of a file, in DER.
func First(file []byte) ([]byte, error) {
	for block, rest := pem.Decode(file); block != nil; block, rest = pem.Decode(rest) {
		if block.Type == "CERTIFICATE" {
			return block.Bytes, nil
		}
	}
	return nil, errors.New("the file holds no certificate in PEM")
}

// Untrusted says why a certificate is not trusted; empty where it is: it is one of those in
// trusted, in PEM, or was signed by one of them, and counts now. whose is the end that shows it.
func Untrusted(der, trusted []byte, whose string, now time.Time) string {
	theirs, err := x509.ParseCertificate(der)
	if err != nil {
		return "the certificate of the " + whose + " cannot be read: " + err.Error()
	}
	said := fmt.Sprintf("%s, fingerprint %s, valid from %s to %s", theirs.Subject.CommonName, Fingerprint(der),
		theirs.NotBefore.Format(time.DateOnly), theirs.NotAfter.Format(time.DateOnly))
	if now.Before(theirs.NotBefore) || now.After(theirs.NotAfter) {
		return "the certificate of the " + whose + " is not valid at this time (" + said +
			"): compare the clocks of both ends"
	}
	pool := x509.NewCertPool()
	for block, rest := pem.Decode(trusted); block != nil; block, rest = pem.Decode(rest) {
		if bytes.Equal(block.Bytes, der) {
			return ""
		}
		if c, err := x509.ParseCertificate(block.Bytes); err == nil && c.IsCA {
			pool.AddCert(c)
		}
	}
	if _, err := theirs.Verify(x509.VerifyOptions{Roots: pool, CurrentTime: now,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}}); err == nil {
		return ""
	}
	return "the certificate of the " + whose + " is not trusted (" + said + ")"
}

// Elsewhere says in what a certificate is not that of whoever shows it: it is for other hosts than
// the one that was asked, names another application than the server does, or does not count now.
// Whoever trusts it all the same should know.
func Elsewhere(der []byte, host, application string, now time.Time) (notes []string) {
	c, err := x509.ParseCertificate(der)
	if err != nil {
		return []string{"its certificate cannot be read: " + err.Error()}
	}
	if now.Before(c.NotBefore) || now.After(c.NotAfter) {
		notes = append(notes, fmt.Sprintf("its certificate counts from %s to %s, and not now",
			c.NotBefore.Format(time.DateOnly), c.NotAfter.Format(time.DateOnly)))
	}
	if host != "" && c.VerifyHostname(host) != nil {
		hosts := slices.Clone(c.DNSNames)
		for _, ip := range c.IPAddresses {
			hosts = append(hosts, ip.String())
		}
		if len(hosts) == 0 {
			hosts = []string{"none"}
		}
		notes = append(notes, fmt.Sprintf("its certificate is for %s, and not for %s", strings.Join(hosts, ", "), host))
	}
	if application != "" && !slices.ContainsFunc(c.URIs, func(u *url.URL) bool { return u.String() == application }) {
		notes = append(notes, "its certificate does not name the application that the server says it is, "+application)
	}
	return notes
}
