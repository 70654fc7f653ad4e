package field

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/netip"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
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
	return pairs || whole
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
		return Standing{Quality: value.Bad, Reason: "nothing has been carried into it yet"}
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

// Post is a place at which Ferry answers: for one device, or for several that
// are told apart by their stations. It is an address and port, or a serial port.
type Post struct {
	Listen string
	format *serial.Format // of a serial port; nil for an address
	def    *protocol.Def
	speaks Driver // an Answerer, or one that has its connections whole
	ctx    context.Context
	end    context.CancelFunc
	done   chan struct{}

	mu       sync.RWMutex
	ends     map[int]*Served // by station; 0 where the protocol has none
	serving  site.Serving    // who is let in: the rules of all that answer here together
	clients  map[*Client]net.Conn
	away     int       // clients turned away, or hung up on
	lastAway string    // and who the last was, and why
	logged   time.Time // when the log was told of one
	failed   string    // why it does not listen
	sharing  sync.Mutex
	shared   any // by all clients; nil before the first
	kept     func(kind protocol.Kind, name string) ([]byte, error)
	// strangers are certificates of clients that are not trusted, in DER, the latest last.
	strangers [][]byte
}

// Shared returns what all clients of the post have in common. It is made for the first,
// and ended with the post.
func (p *Post) Shared(make func() (shared any, end func(), err error)) (any, error) {
	p.sharing.Lock() // not the other lock: what is made may look at the post
	defer p.sharing.Unlock()
	if p.shared == nil && p.ctx.Err() == nil {
		shared, end, err := make()
		if err != nil {
			return nil, err
		}
		p.shared = shared
		context.AfterFunc(p.ctx, end)
	}
	return p.shared, p.ctx.Err()
}

// HaveWhole answers a client of a post over a connection that it has whole: by what all clients of the post
// share, which begin makes for the first.
func HaveWhole[S interface{ Take(conn net.Conn) }](p *Post, conn net.Conn, begin func() (shared S, end func(), err error)) error {
	shared, err := p.Shared(func() (any, func(), error) { return begin() })
	if err != nil {
		return err
	}
	s, ok := shared.(S)
	if !ok {
		return errors.New("the post answers in another protocol")
	}
	s.Take(conn)
	return nil
}

// ClientOf is who asks over a connection; nil for nobody who is there still.
func (p *Post) ClientOf(conn net.Conn) *Client {
	p.mu.RLock()
	defer p.mu.RUnlock()
	for c, over := range p.clients {
		if over == conn && conn != nil {
			return c
		}
	}
	return nil
}

// Secret is a secret or a file that settings of the post name.
func (p *Post) Secret(settings protocol.Settings, key string) ([]byte, error) {
	t := Target{Settings: settings, Kept: p.kept}
	return t.Secret(p.def, key)
}

// Turn notes that a client is not let in, and why; c is nil for who has gone already.
func (p *Post) Turn(c *Client, why string) {
	if c == nil {
		return
	}
	c.Refuse()
	p.mu.Lock()
	defer p.mu.Unlock()
	if now := time.Now(); now.Sub(p.logged) >= time.Second { // whoever comes again and again fills no log
		p.logged = now
		log.Printf("answering at %s: %s %s", p.Listen, c.From, why)
	}
	p.turned(c, why)
}

// mostStrangers is how many certificates are remembered that clients were refused for.
const mostStrangers = 20

// Stranger remembers the certificate of a client that is not trusted, in DER.
func (p *Post) Stranger(certificate []byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.strangers = slices.DeleteFunc(p.strangers, func(c []byte) bool { return bytes.Equal(c, certificate) })
	p.strangers = append(p.strangers[max(0, len(p.strangers)-mostStrangers+1):], slices.Clone(certificate))
}

// Befriended forgets a certificate that is trusted by now.
func (p *Post) Befriended(certificate []byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.strangers = slices.DeleteFunc(p.strangers, func(c []byte) bool { return bytes.Equal(c, certificate) })
}

// End returns the device with a station that answers here; nil for none.
func (p *Post) End(station int) *Served {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return p.ends[station]
}

// Client is somebody who asks at a post.
type Client struct {
	From  string // address and port
	Since time.Time

	asked, refused, wrote atomic.Int64
	last                  atomic.Int64 // in milliseconds since 1970
}

// Asked counts a request.
func (c *Client) Asked() {
	c.asked.Add(1)
	c.last.Store(time.Now().UnixMilli())
}

// Refuse counts a request that was answered with an error.
func (c *Client) Refuse() { c.refused.Add(1) }

// ClientState is a Client as it is shown.
type ClientState struct {
	From    string `json:"from"`
	SinceMs int64  `json:"sinceMs"`
	Asked   int64  `json:"asked"`
	Refused int64  `json:"refused"`
	Wrote   int64  `json:"wrote"`
	LastMs  int64  `json:"lastMs"`
}

// answerPatience is how long a client may take to take in an answer, and to
// finish a request that it has begun.
const answerPatience = 10 * time.Second

// mostRequest bounds the octets of a request.
const mostRequest = 1 << 16

// listen answers until the post ends. A place that cannot be had yet is tried
// again: another program may have it for a while.
func (p *Post) listen() {
	defer close(p.done)
	if p.format != nil {
		p.onLine()
		return
	}
	for p.ctx.Err() == nil {
		l, err := net.Listen("tcp", p.Listen)
		if err == nil {
			p.fails("")
			p.accept(l)
			continue
		}
		p.fails(notListening(p.Listen, err))
		select {
		case <-p.ctx.Done():
		case <-time.After(2 * time.Second):
		}
	}
}

