package opcua

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/field"
	wire "ferry/internal/wire/opcua"
)

// session is a session with a server over a secure channel of its own.
type session struct {
	*transport
	security wire.Security
	endpoint string
	within   time.Duration
	token    *ua.NodeID // nil until the session is made
	// namespaces are those of the server as they are numbered in this session.
	namespaces []string
	limits     limits
	// slots are what values of the types are that were asked for, by their identifiers.
	slots map[string]typed
}

// applicationURI names Ferry to servers.
const applicationURI = family.ApplicationAsks

// sessionFor is how long the server keeps a session without a question.
const sessionFor = 60 * time.Second

// connect opens a connection and a channel with a security.
func connect(ctx context.Context, t *field.Target, security wire.Security) (*session, field.Reply) {
	within := time.Duration(family.TCP.Int(t.Settings, protocol.KeyWithin)) * time.Millisecond
	dialer := net.Dialer{Timeout: max(within, 1500*time.Millisecond), Control: t.Control}
	conn, err := dialer.DialContext(ctx, "tcp", t.Dial)
	if err != nil {
		return nil, field.Failure(err, true)
	}
	most := family.TCP.Int(t.Settings, family.KeyAtOnce)
	s := &session{within: within, security: security, limits: limits{most, most, most, most},
		slots:    map[string]typed{},
		endpoint: "opc.tcp://" + t.Dial + family.TCP.Value(t.Settings, family.KeyPath).Text()}
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	err = conn.SetDeadline(time.Now().Add(within))
	if err == nil {
		s.transport, err = open(conn, s.endpoint, security)
	}
	if err == nil {
		err = conn.SetDeadline(time.Time{})
	}
	if err != nil {
		_ = conn.Close()
		reply := s.failed(err, "the beginning of the conversation")
		if s.transport != nil {
			reply.Frames, reply.SentAt = s.frames()
		}
		return nil, reply
	}
	go s.run()
	return s, field.Reply{Outcome: exchange.Answered}
}

// send asks for a service, and returns its answer; what the server answers instead is an error
// of a status code.
func send[T ua.Response](ctx context.Context, s *session, request ua.Request) (answer T, err error) {
	return sendFor[T](ctx, s, request, s.within, taped)
}

// sendFor is send with its time.
func sendFor[T ua.Response](ctx context.Context, s *session, request ua.Request, within time.Duration,
	how record) (answer T, err error) {
	r, err := s.ask(ctx, request, s.token, within, how)
	if err != nil {
		return answer, err
	}
	answer, ok := r.(T)
	if !ok {
		return answer, fmt.Errorf("the server answers a %T with a %T", request, r)
	}
	return answer, nil
}

// status is the status code in an error, if that is what it is.
func status(err error) (uint32, bool) {
	var code ua.StatusCode
	if errors.As(err, &code) {
		return uint32(code), true
	}
	var said *wire.Failed
	if errors.As(err, &said) {
		return uint32(said.Code), true
	}
	return 0, false
}

// failed says why something did not come about.
func (s *session) failed(err error, what string) field.Reply {
	reply := field.Reply{Outcome: exchange.Closed, Stop: route.Session}
	code, coded := status(err)
	var timeout net.Error
	switch {
	case coded && code == family.BadTimeout, errors.Is(err, context.DeadlineExceeded),
		errors.As(err, &timeout) && timeout.Timeout():
		reply.Outcome = exchange.NoAnswer
		reply.Sentence = fmt.Sprintf("nothing came back to %s within %d ms", what, s.within.Milliseconds())
	case coded:
		reply.Outcome, reply.Code = exchange.Declined, int(code)
		reply.Sentence = "the server refuses " + what + ": " + family.Words(code)
		var said *wire.Failed
		if errors.As(err, &said) { // it has ended the connection with it
			reply.Frames = []exchange.Frame{{Octets: wire.Failure(said.Code, said.Reason)}}
		}
	case s.token != nil && (errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET)):
		reply.Sentence = "the server ended the connection: it was stopped or started again, or ends sessions that it has no " +
			"room for"
	case errors.Is(err, io.EOF), errors.Is(err, net.ErrClosed):
		reply.Sentence = "the server hung up at " + what + ": it is no OPC UA, or does not take what this end is set to"
	default:
		reply.Outcome = exchange.Garbled
		if s.transport != nil {
			reply.Frames = s.shown()
		}
		reply.Sentence = "what came back to " + what + " cannot be read: " + plain(err)
	}
	return reply
}

