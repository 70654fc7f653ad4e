package field

import (
	"cmp"
	"context"
	"net"
	"slices"
	"sync"
	"time"

	"ferry/internal/core/image"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Answerer is a Driver whose protocol Ferry can answer itself, over streams of
// octets, request by request.
type Answerer interface {
	// Speech begins what is said with one client of a post.
	Speech(p *Post, c *Client) Speech
}

// LineAnswerer is an Answerer that can also answer as a station of a serial line.
type LineAnswerer interface {
	// AnswerLine answers at a serial port of this machine until ctx ends, or the port
	// fails.
	AnswerLine(ctx context.Context, path string, f serial.Format, p *Post, c *Client) error
}

// WholeAnswerer is a Driver that answers over connections of its own: what is said over them is
// no pairs of questions and answers.
type WholeAnswerer interface {
	// Have answers a client until the connection ends, or the post.
	Have(p *Post, c *Client, conn net.Conn) error
}

// CanAnswer reports whether Ferry can answer itself in the protocol of a driver.
func CanAnswer(driver Driver) bool {
	_, pairs := driver.(Answerer)
	_, whole := driver.(WholeAnswerer)
	_, datagrams := driver.(DatagramAnswerer)
	return pairs || whole || datagrams
}

// Speech is Ferry's side of one connection. It has one owner at a time.
type Speech interface {
	// Length returns how many octets of what came the first request has, 0 while
	// that is not known yet or not all of them are there. An error ends the
	// connection.
	Length(came []byte) (int, error)
	// Answer appends the answer to a request to dst; nothing where none is due.
	Answer(dst, request []byte) []byte
}

// Served is a device that Ferry is, with its memory.
type Served struct {
	mu     sync.RWMutex
	device *site.Device
	image  *image.Image
	source *source // of its points in the hub
	hub    *Hub
	era    uint64
	mode   Mode
	// wrote is told of what a client wrote, and may not be kept waiting.
	wrote func(d *Served, c *Client, written []image.Written)
	// laid counts how often its map was laid out, feeds are the points that crossings carry into
	// each of its own.
	laid  uint64
	feeds map[string][]string
	heard []Hearer // who is told of its values
	// origins are where the values of its points came from, given is what clients were given of them
	// last, with the lock of it.
	origins map[string]Origin
	// takers are the crossings that carry the commands of a point.
	takers map[string][]*carrier
	giving sync.Mutex
	given  map[string]*handed
}

// Name is how the device says who it is.
func (d *Served) Name() string {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return d.device.Name
}

// Read appends units of an area to dst, as image.Read does; to is the client that is given them, nil
// for none.
func (d *Served) Read(to *Client, dst []byte, area string, start, count int) ([]byte, image.Refusal) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	data, refusal := d.image.Read(dst, area, start, count)
	if refusal == image.None && to != nil {
		d.gaveRun(to, area, start, count)
	}
	return data, refusal
}

// Change carries out what a client writes to units of an area, as image.Change
// does.
func (d *Served) Change(c *Client, area string, start, count int, change func([]byte)) image.Refusal {
	d.mu.Lock()
	if d.device.Serving.ReadOnly {
		d.mu.Unlock()
		return image.ReadOnly
	}
	written, refusal := d.image.Change(area, start, count, change)
	now := time.Now()
	for _, w := range written {
		delete(d.origins, w.Point.ID)
		d.tell(w.Point.ID, now, time.Time{})
	}
	d.mu.Unlock()
	if len(written) > 0 {
		d.wrote(d, c, written)
	}
	return refusal
}

// Replace takes an area as a client sends it whole, again and again; what is another value
// than before is told.
func (d *Served) Replace(c *Client, area string, data []byte) {
	d.mu.Lock()
	if d.device.Serving.ReadOnly {
		d.mu.Unlock()
		return
	}
	written, refused := d.image.Replace(area, data)
	now := time.Now()
	for _, w := range written {
		delete(d.origins, w.Point.ID)
		d.tell(w.Point.ID, now, time.Time{})
	}
	d.mu.Unlock()
	if refused > 0 {
		c.Refuse()
	}
	if len(written) > 0 {
		d.wrote(d, c, written)
	}
}

// Units is how many units of an area there are.
func (d *Served) Units(area string) int {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return d.image.Units(area)
}

// Settings are those of its answering end in a protocol.
func (d *Served) Settings(protocol string) protocol.Settings {
	d.mu.RLock()
	defer d.mu.RUnlock()
	for i := range d.device.Ports {
		if p := &d.device.Ports[i]; p.Protocol == protocol {
			return p.Settings
		}
	}
	return nil
}

// ReadOnly reports whether clients may write nothing at all.
func (d *Served) ReadOnly() bool {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return d.device.Serving.ReadOnly
}

// Writes reports whether an area has anything that clients may write.
func (d *Served) Writes(area string) bool {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return !d.device.Serving.ReadOnly && d.image.Writable(area)
}

// Laid grows whenever its map becomes another.
func (d *Served) Laid() uint64 {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return d.laid
}

// Names lists its points that lie in no area, in the order of the map.
func (d *Served) Names() []*site.Point {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return d.image.Names()
}

// Standing is what stands in a point, before any scale.
type Standing struct {
	Value   value.Value // none where it has none yet
	At      time.Time   // when it was put there, or its source had it
	Quality value.Quality
	Reason  string
	Silent  bool   // it is bad because what it is carried from does not answer
	Origin  Origin // zero where nobody carried it there
}

