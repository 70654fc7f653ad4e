package opcua

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/gopcua/opcua/ua"
)

// certified makes a key and a certificate of its own.
func certified(t testing.TB, name string, bits int) (*rsa.PrivateKey, []byte) {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, bits)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name},
		NotAfter: time.Now().Add(time.Hour)}
	certificate, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	return key, certificate
}

// ends are a client and a server of one channel, with keys for a second token.
func ends(t testing.TB, policy string, mode ua.MessageSecurityMode, bits int) (client, server *Channel) {
	t.Helper()
	clientKey, clientCert := certified(t, "client", bits)
	serverKey, serverCert := certified(t, "server", 2048)
	policy = "http://opcfoundation.org/UA/SecurityPolicy#" + policy
	client, server = &Channel{Takes: 8192}, &Channel{Takes: 8192}
	server.Accept = func(policy string, certificate []byte) (Security, error) {
		return Security{policy, mode, serverCert, serverKey, certificate}, nil
	}
	if err := client.Secure(Security{policy, mode, clientCert, clientKey, serverCert}); err != nil {
		t.Fatal(err)
	}
	open, err := client.Encode(OpenChannel, 1, []byte("open"))
	if err != nil {
		t.Fatal(err)
	}
	if m, whole, err := server.Decode(open[0]); err != nil || !whole || string(m.Body) != "open" {
		t.Fatalf("%s: %+v, %v, %v", policy, m, whole, err)
	}
	a, err := client.Nonce()
	if err != nil {
		t.Fatal(err)
	}
	b, err := server.Nonce()
	if err != nil {
		t.Fatal(err)
	}
	for id := range uint32(2) {
		if client.Renew(5+id, a, b) != nil || server.Renew(5+id, b, a) != nil {
			t.Fatal("no keys come about")
		}
	}
	client.ID, server.ID = 9, 9
	return client, server
}

// TestChannel: what one end says the other reads, with every policy and mode, in one chunk and in
// many; what was changed on the way, or comes twice, is refused.
func TestChannel(t *testing.T) {
	long := bytes.Repeat([]byte("oxygen "), 9000)
	for _, c := range []struct {
		policy string
		mode   ua.MessageSecurityMode
		bits   int
	}{{"None", ua.MessageSecurityModeNone, 2048}, {"Basic256Sha256", ua.MessageSecurityModeSign, 2048},
		{"Basic256Sha256", ua.MessageSecurityModeSignAndEncrypt, 3072},
		{"Aes128_Sha256_RsaOaep", ua.MessageSecurityModeSignAndEncrypt, 2048},
		{"Aes256_Sha256_RsaPss", ua.MessageSecurityModeSignAndEncrypt, 2048},
		{"Aes256_Sha256_RsaPss", ua.MessageSecurityModeSign, 2048}} {
		client, server := ends(t, c.policy, c.mode, c.bits)
		for length := range 70 {
			passes(t, client, server, long[:length])
		}
		passes(t, client, server, long)
		passes(t, server, client, long)
		chunks, err := client.Encode(AnyMessage, 3, []byte("a write"))
		if err != nil {
			t.Fatal(err)
		}
		for at := range chunks[0] {
			changed := bytes.Clone(chunks[0])
			changed[at] ^= 0x10
			copied := *server
			if m, whole, err := copied.Decode(changed); err == nil && whole && c.mode != ua.MessageSecurityModeNone {
				t.Errorf("%s, %s: octet %d was changed, and %q is taken", c.policy, c.mode, at, m.Body)
			}
		}
		if _, whole, err := server.Decode(chunks[0]); err != nil || !whole {
			t.Errorf("%s: %v", c.policy, err)
		}
		if _, _, err := server.Decode(chunks[0]); err == nil || !strings.Contains(err.Error(), "came after") {
			t.Errorf("%s: a chunk is taken twice: %v", c.policy, err)
		}
	}
}

func passes(t *testing.T, from, to *Channel, body []byte) {
	t.Helper()
	chunks, err := from.Encode(AnyMessage, 7, body)
	if err != nil {
		t.Fatal(err)
	}
	for i, chunk := range chunks {
		if len(chunk) > from.Takes {
			t.Fatalf("a chunk has %d octets", len(chunk))
		}
		m, whole, err := to.Decode(chunk)
		if err != nil || whole != (i == len(chunks)-1) {
			t.Fatalf("chunk %d of %d, %s: whole %v, %v", i+1, len(chunks), from.Mode, whole, err)
		}
		if whole && (!bytes.Equal(m.Body, body) || m.Request != 7 || m.Kind != AnyMessage) {
			t.Fatalf("%d octets came of %d", len(m.Body), len(body))
		}
	}
}

