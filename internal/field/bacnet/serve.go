package bacnet

import (
	"encoding/binary"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/image"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	target "ferry/internal/target/bacnet"
	wire "ferry/internal/wire/bacnet"
)

// AnswerDatagrams answers as the devices of a post.
func (driver) AnswerDatagrams(p *field.Post, over *field.Datagrams) (hear func(netip.AddrPort, []byte), end func(),
	err error) {
	s := &serving{post: p, over: over, done: make(chan struct{}), devices: map[int]*served{},
		own: over.Own()}
	s.front = target.NewFront(target.Carrier{Send: over.Send, Broadcast: over.Broadcast, Twice: s.twice})
	s.follow()
	s.others.Go(s.watch)
	own := s.own
	return func(from netip.AddrPort, b []byte) {
		if from != own { // what goes to all comes back
			s.front.Hear(from, b)
		}
	}, s.close, nil
}

// joins has broadcasts brought to the subnets that the settings name. What is no address is left out.
func (s *serving) joins(settings protocol.Settings) {
	text := family.IP.Value(settings, family.KeyPeers).Text()
	if text == s.peers {
		return
	}
	s.peers = text
	var list []netip.AddrPort
	for _, word := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ';' || r == ' ' }) {
		if at, err := netip.ParseAddrPort(word); err == nil {
			list = append(list, at)
		} else if at, err := netip.ParseAddr(word); err == nil {
			list = append(list, netip.AddrPortFrom(at.Unmap(), family.UsualPort))
		}
	}
	s.front.Join(list)
}

// serving is what Ferry answers as at a post.
type serving struct {
	post   *field.Post
	over   *field.Datagrams
	own    netip.AddrPort
	front  *target.Front
	done   chan struct{}
	others sync.WaitGroup

	mu      sync.Mutex
	devices map[int]*served // by their instances
	peers   string          // as the settings name them
}

// served is one device that Ferry is.
type served struct {
	serving *serving
	end     *field.Served
	laid    string
	server  *target.Server

	mu     sync.Mutex
	by     map[string]wire.ObjectID // objects of points
	points map[wire.ObjectID]string
	was    map[string]status // what was told of each last
	stops  func()            // hearing of values
	waits  []heard
	looked time.Time // when all points were looked at last
	fed    chan struct{}
	gone   chan struct{}
}

// heard is a value that came to stand in a point.
type heard struct {
	point string
	is    field.Standing
}

// status is what was told of a point.
type status struct {
	quality value.Quality
	silent  bool
}

// How soon a changed map is served, and how soon it is seen that what stands somewhere is doubted, if nobody says so
// before: thousands of points are looked at more seldom.
const (
	looksEvery = 300 * time.Millisecond
	lookCosts  = 50 * time.Microsecond // a point
)

func (s *serving) close() {
	close(s.done)
	s.mu.Lock()
	for _, d := range s.devices {
		d.close()
	}
	s.devices = nil
	s.mu.Unlock()
	s.others.Wait()
}

// watch follows which devices there are, what they have, and what is doubted.
func (s *serving) watch() {
	tick := time.NewTicker(looksEvery)
	defer tick.Stop()
	sought := time.Now()
	for {
		select {
		case <-s.done:
			return
		case <-tick.C:
		}
		s.follow()
		seeks := time.Since(sought) >= field.RivalFor/3
		if seeks {
			sought = time.Now()
		}
		s.mu.Lock()
		for station, d := range s.devices {
			if d.doubts(); seeks && len(s.post.Rivals(station)) > 0 {
				s.front.Seek(d.server) // is it so still?
			}
		}
		s.mu.Unlock()
	}
}

