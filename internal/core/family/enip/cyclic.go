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

// Keys of settings of a cyclic connection.
const (
	KeyInInstance  = "inInstance"
	KeyOutInstance = "outInstance"
	KeyInCount     = "inCount"
	KeyInWidth     = "inWidth"
	KeyInFormat    = "inFormat"
	KeyInArray     = "inArray"
	KeyInEvery     = "inEveryMs"
	KeyInCast      = "inCast"
	KeyOutCount    = "outCount"
	KeyOutWidth    = "outWidth"
	KeyOutFormat   = "outFormat"
	KeyOutArray    = "outArray"
	KeyOutEvery    = "outEveryMs"
	KeyClass       = "class"
	KeyMultiplier  = "multiplier"
	KeyPriority    = "priority"
	KeyLength      = "length"
	KeyConfig      = "config"
	KeyConfigAt    = "configInstance"
	KeyConfigData  = "configData"
	KeyKey         = "key"
	KeyVendor      = "vendor"
	KeyType        = "deviceType"
	KeyProduct     = "product"
	KeyMajor       = "major"
	KeyMinor       = "minor"
	KeyCyclicPort  = "cyclicPort"

	KeyInOctets  = "inOctets"
	KeyInHead    = "inHead"
	KeyOutOctets = "outOctets"
	KeyOutHead   = "outHead"
	KeyWants     = "wantsConfig"
	KeyWantsSize = "configOctets"
	KeyLeast     = "leastMs"
	KeyIdentity  = "identity"
)

// The real-time formats (volume 1, clause 3-6.1), as settings have them.
const (
	FormatPlain     = "plain"     // data alone
	FormatHeader    = "header"    // 32 bits in front, whose lowest says run
	FormatCounted   = "counted"   // the same, in a tool that has no switch for it: 4 octets more are stated
	FormatHeartbeat = "heartbeat" // no data: a sign of life
)

// The ways to send a configuration.
const (
	ConfigNone  = "none"
	ConfigEmpty = "empty"
	ConfigData  = "data"
)

// The uses of the electronic key.
const (
	KeyOff        = "off"
	KeyCompatible = "compatible"
	KeyExact      = "exact"
)

// headerOctets is the run/idle header, countOctets the sequence count of transport class 1.
const (
	headerOctets = 4
	countOctets  = 2
)

func choice(values ...string) (list []protocol.Option) {
	for i := 0; i+1 < len(values); i += 2 {
		list = append(list, protocol.Option{Value: values[i], Title: values[i+1]})
	}
	return list
}

var widths = choice("1", "8 bits", "2", "16 bits", "4", "32 bits", "8", "64 bits")

// ofWay are the settings of one direction at the asking end.
func ofWay(title, count, width, format, array, every string, formats []protocol.Option,
	usual string) []protocol.Setting {
	return []protocol.Setting{
		{Key: count, Title: title + ", elements", End: protocol.Asking, Least: 0, Most: mostAssembly,
			Help:  "How many are exchanged, as the tool of this end counts them. Reserve of an array is left out.",
			Stop:  "session",
			Shows: "the connection is refused for its size"},
		{Key: width, Title: title + ", each of", Kind: protocol.Choice, End: protocol.Asking, Default: protocol.OfText("1"),
			Choices: widths, Stop: "session"},
		{Key: array, Title: title + ", array of", End: protocol.Asking, Least: 0, Most: mostAssembly,
			Help: "How many elements the array at this end has, 0 for those that are exchanged: the rest is reserve.",
			Stop: "points"},
		{Key: format, Title: title + ", format", Kind: protocol.Choice, End: protocol.Asking, Default: protocol.OfText(usual),
			Choices: formats, Stop: "session", Shows: "the connection is refused for its size"},
		{Key: every, Title: title + ", every", Unit: "ms", End: protocol.Asking, Default: protocol.OfInt(50), Least: 1,
			Most: 60_000,
			Help: "The requested packet interval of this direction.", Stop: "pace", Shows: "interval not supported"},
	}
}

