package field

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"log"
	"maps"
	"net"
	"net/netip"
	"reflect"
	"runtime/debug"
	"slices"
	"strconv"
	"sync"
	"syscall"
	"time"

	"ferry/internal/core/exchange"
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
}

// Engine runs links in the place of their asking ends. Its lock is held for
// moments only, never while a device is waited for or a timetable compiled.
type Engine struct {
	Hub *Hub
	// Journal keeps what is written to devices.
	Journal Journal

	door door

	keeping sync.Mutex // held while the journal of what crossings write is brought up to date
	overMu  sync.Mutex
	overs   []*Record // of crossings, which change no more

	mu          sync.Mutex
	site        *site.Site
	seq         int64 // of the site
	standIns    StandIns
	runners     map[string]*runner // of the links that run
	channels    map[string]*shared
	keys        map[string]string     // link id -> key of its channel
	prints      map[string]string     // link id -> what its runner was made from
	pointPrints map[string]pointPrint // by device
	ended       map[string]<-chan struct{}
	carriers    map[string]*carrier
	want        map[string]bool      // links that are to run
	told        map[string]time.Time // lines of a plant that may be asked, until when
	heard       map[string]Heard     // what was heard on a line before it was asked
	sweeps      []*sweepRun
	sweepNo     int
	closed      bool

	plan    *timetable.Plan
	planOf  *site.Site
	planRev int64
	// crossPrints are the prints of the crossings of a site.
	crossPrints   map[string]crossPrint
	crossPrintsOf *site.Site
	// places says where the points of a site are, by id, if it has many crossings.
	places   map[string][2]int
	placesOf *site.Site
	byLink   map[string][]timetable.Request
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
		runners: map[string]*runner{}, channels: map[string]*shared{}, keys: map[string]string{}, prints: map[string]string{}, pointPrints: map[string]pointPrint{}, want: map[string]bool{},
		ended: map[string]<-chan struct{}{}, carriers: map[string]*carrier{}, told: map[string]time.Time{}, heard: map[string]Heard{}}
	e.door.open()
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
	s := State{Mode: e.door.mode, Running: []string{}, Allowed: []string{}, Released: e.released(), UnlockedMs: max(0, time.Until(e.door.unlocked).Milliseconds()),
		Plan: e.planRev, Compiling: e.planOf != e.site}
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

// Plan returns the timetable that was compiled last and the site that it is of,
// which is an earlier one while that of a change is being compiled. It is nil
// only before the first.
func (e *Engine) Plan() (*timetable.Plan, *site.Site) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.plan, e.planOf
}

// patience is how long a press waits for a timetable; after that, what depends
// on it happens by itself when it is there.
const planPatience = 60 * time.Millisecond

// Planned waits for the timetable of the site as it is, but no longer than ctx.
func (e *Engine) Planned(ctx context.Context) {
	e.mu.Lock()
	planned := e.planned
	e.mu.Unlock()
	select {
	case <-planned:
	case <-ctx.Done():
	}
}

func (e *Engine) brieflyPlanned() {
	ctx, cancel := context.WithTimeout(context.Background(), planPatience)
	defer cancel()
	e.Planned(ctx)
}

// replan compiles the timetable of the site beside everything else, and then
// lets the links that are to run go on by it. The lock is held.
func (e *Engine) replan() {
	e.stopPlan()
	ctx, cancel := context.WithCancel(context.Background())
	s, planned := e.site, make(chan struct{})
	e.stopPlan, e.planned = cancel, planned
	go func() {
		defer close(planned)
		defer cancel()
		plan := compile(ctx, s)
		if plan == nil {
			return // there is a newer site
		}
		byLink := map[string][]timetable.Request{}
		for _, r := range plan.Requests {
			byLink[r.Link] = append(byLink[r.Link], r)
		}
		prints := crossingPrints(s)
		e.mu.Lock()
		defer e.mu.Unlock()
		if e.site != s || e.closed {
			return
		}
		e.crossPrints, e.crossPrintsOf = prints, s
		e.plan, e.planOf, e.byLink = plan, s, byLink
		e.planRev++
		e.reconcile()
	}()
}

// compile is timetable.CompileContext, which a defect in it does not carry
// beyond: the site is then shown without a timetable.
func compile(ctx context.Context, s *site.Site) (plan *timetable.Plan) {
	defer func() {
		if p := recover(); p != nil {
			log.Printf("the timetable could not be compiled: %v\n%s", p, debug.Stack())
			plan = timetable.Failed(fmt.Sprint(p))
		}
	}()
	return timetable.CompileContext(ctx, s)
}

// documentation lists the ranges that no network may use (RFC 5737, RFC 3849):
// demo sites live in them.
var documentation = []netip.Prefix{
	netip.MustParsePrefix("192.0.2.0/24"), netip.MustParsePrefix("198.51.100.0/24"),
	netip.MustParsePrefix("203.0.113.0/24"), netip.MustParsePrefix("2001:db8::/32"),
}

