package field

import (
	"context"
	"fmt"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
	"ferry/internal/core/value"
)

// runner asks over one link, by way of a channel that it may share.
type runner struct {
	link    *site.Link
	device  *site.Device
	def     *protocol.Def
	rules   protocol.Ranges
	hub     *Hub
	era     uint64 // of the hub, in which the runner was made
	place   string // what is learned is learned of this place
	channel *channel
	jobs    []*job
	rounds  map[time.Duration]*round // by their pace
	reports *reporting               // what it is told without asking; nil for nothing
	due     []*job                   // those that are asked together
	points  []string                 // every point that is read

	atOnce    int           // requests that may be under way together
	tries     int           // how often a request is sent at most
	restAfter int           // silent tries after which the device is left alone, 0 for never
	rest      time.Duration // for how long
	silent    int           // tries since it last answered
	told      exchange.Exchange
	frames    [2]exchange.Frame // of told
	toldParts []part
	many      bool      // several requests are under way
	answered  bool      // some request was, since the last search
	spread    float64   // by which share of its pace a job is moved after the first time
	gatherAt  time.Time // not asked before then who has the connection; the engine's
}

// job is one request of the timetable with what it takes to decode it.
type job struct {
	timetable.Request
	pace time.Duration // 0 for once
	due  time.Time
	// planned is when it was due, while it is asked.
	planned time.Time
	done    bool // a request that is sent once has been answered
	parts   []part
	// wanted is what it asks for by name, in the place of ranges, and tracks are
	// the points of these by their ids.
	wanted []protocol.Wanted
	tracks map[string]*track
	// searched is set while it is found out why the device refuses the request;
	// searchAt is when that may be tried next, and silent counts its tries
	// without an answer in a row.
	searched  bool
	searchAt  time.Time
	silent    int
	spread    bool   // it was moved
	round     uint64 // in which it was asked last
	refusedBy int    // code by which the device refused it last, 0 for none
	// refused are the codes by which it refused some of the ranges, nil for none.
	refused []int
}

// part is one point in the data of a request.
type part struct {
	track *track
	of    int // which range of the request it lies in
	at    int // octet in the data of all ranges
	codec *value.Codec
	power bool // it is the power of ten of the point, not its value
	// piece names a structure that is read in one piece; empty for none.
	piece string
}

// newRunner takes up the requests of a link, whose points the hub then follows.
// It has no channel yet.
func newRunner(link *site.Link, device *site.Device, requests []timetable.Request, hub *Hub) (*runner, error) {
	_, def, err := DriverOf(link.Protocol)
	if err != nil {
		return nil, err
	}
	r := &runner{link: link, device: device, def: def, hub: hub, era: hub.Era(),
		atOnce: max(1, def.Int(link.Settings, "atOnce")),
		tries:  1 + def.Int(link.Settings, "retries"), restAfter: def.Int(link.Settings, "restAfter"),
		rest: time.Duration(def.Int(link.Settings, "restS")) * time.Second}
	r.rules, _ = def.Ranges()
	hub.follow(device)
	byID := make(map[string]*site.Point, len(device.Points))
	for i := range device.Points {
		byID[device.Points[i].ID] = &device.Points[i]
	}
	pieces, codecs := piecesOf(device), value.Codecs{}
	for _, request := range requests {
		if request.Link != link.ID {
			continue
		}
		j := &job{Request: request, pace: time.Duration(request.PaceMs) * time.Millisecond}
		if len(request.Ranges) == 0 {
			r.wants(j, byID)
			continue
		}
		for _, id := range request.Points {
			p := byID[id]
			codec, err := codecs.Of(p.Shape(unitBits(def, p.Place().Area)))
			if err != nil {
				return nil, err
			}
			of, at := r.within(request.Ranges, p.Place())
			if of < 0 {
				return nil, fmt.Errorf("%s is not in the request that names it", p.Name)
			}
			j.parts = append(j.parts, part{track: hub.track(id), codec: codec, of: of, at: at, piece: pieces[p.ID]})
			r.points = append(r.points, id)
		}
		j.parts = append(r.powersIn(device, &request), j.parts...)
		r.jobs = append(r.jobs, j)
	}
	r.reports = r.reportsOf()
	r.roundsOf()
	return r, nil
}

