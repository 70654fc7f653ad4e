package field

import (
	"cmp"
	"context"
	"fmt"
	"log"
	"net"
	"net/netip"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
)

// SweepOrder says what to look for, and where: stations of a serial line, hosts
// of a network that the user names, or the character format of one device.
type SweepOrder struct {
	Kind string `json:"kind" jsonschema:"enum=stations,enum=hosts,enum=formats"`
	Line string `json:"line"`
	// Protocol to ask in; empty for the first that the line carries.
	Protocol string `json:"protocol,omitempty"`
	// FromStation to ToStation on a serial line.
	FromStation int `json:"fromStation,omitempty"`
	ToStation   int `json:"toStation,omitempty"`
	// FromHost to ToHost, with Port and Station, on an Ethernet line.
	FromHost string `json:"fromHost,omitempty"`
	ToHost   string `json:"toHost,omitempty"`
	Port     int    `json:"port,omitempty"`
	Station  int    `json:"station,omitempty"`
	// Link whose device's format is looked for.
	Link string `json:"link,omitempty"`
}

// Sweep is a search under way, or done.
type Sweep struct {
	ID    string     `json:"id"`
	Order SweepOrder `json:"order"`
	Done  int        `json:"done"`
	Of    int        `json:"of"`
	// LeftMs is how much longer it will take, as far as it has gone.
	LeftMs  int64   `json:"leftMs"`
	Running bool    `json:"running"`
	Found   []Found `json:"found"`
	// Missing are the devices that the plan has there and that did not answer.
	Missing  []string `json:"missing"`
	Sentence string   `json:"sentence"`
}

// Found is something that answered.
type Found struct {
	Station  int    `json:"station"`
	Host     string `json:"host,omitempty"`
	Port     int    `json:"port,omitempty"`
	Identity string `json:"identity"`
	// Device is what the plan has there, empty for a stranger.
	Device string  `json:"device"`
	Ms     float64 `json:"ms"`
	// Format is set by a sweep of formats.
	Format *serial.Format `json:"format,omitempty"`
	// Odd says what was strange about the answer.
	Odd string `json:"odd"`
}

// mostHosts bounds a sweep of addresses, atOnce how many are asked at a time.
const (
	mostHosts = 1024
	atOnce    = 16
)

// sweepLimitMs is how long a sweep waits for each.
const sweepLimitMs = 300

// keptSweeps is how many sweeps that have ended are remembered.
const keptSweeps = 20

// StartSweep begins a sweep and returns at once; Sweep tells how far it is.
func (e *Engine) StartSweep(order SweepOrder) (*Sweep, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	line := e.site.Line(order.Line)
	if line == nil {
		return nil, problem.New("gone", "The line is no longer in the site.",
			"Reload to see what changed.").At(order.Line)
	}
	if order.Protocol == "" {
		order.Protocol = protocolOf(e.site, line)
	}
	_, def, err := DriverOf(order.Protocol)
	if err != nil || def.Medium != line.Medium {
		return nil, problem.New("protocol", fmt.Sprintf("%q is not spoken on %s.", order.Protocol, line.Name),
			"Choose a protocol of the line.").At(line.Name)
	}
	ctx, cancel := context.WithCancel(e.door.life) // a sweep ends with the mode
	e.sweepNo++
	run := &sweepRun{engine: e, cancel: cancel, done: make(chan struct{}),
		sweep: Sweep{ID: strconv.Itoa(e.sweepNo), Order: order, Running: true, Found: []Found{}, Missing: []string{}}}
	switch order.Kind {
	case "stations":
		err = run.stations(ctx, line, def)
	case "hosts":
		err = run.hosts(ctx, line, def)
	case "formats":
		err = run.formats(ctx, line)
	default:
		err = problem.New("bad-sweep", fmt.Sprintf("%q is no kind of sweep.", order.Kind), "")
	}
	if err != nil {
		cancel()
		return nil, err
	}
	e.sweeps = append(e.sweeps, run)
	if first := e.sweeps[0]; len(e.sweeps) > keptSweeps && !first.now().Running {
		e.sweeps = e.sweeps[1:]
	}
	s := run.now()
	return &s, nil
}

// protocolOf returns the protocol that the links of a line speak, or the usual
// one of its medium.
func protocolOf(s *site.Site, line *site.Line) string {
	for i := range s.Links {
		if s.Links[i].Line == line.ID {
			return s.Links[i].Protocol
		}
	}
	if usual := protocol.UsualOn(line.Medium); usual != nil {
		return usual.Name
	}
	return ""
}

