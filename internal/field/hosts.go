package field

import (
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"strings"
	"sync/atomic"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// awaited is the code of the problem that no point has given an address yet.
const awaited = "address-awaited"

// hostOf is the address or the name at which a port is reached on the plant: the one it
// has, or an address that a point gives, among those that are allowed. The lock is held.
func (e *Engine) hostOf(device *site.Device, port *site.Port) (string, error) {
	if port.HostFrom == "" {
		if port.Host == "" {
			return "", problem.New("no-address", device.Name+" has no IP address.", "Enter it under Lines.").At(device.Name)
		}
		return port.Host, nil
	}
	of, point := e.pointAt(port.HostFrom)
	if point == nil {
		return "", problem.New("gone", "The point that gives its address is no longer in the site.",
			"Choose another.").At(device.Name)
	}
	name := of.Name + " · " + point.Name
	live, _ := e.Hub.Point(point.ID)
	text := strings.TrimRight(strings.TrimSpace(live.Value.Text()), "\x00")
	if live.Quality != value.Good || text == "" {
		return "", problem.New(awaited, "Its address is not known yet: "+name+" has no good value.",
			"Run the link by which that point is read.").At(device.Name)
	}
	host, err := netip.ParseAddr(text)
	if err != nil {
		return "", problem.New(awaited, fmt.Sprintf("%s gives %q, which is no IP address.", name, text),
			"Correct it where it comes from.").At(device.Name)
	}
	if !port.Allows(host) {
		return "", problem.New(awaited, fmt.Sprintf("%s gives %s, which is none of the addresses that it may give.",
			name, host), "Correct it where it comes from, or allow it in the panel of the device.").At(device.Name)
	}
	return host.String(), nil
}

// awaits reports whether an error is that an address is not known yet: what is to run
// is then begun once it is.
func awaits(err error) bool {
	var p *problem.Problem
	return errors.As(err, &p) && p.Code == awaited
}

// hostWatch is told when a point that gives an address gets a value.
type hostWatch struct {
	engine  *Engine
	pending atomic.Bool
	end     func()
}

func (w *hostWatch) tell() {
	if w.pending.CompareAndSwap(false, true) { // the hub must not wait for the engine
		go func() {
			time.Sleep(20 * time.Millisecond) // of several that come together, once
			w.pending.Store(false)
			w.engine.hostsMoved()
		}()
	}
}

// watchHosts has it noticed when points give other addresses. The lock is held.
func (e *Engine) watchHosts() {
	if e.hosts != nil {
		e.hosts.end()
		e.hosts = nil
	}
	points := map[string]bool{}
	for i := range e.site.Devices {
		for j := range e.site.Devices[i].Ports {
			if id := e.site.Devices[i].Ports[j].HostFrom; id != "" {
				points[id] = true
			}
		}
	}
	if len(points) == 0 || e.closed {
		return
	}
	e.hosts = &hostWatch{engine: e}
	ids := make([]string, 0, len(points))
	for id := range maps.Keys(points) {
		ids = append(ids, id)
	}
	e.hosts.end = e.Hub.watch(ids, e.hosts)
}

// hostsMoved has links whose address is given by a point go where that says now. One
// that says nothing good leaves them where they are.
func (e *Engine) hostsMoved() {
	e.mu.Lock()
	defer e.mu.Unlock()
	defer unharmed("addresses that points give")
	if e.closed || e.door.mode != Plant || e.planOf != e.site {
		return
	}
	for id := range e.want {
		link := e.site.Link(id)
		if link == nil {
			continue
		}
		device := e.site.Device(link.Answering)
		port := device.PortFor(link)
		if port == nil || port.HostFrom == "" {
			continue
		}
		target, _, err := e.targetOf(link)
		r := e.runners[id]
		if err != nil || r != nil && r.channel.target.Dial == target.Dial {
			continue
		}
		e.halt(id)
		if err := e.launch(id); err != nil && !awaits(err) {
			e.notRun(link, err)
		}
	}
	e.carry()
}

// notRun notes that a link that is to run cannot. The lock is held.
func (e *Engine) notRun(link *site.Link, err error) {
	e.Hub.record(e.Hub.Era(),
		&exchange.Exchange{Link: link.ID, Device: link.Answering, At: time.Now(), Operation: "go on after the change",
			Outcome: exchange.NotAllowed, Sentence: problem.From(err, "run").Sentence}, nil)
}