// plain is an error of the library without its own prefixes.
func plain(err error) string {
	text := err.Error()
	return strings.TrimPrefix(text, "opcua: ")
}

// begin makes a session for the user that the settings name, and learns the namespaces of the
// server.
func (s *session) begin(ctx context.Context, t *field.Target, certificate []byte) field.Reply {
	nonce := make([]byte, 32)
	if _, err := rand.Read(nonce); err != nil {
		return s.failed(err, "the session")
	}
	made, err := send[*ua.CreateSessionResponse](ctx, s, &ua.CreateSessionRequest{
		ClientDescription: &ua.ApplicationDescription{ApplicationURI: applicationURI, ProductURI: applicationURI,
			ApplicationName: ua.NewLocalizedText("Ferry"), ApplicationType: ua.ApplicationTypeClient},
		EndpointURL: s.endpoint, SessionName: "Ferry", ClientNonce: nonce, ClientCertificate: certificate,
		RequestedSessionTimeout: float64(sessionFor.Milliseconds())})
	if err != nil {
		return s.failed(err, "the session")
	}
	if made.AuthenticationToken == nil || !bytes.Equal(made.ServerCertificate, s.security.Theirs) &&
		s.security.Theirs != nil || !s.security.Signed(made.ServerSignature, nonce) {
		return field.Reply{Outcome: exchange.Garbled, Cause: exchange.Insecure, Stop: route.Session,
			Sentence: "the server cannot show that its certificate is its own"}
	}
	s.token = made.AuthenticationToken
	request, why := s.activation(t, made)
	if why != "" {
		return field.Reply{Outcome: exchange.NotAllowed, Stop: route.Session, Sentence: why}
	}
	if _, err := send[*ua.ActivateSessionResponse](ctx, s, request); err != nil {
		return s.failed(err, "the user")
	}
	return s.learn(ctx)
}

// activation is the request that shows who is there; why says why it cannot be made.
func (s *session) activation(t *field.Target, made *ua.CreateSessionResponse) (request *ua.ActivateSessionRequest,
	why string) {
	signature, err := s.security.Sign(made.ServerNonce)
	if err != nil {
		return nil, "the session cannot be signed: " + plain(err)
	}
	request = &ua.ActivateSessionRequest{ClientSignature: signature, UserTokenSignature: &ua.SignatureData{}}
	user := family.TCP.Value(t.Settings, family.KeyUser).Text()
	kind := ua.UserTokenTypeAnonymous
	if user != "" {
		kind = ua.UserTokenTypeUserName
	}
	policy := s.tokenPolicy(made.ServerEndpoints, kind)
	switch {
	case policy == nil && user == "":
		policy = &ua.UserTokenPolicy{} // it says itself that it lets nobody in without a name
	case policy == nil:
		return nil, "the server takes no user by name and password: leave the user empty"
	}
	if user == "" {
		request.UserIdentityToken = ua.NewExtensionObject(&ua.AnonymousIdentityToken{PolicyID: policy.PolicyID})
		return request, ""
	}
	secret, err := t.Secret(family.TCP, family.KeyPassword)
	if err != nil {
		return nil, err.Error()
	}
	password, algorithm, err := s.security.Encipher(policy.SecurityPolicyURI, string(secret),
		made.ServerCertificate, made.ServerNonce)
	if err != nil {
		return nil, "the password cannot be enciphered: " + plain(err)
	}
	request.UserIdentityToken = ua.NewExtensionObject(&ua.UserNameIdentityToken{PolicyID: policy.PolicyID, UserName: user,
		Password: password, EncryptionAlgorithm: algorithm})
	return request, ""
}

