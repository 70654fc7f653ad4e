package opcua

import (
	"bytes"
	"crypto/rsa"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"math"

	"github.com/gopcua/opcua/ua"
	"github.com/gopcua/opcua/uapolicy"
)

// The kinds of chunks of a channel (OPC 10000-6, clause 6.7.2.2).
const (
	OpenChannel  = "OPN"
	AnyMessage   = "MSG"
	CloseChannel = "CLO"
)

// Security is how a channel is secured: the policy by its address, and the certificates of both
// ends in DER.
type Security struct {
	Policy string
	Mode   ua.MessageSecurityMode
	Own    []byte
	Key    *rsa.PrivateKey
	Theirs []byte
}

// Channel cuts messages into chunks and puts chunks together to messages, as a secure channel
// does. It opens nothing, and has one owner at a time.
//
// A chunk has 3 octets of kind, one that says whether it is the last (F), not the last (C) or the
// end of a message given up (A), its size in 4, the channel in 4; then the security header: of
// OPN the policy, the certificate of the sender and the thumbprint of that of the receiver, else
// the token in 4; then its number and that of the request, 4 each; the body; and where it is
// secured the padding and the signature.
type Channel struct {
	Security
	ID uint32
	// Takes is the largest chunk that the other end takes.
	Takes int
	// Accept is asked who opens the channel, with the policy and the certificate; it says how the
	// channel is secured. It is nil at the end that opens it.
	Accept func(policy string, certificate []byte) (Security, error)
	// Said is told of each chunk as it is without signature and cipher, and with its secrets
	// starred out, and of which request it is; nil for nobody. final is as in the chunk.
	Said func(out bool, plain []byte, request uint32, final byte)

	asymmetric *uapolicy.EncryptionAlgorithm
	tokens     [2]token // the one that counts, and the one before it
	out, in    uint32   // the last numbers
	heard      bool
	parts      map[uint32][]byte // of messages that are not whole, by request
	octets     int               // of these
}

// token is a set of keys.
type token struct {
	id        uint32
	algorithm *uapolicy.EncryptionAlgorithm
}

// Message is what came, put together.
type Message struct {
	Kind    string
	Request uint32
	Body    []byte
	// Aborted is the status with which the other end gave it up, 0 for not.
	Aborted ua.StatusCode
}

// Bounds of what waits to be put together.
const mostParts = 64

// none reports whether chunks are neither signed nor enciphered.
func (s *Security) none() bool { return s.Mode == ua.MessageSecurityModeNone }

// Secure makes the keys of the certificates ready.
func (c *Channel) Secure(s Security) (err error) {
	var theirs *rsa.PublicKey
	if !s.none() {
		certificate, err := x509.ParseCertificate(s.Theirs)
		if err != nil {
			return fmt.Errorf("the certificate of the other end cannot be read: %w", err)
		}
		var ok bool
		if theirs, ok = certificate.PublicKey.(*rsa.PublicKey); !ok || s.Key == nil {
			return errors.New("a channel is secured by keys of RSA at both ends")
		}
	}
	c.Security = s
	c.asymmetric, err = uapolicy.Asymmetric(s.Policy, s.Key, theirs)
	return err
}

// Nonce makes the random octets of this end for keys to come; none where there are no keys.
func (c *Channel) Nonce() ([]byte, error) {
	if c.none() {
		return nil, nil
	}
	return c.asymmetric.MakeNonce()
}

// Renew makes keys out of the random octets of both ends; those before count for what is on its
// way.
func (c *Channel) Renew(id uint32, own, theirs []byte) error {
	algorithm, err := uapolicy.Symmetric(c.Policy, own, theirs)
	if err != nil {
		return err
	}
	c.tokens = [2]token{{id, algorithm}, c.tokens[0]}
	return nil
}

// Encode cuts a message into chunks.
func (c *Channel) Encode(kind string, request uint32, body []byte) (chunks [][]byte, err error) {
	algorithm, header := c.tokens[0].algorithm, binary.LittleEndian.AppendUint32(nil, c.tokens[0].id)
	if kind == OpenChannel {
		algorithm, header = c.asymmetric, c.openHeader()
	}
	if algorithm == nil {
		return nil, errors.New("the channel has no keys")
	}
	room := c.room(algorithm, len(header), kind == OpenChannel)
	if room < 1 || kind == OpenChannel && len(body) > room {
		return nil, errors.New("the other end takes too little for this message")
	}
	for first := true; first || len(body) > 0; first = false {
		part := body[:min(len(body), room)]
		body = body[len(part):]
		final := byte('F')
		if len(body) > 0 {
			final = 'C'
		}
		chunk, err := c.chunk(algorithm, kind, final, header, request, part)
		if err != nil {
			return nil, err
		}
		chunks = append(chunks, chunk)
	}
	return chunks, nil
}

