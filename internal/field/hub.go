package field

import (
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ferry/internal/core/crossing"
	"ferry/internal/core/diagnose"
	"ferry/internal/core/exchange"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Bounds of what the hub remembers. A list that is full loses its older half
// at once, so at least half of each bound is always there.
const (
	keptExchanges = 8000
	keptOctets    = 64 << 20 // of exchanges
	keptTrend     = 1200
	leastTrend    = 8
	allTrends     = 200_000 // samples of all points together, 16 octets each
	keptSamples   = 20000   // waiting to be stored
)

// Live is the latest state of one point, as the browser and the command line
// get it.
type Live struct {
	Point   string        `json:"point"`
	Value   value.Value   `json:"value"`
	Shown   string        `json:"shown"`
	Quality value.Quality `json:"quality"`
	Reason  string        `json:"reason,omitempty"`
	// Granted is how the device tells of it, where that is not as it was asked to.
	Granted string `json:"granted,omitempty"`
	// AtMs is when the value was read, in milliseconds since 1970; 0 for never.
	AtMs int64 `json:"atMs"`
	// SourceMs is the own time of the value's source, where it gives one, and ToldMs that of the
	// end which tells of it.
	SourceMs int64 `json:"sourceMs,omitempty"`
	ToldMs   int64 `json:"toldMs,omitempty"`
	// ChangedMs is when it last became another value.
	ChangedMs int64 `json:"changedMs"`
	// Words are the octets it came from, in hexadecimal, a blank between words.
	Words string `json:"words"`
}

// Trend is one recorded sample of a point.
type Trend struct {
	AtMs int64   `json:"atMs"`
	V    float64 `json:"v"`
}

// Sample is one value on its way to the store.
type Sample struct {
	Point string
	AtMs  int64
	V     float64
	Good  bool
}

// RequestStats is what was measured of one request of the timetable.
type RequestStats struct {
	ID      string           `json:"id"`
	Count   int              `json:"count"`
	Failed  int              `json:"failed"`
	LastMs  float64          `json:"lastMs"`
	MeanMs  float64          `json:"meanMs"`
	WorstMs float64          `json:"worstMs"`
	LateMs  float64          `json:"lateMs"` // worst lateness against the plan
	Outcome exchange.Outcome `json:"outcome"`
	AtMs    int64            `json:"atMs"`

	link string
}

// sample is a Sample without what the garbage collector would have to look at.
type sample struct {
	atMs int64
	v    float64
	n    uint32 // in ids
	good bool
}

// track is the hub's memory of one point.
type track struct {
	// toldAs and toldWhy are how an end that reports calls its value itself.
	toldAs  value.Quality
	toldWhy string

	n      uint32 // its place in ids
	device string
	point  *site.Point
	live   Live
	raw    value.Value
	words  []byte
	// power is the power of ten that another register holds, once powered.
	power      int
	powered    bool
	needsPower bool
	// source is the end that reports it, nil for a point that is asked for. While
	// that is quiet, was says what the point would be.
	source  *source
	quieted bool
	was     struct {
		quality value.Quality
		reason  string
	}
	trend   []Trend
	looked  bool // somebody asked for its trend
	habit   *diagnose.Habit
	rev     uint64
	gone    bool      // the point is no longer in the site, or means another place
	changes uint64    // how often it became another value
	arrived time.Time // when it was read
	takes   uint64    // how often it was
	// passed is how often it was when each value was last passed on, passedAt when that was read, and
	// together how many were read with it.
	passed   uint64
	passedAt time.Time
	together time.Duration
	// alive is the heartbeat of its device, nil for none and for the heartbeat itself;
	// stilled is set while that is why it is doubtful.
	alive   *alive
	stilled bool
	beat    *alive // of which it is the point
	// watchers are told of each new value: the crossings that carry it.
	watchers []watcher
	// round is the one in which it is read, nil for none; rounders are told of its end.
	round    *round
	rounders []watcher
	// pens are where scribes write each of its values.
	nibs []nib
}

// sourceTime is the device's own time of its value; zero for none.
func (t *track) sourceTime() time.Time {
	if t.live.SourceMs == 0 {
		return time.Time{}
	}
	return time.UnixMilli(t.live.SourceMs)
}

// happened has those know of a value who want each of those that are reported, not the last alone.
func (t *track) happened() {
	if t.takes == t.passed {
		return // it is told for another reason than that a value came
	}
	after := time.Duration(0)
	if t.passedAt.Equal(t.arrived) { // several came with one message
		t.together++
		after = t.together
	} else {
		t.together = 0
	}
	t.passed, t.passedAt = t.takes, t.arrived
	r := crossing.Reading{Value: t.live.Value, Quality: t.live.Quality, Reason: t.live.Reason, At: t.arrived.Add(after),
		Source: t.sourceTime(), Changes: t.changes, Session: t.source.session}
	for _, w := range t.watchers {
		if all, ok := w.(interface {
			saw(point string, r *crossing.Reading)
		}); ok {
			all.saw(t.point.ID, &r)
		}
	}
}

// watcher is told of new values, and keeps nobody waiting.
type watcher interface{ tell() }

func (t *track) tell() {
	if t.source != nil && !t.source.cyclic {
		t.happened()
	}
	for _, n := range t.nibs {
		n.scribe.write(t, n.pen)
	}
	for _, w := range t.watchers {
		w.tell()
	}
}

// Hub keeps what the runners see. Runners only ever wait for its lock, which
// is held for microseconds; whoever looks at it takes a copy at a pace of its
// own, so a slow reader delays nobody.
type Hub struct {
	mu        sync.Mutex
	era       uint64 // counts the times that everything was forgotten
	rev       uint64
	points    map[string]*track
	sessions  uint64              // how many connections were begun over which anything is reported
	rounders  atomic.Int32        // how many carry whole rounds
	order     []*track            // those of points, in no order that matters
	gone      int                 // how many of these are gone
	share     int                 // how many samples of each point are remembered
	before    []exchange.Exchange // the full half of the latest
	exchanges []exchange.Exchange // and those since
	kept      int                 // octets of those since
	seq       uint64
	stats     map[string]*RequestStats
	diagnosis *diagnose.Diagnosis
	samples   []sample         // waiting to be stored, in the order in which they came
	back      []Sample         // before them, what could not be stored
	ids       []string         // of the points that have samples, by track.n
	octets    []byte           // room for the octets of exchanges to come
	frames    []exchange.Frame // and for their frames
	links     map[string]*linkLog
	learned   map[string]learned // by link
	alives    map[string]*alive  // by device
	scribes   []*Scribe
	outages   []Outage
	silences  silences
	toKeep    []Outage // that began or ended and wait to be stored
}

// NewHub returns an empty hub.
func NewHub() *Hub {
	return &Hub{points: map[string]*track{}, stats: map[string]*RequestStats{}, diagnosis: diagnose.New(),
		links: map[string]*linkLog{}, learned: map[string]learned{}, alives: map[string]*alive{}}
}

// track returns the memory of a point that is followed.
func (h *Hub) track(id string) *track {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.points[id]
}

// sweep leaves out what is gone. Whoever looks at the old list goes on with it.
func (h *Hub) sweep() {
	h.order = slices.DeleteFunc(slices.Clone(h.order), func(t *track) bool { return t.gone })
	h.gone = 0
}

// nextSession numbers a connection.
func (h *Hub) nextSession() uint64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.sessions++
	return h.sessions
}

