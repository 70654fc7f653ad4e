package field

import (
	"context"
	"hash/fnv"
	"log"
	"maps"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
)

// StandIns finds the stand-in of a device on the bench: the address on
// loopback, or the path of the simulated serial port, at which what the link
// asks for would be found.
type StandIns interface {
	Dial(s *site.Site, link *site.Link) string
	// Post is where Ferry itself answers in the place of a port.
	Post(port *site.Port) string
}

// CertifiedStandIns are those whose certificates somebody signs that is to be trusted,
// in PEM.
type CertifiedStandIns interface {
	Authority() []byte
}

// Engine runs links in the place of their asking ends. Its lock is held for
// moments only, never while a device is waited for or a timetable compiled.
type Engine struct {
	Hub *Hub
	// Journal keeps what is written to devices.
	Journal Journal
	// Kept returns the secrets and files that settings name.
	Kept func(kind protocol.Kind, name string) ([]byte, error)

	door door

	keeping sync.Mutex // held while the journal of what crossings write is brought up to date
	pool    pool
	worn    wear
	proved  proved
	had     latencies
	// crossRev counts the changes of what crossings are shown to do.
	crossRev atomic.Uint64
	overMu   sync.Mutex
	overs    []*Record // of crossings, which change no more
	// clients are the records of what clients write, by client and point, and told
	// those that the journal does not have as they are.
	clients      map[string]*Record
	clientsDirty map[*Record]bool

	mu        sync.Mutex
	site      *site.Site
	seq       int64 // of the site
	standIns  StandIns
	runners   map[string]*runner // of the links that run
	channels  map[string]*shared
	keys      map[string]string // link id -> key of its channel
	single    map[string]bool   // places that serve one connection at a time
	prints    map[string]print  // link id -> what its runner was made from
	ended     map[string]<-chan struct{}
	carriers  map[string]*carrier
	serving   map[string]*serving  // devices that Ferry is, by id
	posts     map[string]*Post     // at which it answers
	notServed map[string]string    // why Ferry does not answer as a device
	hosts     *hostWatch           // of points that give addresses; nil for none
	want      map[string]bool      // links that are to run, and devices that Ferry is to be
	told      map[string]time.Time // lines of a plant that may be asked, until when
	heard     map[string]Heard     // what was heard on a line before it was asked
	sweeps    []*sweepRun
	sweepNo   int
	closed    bool

	plan    *timetable.Plan
	planOf  *site.Site
	planRev int64
	// ruled are the crossings of the site as they run, taken the points whose values they
	// carry on.
	ruled []site.Crossing
	taken atomic.Pointer[map[string]bool]
	// crossPrints are the prints of the crossings of a site.
	crossPrints   map[string]crossPrint
	crossPrintsOf *site.Site
	// places says where the points of a site are, by id, if it has many crossings.
	places   map[string][2]int
	placesOf *site.Site
	byLink   map[string][]timetable.Request
	// watchSet are the points that are read by a plan, once somebody asked.
	watchMu  sync.Mutex
	watchOf  *timetable.Plan
	watchSet map[string]bool
	planned  chan struct{}      // closed when the plan of the site is there
	stopPlan context.CancelFunc // ends the compilation under way
}

// shared is a channel with how many links go over it.
type shared struct {
	*channel
	links int
}

// NewEngine returns an engine for a site, in bench mode.
func NewEngine(s *site.Site, standIns StandIns) *Engine {
	e := &Engine{Hub: NewHub(), Journal: NoJournal{}, site: s, standIns: standIns, stopPlan: func() {},
		runners: map[string]*runner{}, channels: map[string]*shared{}, keys: map[string]string{},
		prints: map[string]print{}, want: map[string]bool{},
		ended: map[string]<-chan struct{}{}, carriers: map[string]*carrier{}, told: map[string]time.Time{},
		single: map[string]bool{}, heard: map[string]Heard{}, serving: map[string]*serving{}, posts: map[string]*Post{},
		notServed: map[string]string{}, clients: map[string]*Record{}, clientsDirty: map[*Record]bool{}}
	e.crossRev.Store(1) // 0 asks for all
	e.door.open()
	e.places, e.placesOf, e.ruled = placesIn(s), s, s.Ruled()
	e.taken.Store(takenBy(e.ruled))
	e.mu.Lock()
	defer e.mu.Unlock()
	e.replan()
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
	Serving    []string `json:"serving"` // devices as which Ferry answers
	// Allowed are the serial lines of a plant that Ferry may ask on.
	Allowed []string `json:"allowed"`
	// Released are the crossings that write on a plant, until when.
	Released []Release `json:"released"`
	// Plan grows when a timetable has been compiled; Compiling is set while the
	// one that is shown is of an earlier site.
	Plan      int64 `json:"plan"`
	Compiling bool  `json:"compiling"`
}