// Origin is where a value came from that was carried into a point.
type Origin struct {
	From    string    // the point it was made of; the first of several
	Arrived time.Time // when that value arrived
	Source  time.Time // the time of whoever measured it, zero for not known
}

// Standing is what stands in a point of it, as good as what it is carried from.
func (d *Served) Standing(point string) (s Standing) {
	d.mu.RLock()
	raw, _, has := d.image.Raw(point)
	feeds := d.feeds[point]
	s.Origin = d.origins[point]
	d.mu.RUnlock()
	if !has {
		return Standing{Quality: value.Bad, Reason: "nothing has been carried into it yet",
			Silent: slices.ContainsFunc(feeds, d.hub.silent)}
	}
	s.Value, s.Quality = raw, value.Good
	live, _ := d.hub.Point(point)
	s.At = time.UnixMilli(live.AtMs)
	for _, id := range feeds {
		from, ok := d.hub.Point(id)
		switch {
		case !ok:
		case from.Quality == value.Bad, from.Quality == value.Doubtful && s.Quality == value.Good:
			s.Quality, s.Reason = from.Quality, from.Reason
			s.Silent = from.Quality == value.Bad && d.hub.silent(id)
		}
		if ms := cmp.Or(from.SourceMs, from.AtMs); ms > 0 && len(feeds) == 1 {
			s.At = time.UnixMilli(ms)
		}
	}
	return s
}

// Take has a client write a value, before any scale, into a point that lies in no area.
func (d *Served) Take(c *Client, point string, raw value.Value) image.Refusal {
	d.mu.Lock()
	if d.device.Serving.ReadOnly {
		d.mu.Unlock()
		return image.ReadOnly
	}
	written, refusal := d.image.Write(point, raw)
	now := time.Now()
	if refusal == image.None {
		delete(d.origins, point)
		d.tell(point, now, time.Time{})
	}
	heard := d.heard
	d.mu.Unlock()
	if refusal == image.None {
		for _, h := range heard {
			h.told(point, Standing{Value: written.Raw, At: now, Quality: value.Good})
		}
		d.wrote(d, c, []image.Written{written})
	}
	return refusal
}

// Put gives a point a value in engineering units, and returns it as it stands.
func (d *Served) Put(point string, v value.Value, at time.Time, from Origin) (value.Value, error) {
	d.mu.Lock()
	raw, err := d.image.Put(point, v)
	if err == nil {
		d.origins[point] = from
		d.tell(point, at, from.Source)
	}
	heard := d.heard
	d.mu.Unlock()
	if err == nil && len(heard) > 0 {
		s := Standing{Value: raw, At: from.Source, Quality: value.Good, Origin: from}
		if s.At.IsZero() {
			s.At = at
		}
		for _, h := range heard {
			h.told(point, s)
		}
	}
	return raw, err
}

// Hearer is told of each value that comes to stand in a point of a device that Ferry is, and whenever
// what stands there is doubted, or no longer. It keeps nobody waiting.
type Hearer interface {
	told(point string, s Standing)
}

// HearerFunc is a function as a Hearer.
type HearerFunc func(point string, s Standing)

func (f *HearerFunc) told(point string, s Standing) { (*f)(point, s) }

// Hear has somebody told; the returned function ends that.
func (d *Served) Hear(fn HearerFunc) (end func()) {
	h := Hearer(&fn)
	d.mu.Lock()
	defer d.mu.Unlock()
	d.heard = append(slices.Clone(d.heard), h)
	return func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		d.heard = slices.DeleteFunc(slices.Clone(d.heard), func(each Hearer) bool { return each == h })
	}
}

// doubted tells those who hear of a point what it is now.
func (d *Served) doubted(point string) {
	d.mu.RLock()
	heard := d.heard
	d.mu.RUnlock()
	if len(heard) == 0 {
		return
	}
	s := d.Standing(point)
	for _, h := range heard {
		h.told(point, s)
	}
}

// shown prints a raw value of a point.
func (d *Served) shown(id string, raw value.Value) string {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return d.image.Shown(id, raw)
}

// tell has the hub know what stands in a point. The lock is held, so that it
// hears of values in the order in which they came.
func (d *Served) tell(point string, at, source time.Time) {
	if raw, octets, ok := d.image.Raw(point); ok {
		d.hub.told(d.era, &Sampled{ID: point, Value: raw, To: len(octets), Time: source}, octets, at)
	}
}

// follow has the memory laid out by a changed map; what stands in points that mean
// the same stays.
func (d *Served) follow(device *site.Device, feeds map[string][]string) error {
	laid, err := image.New(device, func(id string) bool { return len(feeds[id]) > 0 })
	if err != nil {
		return err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.image != nil {
		laid.Keep(d.image)
	}
	if d.device == nil || !device.SharesPoints(d.device) {
		d.laid++
	}
	d.device, d.image, d.feeds = device, laid, feeds
	d.source = &source{}
	for i := range device.Points {
		if t := d.hub.track(device.Points[i].ID); t != nil {
			d.source.tracks = append(d.source.tracks, t)
		}
	}
	d.hub.sourced(d.source)
	return nil
}

// told takes in one value that came from no link.
func (h *Hub) told(era uint64, s *Sampled, octets []byte, at time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if t := h.points[s.ID]; t != nil && era == h.era {
		h.arrive(t, s, &Report{At: at, Octets: octets}, at.UnixMilli())
	}
}
