package opcua

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"runtime/debug"
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
	tape    field.Tape          // of the question under way
	taped   map[uint32]struct{} // the requests that belong to it

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
	octets   []byte // of its last chunk, as they came
}

// keysFor is how long keys count, of which three quarters are used.
const keysFor = time.Hour

// open begins a connection and its channel. The connection has a deadline until that stands.
func open(conn net.Conn, endpoint string, security wire.Security) (*transport, error) {
	t := &transport{conn: conn, in: bufio.NewReaderSize(conn, 1<<16), waiting: map[uint32]chan answered{},
		ended: make(chan struct{}), taped: map[uint32]struct{}{}}
	if _, err := conn.Write(wire.Hello(endpoint)); err != nil {
		return nil, err
	}
	b, err := wire.ReadChunk(t.in)
	if err != nil {
		return nil, err
	}
	limits, err := wire.ReadAcknowledge(b)
	if err != nil {
		return nil, err
	}
	t.channel.Takes = int(min(limits.Receive, 1<<20))
	if err := t.channel.Secure(security); err != nil {
		return nil, err
	}
	if err := t.renew(ua.SecurityTokenRequestTypeIssue, func(id uint32) (ua.Response, error) {
		b, err := wire.ReadChunk(t.in)
		if err != nil {
			return nil, err
		}
		t.mu.Lock()
		defer t.mu.Unlock()
		_, r, err := t.taken(b)
		return r, err
	}); err != nil {
		return nil, err
	}
	return t, nil
}

// taken takes in a chunk; the response is nil where the message is not whole. It is called with
// the lock held.
func (t *transport) taken(b []byte) (request uint32, r ua.Response, err error) {
	if f, failed := wire.ReadFailure(b); failed {
		return 0, nil, f
	}
	m, whole, err := t.channel.Decode(b)
	if _, taped := t.taped[m.Request]; taped && err == nil {
		t.tape.In(time.Now(), b, false)
	}
	if err != nil || !whole {
		return 0, nil, err
	}
	if m.Aborted != 0 {
		return m.Request, nil, m.Aborted
	}
	v, err := wire.ReadService(m.Body)
	if err != nil {
		return m.Request, nil, err
	}
	r, ok := v.(ua.Response)
	if !ok || r.Header() == nil {
		return m.Request, nil, fmt.Errorf("the server answers with a %T", v)
	}
	if code := r.Header().ServiceResult; code != ua.StatusOK {
		return m.Request, r, code
	}
	return m.Request, r, nil
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
		SecurityMode: t.channel.Mode, ClientNonce: nonce, RequestedLifetime: uint32(keysFor.Milliseconds())}, nil, false)
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
	clear(t.taped)
}

// frames are what went for the question.
func (t *transport) frames() []exchange.Frame {
	t.mu.Lock()
	defer t.mu.Unlock()
	clear(t.taped)
	return t.tape.Frames()
}

// post sends a request and returns its number; whoever waits for the answer is told over into.
func (t *transport) post(kind string, r ua.Request, into chan answered, taped bool) (id uint32, err error) {
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
	if taped {
		t.mu.Lock()
		t.taped[id] = struct{}{}
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
	_, taped := t.taped[id]
	for _, chunk := range chunks {
		if taped {
			t.tape.Out(time.Now(), chunk)
		}
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

// ask sends a request and waits for its answer; taped is set where it belongs to the question that
// is taken down.
func (t *transport) ask(ctx context.Context, r ua.Request, token *ua.NodeID, within time.Duration,
	taped bool) (response ua.Response, err error) {
	r.SetHeader(head(token, within))
	into := make(chan answered, 1)
	id, err := t.post(wire.AnyMessage, r, into, taped)
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
		b, err := wire.ReadChunk(t.in)
		if err != nil {
			t.end(err)
			return
		}
		t.mu.Lock()
		id, r, err := t.taken(b)
		t.mu.Unlock()
		if id == 0 && err != nil {
			t.end(err)
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
			into <- answered{r, err, b}
		}
		var code ua.StatusCode
		if err != nil && !errors.As(err, &code) {
			t.end(err) // what cannot be read once is not read on
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