// documented returns the documentation range that an address lies in, however
// the address is written.
func documented(host netip.Addr) (netip.Prefix, bool) {
	host = host.Unmap().WithZone("")
	for _, range_ := range documentation {
		if range_.Contains(host) {
			return range_, true
		}
	}
	return netip.Prefix{}, false
}

// NotDialled says why an address is not dialled.
type NotDialled string

func (n NotDialled) Error() string { return string(n) }

// mayDial says why an address of a plant is not to be dialled.
func mayDial(host netip.Addr) error {
	host = host.Unmap()
	if range_, is := documented(host); is {
		return NotDialled(fmt.Sprintf("%s is in %s, a range kept for documentation: no plant has it", host, range_))
	}
	if host.IsUnspecified() || host.IsMulticast() || host == netip.AddrFrom4([4]byte{255, 255, 255, 255}) {
		return NotDialled(fmt.Sprintf("%s is the address of no device", host))
	}
	return nil
}

// MayDial refuses addresses that are not to be dialled, as they are once names
// are resolved: it is for Target.Control.
func MayDial(_, address string, _ syscall.RawConn) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	return mayDial(at.Addr())
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
	case e.door.mode == Bench:
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
		t.Control = MayDial
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
	if err := mayDial(host); err != nil {
		return "", problem.New("documentation-address", err.Error()+".", "Enter the device's real address, or go back to the bench.").At(device.Name)
	}
	return net.JoinHostPort(host.String(), strconv.Itoa(def.Value(link.Settings, "port"))), nil
}

// Site returns the site as the engine knows it.
func (e *Engine) Site() *site.Site {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.site
}

// Start runs the given links, or all if none is given.
func (e *Engine) Start(links []string) error {
	e.brieflyPlanned()
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
		if e.runners[id] != nil {
			continue
		}
		link := e.site.Link(id)
		e.Hub.forget(link, e.site.Device(link.Answering))
		if e.planOf != e.site {
			e.want[id] = true // it starts when its timetable is there
			continue
		}
		if err := e.launch(id); err != nil {
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
	device := *e.site.Device(link.Answering)
	if target, key, err = e.targetOf(&link); err != nil {
		return nil, target, "", err
	}
	if r, err = newRunner(&link, &device, e.byLink[id], e.Hub); err != nil {
		return nil, target, "", problem.From(err, "compile")
	}
	return r, target, key, nil
}

// channelTo makes a channel that ends with the mode. The lock is held.
func (e *Engine) channelTo(r *runner, target Target) *channel {
	driver, _, _ := DriverOf(r.link.Protocol) // the runner was made with it
	return newChannel(e.door.life, driver, target)
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
		c.add(r)
		e.channels[key] = &shared{c, 1}
		before := []<-chan struct{}{}
		if done := e.ended[id]; done != nil {
			before = append(before, done)
		}
		c.start(before...)
	}
	e.runners[id], e.keys[id] = r, key
	e.prints[id] = e.fingerprint(r.link)
	return nil
}

// fingerprint changes when anything changes that a runner is made from. What is
// only shown or remarked is no part of it: a run goes on undisturbed by that.
func (e *Engine) fingerprint(link *site.Link) string {
	var port *site.Port
	if asking := e.site.Device(link.Asking); asking != nil {
		port = asking.Port(link.Line)
	}
	line, device := e.site.Line(link.Line), e.site.Device(link.Answering)
	plain := *link
	plain.Remark = ""
	data, err := json.Marshal([]any{plain, device.Map, device.Limits, device.Ports, e.pointsPrint(device), port, line.Format(), line.Here})
	if err != nil {
		return err.Error()
	}
	return string(data)
}

// pointsPrint changes when anything changes of how the points of a device are
// read. It is worked out once for each change of them. The lock is held.
func (e *Engine) pointsPrint(device *site.Device) string {
	if known, ok := e.pointPrints[device.ID]; ok && device.SharesPoints(known.device) {
		return known.print
	}
	h := sha256.New()
	out := json.NewEncoder(h)
	for i := range device.Points {
		p := readOnly(&device.Points[i])
		p.PaceMs, p.Access = device.Points[i].PaceMs, device.Points[i].Access
		if err := out.Encode(p); err != nil {
			return err.Error()
		}
	}
	print := hex.EncodeToString(h.Sum(nil))
	e.pointPrints[device.ID] = pointPrint{device, print}
	return print
}

// pointPrint is a print with the device that it is of.
type pointPrint struct {
	device *site.Device
	print  string
}

// readOnly is a point with what decides how its octets are read and written, and
// nothing else.
func readOnly(p *site.Point) site.Point {
	plain := *p
	plain.Name, plain.Unit, plain.Remark, plain.From, plain.PaceMs, plain.Access = "", "", "", nil, 0, ""
	plain.Decimals, plain.Low, plain.High, plain.ChangeMs, plain.Names = nil, nil, nil, 0, nil
	return plain
}

// pointAt finds a point and its device. The lock is held.
func (e *Engine) pointAt(id string) (*site.Device, *site.Point) {
	if e.placesOf != e.site || e.places == nil {
		return e.site.Point(id)
	}
	at, ok := e.places[id]
	if !ok {
		return nil, nil
	}
	d := &e.site.Devices[at[0]]
	return d, &d.Points[at[1]]
}

