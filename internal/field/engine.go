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
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
)

// Mode says whether Ferry talks to the simulated devices or to real ones.
type Mode string

// The modes.
const (
	Bench Mode = "bench"
	Plant Mode = "plant"
)

// StandIns finds the stand-in of a device on the bench: the address on
// loopback, or the path of the simulated serial port, at which what the link
// asks for would be found.
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
	runners   map[string]*runner // of the links that run
	channels  map[string]*channel
	prints    map[string]string // link id -> what its runner was made from
	crossings *crossings
	want      map[string]bool      // links that are to run
	told      map[string]time.Time // lines of a plant that may be asked, until when
	heard     map[string]Heard     // what was heard on a line before it was asked
	plan      *timetable.Plan
	planOf    *site.Site
	sweeps    []*sweepRun
}

// NewEngine returns an engine for a site, in bench mode.
func NewEngine(s *site.Site, standIns StandIns) *Engine {
	e := &Engine{Hub: NewHub(), site: s, mode: Bench, standIns: standIns,
		runners: map[string]*runner{}, channels: map[string]*channel{}, prints: map[string]string{}, want: map[string]bool{},
		told: map[string]time.Time{}, heard: map[string]Heard{}}
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
	// Allowed are the serial lines of a plant that Ferry may ask on.
	Allowed []string `json:"allowed"`
}