// twice notes who else says that it has the instance of a device here.
func (s *serving) twice(of *target.Server, from netip.AddrPort, behind wire.Station) {
	if from == s.own && behind == of.Station() || s.own.Addr().IsUnspecified() {
		return // what was said to all was brought back
	}
	who := from.String()
	if behind.Network != 0 {
		who = fmt.Sprintf("a device in network %d behind %s", behind.Network, from)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for station, d := range s.devices {
		if d.server == of {
			s.post.Rival(station, who)
		}
	}
}

// follow has those devices answer that there are now.
func (s *serving) follow() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.devices == nil {
		return // it ends
	}
	stations := s.post.Stations()
	for station, d := range s.devices {
		if !slices.Contains(stations, station) || s.post.End(station) != d.end || d.laidFor(station) != d.laid &&
			d.moved(station) {
			s.front.Remove(d.server)
			d.close()
			delete(s.devices, station)
		}
	}
	for _, station := range stations {
		end := s.post.End(station)
		if end == nil {
			continue
		}
		if settings := end.Settings(family.IP.Name); where(station, settings) == (wire.Station{}) {
			s.joins(settings)
		}
		d := s.devices[station]
		if d == nil {
			d = s.begin(station, end)
			s.devices[station] = d
			s.front.Announce(d.server)
			s.front.Seek(d.server)
		} else if is := d.laidFor(station); is != d.laid {
			d.laid = is
			device, objects := d.made(station)
			d.server.Replace(device, objects)
			d.hear()
		}
	}
}

// where is the place of a device, behind a network number or not.
func where(station int, settings protocol.Settings) wire.Station {
	network := family.IP.Int(settings, family.KeyNetwork)
	if network == 0 {
		return wire.Station{}
	}
	octets := binary.BigEndian.AppendUint32(nil, uint32(station))
	return wire.Station{Network: uint16(network), Address: string(octets[1:])}
}

func (d *served) laidFor(int) string {
	settings := d.end.Settings(family.IP.Name)
	return fmt.Sprintf("%d %s %s %v %v", d.end.Laid(), d.end.Name(), family.IP.Value(settings, family.KeyName).Text(),
		family.IP.Int(settings, family.KeyNetwork), d.end.ReadOnly())
}

// moved reports whether the device is at another place now.
func (d *served) moved(station int) bool {
	return d.server.Station() != where(station, d.end.Settings(family.IP.Name))
}

func (s *serving) begin(station int, end *field.Served) *served {
	d := &served{serving: s, end: end, stops: func() {}, fed: make(chan struct{}, 1), gone: make(chan struct{})}
	d.laid = d.laidFor(station)
	device, objects := d.made(station)
	d.server = target.New(target.Config{Station: where(station, end.Settings(family.IP.Name)), Send: s.over.Send,
		Write: d.write, Lets: func(by netip.AddrPort) bool { return s.post.Asker(by) != nil },
		Asked: func(by netip.AddrPort, refused bool) {
			if c := s.post.AskerAt(by); c != nil {
				if c.Asked(); refused {
					c.Refuse()
				}
			}
		}, Gave: d.gave}, device, objects)
	s.front.Put(d.server)
	d.hear()
	s.others.Go(d.feed)
	return d
}

// close ends it.
func (d *served) close() {
	close(d.gone)
	d.stops()
	d.server.Close()
}

// feed hands on what was heard, in its order: whoever tells of it may hold what the server waits for.
func (d *served) feed() {
	for {
		select {
		case <-d.gone:
			return
		case <-d.fed:
		}
		d.mu.Lock()
		waits := d.waits
		d.waits = nil
		d.mu.Unlock()
		for i := range waits {
			d.set(waits[i].point, &waits[i].is)
		}
	}
}

// made is the device as its map is.
func (d *served) made(station int) (target.Device, []*target.Object) {
	settings := d.end.Settings(family.IP.Name)
	name := family.IP.Value(settings, family.KeyName).Text()
	if name == "" {
		name = d.end.Name()
	}
	var held []protocol.Held
	readOnly := d.end.ReadOnly()
	ids := map[string]string{}
	for _, p := range d.end.Names() {
		h := heldOf(p)
		h.Writable = !readOnly && p.Access != site.ReadOnly
		held = append(held, h)
		ids[p.Address.String()] = p.ID
	}
	objects, by := target.Made(held)
	d.mu.Lock()
	defer d.mu.Unlock()
	d.by, d.points, d.was = map[string]wire.ObjectID{}, map[wire.ObjectID]string{}, map[string]status{}
	for at, id := range by {
		d.by[ids[at]], d.points[id] = id, ids[at]
	}
	return target.Device{Instance: uint32(station), Name: name, Vendor: "Ferry", Model: "Ferry", Version: "1"}, objects
}