// Sweep returns how far a sweep is; stop ends it.
func (e *Engine) Sweep(id string, stop bool) (*Sweep, error) {
	e.mu.Lock()
	at := slices.IndexFunc(e.sweeps, func(r *sweepRun) bool { return r.sweep.ID == id })
	if at < 0 {
		e.mu.Unlock()
		return nil, problem.New("gone", "There is no such sweep any more: the mode has changed, or it was long ago.",
			"Start it again.").At(id)
	}
	run := e.sweeps[at]
	e.mu.Unlock()
	if stop {
		run.cancel()
	}
	s := run.now()
	return &s, nil
}

type sweepRun struct {
	engine *Engine
	cancel context.CancelFunc
	done   chan struct{} // closed when it has ended

	mu    sync.Mutex
	sweep Sweep // its ID never changes
	began time.Time
}

func (r *sweepRun) now() Sweep {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.sweep
	s.Found, s.Missing = slices.Clone(s.Found), slices.Clone(s.Missing)
	if s.Running && s.Done > 0 {
		s.LeftMs = int64(s.Of-s.Done) * time.Since(r.began).Milliseconds() / int64(s.Done)
	}
	return s
}

// start runs one step for each of n things, and sums up at the end.
func (r *sweepRun) start(ctx context.Context, n, workers int, step func(i int) (Found, bool), finish func(s *Sweep)) {
	r.sweep.Of, r.began = n, time.Now()
	go func() {
		defer close(r.done)
		next := make(chan int)
		var wg sync.WaitGroup
		for range workers {
			wg.Add(1)
			go func() {
				defer wg.Done()
				for i := range next {
					found, ok := r.guarded(i, step)
					r.mu.Lock()
					if r.sweep.Done++; ok {
						r.sweep.Found = append(r.sweep.Found, found)
					}
					r.mu.Unlock()
				}
			}()
		}
		for i := 0; i < n && ctx.Err() == nil; i++ {
			select {
			case next <- i:
			case <-ctx.Done():
			}
		}
		close(next)
		wg.Wait()
		r.mu.Lock()
		defer r.mu.Unlock()
		r.sweep.Running = false
		finish(&r.sweep)
		if ctx.Err() != nil {
			r.sweep.Sentence = fmt.Sprintf("Stopped after %d of %d. ", r.sweep.Done, r.sweep.Of) + r.sweep.Sentence
		}
		r.cancel()
	}()
}

// guarded is one step, whose defects end neither the sweep nor the program.
func (r *sweepRun) guarded(i int, step func(int) (Found, bool)) (found Found, ok bool) {
	defer func() {
		if p := recover(); p != nil {
			log.Printf("step %d of sweep %s: %v\n%s", i, r.sweep.ID, p, debug.Stack())
			found, ok = Found{Odd: "Ferry failed on what it sent: a defect of Ferry's own"}, true
		}
	}()
	return step(i)
}

