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
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/mqtt"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/value"
	"ferry/internal/field"
	wire "ferry/internal/wire/mqtt"
)

func init() { field.Register(family.TCP.Name, driver{}) }

type driver struct{}

func (driver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	def := family.TCP
	c := newConn(ctx, def, &t)
	s := &session{came: c.came, lost: c.lost, over: c.socket}
	if topic := def.Value(t.Settings, family.KeyWill).Text(); topic != "" {
		s.will = &message{topic, []byte(def.Value(t.Settings, family.KeyWillText).Text()), c.qos(), true}
		c.will = topic
	}
	var reply field.Reply
	if c.client, reply = begin(ctx, &t, def, s); c.client == nil {
		return nil, reply
	}
	c.stop = context.AfterFunc(ctx, c.bye) // in order, or the broker would send the will
	return c, reply
}

// newConn returns a session to come, of which what goes over it will be recorded.
func newConn(ctx context.Context, def *protocol.Def, t *field.Target) *conn {
	c := &conn{ctx: ctx, within: within(def, t.Settings), settings: t.Settings, reports: make(chan field.Report, 64),
		gone: make(chan struct{}), wanted: map[string][]protocol.Wanted{}, last: map[string][]byte{}}
	c.socket = &watched{aside: func(operation string, packets []said) {
		frames, at := framed(packets)
		c.hand(field.Report{At: at, Operation: operation, Frames: frames, Aside: true})
	}}
	return c
}

func within(def *protocol.Def, s protocol.Settings) time.Duration {
	return time.Duration(def.Int(s, protocol.KeyWithin)) * time.Millisecond
}