// State returns what runs now.
func (e *Engine) State() State {
	e.mu.Lock()
	defer e.mu.Unlock()
	s := State{Mode: e.door.mode, Running: []string{}, Serving: []string{}, Allowed: []string{}, Released: e.released(),
		UnlockedMs: max(0, time.Until(e.door.unlocked).Milliseconds()),
		Plan:       e.planRev, Compiling: e.planOf != e.site}
	for i := range e.site.Links {
		if id := e.site.Links[i].ID; e.runners[id] != nil {
			s.Running = append(s.Running, id)
		}
	}
	for i := range e.site.Devices {
		if id := e.site.Devices[i].ID; e.serving[id] != nil {
			s.Serving = append(s.Serving, id)
		}
	}
	for i := range e.site.Lines {
		if id := e.site.Lines[i].ID; time.Now().Before(e.told[id]) {
			s.Allowed = append(s.Allowed, id)
		}
	}
	return s
}

// Site returns the site as the engine knows it.
func (e *Engine) Site() *site.Site {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.site
}

// Start runs the given links, and answers as the given devices that Ferry is; all
// of both if none is given.
func (e *Engine) Start(links []string) error {
	e.brieflyPlanned()
	e.mu.Lock()
	defer e.mu.Unlock()
	if len(links) == 0 {
		for i := range e.site.Links {
			links = append(links, e.site.Links[i].ID)
		}
		for i := range e.site.Devices {
			if e.site.Devices[i].Served() {
				links = append(links, e.site.Devices[i].ID)
			}
		}
	}
	for _, id := range links {
		if d := e.site.Device(id); d != nil && d.Served() {
			if e.serving[id] == nil {
				delete(e.notServed, id)
				if err := e.serve(d); err != nil {
					e.unserve(id)
					e.carry()
					return err
				}
				e.want[id] = true
			}
			continue
		}
		if e.site.Link(id) == nil {
			return problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(id)
		}
		if e.runners[id] != nil {
			continue
		}
		link := e.site.Link(id)
		e.Hub.forget(link, e.site.Device(link.Answering))
		if e.planOf != e.site {
			e.want[id] = true // it starts when its timetable is there
			continue
		}
		if err := e.launch(id); awaits(err) {
			e.notRun(link, err)
		} else if err != nil {
			return err
		}
		e.want[id] = true
	}
	e.carry()
	return nil
}

// runnerOf makes a runner for a link, and returns where its channel goes and
// the key under which channels are shared. The lock is held.
func (e *Engine) runnerOf(id string) (r *runner, target Target, key string, err error) {
	link := *e.site.Link(id)
	device := *e.site.Carried(&link)
	if target, key, err = e.targetOf(&link); err != nil {
		return nil, target, "", err
	}
	if r, err = newRunner(&link, &device, e.byLink[id], e.Hub); err != nil {
		return nil, target, "", problem.From(err, "compile")
	}
	r.place = placeOf(&link, target)
	if r.fit(); len(e.site.Links) > fewLinks && r.def.Turns == protocol.TurnsOfLink {
		r.spread = spreadOf(id)
	}
	return r, target, key, nil
}

// fewLinks is how many links may ask at one moment. Where there are more with
// connections of their own, each moves its reads by a share of their paces after the
// first time, so that the answers of hundreds do not come together.
const fewLinks = 32

// spreadOf is that share for a link, from 0 up to 1.
func spreadOf(id string) float64 {
	h := fnv.New32a()
	_, _ = h.Write([]byte(id)) // it never fails
	return float64(h.Sum32()%1000) / 1000
}

// channelTo makes a channel that ends with the mode. The lock is held.
func (e *Engine) channelTo(r *runner, target Target) *channel {
	driver, _, _ := DriverOf(r.link.Protocol) // the runner was made with it
	c := newChannel(e.door.life, driver, target)
	c.takes = func(point string) bool { return (*e.taken.Load())[point] }
	if device := e.site.Device(r.link.Answering); target.Second != "" && device != nil && device.PortFor(r.link) != nil {
		c.pair = &pair{rule: device.PortFor(r.link).Pair, dials: [2]string{target.Dial, target.Second},
			clients: map[net.Conn]bool{}}
	}
	return c
}

// launch starts to ask over one link. What asked over it before has ended when
// the first octet goes. The lock is held.
func (e *Engine) launch(id string) error {
	r, target, key, err := e.runnerOf(id)
	if err != nil {
		return err
	}
	if over := e.channels[key]; over != nil {
		r.channel = over.channel
		over.links++
		over.revise(func() { over.add(r) })
	} else {
		c := e.channelTo(r, target)
		c.shut = e.gather
		c.add(r)
		e.channels[key] = &shared{c, 1}
		before := []<-chan struct{}{}
		if done := e.ended[id]; done != nil {
			before = append(before, done)
		}
		c.start(before...)
		if c.pair != nil {
			go c.keepPair(e, r)
			if c.pair.rule.Local != "" {
				go c.relay(e.relayAt(c.pair.rule, r.link))
			}
		}
	}
	e.runners[id], e.keys[id] = r, key
	e.prints[id] = e.printOf(r.link)
	return nil
}