// stations asks one station of a serial line after the other, between two reads where
// the line is being asked.
func (r *sweepRun) stations(ctx context.Context, line *site.Line, def *protocol.Def) error {
	e, order := r.engine, &r.sweep.Order
	if line.Medium != site.SerialLine {
		return problem.New("bad-sweep", line.Name+" is no serial line.", "Sweep its addresses.").At(line.Name)
	}
	setting, ok := def.Setting(def.Station)
	if !ok {
		return problem.New("bad-sweep", def.Title+" has no stations.",
			"Choose another protocol of the line.").At(line.Name)
	}
	least := setting.Least
	if def.ToAll(protocol.Settings{def.Station: protocol.OfInt(least)}) {
		least++ // a question to all is no question to one
	}
	word := strings.ToLower(setting.Title)
	if order.FromStation < least || order.ToStation > setting.Most || order.FromStation > order.ToStation {
		return problem.New("bad-sweep", fmt.Sprintf("%ss %d to %d.", setting.Title, order.FromStation, order.ToStation),
			fmt.Sprintf("Give %ss from %d to %d.", word, least, setting.Most)).At(line.Name)
	}
	link := &site.Link{ID: "sweep-" + line.ID, Line: line.ID, Protocol: def.Name, Settings: protocol.Settings{}}
	planned := map[int]*site.Device{}
	for i := range e.site.Devices {
		d := &e.site.Devices[i]
		if p := d.Port(line.ID); p != nil && p.Protocol == def.Name {
			planned[def.Int(p.Settings, def.Station)] = d
		}
	}
	for i := range e.site.Links {
		if e.site.Links[i].Line == line.ID {
			link.Asking = e.site.Links[i].Asking
		}
	}
	target, key, err := e.targetOf(link)
	if err != nil {
		return err
	}
	over, era := e.channels[key], e.Hub.Era()
	var own *channel
	if over == nil {
		driver, _, _ := DriverOf(def.Name)
		own = newChannel(ctx, driver, target)
	}
	step := func(i int) (found Found, ok bool) {
		number := order.FromStation + i
		copied := *link
		copied.Settings = protocol.Settings{def.Station: protocol.OfInt(number),
			protocol.KeyWithin: protocol.OfInt(sweepLimitMs)}
		asker := &runner{link: &copied, device: &site.Device{ID: "sweep", Name: def.StationWords(copied.Settings)},
			def: def, hub: e.Hub, era: era}
		look := func(conn Conn, _ Reply) {
			if conn == nil {
				return
			}
			// One that the plan expects is not given up for one missed answer.
			if found, ok = lookAt(conn, number); (!ok && planned[number] != nil || found.Odd != "") && conn.Usable() {
				found, ok = lookAt(conn, number)
			}
		}
		if own != nil {
			own.do(ctx, asker, look)
		} else {
			_ = over.between(ctx, asker,
				func(_ *runner, conn Conn, reply Reply) { look(conn, reply) }) // one that is not asked is not found
		}
		if d := planned[number]; d != nil {
			found.Device = d.ID
		}
		return found, ok
	}
	r.start(ctx, order.ToStation-order.FromStation+1, 1, step, func(s *Sweep) {
		if own != nil {
			own.end()
			own.hangUp()
		}
		answered := map[string]bool{}
		strangers := 0
		for _, f := range s.Found {
			answered[f.Device] = true
			if f.Device == "" {
				strangers++
			}
		}
		for number := order.FromStation; number < order.FromStation+s.Done; number++ {
			if d := planned[number]; d != nil && !answered[d.ID] {
				s.Missing = append(s.Missing, d.ID)
			}
		}
		s.Sentence = fmt.Sprintf("%d %ss answer, %d of them not in the plan; %d that the plan expects do not.",
			len(s.Found), word, strangers, len(s.Missing))
	})
	return nil
}

// lookAt asks a station what any answers, if only by declining, and then who
// it is.
func lookAt(conn Conn, number int) (Found, bool) {
	began := time.Now()
	reply := greet(conn)
	found := Found{Station: number, Ms: float64(time.Since(began)) / 1e6}
	switch reply.Outcome {
	case exchange.Answered, exchange.Declined:
	case exchange.Garbled:
		found.Odd = reply.Sentence
		return found, true
	default:
		return found, false
	}
	if !conn.Usable() {
		return found, true
	}
	found.Identity, _, _ = identify(conn)
	return found, true
}

