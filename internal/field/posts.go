package field

import (
	"cmp"
	"context"
	"net"
	"slices"
	"strconv"
	"time"

	"ferry/internal/core/image"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
)

// ServingState is what Ferry does as one device.
type ServingState struct {
	Device string `json:"device"`
	// Listens is where, one for each of its ports; At names them in words.
	Listens []string `json:"listens"`
	// Sentence says why it does not answer; empty while it does.
	Sentence string        `json:"sentence,omitempty"`
	Clients  []ClientState `json:"clients"`
	// Away counts clients that were turned away, LastAway says who was last.
	Away     int    `json:"away"`
	LastAway string `json:"lastAway,omitempty"`
	// Rivals are others who say that they have its station, too.
	Rivals []string `json:"rivals,omitempty"`
	// Strangers are certificates in DER of clients that were refused for them.
	Strangers [][]byte `json:"-"`
}

// serving is one device that Ferry is, and the posts at which it answers.
type serving struct {
	*Served
	posts     []string // by their keys
	crossings []site.Crossing
}

// servedPlace is where Ferry answers for one port of a device.
type servedPlace struct {
	key, listen string
	def         *protocol.Def
	speaks      Driver
	station     int
	format      *serial.Format // on a serial line
}

// placesServed lists where Ferry is to answer as a device. The lock is held.
func (e *Engine) placesServed(d *site.Device) (list []servedPlace, err error) {
	for i := range d.Ports {
		port := &d.Ports[i]
		line := e.site.Line(port.Line)
		if line == nil || port.Protocol == "" {
			continue
		}
		driver, def, err := DriverOf(port.Protocol)
		if err != nil {
			return nil, problem.From(err, "protocol").At(d.Name)
		}
		ok := CanAnswer(driver)
		if _, onLine := driver.(LineAnswerer); line.Medium == site.SerialLine {
			ok = onLine
		}
		if !ok {
			return nil, problem.New("cannot-answer", "Ferry does not answer in "+def.Title+" itself.",
				"Choose another protocol for the port, or let a device of its own answer.").At(d.Name)
		}
		place := servedPlace{def: def, speaks: driver}
		place.station, _ = def.StationOf(port.Settings)
		switch {
		case line.Medium == site.SerialLine:
			if err := e.servedLine(d, line, &place); err != nil {
				return nil, err
			}
		case e.door.mode == Bench:
			place.listen = e.standIns.Post(port)
		case port.Host == "":
			return nil, problem.New("no-address", d.Name+" has no address at which Ferry could answer.",
				"Give its port an address of this machine.").At(d.Name)
		default:
			place.listen = net.JoinHostPort(port.Host, strconv.Itoa(def.Int(port.Settings, protocol.KeyPort)))
		}
		place.key = def.Name + " " + place.listen
		list = append(list, place)
	}
	if len(list) == 0 {
		return nil, problem.New("no-port", d.Name+" has no port in which it answers.",
			"Add one in its panel, with the protocol.").At(d.Name)
	}
	return list, nil
}

// servedLine finds the serial port at which Ferry is to answer on a line. It asks
// nobody there at the same time. The lock is held.
func (e *Engine) servedLine(d *site.Device, line *site.Line, place *servedPlace) error {
	switch {
	case e.door.mode == Bench:
		return problem.New("bench-line", "On the bench nobody asks "+d.Name+" on "+line.Name+
			": its serial line is simulated from the other end.", "Go to the plant, with a serial port of this machine.").
			At(d.Name)
	case line.Here == "":
		return problem.New("no-port-here", line.Name+" has no serial port of this machine.",
			"Choose one in the panel of the line.").At(line.Name)
	}
	for id := range e.runners {
		if l := e.site.Link(id); l != nil && l.Line == line.ID {
			return problem.New("line-asked", "Ferry asks on "+line.Name+" itself: a line has one asker, and that is not who "+
				"answers.", "Stop its links first.").At(line.Name)
		}
	}
	format := line.SerialOf(d.Port(line.ID)).Format()
	place.listen, place.format = line.Here, &format
	return nil
}

// servedAt reports whether Ferry answers at a serial port. The lock is held.
func (e *Engine) servedAt(path string) bool {
	for _, post := range e.posts {
		if post.format != nil && post.Listen == path {
			return true
		}
	}
	return false
}

