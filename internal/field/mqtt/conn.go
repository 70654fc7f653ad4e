// Package mqtt talks to brokers, in the versions 3.1.1 and 5 of MQTT.
package mqtt

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/mqtt"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

func init() { field.Register(family.TCP.Name, driver{}) }

type driver struct{}

func (driver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	def := family.TCP
	c := &conn{ctx: ctx, within: within(def, t.Settings), settings: t.Settings, reports: make(chan field.Report, 64),
		gone: make(chan struct{}), wanted: map[string][]protocol.Wanted{}, last: map[string][]byte{}}
	s := &session{came: c.came, lost: c.lost}
	if topic := def.Value(t.Settings, family.KeyWill).Text(); topic != "" {
		s.will = &message{topic, []byte(def.Value(t.Settings, family.KeyWillText).Text()), c.qos(), true}
		c.will = topic
	}
	var reply field.Reply
	if c.client, c.socket, reply = begin(ctx, &t, def, s); c.client == nil {
		return nil, reply
	}
	c.stop = context.AfterFunc(ctx, c.bye) // in order, or the broker would send the will
	return c, reply
}

func within(def *protocol.Def, s protocol.Settings) time.Duration {
	return time.Duration(def.Int(s, protocol.KeyWithin)) * time.Millisecond
}