// hosts asks the addresses of a range at one port.
func (r *sweepRun) hosts(ctx context.Context, line *site.Line, def *protocol.Def) error {
	e, order := r.engine, &r.sweep.Order
	from, err := netip.ParseAddr(order.FromHost)
	to, err2 := netip.ParseAddr(order.ToHost)
	if err != nil || err2 != nil || !from.Is4() || !to.Is4() || to.Less(from) {
		return problem.New("bad-sweep", fmt.Sprintf("%q to %q is no range of IPv4 addresses.", order.FromHost,
			order.ToHost), "Write the first and the last, such as 192.0.2.20 and 192.0.2.60.").At(line.Name)
	}
	var hosts []netip.Addr
	for h := from; len(hosts) <= mostHosts && !to.Less(h); h = h.Next() {
		hosts = append(hosts, h)
	}
	if len(hosts) > mostHosts {
		return problem.New("bad-sweep", fmt.Sprintf("%s to %s are more than %d addresses.", from, to, mostHosts),
			"Sweep a smaller range.").At(line.Name)
	}
	asked := protocol.Settings{protocol.KeyPort: protocol.OfInt(order.Port), protocol.KeyWithin: protocol.OfInt(500)}
	if def.Station != "" {
		asked[def.Station] = protocol.OfInt(order.Station)
	}
	if err := def.CheckSettings(asked); err != nil {
		return problem.New("bad-sweep", err.Error()+".", "").At(line.Name)
	}
	planned := map[string]*site.Device{}
	for i := range e.site.Devices {
		if p := e.site.Devices[i].Port(line.ID); p != nil && p.Protocol != "" {
			planned[p.Host] = &e.site.Devices[i]
		}
	}
	for _, host := range hosts {
		if err := mayDial(host); err != nil && e.door.mode == Plant {
			return problem.New("documentation-address", err.Error()+".",
				"Give the plant's own addresses.").At(line.Name)
		}
	}
	driver, _, _ := DriverOf(def.Name)
	s, mode := e.site, e.door.mode
	step := func(i int) (Found, bool) {
		host := hosts[i].String()
		found := Found{Host: host, Port: order.Port, Station: order.Station}
		link := &site.Link{Line: line.ID, Protocol: def.Name, Settings: asked}
		if d := planned[host]; d != nil {
			found.Device, link.Answering = d.ID, d.ID
		}
		target := Target{Dial: net.JoinHostPort(host, strconv.Itoa(order.Port)), Settings: link.Settings,
			Control: MayDial}
		if mode == Bench {
			target.Dial, target.Control = e.standIns.Dial(s, link), nil
		}
		conn, reply := driver.Dial(ctx, target)
		if conn == nil {
			found.Odd = reply.Sentence
			return found, reply.Outcome == exchange.Refused && found.Device != "" || reply.Stop == route.Session
		}
		defer conn.Close()
		looked, ok := lookAt(conn, order.Station)
		found.Identity, found.Ms, found.Odd = looked.Identity, looked.Ms, looked.Odd
		if !ok {
			found.Odd = strings.TrimSpace("it takes the connection, and "+def.StationWords(link.Settings)) +
				" says nothing"
		}
		return found, true
	}
	r.start(ctx, len(hosts), atOnce, step, func(s *Sweep) {
		slices.SortFunc(s.Found, func(a, b Found) int {
			x, _ := netip.ParseAddr(a.Host)
			y, _ := netip.ParseAddr(b.Host)
			return x.Compare(y)
		})
		answered := map[string]bool{}
		for _, f := range s.Found {
			answered[f.Host] = true
		}
		for _, h := range hosts[:s.Done] {
			if d := planned[h.String()]; d != nil && !answered[h.String()] {
				s.Missing = append(s.Missing, d.ID)
			}
		}
		s.Sentence = fmt.Sprintf("%d of %d addresses answer; %d devices that the plan expects do not.", len(s.Found),
			s.Done, len(s.Missing))
	})
	return nil
}

// formats opens the port of a line in one usual format after the other, and
// asks one device in each.
func (r *sweepRun) formats(ctx context.Context, line *site.Line) error {
	e := r.engine
	link := e.site.Link(r.sweep.Order.Link)
	if link == nil || line.Medium != site.SerialLine || link.Line != line.ID {
		return problem.New("bad-sweep", "The link is not on a serial line.", "").At(line.Name)
	}
	target, key, err := e.targetOf(link)
	if err != nil {
		return err
	}
	if e.channels[key] != nil {
		return problem.New("running", line.Name+" is being asked: its settings cannot be changed meanwhile.",
			"Stop the run of its links first.").At(line.Name)
	}
	driver, def, err := DriverOf(link.Protocol)
	if err != nil {
		return problem.From(err, "protocol")
	}
	copied := *link
	copied.Settings = protocol.Settings{protocol.KeyWithin: def.Value(link.Settings, protocol.KeyWithin)}
	if def.Station != "" {
		copied.Settings[def.Station] = def.Value(link.Settings, def.Station)
	}
	who := begun(cmp.Or(def.StationWords(copied.Settings), "the device"))
	list := serial.Nearest(target.Format)
	var last string
	done := false // nothing more is asked once the device has answered
	step := func(i int) (Found, bool) {
		if done {
			return Found{}, false
		}
		target := target
		target.Format, target.Settings = list[i], copied.Settings
		conn, reply := driver.Dial(ctx, target)
		if conn == nil {
			last = reply.Sentence
			return Found{}, false
		}
		defer conn.Close()
		reply = greet(conn)
		if !reply.OK() && reply.Outcome != exchange.Declined {
			return Found{}, false
		}
		format := list[i]
		done = true
		return Found{Station: def.Int(copied.Settings, def.Station), Device: link.Answering, Format: &format}, true
	}
	r.start(ctx, len(list), 1, step, func(s *Sweep) {
		switch {
		case len(s.Found) == 0 && last != "":
			s.Sentence = sentence(last)
		case len(s.Found) == 0:
			s.Sentence = fmt.Sprintf("%s answers in none of the %d usual formats: it is off, or its number is another.",
				who, len(list))
		default:
			s.Sentence = fmt.Sprintf("%s answers at %s.", who, *s.Found[0].Format)
		}
	})
	return nil
}