// carriedInto says from which points crossings carry into each, also those that are
// switched off: what they gave last is held. The lock is held.
func carriedInto(s *site.Site) map[string][]string {
	into := map[string][]string{}
	for i := range s.Crossings {
		x := &s.Crossings[i]
		into[x.To] = append(into[x.To], x.Sources()...)
		if to := x.QualityTo; to != "" {
			into[to] = append(into[to], x.Sources()...)
		}
	}
	return into
}

// serve begins to answer as a device, or goes on with it as it is now. The lock is
// held.
func (e *Engine) serve(d *site.Device) error {
	places, err := e.placesServed(d)
	if err != nil {
		return err
	}
	now := e.serving[d.ID]
	fresh := now == nil
	if fresh {
		now = &serving{Served: &Served{hub: e.Hub, era: e.Hub.Era(), mode: e.door.mode, wrote: e.clientWrote,
			origins: map[string]Origin{}, takers: map[string][]*carrier{}, given: map[string]*handed{}}}
	}
	device := *d
	if err := now.follow(&device, carriedInto(e.site)); err != nil {
		return problem.New("cannot-serve", err.Error()+".", "Change its map.").At(d.Name)
	}
	now.crossings = e.site.Crossings
	e.leave(now)
	e.serving[d.ID] = now
	for _, place := range places {
		post := e.posts[place.key]
		if post == nil {
			post = &Post{Listen: place.listen, format: place.format, def: place.def, speaks: place.speaks,
				kept: e.Kept, done: make(chan struct{}), ends: map[int]*Served{}, clients: map[*Client]net.Conn{}}
			post.ctx, post.end = context.WithCancel(e.door.life)
			e.posts[place.key] = post
			go post.listen()
		}
		post.mu.Lock()
		post.ends[place.station] = now.Served
		post.rules()
		post.mu.Unlock()
		now.posts = append(now.posts, place.key)
	}
	e.sweepPosts()
	return nil
}

// rules puts together who is let in by all that answer here: whoever any of them
// lets in, and as many as the one that takes the most. The lock is held.
func (p *Post) rules() {
	p.serving = site.Serving{MostClients: 1}
	open := false
	for _, end := range p.ends {
		s := end.device.Serving
		p.serving.MostClients = max(p.serving.MostClients, s.Clients())
		open = open || len(s.Allow) == 0
		p.serving.Allow = append(p.serving.Allow, s.Allow...)
	}
	if open {
		p.serving.Allow = nil
	}
	for c, conn := range p.clients { // who is no longer let in is hung up on
		if conn == nil {
			continue // a line lets nobody in, and of datagrams each is looked at
		}
		if at := conn.RemoteAddr().(*net.TCPAddr).AddrPort().Addr(); !p.serving.Lets(at) {
			_ = conn.Close()
			p.turned(c, "is no longer in the list of clients")
		}
	}
}

// leave takes a device from its posts. The lock is held.
func (e *Engine) leave(s *serving) {
	for _, key := range s.posts {
		post := e.posts[key]
		post.mu.Lock()
		for station, end := range post.ends {
			if end == s.Served {
				delete(post.ends, station)
			}
		}
		post.mu.Unlock()
	}
	s.posts = nil
}

// sweepPosts ends the posts at which nobody answers any more. The lock is held.
func (e *Engine) sweepPosts() (ending []<-chan struct{}) {
	for key, post := range e.posts {
		post.mu.RLock()
		left := len(post.ends)
		post.mu.RUnlock()
		if left == 0 {
			post.end()
			ending = append(ending, post.done)
			delete(e.posts, key)
		}
	}
	return ending
}

// unserve ends to answer as a device. The lock is held.
func (e *Engine) unserve(id string) []<-chan struct{} {
	s := e.serving[id]
	if s == nil {
		return nil
	}
	e.leave(s)
	delete(e.serving, id)
	e.Hub.left(s.source)
	return e.sweepPosts()
}

// reserve lets what Ferry serves follow the site. The lock is held.
func (e *Engine) reserve() {
	for id := range e.want {
		d := e.site.Device(id)
		switch {
		case d == nil || !d.Served():
			if e.serving[id] != nil {
				e.unserve(id)
				delete(e.want, id)
			}
		default:
			now := e.serving[id]
			if now != nil && sameServing(now, d, e.site.Crossings) {
				continue
			}
			if err := e.serve(d); err != nil {
				e.unserve(id)
				delete(e.want, id)
				e.notServed[id] = problem.From(err, "serve").Error()
			}
		}
	}
}

