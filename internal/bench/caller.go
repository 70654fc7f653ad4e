package bench

import (
	"cmp"
	"context"
	"net"
	"slices"
	"sync"
	"time"

	"ferry/internal/core/problem"
	"ferry/internal/core/site"
)

// Calls is a Speech of which the bench can play the asking end too.
type Calls interface {
	// Caller names who asks, as people say it.
	Caller() string
	// Call asks for all that is there, again and again, until the conversation or ctx ends, and shows
	// it on a screen. It carries out the orders that come there.
	Call(ctx context.Context, over net.Conn, screen *Screen) error
}

// overNetwork is a Calls over another network than TCP.
type overNetwork interface{ Network() string }

// networkOf is over what somebody asks.
func networkOf(c Calls) string {
	if o, ok := c.(overNetwork); ok {
		return o.Network()
	}
	return "tcp"
}

// mostShown bounds what a screen shows, and how long an order may wait.
const (
	mostShown   = 2000
	orderWithin = 10 * time.Second
	callAgain   = time.Second
)

// Shown is one value on the screen of who asks.
type Shown struct {
	Name    string `json:"name"`
	Value   string `json:"value"`
	Quality string `json:"quality,omitempty"`
	// TimeMs is the time that came with it, AtMs when it came.
	TimeMs   int64 `json:"timeMs,omitempty"`
	AtMs     int64 `json:"atMs"`
	Reported bool  `json:"reported,omitempty"`
}

// Order is a command that somebody gives at the screen.
type Order struct {
	Name string
	On   bool
	done chan error
}

// Screen is what who asks sees, and where commands are given.
type Screen struct {
	Orders chan *Order

	mu       sync.Mutex
	shown    map[string]*Shown
	commands []string
	reports  int64
	sentence string
	at       string
}

func newScreen() *Screen { return &Screen{Orders: make(chan *Order), shown: map[string]*Shown{}} }

// Show has a value stand on the screen.
func (s *Screen) Show(v Shown) {
	v.AtMs = time.Now().UnixMilli()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.shown[v.Name] != nil || len(s.shown) < mostShown {
		s.shown[v.Name] = &v
	}
}

// Reported counts a report.
func (s *Screen) Reported() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.reports++
}

// Commands says which there are.
func (s *Screen) Commands(names []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.commands = names
}

func (s *Screen) says(at, sentence string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.at, s.sentence = at, sentence
}

// Done ends an order: nil where it was carried out.
func (o *Order) Done(err error) { o.done <- err }

// Calling is somebody whom the bench plays that asks a device that Ferry is.
type Calling struct {
	Who      string   `json:"who"`
	On       bool     `json:"on"`
	At       string   `json:"at,omitempty"`
	Sentence string   `json:"sentence,omitempty"` // why it has nothing; empty while it asks
	Reports  int64    `json:"reports"`
	Shown    []Shown  `json:"shown"`
	Commands []string `json:"commands"`
}

// calling is one under way.
type calling struct {
	end    context.CancelFunc
	done   chan struct{}
	screen *Screen
}

// callOf finds whom the bench can play for a device that Ferry is.
func callOf(d *site.Device) (Calls, *site.Port) {
	if d == nil || !d.Served() {
		return nil, nil
	}
	for i := range d.Ports {
		if c, ok := speeches[d.Ports[i].Protocol].(Calls); ok {
			return c, &d.Ports[i]
		}
	}
	return nil, nil
}

// Call has the bench play, or no longer, who asks a device that Ferry is.
func (b *Bench) Call(d *site.Device, on bool) error {
	calls, port := callOf(d)
	if calls == nil {
		return problem.New("no-asker", "The bench plays nobody that asks this device.", "Ask it by a program of your own.")
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if c := b.calls[d.ID]; c != nil {
		c.end()
		delete(b.calls, d.ID)
	}
	if on {
		ctx, end := context.WithCancel(context.Background())
		c := &calling{end: end, done: make(chan struct{}), screen: newScreen()}
		b.calls[d.ID] = c
		go c.run(ctx, calls, b.post(port))
	}
	return nil
}

func (c *calling) run(ctx context.Context, calls Calls, at string) {
	defer close(c.done)
	c.screen.says(at, "it has not called yet")
	for ctx.Err() == nil {
		dialer := net.Dialer{Timeout: askWithin}
		over, err := dialer.DialContext(ctx, networkOf(calls), at)
		if err == nil {
			c.screen.says(at, "")
			stop := context.AfterFunc(ctx, func() { _ = over.Close() })
			err = calls.Call(ctx, over, c.screen)
			stop()
			_ = over.Close()
		}
		if ctx.Err() == nil && err != nil {
			c.screen.says(at, err.Error())
		}
		pause(ctx, callAgain)
	}
}

// Calling says whom the bench plays for a device that Ferry is, and what stands on the screen; nil for
// nobody that it could play.
func (b *Bench) Calling(d *site.Device) *Calling {
	calls, _ := callOf(d)
	if calls == nil {
		return nil
	}
	b.mu.Lock()
	c := b.calls[d.ID]
	b.mu.Unlock()
	state := &Calling{Who: calls.Caller(), On: c != nil, Shown: []Shown{}, Commands: []string{}}
	if c == nil {
		return state
	}
	s := c.screen
	s.mu.Lock()
	defer s.mu.Unlock()
	state.At, state.Sentence, state.Reports = s.at, s.sentence, s.reports
	state.Commands = append(state.Commands, s.commands...)
	for _, v := range s.shown {
		state.Shown = append(state.Shown, *v)
	}
	slices.SortFunc(state.Shown, func(a, b Shown) int { return cmp.Compare(a.Name, b.Name) })
	return state
}

// Operate has the one whom the bench plays give a command.
func (b *Bench) Operate(ctx context.Context, device, name string, on bool) error {
	b.mu.Lock()
	c := b.calls[device]
	b.mu.Unlock()
	if c == nil {
		return problem.New("no-asker", "Nobody of the bench asks this device now.", "Let the bench ask it first.")
	}
	ctx, cancel := context.WithTimeout(ctx, orderWithin)
	defer cancel()
	o := &Order{Name: name, On: on, done: make(chan error, 1)}
	select {
	case c.screen.Orders <- o:
	case <-ctx.Done():
		return problem.New("no-asker", "It does not talk with Ferry now, and the command was not given.",
			"Look at what it says.")
	}
	select {
	case err := <-o.done:
		if err != nil {
			return problem.New("refused", "The command was refused: "+err.Error()+".", "").At(name)
		}
		return nil
	case <-ctx.Done():
		return problem.New("no-answer", "The command went out, and no answer came.",
			"Look at what the outstation shows.").At(name)
	}
}

// endCalls ends whom the bench plays for devices that are gone, or are no longer Ferry. The lock is
// held.
func (b *Bench) endCalls(s *site.Site) {
	for id, c := range b.calls {
		if calls, _ := callOf(s.Device(id)); calls == nil {
			c.end()
			delete(b.calls, id)
		}
	}
}
