package field

import (
	"cmp"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"syscall"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// documentation lists the ranges that no network may use (RFC 5737, RFC 3849):
// demo sites live in them.
var documentation = []netip.Prefix{
	netip.MustParsePrefix("192.0.2.0/24"), netip.MustParsePrefix("198.51.100.0/24"),
	netip.MustParsePrefix("203.0.113.0/24"), netip.MustParsePrefix("2001:db8::/32"),
}

// documented returns the documentation range that an address lies in, however
// the address is written.
func documented(host netip.Addr) (netip.Prefix, bool) {
	host = host.Unmap().WithZone("")
	for _, range_ := range documentation {
		if range_.Contains(host) {
			return range_, true
		}
	}
	return netip.Prefix{}, false
}

// NotDialled says why an address is not dialled.
type NotDialled string

func (n NotDialled) Error() string { return string(n) }

// mayDial says why an address of a plant is not to be dialled.
func mayDial(host netip.Addr) error {
	host = host.Unmap()
	if range_, is := documented(host); is {
		return NotDialled(fmt.Sprintf("%s is in %s, a range kept for documentation: no plant has it", host, range_))
	}
	if host.IsUnspecified() || host.IsMulticast() || host == netip.AddrFrom4([4]byte{255, 255, 255, 255}) {
		return NotDialled(fmt.Sprintf("%s is the address of no device", host))
	}
	return nil
}

// MayDial refuses addresses that are not to be dialled, as they are once names
// are resolved: it is for Target.Control.
func MayDial(_, address string, _ syscall.RawConn) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	return mayDial(at.Addr())
}

// targetOf returns where a link's connection goes, and the key of the channel
// that it goes over.
func (e *Engine) targetOf(link *site.Link) (t Target, key string, err error) {
	_, def, err := DriverOf(link.Protocol)
	if err != nil {
		return t, "", problem.New("protocol", err.Error()+".", "")
	}
	t.Settings, t.Kept, t.Plant = link.Settings, e.Kept, e.door.mode == Plant
	line := e.site.Line(link.Line)
	if line != nil && line.Medium == site.SerialLine {
		if asking := e.site.Device(link.Asking); asking != nil {
			t.Format = line.SerialOf(asking.Port(link.Line)).Format()
		}
	}
	switch {
	case e.door.mode == Bench:
		t.Dial = e.standIns.Dial(e.site, link)
		if signed, ok := e.standIns.(CertifiedStandIns); ok {
			t.Authority = signed.Authority()
		}
	case line != nil && line.Medium == site.SerialLine:
		if line.Here == "" {
			return t, "", problem.New("no-port-here", line.Name+" has no serial port of this machine.",
				"Choose one in the panel of the line.").At(line.Name)
		}
		if e.servedAt(line.Here) {
			return t, "", problem.New("port-serves", "Ferry answers at "+line.Here+" itself, and asks nobody there.",
				"Stop answering there first.").At(line.Name)
		}
		if time.Now().After(e.told[line.ID]) {
			return t, "", problem.New("listen-first",
				"Ferry has not been told to ask on "+line.Name+": where another asks already, two askers collide.",
				"Listen to the line first, in its panel, and then allow Ferry to ask.").At(line.Name)
		}
		t.Dial = line.Here
	default:
		t.Control = MayDial
		if t.Dial, err = e.plantAddress(link, def); err != nil {
			return t, "", err
		}
	}
	if t.Second, err = e.secondAddress(link, def); err != nil {
		return t, "", err
	}
	switch def.Turns {
	case protocol.TurnsOfLine:
		// A port that is opened anew with other settings is another channel.
		return t, "line " + link.Line + " " + t.Dial + " " + link.Protocol + " " + t.Format.String(), nil
	case protocol.TurnsOfAddress:
		return t, "address " + t.Dial, nil
	}
	if device := e.site.Device(link.Answering); device != nil {
		t.Manner, _ = exchange.MannersOf(device.Limits.Manners) // the site holds none that is not known
		if device.Limits.Connections == 1 && !def.Datagrams {
			e.single[t.Dial] = true
		}
	}
	if e.single[t.Dial] && !def.Datagrams {
		return t, "place " + link.Protocol + " " + t.Dial, nil
	}
	return t, "link " + link.ID, nil
}

// secondAddress is the other address of a pair, empty where there is none. The lock is
// held.
func (e *Engine) secondAddress(link *site.Link, def *protocol.Def) (string, error) {
	device := e.site.Device(link.Answering)
	if device == nil || device.PortFor(link) == nil || device.PortFor(link).Pair == nil ||
		def.Turns != protocol.TurnsOfLink {
		return "", nil
	}
	if e.door.mode == Bench {
		if seconds, ok := e.standIns.(SecondStandIns); ok {
			return seconds.Second(e.site, link), nil
		}
		return "", nil
	}
	pair := device.PortFor(link).Pair
	host, err := netip.ParseAddr(pair.Host)
	if err == nil {
		err = mayDial(host)
	}
	if err != nil {
		return "", problem.New("documentation-address", "The second address: "+err.Error()+".",
			"Enter the real one, or go back to the bench.").At(device.Name)
	}
	return net.JoinHostPort(host.String(), strconv.Itoa(cmp.Or(pair.Port, def.Int(link.Settings, protocol.KeyPort)))), nil
}

// dialNow is where an order over a link goes now: of two addresses to that which is
// used. The lock is held.
func (e *Engine) dialNow(link *site.Link, target *Target) string {
	if r := e.runners[link.ID]; target.Second != "" && r != nil {
		return r.channel.dials()
	}
	return target.Dial
}

func (e *Engine) plantAddress(link *site.Link, def *protocol.Def) (string, error) {
	device := e.site.Device(link.Answering)
	if device == nil || device.PortFor(link) == nil {
		return "", problem.New("no-port", "The answering end has no port on the line of the link.",
			"Give it one under Lines.")
	}
	host, err := e.hostOf(device, device.PortFor(link))
	if err != nil {
		return "", err
	}
	// A name is looked up when it is dialled, and MayDial asked for what it stands for.
	if at, err := netip.ParseAddr(host); err == nil {
		host = at.String()
		if err := mayDial(at); err != nil {
			return "", problem.New("documentation-address", err.Error()+".",
				"Enter the device's real address, or go back to the bench.").At(device.Name)
		}
	}
	return net.JoinHostPort(host, strconv.Itoa(def.Int(link.Settings, "port"))), nil
}
