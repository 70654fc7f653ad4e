package field

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"strconv"
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
	// than once if it answers so, until ctx ends or nothing more can come.
	Call(ctx context.Context, at Target, heard func(Found)) error
}

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
	planned := map[string]*site.Device{}
	var places []callPlace
	for i := range now.Devices {
		d := &now.Devices[i]
		for k := range d.Ports {
			p := &d.Ports[k]
			if p.Line != line.ID || p.Protocol != def.Name {
				continue
			}
			planned[p.Host] = d
			if e.door.mode == Bench {
				link := &site.Link{Line: line.ID, Protocol: def.Name, Answering: d.ID, Settings: p.Settings}
				places = append(places, callPlace{Target{Dial: e.standIns.Dial(now, link)}, p.Host})
			}
		}
	}
	if e.door.mode != Bench {
		to, err := toAll(line)
		if err != nil {
			return err
		}
		port := strconv.Itoa(def.Int(nil, protocol.KeyPort))
		places = []callPlace{{Target{Dial: net.JoinHostPort(to.String(), port)}, ""}}
	}
	var failed error
	step := func(i int) (Found, bool) {
		ctx, cancel := context.WithTimeout(ctx, callFor)
		defer cancel()
		err := caller.Call(ctx, places[i].at, func(f Found) {
			if places[i].host != "" {
				f.Host = places[i].host
			}
			if d := planned[f.Host]; d != nil {
				f.Device = d.ID
			}
			r.heard(f)
		})
		r.mu.Lock()
		defer r.mu.Unlock()
		if err != nil && places[i].host == "" { // a stand-in may be away
			failed = err
		}
		return Found{}, false
	}
	r.start(ctx, len(places), atOnce, step, func(s *Sweep) {
		byHost(s.Found)
		answered := map[string]bool{}
		strangers := 0
		for _, f := range s.Found {
			if answered[f.Device] = true; f.Device == "" {
				strangers++
			}
		}
		for i := range now.Devices {
			if d := &now.Devices[i]; planned[hostOn(d, line.ID)] == d && !answered[d.ID] {
				s.Missing = append(s.Missing, d.ID)
			}
		}
		if failed != nil {
			s.Sentence = fmt.Sprintf("The question could not be asked: %v.", failed)
			return
		}
		s.Sentence = fmt.Sprintf("Answers from %d; not in the plan: %d; expected by it and silent: %d.",
			len(s.Found), strangers, len(s.Missing))
	})
	return nil
}

// callPlace is where a question to all is asked; host is that of a stand-in.
type callPlace struct {
	at   Target
	host string
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

func hostOn(d *site.Device, line string) string {
	if p := d.Port(line); p != nil {
		return p.Host
	}
	return ""
}