// State returns what runs now.
func (e *Engine) State() State {
	e.mu.Lock()
	defer e.mu.Unlock()
	s := State{Mode: e.mode, Running: []string{}, Allowed: []string{}, UnlockedMs: max(0, time.Until(e.unlocked).Milliseconds())}
	for i := range e.site.Links {
		if id := e.site.Links[i].ID; e.runners[id] != nil {
			s.Running = append(s.Running, id)
		}
	}
	for i := range e.site.Lines {
		if id := e.site.Lines[i].ID; time.Now().Before(e.told[id]) {
			s.Allowed = append(s.Allowed, id)
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

// documented returns the documentation range that an address lies in.
func documented(host netip.Addr) (netip.Prefix, bool) {
	for _, range_ := range documentation {
		if range_.Contains(host) {
			return range_, true
		}
	}
	return netip.Prefix{}, false
}

// targetOf returns where a link's connection goes, and the key of the channel
// that it goes over.
func (e *Engine) targetOf(link *site.Link) (t Target, key string, err error) {
	_, def, err := DriverOf(link.Protocol)
	if err != nil {
		return t, "", problem.New("protocol", err.Error()+".", "")
	}
	t.Settings = link.Settings
	line := e.site.Line(link.Line)
	if line != nil && line.Medium == site.SerialLine {
		if asking := e.site.Device(link.Asking); asking != nil {
			t.Format = line.SerialOf(asking.Port(link.Line)).Format()
		}
	}
	switch {
	case e.mode == Bench:
		t.Dial = e.standIns.Dial(e.site, link)
	case line != nil && line.Medium == site.SerialLine:
		if line.Here == "" {
			return t, "", problem.New("no-port-here", line.Name+" has no serial port of this machine.", "Choose one in the panel of the line.").At(line.Name)
		}
		if time.Now().After(e.told[line.ID]) {
			return t, "", problem.New("listen-first", "Ferry has not been told to ask on "+line.Name+": where another asks already, two askers collide.",
				"Listen to the line first, in its panel, and then allow Ferry to ask.").At(line.Name)
		}
		t.Dial = line.Here
	default:
		if t.Dial, err = e.plantAddress(link, def); err != nil {
			return t, "", err
		}
	}
	switch def.Turns {
	case protocol.TurnsOfLine:
		// A port that is opened anew with other settings is another channel.
		return t, "line " + link.Line + " " + t.Dial + " " + link.Protocol + " " + t.Format.String(), nil
	case protocol.TurnsOfAddress:
		return t, "address " + t.Dial, nil
	}
	return t, "link " + link.ID, nil
}

func (e *Engine) plantAddress(link *site.Link, def *protocol.Def) (string, error) {
	device := e.site.Device(link.Answering)
	if device == nil || device.Port(link.Line) == nil {
		return "", problem.New("no-port", "The answering end has no port on the line of the link.", "Give it one under Lines.")
	}
	host, err := netip.ParseAddr(device.Port(link.Line).Host)
	if err != nil {
		return "", problem.New("no-address", device.Name+" has no IP address.", "Enter it under Lines.").At(device.Name)
	}
	if range_, is := documented(host); is {
		return "", problem.New("documentation-address", fmt.Sprintf("%s is in %s, a range kept for documentation: no plant has it.", host, range_),
			"Enter the device's real address, or go back to the bench.").At(device.Name)
	}
	return net.JoinHostPort(host.String(), strconv.Itoa(def.Value(link.Settings, "port"))), nil
}

// requests returns the timetable's requests of the site as it is. The lock is
// held.
func (e *Engine) requests() []timetable.Request {
	if e.planOf != e.site {
		e.plan, e.planOf = timetable.Compile(e.site), e.site
	}
	return e.plan.Requests
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
	clear(e.told)
	clear(e.heard)
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

// runnerOf makes a runner for a link with a channel of its own, and returns the
// key under which channels are shared. The lock is held.
func (e *Engine) runnerOf(id string) (r *runner, key string, err error) {
	link := *e.site.Link(id)
	device := *e.site.Device(link.Answering)
	target, key, err := e.targetOf(&link)
	if err != nil {
		return nil, "", err
	}
	if r, err = newRunner(&link, &device, target, e.requests(), e.Hub); err != nil {
		return nil, "", problem.From(err, "compile")
	}
	return r, key, nil
}

// launch starts to ask over one link. The lock is held.
func (e *Engine) launch(id string) error {
	r, key, err := e.runnerOf(id)
	if err != nil {
		return err
	}
	if shared := e.channels[key]; shared != nil {
		shared.halt()
		shared.add(r)
	} else {
		e.channels[key] = r.channel
	}
	r.channel.start()
	e.runners[id] = r
	e.prints[id] = e.fingerprint(r.link)
	return nil
}

// fingerprint changes when anything changes that a runner is made from.
func (e *Engine) fingerprint(link *site.Link) string {
	var port *site.Port
	if asking := e.site.Device(link.Asking); asking != nil {
		port = asking.Port(link.Line)
	}
	line := e.site.Line(link.Line)
	data, err := json.Marshal([]any{link, e.site.Device(link.Answering), port, line.Format(), line.Here})
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

// halt ends the runner of a link. Others that share its channel go on.
func (e *Engine) halt(id string) {
	r := e.runners[id]
	if r == nil {
		return
	}
	delete(e.runners, id)
	delete(e.prints, id)
	c := r.channel
	if len(c.runners) > 1 {
		c.halt()
		c.remove(r)
		c.start()
		return
	}
	c.close()
	for key := range e.channels {
		if e.channels[key] == c {
			delete(e.channels, key)
		}
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
		if e.prints[id] == e.fingerprint(link) {
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
	e.mu.Lock()
	for _, sweep := range e.sweeps {
		sweep.cancel()
	}
	e.mu.Unlock()
	e.Stop(nil)
}

// with gives fn the connection of a link: that of its runner, or of another
// that shares its channel, between two reads; or one of its own if nothing
// there runs.
func (e *Engine) with(ctx context.Context, linkID string, fn func(*runner, Conn, Reply)) error {
	e.mu.Lock()
	r, c := e.runners[linkID], (*channel)(nil)
	if r != nil {
		c = r.channel
	} else {
		if e.site.Link(linkID) == nil {
			e.mu.Unlock()
			return problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(linkID)
		}
		var key string
		var err error
		if r, key, err = e.runnerOf(linkID); err != nil {
			e.mu.Unlock()
			return err
		}
		c = e.channels[key]
	}
	e.mu.Unlock()
	if c == nil {
		defer r.channel.close()
		if r.connect(ctx) {
			fn(r, r.conn(), Reply{Outcome: exchange.Answered})
		} else {
			fn(r, nil, r.channel.lost)
		}
		return nil
	}
	if r.channel != c {
		r.channel.end()
	}
	cmd := command{do: func(conn Conn, reply Reply) { fn(r, conn, reply) }, by: r, done: make(chan struct{})}
	select {
	case c.commands <- cmd:
		<-cmd.done
		return nil
	case <-c.life.Done():
		return problem.New("stopped", "The run was stopped in between.", "Try again.")
	case <-ctx.Done():
		return problem.New("timeout", "The link was busy for too long.", "Try again when its device answers.")
	}
}
