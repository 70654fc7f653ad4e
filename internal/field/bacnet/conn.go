package bacnet

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/field"
	wire "ferry/internal/wire/bacnet"
)

func init() { field.Register(family.IP.Name, driver{}) }

type driver struct{}

// How long somebody is waited for who is asked beside the question itself.
const (
	presenceWithin = 700 * time.Millisecond
	refusedWithin  = 250 * time.Millisecond
	foreignSeconds = 60
)

func (driver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	c := &conn{ctx: ctx, target: t, settings: t.Settings, device: uint32(family.IP.Int(t.Settings, family.KeyDevice)),
		within:  time.Duration(family.IP.Int(t.Settings, protocol.KeyWithin)) * time.Millisecond,
		retries: family.IP.Int(t.Settings, protocol.KeyRetries), most: wire.MostOctets,
		outbox: field.NewOutbox(mostQueued), turn: field.NewTurn(), alone: map[string]bool{}, ended: make(chan struct{}),
		present: make(chan found, 8), noted: make(chan string, 8)}
	c.life, c.cancel = context.WithCancel(ctx)
	reply := c.begin()
	if c.turn.Told(&reply); !reply.OK() {
		if c.socket != nil {
			_ = c.socket.Close() // why it cannot be used says more
		}
		c.cancel()
		return nil, reply
	}
	c.stop = context.AfterFunc(ctx, func() {
		c.finish(field.Reply{Outcome: exchange.Closed, Sentence: "the connection was ended here"})
	})
	go c.outbox.Run(c.life)
	c.others.Go(c.polls)
	return c, reply
}

// conn is a conversation with a device.
type conn struct {
	ctx      context.Context
	target   field.Target
	settings protocol.Settings
	device   uint32
	within   time.Duration
	retries  int
	socket   *socket
	to       netip.AddrPort
	behind   wire.Station
	life     context.Context
	cancel   context.CancelFunc
	stop     func() bool
	gone     atomic.Bool
	ended    chan struct{}
	others   sync.WaitGroup
	turn     *field.Turn
	// present are devices that said that they are there, noted what routers said.
	present chan found
	noted   chan string

	mu      sync.Mutex
	said    field.Reply
	follows *following // what is polled
	hears   *following // whose reports are taken, from the first subscription on
	objects []wire.ObjectID
	most    int // octets of a message that the device takes
	// single is set where the device knows no ReadPropertyMultiple, perAsk how many objects it bears at once, 0 for
	// not known.
	single bool
	perAsk int
	// alone are the points for which it refused a question for several.
	alone map[string]bool

	outbox *field.Outbox
	// storm counts announcements.
	storm struct {
		since, told time.Time
		count       int
	}
}

// found is a device that said that it is there.
type found struct {
	from   netip.AddrPort
	behind wire.Station
	wire.Presence
	datagram []byte // in which it said so
}

// begin opens the socket and finds the device.
func (c *conn) begin() field.Reply {
	to, err := resolve(c.ctx, c.target.Dial)
	if err == nil {
		err = allowed(&c.target, to)
	}
	if err != nil {
		return field.Failure(err, true)
	}
	c.to = to
	if reply := c.opens(); !reply.OK() {
		return reply
	}
	if reply := c.registers(); !reply.OK() {
		return reply
	}
	if network := family.IP.Int(c.settings, family.KeyNetwork); network != 0 {
		if reply := c.finds(uint16(network)); !reply.OK() {
			return reply
		}
	}
	return c.knows()
}

// resolve is an address as the network has it.
func resolve(ctx context.Context, at string) (netip.AddrPort, error) {
	host, port, err := net.SplitHostPort(at)
	if err != nil {
		return netip.AddrPort{}, err
	}
	n, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return netip.AddrPort{}, err
	}
	if addr, err := netip.ParseAddr(host); err == nil {
		return netip.AddrPortFrom(addr.Unmap(), uint16(n)), nil
	}
	list, err := net.DefaultResolver.LookupNetIP(ctx, "ip4", host)
	if err != nil {
		return netip.AddrPort{}, err
	}
	return netip.AddrPortFrom(list[0].Unmap(), uint16(n)), nil
}

