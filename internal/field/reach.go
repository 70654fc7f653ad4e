package field

import (
	"net/netip"

	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// Reach returns the address at which the answering end of a link is dialled now, a
// stand-in on the bench, and the one that the site gives it.
func (e *Engine) Reach(id string) (dial string, at netip.AddrPort, err error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	link := e.site.Link(id)
	if link == nil {
		return "", at, problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(id)
	}
	line, device := e.site.Line(link.Line), e.site.Device(link.Answering)
	if line == nil || device == nil || line.Medium == site.SerialLine || device.PortFor(link) == nil {
		return "", at, problem.New("not-over-network", "The link does not go over a network.",
			"Choose one that does.").At(id)
	}
	target, _, err := e.targetOf(link)
	if err != nil {
		return "", at, err
	}
	def, ok := protocol.Named(link.Protocol)
	if host, err := netip.ParseAddr(device.PortFor(link).Host); err == nil && ok {
		at = netip.AddrPortFrom(host.Unmap(), uint16(def.Int(link.Settings, protocol.KeyPort)))
	}
	return target.Dial, at, nil
}

// MayWriteNow reports whether anything may be written by hand: always on the bench, on
// the plant while it is unlocked.
func (e *Engine) MayWriteNow() bool { return e.Mode() == Bench || e.State().UnlockedMs > 0 }
