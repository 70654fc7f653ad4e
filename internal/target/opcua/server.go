package opcua

import (
	"context"
	"crypto/rand"
	"io"
	"log"
	"net"
	"runtime/debug"
	"sync"
	"time"

	"github.com/gopcua/opcua/ua"
	"github.com/gopcua/opcua/uacp"
	"github.com/gopcua/opcua/uasc"
)

// Config is what a server is.
type Config struct {
	// Variables are what it has, Front namespaces that stand before theirs.
	Variables func() []Variable
	Front     func() []string
	About     About
	// User says whether somebody may come in, and whether also to write; nobody in particular has
	// an empty name.
	User func(name, password string) (may, writes bool)
	// Refuse is the status with which each session is refused, 0 for none; Revise what becomes of
	// a publishing interval; Silent says that nothing is published; Gone that a variable is not
	// there. All may be nil.
	Refuse func() ua.StatusCode
	Revise func(ms float64) float64
	Silent func() bool
	Gone   func(v *Variable) bool
}

// Bounds of what clients may have.
const (
	mostSessions      = 100
	mostSubscriptions = 100 // of a session
	mostItems         = 50_000
	mostAtOnce        = 10_000
	mostPublish       = 20 // questions that wait
	mostReferences    = 2_000
)

// Server answers clients.
type Server struct {
	config Config
	inner  *uacp.Listener
	life   context.Context
	end    context.CancelFunc
	all    sync.WaitGroup
	ids    counter

	mu       sync.Mutex
	sessions map[string]*session // by their secrets
	space    *space
}

// New begins a server that is handed connections.
func New(config Config) (*Server, error) {
	s := &Server{config: config, sessions: map[string]*session{}}
	s.life, s.end = context.WithCancel(context.Background())
	var err error
	// The library takes connections of its own listener alone: those that come are passed on to it.
	if s.inner, err = uacp.Listen(s.life, "opc.tcp://127.0.0.1:0", nil); err != nil {
		return nil, err
	}
	s.Renumber()
	s.all.Go(s.accept)
	return s, nil
}

// Renumber builds the address space anew, as after a restart: who is connected is thrown out.
func (s *Server) Renumber() {
	var front []string
	if s.config.Front != nil {
		front = s.config.Front()
	}
	made := newSpace(front, s.config.Variables(), s.config.About)
	s.mu.Lock()
	s.space = made
	out := s.sessions
	s.sessions = map[string]*session{}
	s.mu.Unlock()
	for _, session := range out {
		session.end()
		_ = session.channel.Close() // it may have gone
	}
}

// Take has a connection until that ends.
func (s *Server) Take(c net.Conn) {
	inner, err := net.Dial("tcp", s.inner.Addr().String())
	if err != nil {
		return
	}
	defer inner.Close()
	stop := context.AfterFunc(s.life, func() { _ = inner.Close() })
	defer stop()
	done := make(chan struct{})
	go func() {
		defer close(done)
		_, _ = io.Copy(inner, c) // it ends with either
		if tcp, ok := inner.(*net.TCPConn); ok {
			_ = tcp.CloseWrite()
		}
	}()
	_, _ = io.Copy(c, inner)
	_ = c.Close()
	<-done
}

func (s *Server) Close() error {
	s.end()
	err := s.inner.Close()
	s.mu.Lock()
	for _, session := range s.sessions {
		session.end()
		_ = session.channel.Close()
	}
	s.mu.Unlock()
	s.all.Wait()
	return err
}

func (s *Server) accept() {
	for s.life.Err() == nil {
		conn, err := s.inner.Accept(s.life)
		if err != nil {
			continue // one that does not begin as it should; or the end
		}
		s.all.Go(func() { s.serve(conn) })
	}
}

// caller is one channel and what it has.
type caller struct {
	server  *Server
	channel *uasc.SecureChannel
}

// serve answers what comes over a channel. A defect costs the channel alone.
func (s *Server) serve(conn *uacp.Conn) {
	defer func() {
		if p := recover(); p != nil {
			log.Printf("an OPC UA client: %v\n%s", p, debug.Stack())
		}
		_ = conn.Close()
	}()
	stop := context.AfterFunc(s.life, func() { _ = conn.Close() })
	defer stop()
	config := &uasc.Config{SecurityPolicyURI: ua.SecurityPolicyURINone, SecurityMode: ua.MessageSecurityModeNone,
		Lifetime: 3_600_000, RequestTimeout: 10 * time.Second}
	errs := make(chan error, 8)
	channel, err := uasc.NewServerSecureChannel("", conn, config, errs, s.ids.next(), 1, s.ids.next())
	if err != nil {
		return
	}
	c := &caller{server: s, channel: channel}
	defer c.left()
	for s.life.Err() == nil {
		m := channel.Receive(s.life)
		if m.Err != nil {
			return
		}
		if request := m.Request(); request != nil {
			c.answer(m.RequestID, request)
		}
	}
}

// left ends the sessions of a channel that has gone.
func (c *caller) left() {
	c.server.mu.Lock()
	defer c.server.mu.Unlock()
	for secret, session := range c.server.sessions {
		if session.channel == c.channel {
			session.end()
			delete(c.server.sessions, secret)
		}
	}
}

