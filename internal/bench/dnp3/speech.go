// Package dnp3 has outstations stand in for real ones.
package dnp3

import (
	"net"
	"sync"
	"time"

	"ferry/internal/bench"
	family "ferry/internal/core/family/dnp3"
	wire "ferry/internal/wire/dnp3"
)

func init() {
	bench.Register(family.TCP.Name, speech{})
	bench.Register(family.Serial.Name, speech{})
}

type speech struct{}

func (speech) Faults() []bench.FaultKind {
	both := []bench.Place{bench.OverTCP, bench.OverSerial}
	return []bench.FaultKind{
		{Kind: "restarts", Title: "was started again", Places: both},
		{Kind: "needs-time", Title: "asks for the time, again and again", Places: both},
		{Kind: "overflow", Title: "keeps three events, and loses the others", Places: both},
		{Kind: "unconfirmed", Title: "sees no confirmation: the same events come again and again", Places: both},
		{Kind: "class-0", Title: "has its objects in no class of events", Places: both},
		{Kind: "never-unasked", Title: "sends nothing unasked", Places: both},
		{Kind: "variation", Title: "tells analogue inputs as whole numbers of 16 bits, without flags", Places: both},
		{Kind: "shift", Title: "counts its objects one further", Places: both},
		{Kind: "offline", Title: "calls its objects offline", Places: both},
		{Kind: "comm-lost", Title: "has lost what is behind it", Places: both},
		{Kind: "forced", Title: "has its objects forced by hand", Places: both},
		{Kind: "chatters", Title: "has inputs that chatter, or are over their range", Places: both},
		{Kind: "local", Title: "is operated on the spot", Places: both},
		{Kind: "blocked", Title: "blocks commands", Places: both},
		{Kind: "forgets", Title: "forgets what was selected", Places: both},
		{Kind: "trouble", Title: "says that it is in trouble", Places: both},
		{Kind: "check", Title: "spoils the checks of every third frame", Places: both},
		{Kind: "order", Title: "sends segments out of their order", Places: both},
		{Kind: "endless", Title: "answers without end", Places: both},
		{Kind: "other-master", Title: "talks to another master", Places: both},
	}
}

// Talk is never asked for: an outstation is a host.
func (speech) Talk(*bench.Simulated) bench.Talk { return nil }

// every is how often an outstation looks what has changed.
const every = 50 * time.Millisecond

func (speech) Host(of *bench.Simulated, fault func() bench.Fault) (bench.Host, error) {
	h := &host{outstation: newOutstation(of, fault), talks: map[*talk]bool{}, done: make(chan struct{})}
	h.others.Go(h.watch)
	return h, nil
}

// host is an outstation on the network.
type host struct {
	*outstation
	done   chan struct{}
	others sync.WaitGroup

	mu    sync.Mutex
	talks map[*talk]bool
}

// talk is a session over a connection.
type talk struct {
	net.Conn
	*session
	writing sync.Mutex
}

func (t *talk) say(octets []byte) {
	if len(octets) > 0 {
		t.writing.Lock()
		defer t.writing.Unlock()
		_, _ = t.Write(octets) // a connection that has ended is found by who reads
	}
}

// watch looks what has changed, and sends what is to be sent unasked.
func (h *host) watch() {
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-h.done:
			return
		case now := <-tick.C:
			h.look(now)
			h.mu.Lock()
			talks := make([]*talk, 0, len(h.talks))
			for t := range h.talks {
				talks = append(talks, t)
			}
			h.mu.Unlock()
			for _, t := range talks {
				t.say(t.push(now))
			}
		}
	}
}

func (h *host) Take(c net.Conn) {
	t := &talk{Conn: c, session: newSession(h.outstation, h.of.Def, h.of.Settings)}
	if h.fault().Kind == "other-master" {
		t.master++
	}
	h.mu.Lock()
	h.talks[t] = true
	h.mu.Unlock()
	defer func() {
		h.mu.Lock()
		delete(h.talks, t)
		h.mu.Unlock()
		t.end()
	}()
	var held []byte
	buf := make([]byte, 4096)
	for {
		n, err := c.Read(buf)
		if err != nil {
			return
		}
		held = append(held, buf[:n]...)
		for {
			f, octets, rest := wire.Find(held)
			held = rest
			if octets == nil {
				break
			}
			if f != nil {
				t.say(t.hear(f))
			}
		}
	}
}

func (h *host) Close() error {
	close(h.done)
	h.others.Wait()
	return nil
}

// Hears answers what is heard over a serial line. What an outstation there knows is kept beside it.
func (speech) Hears(of *bench.Simulated, heard []byte, fault bench.Fault) (answer []byte) {
	kept, _ := of.State.(*overheard)
	if kept == nil {
		kept = &overheard{}
		kept.session = newSession(newOutstation(of, func() bench.Fault { return kept.fault }), of.Def, of.Settings)
		of.State = kept
	}
	kept.fault = fault
	kept.master = uint16(of.Def.Int(of.Settings, family.KeyMaster))
	if fault.Kind == "other-master" {
		kept.master++
	}
	kept.held = append(kept.held, heard...)
	for {
		f, octets, rest := wire.Find(kept.held)
		kept.held = rest
		if octets == nil {
			return answer
		}
		if f != nil {
			kept.look(time.Now())
			answer = append(answer, kept.hear(f)...)
		}
	}
}

// overheard is an outstation on a serial line.
type overheard struct {
	*session
	fault bench.Fault
	held  []byte
}
