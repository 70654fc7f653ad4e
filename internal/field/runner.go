package field

import (
	"context"
	"time"

	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
	"ferry/internal/core/value"
)

// wait is the time between two attempts to connect to a device that is away.
const wait = 2 * time.Second

// runner asks over one link. Its loop is the only owner of the connection:
// reads of the timetable and what others want to send take turns in it.
type runner struct {
	link     *site.Link
	device   *site.Device
	driver   Driver
	def      *protocol.Def
	dial     string
	hub      *Hub
	jobs     []job
	points   []string // every point that is read
	commands chan command
	done     chan struct{}
	cancel   context.CancelFunc

	conn    Conn
	retryAt time.Time
	lost    Reply     // why there is no connection
	tries   int       // how often a request is sent at most
	total   int       // requests of the timetable so far
	asked   func(int) // told the total after each, if set
}

// job is one request of the timetable with what it takes to decode it.
type job struct {
	timetable.Request
	pace  time.Duration // 0 for once
	due   time.Time
	done  bool // a request that is sent once has been answered
	parts []part
}

// part is one point in the data of a request.
type part struct {
	track *track
	at    int // octet in the data
	codec value.Codec
	power bool // it is the power of ten of the point, not its value
}

// command is something to be done with the connection between two reads.
type command struct {
	do   func(Conn, Reply) // conn is nil if there is none; the reply says why
	done chan struct{}
}

// newRunner compiles the requests of a link, whose points the hub then follows.
func newRunner(link *site.Link, device *site.Device, dial string, hub *Hub) (*runner, error) {
	driver, def, err := DriverOf(link.Protocol)
	if err != nil {
		return nil, err
	}
	r := &runner{link: link, device: device, driver: driver, def: def, dial: dial, hub: hub,
		tries: 1 + def.Value(link.Settings, "retries"), commands: make(chan command), done: make(chan struct{})}
	hub.follow(device)
	plan := timetable.Compile(&site.Site{Lines: []site.Line{{ID: link.Line}}, Devices: []site.Device{*device}, Links: []site.Link{*link}})
	byID := make(map[string]*site.Point, len(device.Points))
	for i := range device.Points {
		byID[device.Points[i].ID] = &device.Points[i]
	}
	for _, request := range plan.Requests {
		j := job{Request: request, pace: time.Duration(request.PaceMs) * time.Millisecond}
		for _, id := range request.Points {
			p := byID[id]
			codec, err := p.Codec(unitBits(def, request.Area))
			if err != nil {
				return nil, err
			}
			j.parts = append(j.parts, part{track: hub.track(id), codec: codec, at: int(p.Address.Offset-request.Start) * unitOctets(def, request.Area)})
			r.points = append(r.points, id)
		}
		j.parts = append(powersIn(device, &request, hub), j.parts...)
		r.jobs = append(r.jobs, j)
	}
	return r, nil
}

// powersIn lists the registers of a request that hold the power of ten of a
// point, one part for each point.
func powersIn(device *site.Device, request *timetable.Request, hub *Hub) (parts []part) {
	for i := range device.Points {
		p := &device.Points[i]
		if at := p.PowerAt; at.Area == request.Area && at.Offset >= request.Start && int(at.Offset-request.Start) < request.Count && p.PaceMs >= request.PaceMs {
			parts = append(parts, part{track: hub.track(p.ID), codec: powerCodec, at: 2 * int(at.Offset-request.Start), power: true})
		}
	}
	return parts
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
	a, _ := address.AreaOf(def.Scheme, area)
	return a.UnitBits
}

// unitOctets is the width of one unit of an area in a Reply's data.
func unitOctets(def *protocol.Def, area string) int { return (unitBits(def, area) + 7) / 8 }