// point finds a point.
func (e *Engine) point(id string) *site.Point {
	e.mu.Lock()
	defer e.mu.Unlock()
	_, p := e.pointAt(id)
	return p
}

// placesIn says where each point of a site is, where crossings look for many.
func placesIn(s *site.Site) map[string][2]int {
	if len(s.Crossings) < 8 {
		return nil
	}
	places := map[string][2]int{}
	for i := range s.Devices {
		for j := range s.Devices[i].Points {
			places[s.Devices[i].Points[j].ID] = [2]int{i, j}
		}
	}
	return places
}

// Stop ends the given links, or all if none is given, and waits until their
// connections are closed, which no device can delay.
func (e *Engine) Stop(links []string) {
	e.mu.Lock()
	if len(links) == 0 {
		links = slices.Collect(maps.Keys(e.want))
	}
	var ending []<-chan struct{}
	for _, id := range links {
		delete(e.want, id)
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
	places := placesIn(s)
	e.door.shut.Lock() // no write leaves while what it was prepared from changes
	e.mu.Lock()
	if seq < e.seq || e.closed {
		e.mu.Unlock()
		e.door.shut.Unlock()
		return
	}
	old := e.site
	e.site, e.seq = s, seq
	e.places, e.placesOf = places, s
	before := make(map[string]*site.Device, len(old.Devices))
	for i := range old.Devices {
		before[old.Devices[i].ID] = &old.Devices[i]
	}
	for i := range s.Devices {
		d := &s.Devices[i]
		if was := before[d.ID]; was == nil || !d.SharesPoints(was) {
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
	maps.DeleteFunc(e.pointPrints, func(id string, _ pointPrint) bool { return e.site.Device(id) == nil })
	for id := range e.want {
		link := e.site.Link(id)
		if link == nil {
			e.halt(id)
			delete(e.want, id)
			delete(e.ended, id)
			continue
		}
		if e.runners[id] != nil && e.prints[id] == e.fingerprint(link) {
			continue
		}
		e.halt(id)
		if err := e.launch(id); err != nil {
			delete(e.want, id)
			e.Hub.record(e.Hub.Era(), &exchange.Exchange{Link: id, Device: link.Answering, At: time.Now(), Operation: "go on after the change",
				Outcome: exchange.NotAllowed, Sentence: problem.From(err, "run").Sentence}, nil)
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
		if done := e.halt(id); done != nil {
			ending = append(ending, done)
		}
	}
	clear(e.want)
	for _, c := range e.carriers {
		c.cancel()
		ending = append(ending, c.done)
	}
	return ending
}

// with gives fn the connection of a link: that of its runner, or of another
// that shares its channel, between two reads; or one of its own if nothing
// there runs. When ctx or the mode ends, what is under way is broken off.
func (e *Engine) with(ctx context.Context, linkID string, fn func(*runner, Conn, Reply)) error {
	e.mu.Lock()
	if e.site.Link(linkID) == nil {
		e.mu.Unlock()
		return problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(linkID)
	}
	if r := e.runners[linkID]; r != nil && reflect.DeepEqual(*r.link, *e.site.Link(linkID)) {
		c := r.channel
		e.mu.Unlock()
		return c.between(ctx, r, fn)
	}
	r, target, key, err := e.runnerOf(linkID)
	if err != nil {
		e.mu.Unlock()
		return err
	}
	over := e.channels[key]
	var own *channel
	if over == nil {
		own = e.channelTo(r, target)
	}
	e.mu.Unlock()
	if own != nil {
		return own.alone(ctx, r, fn)
	}
	return over.between(ctx, r, fn)
}

// alone does one thing over a channel whose loop does not run, and closes it.
func (c *channel) alone(ctx context.Context, r *runner, fn func(*runner, Conn, Reply)) error {
	defer c.end()
	defer c.hangUp()
	failed := true
	defer context.AfterFunc(ctx, c.end)()
	c.guarded("command", func() {
		c.do(c.life, r, func(conn Conn, reply Reply) { fn(r, conn, reply) })
		failed = false
	})
	if failed {
		return errDefect
	}
	return nil
}

var errDefect = problem.New("defect", "Ferry failed on what the device sent: a defect of Ferry's own. What came is in its log.", "Try again, and report it with the log.")

// between does one thing over a channel that runs, between two reads.
func (c *channel) between(ctx context.Context, r *runner, fn func(*runner, Conn, Reply)) error {
	var failed bool
	cmd := command{do: func(conn Conn, reply Reply) { fn(r, conn, reply) }, by: r, ctx: ctx, done: make(chan struct{}), failed: &failed}
	select {
	case c.commands <- cmd:
		<-cmd.done
		if failed {
			return errDefect
		}
		return nil
	case <-c.life.Done():
		return problem.New("stopped", "The run was stopped in between.", "Try again.")
	case <-ctx.Done():
		return problem.New("timeout", "The link was busy for too long.", "Try again when its device answers.")
	}
}