// Stop ends the given links, and to answer as the given devices, or all if none is
// given, and waits until their connections are closed, which nobody can delay.
func (e *Engine) Stop(links []string) {
	e.mu.Lock()
	if len(links) == 0 {
		links = slices.Collect(maps.Keys(e.want))
	}
	var ending []<-chan struct{}
	for _, id := range links {
		delete(e.want, id)
		ending = append(ending, e.unserve(id)...)
		if done := e.halt(id); done != nil {
			ending = append(ending, done)
		}
	}
	e.carry()
	e.mu.Unlock()
	for _, done := range ending {
		<-done
	}
}

// halt ends the runner of a link; others that share its channel go on. The
// channel that is returned, if any, is closed when the connection is. The lock
// is held.
func (e *Engine) halt(id string) <-chan struct{} {
	r := e.runners[id]
	if r == nil {
		return nil
	}
	key := e.keys[id]
	over := e.channels[key]
	delete(e.runners, id)
	delete(e.prints, id)
	delete(e.keys, id)
	if over.links--; over.links > 0 {
		removed := make(chan struct{})
		gone := func() {
			over.remove(r)
			close(removed)
		}
		over.revise(gone, r)
		e.ended[id] = either(removed, over.done)
		return e.ended[id]
	}
	over.end()
	delete(e.channels, key)
	e.ended[id] = over.done
	return over.done
}

// either is closed when a is, or b.
func either(a, b <-chan struct{}) <-chan struct{} {
	done := make(chan struct{})
	go func() {
		defer close(done)
		select {
		case <-a:
		case <-b:
		}
	}()
	return done
}

// Update takes over a changed site with the number of its change; one that is
// older than that already taken over is left aside. Links whose settings or
// points changed go on with the new ones, links that are gone end, all others
// run undisturbed.
func (e *Engine) Update(s *site.Site, seq int64) {
	places, ruled := placesIn(s), s.Ruled()
	e.door.shut.Lock() // no write leaves while what it was prepared from changes
	e.mu.Lock()
	if seq < e.seq || e.closed {
		e.mu.Unlock()
		e.door.shut.Unlock()
		return
	}
	old := e.site
	e.site, e.seq = s, seq
	e.places, e.placesOf, e.ruled = places, s, ruled
	e.taken.Store(takenBy(ruled))
	before := make(map[string]*site.Device, len(old.Devices))
	for i := range old.Devices {
		before[old.Devices[i].ID] = &old.Devices[i]
	}
	for i := range s.Devices {
		d := &s.Devices[i]
		if was := before[d.ID]; was == nil || !d.SharesPoints(was) || d.Alive != was.Alive {
			e.Hub.follow(d)
		}
		delete(before, d.ID)
	}
	e.replan()
	e.mu.Unlock()
	e.door.shut.Unlock()
	if len(before) > 0 || len(s.Links) < len(old.Links) || points(s) < points(old) {
		e.Hub.keepOnly(s)
	}
	e.brieflyPlanned()
}

func points(s *site.Site) (n int) {
	for i := range s.Devices {
		n += len(s.Devices[i].Points)
	}
	return n
}

// reconcile lets what runs follow the site and its timetable. The lock is held.
func (e *Engine) reconcile() {
	maps.DeleteFunc(e.ended, func(id string, _ <-chan struct{}) bool { return e.site.Link(id) == nil })
	e.reserve()
	e.watchHosts()
	for id := range e.want {
		if e.serving[id] != nil {
			continue
		}
		link := e.site.Link(id)
		if link == nil {
			e.halt(id)
			delete(e.want, id)
			delete(e.ended, id)
			continue
		}
		if e.runners[id] != nil && e.prints[id].same(e.printOf(link)) {
			continue
		}
		e.halt(id)
		if err := e.launch(id); err != nil {
			if e.notRun(link, err); !awaits(err) {
				delete(e.want, id)
			}
		}
	}
	e.carry()
}

// Close stops everything, and waits until it has ended.
func (e *Engine) Close() {
	e.door.shut.Lock()
	e.mu.Lock()
	e.closed = true
	e.stopPlan()
	planned := e.planned
	ending := e.endAll()
	e.door.end()
	e.mu.Unlock()
	e.door.shut.Unlock()
	<-planned
	for _, done := range ending {
		<-done
	}
	if err := e.KeepCrossings(context.Background()); err != nil {
		log.Printf("the journal of what crossings wrote: %v", err)
	}
}

// endAll ends what runs, crossings and sweeps, and returns what is closed when
// they have. The lock is held.
func (e *Engine) endAll() (ending []<-chan struct{}) {
	for _, sweep := range e.sweeps {
		sweep.cancel()
		ending = append(ending, sweep.done)
	}
	for id := range e.want {
		ending = append(ending, e.unserve(id)...)
		if done := e.halt(id); done != nil {
			ending = append(ending, done)
		}
	}
	clear(e.want)
	clear(e.notServed)
	for _, c := range e.carriers {
		c.end("idle", "")
		ending = append(ending, c.done)
	}
	return ending
}
