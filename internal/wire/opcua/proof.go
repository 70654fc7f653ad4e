package opcua

import (
	"bytes"
	"crypto/rsa"
	"crypto/x509"
	"encoding/binary"
	"errors"

	"github.com/gopcua/opcua/ua"
	"github.com/gopcua/opcua/uapolicy"
)

// keysOf are the algorithms of a policy for whoever has a certificate.
func (s *Security) keysOf(policy string, certificate []byte) (*uapolicy.EncryptionAlgorithm, error) {
	parsed, err := x509.ParseCertificate(certificate)
	if err != nil {
		return nil, err
	}
	theirs, ok := parsed.PublicKey.(*rsa.PublicKey)
	if !ok {
		return nil, errors.New("the certificate of the other end has no key of RSA")
	}
	return uapolicy.Asymmetric(policy, s.Key, theirs)
}

// Sign shows the other end that the key of this one's certificate is here: it signs the
// certificate and the random octets of the other (OPC 10000-4, clause 5.6.2).
func (s *Security) Sign(nonce []byte) (*ua.SignatureData, error) {
	if s.none() {
		return &ua.SignatureData{}, nil
	}
	keys, err := s.keysOf(s.Policy, s.Theirs)
	if err != nil {
		return nil, err
	}
	signature, err := keys.Signature(append(bytes.Clone(s.Theirs), nonce...))
	return &ua.SignatureData{Algorithm: keys.SignatureURI(), Signature: signature}, err
}

// Signed reports whether the other end has signed the certificate and the random octets of this
// one.
func (s *Security) Signed(by *ua.SignatureData, nonce []byte) bool {
	if s.none() {
		return true
	}
	keys, err := s.keysOf(s.Policy, s.Theirs)
	return err == nil && by != nil && keys.VerifySignature(append(bytes.Clone(s.Own), nonce...), by.Signature) == nil
}

// Encipher hides a password for the other end with the keys of a policy, that of the channel if
// it is empty, together with the random octets of the other end (OPC 10000-4, clause 7.40.2).
func (s *Security) Encipher(policy, password string, certificate, nonce []byte) (secret []byte, algorithm string,
	err error) {
	if policy == "" {
		policy = s.Policy
	}
	if policy == ua.SecurityPolicyURINone {
		return []byte(password), "", nil
	}
	keys, err := s.keysOf(policy, certificate)
	if err != nil {
		return nil, "", err
	}
	plain := binary.LittleEndian.AppendUint32(nil, uint32(len(password)+len(nonce)))
	secret, err = keys.Encrypt(append(append(plain, password...), nonce...))
	return secret, keys.EncryptionURI(), err
}

// Decipher is what Encipher hid, with the random octets of this end.
func (s *Security) Decipher(policy string, secret, nonce []byte) (password string, err error) {
	if policy == "" {
		policy = s.Policy
	}
	if policy == ua.SecurityPolicyURINone {
		return string(secret), nil
	}
	if s.Key == nil {
		return "", errors.New("this end has no key")
	}
	keys, err := uapolicy.Asymmetric(policy, s.Key, &s.Key.PublicKey)
	if err != nil {
		return "", err
	}
	plain, err := keys.Decrypt(secret)
	if err != nil || len(plain) < 4 {
		return "", errors.New("the password cannot be deciphered")
	}
	n := int(binary.LittleEndian.Uint32(plain))
	plain = plain[4:]
	if n < len(nonce) || n > len(plain) || !bytes.Equal(plain[n-len(nonce):n], nonce) {
		return "", errors.New("the password was enciphered for another session")
	}
	return string(plain[:n-len(nonce)]), nil
}
