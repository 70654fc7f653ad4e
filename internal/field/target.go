package field

import (
	"context"
	"time"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Reader reads the points of a device that belongs to no site, whenever asked.
type Reader struct {
	runner *runner
}

// NewReader prepares to read the points of device over link, at the given host
// and port.
func NewReader(link *site.Link, device *site.Device, dial string) (*Reader, error) {
	hub := NewHub()
	r, err := newRunner(link, device, dial, hub)
	if err != nil {
		return nil, err
	}
	return &Reader{r}, nil
}

// Read reads every point once and returns them in the order of the device.
func (r *Reader) Read(ctx context.Context) []Live {
	r.runner.retryAt = r.runner.retryAt.Add(-wait) // who asks once wants to know now
	for i := range r.runner.jobs {
		r.runner.ask(ctx, &r.runner.jobs[i], time.Now())
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

// Close ends the connection.
func (r *Reader) Close() { r.runner.hangUp() }

// fixed dials one place.
type fixed string

func (f fixed) Dial(*site.Site, *site.Link) string { return string(f) }

// WriteTarget reads the one point of a device that belongs to no site, and, if
// really, writes it and reads it back.
func WriteTarget(ctx context.Context, link *site.Link, device *site.Device, dial string, v value.Value, really bool) (WriteResult, error) {
	s := &site.Site{Lines: []site.Line{{ID: link.Line}}, Devices: []site.Device{*device}, Links: []site.Link{*link}}
	e := NewEngine(s, fixed(dial))
	defer e.Close()
	w, err := e.prepare(device.Points[0].ID, v)
	if err != nil {
		return WriteResult{}, err
	}
	err = e.with(ctx, link.ID, func(r *runner, conn Conn, _ Reply) {
		if conn != nil {
			r.read(conn, w) // for the old value; a failure shows in the write
		}
	})
	if err != nil {
		return WriteResult{}, err
	}
	if !really {
		return WriteResult{Order: e.order(w, v), Sentence: "Nothing was written."}, nil
	}
	return e.Write(ctx, device.Points[0].ID, v)
}

// RunRequests runs the loop of a link as fast as its device answers, until it
// has asked n times, and returns how many requests were answered: the measure
// of the engine's own cost.
func RunRequests(link *site.Link, device *site.Device, dial string, n int) (answered int, err error) {
	hub := NewHub()
	r, err := newRunner(link, device, dial, hub)
	if err != nil {
		return 0, err
	}
	for i := range r.jobs {
		r.jobs[i].pace = 1 // a nanosecond: always due
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	r.asked = func(total int) {
		if total >= n {
			cancel()
		}
	}
	r.run(ctx)
	for _, s := range hub.Stats() {
		answered += s.Count - s.Failed
	}
	return answered, nil
}