// allowed says why nothing is to be sent to an address.
func allowed(t *field.Target, to netip.AddrPort) error {
	if t.Control == nil {
		return nil
	}
	return t.Control("udp4", to.String(), nil)
}

// opens opens the socket: at the port that the settings say, or at that of the connection before.
func (c *conn) opens() field.Reply {
	own := family.IP.Int(c.settings, family.KeyOwnPort)
	before, _ := c.remember("port", 0).(int)
	h := hooks{heard: c.heard, linked: c.linked, networked: c.networked, taped: c.taped}
	var err error
	for _, port := range []int{own, before, 0} {
		if port == 0 && own != 0 {
			break
		}
		if c.socket, err = open(netip.AddrPortFrom(netip.IPv4Unspecified(), uint16(port)), h); err == nil {
			break
		}
		c.socket = nil
		if own != 0 {
			break
		}
	}
	if c.socket == nil {
		reply := field.Reply{Outcome: exchange.PortOwned, Stop: route.Wire,
			Sentence: fmt.Sprintf("this machine cannot ask from port %d: %v", own, err)}
		if errors.Is(err, syscall.EADDRINUSE) {
			reply.Sentence = fmt.Sprintf("another program of this machine has port %d: let this link ask from any port", own)
		}
		return reply
	}
	c.socket.control = func(to netip.AddrPort) error { return allowed(&c.target, to) }
	c.keep("port", int(c.socket.port()))
	return field.Reply{Outcome: exchange.Answered}
}

// remember and keep hold what outlasts a connection.
func (c *conn) remember(key string, none any) any {
	if c.target.Remains == nil {
		return none
	}
	if v, ok := c.target.Remains.Load("bacnet " + key); ok {
		return v
	}
	return none
}

func (c *conn) keep(key string, v any) {
	if c.target.Remains != nil {
		c.target.Remains.Store("bacnet "+key, v)
	}
}

// taped keeps what goes over the socket for the question under way.
func (c *conn) taped(out bool, at time.Time, octets []byte) {
	if out {
		c.turn.Out(at, octets)
	} else {
		c.turn.In(at, octets, false)
	}
}

// linked hears what the link layer answers, networked what routers say.
func (c *conn) linked(_ netip.AddrPort, l *wire.Link) {
	if l.Function != wire.LinkResult {
		return
	}
	said := registered
	if l.Result != wire.LinkDone {
		said = fmt.Sprintf("result %04X", l.Result)
	}
	note(c.noted, said)
}

func (c *conn) networked(_ netip.AddrPort, n *wire.Network) {
	switch n.Message {
	case wire.RejectToNetwork:
		note(c.noted, "it knows no way to that network number")
	case wire.RouterBusy:
		note(c.noted, "it is busy")
	}
}

// note hands over what somebody may be waiting for.
func note[T any](to chan<- T, what T) {
	select {
	case to <- what:
	default:
	}
}

// ask asks a question; the turn is held. A write is asked once.
func (c *conn) ask(ctx context.Context, service uint8, body []byte, once bool) (m wire.Message, reply field.Reply) {
	m, err := c.socket.ask(ctx, c.to, c.behind, service, body, c.within, c.retries, once)
	var refused *refusedError
	switch {
	case err == nil:
		return m, field.Reply{Outcome: exchange.Answered, Left: true}
	case errors.As(err, &refused):
		code := family.ErrorCode(refused.failure.Class, refused.failure.Code)
		switch refused.kind {
		case wire.Reject:
			code = family.RejectCode(refused.reason)
		case wire.Abort:
			code = family.AbortCode(refused.reason)
		}
		return m, field.Reply{Outcome: exchange.Declined, Left: true, Code: code, Sentence: "the device refuses: " +
			family.Words(code)}
	case errors.Is(err, errOther):
		return m, garbled(err)
	case errors.Is(err, errSilent):
		return m, field.Reply{Outcome: exchange.NoAnswer, Left: true,
			Sentence: fmt.Sprintf("no answer came within %d ms", c.within.Milliseconds())}
	case errors.Is(err, context.Canceled), errors.Is(err, errClosed):
		reply = field.Failure(field.ErrCalledOff, false)
		reply.Left = true
		return m, reply
	}
	reply = field.Failure(err, false)
	reply.Left = true
	return m, reply
}

