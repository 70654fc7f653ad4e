package bench

import (
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/site"
)

// What the tests, which need the families, see of the inside.

// Servers are the first stand-ins of each device on networks.
func (b *Bench) Servers() map[string]*Server {
	first := map[string]*Server{}
	for id, s := range b.servers {
		device, _, _ := strings.Cut(id, "\x00")
		first[device] = s
	}
	return first
}

func (m *Memory) Freeze(on bool) { m.freeze(on) }

func Loopback(port int) string { return loopback(port) }

var HeldPort = heldPort

// EachEntry goes through the entries of all models.
func EachEntry(scheme address.Scheme, fn func(model, at string, moves bool, p site.Point)) {
	for name, m := range models() {
		if !m.fits(scheme) {
			continue
		}
		for _, e := range m.Entries {
			fn(name, e.At, e.Move != "", e.point(scheme))
		}
	}
}
