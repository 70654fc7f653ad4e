package field

import (
	"net/netip"

	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
)

// Reached is where the answering end of a link is reached from here.
type Reached struct {
	// Dial is host and port, or the path of a serial port.
	Dial string
	// At is the address that the device has on its own network, if it is on one.
	At netip.AddrPort
	// Format is that of a serial port; nil for a network. Line is what its line is called.
	Format *serial.Format
	Line   string
	Device string // what the device is called
}

// Reach returns where the answering end of a link is reached.
func (e *Engine) Reach(id string) (r Reached, err error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	link := e.site.Link(id)
	if link == nil {
		return r, problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(id)
	}
	line, device := e.site.Line(link.Line), e.site.Device(link.Answering)
	if line == nil || device == nil || device.PortFor(link) == nil {
		return r, problem.New("no-port", "The link has no port at its answering end.", "Give it one.").At(id)
	}
	target, _, err := e.targetOf(link)
	if err != nil {
		return r, err
	}
	r = Reached{Dial: target.Dial, Line: line.Name, Device: device.Name}
	if line.Medium == site.SerialLine {
		r.Format = &target.Format
		return r, nil
	}
	def, ok := protocol.Named(link.Protocol)
	if host, err := netip.ParseAddr(device.PortFor(link).Host); err == nil && ok {
		r.At = netip.AddrPortFrom(host.Unmap(), uint16(def.Int(link.Settings, protocol.KeyPort)))
	}
	return r, nil
}

// MayWriteNow reports whether anything may be written by hand: always on the bench, on
// the plant while it is unlocked.
func (e *Engine) MayWriteNow() bool { return e.Mode() == Bench || e.State().UnlockedMs > 0 }