// heldOf is what an object says of a point: its value is that before any scale.
func heldOf(p *site.Point) protocol.Held {
	h := protocol.Held{Address: p.Address, Name: p.Name, Shape: p.Shape(0), Remark: p.Remark, Names: p.States(),
		Band: p.Band}
	if p.Range == nil && p.Scale().IsIdentity() {
		h.Unit, h.Low, h.High = p.Unit, p.Low, p.High
	}
	return h
}

// hear has the server told of all points, as they are and whenever they change.
func (d *served) hear() {
	d.stops()
	d.stops = d.end.Hear(func(point string, is field.Standing) {
		d.mu.Lock()
		defer d.mu.Unlock()
		d.waits = append(d.waits, heard{point, is})
		select {
		case d.fed <- struct{}{}:
		default:
		}
	})
	d.mu.Lock()
	points := make([]string, 0, len(d.by))
	for point := range d.by {
		points = append(points, point)
	}
	d.mu.Unlock()
	for _, point := range points {
		is := d.end.Standing(point)
		d.set(point, &is)
	}
}

// doubts has what is doubted now, or no longer, told.
func (d *served) doubts() {
	d.mu.Lock()
	due := time.Since(d.looked) >= time.Duration(len(d.was))*lookCosts
	busy := len(d.waits) > 0
	var was map[string]status
	if due && !busy { // what waits is newer
		was, d.looked = maps.Clone(d.was), time.Now()
	}
	d.mu.Unlock()
	for point, s := range was {
		if is := d.end.Standing(point); (status{is.Quality, is.Silent}) != s {
			d.set(point, &is)
		}
	}
}

// set has a point stand as it is.
func (d *served) set(point string, is *field.Standing) {
	d.mu.Lock()
	id, ok := d.by[point]
	d.was[point] = status{is.Quality, is.Silent}
	d.mu.Unlock()
	if !ok {
		return
	}
	flags, reliability := target.Status(is.Quality, is.Silent)
	v := wire.Null()
	if !is.Value.IsNone() {
		out, err := wire.Of(family.Type(id.Type()), "", is.Value)
		if err != nil {
			flags, reliability = target.Fault, target.OverRange
		} else {
			v = out
		}
	}
	d.server.Set(id, target.Standing{Value: v, Flags: flags, Reliability: reliability,
		Commanded: is.Origin == field.Origin{}, Mark: &mark{d.end, point, *is}})
}

// mark is a value of a point, as it was served.
type mark struct {
	end   *field.Served
	point string
	is    field.Standing
}

// gave notes what a client was given.
func (d *served) gave(to netip.AddrPort, marks []any, reported bool) {
	c := d.serving.post.AskerAt(to)
	for _, each := range marks {
		if m, ok := each.(*mark); ok {
			m.end.Gave(c, m.point, &m.is, reported)
		}
	}
}

// write takes a value of a client.
func (d *served) write(by netip.AddrPort, o wire.ObjectID, v wire.Value) *wire.Failure {
	d.mu.Lock()
	point, known := d.points[o]
	d.mu.Unlock()
	c := d.serving.post.AskerAt(by)
	raw, err := v.Native()
	if !known || c == nil || err != nil {
		return &wire.Failure{Class: classProperty, Code: writeDenied}
	}
	switch d.end.Take(c, point, raw) {
	case image.None:
		return nil
	case image.BadValue:
		return &wire.Failure{Class: classProperty, Code: valueOutOfRange}
	case image.NoTaker:
		return &wire.Failure{Class: classDevice, Code: operationalProblem}
	}
	return &wire.Failure{Class: classProperty, Code: writeDenied}
}

// Errors of writes (clause 18).
const (
	classDevice        = 0
	classProperty      = 2
	writeDenied        = 40
	valueOutOfRange    = 37
	operationalProblem = 25
)