// reading returns the memory of a point, if it still is read as p says.
func (h *Hub) reading(p *site.Point) *track {
	h.mu.Lock()
	defer h.mu.Unlock()
	if t := h.points[p.ID]; t != nil && t.point.SameReading(p) {
		return t
	}
	return nil
}

// follow makes the hub know the points of a device before they are read. Those
// that are known keep their last value unless what they mean has changed.
func (h *Hub) follow(d *site.Device) {
	h.mu.Lock()
	defer h.mu.Unlock()
	life := h.aliveOf(d)
	defer func() {
		for i := range d.Points {
			t := h.points[d.Points[i].ID]
			if t.alive, t.beat = life, nil; life != nil && life.rule.Point == t.point.ID {
				t.alive, t.beat = nil, life
			}
		}
	}()
	for i := range d.Points {
		p := &d.Points[i] // a site does not change: it is followed by another
		t := h.points[p.ID]
		if t != nil && t.point == p {
			continue // the very same
		}
		if t == nil || !t.point.SameReading(p) {
			var watchers, rounders []watcher
			if t != nil {
				watchers, rounders = t.watchers, t.rounders
			}
			n := uint32(len(h.ids))
			if t != nil {
				t.unwrite("the point was changed and has not been read since")
				t.gone, n = true, t.n
				h.gone++
			} else {
				h.ids = append(h.ids, p.ID)
			}
			t = &track{n: n, device: d.ID, live: Live{Point: p.ID, Quality: value.NotRead}, watchers: watchers,
				rounders: rounders}
			h.points[p.ID] = t
			h.order = append(h.order, t)
			h.pen(t)
			h.touch(t)
		}
		if t.point != nil && !t.live.Value.IsNone() {
			if shown := p.Shown(t.live.Value); shown != t.live.Shown {
				t.live.Shown = shown
				h.touch(t)
			}
		}
		t.point, t.habit, t.needsPower = p, h.diagnosis.Follow(p), !p.PowerAt.IsZero()
		if t.live.Quality == value.Good || t.live.Quality == value.Doubtful {
			h.doubt(t) // its unit or its limits may be others
		}
	}
	if h.gone > 256 && h.gone > len(h.order)/4 {
		h.sweep()
	}
}