func cyclicSettings() (list []protocol.Setting) {
	both := func(key, title string, usual int) protocol.Setting {
		return protocol.Setting{Key: key, Title: title, End: protocol.BothEnds, Default: protocol.OfInt(usual), Least: 0,
			Most: 65535, Stop: "session", Shows: "an instance that is not there refuses the connection"}
	}
	number := func(key, title string, most int) protocol.Setting {
		return protocol.Setting{Key: key, Title: title, End: protocol.Asking, Least: 0, Most: most, Stop: "session"}
	}
	list = []protocol.Setting{
		{Key: protocol.KeyPort, Title: "TCP port", End: protocol.BothEnds, Default: protocol.OfInt(44818), Least: 1,
			Most: 65535, Help: "44818 is that of the standard.", Stop: "address", Shows: "the connection is refused"},
		both(KeyInInstance, "Instance in", 100), both(KeyOutInstance, "Instance out", 150),
		both(KeyConfigAt, "Instance of configuration", 151),
	}
	list = append(list, ofWay("In", KeyInCount, KeyInWidth, KeyInFormat, KeyInArray, KeyInEvery,
		choice(FormatPlain, "data alone", FormatHeader, "with a run/idle header", FormatCounted, "header counted as data"),
		FormatPlain)...)
	list = append(list, ofWay("Out", KeyOutCount, KeyOutWidth, KeyOutFormat, KeyOutArray, KeyOutEvery,
		choice(FormatHeader, "with a run/idle header", FormatPlain, "data alone", FormatCounted, "header counted as data",
			FormatHeartbeat, "a sign of life alone"), FormatHeader)...)
	return append(list,
		protocol.Setting{Key: KeyInCast, Title: "In goes", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText("one"),
			Choices: choice("one", "to one (unicast)", "many", "to many (multicast)"), Stop: "points",
			Shows: "nothing arrives, where a switch swallows it"},
		protocol.Setting{Key: KeyClass, Title: "Transport class", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText("1"),
			Choices: choice("1", "1, with a sequence count", "0", "0, without one"), Stop: "session",
			Shows: "transport class not supported"},
		protocol.Setting{Key: KeyMultiplier, Title: "Time-out after", Unit: "intervals", Kind: protocol.Choice,
			End:     protocol.Asking,
			Default: protocol.OfText("4"), Choices: choice("4", "4", "8", "8", "16", "16", "32", "32", "64", "64", "128", "128",
				"256", "256", "512", "512"),
			Stop: "pace"},
		protocol.Setting{Key: KeyPriority, Title: "Priority", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText("scheduled"),
			Choices: choice("low", "low", "high", "high", "scheduled", "scheduled", "urgent", "urgent"), Stop: "session"},
		protocol.Setting{Key: KeyLength, Title: "Length", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText("fixed"), Choices: choice("fixed", "fixed", "variable", "variable"), Stop: "session"},
		protocol.Setting{Key: KeyConfig, Title: "Configuration", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText(ConfigNone),
			Choices: choice(ConfigNone, "none is sent", ConfigEmpty, "an empty one", ConfigData, "with data"), Stop: "session",
			Shows: "configuration size wrong, or not configured"},
		protocol.Setting{Key: KeyConfigData, Title: "Its data", Kind: protocol.Text, End: protocol.Asking,
			Like: "01 00 2C 01", Most: 1500,
			Pattern: `(?:[0-9A-Fa-f]{2}\s*)*`, Help: "Octets in hexadecimal, as the device wants them.", Stop: "session"},
		protocol.Setting{Key: KeyKey, Title: "Electronic key", Kind: protocol.Choice, End: protocol.Asking,
			Default: protocol.OfText(KeyOff),
			Choices: choice(KeyOff, "off", KeyCompatible, "compatible", KeyExact, "exact"), Stop: "session",
			Shows: "vendor, product, type or revision mismatch"},
		number(KeyVendor, "Key, vendor", 65535), number(KeyType, "Key, device type", 65535),
		number(KeyProduct, "Key, product", 65535),
		number(KeyMajor, "Key, major revision", 127), number(KeyMinor, "Key, minor revision", 255),
		protocol.Setting{Key: KeyRoute, Title: "Route", Kind: protocol.Text, End: protocol.Asking, Like: "1,0",
			Help: "Through which ports to the module, where it is not the one that has the address.", Stop: "session"},
		protocol.Setting{Key: KeyCyclicPort, Title: "UDP port", End: protocol.Asking, Default: protocol.OfInt(2222), Least: 1,
			Most: 65535,
			Help: "2222 is that of the standard. Where another program of this machine has it, Ferry asks for packets at a free one.", Stop: "points"},
		protocol.Setting{Key: protocol.KeyWithin, Title: "Answer within", Unit: "ms", End: protocol.Asking,
			Default: protocol.OfInt(1000), Least: 20,
			Most: 60000, Stop: "session", Shows: "a slow device is taken for a dead one"},

		protocol.Setting{Key: KeyInOctets, Title: "Gives, octets", End: protocol.Answering, Least: 0, Most: mostAssembly,
			Help: "The size of the assembly that it produces, without header and sequence count.", Stop: "session"},
		protocol.Setting{Key: KeyInHead, Title: "Gives a header", Kind: protocol.Switch, End: protocol.Answering,
			Stop: "session"},
		protocol.Setting{Key: KeyOutOctets, Title: "Takes, octets", End: protocol.Answering, Least: 0, Most: mostAssembly,
			Help: "The size of the assembly that it consumes, without header and sequence count.", Stop: "session"},
		protocol.Setting{Key: KeyOutHead, Title: "Wants a header", Kind: protocol.Switch, End: protocol.Answering,
			Default: protocol.OfSwitch(true), Stop: "session"},
		protocol.Setting{Key: KeyWants, Title: "Configuration", Kind: protocol.Choice, End: protocol.Answering,
			Default: protocol.OfText("any"),
			Choices: choice("any", "takes none as well", ConfigEmpty, "wants an empty one", ConfigData, "wants data", ConfigNone,
				"has none"), Stop: "session"},
		protocol.Setting{Key: KeyWantsSize, Title: "Configuration, octets", End: protocol.Answering, Least: 0,
			Most: mostConfig, Stop: "session"},
		protocol.Setting{Key: KeyIdentity, Title: "Is", Kind: protocol.Text, End: protocol.Answering, Like: "1234/43/65/2.1",
			Pattern: `\d{1,5}/\d{1,5}/\d{1,5}/\d{1,3}\.\d{1,3}`, Stop: "session",
			Help: "Vendor, device type, product and revision, as the device or its label says."},
		protocol.Setting{Key: KeyLeast, Title: "Least interval", Unit: "ms", End: protocol.Answering, Least: 0, Most: 60_000,
			Stop: "pace", Help: "The shortest interval at which it can send, 0 for not known."},
	)
}

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

