package site

import (
	"cmp"
	"fmt"
	"net/netip"
	"time"

	"ferry/internal/core/protocol"
)

// Redundancy is a second address of a port, for an end that is there twice and seen as one:
// only one of the two is used at a time.
type Redundancy struct {
	Host string `json:"host"`
	// Port is that of the second, 0 for the same as of the first.
	Port int `json:"port,omitempty"`
	// Silent is after how many requests in a row without an answer the other is used; 0
	// stands for UsualSilent. Where no connection comes about, it is at once.
	Silent int `json:"silent,omitempty"`
	// Bad has the other used as well once no point of the link has been good for
	// PairBad.
	Bad bool `json:"bad,omitempty"`
	// Says is a point that says which is to be used, and nothing else then does: the
	// second while it is on.
	Says string `json:"says,omitempty"`
	// BackS is for how long the first must have been well again for it to be used in the
	// place of the second; 0 to stay with that until it fails.
	BackS int `json:"backS,omitempty"`
	// TryS is how often the idle one is tried; 0 stands for UsualTry.
	TryS int `json:"tryS,omitempty"`
	// Local is an address of this machine, such as 127.0.0.1:1502, at which other
	// programs reach whichever is used; empty for none.
	Local string `json:"local,omitempty"`
}

// What holds where a Redundancy says nothing.
const (
	UsualSilent = 2
	UsualTry    = 10 * time.Second
	PairBad     = 3 * time.Second
)

// Second is the port of a device as its second address has it.
func (p *Port) Second() Port {
	second := *p
	second.Host, second.Pair = p.Pair.Host, nil
	if p.Pair.Port != 0 {
		second.Settings = protocol.Settings{}
		for key, v := range p.Settings {
			second.Settings[key] = v
		}
		second.Settings[protocol.KeyPort] = protocol.OfInt(p.Pair.Port)
	}
	return second
}

// SilentAfter is after how many unanswered requests the other is used.
func (p *Redundancy) SilentAfter() int { return cmp.Or(p.Silent, UsualSilent) }

// Every is how often the idle one is tried.
func (p *Redundancy) Every() time.Duration {
	return cmp.Or(time.Duration(p.TryS)*time.Second, UsualTry)
}

func (v *validator) pair(s *Site, where string, d *Device, p *Port) {
	pair := p.Pair
	if pair == nil {
		return
	}
	def, _ := protocol.Named(p.Protocol)
	line := s.Line(p.Line)
	switch {
	case line == nil || line.Medium != Ethernet || d.Served() || def == nil || def.Turns != protocol.TurnsOfLink:
		v.fail(where, "only a device that is asked over a connection of its own has a second address.",
			"Take the second address away.")
	case p.HostFrom != "":
		v.fail(where, "it has a second address, and a point gives its first.", "Take one of the two away.")
	}
	if _, err := netip.ParseAddr(pair.Host); err != nil {
		v.fail(where, fmt.Sprintf("its second address, %q, is no IP address.", pair.Host), "Write it as 192.0.2.22.")
	}
	if pair.Host == p.Host && (pair.Port == 0 || pair.Port == def.Int(p.Settings, protocol.KeyPort)) {
		v.fail(where, "its second address is the first.", "Give another, or another port.")
	}
	for _, n := range []struct {
		what    string
		n, most int
	}{{"port", pair.Port, 65535}, {"count of unanswered requests", pair.Silent, 1000},
		{"time until it is back", pair.BackS, 7 * 24 * 3600}, {"time between tries of the idle one", pair.TryS, 24 * 3600}} {
		if n.n < 0 || n.n > n.most {
			v.fail(where, fmt.Sprintf("the %s of its second address is %d.", n.what, n.n), fmt.Sprintf("Give 0 to %d.", n.most))
		}
	}
	if pair.Says != "" {
		if of, _ := s.Point(pair.Says); of == nil || of.ID == d.ID {
			v.fail(where, "the point that says which address is used is none of another device.", "Choose another, or none.")
		}
	}
	if pair.Local != "" {
		if at, err := netip.ParseAddrPort(pair.Local); err != nil || at.Port() == 0 {
			v.fail(where, fmt.Sprintf("the local address of its pair, %q, is none.", pair.Local), "Write it as 127.0.0.1:1502.")
		}
	}
}
