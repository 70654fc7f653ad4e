package opcua

import (
	"bufio"
	"context"
	"crypto/rand"
	"crypto/rsa"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gopcua/opcua/ua"

	wire "ferry/internal/wire/opcua"
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
	// a publishing interval; Silent says that no
	// news are told, or not even that it is there; Gone that a variable is not
	// there. All may be nil.
	Refuse func() ua.StatusCode
	Revise func(ms float64) float64
	Silent func() (news, life bool)
	// Leaves says of a message that it is not sent, though it is kept; nil for none.
	Leaves func(number uint32) bool
	Gone   func(v *Variable) bool
	// AtOnce is how many nodes one request may be about; nil for mostAtOnce.
	AtOnce func() int
	// Secured is how channels are secured besides those that are not; nil for not at all. Only is
	// set where sessions begin over secured ones alone: others may ask what is offered.
	Secured func() *Secured
	Only    func() bool
	// Turned is told who was turned away, and why; Asked of each request of a client, and whether
	// it was refused. Both may be nil, and are called by several at once.
	Turned func(conn net.Conn, why string)
	Asked  func(conn net.Conn, refused bool)
}

// By is who writes: over which connection, and as which user, empty for nobody in particular.
type By struct {
	Conn net.Conn
	User string
}

// Secured is with what a server shows who it is, and whom it trusts.
type Secured struct {
	Certificate []byte // in DER
	Key         *rsa.PrivateKey
	Trusts      func(certificate []byte) error
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
	life   context.Context
	end    context.CancelFunc
	all    sync.WaitGroup
	ids    counter
	own    *standard

	mu       sync.Mutex
	sessions map[string]*session // by their secrets
	space    atomic.Pointer[space]
}

// New begins a server that is handed connections.
func New(config Config) *Server {
	s := &Server{config: config, sessions: map[string]*session{}}
	s.own = &standard{About: config.About, began: time.Now().UTC(), most: func() uint32 { return uint32(s.atOnce()) }}
	s.life, s.end = context.WithCancel(context.Background())
	s.Renumber()
	return s
}

// Renumber builds the address space anew, as after a restart: who is connected is thrown out.
func (s *Server) Renumber() {
	var front []string
	if s.config.Front != nil {
		front = s.config.Front()
	}
	made := newSpace(front, s.config.Variables(), s.own)
	s.mu.Lock()
	s.space.Store(made)
	out := s.sessions
	s.sessions = map[string]*session{}
	s.mu.Unlock()
	for _, session := range out {
		session.end()
		_ = session.conn.Close() // it may have gone
	}
}

// Replace has another address space, whose namespaces keep their numbers: who is connected goes on.
func (s *Server) Replace() {
	s.space.Store(newSpace(s.space.Load().namespaces[1:], s.config.Variables(), s.own))
}

// atOnce is how many nodes one request may be about.
func (s *Server) atOnce() int {
	if s.config.AtOnce == nil {
		return mostAtOnce
	}
	return min(s.config.AtOnce(), mostAtOnce)
}

// secured is how channels are secured; nil for not at all.
func (s *Server) secured() *Secured {
	if s.config.Secured == nil {
		return nil
	}
	return s.config.Secured()
}

func (s *Server) turned(conn net.Conn, why string) {
	if s.config.Turned != nil {
		s.config.Turned(conn, why)
	}
}

// Close throws everybody out.
func (s *Server) Close() error {
	s.end()
	s.all.Wait()
	return nil
}

// caller is one connection with its channel.
type caller struct {
	server *Server
	conn   net.Conn
	in     *bufio.Reader

	mu      sync.Mutex // held for the channel, and while chunks are sent
	channel wire.Channel
}

// beginsWithin is how long a client may take until its channel stands, and takesWithin to take
// an answer.
const (
	beginsWithin = 10 * time.Second
	takesWithin  = 10 * time.Second
)

// Take has a connection until that ends. A defect costs the connection alone.
func (s *Server) Take(conn net.Conn) {
	s.mu.Lock()
	if s.life.Err() != nil {
		s.mu.Unlock()
		return
	}
	s.all.Add(1)
	s.mu.Unlock()
	defer s.all.Done()
	c := &caller{server: s, conn: conn, in: bufio.NewReaderSize(conn, 1<<16)}
	defer func() {
		if p := recover(); p != nil {
			log.Printf("an OPC UA client: %v\n%s", p, debug.Stack())
		}
		_ = conn.Close()
		c.left()
	}()
	stop := context.AfterFunc(s.life, func() { _ = conn.Close() })
	defer stop()
	if err := c.serve(); err != nil && !errors.Is(err, io.EOF) {
		code := ua.StatusBadTCPInternalError
		errors.As(err, &code)
		if conn.SetWriteDeadline(time.Now().Add(time.Second)) == nil {
			_, _ = conn.Write(wire.Failure(code, err.Error())) // it may have gone
		}
	}
}

