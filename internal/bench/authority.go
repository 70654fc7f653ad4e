package bench

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"sync"
	"time"
)

// authority signs the certificates of stand-ins, anew in each process; a stranger is
// one that nobody trusts.
type authority struct {
	once sync.Once
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	err  error
}

var own, stranger authority

// Authority is the certificate of who signs those of stand-ins, in PEM. Whoever asks
// them on the bench is to trust it.
func (b *Bench) Authority() []byte {
	if own.make(); own.err != nil {
		return nil
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: own.cert.Raw})
}

func (a *authority) make() {
	a.once.Do(func() {
		if a.key, a.err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); a.err != nil {
			return
		}
		var der []byte
		is := template("Bench of Ferry", time.Now())
		is.IsCA, is.BasicConstraintsValid, is.KeyUsage = true, true, x509.KeyUsageCertSign
		if der, a.err = x509.CreateCertificate(rand.Reader, is, is, &a.key.PublicKey, a.key); a.err == nil {
			a.cert, a.err = x509.ParseCertificate(der)
		}
	})
}

func template(name string, from time.Time) *x509.Certificate {
	return &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name},
		NotBefore: from.Add(-time.Hour), NotAfter: from.Add(30 * 24 * time.Hour), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
}

// Secured is what a stand-in answers with over TLS, under a fault: "stranger" for a
// certificate that somebody unknown signed, "expired", "name" for one of another name,
// "callers" for a stand-in that wants one of its caller and knows none.
func Secured(fault Fault) (*tls.Config, error) {
	by, is := &own, template("stand-in", time.Now())
	is.IPAddresses, is.DNSNames = []net.IP{net.IPv4(127, 0, 0, 1)}, []string{"localhost"}
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	switch fault.Kind {
	case "stranger":
		by = &stranger
	case "expired":
		is.NotBefore, is.NotAfter = time.Now().Add(-48*time.Hour), time.Now().Add(-24*time.Hour)
	case "name":
		is.IPAddresses, is.DNSNames = nil, []string{"another.skerry.example"}
	case "callers":
		config.ClientAuth, config.ClientCAs = tls.RequireAndVerifyClientCert, x509.NewCertPool()
	}
	if by.make(); by.err != nil {
		return nil, by.err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := x509.CreateCertificate(rand.Reader, is, by.cert, &key.PublicKey, by.key)
	if err != nil {
		return nil, err
	}
	config.Certificates = []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}
	return config, nil
}