// begin begins a session with a broker, over TLS where the settings say so. The client
// is nil where none comes about.
func begin(ctx context.Context, t *field.Target, def *protocol.Def, s *session) (client, field.Reply) {
	within := within(def, t.Settings)
	s.id, s.user = def.Value(t.Settings, family.KeyClient).Text(), def.Value(t.Settings, family.KeyUser).Text()
	s.alive, s.within = time.Duration(def.Int(t.Settings, family.KeyAlive))*time.Second, within
	password, err := t.Secret(def, family.KeyPassword)
	if err != nil {
		return nil, field.Reply{Outcome: exchange.NotAllowed, Stop: route.Session, Sentence: err.Error()}
	}
	s.password = password
	dialer := net.Dialer{Timeout: max(within, 1500*time.Millisecond), Control: t.Control}
	socket, err := dialer.DialContext(ctx, "tcp", t.Dial)
	if err != nil {
		return nil, field.Failure(err, true)
	}
	var raw *overheard // what TLS is made of
	stop := context.AfterFunc(ctx, func() { _ = socket.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	if def.Value(t.Settings, family.KeyTLS).On() {
		raw = &overheard{Conn: socket}
		secured, reply := secure(ctx, raw, t, def, within)
		if secured == nil {
			_ = socket.Close()
			raw.witnessed(&reply)
			return nil, reply
		}
		socket = secured
	}
	s.over.Conn = socket
	connect := connect4
	if def.Value(t.Settings, family.KeyVersion).Text() == "5" {
		connect = connect5
	}
	began := time.Now()
	c, err := connect(s.over, s)
	if err != nil {
		reply := connectFailure(err, s.over, within, time.Since(began))
		_ = socket.Close()
		if s.over.witnessed(&reply); reply.Cause == exchange.Insecure {
			raw.witnessed(&reply)
		}
		return nil, reply
	}
	if raw != nil {
		raw.enough()
	}
	reply := field.Reply{Outcome: exchange.Answered}
	s.over.witnessed(&reply)
	return c, reply
}

// connectFailure says why no session came about.
func connectFailure(err error, socket *watched, within, took time.Duration) field.Reply {
	var no refused
	if errors.As(err, &no) {
		return field.Reply{Outcome: exchange.Declined, Code: int(no), Stop: route.Session,
			Sentence: "the broker refuses the session: " + family.TCP.Decline(int(no)).Title}
	}
	if socket.torn() {
		return field.Reply{Outcome: exchange.Garbled, Stop: route.Session,
			Sentence: "what comes back is no packet of MQTT: it is no broker, or one that wants TLS"}
	}
	if errors.Is(err, context.DeadlineExceeded) || took >= within {
		return field.Reply{Outcome: exchange.NoAnswer, Stop: route.Session,
			Sentence: fmt.Sprintf("nothing came back within %d ms: it may be no broker, or one that wants TLS",
				within.Milliseconds())}
	}
	reply := field.Reply{Outcome: exchange.Closed, Stop: route.Session}
	switch alert := alertOf(err, socket); {
	case alert != "" && !strings.Contains(alert, "certificate"):
		reply.Outcome, reply.Cause = exchange.Garbled, exchange.Insecure
		reply.Sentence = "it refuses TLS: " + alert
	case alert != "":
		reply.Outcome, reply.Cause = exchange.Garbled, exchange.Insecure
		reply.Sentence = "it wants a certificate that it knows, of this end: name one under Own certificate, with its key"
	case isSecured(socket):
		reply.Sentence = "it hangs up without an answer: it is no broker, wants a certificate of this end, or does not speak " +
			"this version"
	default:
		reply.Sentence = "it hangs up without an answer: it is no broker, wants TLS, or does not speak this version"
	}
	return reply
}

func isSecured(socket *watched) bool {
	_, ok := socket.Conn.(*tls.Conn)
	return ok
}

// alertOf is what the other end of TLS said when it refused it, which is after the session
// has begun for this end: that a certificate of this one is wanted, or is not taken (RFC
// 8446, clause 6.2). It is empty for nothing of that.
func alertOf(err error, socket *watched) string {
	if !isSecured(socket) {
		return ""
	}
	for _, err := range []error{err, socket.failure()} { // libraries hide it
		var said *net.OpError
		if errors.As(err, &said) && said.Op == "remote error" {
			return strings.TrimPrefix(said.Err.Error(), "tls: ")
		}
	}
	return ""
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
		if errors.Is(err, context.DeadlineExceeded) || errors.Is(err, os.ErrDeadlineExceeded) {
			return nil, field.Reply{Outcome: exchange.NoAnswer, Stop: route.Session,
				Sentence: fmt.Sprintf("nothing came back to the beginning of TLS within %d ms", within.Milliseconds())}
		}
		why := "TLS does not come about: " + err.Error()
		switch {
		case errors.As(err, &unknown):
			why = "its certificate is not trusted: name the certificate of the broker, or of who signed it, under Trusts"
		case errors.As(err, &name):
			why = "its certificate is for another name than " + host
		case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
			why = "its certificate is not valid at this time: look at its dates, and at both clocks"
		}
		return nil, field.Reply{Outcome: exchange.Garbled, Cause: exchange.Insecure, Stop: route.Session, Sentence: why}
	}
	return secured, field.Reply{Outcome: exchange.Answered}
}

// conn is a session with a broker.
type conn struct {
	ctx      context.Context
	client   client
	socket   *watched
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
	c.socket.parted(&reply)
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
	report := field.Report{At: time.Now(), Operation: "message of " + m.topic}
	from := 0
	report.Octets, from = c.socket.message(m.payload)
	old := cmp.Or(time.Duration(family.TCP.Int(c.settings, family.KeySilence))*time.Second, keptFor)
	c.mu.Lock()
	for _, w := range c.wanted[m.topic] {
		s := sampled(&m, w, old)
		s.From, s.To = from, len(report.Octets)
		report.Samples = append(report.Samples, s)
	}
	c.mu.Unlock()
	c.handReport(report)
}

// handReport hands over a message, which is for the record alone where nobody wants what
// it tells.
func (c *conn) handReport(report field.Report) {
	if len(report.Samples) == 0 {
		report.Aside, report.Frames = true, []exchange.Frame{{Octets: report.Octets}}
	}
	c.hand(report)
}

// hand hands a report over.
func (c *conn) hand(report field.Report) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		return
	}
	select {
	case c.reports <- report:
	default:
		if report.Aside {
			return
		}
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
	s := field.Sampled{ID: w.ID}
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
	c.socket.tell()
	reply, refusals := c.subscribeAll(topics, by)
	c.socket.witnessed(&reply)
	return reply, refusals
}

// subscribeAll subscribes to topics, with the points that are wanted of each.
func (c *conn) subscribeAll(topics []string, by map[string][]protocol.Wanted) (field.Reply, []field.Refusal) {
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
	c.socket.tell()
	if c.will != "" && c.online.CompareAndSwap(false, true) {
		c.tell("online")
	}
	m := &message{place.Topic, payload, c.qos(), family.TCP.Value(c.settings, family.KeyRetain).On()}
	ctx, cancel := context.WithTimeout(c.ctx, c.within)
	defer cancel()
	code, err := c.client.publish(ctx, m)
	reply := c.published(code, err)
	c.socket.witnessed(&reply)
	if reply.OK() && len(place.Path) > 0 {
		c.last[place.Topic] = payload
	}
	return reply
}

func (driver) Dissect(frames []exchange.Frame, points []exchange.Labelled) [][]exchange.Field {
	out := make([][]exchange.Field, len(frames))
	for i := range frames {
		out[i] = wire.Labels(frames[i].Octets)
		if frames[i].Out || len(out[i]) == 0 {
			continue
		}
		for _, p := range points {
			if last := &out[i][len(out[i])-1]; p.To == last.To && p.From <= last.From && last.Role == "data" {
				*last = exchange.Field{From: last.From, To: last.To, Label: p.Name, Role: "point", Meaning: p.Shown, Point: p.ID}
			}
		}
	}
	return out
}