// serve answers what comes until the connection ends.
func (c *caller) serve() error {
	if err := c.conn.SetReadDeadline(time.Now().Add(beginsWithin)); err != nil {
		return err
	}
	b, err := wire.ReadChunk(c.in)
	if err != nil {
		return err
	}
	limits, _, err := wire.ReadHello(b)
	if err != nil {
		return err
	}
	c.channel.Takes, c.channel.ID, c.channel.Accept = int(min(limits.Receive, 1<<20)), c.server.ids.next(), c.accept
	if _, err := c.conn.Write(wire.Acknowledge()); err != nil {
		return err
	}
	for {
		b, err := wire.ReadChunk(c.in)
		if err != nil {
			return err
		}
		c.mu.Lock()
		m, whole, err := c.channel.Decode(b)
		c.mu.Unlock()
		switch {
		case err != nil:
			return err
		case !whole || m.Aborted != 0:
			continue
		case m.Kind == wire.CloseChannel:
			return io.EOF
		}
		if err := c.take(&m); err != nil {
			return err
		}
	}
}

// take takes in a message.
func (c *caller) take(m *wire.Message) error {
	v, err := wire.ReadService(m.Body)
	var unknown *wire.Unknown
	if errors.As(err, &unknown) {
		c.say(m.Request, unknown, nil, ua.StatusBadServiceUnsupported)
		return nil
	}
	if err != nil {
		c.say(m.Request, nil, nil, ua.StatusBadDecodingError)
		return nil
	}
	request, ok := v.(ua.Request)
	if !ok || request.Header() == nil {
		return errors.New("it is no request")
	}
	if open, is := request.(*ua.OpenSecureChannelRequest); is != (m.Kind == wire.OpenChannel) {
		return errors.New("a channel is opened by the message for it alone")
	} else if is {
		return c.open(m.Request, open)
	}
	c.answer(m.Request, request)
	return nil
}

// accept says how a channel is secured that somebody opens.
func (c *caller) accept(policy string, certificate []byte) (wire.Security, error) {
	if policy == ua.SecurityPolicyURINone {
		return wire.Security{Policy: policy, Mode: ua.MessageSecurityModeNone}, nil
	}
	secured := c.server.secured()
	if secured == nil {
		c.server.turned(c.conn, "wanted a secured channel, and none is offered")
		return wire.Security{}, ua.StatusBadSecurityPolicyRejected
	}
	if err := secured.Trusts(certificate); err != nil {
		c.server.turned(c.conn, "is not trusted: "+err.Error())
		return wire.Security{}, ua.StatusBadSecurityChecksFailed
	}
	return wire.Security{Policy: policy, Mode: ua.MessageSecurityModeSignAndEncrypt, Own: secured.Certificate,
		Key: secured.Key, Theirs: certificate}, nil
}

// open opens the channel, or makes new keys for it.
func (c *caller) open(id uint32, r *ua.OpenSecureChannelRequest) error {
	none := r.SecurityMode == ua.MessageSecurityModeNone
	c.mu.Lock()
	if none != (c.channel.Mode == ua.MessageSecurityModeNone) ||
		!none && r.SecurityMode != ua.MessageSecurityModeSign && r.SecurityMode != ua.MessageSecurityModeSignAndEncrypt {
		c.mu.Unlock()
		return ua.StatusBadSecurityModeRejected
	}
	nonce, err := c.channel.Nonce()
	c.mu.Unlock()
	if err != nil {
		return err
	}
	token, lifetime := c.server.ids.next(), min(max(r.RequestedLifetime, 60_000), 3_600_000)
	c.sayIn(wire.OpenChannel, id, r, &ua.OpenSecureChannelResponse{ServerNonce: nonce,
		SecurityToken: &ua.ChannelSecurityToken{
			ChannelID: c.channel.ID, TokenID: token, CreatedAt: time.Now().UTC(), RevisedLifetime: lifetime}}, ua.StatusOK)
	c.mu.Lock()
	defer c.mu.Unlock()
	if !none {
		c.channel.Mode = r.SecurityMode
	}
	if err := c.channel.Renew(token, nonce, r.ClientNonce); err != nil {
		return err
	}
	return c.conn.SetReadDeadline(time.Time{})
}

