package enip

import (
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Cyclic is EtherNet/IP with cyclic connections, of transport class 1 or 0, over UDP.
var Cyclic = &protocol.Def{
	Name: "enip-cyclic", Title: "EtherNet/IP, cyclic", Asker: "originator, scanner", Answerer: "target, adapter",
	Medium:  "ethernet",
	Example: "in:12.5", Turns: protocol.TurnsOfLink, Scheme: Assemblies, Rules: cyclicRules{}, Settings: cyclicSettings(),
	Vocabulary: Explicit.Vocabulary, DatagramPort: 2222,
}

func init() { protocol.Register(Cyclic) }

type cyclicRules struct{ statuses }

// Multiplier is the number of intervals of silence after which a connection is dropped.
func Multiplier(s protocol.Settings) int {
	n := 4
	_, _ = fmt.Sscan(Cyclic.Value(s, KeyMultiplier).Text(), &n) // a choice of numbers
	return n
}

// Counted is transport class 1, whose packets have a sequence count.
func Counted(s protocol.Settings) bool { return Cyclic.Value(s, KeyClass).Text() == "1" }

// ConfigOctets are the data of the configuration.
func ConfigOctets(s protocol.Settings) ([]byte, error) {
	b, err := hex.DecodeString(strings.Join(strings.Fields(Cyclic.Value(s, KeyConfigData).Text()), ""))
	if err != nil {
		return nil, errors.New("the data of the configuration are no octets in hexadecimal, such as 01 00 2C 01")
	}
	return b, nil
}

// mostConfig is how many octets of configuration go when a connection is opened.
const mostConfig = 500

// Configured are the octets with which a connection is opened, which are an area of the map.
func (cyclicRules) Configured(s protocol.Settings) (area string, octets []byte, err error) {
	if Cyclic.Value(s, KeyConfig).Text() == ConfigData {
		octets, err = ConfigOctets(s)
	}
	return AreaConfig, octets, err
}

// Configure returns the settings of the asking end that have octets sent.
func (cyclicRules) Configure(octets []byte) protocol.Settings {
	return protocol.Settings{KeyConfig: protocol.OfText(ConfigData),
		KeyConfigData: protocol.OfText(strings.ToUpper(spacedHex(octets)))}
}

// Wants is how many octets of configuration the answering end says that it wants, -1 where
// that is not known.
func (cyclicRules) Wants(port protocol.Settings, knows func(key string) bool) int {
	if !knows(KeyWantsSize) || Cyclic.Value(port, KeyWants).Text() != ConfigData {
		return -1
	}
	return Cyclic.Int(port, KeyWantsSize)
}

// Way is one direction, as the settings of the asking end have it.
type Way struct {
	Area     string
	Instance int
	// Count elements of Width octets are exchanged, of an array of Array.
	Count, Width, Array int
	Format              string
	EveryMs             int
}

// WayIn and WayOut are the directions towards the asking end and away from it.
func WayIn(s protocol.Settings) Way {
	return wayOf(s, AreaIn, KeyInInstance, KeyInCount, KeyInWidth, KeyInArray, KeyInFormat, KeyInEvery)
}

// WayOut is that away from the asking end.
func WayOut(s protocol.Settings) Way {
	return wayOf(s, AreaOut, KeyOutInstance, KeyOutCount, KeyOutWidth, KeyOutArray, KeyOutFormat, KeyOutEvery)
}

func wayOf(s protocol.Settings, area, instance, count, width, array, format, every string) Way {
	w := Way{Area: area, Instance: Cyclic.Int(s, instance), Count: Cyclic.Int(s, count), Width: 1,
		Array: Cyclic.Int(s, array), Format: Cyclic.Value(s, format).Text(), EveryMs: Cyclic.Int(s, every)}
	_, _ = fmt.Sscan(Cyclic.Value(s, width).Text(), &w.Width) // a choice of numbers
	if w.Format == FormatHeartbeat {
		w.Count = 0
	}
	return w
}

// Head reports whether 32 bits with run and idle stand in front of the data.
func (w *Way) Head() bool { return w.Format == FormatHeader || w.Format == FormatCounted }

// Octets are those of the data, without header and sequence count. Where the tool counts
// the header as data, it states 4 octets more.
func (w *Way) Octets() int {
	n := w.Count * w.Width
	if w.Format == FormatCounted {
		n = max(0, n-headerOctets)
	}
	return n
}

// Size is what the connection has: with header and sequence count.
func (w *Way) Size(counted bool) int {
	n := w.Octets()
	if w.Head() {
		n += headerOctets
	}
	if counted {
		n += countOctets
	}
	return n
}

// Image is how many octets of an area a connection carries.
func (cyclicRules) Image(s protocol.Settings, area string) int {
	switch in, out := WayIn(s), WayOut(s); area {
	case AreaIn:
		return in.Octets()
	case AreaOut:
		return out.Octets()
	case AreaConfig:
		_, octets, _ := cyclicRules{}.Configured(s) // what cannot be read carries nothing
		return len(octets)
	case AreaConn:
		return connOctets
	}
	return 0
}

// Headed reports whether a run/idle header is there.
func (cyclicRules) Headed(s protocol.Settings, into bool) bool {
	w := WayOut(s)
	if into {
		w = WayIn(s)
	}
	return w.Head()
}

// aroundPacket are the octets around the data of a packet: items and address 18, UDP 8 and
// IP 20.
const aroundPacket = 18 + 8 + 20

// Expected: both directions come in cycles, whatever the paces of their points.
func (cyclicRules) Expected(s protocol.Settings, wanted []protocol.Wanted) (loads []protocol.Load) {
	for _, w := range []Way{WayIn(s), WayOut(s)} {
		load := protocol.Load{Title: fmt.Sprintf("instance %d, every %d ms", w.Instance, w.EveryMs),
			Octets: aroundPacket + w.Size(Counted(s)), PeriodMs: float64(w.EveryMs), Sent: w.Area == AreaOut}
		for i := range wanted {
			if block.Of(wanted[i].Address).Area == w.Area {
				load.Points = append(load.Points, wanted[i].ID)
			}
		}
		loads = append(loads, load)
	}
	return loads
}

// Lapse: the connection knows itself when it has timed out, and says so. What is silent far
// beyond that is not there.
func (cyclicRules) Lapse(s protocol.Settings) protocol.Lapse {
	return protocol.Lapse{AfterMs: max(2*Multiplier(s)*Cyclic.Int(s, KeyInEvery), lapseLeast), Quality: value.Bad}
}

// lapseLeast is the least that Lapse may be: the first packet may come late.
const lapseLeast = 3000

// Writable: outputs, and of the connection whether it is there and in run.
func (cyclicRules) Writable(a address.Address) error {
	switch at := block.Of(a); at.Area {
	case AreaOut:
		return nil
	case AreaConn:
		if a == ConnEnable || a == ConnRun {
			return nil
		}
		return errors.New("the connection tells that; only its switches can be set")
	case AreaConfig:
		return errors.New("a configuration goes when the connection is opened: set it where both ends are face to face")
	}
	return errors.New("what comes in cannot be written")
}

// WriteItem names what a write does.
func (cyclicRules) WriteItem(a address.Address) string {
	switch a {
	case ConnRun:
		return "run or idle"
	case ConnEnable:
		return "open or close the connection"
	}
	return "output, sent until it is changed"
}

// ItemBytes: a value goes with the next packet, which goes anyway.
func (cyclicRules) ItemBytes(address.Address, value.Shape) (out, in int) { return 0, 0 }

// WritesBits: a bit of an output is set and its neighbours stay.
func (cyclicRules) WritesBits() bool { return true }
