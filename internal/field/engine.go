package field

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"sync"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
)

// Mode says whether Ferry talks to the simulated devices or to real ones.
type Mode string

// The modes.
const (
	Bench Mode = "bench"
	Plant Mode = "plant"
)

// StandIns finds the stand-in of a device on the bench: the address on
// loopback at which what the link asks for would be found.
type StandIns interface {
	Dial(s *site.Site, link *site.Link) string
}

// Engine runs links in the place of their asking ends.
type Engine struct {
	Hub *Hub

	mu        sync.Mutex
	site      *site.Site
	mode      Mode
	unlocked  time.Time // until when a plant may be written
	standIns  StandIns
	runners   map[string]*runner
	prints    map[string]string // link id -> what its runner was made from
	crossings *crossings
	want      map[string]bool // links that are to run
}

// NewEngine returns an engine for a site, in bench mode.
func NewEngine(s *site.Site, standIns StandIns) *Engine {
	e := &Engine{Hub: NewHub(), site: s, mode: Bench, standIns: standIns,
		runners: map[string]*runner{}, prints: map[string]string{}, want: map[string]bool{}}
	for i := range s.Devices {
		e.Hub.follow(&s.Devices[i])
	}
	return e
}

// State is what runs.
type State struct {
	Mode Mode `json:"mode"`
	// UnlockedMs is how much longer a plant may be written, in milliseconds.
	UnlockedMs int64    `json:"unlockedMs"`
	Running    []string `json:"running"` // links
}

// State returns what runs now.
func (e *Engine) State() State {
	e.mu.Lock()
	defer e.mu.Unlock()
	s := State{Mode: e.mode, Running: []string{}, UnlockedMs: max(0, time.Until(e.unlocked).Milliseconds())}
	for i := range e.site.Links {
		if id := e.site.Links[i].ID; e.runners[id] != nil {
			s.Running = append(s.Running, id)
		}
	}
	return s
}

// documentation lists the ranges that no network may use (RFC 5737, RFC 3849):
// demo sites live in them.
var documentation = []netip.Prefix{
	netip.MustParsePrefix("192.0.2.0/24"), netip.MustParsePrefix("198.51.100.0/24"),
	netip.MustParsePrefix("203.0.113.0/24"), netip.MustParsePrefix("2001:db8::/32"),
}

// dialOf returns where a link's connection goes.
func (e *Engine) dialOf(link *site.Link) (string, error) {
	_, def, err := DriverOf(link.Protocol)
	if err != nil {
		return "", problem.New("protocol", err.Error()+".", "")
	}
	if e.mode == Bench {
		return e.standIns.Dial(e.site, link), nil
	}
	device := e.site.Device(link.Answering)
	if device == nil || device.Port(link.Line) == nil {
		return "", problem.New("no-port", "The answering end has no port on the line of the link.", "Give it one under Lines.")
	}
	host, err := netip.ParseAddr(device.Port(link.Line).Host)
	if err != nil {
		return "", problem.New("no-address", device.Name+" has no IP address.", "Enter it under Lines.").At(device.Name)
	}
	for _, range_ := range documentation {
		if range_.Contains(host) {
			return "", problem.New("documentation-address", fmt.Sprintf("%s is in %s, a range kept for documentation: no plant has it.", host, range_),
				"Enter the device's real address, or go back to the bench.").At(device.Name)
		}
	}
	return net.JoinHostPort(host.String(), strconv.Itoa(def.Value(link.Settings, "port"))), nil
}

// SetMode goes to the bench or to the plant. Everything that runs is stopped
// first: nobody should mistake the values of one for those of the other.
func (e *Engine) SetMode(mode Mode) error {
	if mode != Bench && mode != Plant {
		return problem.New("mode", fmt.Sprintf("%q is neither bench nor plant.", mode), "")
	}
	e.Stop(nil)
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.mode == mode {
		return nil
	}
	e.mode, e.unlocked = mode, time.Time{}
	e.Hub.reset()
	for i := range e.site.Devices {
		e.Hub.follow(&e.site.Devices[i])
	}
	return nil
}

// Unlock allows writes to a plant for a time; 0 locks at once.
func (e *Engine) Unlock(for_ time.Duration) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.unlocked = time.Now().Add(for_)
}

// mayWrite reports whether anything may be written now.
func (e *Engine) mayWrite() error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.mode == Plant && time.Now().After(e.unlocked) {
		return problem.New("locked", "Writing to the plant is locked.", "Unlock it for some minutes first.")
	}
	return nil
}

