package opcua

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/exchange"
	"ferry/internal/field"
	wire "ferry/internal/wire/opcua"
)

// transport is a secure channel over a connection: questions go out, and answers come to who
// asked.
type transport struct {
	conn net.Conn
	in   *bufio.Reader

	mu      sync.Mutex // held for the channel, and while chunks are sent
	channel wire.Channel
	tape    field.Tape        // of the question under way
	taped   map[uint32]record // requests, and how they are recorded
	begins  bool              // the session is not there yet: all that goes over is taped
	sent    map[uint32][]byte // chunks of requests that are kept
	parts   map[uint32][]byte // chunks of answers that are not whole
	whole   []byte            // those of the last answer
	rest    []byte            // what came and is no chunk

	asking  sync.Mutex
	number  uint32
	waiting map[uint32]chan answered
	over    error         // why it has ended
	ended   chan struct{} // closed then
}

// answered is what came of a question.
type answered struct {
	response ua.Response
	err      error
	octets   []byte   // of its chunks, as they are without cipher
	values   [][2]int // where in them the values stand
}

// record is what becomes of the octets of a request.
type record uint8

const (
	taped record = iota + 1 // they belong to the question that is taken down, with their answer
	kept                    // whoever sends it takes them
)

// keysFor is how long keys count, of which three quarters are used.
const keysFor = time.Hour

// open begins a connection and its channel. The connection has a deadline until that stands.
func open(conn net.Conn, endpoint string, security wire.Security) (*transport, error) {
	t := &transport{conn: conn, in: bufio.NewReaderSize(conn, 1<<16), waiting: map[uint32]chan answered{},
		ended: make(chan struct{}), taped: map[uint32]record{}, begins: true, sent: map[uint32][]byte{},
		parts: map[uint32][]byte{}}
	t.channel.Said = t.said
	t.tape.Begin()
	return t, t.greet(endpoint, security)
}

// greet says the first words.
func (t *transport) greet(endpoint string, security wire.Security) error {
	hello := wire.Hello(endpoint)
	t.tape.Out(time.Now(), hello)
	if _, err := t.conn.Write(hello); err != nil {
		return err
	}
	b, err := t.next()
	if err != nil {
		return err
	}
	t.tape.In(time.Now(), b, false)
	limits, err := wire.ReadAcknowledge(b)
	if err != nil {
		return err
	}
	t.channel.Takes = int(min(limits.Receive, 1<<20))
	if err := t.channel.Secure(security); err != nil {
		return err
	}
	return t.renew(ua.SecurityTokenRequestTypeIssue, func(id uint32) (ua.Response, error) {
		b, err := t.next()
		if err != nil {
			return nil, err
		}
		t.mu.Lock()
		defer t.mu.Unlock()
		_, a := t.taken(b)
		return a.response, a.err
	})
}

// mostShown is how much is kept of what is no chunk.
const mostShown = 256

// next reads a chunk. What is none is kept for the record.
func (t *transport) next() ([]byte, error) {
	b, err := wire.ReadChunk(t.in)
	if rest, _ := t.in.Peek(min(t.in.Buffered(), mostShown)); err != nil && len(rest) > 0 { // it is there already
		t.mu.Lock()
		t.rest = slices.Clone(rest)
		if t.begins {
			t.tape.In(time.Now(), rest, false)
		}
		t.mu.Unlock()
	}
	return b, err
}

// shown is what came and is no chunk; nothing where there was nothing.
func (t *transport) shown() []exchange.Frame {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.rest) == 0 {
		return nil
	}
	return []exchange.Frame{{Octets: t.rest}}
}

// said takes down what goes over the channel. It is called with the lock held.
func (t *transport) said(out bool, plain []byte, request uint32, final byte) {
	how := t.taped[request]
	if t.begins || how == taped {
		if out {
			t.tape.Out(time.Now(), plain)
		} else {
			t.tape.In(time.Now(), plain, false)
		}
	}
	switch {
	case out && how == kept:
		t.sent[request] = append(t.sent[request], plain...)
	case out:
	case final == 'C':
		t.parts[request] = append(t.parts[request], plain...)
	default:
		if t.whole = plain; t.parts[request] != nil {
			t.whole = append(t.parts[request], plain...)
			delete(t.parts, request)
		}
	}
}