// openHeader is the security header of OPN.
func (c *Channel) openHeader() (header []byte) {
	add := func(b []byte) {
		if b == nil {
			header = binary.LittleEndian.AppendUint32(header, math.MaxUint32)
			return
		}
		header = append(binary.LittleEndian.AppendUint32(header, uint32(len(b))), b...)
	}
	add([]byte(c.Policy))
	if c.none() {
		add(nil)
		add(nil)
		return header
	}
	add(c.Own)
	add(uapolicy.Thumbprint(c.Theirs))
	return header
}

// enciphered reports whether a chunk of a kind is, besides being signed.
func (c *Channel) enciphered(open bool) bool {
	return c.Mode == ua.MessageSecurityModeSignAndEncrypt || open && !c.none()
}

// extra is how many octets the length of the padding takes.
func extra(signature int) int {
	if signature > 256 {
		return 2
	}
	return 1
}

// room is how much of a body one chunk has.
func (c *Channel) room(a *uapolicy.EncryptionAlgorithm, header int, open bool) int {
	rest := min(c.Takes, 1<<20) - 12 - header
	if c.none() {
		return rest - 8
	}
	if !c.enciphered(open) {
		return rest - 8 - a.SignatureLength()
	}
	return rest/a.BlockSize()*a.PlaintextBlockSize() - 8 - a.SignatureLength() - extra(a.RemoteSignatureLength())
}

func (c *Channel) chunk(a *uapolicy.EncryptionAlgorithm, kind string, final byte, header []byte, request uint32,
	body []byte) ([]byte, error) {
	if c.out++; c.out > math.MaxUint32-1024 {
		c.out = 1
	}
	le := binary.LittleEndian
	b := append([]byte(kind), final, 0, 0, 0, 0)
	b = append(le.AppendUint32(b, c.ID), header...)
	head := len(b)
	b = append(le.AppendUint32(le.AppendUint32(b, c.out), request), body...)
	size := len(b)
	open := kind == OpenChannel
	if !c.none() {
		size += a.SignatureLength()
	}
	if c.enciphered(open) {
		plain, count := a.PlaintextBlockSize(), extra(a.RemoteSignatureLength())
		padding := (plain - (len(b)-head+a.SignatureLength()+count)%plain) % plain
		b = append(b, bytes.Repeat([]byte{byte(padding)}, padding+1)...)
		if count == 2 {
			b = append(b, byte(padding>>8))
		}
		size = head + (len(b)-head+a.SignatureLength())/plain*a.BlockSize()
	}
	le.PutUint32(b[4:], uint32(size))
	c.tell(true, b[:head+8+len(body)], head, request, final)
	if c.none() {
		return b, nil
	}
	signature, err := a.Signature(b)
	if err != nil {
		return nil, err
	}
	b = append(b, signature...)
	if !c.enciphered(open) {
		return b, nil
	}
	secret, err := a.Encrypt(b[head:])
	if err != nil {
		return nil, err
	}
	return append(b[:head:head], secret...), nil
}

// Decode takes in a whole chunk. whole is set when a message is, which m then is.
func (c *Channel) Decode(chunk []byte) (m Message, whole bool, err error) {
	d := &decoder{b: chunk}
	kind, final := string(d.take(3)), d.u8()
	size, id := d.u32(), d.u32()
	switch {
	case d.err != nil || int(size) != len(chunk):
		return m, false, errors.New("a chunk is cut short")
	case kind != OpenChannel && kind != AnyMessage && kind != CloseChannel:
		return m, false, fmt.Errorf("%q is no kind of chunk", kind)
	case final != 'F' && final != 'C' && final != 'A' || final != 'F' && kind != AnyMessage:
		return m, false, fmt.Errorf("a chunk is neither the last nor not the last: %q", final)
	case id != c.ID && kind != OpenChannel:
		return m, false, fmt.Errorf("a chunk is of channel %d, and this one is %d", id, c.ID)
	}
	algorithm, err := c.keys(d, kind)
	if err != nil {
		return m, false, err
	}
	head := len(chunk) - len(d.b)
	body, err := c.opened(algorithm, chunk, head, kind == OpenChannel)
	if err != nil {
		return m, false, err
	}
	m, whole, err = c.joined(body, kind, final)
	if err == nil {
		c.tell(false, append(chunk[:head:head], body...), head, m.Request, final)
	}
	return m, whole, err
}

