package field

import (
	"context"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// Caller is a Driver whose protocol has a question that every device of a network
// answers: that of every protocol with protocol.Calls.
type Caller interface {
	// Call asks it at one place, which is the address to all of a network, or on
	// the bench a stand-in. It tells of each answer as it comes, one device more
	// than once if it answers so, until ctx ends or nothing more can come. Of
	// devices that are told apart by their stations only some may be asked.
	Call(ctx context.Context, at Target, of Stations, heard func(Found)) error
}

// Stations are those from one on to another, all of them where To is 0.
type Stations struct{ From, To int }

// callFor is how long answers to a question to all are waited for, and mostHeard
// how many are taken.
const (
	callFor   = 1500 * time.Millisecond
	mostHeard = 4096
)

// call asks all devices of a network at once who they are.
func (r *sweepRun) call(ctx context.Context, line *site.Line, def *protocol.Def) error {
	e, now := r.engine, r.engine.site
	driver, _, _ := DriverOf(def.Name)
	caller, ok := driver.(Caller)
	if !ok {
		return problem.New("bad-sweep", def.Title+" has no question to all.",
			"Sweep the addresses of the line.").At(line.Name)
	}
	type end struct {
		host    string
		station int
	}
	of := Stations{r.sweep.Order.FromStation, r.sweep.Order.ToStation}
	planned := map[end]*site.Device{}
	for i := range now.Devices {
		d := &now.Devices[i]
		for k := range d.Ports {
			if p := &d.Ports[k]; p.Line == line.ID && p.Protocol == def.Name {
				station, _ := def.StationOf(p.Settings)
				planned[end{p.Host, station}] = d
			}
		}
	}
	places, err := e.callPlaces(line, def)
	if err != nil {
		return err
	}
	var failed error
	byAll := map[string]bool{} // who answered a question to all
	key := func(f *Found) string { return fmt.Sprint(f.Host, " ", f.Station) }
	step := func(i int) (Found, bool) {
		ctx, cancel := context.WithTimeout(ctx, callFor)
		defer cancel()
		err := caller.Call(ctx, places[i].at, of, func(f Found) {
			if places[i].host != "" {
				f.Host, f.Port = places[i].host, 0 // that of the stand-in says nothing
			}
			if !places[i].alone {
				r.mu.Lock()
				byAll[key(&f)] = true
				r.mu.Unlock()
			}
			if d := planned[end{f.Host, f.Station}]; d != nil {
				f.Device = d.ID
			}
			r.heard(f)
		})
		r.mu.Lock()
		defer r.mu.Unlock()
		if err != nil && places[i].host == "" && !places[i].alone { // a stand-in, or one device, may be away
			failed = err
		}
		return Found{}, false
	}
	r.start(ctx, len(places), atOnce, step, func(s *Sweep) {
		byHost(s.Found)
		twice(def, s.Found)
		for i := range s.Found {
			if f := &s.Found[i]; !byAll[key(f)] && f.Odd == "" {
				f.Odd = "it answers when it is asked alone, and not what goes to all: compare the subnet mask and the port, and who brings " +
					"broadcasts to its subnet"
			}
		}
		answered := map[string]bool{}
		strangers := 0
		for _, f := range s.Found {
			if answered[f.Device] = true; f.Device == "" {
				strangers++
			}
		}
		for at, d := range planned {
			if !answered[d.ID] && (of.To == 0 || at.station >= of.From && at.station <= of.To) {
				s.Missing = append(s.Missing, d.ID)
			}
		}
		slices.Sort(s.Missing)
		if failed != nil {
			s.Sentence = fmt.Sprintf("The question could not be asked: %v.", failed)
			return
		}
		s.Sentence = fmt.Sprintf("Answers from %d; not in the plan: %d; expected by it and silent: %d.",
			len(s.Found), strangers, len(s.Missing))
	})
	return nil
}

// callPlace is where a question to all is asked; host is that of a stand-in, alone is set for one device that is
// asked by itself.
type callPlace struct {
	at    Target
	host  string
	alone bool
}

// callPlaces are the stand-ins of the bench, or the places of a plant: all of the network, at each port that the plan
// has there, and every device of the plan by itself, which tells those that hear nothing of what goes to all. The lock
// is held.
func (e *Engine) callPlaces(line *site.Line, def *protocol.Def) (places []callPlace, err error) {
	if e.door.mode == Bench {
		for i := range e.site.Devices {
			d := &e.site.Devices[i]
			for k := range d.Ports {
				if p := &d.Ports[k]; p.Line == line.ID && p.Protocol == def.Name {
					link := &site.Link{Line: line.ID, Protocol: def.Name, Answering: d.ID, Settings: p.Settings}
					places = append(places, callPlace{at: Target{Dial: e.standIns.Dial(e.site, link)}, host: p.Host})
				}
			}
		}
		return places, nil
	}
	to, err := toAll(line)
	if err != nil {
		return nil, err
	}
	var settings protocol.Settings // those of the first link, which may have broadcasts brought by another
	for i := range e.site.Links {
		if l := &e.site.Links[i]; l.Line == line.ID && l.Protocol == def.Name && settings == nil {
			settings = l.Settings
		}
	}
	ports, alone := []int{def.Int(nil, protocol.KeyPort)}, map[string]bool{}
	for i := range e.site.Devices {
		d := &e.site.Devices[i]
		for k := range d.Ports {
			p := &d.Ports[k]
			if p.Line != line.ID || p.Protocol != def.Name || d.Served() {
				continue
			}
			port := def.Int(p.Settings, protocol.KeyPort)
			if !slices.Contains(ports, port) {
				ports = append(ports, port)
			}
			if host, err := netip.ParseAddr(p.Host); err == nil && mayDial(host) == nil && len(alone) < mostHosts {
				alone[net.JoinHostPort(host.String(), strconv.Itoa(port))] = true
			}
		}
	}
	for _, port := range ports {
		places = append(places, callPlace{at: Target{Dial: net.JoinHostPort(to.String(), strconv.Itoa(port)),
			Settings: settings, Plant: true}})
	}
	for _, dial := range slices.Sorted(maps.Keys(alone)) {
		places = append(places, callPlace{at: Target{Dial: dial, Control: MayDial, Plant: true}, alone: true})
	}
	return places, nil
}

// heard takes an answer in, once from each.
func (r *sweepRun) heard(f Found) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, has := range r.sweep.Found {
		if has.Host == f.Host && has.Station == f.Station && has.Identity == f.Identity {
			return
		}
	}
	if len(r.sweep.Found) < mostHeard {
		r.sweep.Found = append(r.sweep.Found, f)
	}
}