// left ends the sessions of a connection that has gone.
func (c *caller) left() {
	c.server.mu.Lock()
	defer c.server.mu.Unlock()
	for secret, session := range c.server.sessions {
		if session.caller == c {
			session.end()
			delete(c.server.sessions, secret)
		}
	}
}

// headed is a request, of a known kind or not.
type headed interface{ Header() *ua.RequestHeader }

// say sends an answer.
func (c *caller) say(id uint32, request headed, response ua.Response, code ua.StatusCode) {
	c.sayIn(wire.AnyMessage, id, request, response, code)
}

func (c *caller) sayIn(kind string, id uint32, request headed, response ua.Response, code ua.StatusCode) {
	head := &ua.ResponseHeader{Timestamp: time.Now().UTC(), ServiceResult: code, ServiceDiagnostics: &ua.DiagnosticInfo{},
		StringTable: []string{}, AdditionalHeader: ua.NewExtensionObject(nil)}
	if request != nil && request.Header() != nil {
		head.RequestHandle = request.Header().RequestHandle
	}
	if code != ua.StatusOK {
		response = &ua.ServiceFault{}
	}
	response.SetHeader(head)
	body, err := wire.WriteService(response)
	if err == nil {
		err = c.write(kind, id, body)
	}
	if err != nil {
		_ = c.conn.Close() // it has gone, or takes nothing
	}
}

func (c *caller) write(kind string, id uint32, body []byte) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	chunks, err := c.channel.Encode(kind, id, body)
	if err != nil {
		return err
	}
	for _, chunk := range chunks {
		if err := c.conn.SetWriteDeadline(time.Now().Add(takesWithin)); err != nil {
			return err
		}
		if _, err := c.conn.Write(chunk); err != nil {
			return err
		}
	}
	return nil
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
	}
	session := s.sessionOf(request, c)
	if session == nil {
		c.say(id, request, nil, ua.StatusBadSessionIDInvalid)
		return
	}
	session.heard()
	if r, ok := request.(*ua.ActivateSessionRequest); ok {
		code, why := session.activate(r)
		if code != ua.StatusOK {
			s.turned(c.conn, why)
		}
		nonce := make([]byte, 32)
		_, _ = rand.Read(nonce) // which does not fail
		session.nonce = nonce
		c.say(id, r, &ua.ActivateSessionResponse{ServerNonce: nonce}, code)
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
	if s.config.Asked != nil {
		s.config.Asked(c.conn, code != ua.StatusOK)
	}
	c.say(id, request, response, code)
	if _, ok := request.(*ua.CloseSessionRequest); ok {
		s.drop(session)
	}
}

// create makes a session, which is not active yet.
func (c *caller) create(r *ua.CreateSessionRequest) (ua.Response, ua.StatusCode) {
	s := c.server
	if s.config.Refuse != nil {
		if code := s.config.Refuse(); code != 0 {
			return nil, code
		}
	}
	if s.only() && c.channel.Mode == ua.MessageSecurityModeNone {
		s.turned(c.conn, "wanted a session over a channel that is not secured")
		return nil, ua.StatusBadSecurityModeInsufficient
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
		s.turned(c.conn, fmt.Sprintf("came when there were %d sessions already", mostSessions))
		return nil, ua.StatusBadTooManySessions
	}
	signature, err := c.channel.Sign(r.ClientNonce)
	if err != nil {
		return nil, ua.StatusBadSecurityChecksFailed
	}
	made := newSession(c, time.Duration(within)*time.Millisecond)
	made.nonce = nonce
	token := ua.NewByteStringNodeID(0, secret)
	s.sessions[token.String()] = made
	made.secret = token.String()
	s.all.Go(func() { made.expire() })
	return &ua.CreateSessionResponse{SessionID: ua.NewNumericNodeID(0, s.ids.next()), AuthenticationToken: token,
		RevisedSessionTimeout: within, ServerNonce: nonce, ServerEndpoints: s.endpoints(r.EndpointURL),
		ServerSignature: signature, ServerCertificate: c.channel.Own}, ua.StatusOK
}

// sessionOf is the session that a request says it is of, over the channel that has it.
func (s *Server) sessionOf(r ua.Request, c *caller) *session {
	head := r.Header()
	if head == nil || head.AuthenticationToken == nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	session := s.sessions[head.AuthenticationToken.String()]
	if session == nil || session.caller != c {
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