// TestChannelBounds: a message without end is refused before it fills the memory.
func TestChannelBounds(t *testing.T) {
	client, server := ends(t, "None", ua.MessageSecurityModeNone, 2048)
	client.Takes = 1 << 20
	refused := false
	for n := 0; n < 100 && !refused; n++ {
		chunks, err := client.Encode(AnyMessage, uint32(n%70), make([]byte, 2<<20))
		if err != nil {
			t.Fatal(err)
		}
		_, _, err = server.Decode(chunks[0])
		refused = err != nil
		client.out = server.in // the others are never sent
	}
	if !refused {
		t.Error("hundreds of messages may be begun")
	}
}

// covers looks that labels follow each other, and leave nothing out.
func covers(t *testing.T, chunk []byte) {
	t.Helper()
	at := 0
	for _, f := range Labels(chunk, nil) {
		if f.From != at || f.To <= f.From || f.To > len(chunk) || f.Label == "" {
			t.Fatalf("%x: %+v begins at %d", chunk, f, at)
		}
		at = f.To
	}
	if at != 0 && at != len(chunk) {
		t.Errorf("%x: %d octets of %d have a label", chunk, at, len(chunk))
	}
}

// TestLabels: every octet of what goes over the wire has a label, and a message its name.
func TestLabels(t *testing.T) {
	client, _ := ends(t, "None", ua.MessageSecurityModeNone, 2048)
	body, err := WriteService(&ua.ReadRequest{RequestHeader: &ua.RequestHeader{AuthenticationToken: ua.NewTwoByteNodeID(0)}})
	if err != nil {
		t.Fatal(err)
	}
	chunks, err := client.Encode(AnyMessage, 7, body)
	if err != nil {
		t.Fatal(err)
	}
	named := false
	for _, f := range Labels(chunks[0], nil) {
		named = named || f.Label == "message" && f.Meaning == "ReadRequest"
	}
	if !named {
		t.Errorf("%+v", Labels(chunks[0], nil))
	}
	for _, b := range [][]byte{chunks[0], Hello("opc.tcp://hall:4840"), Acknowledge(),
		Failure(ua.StatusBadTCPServerTooBusy, "busy"), nil} {
		covers(t, b)
	}
}

func FuzzChannel(f *testing.F) {
	client, server := ends(f, "None", ua.MessageSecurityModeNone, 2048)
	for _, body := range []string{"", "a message"} {
		chunks, err := client.Encode(AnyMessage, 3, []byte(body))
		if err != nil {
			f.Fatal(err)
		}
		f.Add(chunks[0])
	}
	open, err := client.Encode(OpenChannel, 3, []byte("open"))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(open[0])
	f.Fuzz(func(t *testing.T, chunk []byte) {
		copied := *server
		copied.parts = map[uint32][]byte{}
		_, _, _ = copied.Decode(chunk) // whatever it says, it ends
		covers(t, chunk)
	})
}

// TestSaid: what is told of a channel is what was said over it, whole, without signature and cipher,
// and without the secrets.
func TestSaid(t *testing.T) {
	for _, mode := range []ua.MessageSecurityMode{ua.MessageSecurityModeNone, ua.MessageSecurityModeSignAndEncrypt} {
		policy := "None"
		if mode != ua.MessageSecurityModeNone {
			policy = "Basic256Sha256"
		}
		client, server := ends(t, policy, mode, 2048)
		var told [2][]byte
		client.Said = func(out bool, plain []byte, request uint32, _ byte) { told[0] = append(told[0], plain...) }
		server.Said = func(out bool, plain []byte, request uint32, _ byte) { told[1] = append(told[1], plain...) }
		body, err := WriteService(&ua.ActivateSessionRequest{RequestHeader: &ua.RequestHeader{
			AuthenticationToken: ua.NewTwoByteNodeID(0), AdditionalHeader: ua.NewExtensionObject(nil)},
			ClientSignature: &ua.SignatureData{}, UserTokenSignature: &ua.SignatureData{},
			UserIdentityToken: ua.NewExtensionObject(&ua.UserNameIdentityToken{UserName: "Ines",
				Password: []byte("high tide")})})
		if err != nil {
			t.Fatal(err)
		}
		chunks, err := client.Encode(AnyMessage, 7, body)
		if err != nil {
			t.Fatal(err)
		}
		for _, chunk := range chunks {
			if m, whole, err := server.Decode(chunk); err != nil || whole && !bytes.Contains(m.Body, []byte("high tide")) {
				t.Fatalf("%v, %x", err, m.Body)
			}
		}
		if !bytes.Equal(told[0], told[1]) || !bytes.Contains(told[0], []byte("Ines")) ||
			bytes.Contains(told[0], []byte("high tide")) || !bytes.Contains(told[0], []byte("*********")) {
			t.Errorf("%s: %q and %q", policy, told[0], told[1])
		}
		covers(t, told[0])
	}
}
