package site

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Serving says how Ferry answers where it is the device itself: its map is what
// others ask it for.
type Serving struct {
	// Allow lists addresses, or networks as 10.20.0.0/24, from which clients are let
	// in: any line that matches is enough. Empty lets everybody in.
	Allow []string `json:"allow,omitempty"`
	// MostClients bounds the clients that are connected at once; 0 stands for
	// UsualClients.
	MostClients int `json:"mostClients,omitempty"`
	// ReadOnly refuses every write of a client, whatever the map allows.
	ReadOnly bool `json:"readOnly,omitempty"`
}

// UsualClients is how many clients are served at once where nothing else is said,
// MostClients how many may be said.
const (
	UsualClients = 16
	MostClients  = 1000
)

// Served reports whether Ferry itself is the device.
func (d *Device) Served() bool { return d.Serving != nil }

// Lets reports whether a client at an address is let in.
func (s *Serving) Lets(client netip.Addr) bool {
	return len(s.Allow) == 0 || matches(s.Allow, client)
}

// matches reports whether an address lies in any of a list of addresses and networks.
func matches(list []string, host netip.Addr) bool {
	host = host.Unmap().WithZone("")
	return slices.ContainsFunc(list, func(line string) bool {
		network, err := allowed(line)
		return err == nil && network.Contains(host)
	})
}

// Clients is how many clients are served at once.
func (s *Serving) Clients() int {
	if s.MostClients == 0 {
		return UsualClients
	}
	return s.MostClients
}

// allowed reads a line of an allow-list.
func allowed(line string) (netip.Prefix, error) {
	line = strings.TrimSpace(line)
	if addr, err := netip.ParseAddr(line); err == nil {
		addr = addr.Unmap()
		return addr.Prefix(addr.BitLen())
	}
	network, err := netip.ParsePrefix(line)
	if err != nil {
		return network, fmt.Errorf("%q is neither an address nor a network", line)
	}
	return network.Masked(), nil
}

func (v *validator) serving(where string, d *Device) {
	s := d.Serving
	if s == nil {
		return
	}
	for _, line := range s.Allow {
		if _, err := allowed(line); err != nil {
			v.fail(where, "its list of clients: "+err.Error()+".", "Write 10.20.0.31, or 10.20.0.0/24 for a whole network.")
		}
	}
	if s.MostClients < 0 || s.MostClients > MostClients {
		v.fail(where, fmt.Sprintf("it is to serve %d clients at once.", s.MostClients),
			fmt.Sprintf("Give 1 to %d, or nothing for %d.", MostClients, UsualClients))
	}
}