// run is the loop. It returns when ctx ends.
func (r *runner) run(ctx context.Context) {
	defer close(r.done)
	defer r.hangUp()
	start := time.Now()
	for i := range r.jobs {
		r.jobs[i].due = start.Add(time.Duration(r.jobs[i].OffsetMs * float64(time.Millisecond)))
	}
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		next, now := r.next(), time.Now()
		if next == nil {
			timer.Reset(time.Hour)
		} else if pause := next.due.Sub(now); pause > 0 {
			timer.Reset(pause)
		} else {
			select {
			case <-ctx.Done():
				return
			case c := <-r.commands:
				r.carryOut(ctx, c)
			default:
				r.ask(ctx, next, now)
				if r.total++; r.asked != nil {
					r.asked(r.total)
				}
			}
			continue
		}
		select {
		case <-ctx.Done():
			return
		case c := <-r.commands:
			r.carryOut(ctx, c)
		case <-timer.C:
		}
	}
}

// next returns the job that is due first, nil if none ever is.
func (r *runner) next() *job {
	var first *job
	for i := range r.jobs {
		if j := &r.jobs[i]; !j.done && (first == nil || j.due.Before(first.due)) {
			first = j
		}
	}
	return first
}

func (r *runner) hangUp() {
	if r.conn != nil {
		_ = r.conn.Close() // it is being given up; how it ends changes nothing
		r.conn = nil
	}
}

// connect makes sure that there is a connection, unless the last attempt was
// too short a while ago.
func (r *runner) connect(ctx context.Context) bool {
	if r.conn != nil && r.conn.Usable() {
		return true
	}
	r.hangUp()
	now := time.Now()
	if now.Before(r.retryAt) {
		return false
	}
	conn, reply := r.driver.Dial(ctx, Target{Dial: r.dial, Settings: r.link.Settings})
	if conn == nil {
		if ctx.Err() != nil {
			return false
		}
		r.lost, r.retryAt = reply, time.Now().Add(wait)
		r.hub.record(r.exchange("connect to "+r.device.Name, &reply, now, time.Since(now)), nil)
		r.hub.fail(r.points, reply.Sentence)
		return false
	}
	r.conn = conn
	return true
}

func (r *runner) exchange(operation string, reply *Reply, at time.Time, took time.Duration) *exchange.Exchange {
	return &exchange.Exchange{
		Link: r.link.ID, Device: r.device.ID, At: at, LatencyMs: float64(took) / float64(time.Millisecond),
		Operation: operation, Outcome: reply.Outcome, Code: reply.Code, Sentence: reply.Sentence,
		Request: reply.Request, Answer: reply.Answer, Data: reply.Data,
	}
}

// ask sends one request of the timetable now, again if no answer came, and sets
// when it is due next. A pace that could not be held is not made up for.
func (r *runner) ask(ctx context.Context, j *job, now time.Time) {
	planned := j.due
	if r.conn == nil || !r.conn.Usable() {
		if !r.connect(ctx) {
			j.due = maxTime(r.retryAt, planned.Add(j.pace))
			return
		}
		now = time.Now()
	}
	if j.pace > 0 {
		j.due = maxTime(now, planned.Add(j.pace))
	}
	for try := 0; try < r.tries && ctx.Err() == nil; try++ {
		at := now
		if try > 0 {
			at = time.Now()
		}
		reply := r.conn.Read(j.Area, j.Start, j.Count)
		took := time.Since(at)
		if ctx.Err() != nil {
			return
		}
		e := r.exchange(j.Operation, &reply, at, took)
		e.RequestID, e.Points, e.Area, e.Start, e.Count = j.ID, len(j.parts), j.Area, j.Start, j.Count
		e.LateMs = max(0, float64(at.Sub(planned))/float64(time.Millisecond))
		if reply.OK() {
			r.hub.record(e, j.parts)
			j.done = j.pace == 0
			return
		}
		r.hub.record(e, nil)
		r.hub.fail(j.Points, reply.Sentence)
		if reply.Outcome == exchange.Declined {
			break // it will say the same again
		}
		if !r.conn.Usable() {
			if reply.Outcome != exchange.Garbled || !r.connect(ctx) {
				break
			}
		}
	}
	if j.pace == 0 {
		j.due = time.Now().Add(10 * time.Second)
	}
}

func maxTime(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func (r *runner) carryOut(ctx context.Context, c command) {
	defer close(c.done)
	if r.connect(ctx) {
		c.do(r.conn, Reply{Outcome: exchange.Answered})
		return
	}
	c.do(nil, r.lost)
}
