package iec61850

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"regexp"
	"strings"
	"sync"
	"time"

	family "ferry/internal/core/family/iec61850"
	"ferry/internal/core/image"
	"ferry/internal/core/value"
	"ferry/internal/field"
	target "ferry/internal/target/iec61850"
	wire "ferry/internal/wire/iec61850"
)

// Have answers a client.
func (driver) Have(p *field.Post, _ *field.Client, over net.Conn) error {
	return field.HaveWhole(p, over, func() (*serving, func(), error) {
		s, err := newServing(p)
		if err != nil {
			return nil, nil, err
		}
		return s, s.close, nil
	})
}

// serving is what Ferry answers as at a post, to all its clients.
type serving struct {
	post   *field.Post
	server *target.Server
	done   chan struct{}
	others sync.WaitGroup

	mu    sync.Mutex
	ats   map[string]*target.Attribute // of points, nil for those that the model has not
	was   map[string]value.Quality     // what was told of each last
	by    map[string]string            // points of references
	end   *field.Served
	stops func() // hearing of values
	waits []heard
	fed   chan struct{}
}

// heard is a value that came to stand in a point.
type heard struct {
	point string
	is    field.Standing
}

// How soon a changed map is served, and how soon it is seen that what stands somewhere is doubted.
const (
	looksEvery  = 300 * time.Millisecond
	doubtsEvery = time.Second
)

func newServing(p *field.Post) (*serving, error) {
	s := &serving{post: p, done: make(chan struct{}), fed: make(chan struct{}, 1)}
	m, err := s.model()
	if err != nil {
		return nil, err
	}
	s.server = target.New(target.Config{Write: s.write, Asked: func(over net.Conn, refused bool) {
		if c := s.client(over); c != nil {
			if c.Asked(); refused {
				c.Refuse()
			}
		}
	}, Gave: s.gave, About: wire.Identity{Vendor: "Ferry", Model: "Ferry", Revision: "1"}}, m)
	s.hear()
	s.others.Go(s.watch)
	s.others.Go(s.feed)
	return s, nil
}

func (s *serving) close() {
	close(s.done)
	s.others.Wait()
	s.mu.Lock()
	if s.stops != nil {
		s.stops()
	}
	s.mu.Unlock()
	_ = s.server.Close() // which ends all that it has
}

// Take answers a client until the connection ends.
func (s *serving) Take(over net.Conn) { s.server.Take(over) }

func (s *serving) client(over net.Conn) *field.Client { return s.post.ClientOf(over) }

// noName is what no name of an IED has.
var noName = regexp.MustCompile(`[^A-Za-z0-9_]+`)

// model is that of the file that the answering end names, or one of its points.
func (s *serving) model() (*family.Model, error) {
	end := s.post.End(0)
	if end == nil {
		return nil, errors.New("there is no device to be")
	}
	settings := end.Settings(family.MMS.Name)
	ied := family.MMS.Value(settings, family.KeyIED).Text()
	data, err := s.post.Secret(settings, family.KeyFile)
	if err != nil {
		return nil, fmt.Errorf("the file of the device: %w", err)
	}
	if len(data) > 0 {
		f, err := family.ReadFile(data)
		if err != nil {
			return nil, fmt.Errorf("the file of the device: %w", err)
		}
		return f.Model(ied, family.MMS.Value(settings, family.KeyAccess).Text())
	}
	var list []family.Attribute
	for _, p := range end.Names() {
		list = append(list, family.Attribute{Address: p.Address, Type: p.Type, Remark: cmp.Or(p.Remark, p.Name)})
	}
	if ied == "" {
		ied = strings.Trim(noName.ReplaceAllString(end.Name(), "_"), "_")
	}
	return family.Synthesised(ied, list), nil
}

// laid is which map is served, and how.
func (s *serving) laid() string {
	end := s.post.End(0)
	if end == nil {
		return ""
	}
	settings := end.Settings(family.MMS.Name)
	return fmt.Sprintf("%p %d %v %v %v", end, end.Laid(), family.MMS.Value(settings, family.KeyFile),
		family.MMS.Value(settings, family.KeyIED), family.MMS.Value(settings, family.KeyAccess))
}

// watch serves the map as it is now, and has what is doubted told.
func (s *serving) watch() {
	tick := time.NewTicker(looksEvery)
	defer tick.Stop()
	was, looked := s.laid(), time.Now()
	for {
		select {
		case <-s.done:
			return
		case <-tick.C:
		}
		if is := s.laid(); is != was {
			if m, err := s.model(); err == nil { // else it goes on as it was, and the post says why
				was = is
				s.server.Replace(m)
				s.hear()
			}
		}
		if time.Since(looked) >= doubtsEvery {
			looked = time.Now()
			s.all()
		}
	}
}