// taken takes in a chunk; request is 0 where the message is not whole. It is called with the lock
// held.
func (t *transport) taken(b []byte) (request uint32, a answered) {
	if f, failed := wire.ReadFailure(b); failed {
		if t.begins {
			t.tape.In(time.Now(), b, false)
		}
		return 0, answered{err: f}
	}
	m, whole, err := t.channel.Decode(b)
	if err != nil || !whole {
		return 0, answered{err: err}
	}
	if m.Aborted != 0 {
		return m.Request, answered{err: m.Aborted}
	}
	v, values, err := wire.ReadValues(m.Body)
	if err != nil {
		return m.Request, answered{err: err}
	}
	a = answered{octets: t.whole, values: wire.Places(t.whole, values)}
	r, ok := v.(ua.Response)
	if !ok || r.Header() == nil {
		a.err = fmt.Errorf("the server answers with a %T", v)
		return m.Request, a
	}
	if a.response = r; r.Header().ServiceResult != ua.StatusOK {
		a.err = r.Header().ServiceResult
	}
	return m.Request, a
}

// renew opens the channel, or makes new keys for it. answer waits for what comes back.
func (t *transport) renew(kind ua.SecurityTokenRequestType, answer func(id uint32) (ua.Response, error)) error {
	t.mu.Lock()
	nonce, err := t.channel.Nonce()
	t.mu.Unlock()
	if err != nil {
		return err
	}
	id, err := t.post(wire.OpenChannel, &ua.OpenSecureChannelRequest{RequestHeader: head(nil, 0), RequestType: kind,
		SecurityMode: t.channel.Mode, ClientNonce: nonce, RequestedLifetime: uint32(keysFor.Milliseconds())}, nil, 0)
	if err != nil {
		return err
	}
	r, err := answer(id)
	if err != nil {
		return err
	}
	opened, ok := r.(*ua.OpenSecureChannelResponse)
	if !ok || opened.SecurityToken == nil {
		return fmt.Errorf("the server answers the opening of a channel with a %T", r)
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.channel.ID = opened.SecurityToken.ChannelID
	return t.channel.Renew(opened.SecurityToken.TokenID, nonce, opened.ServerNonce)
}

func head(token *ua.NodeID, hint time.Duration) *ua.RequestHeader {
	if token == nil {
		token = ua.NewTwoByteNodeID(0)
	}
	return &ua.RequestHeader{AuthenticationToken: token, Timestamp: time.Now().UTC(),
		TimeoutHint: uint32(hint.Milliseconds())}
}

// beginTape has what goes over the connection for a question taken down from now on.
func (t *transport) beginTape() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.tape.Begin()
	t.begins = false
	t.untape()
}

// untape forgets the requests of the question that was taken down.
func (t *transport) untape() {
	maps.DeleteFunc(t.taped, func(_ uint32, how record) bool { return how == taped })
}

// frames are what went for the question, and since when.
func (t *transport) frames() ([]exchange.Frame, time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.untape()
	t.begins = false
	return t.tape.Frames(), t.tape.Began()
}

// take hands over the octets of a request that are kept.
func (t *transport) take(request uint32) []byte {
	t.mu.Lock()
	defer t.mu.Unlock()
	octets := t.sent[request]
	delete(t.sent, request)
	delete(t.taped, request)
	return octets
}

