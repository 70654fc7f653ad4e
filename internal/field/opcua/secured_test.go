package opcua_test

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	peer "github.com/gopcua/opcua"
	"github.com/gopcua/opcua/ua"

	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	target "ferry/internal/target/opcua"
)

// certified makes a key and a certificate of its own, valid until a time.
func certified(t *testing.T, name string, until time.Time) (key *rsa.PrivateKey, der, certPEM, keyPEM []byte) {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name},
		NotBefore: until.Add(-time.Hour), NotAfter: until, URIs: []*url.URL{{Scheme: "urn", Opaque: "ferry"}}}
	if der, err = x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key); err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	return key, der, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})
}

// listening has a server take connections at an address until the test ends, and ends it.
func listening(t *testing.T, take func(net.Conn), end func() error) (address string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go take(c)
		}
	}()
	t.Cleanup(func() {
		if err := errors.Join(l.Close(), end()); err != nil {
			t.Error(err)
		}
	})
	return l.Addr().String()
}

// served is a server with one value, for a user called Ines, that trusts what is asked of trusts.
func served(t *testing.T, trusts func([]byte) error, until time.Time) (address string, cert []byte) {
	t.Helper()
	key, der, cert, _ := certified(t, "Hall supervisor", until)
	var held atomic.Value
	held.Store(9.25)
	server := target.New(target.Config{About: target.About{Product: "Hall"},
		User: func(name, password string) (may, writes bool) {
			return name == "Ines" && password == "tide" || name == "", name == "Ines"
		},
		Secured: func() *target.Secured { return &target.Secured{Certificate: der, Key: key, Trusts: trusts} },
		Variables: func() []target.Variable {
			return []target.Variable{{URI: "urn:skerry:hall", ID: "Tank.Oxygen", Name: "Tank.Oxygen", Type: ua.TypeIDDouble,
				Writable: true, Read: func() *ua.DataValue { return target.Good(held.Load()) },
				Write: func(_ target.By, v any) ua.StatusCode {
					held.Store(v)
					return ua.StatusOK
				}}}
		}})
	return listening(t, server.Take, server.Close), cert
}

// TestSecured: a session is begun with each policy and mode where both ends trust each other, and
// refused in words where one does not, with nothing said to a server that is not trusted.
func TestSecured(t *testing.T) {
	_, mine, cert, key := certified(t, "Ferry", time.Now().Add(time.Hour))
	var asked atomic.Int32
	address, theirs := served(t, func(der []byte) error {
		asked.Add(1)
		if string(der) != string(mine) {
			return errors.New("who is that")
		}
		return nil
	}, time.Now().Add(time.Hour))
	expired, expiredCert := served(t, func([]byte) error { return nil }, time.Now().Add(-time.Minute))
	_, _, strangerCert, strangerKey := certified(t, "Stranger", time.Now().Add(time.Hour))
	driver, _, err := field.DriverOf("opc.tcp")
	if err != nil {
		t.Fatal(err)
	}
	at, err := family.Scheme.Parse("nsu=urn:skerry:hall;s=Tank.Oxygen", "")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name, at, policy, mode, user, password string
		trusts, cert, key                      []byte
		says                                   string
	}{
		{"not secured", address, "None", "none", "", "", nil, nil, nil, ""},
		{"signed", address, "Basic256Sha256", "sign", "", "", theirs, cert, key, ""},
		{"enciphered", address, "Basic256Sha256", "encrypt", "Ines", "tide", theirs, cert, key, ""},
		{"the younger policies", address, "Aes128_Sha256_RsaOaep", "encrypt", "Ines", "tide", theirs, cert, key, ""},
		{"and the strongest", address, "Aes256_Sha256_RsaPss", "sign", "Ines", "tide", theirs, cert, key, ""},
		{"not trusted here", address, "Basic256Sha256", "sign", "", "", strangerCert, cert, key,
			"not trusted (Hall supervisor, fingerprint "},
		{"not trusted there", address, "Basic256Sha256", "sign", "", "", theirs, strangerCert, strangerKey,
			"refuses the certificate of this end"},
		{"expired", expired, "Basic256Sha256", "sign", "", "", expiredCert, cert, key, "not valid at this time"},
		{"a wrong password", address, "Basic256Sha256", "encrypt", "Ines", "ebb", theirs, cert, key,
			"not with this password"},
		{"no certificate", address, "Basic256Sha256", "sign", "", "", theirs, nil, nil, "needs a certificate of this end"},
		{"no such policy", address, "None", "sign", "", "", nil, nil, nil, "needs a security policy"},
	} {
		kept := map[string][]byte{"trusts": c.trusts, "cert": c.cert, "key": c.key, "password": []byte(c.password)}
		settings := protocol.Settings{family.KeyPolicy: protocol.OfText(c.policy), family.KeyMode: protocol.OfText(c.mode),
			family.KeyUser: protocol.OfText(c.user), family.KeyPassword: protocol.OfText("password"),
			family.KeyTrusts:      protocol.OfText("trusts"),
			family.KeyCertificate: protocol.OfText("cert"), family.KeyKey: protocol.OfText("key"),
			protocol.KeyWithin: protocol.OfInt(3000),
			family.KeyPublish:  protocol.OfInt(50)}
		before := asked.Load()
		conn, reply := driver.Dial(context.Background(), field.Target{Dial: c.at, Settings: settings,
			Kept: func(_ protocol.Kind, name string) ([]byte, error) { return kept[name], nil }})
		if c.says != "" {
			if conn != nil || !strings.Contains(reply.Sentence, c.says) {
				t.Errorf("%s: %+v", c.name, reply)
			}
			if c.name == "not trusted here" && asked.Load() != before {
				t.Error("a server that is not trusted was shown the certificate of this end")
			}
			continue
		}
		if conn == nil {
			t.Errorf("%s: %+v", c.name, reply)
			continue
		}
		wanted := protocol.Wanted{ID: "ox", Address: at, Shape: value.Shape{Type: value.TypeFloat64, Bit: -1}}
		reporter := conn.(field.Reporter)
		if reply, refused := reporter.Follow([]protocol.Wanted{wanted}); !reply.OK() || len(refused) > 0 {
			t.Errorf("%s: %+v, %v", c.name, reply, refused)
		}
		reply = conn.(field.ItemWriter).WriteItem(wanted, value.OfFloat(8.5), func() (func(), error) {
			return func() {},
				nil
		})
		if may := c.user != ""; reply.OK() != may {
			t.Errorf("%s: the write: %+v", c.name, reply)
		}
		got := ""
		for late := time.After(3 * time.Second); got == ""; {
			select {
			case r := <-reporter.Reports():
				for _, s := range r.Samples {
					got = fmt.Sprint(s.Value, " ", s.Quality)
				}
			case <-late:
				t.Fatalf("%s: nothing is told", c.name)
			}
		}
		if !strings.HasSuffix(got, "good") {
			t.Errorf("%s: %s", c.name, got)
		}
		if err := conn.Close(); err != nil {
			t.Error(err)
		}
	}
}