// Stations lists the stations as which Ferry answers here.
func (p *Post) Stations() (list []int) {
	p.mu.RLock()
	defer p.mu.RUnlock()
	for station := range p.ends {
		list = append(list, station)
	}
	return list
}

// onLine answers at a serial port until the post ends.
func (p *Post) onLine() {
	for p.ctx.Err() == nil {
		c := &Client{From: "the line", Since: time.Now()}
		p.mu.Lock()
		p.clients[c], p.failed = nil, ""
		p.mu.Unlock()
		err := p.answerLine(c)
		p.mu.Lock()
		delete(p.clients, c)
		p.mu.Unlock()
		if p.ctx.Err() != nil {
			return
		}
		if err != nil {
			p.fails("Ferry cannot answer on " + p.Listen + ": " + err.Error() + ".")
		}
		select {
		case <-p.ctx.Done():
		case <-time.After(2 * time.Second):
		}
	}
}

func (p *Post) answerLine(c *Client) (err error) {
	defer func() {
		if defect := recover(); defect != nil {
			log.Printf("answering on %s: %v\n%s", p.Listen, defect, debug.Stack())
			err = fmt.Errorf("a defect of Ferry's own: %v", defect)
		}
	}()
	return p.speaks.(LineAnswerer).AnswerLine(p.ctx, p.Listen, *p.format, p, c)
}

// notListening says why a place cannot be had.
func notListening(at string, err error) string {
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return "Another program answers at " + at + " already: end it, or choose another port."
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return "This machine does not have the address of " + at + ": give it that address, or the device one that " +
			"this machine has."
	case errors.Is(err, syscall.EACCES):
		return "The system does not let Ferry answer at " + at + ": ports below 1024 need a permission of their own."
	}
	return fmt.Sprintf("Ferry cannot answer at %s: %v.", at, err)
}

func (p *Post) fails(why string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.failed = why
}

func (p *Post) accept(l net.Listener) {
	stop := context.AfterFunc(p.ctx, func() { _ = l.Close() })
	defer stop()
	var talks sync.WaitGroup
	defer talks.Wait()
	defer p.hangUp()
	for {
		conn, err := l.Accept()
		if err != nil {
			if p.ctx.Err() != nil {
				return
			}
			if errors.Is(err, net.ErrClosed) {
				return
			}
			time.Sleep(20 * time.Millisecond) // out of file handles, most likely: those who are there go on
			continue
		}
		client := &Client{From: conn.RemoteAddr().String(), Since: time.Now()}
		if why := p.admit(client, conn); why != "" {
			_ = conn.Close()
			continue
		}
		talks.Go(func() { p.talk(client, conn) })
	}
}

// admit lets a client in, or says why not.
func (p *Post) admit(c *Client, conn net.Conn) (why string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	at, err := netip.ParseAddrPort(c.From)
	switch {
	case p.ctx.Err() != nil:
		return "it ends"
	case err != nil || !p.serving.Lets(at.Addr()):
		why = "is in no line of the list of clients"
	case len(p.clients) >= p.serving.Clients():
		why = fmt.Sprintf("came when %d were there already", len(p.clients))
	}
	if why != "" {
		p.turned(c, why)
		return why
	}
	p.clients[c] = conn
	return ""
}

// turned notes that a client was turned away, or hung up on. The lock is held.
func (p *Post) turned(c *Client, why string) {
	p.away++
	p.lastAway = c.From + " " + why
}

// hangUp ends all connections.
func (p *Post) hangUp() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, conn := range p.clients {
		if conn != nil {
			_ = conn.Close()
		}
	}
}

// talk answers one client until it leaves.
func (p *Post) talk(c *Client, conn net.Conn) {
	defer func() {
		if defect := recover(); defect != nil {
			log.Printf("answering %s at %s: %v\n%s", c.From, p.Listen, defect, debug.Stack())
		}
		p.mu.Lock()
		delete(p.clients, c)
		p.mu.Unlock()
		_ = conn.Close() // the far end may have gone already
	}()
	var err error
	if whole, ok := p.speaks.(WholeAnswerer); ok {
		err = whole.Have(p, c, conn)
	} else {
		err = answerAll(conn, p.speaks.(Answerer).Speech(p, c), c)
	}
	if err == nil || errors.Is(err, io.EOF) || errors.Is(err, net.ErrClosed) || errors.Is(err, syscall.ECONNRESET) {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.turned(c, "was hung up on: "+err.Error())
}

func answerAll(conn net.Conn, speech Speech, c *Client) error {
	var came, out []byte
	for {
		size, err := speech.Length(came)
		if err != nil {
			return err
		}
		if size > 0 {
			out = speech.Answer(out, came[:size])
			came = came[:copy(came, came[size:])]
			c.Asked()
			if len(came) > 0 && len(out) < mostRequest {
				if next, err := speech.Length(came); err == nil && next > 0 {
					continue // it has asked more already: the answers go together
				}
			}
			if len(out) > 0 {
				if err := conn.SetWriteDeadline(time.Now().Add(answerPatience)); err != nil {
					return err
				}
				if _, err := conn.Write(out); err != nil {
					return err
				}
				out = out[:0]
			}
			continue
		}
		if len(came) >= mostRequest {
			return fmt.Errorf("it sent %d octets that are no request", len(came))
		}
		until := time.Time{}
		if len(came) > 0 {
			until = time.Now().Add(answerPatience)
		}
		if err := conn.SetReadDeadline(until); err != nil {
			return err
		}
		came = slices.Grow(came, 1024)
		n, err := conn.Read(came[len(came):cap(came)])
		if err != nil {
			return err
		}
		came = came[:len(came)+n]
	}
}
