package opcua

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"strings"
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/certs"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
	wire "ferry/internal/wire/opcua"
)

// policies are those that this end speaks.
var policies = func() map[string]bool {
	list := map[string]bool{}
	setting, _ := family.TCP.Setting(family.KeyPolicy)
	for _, choice := range setting.Choices {
		list[choice.Value] = true
	}
	return list
}()

// Offers asks a server, over a channel that is not secured, for its endpoints.
func (driver) Offers(ctx context.Context, t field.Target) (offered field.Offered, reply field.Reply) {
	s, reply := connect(ctx, &t, wire.Security{Policy: ua.SecurityPolicyURINone, Mode: ua.MessageSecurityModeNone})
	if s == nil {
		return offered, reply
	}
	defer s.close()
	asked := time.Now()
	answer, err := send[*ua.GetEndpointsResponse](ctx, s, &ua.GetEndpointsRequest{EndpointURL: s.endpoint})
	if err != nil {
		return offered, s.failed(err, "the question for its endpoints")
	}
	if at := answer.Header().Timestamp; !at.IsZero() {
		offered.Ahead, offered.Clock = at.Sub(asked.Add(time.Since(asked)/2)), true
	}
	host, _, _ := net.SplitHostPort(t.Dial)
	for _, e := range answer.Endpoints {
		if e != nil && strings.HasPrefix(e.EndpointURL, "opc.tcp:") {
			offered.Offers = append(offered.Offers, offerOf(ctx, e, host))
		}
	}
	return offered, field.Reply{Outcome: exchange.Answered}
}

// offerOf is an endpoint with what it needs. Where its host is not the one that was asked, and has
// no address here, the one that was asked stands in for it.
func offerOf(ctx context.Context, e *ua.EndpointDescription, host string) field.Offer {
	policy := strings.TrimPrefix(e.SecurityPolicyURI, family.PolicyPrefix)
	mode := family.ModeNone
	for name, of := range modes {
		if of == e.SecurityMode {
			mode = name
		}
	}
	o := field.Offer{Title: policy + ", " + modeWords[mode], At: e.EndpointURL, Certificate: e.ServerCertificate,
		Settings: protocol.Settings{family.KeyPolicy: protocol.OfText(policy), family.KeyMode: protocol.OfText(mode)}}
	if at, err := url.Parse(e.EndpointURL); err == nil {
		o.Settings[family.KeyPath] = protocol.OfText(strings.TrimSuffix(at.Path, "/"))
		if name := at.Hostname(); name != host && net.ParseIP(name) == nil {
			within, cancel := context.WithTimeout(ctx, time.Second)
			_, err := net.DefaultResolver.LookupHost(within, name)
			if cancel(); err != nil {
				o.Notes = append(o.Notes,
					fmt.Sprintf("it names its host %s, which has no address here: Ferry goes to %s", name, host))
			}
		}
	}
	if mode != family.ModeNone && e.Server != nil {
		o.Notes = append(o.Notes, certs.Elsewhere(e.ServerCertificate, host, e.Server.ApplicationURI, time.Now())...)
	}
	switch {
	case !policies[policy]:
		o.Cannot = "Ferry does not speak this policy"
	case mode != family.ModeNone:
		o.Needs = append(o.Needs, "a certificate of this end, which the server trusts",
			"trust in the certificate of the server")
	}
	for _, token := range e.UserIdentityTokens {
		if token == nil {
			continue
		}
		switch token.TokenType {
		case ua.UserTokenTypeAnonymous:
			o.Users = append(o.Users, "nobody in particular")
		case ua.UserTokenTypeUserName:
			o.Users = append(o.Users, "a name and a password")
		case ua.UserTokenTypeCertificate:
			o.Users = append(o.Users, "a certificate of the user")
		default:
			o.Users = append(o.Users, "a token of another service")
		}
	}
	return o
}

var modeWords = map[string]string{family.ModeNone: "not secured", family.ModeSign: "signed",
	family.ModeEncrypt: "signed and encrypted"}