// sameServing reports whether a device is served as it is in the site.
func sameServing(now *serving, d *site.Device, crossings []site.Crossing) bool {
	was := now.device
	return d.SharesPoints(was) && len(d.Points) == len(was.Points) && len(d.Ports) == len(was.Ports) &&
		(len(d.Ports) == 0 || &d.Ports[0] == &was.Ports[0]) && d.Serving == was.Serving && d.Name == was.Name &&
		len(crossings) == len(now.crossings) && (len(crossings) == 0 || &crossings[0] == &now.crossings[0])
}

// Serving returns what Ferry does as devices, in the order of the site.
func (e *Engine) Serving() []ServingState {
	e.mu.Lock()
	defer e.mu.Unlock()
	list := []ServingState{}
	for i := range e.site.Devices {
		d := &e.site.Devices[i]
		s := e.serving[d.ID]
		if s == nil {
			if why := e.notServed[d.ID]; why != "" && d.Served() {
				list = append(list, ServingState{Device: d.ID, Listens: []string{}, Clients: []ClientState{},
					Sentence: why})
			}
			continue
		}
		state := ServingState{Device: d.ID, Listens: []string{}, Clients: []ClientState{}}
		for _, key := range s.posts {
			e.posts[key].show(&state)
			for _, station := range e.posts[key].Stations() {
				if e.posts[key].End(station) == s.Served {
					state.Rivals = append(state.Rivals, e.posts[key].Rivals(station)...)
				}
			}
		}
		list = append(list, state)
	}
	return list
}

func (p *Post) show(state *ServingState) {
	p.mu.RLock()
	defer p.mu.RUnlock()
	state.Strangers = append(state.Strangers, p.strangers...)
	state.Listens = append(state.Listens, p.Listen)
	if p.failed != "" {
		state.Sentence = p.failed
	}
	state.Away += p.away
	if p.lastAway != "" {
		state.LastAway = p.lastAway
	}
	for c := range p.clients {
		state.Clients = append(state.Clients, ClientState{c.From, c.Since.UnixMilli(), c.asked.Load(), c.refused.Load(),
			c.wrote.Load(), c.last.Load()})
	}
	slices.SortFunc(state.Clients, func(a, b ClientState) int {
		return cmp.Or(cmp.Compare(a.SinceMs, b.SinceMs), cmp.Compare(a.From, b.From))
	})
}

// mostClientRecords bounds the open records of what clients wrote.
const mostClientRecords = 4096

// clientWrote has the journal know what a client wrote, one record for each point
// and client as long as both go on.
func (e *Engine) clientWrote(d *Served, c *Client, written []image.Written) {
	c.wrote.Add(1)
	who := c.From
	if host, _, err := net.SplitHostPort(who); err == nil {
		who = host
	}
	who = "client " + who
	d.mu.RLock()
	device := d.device
	d.mu.RUnlock()
	now := time.Now().UnixMilli()
	e.overMu.Lock()
	defer e.overMu.Unlock()
	for _, w := range written {
		key := who + "\x00" + w.Point.ID
		r := e.clients[key]
		shown := w.Point.Shown(w.Point.Scale().Apply(w.Raw))
		if r == nil {
			if len(e.clients) >= mostClientRecords {
				clear(e.clients) // the records stay in the journal; others begin
			}
			scheme, err := device.SchemeOf(w.Point)
			if err != nil {
				continue
			}
			r = &Record{Who: who, State: Done, AtMs: now,
				Order: WriteOrder{Point: w.Point.ID, Name: w.Point.Name, Device: device.Name, Target: "Ferry itself",
					Address: scheme.Short(w.Point.Address), Unit: w.Point.Unit, Mode: d.mode}}
			e.clients[key] = r
		}
		r.Count++
		r.Order.New, r.Last, r.EndMs = shown, shown, now
		e.clientsDirty[r] = true
	}
}

// clientRecord is a record of a client as it was when the journal was to know it.
type clientRecord struct {
	now  *Record
	then Record
}

// clientRecords returns the records of clients that the journal does not know as
// they are. The lock overMu is held.
func (e *Engine) clientRecords() (list []*clientRecord) {
	for r := range e.clientsDirty {
		list = append(list, &clientRecord{r, *r})
	}
	return list
}

// keptClient notes that the journal knows a record of a client. The lock overMu is
// held.
func (e *Engine) keptClient(r *clientRecord) {
	if r.now.Count == r.then.Count {
		delete(e.clientsDirty, r.now)
	}
}

// Befriended has the posts of a device forget a certificate that is trusted by now.
func (e *Engine) Befriended(device string, certificate []byte) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if s := e.serving[device]; s != nil {
		for _, key := range s.posts {
			e.posts[key].Befriended(certificate)
		}
	}
}
