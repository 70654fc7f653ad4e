package bench

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"maps"
	"net"
	neturl "net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// FirstPort is the loopback port that the first stand-in takes if it is free.
const FirstPort = 15021

// Bench is the stand-ins of a site's devices.
type Bench struct {
	// InProcess has serial lines simulated inside this program, as on systems
	// without pseudo-terminals; to be set before the first Sync.
	InProcess bool

	mu      sync.Mutex
	servers map[string]*Server // by standInID
	made    map[string]string  // what each was made from
	from    map[string]site.Device
	lines   map[string]*serialLine // by line
	posts   map[string]string      // where Ferry itself answers, by the place on the plant
	dark    io.Closer              // port of addresses at which nobody is
	darkAt  string
	// darkPackets takes datagrams there, and answers none.
	darkPackets net.PacketConn
	next        int
	catcher     *Catcher
	calls       map[string]*calling // of devices that Ferry is
}

func (b *Bench) terminal() func() (terminal, error) {
	if b.InProcess {
		return newPipe
	}
	return newTerminal
}

// New returns a bench without stand-ins.
func New() *Bench {
	return &Bench{servers: map[string]*Server{}, made: map[string]string{}, from: map[string]site.Device{},
		lines: map[string]*serialLine{}, posts: map[string]string{}, next: FirstPort,
		calls: map[string]*calling{}}
}

// StandIn is one simulated device or line, as it is shown.
type StandIn struct {
	Device string `json:"device"` // or line
	Place  Place  `json:"place"`
	// Protocol that it speaks; empty for a line.
	Protocol string `json:"protocol,omitempty"`
	Name     string `json:"name"`
	Addr     string `json:"addr"` // host and port on loopback
	URL      string `json:"url"`
	Fault    Fault  `json:"fault"`
}

// Sync starts stand-ins for the devices of a site that answer, and ends those
// of devices that are gone. A stand-in is made anew only when what it is made
// from has changed: its model, its unit, or its map if no model describes it.
func (b *Bench) Sync(s *site.Site) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	var errs []error
	wanted := map[string]bool{}
	for d, port := range answering(s) {
		if s.Line(port.Line).Medium != site.Ethernet {
			continue
		}
		id := standInID(d, port)
		wanted[id] = true
		if old, ok := b.from[id]; ok && d.SharesPoints(&old) && len(d.Ports) > 0 && len(old.Ports) == len(d.Ports) &&
			&d.Ports[0] == &old.Ports[0] && d.Bench == old.Bench && d.Model == old.Model {
			continue // the very same
		}
		print := made(d, port)
		if b.made[id] == print {
			if server := b.servers[id]; ownAnswers(server.speech) { // who is on it stays
				server.Memory.follow(simulate(d, port).Memory)
			}
			b.from[id] = *d
			continue
		}
		delete(b.from, id)
		fault, at := Fault{}, 0
		if old := b.servers[id]; old != nil {
			fault, at = old.Fault(), old.port
			errs = append(errs, old.Close())
		} else {
			at = b.next
			b.next++
		}
		server, err := b.start(d, port, at)
		if err != nil {
			errs = append(errs, fmt.Errorf("stand-in of %s: %w", d.Name, err))
			continue
		}
		b.servers[id], b.made[id], b.from[id] = server, print, *d
		if fault.Kind != "" {
			errs = append(errs, server.SetFault(fault))
		}
	}
	for id, server := range b.servers {
		if !wanted[id] {
			errs = append(errs, server.Close())
			delete(b.servers, id)
			delete(b.made, id)
			delete(b.from, id)
		}
	}
	b.endCalls(s)
	return errors.Join(append(errs, b.syncLines(s))...)
}

// answering goes through the ports of a site at which a stand-in answers, with
// their devices.
func answering(s *site.Site) iter.Seq2[*site.Device, *site.Port] {
	return func(yield func(*site.Device, *site.Port) bool) {
		for i := range s.Devices {
			d := &s.Devices[i]
			if d.Served() {
				continue // Ferry itself answers
			}
			for k := range d.Ports {
				p := &d.Ports[k]
				if _, ok := speeches[p.Protocol]; !ok || p.Host == "" && s.Line(p.Line).Medium != site.SerialLine {
					continue
				}
				if !yield(d, p) {
					return
				}
				if p.Pair != nil {
					if second := secondOf(d, p); !yield(second, &second.Ports[0]) {
						return
					}
				}
			}
		}
	}
}

// standInID tells the stand-ins of a device apart, which has one for each port.
// secondOf is the device at the second address of a port, which has a stand-in and
// faults of its own.
func secondOf(d *site.Device, p *site.Port) *site.Device {
	second := *d
	second.ID, second.Name = SecondID(d.ID), d.Name+", second"
	second.Ports = []site.Port{p.Second()}
	return &second
}

// SecondID names the stand-in at the second address of a device.
func SecondID(device string) string { return device + "/second" }

