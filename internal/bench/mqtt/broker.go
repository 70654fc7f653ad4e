// Package mqtt has a broker stand in for real ones, with others who publish to it.
package mqtt

import (
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
	return []bench.FaultKind{
		{Kind: "user", Title: "knows no such user", Places: tcp},
		{Kind: "rights", Title: "lets nobody publish or subscribe", Places: tcp},
		{Kind: "full", Title: "is full: hangs up on new sessions", Places: tcp},
		{Kind: "takeover", Title: "another client has the same id", Places: tcp},
		{Kind: "payload", Title: "others publish what cannot be read", Places: tcp},
	}
}

// Talk is never asked for: the broker is a host.
func (speech) Talk(*bench.Simulated) bench.Talk { return nil }

func (speech) Host(of *bench.Simulated, fault func() bench.Fault) (bench.Host, error) {
	b := &broker{fault: fault, done: make(chan struct{}), of: of,
		server: server.New(&server.Options{InlineClient: true, Logger: slog.New(slog.NewTextHandler(io.Discard, nil)),
			SysTopicResendInterval: 3600})}
	if err := b.server.AddHook(&hook{of: b}, nil); err != nil {
		return nil, err
	}
	if err := b.server.Serve(); err != nil {
		return nil, err
	}
	b.others.Go(b.publish)
	return b, nil
}

// broker is a stand-in of one, with others who publish to it what the map of the
// device has as only to be read.
type broker struct {
	of     *bench.Simulated
	server *server.Server
	fault  func() bench.Fault
	done   chan struct{}
	others sync.WaitGroup
}

func (b *broker) Take(c net.Conn) { _ = b.server.EstablishConnection("bench", c) } // it ends with the connection

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
		for topic, payload := range payloads {
			if b.fault().Kind == "payload" {
				payload = []byte("n/a")
			}
			_ = b.server.Publish(topic, payload, true, 0) // nobody need be there
		}
		if b.fault().Kind == "takeover" {
			for _, client := range b.server.Clients.GetAll() {
				if !client.Net.Inline {
					_ = b.server.DisconnectClient(client, packets.ErrSessionTakenOver) // it may have gone
				}
			}
		}
		select {
		case <-tick.C:
		case <-b.done:
			return
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
	return b == server.OnConnectAuthenticate || b == server.OnACLCheck || b == server.OnConnect
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
