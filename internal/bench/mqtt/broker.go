// Package mqtt has a broker stand in for real ones, with others who publish to it.
package mqtt

import (
	"context"
	"crypto/tls"
	"io"
	"log/slog"
	"net"
	"sync"
	"time"

	server "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/packets"

	"ferry/internal/bench"
	family "ferry/internal/core/family/mqtt"
)

func init() { bench.Register(family.TCP.Name, speech{}) }

type speech struct{}

func (speech) Faults() []bench.FaultKind {
	tcp := []bench.Place{bench.OverTCP}
	return append(brokerFaults(),
		bench.FaultKind{Kind: "payload", Title: "others publish what cannot be read", Places: tcp},
		bench.FaultKind{Kind: "ghost", Title: "others are gone, and what they left is kept", Places: tcp})
}

// brokerFaults are those of every broker.
func brokerFaults() []bench.FaultKind {
	tcp := []bench.Place{bench.OverTCP}
	return []bench.FaultKind{
		{Kind: "user", Title: "knows no such user", Places: tcp},
		{Kind: "rights", Title: "lets nobody publish or subscribe", Places: tcp},
		{Kind: "full", Title: "is full: hangs up on new sessions", Places: tcp},
		{Kind: "takeover", Title: "another client has the same id", Places: tcp},
		{Kind: "stranger", Title: "over TLS: its certificate is signed by a stranger", Places: tcp},
		{Kind: "expired", Title: "over TLS: its certificate is over", Places: tcp},
		{Kind: "name", Title: "over TLS: its certificate is for another name", Places: tcp},
		{Kind: "callers", Title: "over TLS: it wants a certificate that it knows", Places: tcp},
	}
}

// Talk is never asked for: the broker is a host.
func (speech) Talk(*bench.Simulated) bench.Talk { return nil }

func (speech) Host(of *bench.Simulated, fault func() bench.Fault) (bench.Host, error) {
	b, err := begin(of, fault)
	if err != nil {
		return nil, err
	}
	b.others.Go(b.publish)
	return b, nil
}

// begin makes a broker with nobody on it.
func begin(of *bench.Simulated, fault func() bench.Fault) (*broker, error) {
	b := &broker{fault: fault, done: make(chan struct{}), of: of,
		server: server.New(&server.Options{InlineClient: true, Logger: slog.New(slog.NewTextHandler(io.Discard, nil)),
			SysTopicResendInterval: 3600})}
	err := b.server.AddHook(&hook{of: b}, nil)
	if err == nil {
		err = b.server.Serve()
	}
	return b, err
}

// broker is a stand-in of one, with others who publish to it what the map of the
// device has as only to be read.
type broker struct {
	of     *bench.Simulated
	server *server.Server
	fault  func() bench.Fault
	done   chan struct{}
	others sync.WaitGroup
	turn   sync.Mutex // of packets that are taken in
	// sought is told what clients subscribe to; nil where nobody cares.
	sought func(filter string)
}

func (b *broker) Take(c net.Conn) {
	if family.TCP.Value(b.of.Settings, family.KeyTLS).On() {
		config, err := bench.Secured(b.fault())
		if err != nil {
			return // it hangs up
		}
		secured := tls.Server(c, config)
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		if secured.HandshakeContext(ctx) != nil {
			// It hangs up on whoever speaks no TLS, once it has heard it out: what it says of why would
			// be lost otherwise.
			if err := c.SetReadDeadline(time.Now().Add(200 * time.Millisecond)); err == nil {
				_, _ = io.Copy(io.Discard, c)
			}
			return
		}
		c = secured
	}
	turns := &inTurn{Conn: c, turn: &b.turn}
	defer turns.leave()
	_ = b.server.EstablishConnection("bench", turns) // it ends with the connection
}

func (b *broker) Close() error {
	close(b.done)
	b.others.Wait()
	return b.server.Close()
}

// publish is what others do: each value once a second.
func (b *broker) publish() {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		payloads := map[string][]byte{}
		for _, held := range b.of.Memory.Held() {
			if held.Writable {
				continue
			}
			v, ok := b.of.Memory.Value(held.Address)
			if !ok {
				continue
			}
			place := family.PlaceOf(held.Address)
			payload, err := family.Plain(v), error(nil)
			if len(place.Path) > 0 {
				payload, err = family.Put(payloads[place.Topic], place.Path, v)
			}
			if err == nil {
				payloads[place.Topic] = payload
			}
		}
		if b.fault().Kind == "ghost" {
			clear(payloads)
		}
		for topic, payload := range payloads {
			if b.fault().Kind == "payload" {
				payload = []byte("n/a")
			}
			b.turn.Lock()
			_ = b.server.Publish(topic, payload, true, 0) // nobody need be there
			b.turn.Unlock()
		}
		b.takeOver()
		select {
		case <-tick.C:
		case <-b.done:
			return
		}
	}
}

// takeOver throws everybody out, if that is the fault.
func (b *broker) takeOver() {
	if b.fault().Kind != "takeover" {
		return
	}
	for _, client := range b.server.Clients.GetAll() {
		if !client.Net.Inline {
			_ = b.server.DisconnectClient(client, packets.ErrSessionTakenOver) // it may have gone
		}
	}
}

// hook decides who may do what.
type hook struct {
	server.HookBase
	of *broker
}

func (h *hook) ID() string { return "bench" }

func (h *hook) Provides(b byte) bool {
	return b == server.OnConnectAuthenticate || b == server.OnACLCheck || b == server.OnConnect || b == server.OnSubscribed
}

func (h *hook) OnSubscribed(c *server.Client, pk packets.Packet, _ []byte) {
	if h.of.sought == nil || c.Net.Inline {
		return
	}
	for _, f := range pk.Filters {
		h.of.sought(f.Filter)
	}
}

func (h *hook) OnConnect(*server.Client, packets.Packet) error {
	if h.of.fault().Kind == "full" {
		return packets.ErrServerUnavailable
	}
	return nil
}

func (h *hook) OnConnectAuthenticate(*server.Client, packets.Packet) bool {
	return h.of.fault().Kind != "user"
}

func (h *hook) OnACLCheck(c *server.Client, _ string, _ bool) bool {
	return c.Net.Inline || h.of.fault().Kind != "rights"
}