// begin makes requests that are new due by their offsets from now.
func (r *runner) begin(now time.Time) {
	for _, j := range r.jobs {
		if j.due.IsZero() {
			j.due = now.Add(time.Duration(j.OffsetMs * float64(time.Millisecond)))
		}
	}
}

// powersIn lists the registers of a request that hold the power of ten of a
// point, one part for each point.
func (r *runner) powersIn(device *site.Device, request *timetable.Request) (parts []part) {
	for i := range device.Points {
		p := &device.Points[i]
		if p.PowerAt.IsZero() || p.PaceMs < request.PaceMs {
			continue
		}
		if of, at := r.within(request.Ranges, block.Of(p.PowerAt)); of >= 0 {
			parts = append(parts, part{track: r.hub.track(p.ID), codec: &powerCodec, of: of, at: at, power: true})
		}
	}
	return parts
}

// within finds the range in which a place lies, the first of several, and the
// octet of the data of all at which it begins; of is -1 if it lies in none.
func (r *runner) within(ranges []block.Range, p block.Place) (of, at int) {
	for i, each := range ranges {
		octets := unitOctets(r.def, each.Area)
		if p.Area == each.Area && p.Offset >= each.Start && int(p.Offset-each.Start) < each.Count {
			return i, at + int(p.Offset-each.Start)*octets
		}
		at += each.Count * octets
	}
	return -1, 0
}

// powerCodec reads a power of ten: a signed register.
var powerCodec = func() value.Codec {
	c, err := value.NewCodec(value.Shape{Type: value.TypeInt16, Bit: -1})
	if err != nil {
		panic(err) // a plain int16 is always right
	}
	return c
}()

func unitBits(def *protocol.Def, area string) int {
	a, _ := block.AreaOf(def.Scheme, area)
	return a.UnitBits
}

// unitOctets is the width of one unit of an area in a Reply's data.
func unitOctets(def *protocol.Def, area string) int { return (unitBits(def, area) + 7) / 8 }

// conn is the connection, turned to the device; connect comes first.
func (r *runner) conn() Conn { return r.channel.conn }

// connect makes sure that there is a connection, unless the last attempt was
// too short a while ago.
func (r *runner) connect(ctx context.Context) bool { return r.channel.open(ctx, r) }

func (r *runner) exchange(operation string, reply *Reply, at time.Time, took time.Duration) *exchange.Exchange {
	e := &exchange.Exchange{}
	r.tell(e, operation, reply, at, took)
	return e
}

// tell fills an exchange in.
func (r *runner) tell(e *exchange.Exchange, operation string, reply *Reply, at time.Time, took time.Duration) {
	if !reply.SentAt.IsZero() {
		// What it waited for the line to be silent is no time of its own.
		took -= reply.SentAt.Sub(at)
		at = reply.SentAt
	}
	*e = exchange.Exchange{
		Link: r.link.ID, Device: r.device.ID, At: at, LatencyMs: float64(took) / float64(time.Millisecond),
		Operation: operation, Outcome: reply.Outcome, Cause: reply.Cause, ThinkMs: reply.ThinkMs,
		AnswerLateMs: reply.LateMs, Doubt: reply.Doubt,
		Manner: reply.Manner, HungUpAt: reply.HungUpAt, Optional: reply.Optional, Code: reply.Code, Sentence: reply.Sentence,
		Frames: r.framesOf(reply, float64(took)/float64(time.Millisecond)), Data: reply.Data, Refused: reply.Refused,
	}
}

// framesOf are the frames of a reply, valid until the next: those that it has, or
// its request and its answer, which came after so many milliseconds.
func (r *runner) framesOf(reply *Reply, took float64) []exchange.Frame {
	if reply.Frames != nil {
		return reply.Frames
	}
	frames := r.frames[:0]
	if len(reply.Request) > 0 {
		frames = append(frames, exchange.Frame{Out: true, Octets: reply.Request})
	}
	if len(reply.Answer) > 0 {
		frames = append(frames, exchange.Frame{AfterMs: took, Octets: reply.Answer})
	}
	return frames
}