// Second is where the stand-in at the second address of a link's device is.
func (b *Bench) Second(s *site.Site, link *site.Link) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	device := s.Device(link.Answering)
	if device == nil || device.PortFor(link) == nil || device.PortFor(link).Pair == nil {
		return b.nobody()
	}
	second := secondOf(device, device.PortFor(link))
	server := b.servers[standInID(second, &second.Ports[0])]
	if server == nil {
		return b.nobody()
	}
	return server.Addr()
}

func standInID(d *site.Device, port *site.Port) string {
	return d.ID + "\x00" + port.Line + "\x00" + port.Protocol
}

// of returns the stand-ins of a device on networks. The lock is held.
func (b *Bench) of(device string) (list []*Server) {
	for _, id := range slices.Sorted(maps.Keys(b.servers)) {
		if strings.HasPrefix(id, device+"\x00") {
			list = append(list, b.servers[id])
		}
	}
	return list
}

// made prints what a stand-in is made from. One that is a server of its own follows its
// map instead: whoever is on it, and what was left there, stays.
func made(d *site.Device, port *site.Port) string {
	parts := []any{d.Bench, port.Settings, port.Protocol, port.Serial, d.Model}
	if scheme, err := protocol.SchemeOf(port.Protocol); err == nil && !ownAnswers(speeches[port.Protocol]) &&
		!models()[d.Bench].fits(scheme) {
		parts = append(parts, d.In(port.Protocol).Points)
	}
	data, err := json.Marshal(parts)
	if err != nil {
		return err.Error()
	}
	return string(data)
}

func (b *Bench) start(d *site.Device, port *site.Port, at int) (*Server, error) {
	speech, device := speeches[port.Protocol], simulate(d, port)
	server, err := newServer(at, speech, device)
	if err != nil {
		server, err = newServer(0, speech, device)
	}
	return server, err
}

// simulate makes a device as its model says, or as its own map says where it
// has none.
func simulate(d *site.Device, port *site.Port) Simulated {
	def, _ := protocol.Named(port.Protocol)
	m, ok := models()[d.Bench]
	signals, identity, beyond := followMap(def.Scheme, d.In(port.Protocol)), d.Model, usualBeyond
	if ok = ok && m.fits(def.Scheme); ok {
		signals, identity = m.signals(def.Scheme), m.Identity
	} else {
		m = model{}
	}
	if m.Tight {
		beyond = 0
	}
	if c, has := def.Configures(); has {
		area, _, _ := c.Configured(port.Settings) // an area alone: the octets come with a connection
		for i := range signals {
			if signals[i].area == area {
				signals[i].at = nil
			}
		}
	}
	return Simulated{Def: def, Settings: port.Settings, Identity: identity, Name: d.Name, Habits: m.Habits,
		Think:  time.Duration(def.Int(port.Settings, protocol.KeyThink)) * time.Millisecond,
		Memory: newMemory(octetsIn(def.Scheme), signals, beyond, time.Now())}
}

// Dial returns where a link finds the stand-in of its answering end. A link
// that asks another port than the device listens on finds nobody there, and
// one that asks an address of no device finds silence: just as on a plant.
func (b *Bench) Dial(s *site.Site, link *site.Link) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	if line := b.lines[link.Line]; line != nil {
		return line.path
	}
	device := s.Device(link.Answering)
	if device == nil || device.PortFor(link) == nil {
		return b.nobody()
	}
	if device.Served() {
		return b.post(device.PortFor(link))
	}
	server := b.servers[standInID(device, device.PortFor(link))]
	if server == nil {
		return b.nobody()
	}
	def, _ := protocol.Named(link.Protocol)
	if def.Int(link.Settings, protocol.KeyPort) != def.Int(device.PortFor(link).Settings, protocol.KeyPort) {
		return loopback(1) // a port on which nothing listens
	}
	return server.Addr()
}

// Post returns where on loopback Ferry itself answers on the bench, in the place
// of a port on the plant. Devices that answer at one address and port there do so
// here.
func (b *Bench) Post(port *site.Port) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.post(port)
}

func (b *Bench) post(port *site.Port) string {
	def, _ := protocol.Named(port.Protocol)
	place := port.Line + " " + net.JoinHostPort(port.Host, strconv.Itoa(def.Int(port.Settings, protocol.KeyPort)))
	if b.posts[place] == "" {
		for b.next < 1<<16 {
			at := loopback(b.next)
			b.next++
			if free(at) {
				b.posts[place] = at
				break
			}
		}
	}
	return b.posts[place]
}

// free reports whether nobody has a place, for connections or for datagrams.
func free(at string) bool {
	probe, err := net.Listen("tcp", at)
	if err != nil || probe.Close() != nil {
		return false
	}
	packets, err := net.ListenPacket("udp4", at)
	return err == nil && packets.Close() == nil
}