// hear has the server told of all points, as they are and whenever they change.
func (s *serving) hear() {
	end := s.post.End(0)
	if end == nil {
		return
	}
	ats, by := map[string]*target.Attribute{}, map[string]string{}
	for _, p := range end.Names() {
		if r, ok := family.RefOf(p.Address); ok {
			if by[r.String()] = p.ID; r.FC != "CO" {
				ats[p.ID] = s.server.At(r)
			}
		}
	}
	s.mu.Lock()
	if s.stops != nil {
		s.stops()
	}
	s.ats, s.by, s.end, s.was = ats, by, end, map[string]value.Quality{}
	s.stops = end.Hear(func(point string, is field.Standing) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.waits = append(s.waits, heard{point, is})
		select {
		case s.fed <- struct{}{}:
		default:
		}
	})
	s.mu.Unlock()
	for point, at := range ats {
		if is := end.Standing(point); !is.Value.IsNone() { // else it is what the file says
			s.set(point, at, is, true)
		}
	}
}

// feed hands on what was heard, in its order.
func (s *serving) feed() {
	for {
		select {
		case <-s.done:
			return
		case <-s.fed:
		}
		s.mu.Lock()
		waits, ats := s.waits, s.ats
		s.waits = nil
		s.mu.Unlock()
		for _, h := range waits {
			s.set(h.point, ats[h.point], h.is, true)
		}
	}
}

// all tells the server of what is doubted now, or no longer.
func (s *serving) all() {
	s.mu.Lock()
	ats, end, busy := s.ats, s.end, len(s.waits) > 0
	s.mu.Unlock()
	if busy {
		return // what waits is newer
	}
	for point, at := range ats {
		is := end.Standing(point)
		s.mu.Lock()
		same := s.was[point] == is.Quality
		s.mu.Unlock()
		if !same && !is.Value.IsNone() {
			s.set(point, at, is, false) // what stands there was told in its order
		}
	}
}

// set has a point stand as it is, or its quality alone.
func (s *serving) set(point string, at *target.Attribute, is field.Standing, whole bool) {
	if at == nil {
		return
	}
	s.mu.Lock()
	s.was[point] = is.Quality
	end := s.end
	s.mu.Unlock()
	v := target.Value{Quality: is.Quality, Reason: is.Reason, At: is.At, Mark: &mark{end, point, is}}
	if whole {
		v.Value = is.Value
	}
	s.server.Set(at, v)
}

// mark is a value of a point, as it was served.
type mark struct {
	end   *field.Served
	point string
	is    field.Standing
}

// gave notes what a client was given.
func (s *serving) gave(to net.Conn, marks []any, reported bool) {
	c := s.client(to)
	for _, each := range marks {
		if m, ok := each.(*mark); ok {
			m.end.Gave(c, m.point, &m.is, reported)
		}
	}
}

// write takes a value of a client, or carries out its command.
func (s *serving) write(over net.Conn, inst string, r family.Ref, v value.Value) (refused int,
	ends <-chan target.Ended) {
	s.mu.Lock()
	point, known := s.by[r.String()]
	if !known {
		r.Device = inst
		point, known = s.by[r.String()]
	}
	end := s.end
	s.mu.Unlock()
	c := s.client(over)
	if !known || c == nil {
		return family.AccessDenied, nil // nobody takes it
	}
	if r.FC != "CO" {
		return refusedAs(end.Take(c, point, v)), nil
	}
	refusal, ending := end.Command(c, point, v)
	if refusal != image.None {
		return refusedAs(refusal), nil
	}
	ended := make(chan target.Ended, 1)
	go func() {
		e := target.Ended{Refused: -1}
		switch is := <-ending; {
		case is.Unknown:
			e = target.Ended{Refused: family.AccessHardware, Cause: causeLost}
			c.Refuse()
		case is.Why != "":
			e = target.Ended{Refused: family.AccessDenied, Cause: causeProcess}
			c.Refuse()
		}
		ended <- e
	}()
	return -1, ended
}

// Additional causes for commands that the end behind does not carry out (IEC 61850-7-2, clause 20).
const (
	causeProcess = 9  // blocked by process
	causeLost    = 23 // abortion by communication loss
)

// refusals are data access errors for what a point does not take.
var refusals = map[image.Refusal]int{image.None: -1, image.NoPlace: family.AccessNotThere,
	image.ReadOnly: family.AccessDenied, image.BadValue: family.AccessValue, image.NoTaker: family.AccessUnavailable}

func refusedAs(r image.Refusal) int {
	code, known := refusals[r]
	if !known {
		return family.AccessHardware
	}
	return code
}