// ask sends requests of the timetable now, several at once where the link is
// allowed to, each again if no answer came, and sets when they are due next. A
// pace that could not be held is not made up for.
func (r *runner) ask(ctx context.Context, jobs []*job, now time.Time) {
	if !r.connect(ctx) {
		for _, j := range jobs {
			j.due = maxTime(r.channel.retryAt, j.due.Add(j.pace))
		}
		return
	}
	for _, j := range jobs {
		if j.planned = j.due; j.pace > 0 {
			j.due = maxTime(now, j.planned.Add(j.pace))
			if !j.spread && r.spread > 0 {
				j.due = j.due.Add(time.Duration(r.spread * float64(j.pace)))
			}
			j.spread = true
		}
	}
	if many, ok := r.conn().(Pipelined); ok && len(jobs) > 1 {
		orders := make([][]block.Range, len(jobs))
		for i, j := range jobs {
			orders[i] = j.Ranges
		}
		at := time.Now()
		again := jobs[:0:0]
		r.many = true // each reply is valid until the next alone
		many.ReadMany(orders, func(i int, reply Reply) {
			if ctx.Err() == nil && r.took(jobs[i], &reply, at, r.triesLeft() > 1) {
				again = append(again, jobs[i])
			}
		})
		r.many = false
		for _, j := range again {
			r.attempt(ctx, j, 1)
		}
	} else {
		for _, j := range jobs {
			r.attempt(ctx, j, 0)
		}
	}
	for _, j := range jobs {
		if j.pace == 0 && !j.done {
			j.due = time.Now().Add(10 * time.Second)
		}
		r.search(ctx, j)
		r.asked(j)
	}
	if r.restAfter > 0 && r.silent >= r.restAfter {
		r.layOff(time.Now())
	}
}

// attempt sends one request, as often as it may still be tried. Its points are
// unreadable once the last try has failed.
func (r *runner) attempt(ctx context.Context, j *job, tried int) {
	tries := r.triesLeft()
	for ; tried < tries && ctx.Err() == nil; tried++ {
		if !r.conn().Usable() && !r.connect(ctx) {
			return
		}
		at := time.Now()
		reply, samples := r.put(r.conn(), j)
		if ctx.Err() != nil || !r.took(j, &reply, at, tried+1 < tries, samples...) {
			return
		}
	}
}

// triesLeft is how often a request is sent: after a rest, once.
func (r *runner) triesLeft() int {
	if r.restAfter > 0 {
		return max(1, min(r.tries, r.restAfter-r.silent))
	}
	return r.tries
}

// took takes in what came of a request, and reports whether it should be sent
// again, if it may.
func (r *runner) took(j *job, reply *Reply, at time.Time, may bool, samples ...Sampled) (again bool) {
	r.channel.takeIn()
	e := &r.told // the hub keeps a copy of it
	now := time.Now()
	r.tell(e, j.Operation, reply, at, now.Sub(at))
	e.RequestID, e.Points, e.Ranges = j.ID, len(j.parts)+len(j.wanted), j.Ranges
	e.LateMs = max(0, float64(e.At.Sub(j.planned))/float64(time.Millisecond))
	r.channel.letIn(r, reply, now)
	r.channel.pairNoted(r, reply, false, now)
	if reply.OK() {
		r.silent, j.silent = 0, 0
		r.answered = true
		if j.wanted != nil {
			r.answer(e, j, samples)
		} else if r.toldParts = j.parts; r.channel.overlaps && !r.many {
			r.channel.owed = r
		} else {
			r.hub.record(r.era, e, j.parts)
		}
		j.done = j.pace == 0
		j.refused = append(j.refused[:0], reply.Refused...)
		return false
	}
	r.hub.record(r.era, e, nil)
	if reply.Outcome == exchange.CalledOff {
		return false
	}
	switch reply.Outcome {
	case exchange.Declined:
		r.silent, j.silent = 0, 0
		j.refusedBy = reply.Code // it will say the same again
	case exchange.NoAnswer:
		r.silent++
		j.silent++
		again = true
	default:
		again = true
	}
	if again = again && may; !again {
		r.hub.fail(r.era, j.Points, reply.Sentence)
	}
	return again
}

// layOff leaves a silent device alone for a while, so that it does not cost the
// others on its line their time.
func (r *runner) layOff(now time.Time) {
	until := now.Add(r.rest)
	for _, j := range r.jobs {
		j.due = maxTime(j.due, until)
	}
	r.hub.fail(r.era, r.points,
		fmt.Sprintf("the device is silent and is left alone for %d s at a time", int(r.rest.Seconds())))
}

func maxTime(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