// withSettings adds the settings to a URL by which an end is told apart from
// others: those of both ends but the port, and those that suit it where each end has its
// own, with the configuration that it holds.
func withSettings(url string, port *site.Port, by string, holds *Memory) string {
	def, _ := protocol.Named(port.Protocol)
	for _, s := range def.Settings {
		if s.End == protocol.BothEnds && s.Key != protocol.KeyPort {
			url += by + s.Key + "=" + def.Value(port.Settings, s.Key).String()
			by = "&"
		}
	}
	if rules, ok := def.Faces(); ok {
		suits := rules.Suits(port.Settings)
		if c, ok := def.Configures(); ok {
			if n := c.Wants(port.Settings, port.Knows); n > 0 {
				area, _, _ := c.Configured(nil)
				if held, ok := holds.Read(area, 0, n); ok {
					maps.Copy(suits, c.Configure(held))
				}
			}
		}
		for _, s := range def.Settings {
			if v, is := suits[s.Key]; is && v != def.Value(nil, s.Key) {
				url += by + s.Key + "=" + neturl.QueryEscape(v.String())
				by = "&"
			}
		}
	}
	return url
}

func (b *Bench) nobody() string {
	if b.dark == nil {
		probe, err := net.Listen("tcp", loopback(0))
		if err != nil {
			return loopback(1)
		}
		at := probe.Addr().(*net.TCPAddr).Port
		if err := probe.Close(); err == nil {
			b.dark, err = blackHole(at)
			if err != nil {
				return loopback(1)
			}
			b.darkPackets, _ = net.ListenPacket("udp4", loopback(at)) // without it datagrams are refused, and not silent
		}
		b.darkAt = loopback(at)
	}
	return b.darkAt
}

// List returns the stand-ins in the order of the site's devices, then the lines.
func (b *Bench) List(s *site.Site) []StandIn {
	b.mu.Lock()
	defer b.mu.Unlock()
	list := []StandIn{}
	for d, port := range answering(s) {
		if line := b.lines[port.Line]; line != nil {
			f := s.Line(port.Line).Format()
			url := fmt.Sprintf("%s://%s?baud=%d&parity=%s&data=%d&stop=%d", port.Protocol, line.path, f.Baud,
				f.Frame()[1:2], f.Data, f.Stop)
			list = append(list, StandIn{d.ID, OverSerial, port.Protocol, d.Name, line.path,
				withSettings(url, port, "&", nil), line.faultOf(d.ID)})
		} else if server := b.servers[standInID(d, port)]; server != nil {
			list = append(list, StandIn{d.ID, OverTCP, port.Protocol, d.Name, server.Addr(),
				withSettings(port.Protocol+"://"+server.Addr(), port, "?", server.Memory), server.Fault()})
		}
	}
	for i := range s.Lines {
		if line := b.lines[s.Lines[i].ID]; line != nil {
			list = append(list,
				StandIn{s.Lines[i].ID, OfLine, "", s.Lines[i].Name, line.path, line.path, line.faultOf("")})
		}
	}
	return list
}

// SetFault switches a fault of one device or line on, or off with the zero
// Fault.
func (b *Bench) SetFault(id string, f Fault) error {
	b.mu.Lock()
	servers, line, place, speaks := b.of(id), b.lines[id], OverTCP, ""
	if line != nil {
		place = OfLine
	} else if len(servers) == 0 {
		for _, l := range b.lines {
			if l.has(id) {
				line, place, speaks = l, OverSerial, l.protocolOf(id)
			}
		}
	}
	// A device with several ports has the fault at each that can have it.
	for _, s := range servers {
		if speaks == "" || f.fits(place, s.Def.Name) {
			speaks = s.Def.Name
		}
	}
	b.mu.Unlock()
	if len(servers) == 0 && line == nil {
		return problem.New("no-stand-in", "The device has no stand-in on the bench.",
			"Give it a port that answers.").At(id)
	}
	if !f.fits(place, speaks) {
		return problem.New("bad-fault",
			fmt.Sprintf("%q with %d is no fault that the bench has for it.", f.Kind, f.Value),
			"Choose another, or a value within its limits.")
	}
	if line != nil {
		if place == OfLine {
			id = ""
		}
		line.setFault(id, f)
		return nil
	}
	for _, server := range servers {
		fault := f
		if !f.fits(place, server.Def.Name) {
			fault = Fault{}
		}
		if err := server.SetFault(fault); err != nil {
			return problem.New("bench", "The stand-in could not be switched: "+err.Error()+".", "Try again.").At(id)
		}
	}
	return nil
}

// Close ends every stand-in.
func (b *Bench) Close() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	var errs []error
	for _, server := range b.servers {
		errs = append(errs, server.Close())
	}
	for id, line := range b.lines {
		errs = append(errs, line.Close())
		delete(b.lines, id)
	}
	for id, c := range b.calls {
		c.end()
		<-c.done
		delete(b.calls, id)
	}
	clear(b.servers)
	clear(b.made)
	clear(b.from)
	if b.dark != nil {
		errs = append(errs, b.dark.Close())
		b.dark = nil
		if b.darkPackets != nil {
			errs = append(errs, b.darkPackets.Close())
			b.darkPackets = nil
		}
	}
	if b.catcher != nil {
		errs = append(errs, b.catcher.Close())
		b.catcher = nil
	}
	return errors.Join(errs...)
}

// Models names the kinds of simulated device.
func Models() []string { return slices.Sorted(maps.Keys(models())) }
