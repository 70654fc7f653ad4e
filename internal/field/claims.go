package field

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// claimsWithin is how long it is waited for who else says that it has a station, and mostClaims how many places are
// asked: the stand-ins of a bench hear no question to all, and are asked one by one.
const (
	claimsWithin = time.Second
	mostClaims   = 64
)

// claims asks all of a network who has the station of a link. That its own device has it is known.
type claims struct {
	caller   Caller
	def      *protocol.Def
	settings protocol.Settings
	station  int
	host     string
	named    map[string]string // devices of the plan, by their hosts
	places   []callPlace
}

// claimsOf is who asks for the station of a link; nil where its protocol has no question to all, or nobody can be
// asked it. The lock is held.
func (e *Engine) claimsOf(link *site.Link, def *protocol.Def) *claims {
	driver, _, _ := DriverOf(def.Name)
	caller, ok := driver.(Caller)
	station, numbered := def.StationOf(link.Settings)
	line, port := e.site.Line(link.Line), e.site.Device(link.Answering).PortFor(link)
	if !ok || !numbered || line == nil || port == nil {
		return nil
	}
	places, err := e.callPlaces(line, def)
	if err != nil {
		return nil // the network is not known: the try itself goes to one address
	}
	c := &claims{caller: caller, def: def, settings: link.Settings, station: station, host: port.Host,
		named: map[string]string{}}
	for i := range places {
		if !places[i].alone { // what one device alone says is asked by its own try
			c.places = append(c.places, places[i])
		}
	}
	if len(c.places) > mostClaims {
		return nil
	}
	for i := range e.site.Devices {
		d := &e.site.Devices[i]
		for k := range d.Ports {
			if p := &d.Ports[k]; p.Line == line.ID && p.Protocol == def.Name {
				c.named[p.Host] = d.Name
			}
		}
	}
	return c
}

// others names those who say that they have the station, but the device of the link.
func (c *claims) others(ctx context.Context) (list []string) {
	if c == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, claimsWithin)
	defer cancel()
	hosts := []string{c.host}
	if _, err := netip.ParseAddr(c.host); err != nil {
		if hosts, err = net.DefaultResolver.LookupHost(ctx, c.host); err != nil {
			return nil // which of those who answer is meant is not known
		}
	}
	var mu sync.Mutex
	var asking sync.WaitGroup
	heard := func(at *callPlace) func(Found) {
		return func(f Found) {
			if at.host != "" {
				f.Host = at.host // that of a stand-in
			}
			who, here := f.Host, slices.Contains(hosts, f.Host)
			if name := c.named[f.Host]; here {
				who += ", " + f.Identity
			} else if name != "" {
				who = fmt.Sprintf("%s (%s)", name, f.Host)
			}
			mu.Lock()
			defer mu.Unlock()
			if f.Station == c.station && !(here && c.fits(&f)) && !slices.Contains(list, who) {
				list = append(list, who)
			}
		}
	}
	turns := make(chan struct{}, atOnce)
	for i := range c.places {
		turns <- struct{}{}
		asking.Go(func() {
			defer func() { <-turns }()
			_ = c.caller.Call(ctx, c.places[i].at, Stations{c.station, c.station},
				heard(&c.places[i])) // who cannot be asked claims nothing
		})
	}
	asking.Wait()
	slices.SortFunc(list, strings.Compare)
	return list
}

// fits reports whether what answers is where the link has its device, behind its host.
func (c *claims) fits(f *Found) bool {
	for key, is := range f.Settings {
		if c.def.Value(c.settings, key) != is {
			return false
		}
	}
	return true
}