// keepOnly forgets what is known of points and links that are no longer in the
// site.
func (h *Hub) keepOnly(s *site.Site) {
	points, links := map[string]bool{}, map[string]bool{}
	for i := range s.Devices {
		for j := range s.Devices[i].Points {
			points[s.Devices[i].Points[j].ID] = true
		}
	}
	for i := range s.Links {
		links[s.Links[i].ID] = true
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for id, t := range h.points {
		if !points[id] {
			t.gone = true
			t.unwrite("the point is no longer in the site")
			delete(h.points, id)
		}
	}
	h.sweep()
	for id := range h.links {
		if !links[id] {
			delete(h.links, id)
		}
	}
	maps.DeleteFunc(h.learned, func(id string, _ learned) bool { return !links[id] })
	for id, s := range h.stats {
		if !links[s.link] {
			delete(h.stats, id)
		}
	}
	h.diagnosis.KeepOnly(points, links)
}

func (h *Hub) touch(t *track) {
	h.rev++
	t.rev = h.rev
}

// Era counts the times that everything was forgotten. What was begun in an
// earlier one tells the hub nothing any more.
func (h *Hub) Era() uint64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.era
}

// Rev is the revision to ask Since with for what changes from now on.
func (h *Hub) Rev() uint64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.rev
}

// Trend returns the recorded samples of a point of the last minutes.
func (h *Hub) Trend(id string) []Trend {
	h.mu.Lock()
	defer h.mu.Unlock()
	if t := h.points[id]; t != nil {
		t.looked = true
		return slices.Clone(t.trend)
	}
	return []Trend{}
}

// forget drops evidence and measurements of a link, as when it starts anew.
func (h *Hub) forget(link *site.Link, device *site.Device) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.diagnosis.Forget(link.ID, device)
	for id, s := range h.stats {
		if s.link == link.ID {
			delete(h.stats, id)
		}
	}
}

// DrainSamples hands over the samples taken since the last call. What cannot be
// kept is given back to PutBack.
func (h *Hub) DrainSamples() []Sample {
	h.mu.Lock()
	defer h.mu.Unlock()
	drained := h.back
	for _, s := range h.samples {
		drained = append(drained, Sample{h.ids[s.n], s.atMs, s.v, s.good})
	}
	h.samples, h.back = h.samples[:0], nil
	return drained[max(0, len(drained)-keptSamples):]
}

// PutBack takes samples and outages back that could not be stored: they come
// first at the next call. Beyond the bound the oldest samples are lost.
func (h *Hub) PutBack(samples []Sample, outages []Outage) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.back = append(samples, h.back...)
	h.back = h.back[max(0, len(h.back)-keptSamples):]
	h.toKeep = append(outages, h.toKeep...)
	h.toKeep = h.toKeep[max(0, len(h.toKeep)-keptOutages):]
}

// watch has somebody told whenever one of the points gets a value; the returned
// function ends that.
func (h *Hub) watch(points []string, told watcher) (end func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, id := range points {
		if t := h.points[id]; t != nil {
			t.watchers = append(t.watchers, told)
		}
	}
	return func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		for _, id := range points {
			if t := h.points[id]; t != nil {
				t.watchers = slices.DeleteFunc(t.watchers, func(w watcher) bool { return w == told })
			}
		}
	}
}

// readings fills in what is known of points, one reading for each.
func (h *Hub) readings(points []string, into []crossing.Reading) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for i, id := range points {
		t := h.points[id]
		if t == nil {
			into[i] = crossing.Reading{Quality: value.NotRead}
			continue
		}
		into[i] = crossing.Reading{Value: t.live.Value, Quality: t.live.Quality, Reason: t.live.Reason,
			At: t.arrived, Source: t.sourceTime(), Changes: t.changes}
		if t.source != nil {
			into[i].Session = t.source.session
		}
		if t.round != nil {
			into[i].Round = t.round.count
		}
	}
}

// reset forgets every value and all evidence, as when the mode changes.
func (h *Hub) reset() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.era++
	for _, t := range h.order {
		t.gone = true
		t.unwrite("the mode was switched")
	}
	h.points, h.order = map[string]*track{}, nil
	h.stats = map[string]*RequestStats{}
	h.before, h.exchanges, h.kept = nil, nil, 0
	h.samples, h.back, h.ids = nil, nil, nil
	h.diagnosis = diagnose.New()
	h.alives = map[string]*alive{}
	h.links, h.outages, h.learned = map[string]*linkLog{}, nil, map[string]learned{}
	h.rev++
}
