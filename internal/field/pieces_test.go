package field_test

import (
	"math/rand/v2"
	"net"
	"strings"
	"sync"
	"testing"

	"ferry/internal/bench"
	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
)

// pieces has all that goes over a connection to a stand-in, and back, come in pieces of a few octets.
type pieces struct {
	*bench.Bench
	t  *testing.T
	mu sync.Mutex
	at map[string]string // where each stand-in is reached so
}

func (p *pieces) Dial(s *site.Site, link *site.Link) string {
	to := p.Bench.Dial(s, link)
	def, _ := protocol.Named(link.Protocol)
	if host, _, err := net.SplitHostPort(to); err != nil || net.ParseIP(host) == nil || def.Datagrams || !overTCP(link) {
		return to
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.at[to] == "" {
		p.at[to] = p.begin(to)
	}
	return p.at[to]
}

// overTCP tells links whose connections can be cut from those that open others by their addresses.
func overTCP(link *site.Link) bool { return !strings.HasSuffix(link.Protocol, "-cyclic") }

func (p *pieces) begin(to string) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", to)
			if err != nil {
				_ = near.Close()
				continue
			}
			go carry(near, far)
			go carry(far, near)
		}
	}()
	return l.Addr().String()
}

// carry passes on what comes, in pieces of up to five octets.
func carry(from, to net.Conn) {
	defer to.Close()
	buf := make([]byte, 4096)
	for {
		n, err := from.Read(buf)
		for rest := buf[:n]; len(rest) > 0; {
			size := min(len(rest), 1+rand.IntN(5))
			if _, err := to.Write(rest[:size]); err != nil {
				return
			}
			rest = rest[size:]
		}
		if err != nil {
			return
		}
	}
}

// TestInPieces: in whichever pieces questions and answers arrive, in every family the same is read, and nobody is
// accused of anything.
func TestInPieces(t *testing.T) {
	s := bench.Demo()
	b := bench.New()
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	e := field.NewEngine(s, &pieces{Bench: b, t: t, at: map[string]string{}})
	t.Cleanup(func() {
		e.Close()
		if err := b.Close(); err != nil {
			t.Error(err)
		}
	})
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	for i := range s.Links {
		l := &s.Links[i]
		if !overTCP(l) || s.Line(l.Line).Medium != site.Ethernet {
			continue
		}
		fieldtest.Wait(t, l.ID+" brings values", func() bool {
			good := 0
			for _, p := range s.Device(l.Answering).Points {
				if fieldtest.Live(e, p.ID).Quality == value.Good {
					good++
				}
			}
			return good >= len(s.Device(l.Answering).Points)/2
		})
		for _, x := range e.Hub.Exchanges(0, 4000, l.ID) {
			// That something is late, or parted, is of a machine that is short of time.
			late := x.Outcome == exchange.NoAnswer || x.Cause == exchange.Late || x.Cause == exchange.InPieces
			if x.Outcome == exchange.Garbled || x.Cause != "" && x.Outcome != exchange.Declined && !late {
				t.Errorf("%s: %s %s %s", l.ID, x.Outcome, x.Cause, x.Sentence)
			}
		}
	}
}