// begin begins a session with a broker, over TLS where the settings say so. The client
// is nil where none comes about.
func begin(ctx context.Context, t *field.Target, def *protocol.Def, s *session) (client, net.Conn, field.Reply) {
	within := within(def, t.Settings)
	s.id, s.user = def.Value(t.Settings, family.KeyClient).Text(), def.Value(t.Settings, family.KeyUser).Text()
	s.alive, s.within = time.Duration(def.Int(t.Settings, family.KeyAlive))*time.Second, within
	password, err := t.Secret(def, family.KeyPassword)
	if err != nil {
		return nil, nil, field.Reply{Outcome: exchange.NotAllowed, Stop: route.Session, Sentence: err.Error()}
	}
	s.password = password
	dialer := net.Dialer{Timeout: max(within, 1500*time.Millisecond), Control: t.Control}
	socket, err := dialer.DialContext(ctx, "tcp", t.Dial)
	if err != nil {
		return nil, nil, field.Failure(err, true)
	}
	stop := context.AfterFunc(ctx, func() { _ = socket.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	if def.Value(t.Settings, family.KeyTLS).On() {
		secured, reply := secure(ctx, socket, t, def, within)
		if secured == nil {
			_ = socket.Close()
			return nil, nil, reply
		}
		socket = secured
	}
	socket = &limited{Conn: socket}
	connect := connect4
	if def.Value(t.Settings, family.KeyVersion).Text() == "5" {
		connect = connect5
	}
	began := time.Now()
	c, err := connect(socket, s)
	if err != nil {
		reply := connectFailure(err, socket, within, time.Since(began))
		_ = socket.Close()
		return nil, nil, reply
	}
	return c, socket, field.Reply{Outcome: exchange.Answered}
}

// connectFailure says why no session came about.
func connectFailure(err error, socket net.Conn, within, took time.Duration) field.Reply {
	var no refused
	if errors.As(err, &no) {
		return field.Reply{Outcome: exchange.Declined, Code: int(no), Stop: route.Session,
			Sentence: "the broker refuses the session: " + family.TCP.Decline(int(no)).Title}
	}
	if errors.Is(err, context.DeadlineExceeded) || took >= within {
		return field.Reply{Outcome: exchange.NoAnswer, Stop: route.Session,
			Sentence: fmt.Sprintf("nothing came back within %d ms: it may be no broker, or one that wants TLS",
				within.Milliseconds())}
	}
	reply := field.Reply{Outcome: exchange.Closed, Stop: route.Session}
	switch {
	case wantsCertificate(err, socket):
		reply.Sentence = "it wants a certificate that it knows, of this end: name one under Own certificate, with its key"
	case isSecured(socket):
		reply.Sentence = "it hangs up without an answer: it is no broker, wants a certificate of this end, or does not speak " +
			"this version"
	default:
		reply.Sentence = "it hangs up without an answer: it is no broker, wants TLS, or does not speak this version"
	}
	return reply
}

func isSecured(socket net.Conn) bool {
	l, ok := socket.(*limited)
	if ok {
		_, ok = l.Conn.(*tls.Conn)
	}
	return ok
}

// The alerts by which the other end of TLS refuses the certificate of this one (RFC
// 8446, clause 6.2).
var certificateAlerts = []tls.AlertError{42, 43, 44, 45, 46, 48, 116}

// wantsCertificate reports whether the other end refused this one's certificate, or
// that there was none. It says so after the session has begun for this end; what was
// sent meanwhile may fail first, and the reason waits to be read.
func wantsCertificate(err error, socket net.Conn) bool {
	if !isSecured(socket) {
		return false
	}
	var alert tls.AlertError
	if !errors.As(err, &alert) {
		if socket.SetReadDeadline(time.Now().Add(100*time.Millisecond)) != nil {
			return false
		}
		if _, err = socket.Read(make([]byte, 1)); !errors.As(err, &alert) {
			return false
		}
	}
	return slices.Contains(certificateAlerts, alert)
}

// secure begins TLS.
func secure(ctx context.Context, socket net.Conn, t *field.Target, def *protocol.Def,
	within time.Duration) (net.Conn, field.Reply) {
	fail := func(format string, args ...any) (net.Conn, field.Reply) {
		return nil, field.Reply{Outcome: exchange.NotAllowed, Stop: route.Session, Sentence: fmt.Sprintf(format,
			args...)}
	}
	host, _, err := net.SplitHostPort(t.Dial)
	if err != nil {
		return fail("%s is no place: %v", t.Dial, err)
	}
	config := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	authority, err := t.Secret(def, family.KeyAuthority)
	if err != nil {
		return fail("%v", err)
	}
	authority = append(authority, t.Authority...)
	if len(authority) > 0 {
		if config.RootCAs = x509.NewCertPool(); !config.RootCAs.AppendCertsFromPEM(authority) {
			return fail("the file of whom it trusts holds no certificate in PEM")
		}
	}
	cert, err := t.Secret(def, family.KeyCert)
	if err != nil {
		return fail("%v", err)
	}
	if len(cert) > 0 {
		key, err := t.Secret(def, family.KeyKey)
		if err != nil {
			return fail("%v", err)
		}
		pair, err := tls.X509KeyPair(cert, key)
		if err != nil {
			return fail("the own certificate and its key cannot be used: %v", err)
		}
		config.Certificates = []tls.Certificate{pair}
	}
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	secured := tls.Client(socket, config)
	if err := secured.HandshakeContext(ctx); err != nil {
		var unknown x509.UnknownAuthorityError
		var name x509.HostnameError
		var invalid x509.CertificateInvalidError
		why := "TLS does not come about: " + err.Error()
		switch {
		case errors.As(err, &unknown):
			why = "its certificate is not trusted: name the certificate of the broker, or of who signed it, under Trusts"
		case errors.As(err, &name):
			why = "its certificate is for another name than " + host
		case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
			why = "its certificate is not valid at this time: look at its dates, and at both clocks"
		}
		return nil, field.Reply{Outcome: exchange.Garbled, Stop: route.Session, Sentence: why}
	}
	return secured, field.Reply{Outcome: exchange.Answered}
}

// conn is a session with a broker.
type conn struct {
	ctx      context.Context
	client   client
	socket   net.Conn
	stop     func() bool
	within   time.Duration
	settings protocol.Settings
	will     string
	farewell func()      // says goodbye in the place of the will; nil for nothing
	online   atomic.Bool // the topic of the will has been told
	byes     sync.Once
	reports  chan field.Report
	gone     chan struct{} // closed when the session has ended
	over     atomic.Bool
	lists    atomic.Pointer[listing]

	mu     sync.Mutex
	closed bool
	ended  field.Reply
	wanted map[string][]protocol.Wanted // by topic
	last   map[string][]byte            // payloads of JSON that were published, by topic
}

func (c *conn) qos() byte { return family.TCP.Value(c.settings, family.KeyService).Text()[0] - '0' }

func (c *conn) Toward(protocol.Settings) {}

func (c *conn) Break() { _ = c.socket.SetDeadline(time.Unix(1, 0)) } // it may be closed already

func (c *conn) Usable() bool { return !c.over.Load() }

// Close ends the session in order, so that no will is sent.
func (c *conn) Close() error {
	c.stop()
	c.bye()
	return nil
}

// SendMessage publishes a text, which is not retained.
func (c *conn) SendMessage(to, text string) field.Reply {
	ctx, cancel := context.WithTimeout(c.ctx, c.within)
	defer cancel()
	code, err := c.client.publish(ctx, &message{to, []byte(text), max(c.qos(), 1), false})
	switch {
	case code >= 0x80:
		return field.Reply{Outcome: exchange.Declined, Code: code,
			Sentence: "the broker does not take it: " + family.TCP.Decline(code).Title}
	case err != nil:
		return field.Reply{Outcome: exchange.NoAnswer, Sentence: "the broker did not say that it has it: " + err.Error()}
	}
	return field.Reply{Outcome: exchange.Answered}
}

// byeFor bounds how long the end of a session may take.
const byeFor = 300 * time.Millisecond

// bye ends the session, once.
func (c *conn) bye() {
	c.byes.Do(func() {
		stands := c.over.CompareAndSwap(false, true)
		if err := c.socket.SetDeadline(time.Now().Add(byeFor)); err == nil && stands {
			if c.farewell != nil {
				c.farewell()
			} else if c.online.Load() {
				c.tell(family.TCP.Value(c.settings, family.KeyWillText).Text())
			}
		}
		c.client.close()
		_ = c.socket.Close() // the library may have closed it
		c.finish(field.Reply{Outcome: exchange.Closed, Sentence: "the session was ended here"})
	})
}

// tell publishes the state of this client to the topic of its will.
func (c *conn) tell(state string) {
	ctx, cancel := context.WithTimeout(context.Background(), byeFor)
	defer cancel()
	_, _ = c.client.publish(ctx, &message{c.will, []byte(state), c.qos(), true}) // a courtesy: the will says the same
}

// lost takes in the end of the session.
func (c *conn) lost(code int, err error) {
	c.over.Store(true)
	reply := field.Reply{Outcome: exchange.Closed, Stop: route.Session, Sentence: "the broker ended the session"}
	switch {
	case code > 0:
		reply.Outcome, reply.Code = exchange.Declined, code
		reply.Sentence = "the broker ended the session: " + family.TCP.Decline(code).Title
	case err != nil:
		reply.Sentence = "the session ended: " + err.Error()
	}
	c.finish(reply)
}

func (c *conn) finish(reply field.Reply) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		return
	}
	c.closed, c.ended = true, reply
	close(c.gone)
	close(c.reports)
}