// TestPeer: a client that others wrote reads, browses, writes and is told.
func TestPeer(t *testing.T) {
	address, _ := served(t, func([]byte) error { return nil }, time.Now().Add(time.Hour))
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	c, err := peer.NewClient("opc.tcp://"+address, peer.SecurityMode(ua.MessageSecurityModeNone),
		peer.AuthUsername("Ines", "tide"), peer.AuthPolicyID("name"), peer.AutoReconnect(false))
	if err == nil {
		err = c.Connect(ctx)
	}
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(ctx)
	id := ua.NewStringNodeID(1, "Tank.Oxygen")
	v, err := c.Node(id).Value(ctx)
	if err != nil || v.Value() != 9.25 {
		t.Errorf("it reads %v, %v", v, err)
	}
	inside, err := c.Node(ua.NewStringNodeID(1, "Tank")).ReferencedNodes(ctx, 0, ua.BrowseDirectionForward,
		ua.NodeClassVariable, true)
	if err != nil || len(inside) != 1 || inside[0].ID.String() != id.String() {
		t.Errorf("it finds %v, %v", inside, err)
	}
	told := make(chan *peer.PublishNotificationData, 16)
	sub, err := c.Subscribe(ctx, &peer.SubscriptionParameters{Interval: 50 * time.Millisecond}, told)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := sub.Monitor(ctx, ua.TimestampsToReturnBoth, peer.NewMonitoredItemCreateRequestWithDefaults(id,
		ua.AttributeIDValue, 5)); err != nil {
		t.Fatal(err)
	}
	written, err := c.Write(ctx, &ua.WriteRequest{NodesToWrite: []*ua.WriteValue{{NodeID: id,
		AttributeID: ua.AttributeIDValue,
		Value:       &ua.DataValue{EncodingMask: ua.DataValueValue, Value: ua.MustVariant(7.75)}}}})
	if err != nil || written.Results[0] != ua.StatusOK {
		t.Errorf("%v, %v", written, err)
	}
	for {
		select {
		case n := <-told:
			if change, ok := n.Value.(*ua.DataChangeNotification); ok &&
				change.MonitoredItems[len(change.MonitoredItems)-1].Value.Value.Value() == 7.75 {
				return
			}
		case <-ctx.Done():
			t.Fatal("what was written is not told")
		}
	}
}