// toAll is the address to all of the network of a line.
func toAll(line *site.Line) (netip.Addr, error) {
	network, err := netip.ParsePrefix(line.Network)
	if err != nil || !network.Addr().Is4() || network.Bits() > 30 {
		return netip.Addr{}, problem.New("bad-sweep",
			line.Name+" has no IPv4 network whose devices could be asked at once.",
			"Enter the network of the line, such as 10.20.0.0/24.").At(line.Name)
	}
	if err := mayDial(network.Addr()); err != nil {
		return netip.Addr{}, problem.New("documentation-address", err.Error()+".",
			"Give the plant's own network.").At(line.Name)
	}
	to := network.Masked().Addr().As4()
	for bit := network.Bits(); bit < 32; bit++ {
		to[bit/8] |= 0x80 >> (bit % 8)
	}
	return netip.AddrFrom4(to), nil
}

// twice says of devices that are told apart by their stations which have the same.
func twice(def *protocol.Def, list []Found) {
	if def.Station == "" {
		return
	}
	setting, _ := def.Setting(def.Station)
	at := map[int]*Found{}
	for i := range list {
		f := &list[i]
		first := at[f.Station]
		if first == nil {
			at[f.Station] = f
			continue
		}
		f.Odd = fmt.Sprintf("%s has the same %s %d: questions for one go to either", first.Host,
			strings.ToLower(setting.Title), f.Station)
		if first.Odd == "" {
			first.Odd = fmt.Sprintf("%s has the same %s %d: questions for one go to either", f.Host,
				strings.ToLower(setting.Title), f.Station)
		}
	}
}