func (c *conn) Reports() <-chan field.Report { return c.reports }

func (c *conn) Ended() field.Reply {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.ended
}

// came takes in a message. It is called by the library, one at a time.
func (c *conn) came(m message) {
	if l := c.lists.Load(); l != nil {
		l.add(m)
	}
	report := field.Report{At: time.Now(), Operation: "message of " + m.topic, Octets: slices.Clone(m.payload)}
	old := cmp.Or(time.Duration(family.TCP.Int(c.settings, family.KeySilence))*time.Second, keptFor)
	c.mu.Lock()
	for _, w := range c.wanted[m.topic] {
		report.Samples = append(report.Samples, sampled(&m, w, old))
	}
	c.mu.Unlock()
	c.emit(report)
}

// emit hands a report over.
func (c *conn) emit(report field.Report) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed || len(report.Samples) == 0 {
		return
	}
	select {
	case c.reports <- report:
	default:
		// Who takes them is behind: the oldest goes, what is newest counts.
		select {
		case <-c.reports:
		default:
		}
		select {
		case c.reports <- report:
		default:
		}
	}
}

// keptFor is how old a value may be that the broker kept, where nothing else is stated,
// to be more than what somebody left there once.
const keptFor = time.Hour

// sampled is the sample in a message; old is the age from which one that was kept by the
// broker is doubted.
func sampled(m *message, w protocol.Wanted, old time.Duration) field.Sampled {
	s := field.Sampled{ID: w.ID, To: len(m.payload)}
	p, err := family.Read(m.payload, family.PlaceOf(w.Address).Path, w.Shape)
	if err != nil {
		s.Quality, s.Reason = value.Bad, err.Error()
		return s
	}
	s.Value, s.Time, s.Quality = p.Value, p.Time, p.Quality
	switch {
	case s.Quality == value.Bad || s.Quality == value.Doubtful:
		s.Reason = "the payload says so"
	case m.retained && p.Time.IsZero():
		s.Quality, s.Reason = value.Doubtful, "kept by the broker: how old it is is not known"
	case m.retained && time.Since(p.Time) > old:
		s.Quality, s.Reason = value.Doubtful, "kept by the broker since "+p.Time.Local().Format(time.DateTime)
	}
	return s
}

// atOnce is how many topics go into one subscription.
const atOnce = 200