// post sends a request and returns its number; whoever waits for the answer is told over into.
func (t *transport) post(kind string, r ua.Request, into chan answered, how record) (id uint32, err error) {
	t.asking.Lock()
	if t.over != nil {
		t.asking.Unlock()
		return 0, t.over
	}
	t.number++
	id = t.number
	if into != nil {
		t.waiting[id] = into
	}
	t.asking.Unlock()
	if how != 0 {
		t.mu.Lock()
		t.taped[id] = how
		t.mu.Unlock()
	}
	r.Header().RequestHandle = id
	body, err := wire.WriteService(r)
	if err == nil {
		err = t.write(kind, id, body)
	}
	if err != nil {
		t.forget(id)
	}
	return id, err
}

// writeFor bounds how long the other end may take to take a chunk.
const writeFor = 10 * time.Second

func (t *transport) write(kind string, id uint32, body []byte) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	chunks, err := t.channel.Encode(kind, id, body)
	if err != nil {
		return err
	}
	for _, chunk := range chunks {
		if err := t.conn.SetWriteDeadline(time.Now().Add(writeFor)); err != nil {
			return err
		}
		if _, err := t.conn.Write(chunk); err != nil {
			return err
		}
	}
	return nil
}

func (t *transport) forget(id uint32) {
	t.asking.Lock()
	defer t.asking.Unlock()
	delete(t.waiting, id)
}

// ask sends a request and waits for its answer.
func (t *transport) ask(ctx context.Context, r ua.Request, token *ua.NodeID, within time.Duration,
	how record) (response ua.Response, err error) {
	r.SetHeader(head(token, within))
	into := make(chan answered, 1)
	id, err := t.post(wire.AnyMessage, r, into, how)
	if err != nil {
		return nil, err
	}
	late := time.NewTimer(within)
	defer late.Stop()
	select {
	case a := <-into:
		return a.response, a.err
	case <-ctx.Done():
		t.forget(id)
		return nil, ctx.Err()
	case <-late.C:
		t.forget(id)
		return nil, context.DeadlineExceeded
	case <-t.ended:
		return nil, t.why()
	}
}

// run takes in what comes until the connection ends, and makes new keys in time. A defect costs
// this connection alone.
func (t *transport) run() {
	defer func() {
		if p := recover(); p != nil {
			t.end(fmt.Errorf("a defect of Ferry's own: %v\n%s", p, debug.Stack()))
		}
	}()
	renewing := time.AfterFunc(keysFor*3/4, func() { t.newKeys() })
	defer renewing.Stop()
	for {
		b, err := t.next()
		if err != nil {
			t.end(err)
			return
		}
		t.mu.Lock()
		id, a := t.taken(b)
		t.mu.Unlock()
		if id == 0 && a.err != nil {
			t.end(a.err)
			return
		}
		if id == 0 {
			continue // not whole yet
		}
		t.asking.Lock()
		into := t.waiting[id]
		delete(t.waiting, id)
		t.asking.Unlock()
		if into != nil {
			into <- a
		}
		var code ua.StatusCode
		if a.err != nil && !errors.As(a.err, &code) {
			t.end(a.err) // what cannot be read once is not read on
			return
		}
	}
}

// newKeys makes new keys, and comes again.
func (t *transport) newKeys() {
	into := make(chan answered, 1)
	err := t.renew(ua.SecurityTokenRequestTypeRenew, func(id uint32) (ua.Response, error) {
		t.asking.Lock()
		t.waiting[id] = into
		t.asking.Unlock()
		select {
		case a := <-into:
			return a.response, a.err
		case <-t.ended:
			return nil, t.why()
		case <-time.After(writeFor):
			return nil, context.DeadlineExceeded
		}
	})
	if err != nil {
		t.end(err)
		return
	}
	time.AfterFunc(keysFor*3/4, func() {
		select {
		case <-t.ended:
		default:
			t.newKeys()
		}
	})
}

// end ends the connection, once.
func (t *transport) end(why error) {
	t.asking.Lock()
	defer t.asking.Unlock()
	if t.over != nil {
		return
	}
	t.over = why
	close(t.ended)
	_ = t.conn.Close()
}

func (t *transport) why() error {
	t.asking.Lock()
	defer t.asking.Unlock()
	return t.over
}
