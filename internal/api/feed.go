package api

import (
	"bufio"
	"context"
	"encoding/json"
	"log"
	"reflect"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/finding"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// beat is how often the event stream looks for news. Values that change more
// often are sent once a beat, the latest.
const beat = 250 * time.Millisecond

// feed makes one message a beat for all who listen. Each gets it at its own
// speed; who falls behind gets everything anew.
type feed struct {
	mu        sync.Mutex
	listeners map[*listener]bool
	running   bool
	last      Pulse // without the values
	rev       uint64
	quiet     int

	// The first message of windows that come between two beats is the same.
	beats      uint64
	firstMu    sync.Mutex
	firstOf    uint64 // the beat that it follows, plus 1
	firstBytes []byte
}

// listener is one window.
type listener struct {
	news   chan []byte
	behind bool // it missed a message
}

// waitingNews is how many messages wait for a window that is slow.
const waitingNews = 4

// listen adds a window. Everything that it has to know first is to be asked
// for after that.
func (s *Server) listen() *listener {
	f := &s.feed
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.listeners == nil {
		f.listeners = map[*listener]bool{}
	}
	l := &listener{news: make(chan []byte, waitingNews)}
	f.listeners[l] = true
	if !f.running {
		f.running = true
		f.rev = s.Engine.Hub.Rev()
		go s.tell()
	}
	return l
}

func (f *feed) leave(l *listener) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.listeners, l)
}

// caughtUp reports whether a window has missed nothing, and has it start anew
// if it has.
func (f *feed) caughtUp(l *listener) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	behind := l.behind
	l.behind = false
	return !behind
}

// tell makes the messages for as long as anybody listens.
func (s *Server) tell() {
	f := &s.feed
	ticker := time.NewTicker(beat)
	defer ticker.Stop()
	for range ticker.C {
		f.mu.Lock()
		if len(f.listeners) == 0 {
			f.running = false
			f.mu.Unlock()
			return
		}
		f.beats++
		f.mu.Unlock()
		f.firstMu.Lock()
		f.firstBytes = nil
		f.firstMu.Unlock()
		news := s.news(time.Now())
		if news == nil {
			continue
		}
		f.mu.Lock()
		for l := range f.listeners {
			select {
			case l.news <- news:
			default:
				l.behind = true
			}
		}
		f.mu.Unlock()
	}
}

// news returns what changed since the last beat, as a message; nil for nothing.
func (s *Server) news(at time.Time) (message []byte) {
	defer func() {
		if p := recover(); p != nil {
			log.Printf("the event stream: %v\n%s", p, debug.Stack())
			message = nil
		}
	}()
	f := &s.feed // of which only this goroutine uses what follows
	p := s.pulse(at)
	p.Live, f.rev = s.Engine.Hub.Since(f.rev, at)
	whole := p
	whole.Live = nil
	last := f.last
	// The time left of an unlock is counted down by the browser.
	same := p.Seq == last.Seq && p.Exchange == last.Exchange && p.Routes == last.Routes && p.State.Mode == last.State.Mode &&
		p.State.Plan == last.State.Plan && p.State.Compiling == last.State.Compiling && reflect.DeepEqual(p.State.Released, last.State.Released) &&
		reflect.DeepEqual(p.State.Running, last.State.Running) && (p.State.UnlockedMs > 0) == (last.State.UnlockedMs > 0) &&
		reflect.DeepEqual(p.Crossings, last.Crossings)
	if reflect.DeepEqual(p.Findings, last.Findings) {
		p.Findings = nil
	}
	f.last = whole
	if f.quiet++; same && len(p.Live) == 0 && p.Findings == nil && f.quiet < 40 {
		return nil
	}
	f.quiet = 0
	return event(p)
}

// pulse is the state of everything but the values.
func (s *Server) pulse(at time.Time) Pulse {
	_, seq := s.Store.Site()
	s.mu.Lock()
	routes := s.routeRev
	s.mu.Unlock()
	return Pulse{Seq: seq, State: s.Engine.State(), Live: []field.Live{}, Crossings: s.Engine.Crossings(), Findings: s.findings(at),
		Exchange: s.Engine.Hub.LastSeq(), Routes: routes, NowMs: at.UnixMilli()}
}

// first is the message that a window begins with: everything.
func (s *Server) first(at time.Time) []byte {
	s.briefly(context.Background())
	f := &s.feed
	f.firstMu.Lock()
	defer f.firstMu.Unlock()
	f.mu.Lock()
	beats := f.beats
	f.mu.Unlock()
	if f.firstBytes != nil && f.firstOf == beats+1 {
		return f.firstBytes
	}
	live, _ := s.Engine.Hub.Since(0, at)
	p := s.pulse(at)
	// A point that is not told of has not been read: a map of tens of thousands
	// is not sent for that.
	p.Live = slices.DeleteFunc(live, func(l field.Live) bool { return l.Quality == value.NotRead })
	p.Whole = true
	f.firstOf, f.firstBytes = beats+1, event(p)
	return f.firstBytes
}

func event(p Pulse) []byte {
	if p.Findings == nil {
		p.Findings = []finding.Finding(nil)
	}
	data, err := json.Marshal(p)
	if err != nil {
		log.Printf("the event stream: %v", err)
		return nil
	}
	return append(append([]byte("data: "), data...), "\n\n"...)
}

// sendFor is how long one message may take to be taken by a window: one that
// reads nothing does not keep its connection.
const sendFor = 20 * time.Second

// stream sends what changed, as server-sent events.
func (s *Server) stream(c fiber.Ctx) error {
	c.Set("Content-Type", "text/event-stream")
	conn := c.RequestCtx().Conn()
	secret := c.Cookies(sessionCookie)
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer func() {
			if p := recover(); p != nil {
				log.Printf("the event stream: %v\n%s", p, debug.Stack())
			}
		}()
		l := s.listen()
		defer s.feed.leave(l)
		send := func(message []byte) bool {
			if err := conn.SetWriteDeadline(time.Now().Add(sendFor)); err != nil {
				return false
			}
			if _, err := w.Write(message); err != nil {
				return false
			}
			return w.Flush() == nil
		}
		if !send(s.first(time.Now())) {
			return
		}
		alive := time.NewTicker(10 * time.Second) // finds out that a window has gone
		defer alive.Stop()
		for {
			var message []byte
			select {
			case message = <-l.news:
			case <-alive.C:
				message = []byte(": still here\n\n")
			}
			if s.Accounts != nil {
				if _, ok := s.Accounts.Of(secret, false); !ok {
					return // signed out, or no longer a user
				}
			}
			if !s.feed.caughtUp(l) {
				for len(l.news) > 0 {
					<-l.news
				}
				message = s.first(time.Now())
			}
			if !send(message) {
				return // the window has gone
			}
		}
	})
}