// Places of what the asking end knows of a connection, in octets of AreaConn.
const (
	connConnected  = 0 // bit 0, and bit 1: the far end is in run
	connSwitches   = 1 // bit 0 enabled, bit 1 run
	connVendor     = 2
	connStatus     = 4
	connExtended   = 6
	connSent       = 8
	connReceived   = 12
	connMissed     = 16
	connInMs       = 20
	connInJitter   = 24
	connOutMs      = 28
	connOutJitter  = 32
	connName       = 64
	connNameLength = 32
	connError      = 96
	connErrorMost  = 96
	connOctets     = connError + connErrorMost
)

// The switches of a connection.
var (
	ConnEnable = block.WithBit(block.At(AreaConn, connSwitches), 0)
	ConnRun    = block.WithBit(block.At(AreaConn, connSwitches), 1)
)

// State is what the asking end knows of a connection.
type State struct {
	Connected, FarRuns, Enabled, Run bool
	Vendor, Status, Extended         uint16
	Sent, Received, Missed           uint32
	// InMs and OutMs are the actual intervals, the jitters how far 99 of 100 keep to them.
	InMs, InJitterMs, OutMs, OutJitterMs float32
	Name, Error                          string
}

// places are those of a state, each with what stands there.
var places = []struct {
	name, unit string
	at         address.Address
	shape      value.Shape
	of         func(s *State) value.Value
}{
	{"Connected", "", bitOf(connConnected, 0), value.Shape{Type: value.TypeBool},
		func(s *State) value.Value { return value.OfBool(s.Connected) }},
	{"Far end runs", "", bitOf(connConnected, 1), value.Shape{Type: value.TypeBool},
		func(s *State) value.Value { return value.OfBool(s.FarRuns) }},
	{"Enabled", "", ConnEnable, value.Shape{Type: value.TypeBool},
		func(s *State) value.Value { return value.OfBool(s.Enabled) }},
	{"Run", "", ConnRun, value.Shape{Type: value.TypeBool}, func(s *State) value.Value { return value.OfBool(s.Run) }},
	{"Last error", "", block.At(AreaConn, connError), value.Shape{Type: value.TypeText, Length: connErrorMost},
		func(s *State) value.Value { return value.OfText(s.Error) }},
	{"Last status", "", block.At(AreaConn, connStatus), value.Shape{Type: value.TypeUint16},
		func(s *State) value.Value { return value.OfUint(uint64(s.Status)) }},
	{"Last extended status", "", block.At(AreaConn, connExtended), value.Shape{Type: value.TypeUint16},
		func(s *State) value.Value { return value.OfUint(uint64(s.Extended)) }},
	{"Far name", "", block.At(AreaConn, connName), value.Shape{Type: value.TypeText, Length: connNameLength},
		func(s *State) value.Value { return value.OfText(s.Name) }},
	{"Far vendor", "", block.At(AreaConn, connVendor), value.Shape{Type: value.TypeUint16},
		func(s *State) value.Value { return value.OfUint(uint64(s.Vendor)) }},
	{"Packets sent", "", block.At(AreaConn, connSent), value.Shape{Type: value.TypeUint32},
		func(s *State) value.Value { return value.OfUint(uint64(s.Sent)) }},
	{"Packets received", "", block.At(AreaConn, connReceived), value.Shape{Type: value.TypeUint32},
		func(s *State) value.Value { return value.OfUint(uint64(s.Received)) }},
	{"Packets missed", "", block.At(AreaConn, connMissed), value.Shape{Type: value.TypeUint32},
		func(s *State) value.Value { return value.OfUint(uint64(s.Missed)) }},
	{"Interval in", "ms", block.At(AreaConn, connInMs), value.Shape{Type: value.TypeFloat32},
		func(s *State) value.Value { return value.OfFloat(float64(s.InMs)) }},
	{"Jitter in", "ms", block.At(AreaConn, connInJitter), value.Shape{Type: value.TypeFloat32},
		func(s *State) value.Value { return value.OfFloat(float64(s.InJitterMs)) }},
	{"Interval out", "ms", block.At(AreaConn, connOutMs), value.Shape{Type: value.TypeFloat32},
		func(s *State) value.Value { return value.OfFloat(float64(s.OutMs)) }},
	{"Jitter out", "ms", block.At(AreaConn, connOutJitter), value.Shape{Type: value.TypeFloat32},
		func(s *State) value.Value { return value.OfFloat(float64(s.OutJitterMs)) }},
}

func bitOf(octet uint32, bit int) address.Address {
	return block.WithBit(block.At(AreaConn, octet), bit)
}

// At returns what a state holds at a place; ok is false where nothing has its place.
func (s *State) At(a address.Address) (v value.Value, ok bool) {
	for i := range places {
		if places[i].at == a {
			return places[i].of(s), true
		}
	}
	return v, false
}

// Standing lists the places of a state.
func (cyclicRules) Standing() (held []protocol.Held) {
	for i := range places {
		p := &places[i]
		shape := p.shape
		if shape.Bit = block.Of(p.at).Bit; shape.Type != value.TypeBool {
			shape.Bit = -1
		}
		held = append(held, protocol.Held{Address: p.at, Name: p.name, Shape: shape, Unit: p.unit,
			Writable: p.at == ConnEnable || p.at == ConnRun})
	}
	return held
}
