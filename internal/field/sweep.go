package field

import (
	"context"
	"fmt"
	"log"
	"runtime/debug"
	"slices"
	"strconv"
	"sync"
	"time"

	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
)

// SweepOrder says what to look for, and where: stations of a serial line, hosts
// of a network that the user names, whoever answers a question to all of a network,
// or the character format of one device.
type SweepOrder struct {
	Kind string `json:"kind" jsonschema:"enum=stations,enum=hosts,enum=call,enum=formats"`
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
	// Settings of its end that it tells, by the keys of the protocol.
	Settings protocol.Settings `json:"settings,omitempty"`
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
	case "call":
		err = run.call(ctx, line, def)
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