func (c *conn) Follow(wanted []protocol.Wanted) (field.Reply, []field.Refusal) {
	by := map[string][]protocol.Wanted{}
	var topics []string
	for _, w := range wanted {
		topic := family.PlaceOf(w.Address).Topic
		if by[topic] == nil {
			topics = append(topics, topic)
		}
		by[topic] = append(by[topic], w)
	}
	c.mu.Lock()
	c.wanted = by
	c.mu.Unlock()
	var refusals []field.Refusal
	reply := field.Reply{Outcome: exchange.Answered, Left: true}
	for batch := range slices.Chunk(topics, atOnce) {
		ctx, cancel := context.WithTimeout(c.ctx, c.within)
		codes, err := c.client.subscribe(ctx, batch, c.qos())
		cancel()
		if err != nil {
			return c.failed(err), refusals
		}
		for i, code := range codes {
			if code < 0x80 {
				continue
			}
			for _, w := range by[batch[i]] {
				refusals = append(refusals, field.Refusal{ID: w.ID, Code: code,
					Sentence: "the broker refuses the subscription: " + family.TCP.Decline(code).Title})
			}
		}
	}
	return reply, refusals
}

// failed says why a question got no answer.
func (c *conn) failed(err error) field.Reply {
	select {
	case <-c.gone:
		reply := c.Ended()
		reply.Left = true
		return reply
	default:
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return field.Reply{Outcome: exchange.NoAnswer, Left: true,
			Sentence: fmt.Sprintf("the broker did not confirm within %d ms", c.within.Milliseconds())}
	}
	c.over.Store(true)
	return field.Reply{Outcome: exchange.Closed, Left: true, Sentence: "the session has ended: " + err.Error()}
}

// published is what came of a message that was sent.
func (c *conn) published(code int, err error) field.Reply {
	if err != nil {
		return c.failed(err)
	}
	reply := field.Reply{Outcome: exchange.Answered, Left: true}
	if code >= 0x80 {
		reply.Outcome, reply.Code = exchange.Declined, code
		reply.Sentence = "the broker refuses the message: " + family.TCP.Decline(code).Title
	}
	return reply
}

// WriteItem publishes a value.
func (c *conn) WriteItem(to protocol.Wanted, v value.Value, pass field.Pass) field.Reply {
	return c.WriteNoted(to, v, &protocol.Note{Time: time.Now(), Quality: value.Good}, pass)
}

// WriteNoted publishes a value with what is beside it.
func (c *conn) WriteNoted(to protocol.Wanted, v value.Value, n *protocol.Note, pass field.Pass) field.Reply {
	place := family.PlaceOf(to.Address)
	payload := family.Plain(v)
	var err error
	switch {
	case len(place.Path) > 0:
		payload, err = family.Put(c.last[place.Topic], place.Path, v)
	case family.TCP.Value(c.settings, family.KeyPayload).Text() == "json":
		p := family.Payload{Value: v, Time: n.Time, Quality: n.Quality, Unit: n.Unit, Reason: n.Reason, Low: n.Low,
			High: n.High, Text: n.Text}
		payload, err = p.JSON()
	}
	if err != nil {
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: "the payload cannot be made: " + err.Error()}
	}
	left, err := pass()
	if err != nil {
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: err.Error()}
	}
	defer left()
	if c.will != "" && c.online.CompareAndSwap(false, true) {
		c.tell("online")
	}
	m := &message{place.Topic, payload, c.qos(), family.TCP.Value(c.settings, family.KeyRetain).On()}
	ctx, cancel := context.WithTimeout(c.ctx, c.within)
	defer cancel()
	code, err := c.client.publish(ctx, m)
	reply := c.published(code, err)
	if reply.Request = payload; reply.OK() && len(place.Path) > 0 {
		c.last[place.Topic] = payload
	}
	return reply
}

func (driver) Dissect(frames []exchange.Frame, points []exchange.Labelled) [][]exchange.Field {
	out := make([][]exchange.Field, len(frames))
	for i := range frames {
		size := len(frames[i].Octets)
		if size == 0 {
			continue
		}
		out[i] = []exchange.Field{{To: size, Label: "payload", Role: "data", Meaning: text(frames[i].Octets)}}
		for _, p := range points {
			if p.To == size && frames[i].Octets != nil {
				out[i][0] = exchange.Field{To: size, Label: p.Name, Role: "point", Meaning: p.Shown, Point: p.ID}
			}
		}
	}
	return out
}

func text(payload []byte) string {
	if len(payload) > 120 {
		return string(payload[:120]) + "…"
	}
	return string(payload)
}
