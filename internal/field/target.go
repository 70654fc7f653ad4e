package field

import (
	"context"
	"slices"
	"time"

	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
)

// Reader reads the points of a device that belongs to no site, whenever asked.
type Reader struct {
	runner *runner
}

// alone makes a runner for a device that belongs to no site.
func alone(link *site.Link, device *site.Device, target Target) (*runner, error) {
	driver, _, err := DriverOf(link.Protocol)
	if err != nil {
		return nil, err
	}
	plan := timetable.Compile(lone(link, device, target))
	r, err := newRunner(link, device, plan.Requests, NewHub())
	if err != nil {
		return nil, err
	}
	newChannel(context.Background(), driver, target).add(r)
	r.place = placeOf(link, target)
	return r, nil
}

// NewReader prepares to read the points of device over link.
func NewReader(link *site.Link, device *site.Device, target Target) (*Reader, error) {
	r, err := alone(link, device, target)
	if err != nil {
		return nil, err
	}
	return &Reader{r}, nil
}

// Read reads every point once and returns them in the order of the device.
func (r *Reader) Read(ctx context.Context) []Live {
	c := r.runner.channel
	c.retryAt = time.Time{} // who asks once wants to know now
	defer context.AfterFunc(ctx, c.end)()
	for _, j := range slices.Clone(r.runner.jobs) {
		c.guarded("read", func() { r.runner.ask(c.life, []*job{j}, time.Now()) })
	}
	if r.runner.reports != nil {
		c.guarded("read", func() { r.hear(ctx) })
	}
	list := make([]Live, 0, len(r.runner.device.Points))
	for i := range r.runner.device.Points {
		p := &r.runner.device.Points[i]
		live, _ := r.runner.hub.Point(p.ID)
		live.Point = p.Name
		list = append(list, live)
	}
	return list
}

// hear takes in what is reported: at first until every point has come that the
// device reports, or is overdue, and later what has come since.
func (r *Reader) hear(ctx context.Context) {
	c, g := r.runner.channel, r.runner.reports
	c.listen(time.Now())
	overdue := time.NewTimer(min(listenMost, listenLeast+time.Duration(g.source.after.Load())*time.Millisecond))
	defer overdue.Stop()
	for {
		if len(g.counts)+len(g.refused) >= len(g.wanted) && len(c.reports) == 0 || c.reports == nil {
			return
		}
		select {
		case report, open := <-c.reports:
			c.came(&report, open)
		case <-overdue.C:
			return
		case <-ctx.Done():
			return
		}
	}
}

// Close ends the connection.
func (r *Reader) Close() {
	r.runner.channel.end()
	r.runner.channel.hangUp()
}

// fixed dials one place.
type fixed string

func (f fixed) Dial(*site.Site, *site.Link) string { return string(f) }
func (f fixed) Post(*site.Port) string             { return string(f) }

// lone is a site of one link, for what needs an engine.
func lone(link *site.Link, device *site.Device, target Target) *site.Site {
	line := site.Line{ID: link.Line, Medium: site.Ethernet}
	if target.Format.Baud != 0 {
		line.Medium, line.Serial = site.SerialLine, &site.Serial{Standard: serial.TIA485Two, Format: target.Format}
	}
	return &site.Site{Lines: []site.Line{line}, Devices: []site.Device{*device}, Links: []site.Link{*link}}
}

// RunRequests runs the loop of a link as fast as its device answers, until it
// has asked n times, and returns how many requests were answered: the measure
// of the engine's own cost.
func RunRequests(link *site.Link, device *site.Device, target Target, n int) (answered int, err error) {
	r, err := alone(link, device, target)
	if err != nil {
		return 0, err
	}
	for _, j := range r.jobs {
		j.pace = 1 // a nanosecond: always due
	}
	c := r.channel
	finished, closed := make(chan struct{}), false
	c.asked = func(total int) {
		if total >= n && !closed {
			closed = true
			close(finished)
		}
	}
	c.start()
	<-finished
	c.end()
	<-c.done
	for _, s := range r.hub.Stats() {
		answered += s.Count - s.Failed
	}
	return min(answered, n), nil
}
