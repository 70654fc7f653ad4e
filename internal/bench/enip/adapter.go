package enip

import (
	"maps"
	"math/rand/v2"
	"net"
	"net/netip"
	"time"

	"ferry/internal/bench"
	family "ferry/internal/core/family/enip"
	"ferry/internal/core/protocol"
	target "ferry/internal/target/enip"
	wire "ferry/internal/wire/enip"
)

func init() { bench.Register(family.Cyclic.Name, cyclicSpeech{}) }

type cyclicSpeech struct{ speech }

// Faults are those of a device with cyclic connections, besides those of one that is asked
// explicitly.
func (cyclicSpeech) Faults() []bench.FaultKind {
	tcp := []bench.Place{bench.OverTCP}
	return []bench.FaultKind{
		{Kind: "session", Title: "grants no session", Places: tcp},
		{Kind: "connections", Title: "has no connection free", Places: tcp},
		{Kind: "context", Title: "answers with another context", Places: tcp},
		{Kind: "unrestarted", Title: "was set up and not restarted", Places: tcp},
		{Kind: "set-up", Title: "is in set-up mode", Places: tcp},
		{Kind: "idle", Title: "never says that it is in run", Places: tcp},
		{Kind: "owned", Title: "is owned by another", Places: tcp},
		{Kind: "swallowed", Title: "its multicast is swallowed by a switch", Places: tcp},
		{Kind: "header", Title: "counts the run/idle header the other way", Places: tcp},
		{Kind: "resized", Title: "takes more octets than its list says", Unit: "octets", Default: 4, Least: 1, Most: 200,
			Places: tcp},
		{Kind: "regiven", Title: "gives more octets than its list says", Unit: "octets", Default: 4, Least: 1, Most: 200,
			Places: tcp},
		{Kind: "jitter", Title: "sends unevenly", Unit: "ms", Default: 60, Least: 1, Most: 10_000, Places: tcp},
		{Kind: "mute", Title: "stops sending", Places: tcp},
		{Kind: "rekeyed", Title: "is another product", Places: tcp},
		{Kind: "slow-cycle", Title: "cannot send as often", Unit: "ms", Default: 500, Least: 2, Most: 10_000, Places: tcp},
	}
}

// Host begins a device: it answers over TCP, and sends over a UDP port of its own.
func (cyclicSpeech) Host(of *bench.Simulated, fault func() bench.Fault) (bench.Host, error) {
	a := &adapter{device: of, fault: fault}
	var err error
	a.target, err = target.New(a, netip.AddrFrom4([4]byte{127, 0, 0, 1}), 0)
	return a, err
}

// adapter is such a device. Its connections are those of all its clients.
type adapter struct {
	device *bench.Simulated
	fault  func() bench.Fault
	target *target.Target
}

// Close ends all connections.
func (a *adapter) Close() error { return a.target.Close() }

// Take has a connection over TCP until that ends.
func (a *adapter) Take(c net.Conn) {
	client, err := netip.ParseAddrPort(c.RemoteAddr().String())
	if err != nil {
		return
	}
	t := &talk{device: a.device, adapter: a, client: netip.AddrPortFrom(client.Addr().Unmap(), client.Port())}
	var came []byte
	room := make([]byte, 4096)
	for turn := 0; ; {
		n, err := t.Length(came)
		if err != nil || len(came) > 1<<17 {
			return
		}
		if n == 0 {
			got, err := c.Read(room)
			if err != nil {
				return
			}
			came = append(came, room[:got]...)
			continue
		}
		turn++
		answer, ends := t.Answer(came[:n:n], a.fault(), turn)
		came = append(came[:0:0], came[n:]...)
		if len(answer) > 0 {
			if _, err := c.Write(answer); err != nil {
				return
			}
		}
		if ends {
			return
		}
	}
}

func (a *adapter) setting(key string) protocol.Scalar {
	return family.Cyclic.Value(a.device.Settings, key)
}

// Settings are those of the device, as the fault that is on has them.
func (a *adapter) Settings() protocol.Settings {
	s := maps.Clone(a.device.Settings)
	if s == nil {
		s = protocol.Settings{}
	}
	more := func(key string, n int) { s[key] = protocol.OfInt(a.setting(key).Int() + n) }
	switch fault := a.fault(); fault.Kind {
	case "header":
		s[family.KeyOutHead] = protocol.OfSwitch(!a.setting(family.KeyOutHead).On())
	case "resized":
		more(family.KeyOutOctets, fault.Value)
	case "regiven":
		more(family.KeyInOctets, fault.Value)
	case "slow-cycle":
		s[family.KeyLeast] = protocol.OfInt(fault.Value)
	}
	return s
}

// Identity is who it is.
func (a *adapter) Identity() wire.Identity {
	t := talk{device: a.device, adapter: a}
	return t.identity(a.fault())
}

// Refuses has the faults refuse a connection.
func (a *adapter) Refuses(outs, _ bool) (status byte, extended []uint16) {
	switch kind := a.fault().Kind; {
	case kind == "set-up":
		return 0x10, nil
	case kind == "unrestarted":
		return 0x01, []uint16{0x0110}
	case kind == "connections":
		return 0x01, []uint16{0x0113}
	case kind == "owned" && outs:
		return 0x01, []uint16{0x0106}
	}
	return 0, nil
}

// Inputs gives the inputs.
func (a *adapter) Inputs(dst []byte, octets int, many bool) (data []byte, run, sends bool, late time.Duration) {
	fault := a.fault()
	switch fault.Kind {
	case "mute", "off", "stop", "silent":
		return dst, false, false, 0
	case "swallowed":
		if many {
			return dst, false, false, 0
		}
	case "jitter":
		late = time.Duration(rand.IntN(fault.Value+1)) * time.Millisecond
	}
	held, _ := a.device.Memory.Read(family.AreaIn, 0, min(octets, a.device.Memory.Units(family.AreaIn)))
	dst = append(dst, held...)
	return append(dst, make([]byte, octets-len(held))...), fault.Kind != "idle", true, late
}

// Configured takes a configuration, which the device holds from then on.
func (a *adapter) Configured(data []byte) {
	a.device.Memory.Write(family.AreaConfig, 0, data[:min(len(data), a.device.Memory.Units(family.AreaConfig))])
}

// Outputs takes outputs.
func (a *adapter) Outputs(_ netip.AddrPort, data []byte) {
	a.device.Memory.Write(family.AreaOut, 0, data[:min(len(data), a.device.Memory.Units(family.AreaOut))])
}

// Lost leaves the outputs as they were.
func (a *adapter) Lost(netip.AddrPort) {}

// assembly is the data of an instance (volume 1, clause 5A-5: attribute 3, its size 4).
func (a *adapter) assembly(instance int) (data []byte, ok bool) {
	settings := a.Settings()
	area, size := family.AreaIn, family.Cyclic.Int(settings, family.KeyInOctets)
	switch instance {
	case a.setting(family.KeyInInstance).Int():
	case 0:
		return nil, false
	case a.setting(family.KeyConfigAt).Int():
		area, size = family.AreaConfig, family.Cyclic.Int(settings, family.KeyWantsSize)
	case a.setting(family.KeyOutInstance).Int():
		area, size = family.AreaOut, family.Cyclic.Int(settings, family.KeyOutOctets)
	default:
		return nil, false
	}
	data, _ = a.device.Memory.Read(area, 0, min(size, a.device.Memory.Units(area)))
	return append(data, make([]byte, size-len(data))...), true
}