// Site returns the site as the engine knows it.
func (e *Engine) Site() *site.Site {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.site
}

// Start runs the given links, or all if none is given.
func (e *Engine) Start(links []string) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if len(links) == 0 {
		for i := range e.site.Links {
			links = append(links, e.site.Links[i].ID)
		}
	}
	for _, id := range links {
		if e.site.Link(id) == nil {
			return problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(id)
		}
		e.want[id] = true
		if e.runners[id] != nil {
			continue
		}
		e.Hub.forget(e.site.Link(id))
		if err := e.launch(id); err != nil {
			delete(e.want, id)
			return err
		}
	}
	e.carry()
	return nil
}

// launch starts the runner of one link. The lock is held.
func (e *Engine) launch(id string) error {
	link := *e.site.Link(id)
	device := *e.site.Device(link.Answering)
	dial, err := e.dialOf(&link)
	if err != nil {
		return err
	}
	r, err := newRunner(&link, &device, dial, e.Hub)
	if err != nil {
		return problem.From(err, "compile")
	}
	ctx, cancel := context.WithCancel(context.Background())
	r.cancel = cancel
	e.runners[id] = r
	e.prints[id] = fingerprint(e.site, &link)
	go r.run(ctx)
	return nil
}

// fingerprint changes when anything changes that a runner is made from.
func fingerprint(s *site.Site, link *site.Link) string {
	data, err := json.Marshal([]any{link, s.Device(link.Answering)})
	if err != nil {
		return err.Error()
	}
	return string(data)
}

// Stop ends the given links, or all if none is given, and waits until their
// connections are closed.
func (e *Engine) Stop(links []string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if len(links) == 0 {
		for id := range e.runners {
			links = append(links, id)
		}
	}
	for _, id := range links {
		delete(e.want, id)
		e.halt(id)
	}
	e.carry()
}

func (e *Engine) halt(id string) {
	if r := e.runners[id]; r != nil {
		r.cancel()
		<-r.done
		delete(e.runners, id)
		delete(e.prints, id)
	}
}

// Update takes over a changed site: links whose settings or points changed go
// on with the new ones, links that are gone end, all others run undisturbed.
func (e *Engine) Update(s *site.Site) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.site = s
	for i := range s.Devices {
		e.Hub.follow(&s.Devices[i])
	}
	for id := range e.want {
		link := s.Link(id)
		if link == nil {
			e.halt(id)
			delete(e.want, id)
			continue
		}
		if e.prints[id] == fingerprint(s, link) {
			continue
		}
		e.halt(id)
		if err := e.launch(id); err != nil {
			delete(e.want, id)
			e.Hub.record(&exchange.Exchange{Link: id, Device: link.Answering, At: time.Now(), Operation: "go on after the change",
				Outcome: exchange.NotAllowed, Sentence: problem.From(err, "run").Sentence}, nil)
		}
	}
	e.carry()
}

// carry restarts the crossings for the links that run. The lock is held.
func (e *Engine) carry() {
	if e.crossings != nil {
		e.crossings.stop()
	}
	e.crossings = startCrossings(e, e.crossings)
}

// Close stops everything.
func (e *Engine) Close() {
	e.Stop(nil)
}

// with gives fn the connection of a link: that of its runner between two
// reads, or one of its own if the link does not run.
func (e *Engine) with(ctx context.Context, linkID string, fn func(*runner, Conn, Reply)) error {
	e.mu.Lock()
	r := e.runners[linkID]
	if r == nil {
		link := e.site.Link(linkID)
		if link == nil {
			e.mu.Unlock()
			return problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(linkID)
		}
		copied, device := *link, *e.site.Device(link.Answering)
		dial, err := e.dialOf(link)
		e.mu.Unlock()
		if err != nil {
			return err
		}
		if r, err = newRunner(&copied, &device, dial, e.Hub); err != nil {
			return problem.From(err, "compile")
		}
		defer r.hangUp()
		if r.connect(ctx) {
			fn(r, r.conn, Reply{Outcome: exchange.Answered})
		} else {
			fn(r, nil, r.lost)
		}
		return nil
	}
	e.mu.Unlock()
	c := command{do: func(conn Conn, reply Reply) { fn(r, conn, reply) }, done: make(chan struct{})}
	select {
	case r.commands <- c:
		<-c.done
		return nil
	case <-r.done:
		return problem.New("stopped", "The run was stopped in between.", "Try again.")
	case <-ctx.Done():
		return problem.New("timeout", "The link was busy for too long.", "Try again when its device answers.")
	}
}
