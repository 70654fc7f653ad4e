package opcua

import "github.com/gopcua/opcua/ua"

func (s *Server) application(url string) *ua.ApplicationDescription {
	return &ua.ApplicationDescription{ApplicationURI: s.config.About.application(), ProductURI: "urn:ferry",
		ApplicationName: ua.NewLocalizedText(s.config.About.Product), ApplicationType: ua.ApplicationTypeServer,
		DiscoveryURLs: []string{url}}
}

// only reports whether sessions begin over secured channels alone.
func (s *Server) only() bool { return s.config.Only != nil && s.config.Only() && s.secured() != nil }

// endpoints are those that are offered.
func (s *Server) endpoints(url string) []*ua.EndpointDescription {
	secured := s.secured()
	tokens := []*ua.UserTokenPolicy{}
	if may, _ := s.config.User("", ""); may {
		tokens = append(tokens, &ua.UserTokenPolicy{PolicyID: "anonymous", TokenType: ua.UserTokenTypeAnonymous})
	}
	tokens = append(tokens, &ua.UserTokenPolicy{PolicyID: "name", TokenType: ua.UserTokenTypeUserName})
	of := func(policy string, mode ua.MessageSecurityMode) *ua.EndpointDescription {
		e := &ua.EndpointDescription{EndpointURL: url, Server: s.application(url), SecurityMode: mode,
			SecurityPolicyURI:  policy,
			UserIdentityTokens: tokens, TransportProfileURI: "http://opcfoundation.org/UA-Profile/Transport/uatcp-uasc-uabinary"}
		if secured != nil {
			e.ServerCertificate = secured.Certificate
		}
		return e
	}
	var list []*ua.EndpointDescription
	if !s.only() {
		list = append(list, of(ua.SecurityPolicyURINone, ua.MessageSecurityModeNone))
	}
	if secured != nil {
		for _, policy := range []string{ua.SecurityPolicyURIBasic256Sha256, ua.SecurityPolicyURIAes128Sha256RsaOaep,
			ua.SecurityPolicyURIAes256Sha256RsaPss} {
			list = append(list, of(policy, ua.MessageSecurityModeSign), of(policy, ua.MessageSecurityModeSignAndEncrypt))
		}
	}
	return list
}