// owned runs a question of who owns the connection.
func (c *conn) owned(question func(ctx context.Context) field.Reply) field.Reply {
	return c.turn.Own(c.life, c.ended, c.Ended, question)
}

func (c *conn) Toward(protocol.Settings) {}

// Break ends the question under way.
func (c *conn) Break() { c.turn.Break() }

func (c *conn) Usable() bool { return !c.gone.Load() }

// Close ends the conversation.
func (c *conn) Close() error {
	c.stop()
	c.mu.Lock()
	f := c.follows
	c.mu.Unlock()
	c.unsubscribe(f, nil)
	c.finish(field.Reply{Outcome: exchange.Closed, Sentence: "the connection was ended here"})
	c.cancel()
	c.others.Wait()
	return nil
}

// finish ends the connection, once, and says how it ended. What has come is handed over still.
func (c *conn) finish(reply field.Reply) {
	c.mu.Lock()
	if !c.gone.CompareAndSwap(false, true) {
		c.mu.Unlock()
		return
	}
	c.said = reply
	c.mu.Unlock()
	close(c.ended)
	go func() {
		_ = c.socket.Close() // it has ended, or is being given up
		c.outbox.Shut()
	}()
}

// Reports and Ended are as in field.Reporter.
func (c *conn) Reports() <-chan field.Report { return c.outbox.Reports() }

// Ended is as Reports.
func (c *conn) Ended() field.Reply {
	c.mu.Lock()
	defer c.mu.Unlock()
	reply := c.said
	reply.Left = true
	return reply
}

// mostQueued bounds the reports that wait.
const mostQueued = 20_000

// hand has a report handed over.
func (c *conn) hand(report field.Report) {
	if !c.outbox.Put(report) {
		c.finish(field.Reply{Outcome: exchange.Closed,
			Sentence: fmt.Sprintf("reports come faster than they can be taken in: %d waited, and the connection was ended here", mostQueued)})
	}
}

// Greet asks the device for its name: any answer will do.
func (c *conn) Greet() field.Reply {
	return c.owned(func(ctx context.Context) field.Reply {
		_, reply := c.property(ctx, family.ObjectName)
		return reply
	})
}

// property reads a property of the device itself.
func (c *conn) property(ctx context.Context, p family.Property) (v wire.Value, reply field.Reply) {
	ref := whole(wire.ID(uint16(family.Device), c.device), p)
	m, reply := c.ask(ctx, wire.ReadProperty, wire.AppendReadProperty(nil, ref), false)
	if !reply.OK() {
		return v, reply
	}
	_, values, err := wire.ParseReadAnswer(m.Body, m.BodyAt)
	if err != nil || len(values) == 0 {
		return v, garbled(err)
	}
	return values[0], reply
}

// Identify asks the device who it is.
func (c *conn) Identify() (text, by string, reply field.Reply) {
	reply = c.owned(func(ctx context.Context) (last field.Reply) {
		var parts []string
		for _, p := range []family.Property{family.VendorName, family.ModelName, firmwareRevision, family.ObjectName} {
			var v wire.Value
			if v, last = c.property(ctx, p); last.OK() && strings.TrimSpace(v.Text) != "" {
				parts = append(parts, strings.TrimSpace(v.Text))
			} else if last.Outcome != exchange.Declined && !last.OK() {
				return last
			}
		}
		text = strings.Join(parts, ", ")
		return last
	})
	return text, "ReadProperty", reply
}

// garbled is a reply whose answer cannot be read.
func garbled(err error) field.Reply {
	if err == nil {
		err = errors.New("it holds no value")
	}
	return field.Reply{Outcome: exchange.Garbled, Left: true, Sentence: "the answer cannot be read: " + err.Error()}
}

// Dissect labels the octets of frames.
func (driver) Dissect(frames []exchange.Frame, points []exchange.Labelled) [][]exchange.Field {
	spread := make([][]exchange.Field, len(frames))
	came := 0 // octets that answer, which points are counted in
	for i, f := range frames {
		if f.Out || f.Late {
			spread[i] = wire.Labels(f.Octets, 0, nil)
			continue
		}
		spread[i] = wire.Labels(f.Octets, came, points)
		came += len(f.Octets)
	}
	return spread
}