// tokenPolicy is how a kind of user shows who it is at the endpoint that is used: each has names of
// its own for that. A server that does not tell of this endpoint means another of its own.
func (s *session) tokenPolicy(endpoints []*ua.EndpointDescription, kind ua.UserTokenType) (best *ua.UserTokenPolicy) {
	own := false
	for _, e := range endpoints {
		if e == nil {
			continue
		}
		same := e.SecurityMode == s.security.Mode && e.SecurityPolicyURI == s.security.Policy
		for _, p := range e.UserIdentityTokens {
			if p != nil && p.TokenType == kind && (best == nil || same && !own) {
				best, own = p, same
			}
		}
	}
	return best
}

// learn reads how the server numbers its namespaces now, and how much it takes at once.
func (s *session) learn(ctx context.Context) field.Reply {
	reads := []*ua.ReadValueID{{NodeID: ua.NewNumericNodeID(0, idNamespaceArray), AttributeID: ua.AttributeIDValue}}
	for _, o := range operations {
		reads = append(reads, &ua.ReadValueID{NodeID: ua.NewNumericNodeID(0, o.id), AttributeID: ua.AttributeIDValue})
	}
	values, err := s.read(ctx, reads)
	if _, refused := status(err); refused { // it takes fewer at once than there are limits
		most := s.limits.reads
		s.limits.reads = 1
		values, err = s.read(ctx, reads)
		s.limits.reads = most
	}
	if err != nil {
		return s.failed(err, "the list of namespaces")
	}
	s.limit(values[1:])
	if list, ok := values[0].Value.Value().([]string); ok {
		s.namespaces = list
	}
	return field.Reply{Outcome: exchange.Answered}
}

// Nodes of OPC UA itself (OPC 10000-6, annex A.3).
const (
	idObjectsFolder  = 85
	idServer         = 2253
	idNamespaceArray = 2255
	idServerState    = 2259
	idProductName    = 2261
	idManufacturer   = 2263
	idSoftware       = 2264
	idHierarchical   = 33
	idHasProperty    = 46
	idHasComponent   = 47
	idHasSubtype     = 45
)

// nodeID is a node as this session numbers it; why says why it cannot be named.
func (s *session) nodeID(n family.Node) (id *ua.NodeID, why string) {
	index := n.Index
	if n.URI != "" {
		if index = slices.Index(s.namespaces, n.URI); index < 0 {
			return nil, fmt.Sprintf("the server has no namespace %s", n.URI)
		}
	}
	text := fmt.Sprintf("ns=%d;%c=%s", index, n.Kind, n.ID)
	switch n.Kind {
	case family.String:
		return ua.NewStringNodeID(uint16(index), n.ID), ""
	default:
		id, err := ua.ParseNodeID(text)
		if err != nil {
			return nil, plain(err)
		}
		return id, ""
	}
}

// node is what this session calls by a number, by the address of its namespace.
func (s *session) node(id *ua.NodeID) (family.Node, bool) {
	text := id.String()
	if id.Namespace() == 0 && !strings.Contains(text, ";") {
		n, err := family.ParseNode(text)
		return n, err == nil
	}
	n, err := family.ParseNode(text)
	if err != nil {
		return n, false
	}
	if n.Index > 0 && n.Index < len(s.namespaces) {
		n.URI, n.Index = s.namespaces[n.Index], 0
	}
	return n, true
}

// close ends the session in order, if that can be done soon.
func (s *session) close() {
	ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer cancel()
	if s.token != nil {
		_, _ = sendFor[*ua.CloseSessionResponse](ctx, s, &ua.CloseSessionRequest{DeleteSubscriptions: true},
			300*time.Millisecond, 0) // a courtesy
	}
	s.end(net.ErrClosed)
}

// Numbering is how the server numbers its namespaces.
func (s *session) Numbering() string { return strings.Join(s.namespaces, "\n") }
