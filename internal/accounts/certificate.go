package accounts

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Certificate is what a browser is shown.
type Certificate struct {
	// Fingerprint is the SHA-256 of the certificate, in pairs of hexadecimal
	// digits.
	Fingerprint string    `json:"fingerprint"`
	Names       []string  `json:"names"`
	From        time.Time `json:"from"`
	To          time.Time `json:"to"`
	// Own is set where Ferry made it: browsers then warn, and the fingerprint is
	// to be compared by eye.
	Own bool `json:"own"`
}

// life is how long a certificate of Ferry's own is valid, renewal how long
// before its end another is made.
const (
	life    = 397 * 24 * time.Hour
	renewal = 30 * 24 * time.Hour
)

// LoadCertificate reads a certificate and its key.
func LoadCertificate(certFile, keyFile string) (tls.Certificate, Certificate, error) {
	pair, err := tls.LoadX509KeyPair(certFile, keyFile)
	if err != nil {
		return pair, Certificate{},
			fmt.Errorf("the certificate %s with the key %s cannot be used: %w", certFile, keyFile, err)
	}
	shown, err := show(pair)
	if err == nil && time.Now().After(shown.To) {
		err = fmt.Errorf("the certificate %s ended on %s: no browser takes it", certFile,
			shown.To.Format(time.DateOnly))
	}
	return pair, shown, err
}

// OwnCertificate returns the certificate that Ferry has made for itself in a data
// folder, making one if there is none, it is about to end, or it lacks one of
// the hosts.
func OwnCertificate(dir string, hosts []string) (tls.Certificate, Certificate, error) {
	certFile, keyFile := filepath.Join(dir, "certificate.pem"), filepath.Join(dir, "certificate.key")
	pair, shown, err := LoadCertificate(certFile, keyFile)
	shown.Own = true
	lacks := slices.ContainsFunc(hosts, func(h string) bool { return !slices.Contains(shown.Names, h) })
	switch {
	case err == nil && !lacks && time.Until(shown.To) > renewal:
		return pair, shown, nil
	case err != nil && !errors.Is(err, fs.ErrNotExist) && !strings.Contains(err.Error(), "ended on"):
		return pair, shown, err
	}
	if err := makeCertificate(certFile, keyFile, hosts); err != nil {
		return pair, shown, fmt.Errorf("no certificate could be made: %w", err)
	}
	pair, shown, err = LoadCertificate(certFile, keyFile)
	shown.Own = true
	return pair, shown, err
}

func makeCertificate(certFile, keyFile string, hosts []string) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return err
	}
	name, err := os.Hostname()
	if err != nil {
		return err
	}
	template := x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "Ferry on " + name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(life),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		BasicConstraintsValid: true}
	for _, h := range hosts {
		if ip := net.ParseIP(h); ip != nil {
			template.IPAddresses = append(template.IPAddresses, ip)
		} else {
			template.DNSNames = append(template.DNSNames, h)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, &template, &template, &key.PublicKey, key)
	if err != nil {
		return err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	if err := writeWhole(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret})); err != nil {
		return err
	}
	return writeWhole(certFile, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
}

func show(pair tls.Certificate) (Certificate, error) {
	leaf, err := x509.ParseCertificate(pair.Certificate[0])
	if err != nil {
		return Certificate{}, err
	}
	sum := sha256.Sum256(leaf.Raw)
	shown := Certificate{Fingerprint: strings.ReplaceAll(fmt.Sprintf("% X", sum[:]), " ", ":"),
		Names: append([]string{}, leaf.DNSNames...), From: leaf.NotBefore, To: leaf.NotAfter}
	for _, ip := range leaf.IPAddresses {
		shown.Names = append(shown.Names, ip.String())
	}
	return shown, nil
}
