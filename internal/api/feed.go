package api

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"log"
	"reflect"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/finding"
	"ferry/internal/core/problem"
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
	crossRev  uint64 // up to where crossings were told of
	quiet     int

	foundMu  sync.Mutex
	found    []finding.Finding
	foundSeq int64
	foundAt  time.Time

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
	// window names it where it says which points it shows; one that does not is
	// told of all. rev is up to where it was told of them.
	window string
	points []string
	rev    uint64
}

// waitingNews is how many messages wait for a window that is slow.
const waitingNews = 4

// listen adds a window. Everything that it has to know first is to be asked
// for after that.
func (s *Server) listen(window string) *listener {
	f := &s.feed
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.listeners == nil {
		f.listeners = map[*listener]bool{}
	}
	l := &listener{news: make(chan []byte, waitingNews), window: window}
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
	ticker := time.NewTicker(beat / 2)
	defer ticker.Stop()
	for n := 0; ; n++ {
		<-ticker.C
		if n%2 == 1 { // the points that are shown are told of between two beats too
			s.tellShown()
			continue
		}
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
		if news := s.news(time.Now()); news != nil {
			f.mu.Lock()
			for l := range f.listeners {
				f.hand(l, news.of(l))
			}
			f.mu.Unlock()
		}
		s.tellShown()
	}
}

// hand gives a window a message, if there is one; the lock is held.
func (f *feed) hand(l *listener, message []byte) {
	if message == nil {
		return
	}
	select {
	case l.news <- message:
	default:
		l.behind = true
	}
}

// message is what one beat has to tell: all of it, and that without the values
// for windows that say which they show.
type message struct{ whole, plain []byte }

func (m *message) of(l *listener) []byte {
	if l.window != "" {
		return m.plain
	}
	return m.whole
}

// tellShown tells each window of the points that it shows.
func (s *Server) tellShown() {
	f := &s.feed
	f.mu.Lock()
	defer f.mu.Unlock()
	for l := range f.listeners {
		s.tellPoints(l)
	}
}

// tellPoints tells a window of the points that it shows and that are new since
// it was told last. The lock of the feed is held.
func (s *Server) tellPoints(l *listener) {
	if l.window == "" || len(l.points) == 0 {
		return
	}
	var list []field.Live
	if list, l.rev = s.Engine.Hub.Of(l.points, l.rev); len(list) == 0 {
		return
	}
	data, err := json.Marshal(list)
	if err != nil {
		log.Printf("the event stream: %v", err)
		return
	}
	s.feed.hand(l, append(append([]byte("event: values\ndata: "), data...), "\n\n"...))
}

// mostShown is how many points one window may show at a time.
const mostShown = 5000

// postWatch takes down which points a window shows, and tells it of them.
func (s *Server) postWatch(c fiber.Ctx) error {
	var r WatchRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if len(r.Points) > mostShown {
		return problem.New("too-many", fmt.Sprintf("A window shows at most %d points at a time.", mostShown),
			"Show fewer.")
	}
	f := &s.feed
	f.mu.Lock()
	defer f.mu.Unlock()
	for l := range f.listeners {
		if l.window == r.Window && r.Window != "" {
			l.points, l.rev = r.Points, 0
			s.tellPoints(l)
		}
	}
	return c.JSON(map[string]bool{"ok": true})
}

// news returns what changed since the last beat, as a message; nil for nothing.
func (s *Server) news(at time.Time) (told *message) {
	defer func() {
		if p := recover(); p != nil {
			log.Printf("the event stream: %v\n%s", p, debug.Stack())
			told = nil
		}
	}()
	f := &s.feed // of which only this goroutine uses what follows
	p := s.pulse(at)
	p.Crossings, f.crossRev = s.Engine.CrossingsSince(max(f.crossRev, 1))
	if f.all() {
		p.Live, f.rev = s.Engine.Hub.Since(f.rev, at)
	} else {
		s.Engine.Hub.Age(at)
		f.rev = s.Engine.Hub.Rev()
	}
	whole := p
	whole.Live = nil
	last := f.last
	// The time left of an unlock is counted down by the browser.
	same := p.Seq == last.Seq && p.Exchange == last.Exchange && p.Routes == last.Routes &&
		p.Lookouts == last.Lookouts && p.Proved == last.Proved && slices.Equal(p.Provers, last.Provers) &&
		p.State.Mode == last.State.Mode &&
		p.State.Plan == last.State.Plan && p.State.Compiling == last.State.Compiling &&
		reflect.DeepEqual(p.State.Released, last.State.Released) &&
		reflect.DeepEqual(p.State.Running, last.State.Running) &&
		(p.State.UnlockedMs > 0) == (last.State.UnlockedMs > 0) &&
		reflect.DeepEqual(p.State.Serving, last.State.Serving) && len(p.Crossings) == 0
	if reflect.DeepEqual(p.Findings, last.Findings) {
		p.Findings = nil
	}
	f.last = whole
	if f.quiet++; same && len(p.Live) == 0 && p.Findings == nil && f.quiet < 40 {
		return nil
	}
	f.quiet = 0
	told = &message{}
	if len(p.Live) > 0 || f.all() {
		told.whole = event(p)
	}
	p.Live = []field.Live{}
	told.plain = event(p)
	return told
}

// all reports whether a window is to be told of every point.
func (f *feed) all() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	for l := range f.listeners {
		if l.window == "" {
			return true
		}
	}
	return false
}

// pulse is the state of everything but the values.
func (s *Server) pulse(at time.Time) Pulse {
	_, seq := s.Store.Site()
	s.mu.Lock()
	routes := s.routeRev
	s.mu.Unlock()
	open, rev := s.openNow()
	_, proved := s.Store.Proofs(s.mode())
	return Pulse{Proved: proved, Provers: s.provers.now(at), Seq: seq, State: s.Engine.State(), Live: []field.Live{},
		Crossings: []field.CrossingState{}, Findings: s.lately(at, seq),
		Exchange: s.Engine.Hub.LastSeq(), Routes: routes, NowMs: at.UnixMilli(), Open: open, Lookouts: rev}
}

// lately returns the findings, which on a large site are gathered less often than
// every beat: a quarter of a second for each hundred links.
func (s *Server) lately(at time.Time, seq int64) []finding.Finding {
	f := &s.feed
	f.foundMu.Lock()
	defer f.foundMu.Unlock()
	now, _ := s.Store.Site()
	if rest := beat * time.Duration(len(now.Links)/100); f.found == nil || f.foundSeq != seq ||
		at.Sub(f.foundAt) >= rest {
		f.found, f.foundSeq, f.foundAt = s.findings(at), seq, at
	}
	return f.found
}

// first is the message that a window begins with: everything, or everything but
// the values.
func (s *Server) first(l *listener, at time.Time) []byte {
	s.briefly(context.Background())
	f := &s.feed
	if l.window != "" {
		p := s.pulse(at)
		p.Crossings, p.Whole = s.Engine.Crossings(), true
		f.mu.Lock()
		l.rev = 0 // the values follow with the next beat
		f.mu.Unlock()
		return event(p)
	}
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
	p.Crossings = s.Engine.Crossings()
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
	secret, window := c.Cookies(sessionCookie), c.Query("window")
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer func() {
			if p := recover(); p != nil {
				log.Printf("the event stream: %v\n%s", p, debug.Stack())
			}
		}()
		l := s.listen(window)
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
		if !send(s.first(l, time.Now())) {
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
				message = s.first(l, time.Now())
			}
			if !send(message) {
				return // the window has gone
			}
		}
	})
}