// say sends an answer.
func (c *caller) say(id uint32, request ua.Request, response ua.Response, code ua.StatusCode) {
	head := &ua.ResponseHeader{Timestamp: time.Now().UTC(), ServiceResult: code, ServiceDiagnostics: &ua.DiagnosticInfo{},
		StringTable: []string{}, AdditionalHeader: ua.NewExtensionObject(nil)}
	if request != nil && request.Header() != nil {
		head.RequestHandle = request.Header().RequestHandle
	}
	if code != ua.StatusOK {
		response = &ua.ServiceFault{}
	}
	response.SetHeader(head)
	if err := c.channel.SendResponseWithContext(c.server.life, id, response); err != nil {
		_ = c.channel.Close() // it has gone
	}
}

// answer answers one request.
func (c *caller) answer(id uint32, request ua.Request) {
	s := c.server
	switch r := request.(type) {
	case *ua.GetEndpointsRequest:
		c.say(id, r, &ua.GetEndpointsResponse{Endpoints: s.endpoints(r.EndpointURL)}, ua.StatusOK)
		return
	case *ua.FindServersRequest:
		c.say(id, r, &ua.FindServersResponse{Servers: []*ua.ApplicationDescription{s.application(r.EndpointURL)}},
			ua.StatusOK)
		return
	case *ua.CreateSessionRequest:
		response, code := c.create(r)
		c.say(id, r, response, code)
		return
	case *ua.CloseSecureChannelRequest:
		_ = c.channel.Close()
		return
	}
	session := s.sessionOf(request, c.channel)
	if session == nil {
		c.say(id, request, nil, ua.StatusBadSessionIDInvalid)
		return
	}
	session.heard()
	if r, ok := request.(*ua.ActivateSessionRequest); ok {
		nonce := make([]byte, 32)
		_, _ = rand.Read(nonce) // which does not fail
		c.say(id, r, &ua.ActivateSessionResponse{ServerNonce: nonce}, session.activate(r))
		return
	}
	if !session.active.Load() {
		c.say(id, request, nil, ua.StatusBadSessionNotActivated)
		return
	}
	if r, ok := request.(*ua.PublishRequest); ok {
		if code := session.ask(c, id, r); code != ua.StatusOK {
			c.say(id, r, nil, code)
		}
		return
	}
	response, code := session.answer(request)
	c.say(id, request, response, code)
	if _, ok := request.(*ua.CloseSessionRequest); ok {
		s.drop(session)
	}
}

func (s *Server) application(url string) *ua.ApplicationDescription {
	return &ua.ApplicationDescription{ApplicationURI: "urn:ferry:" + s.config.About.Product, ProductURI: "urn:ferry",
		ApplicationName: ua.NewLocalizedText(s.config.About.Product), ApplicationType: ua.ApplicationTypeServer,
		DiscoveryURLs: []string{url}}
}

// endpoints are those that are offered.
func (s *Server) endpoints(url string) []*ua.EndpointDescription {
	e := &ua.EndpointDescription{EndpointURL: url, Server: s.application(url), SecurityMode: ua.MessageSecurityModeNone,
		SecurityPolicyURI:   ua.SecurityPolicyURINone,
		TransportProfileURI: "http://opcfoundation.org/UA-Profile/Transport/uatcp-uasc-uabinary"}
	if may, _ := s.config.User("", ""); may {
		e.UserIdentityTokens = append(e.UserIdentityTokens, &ua.UserTokenPolicy{PolicyID: "anonymous",
			TokenType: ua.UserTokenTypeAnonymous})
	}
	e.UserIdentityTokens = append(e.UserIdentityTokens,
		&ua.UserTokenPolicy{PolicyID: "name", TokenType: ua.UserTokenTypeUserName,
			SecurityPolicyURI: ua.SecurityPolicyURINone})
	return []*ua.EndpointDescription{e}
}

// create makes a session, which is not active yet.
func (c *caller) create(r *ua.CreateSessionRequest) (ua.Response, ua.StatusCode) {
	s := c.server
	if s.config.Refuse != nil {
		if code := s.config.Refuse(); code != 0 {
			return nil, code
		}
	}
	secret, nonce := make([]byte, 16), make([]byte, 32)
	if _, err := rand.Read(secret); err != nil {
		return nil, ua.StatusBadInternalError
	}
	_, _ = rand.Read(nonce) // which does not fail
	within := min(max(r.RequestedSessionTimeout, 5_000), 3_600_000)
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.sessions) >= mostSessions {
		return nil, ua.StatusBadTooManySessions
	}
	made := newSession(c, s.space, time.Duration(within)*time.Millisecond)
	token := ua.NewByteStringNodeID(0, secret)
	s.sessions[token.String()] = made
	made.secret = token.String()
	s.all.Go(func() { made.expire() })
	return &ua.CreateSessionResponse{SessionID: ua.NewNumericNodeID(0, s.ids.next()), AuthenticationToken: token,
		RevisedSessionTimeout: within, ServerNonce: nonce, ServerEndpoints: s.endpoints(r.EndpointURL),
		ServerSignature: &ua.SignatureData{}}, ua.StatusOK
}

// sessionOf is the session that a request says it is of, over the channel that has it.
func (s *Server) sessionOf(r ua.Request, channel *uasc.SecureChannel) *session {
	head := r.Header()
	if head == nil || head.AuthenticationToken == nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	session := s.sessions[head.AuthenticationToken.String()]
	if session == nil || session.channel != channel {
		return nil
	}
	return session
}

func (s *Server) drop(gone *session) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.sessions, gone.secret)
	gone.end()
}
