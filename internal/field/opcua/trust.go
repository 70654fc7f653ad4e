package opcua

import (
	"context"
	"crypto/rsa"
	"crypto/tls"
	"fmt"
	"strings"
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/certs"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/route"
	"ferry/internal/field"
	wire "ferry/internal/wire/opcua"
)

var modes = map[string]ua.MessageSecurityMode{family.ModeNone: ua.MessageSecurityModeNone,
	family.ModeSign: ua.MessageSecurityModeSign, family.ModeEncrypt: ua.MessageSecurityModeSignAndEncrypt}

// security is how a channel is secured, with the certificate of this end. Where it is, the
// server is asked for its certificate first, and nothing more is said to one that is not
// trusted.
func security(ctx context.Context, t *field.Target) (made *wire.Security, reply field.Reply) {
	policy, mode := family.TCP.Value(t.Settings, family.KeyPolicy).Text(),
		family.TCP.Value(t.Settings, family.KeyMode).Text()
	made = &wire.Security{Policy: family.PolicyPrefix + policy, Mode: modes[mode]}
	if policy == family.PolicyNone {
		return made, field.Reply{Outcome: exchange.Answered}
	}
	refuse := func(cause exchange.Cause, format string, args ...any) (*wire.Security, field.Reply) {
		return nil, field.Reply{Outcome: exchange.NotAllowed, Cause: cause, Stop: route.Session,
			Sentence: fmt.Sprintf(format, args...)}
	}
	pair, key, err := ownCertificate(t)
	if err != nil {
		return refuse("", "%v", err)
	}
	theirs, reply := offered(ctx, t, made)
	if theirs == nil {
		return nil, reply
	}
	trusted, err := t.Secret(family.TCP, family.KeyTrusts)
	if err != nil {
		return refuse("", "%v", err)
	}
	if why := certs.Untrusted(theirs, append(trusted, t.Authority...), "server", time.Now()); why != "" {
		return refuse(exchange.Insecure,
			"%s: compare the fingerprint with that at the server, and trust it; the server has to "+
				"trust the one of this end too", why)
	}
	made.Own, made.Key, made.Theirs = pair, key, theirs
	return made, field.Reply{Outcome: exchange.Answered}
}

// ownCertificate is that of this end, with its key.
func ownCertificate(t *field.Target) ([]byte, *rsa.PrivateKey, error) {
	cert, err := t.Secret(family.TCP, family.KeyCertificate)
	if err != nil {
		return nil, nil, err
	}
	key, err := t.Secret(family.TCP, family.KeyKey)
	if err != nil {
		return nil, nil, err
	}
	if len(cert) == 0 || len(key) == 0 {
		return nil, nil, fmt.Errorf("a secured session needs a certificate of this end and its key: name both")
	}
	pair, err := tls.X509KeyPair(cert, key)
	if err != nil {
		return nil, nil, fmt.Errorf("the own certificate and its key cannot be used: %w", err)
	}
	private, ok := pair.PrivateKey.(*rsa.PrivateKey)
	if !ok {
		return nil, nil, fmt.Errorf("the key of the own certificate is not one of RSA, which OPC UA wants")
	}
	return pair.Certificate[0], private, nil
}

// offered asks a server, over a channel that is not secured, for the certificate of the endpoint
// that has the policy and the mode.
func offered(ctx context.Context, t *field.Target, want *wire.Security) ([]byte, field.Reply) {
	s, reply := connect(ctx, t, wire.Security{Policy: ua.SecurityPolicyURINone, Mode: ua.MessageSecurityModeNone})
	if s == nil {
		return nil, reply
	}
	defer s.close()
	answer, err := send[*ua.GetEndpointsResponse](ctx, s, &ua.GetEndpointsRequest{EndpointURL: s.endpoint})
	if err != nil {
		return nil, s.failed(err, "the question for its endpoints")
	}
	var offers []string
	for _, e := range answer.Endpoints {
		if e == nil {
			continue
		}
		if e.SecurityPolicyURI == want.Policy && e.SecurityMode == want.Mode &&
			len(e.ServerCertificate) > 0 {
			return e.ServerCertificate, field.Reply{Outcome: exchange.Answered}
		}
		offers = append(offers, strings.TrimPrefix(e.SecurityPolicyURI, family.PolicyPrefix)+" "+
			strings.TrimPrefix(e.SecurityMode.String(), "MessageSecurityMode"))
	}
	return nil, field.Reply{Outcome: exchange.Declined, Code: family.BadPolicyRejected, Stop: route.Session,
		Sentence: "the server does not offer this policy and mode; it offers " + strings.Join(offers, ", ")}
}