// tell tells of a chunk whose headers end at head.
func (c *Channel) tell(out bool, plain []byte, head int, request uint32, final byte) {
	if c.Said == nil {
		return
	}
	plain = append([]byte{}, plain...)
	binary.LittleEndian.PutUint32(plain[4:], uint32(len(plain)))
	mask(plain[head+8:])
	c.Said(out, plain, request, final)
}

// keys are those that a chunk was secured with, by its security header.
func (c *Channel) keys(d *decoder, kind string) (*uapolicy.EncryptionAlgorithm, error) {
	if kind == OpenChannel {
		policy, certificate, thumbprint := d.text(), d.octets(), d.octets()
		if d.err != nil {
			return nil, d.err
		}
		if c.Accept != nil {
			s, err := c.Accept(policy, certificate)
			if err == nil {
				err = c.Secure(s)
			}
			if err != nil {
				return nil, err
			}
		}
		if policy != c.Policy {
			return nil, fmt.Errorf("the other end secures the channel by %q, not by %q", policy, c.Policy)
		}
		if !c.none() && (!bytes.Equal(certificate, c.Theirs) || !bytes.Equal(thumbprint, uapolicy.Thumbprint(c.Own))) {
			return nil, errors.New("the other end opens the channel with other certificates")
		}
		return c.asymmetric, nil
	}
	id := d.u32()
	if d.err != nil {
		return nil, d.err
	}
	for _, t := range c.tokens {
		if t.algorithm != nil && t.id == id {
			return t.algorithm, nil
		}
	}
	return nil, fmt.Errorf("a chunk is secured by token %d, which is none of this channel", id)
}

// opened is what a chunk holds behind its headers, once its signature has been found right.
func (c *Channel) opened(a *uapolicy.EncryptionAlgorithm, chunk []byte, head int, open bool) ([]byte, error) {
	if c.none() {
		return chunk[head:], nil
	}
	bad := errors.New("a chunk is not what the other end signed")
	b := append([]byte{}, chunk...)
	if c.enciphered(open) {
		if !open && (len(b)-head)%a.BlockSize() != 0 || len(b) == head {
			return nil, bad
		}
		plain, err := a.Decrypt(b[head:])
		if err != nil {
			return nil, bad
		}
		b = append(b[:head:head], plain...)
	}
	end := len(b) - a.RemoteSignatureLength()
	if end < head+8 || a.VerifySignature(b[:end], b[end:]) != nil {
		return nil, bad
	}
	if !c.enciphered(open) {
		return b[head:end], nil
	}
	padding := int(b[end-1])
	count := extra(a.SignatureLength())
	if count == 2 {
		padding = padding<<8 | int(b[end-2])
	}
	if end -= padding + count; end < head+8 {
		return nil, bad
	}
	return b[head:end], nil
}

// joined checks the number of a chunk and puts it to those before it.
func (c *Channel) joined(b []byte, kind string, final byte) (m Message, whole bool, err error) {
	if len(b) < 8 {
		return m, false, errors.New("a chunk is cut short")
	}
	number, request := binary.LittleEndian.Uint32(b), binary.LittleEndian.Uint32(b[4:])
	if again := c.in > math.MaxUint32-1025 && number < 1024; c.heard && number != c.in+1 && !again {
		return m, false, fmt.Errorf("chunk %d came after %d: what was between is lost", number, c.in)
	}
	c.in, c.heard = number, true
	if c.parts == nil {
		c.parts = map[uint32][]byte{}
	}
	body := append(c.parts[request], b[8:]...)
	if final == 'C' {
		if _, known := c.parts[request]; !known && len(c.parts) >= mostParts {
			return m, false, errors.New("too many messages are begun and not ended")
		}
		if c.octets += len(b) - 8; c.octets > MostOctets {
			return m, false, fmt.Errorf("a message is larger than %d octets", MostOctets)
		}
		c.parts[request] = body
		return Message{Kind: kind, Request: request}, false, nil
	}
	c.octets -= len(c.parts[request])
	delete(c.parts, request)
	m = Message{Kind: kind, Request: request, Body: body}
	if final == 'A' {
		m.Aborted, m.Body = ua.StatusBadUnexpectedError, nil
		if len(b) >= 12 {
			m.Aborted = ua.StatusCode(binary.LittleEndian.Uint32(b[8:]))
		}
	}
	return m, true, nil
}
